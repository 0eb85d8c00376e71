"""Charts beside the main one: the same symbol on other timeframes, or other symbols on the same one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from functools import partial

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.chart_controller import ChartController
from oakladder.app.chart_view import ChartView, Look
from oakladder.app.jobs import Jobs, Ticket
from oakladder.app.rule import OpenRule
from oakladder.app.symbols import Symbols
from oakladder.app.timers import single_shot
from oakladder.app.watchlist import WatchlistController
from oakladder.bars.errors import DataProblem
from oakladder.bars.timeframes import STANDARD, Timeframe
from oakladder.engine.columns.cells import signal_cell
from oakladder.engine.signal_ages import last_true

#: Max number of side charts.
MOST = 3
#: Milliseconds after the main chart until they are asked for, and between two that are shown.
_AFTER_MS, _PAUSE_MS = 90, 25


class Kind(StrEnum):
    """What the charts beside show."""

    TIMEFRAMES = "timeframes"
    SYMBOLS = "symbols"


@dataclass(frozen=True, slots=True)
class SideChart:
    """What a chart beside shows, with the ages of the rule's signals there in words, and what is wrong with it."""

    view: ChartView
    ages: str
    trouble: str


class SideCharts(QObject):
    """``changed`` tells that there are more, fewer or others; ``arrived`` the number of one and its `Companion`,
    or None where there is nothing to show."""

    changed = pyqtSignal()
    arrived = pyqtSignal(int, object)
    to_remember = pyqtSignal()
    told = pyqtSignal(str)

    def __init__(
        self,
        symbols: Symbols,
        jobs: Jobs,
        rule: OpenRule,
        chart: ChartController,
        watchlist: WatchlistController,
        parent: QObject | None = None,
    ):
        super().__init__(parent)
        self._symbols, self._jobs, self._rule, self._chart, self._watchlist = symbols, jobs, rule, chart, watchlist
        self.count, self.kind = 0, Kind.TIMEFRAMES
        self._due = single_shot(self, _AFTER_MS)
        self._due.timeout.connect(self._ask)
        #: What has arrived and is not shown yet: one at a time, so that the window is never held by all of them.
        self._arrived: dict[int, SideChart | None] = {}
        self._next = single_shot(self, _PAUSE_MS)
        self._next.timeout.connect(self._show_next)
        chart.view_changed.connect(lambda _: self.ask())

    @property
    def waiting(self) -> bool:
        """Whether something is to be asked for or to be shown in a moment."""
        return self._due.isActive() or bool(self._arrived)

    def restore(self, state: Mapping[str, object]) -> None:
        """Takes what was written down; what makes no sense is none."""
        count = state.get("count")
        self.count = min(max(count, 0), MOST) if isinstance(count, int) and not isinstance(count, bool) else 0
        self.kind = Kind.SYMBOLS if state.get("kind") == Kind.SYMBOLS.value else Kind.TIMEFRAMES
        self.changed.emit()

    def as_plain(self) -> dict[str, object]:
        """To be written down."""
        return {"count": self.count, "kind": self.kind.value}

    def more(self) -> None:
        """One more chart; behind the last there is one again."""
        self._set((self.count + 1) % (MOST + 1), self.kind)

    def none(self) -> None:
        """Back to one chart."""
        self._set(0, self.kind)

    def turn(self) -> None:
        """Switches between other symbols and other timeframes; adds a first side chart if needed."""
        kind = Kind.SYMBOLS if self.kind is Kind.TIMEFRAMES and self.count else Kind.TIMEFRAMES
        self._set(max(self.count, 1), kind if self.count else self.kind)

    def _set(self, count: int, kind: Kind) -> None:
        for k in range(MOST):
            self._jobs.stop(f"side_chart {k}")
        self._arrived.clear()
        self.count, self.kind = count, kind
        self.changed.emit()
        self.to_remember.emit()
        self.ask()

    def places(self) -> list[tuple[str, Timeframe]]:
        """The symbol and timeframe of each."""
        symbol, frame = self._chart.symbol, self._chart.timeframe
        if self.kind is Kind.TIMEFRAMES:
            return [(symbol, t) for t in _near(frame)[: self.count]]
        listed = [s for s in self._watchlist.listed() if s in self._symbols.infos]
        at = listed.index(symbol) if symbol in listed else -1
        others = [s for s in (*listed[at + 1 :], *listed[: at + 1]) if s != symbol]
        return [(s, frame) for s in others[: self.count]]

    def ask(self) -> None:
        """Has all of them worked out in a moment, as the rule is then."""
        if self.count:
            self._due.start()

    def _show_next(self) -> None:
        if self._arrived:
            k = min(self._arrived)
            self.arrived.emit(k, self._arrived.pop(k))
        if self._arrived:
            self._next.start()

    def _ask(self) -> None:
        program, settings, places = self._rule.program, dict(self._rule.settings), self.places()
        for k in range(len(places), self.count):  # the list has no other symbol
            self._take(k, None)
        for k, place in enumerate(places):
            look = self._chart.looker_at(*place)

            def work(ticket: Ticket, look: Look = look) -> SideChart | None:
                try:
                    view, trouble = look(program, settings, ticket.cancelled)
                except DataProblem:
                    return None  # there are no such bars
                return SideChart(view, _ages(view), trouble) if len(view.bars) else None

            self._jobs.start(f"side_chart {k}", work, partial(self._take, k), slow=True)

    def _take(self, k: int, made: SideChart | None) -> None:
        self._arrived[k] = made
        if not self._next.isActive():
            self._next.start()


def _near(frame: Timeframe) -> list[Timeframe]:
    """The usual timeframes around one: the next longer, the two next shorter, and on."""
    longer = sorted((t for t in STANDARD if t.order > frame.order), key=lambda t: t.order)
    shorter = sorted((t for t in STANDARD if t.order < frame.order), key=lambda t: -t.order)
    return [*longer[:1], *shorter[:2], *longer[1:], *shorter[2:]]


def _ages(view: ChartView) -> str:
    """The signals of a view with how long ago each was last true."""
    if view.result is None:
        return ""
    result = view.result
    made = []
    for signal in result.program.signals:
        age = int(last_true(result.panel, result.flag(signal.roles["value"]))[0])
        made.append(f"{signal.name} {signal_cell(age, None, '').text}")
    return "   ".join(made)
