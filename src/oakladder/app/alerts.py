"""The user's alerts in the window: their log, switching, muting, and making one of a signal."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec
from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.alerts.alert import MOST_NAME, Alert, AlertProblem, ScriptCopy, of_signal
from oakladder.alerts.closing import market_time
from oakladder.alerts.estimate import Estimate, estimate
from oakladder.alerts.store import ALERTS, AlertStore, JudgedUntil, LogRow, new_id
from oakladder.app.jobs import Jobs, Ticket, sentence_of
from oakladder.app.timers import repeating
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import Timeframe
from oakladder.rung import RunProblem, ScriptError
from oakladder.user.entries import free_name
from oakladder.user.lists import ListProblem, Watchlists
from oakladder.user.scripts import ScriptFileProblem, read_script
from oakladder.user.workspace import Workspace

#: Milliseconds between two looks whether another program has written, and rows of the log that are shown.
_LOOK_MS, MOST_ROWS = 1000, 2000
#: Letters of a name that are kept for a number.
_ROOM = 5
#: Seconds of the market for which an alert is muted.
MUTED = 3600


@dataclass(frozen=True, slots=True)
class _Read:
    """What was read of the alerts, and the state of the file that it was read of."""

    stamp: tuple[int, ...]
    alerts: list[Alert]
    rows: list[LogRow]
    outdated: frozenset[str]


class AlertsController(QObject):
    """Holds the alerts and the newest rows of their log. ``changed`` says that they are others now, ``told`` a sentence
    for the user."""

    changed = pyqtSignal()
    told = pyqtSignal(str)

    def __init__(
        self, workspace: Workspace, library: BarLibrary, lists: Watchlists, jobs: Jobs, parent: QObject | None = None
    ):
        super().__init__(parent)
        self._workspace, self._library, self._lists, self._jobs = workspace, library, lists, jobs
        self.alerts: list[Alert] = []
        self.rows: list[LogRow] = []
        #: The ids of alerts whose script has another text by now than their copy.
        self.outdated: frozenset[str] = frozenset()
        self._store: AlertStore | None = None
        self._stamp: tuple[int, ...] = ()
        self._timer = repeating(self, _LOOK_MS)
        self._timer.timeout.connect(self.look)

    def watch(self, on: bool) -> None:
        """Looks again and again while the alerts are in sight."""
        if on:
            self.look()
            self._timer.start()
        else:
            self._timer.stop()

    def look(self) -> None:
        """Reads what has changed, in the background."""
        if not self._jobs.busy_with("alerts"):
            self._jobs.start("alerts", lambda _: self._read(), self._take, slow=True)

    def _opened(self) -> AlertStore:
        if self._store is None:
            self._store = AlertStore(self._workspace.data / ALERTS)
        return self._store

    def _read(self) -> _Read | None:
        store = self._opened()
        stamp, alerts = store.stamp(), self.alerts
        rows = self.rows
        if stamp != self._stamp:
            alerts, rows = store.alerts(), store.log(newest=MOST_ROWS)
        outdated = frozenset(a.id for a in alerts if self._renewed(a) != a.scripts)
        if stamp == self._stamp and outdated == self.outdated:
            return None
        return _Read(stamp, alerts, rows, outdated)

    def _take(self, made: _Read | None) -> None:
        if made is not None:
            self._stamp, self.alerts, self.rows, self.outdated = made.stamp, made.alerts, made.rows, made.outdated
            self.changed.emit()

    def _renewed(self, alert: Alert) -> tuple[ScriptCopy, ...]:
        """The scripts of an alert as their files are now; one that is gone as it was."""
        made = []
        for copy in alert.scripts:
            path = self._workspace.script_folder.place / copy.name
            try:
                text = read_script(path)
            except ScriptFileProblem:
                made.append(copy)
                continue
            made.append(ScriptCopy(copy.name, text, tuple(self._workspace.other_scripts(text, path).scripts)))
        return tuple(made)

    def last_told(self) -> dict[str, float]:
        """When each alert last told, seconds since 1970, by its id."""
        return {row.alert: row.told for row in self.rows if row.told is not None}  # the newest comes last

    def list_symbols(self, name: str) -> Sequence[str]:
        """The symbols of a list; none of one that is gone."""
        try:
            return self._lists.symbols(name, self._library.infos)
        except ListProblem:
            return []

    # --- changing -----------------------------------------------------------------------------------

    def _change(self, work: Callable[[AlertStore], str]) -> None:
        """Changes something in the background, and reports the result."""

        def done(sentence: str) -> None:
            self.told.emit(sentence)
            self.look()

        self._jobs.write(lambda: work(self._opened()), done, lambda error: self.told.emit(sentence_of(error)))

    def switch(self, alert: Alert) -> None:
        """Switches an alert off, or on from now."""

        def work(store: AlertStore) -> str:
            judged = None if alert.is_on else JudgedUntil(market_time(self._library))
            store.change(msgspec.structs.replace(store.current(alert), is_on=not alert.is_on), judged)
            return f"{alert.name} is {'off' if alert.is_on else 'on'}."

        self._change(work)

    def mute(self, alert: Alert) -> None:
        """Mutes an alert for an hour of the market: the log has what it would have told."""

        def work(store: AlertStore) -> str:
            until = market_time(self._library) + MUTED
            store.change(msgspec.structs.replace(store.current(alert), snoozed_until=until))
            return f"{alert.name} is muted for an hour; the log shows what it would have told."

        self._change(work)

    def renew(self, alert: Alert) -> None:
        """Has an alert run the texts that its scripts have now, if they can be watched."""

        def work(store: AlertStore) -> str:
            made = msgspec.structs.replace(store.current(alert), scripts=self._renewed(alert))
            try:
                made.condition(self.list_symbols)
            except (AlertProblem, ScriptError, RunProblem) as error:
                return f"{alert.name} keeps the text that it has: {sentence_of(error)}"
            store.change(made)
            return f"{alert.name} runs the new text of its script."

        self._change(work)

    def remove(self, alert: Alert) -> None:
        """Removes an alert; its rows stay in the log."""

        def work(store: AlertStore) -> str:
            store.remove(alert.id)
            return f"{alert.name} is removed; what it told stays in the log."

        self._change(work)

    # --- making one -----------------------------------------------------------------------------------

    def of_signal(
        self,
        path: Path,
        text: str,
        signal: str,
        timeframe: Timeframe,
        list_name: str,
        settings: dict[str, object],
        extended: bool,
        title: str,
        forming: bool = False,
    ) -> Alert:
        """An alert for a signal of a script, as the Bench shows it, over a list. Raises `AlertProblem`."""
        others: Any = self._workspace.other_scripts(text, path)
        what = f": {signal} {timeframe}"
        return of_signal(
            new_id(),
            title[: MOST_NAME - len(what) - _ROOM] + what,
            ScriptCopy(path.name, text, tuple(others.scripts)),
            signal,
            timeframe,
            list_name=list_name,
            settings=settings,
            extended=extended,
            forming=forming,
        )

    def ask_estimate(self, alert: Alert, then: Callable[[Estimate], None], failed: Callable[[Exception], None]) -> None:
        """Works out in the background how often an alert would have told."""

        def work(ticket: Ticket) -> Estimate:
            return estimate(alert, self._library, self.list_symbols, ticket.context())

        self._jobs.start("estimate", work, then, failed, slow=True)

    def stop_estimate(self) -> None:
        """Cancels the estimate."""
        self._jobs.stop("estimate")

    def add(self, alert: Alert) -> None:
        """Switches a new alert on."""

        def work(store: AlertStore) -> str:
            now, name = market_time(self._library), free_name(alert.name, [a.name for a in store.alerts()])
            store.add(msgspec.structs.replace(alert, name=name, created=now), JudgedUntil(now))
            return f"{name} is watched from now on, while live prices are on or `oak watch` runs."

        self._change(work)
