"""Follows the feed and watches the alerts: one program at a time, the others show what it writes and wait for its place."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path

from oakladder.alerts.alert import AlertProblem
from oakladder.alerts.delivery import Sender
from oakladder.alerts.desktop import DesktopNotices, NoDesktop, Notice
from oakladder.alerts.evaluator import AlertEvaluator, Evaluated
from oakladder.alerts.events import event_of, moment_words
from oakladder.alerts.store import KEPT, AlertStore, LogRow
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.library import BarLibrary
from oakladder.feeds.client import FeedClient, check_address
from oakladder.feeds.follower import Minute
from oakladder.feeds.recorder import News, Recorder
from oakladder.locks import Locked, locked
from oakladder.work import WorkQueue, service_thread

_log = logging.getLogger(__name__)
#: The lock of the program that follows the feed, in the folder of the user's data.
FEED_LOCK = "feed.lock"
#: Seconds between two tries to take the place of the program that follows.
_BETWEEN_TRIES = 0.5
#: Rows that the program could not show before it was killed are shown up to so many seconds later.
_STILL_NEWS = 600.0
#: So many rows of one alert at once get a notification each.
_EACH = 4

Event = dict[str, object]


class Watcher:
    """Follows a feed into a library and judges the alerts of a store, until it is stopped.

    ``tell`` gets events, as `oak watch` prints them, in any thread but one at a time. ``clicked`` gets the row of a
    notification that was clicked; None shows none. ``forming`` adds events about the minutes in progress. Raises
    `ValueError` for an address that is none.
    """

    def __init__(
        self,
        library: BarLibrary,
        store: AlertStore,
        lists: Callable[[str], Sequence[str]],
        url: str,
        tell: Callable[[Event], None],
        *,
        token: str | None = None,
        lock: Path,
        clicked: Callable[[str], None] | None = None,
        forming: bool = False,
        lists_stamp: Callable[[], object] = lambda: None,
    ):
        self._forming: dict[str, Minute] | None = {} if forming else None
        self._library, self._store, self._url, self._token, self._lock = library, store, url, token, lock
        self._tell, self._telling = tell, threading.Lock()
        self._desktop = DesktopNotices(clicked) if clicked is not None else None
        self._notices = WorkQueue("notifications", 1)
        self._evaluator = AlertEvaluator(library, store, lists, lists_stamp)
        self._sender = Sender(store, self.trouble)
        #: What came and has not been judged yet: a rule that takes long holds up no minute.
        self._news: News | None = None
        self._news_lock, self._news_came, self._is_last = threading.Lock(), threading.Event(), False
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self._has_no_desktop = False
        check_address(url)

    def start(self) -> None:
        """Begins, in a separate thread."""
        self._thread = service_thread("watch", self._run)

    def stop(self, patience: float = 40.0) -> None:
        """Ends after everything is written."""
        self._stop.set()
        if self._thread is not None:
            self._thread.join(patience)

    def trouble(self, text: str) -> None:
        """Something that a user should know."""
        self._event({"event": "trouble", "text": text})

    def _event(self, event: Event) -> None:
        with self._telling:
            self._tell(event)

    # --- the place of the program that follows ----------------------------------------------------------

    def _run(self) -> None:
        try:
            self._take_turns()
        except AlertProblem as error:
            self.trouble(str(error))
        except Exception:
            _log.exception("the watch has ended")
            self.trouble("Something went wrong, and the feed is not followed any more; the log has the details.")

    def _take_turns(self) -> None:
        """Follows as soon as no other program does."""
        holder, seen = "", self._store.newest()
        while not self._stop.is_set():
            try:
                with locked(self._lock, patience=0):
                    self._mirror(seen)
                    self._follow()
                return
            except Locked as error:
                if error.holder != holder:
                    holder = error.holder
                    words = (
                        f"{holder} follows the feed. This one shows what it writes, and takes its place when it ends."
                    )
                    self._event({"event": "trouble", "text": words, "follower": holder})
                seen = self._mirror(seen)
                self._stop.wait(_BETWEEN_TRIES)
            except OSError as error:
                self.trouble(f"The feed cannot be followed: {error.strerror or error}.")
                return

    def _mirror(self, seen: int) -> int:
        """Shows the rows that another program has written since, and told; gives the number of the newest. One that it has
        not told yet is left to the next look, or to `_follow` where it was killed."""
        try:
            for number, row in self._store.after(seen):
                if row.told is None and not row.missed and not row.muted:
                    break
                seen = number
                if not row.muted:
                    self._event(event_of(row, "missed" if row.missed else "alert"))
        except AlertProblem as error:
            self.trouble(str(error))
        return seen

    # --- following ------------------------------------------------------------------------------------

    def _follow(self) -> None:
        try:
            self._store.forget_old(time.time() - KEPT)
            self._tell_rows(self._store.untold(time.time() - _STILL_NEWS))
        except AlertProblem as error:
            self.trouble(str(error))
        recorder = Recorder(self._library, self._take, self.trouble, self._connection)
        try:
            held = recorder.last_minutes()
            self._library.settle()  # what was found out about the files need not be found out again
        except DataProblem as error:
            self.trouble(str(error))
            held = {}
        client = FeedClient(self._url, recorder, token=self._token, sure=held)
        recorder.start()
        self._sender.start()
        judging = service_thread("alerts", self._judge)
        following = service_thread("feed client", lambda: asyncio.run(client.run()))
        while not self._stop.wait(0.2) and following.is_alive():
            pass
        client.stop()
        following.join(10.0)
        recorder.stop()
        self._is_last = True
        self._news_came.set()
        judging.join(20.0)
        self._sender.stop()
        self._notices.close()
        if self._desktop is not None:
            self._desktop.stop()

    def _connection(self, name: str | None, why: str) -> None:
        if name is None:
            self._event({"event": "lost", "text": why})
            return
        self._evaluator.connected()
        self._event({"event": "connected", "name": name, "feed": self._url})

    def _take(self, news: News) -> None:
        """What came is in the library now: the alerts are to be judged on it."""
        if self._forming is not None:
            self._event_of_forming(news, self._forming)
        with self._news_lock:
            self._news = news if self._news is None else self._news.followed_by(news)
        self._news_came.set()

    def _judge(self) -> None:
        """Judges the alerts on what came, in a separate thread, until the last has been judged."""
        while True:
            self._news_came.wait()
            self._news_came.clear()
            is_last = self._is_last
            with self._news_lock:
                news, self._news = self._news, None
            try:
                if news is not None:
                    self._tell_of(self._evaluator.look(news))
            except AlertProblem as error:
                self.trouble(str(error))
            except Exception:
                _log.exception("alerts could not be judged")
                self.trouble("Alerts could not be judged; the log has the details.")
            if is_last:
                return

    def _event_of_forming(self, news: News, before: dict[str, Minute]) -> None:
        """The minutes in progress that have changed, and how far the feed is."""
        changed = [minute for name, minute in news.forming.items() if before.get(name) != minute]
        self._forming = dict(news.forming)
        self._event(
            {
                "event": "forming",
                "now": None if news.now is None else moment_words(news.now),
                "symbols": len(news.latest),
                "lacking": len(news.lacking),
                "minutes": [list(minute) for minute in changed],
            }
        )

    def _tell_of(self, made: Evaluated) -> None:
        for sentence in made.said:
            self.trouble(sentence)
        self._tell_rows(made.rows)
        for row in made.gone:
            self._event(event_of(row, "gone", told=row.gone))
        if made.gone:
            self._show(made.gone, ended=True)
            self._sender.look()

    def _tell_rows(self, rows: Iterable[LogRow]) -> None:
        told = []
        for row in rows:
            if row.missed:
                self._event(event_of(row, "missed"))
            elif not row.muted:
                self._event(event_of(row, told=time.time()))
                told.append(row)
        if told:
            self._show(told)
            self._sender.look()
            now = time.time()
            self._store.tell({row.id: now for row in told})

    # --- notifications --------------------------------------------------------------------------------

    def _show(self, rows: Sequence[LogRow], *, ended: bool = False) -> None:
        """Shows rows on the desktop; many of one alert as one."""
        if self._desktop is None or self._has_no_desktop:
            return
        by_alert: dict[str, list[LogRow]] = {}
        for row in rows:
            by_alert.setdefault(row.alert, []).append(row)
        sounds = {alert.id for alert in self._store.alerts() if alert.sound}
        for alert, some in by_alert.items():
            title = f"{some[0].name}: no longer true" if ended else some[0].name
            if len(some) <= _EACH:
                notices = [Notice(row.id, title, row.text, alert in sounds) for row in some]
            else:
                names = ", ".join(row.symbol for row in some[:_EACH])
                words = f"{some[0].signal} on {names} and {len(some) - _EACH} more"
                notices = [Notice(some[0].id, title, words, alert in sounds)]
            for notice in notices:
                self._notices.submit(lambda notice=notice: self._show_one(notice))  # type: ignore[misc]

    def _show_one(self, notice: Notice) -> None:
        if self._has_no_desktop or self._desktop is None:
            return
        try:
            self._desktop.show(notice)
        except NoDesktop as error:  # said once; the log holds every row
            self._has_no_desktop = True
            with contextlib.suppress(Exception):
                self.trouble(f"{error} The log has every alert.")
