"""Live prices in the window: a watch beside it follows the feed, and what is in sight follows the library.

The watch is a process of its own (`oak watch`), so that a flood of messages cannot hold the window. What it prints tells the
minutes in progress and what alerts told; final minutes are in the library, where every window finds them.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from enum import StrEnum
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.jobs import Jobs
from oakladder.app.main_thread import MainThreadDispatcher
from oakladder.app.replay import ReplayController
from oakladder.bars.store.append_log import AppendLog, Tail, tail_of
from oakladder.bars.store.library import BarLibrary
from oakladder.rung.texts import count_words
from oakladder.user.feed_address import FeedAddress
from oakladder.user.workspace import Workspace
from oakladder.work import LineProcess, service_thread


class LiveState(StrEnum):
    """How it stands with live prices."""

    OFF = "off"
    STARTING = "starting"
    CONNECTED = "connected"
    CATCHING_UP = "catching up"
    LOST = "no connection"
    ELSEWHERE = "followed by another program"


class LiveController(QObject):
    """Switches live prices on and off. ``changed`` says that the state is another one, ``moved`` which symbols have new
    prices, ``alerted`` what an alert told, ``told`` a sentence for the user."""

    changed = pyqtSignal()
    moved = pyqtSignal(object)
    alerted = pyqtSignal(object)
    told = pyqtSignal(str)

    def __init__(
        self,
        workspace: Workspace,
        library: BarLibrary,
        replay: ReplayController,
        jobs: Jobs,
        parent: QObject | None = None,
    ):
        super().__init__(parent)
        self._workspace, self._library, self._replay, self._jobs = workspace, library, replay, jobs
        self.state, self.why, self.name = LiveState.OFF, "", ""
        #: The market's time as the feed told it last, ISO 8601; empty before.
        self.now = ""
        self.symbols = 0
        self._forming: dict[str, Tail] = {}
        self._dirty: set[str] = set()
        self._feed: LineProcess | None = None
        self._watch: LineProcess | None = None
        self._log: AppendLog | None = None
        #: Whether more came while it was being looked.
        self._is_due = False
        self._dispatchers: list[MainThreadDispatcher] = []

    @property
    def is_on(self) -> bool:
        """Whether live prices are switched on."""
        return self.state is not LiveState.OFF

    def toggle(self) -> None:
        """Switches live prices on or off."""
        if self.is_on:
            self.stop()
        else:
            self._begin()

    # --- the processes beside the window ----------------------------------------------------------------

    def _begin(self) -> None:
        self._set(LiveState.STARTING)
        try:
            feed = FeedAddress.configured(self._workspace)
        except ValueError as error:
            self._fail(str(error))
            return
        if feed.url:
            self._follow(feed.url)
        else:
            self._feed = self._started(
                "feed", ["feed", "--port", "0", "--attached", "--library", str(self._library.folder)], self._feed_said
            )

    def _started(self, name: str, words: list[str], said: Callable[[str | None], None]) -> LineProcess | None:
        dispatcher = MainThreadDispatcher(said, self)
        self._dispatchers.append(dispatcher)
        try:
            return LineProcess(name, [sys.executable, "-m", "oakladder", *words], dispatcher)
        except OSError as error:
            self._fail(f"The {name} cannot be started: {error.strerror or error}.")
            return None

    def _feed_said(self, line: str | None) -> None:
        if line is not None and self._watch is None and line.startswith("ws"):
            self._follow(line.strip())
        elif line is None and self.is_on:
            self._fail("The simulator has ended.")

    def _follow(self, url: str) -> None:
        folders = str(self._workspace.data), str(self._workspace.config)
        words = ["watch", "--feed", url, "--format", "json", "--forming", "--attached", "--folders", *folders]
        self._watch = self._started("watch", words, self._watch_said)

    def _fail(self, why: str) -> None:
        self.told.emit(f"Live prices are off. {why}")
        self.stop()

    def stop(self, *, wait: bool = False) -> None:
        """Switches live prices off; nothing that came is lost. The programs beside the window end in the background,
        unless they are to be waited for."""
        for dispatcher in self._dispatchers:
            dispatcher.close()
        self._dispatchers.clear()
        processes = [process for process in (self._watch, self._feed) if process is not None]
        self._watch = self._feed = None
        for process in processes:  # side by side
            process.ask_to_end()
        for process in processes:
            if wait:
                process.end()
            else:
                service_thread("end of live prices", process.end)
        if self.is_on:
            self._set(LiveState.OFF)
            self._forget_forming()

    def _forget_forming(self) -> None:
        """What was in progress is known no longer: what is in sight goes back to the final minutes."""
        gone, self._forming, self._dirty = frozenset(self._forming), {}, set()
        self._replay.show_live({})
        if gone:
            self.moved.emit(gone)

    def _set(self, state: LiveState, why: str = "") -> None:
        if (state, why) != (self.state, self.why):
            self.state, self.why = state, why
            self.changed.emit()

    # --- what the watch says ------------------------------------------------------------------------------

    def _watch_said(self, line: str | None) -> None:
        if line is None:
            if self.is_on:
                self._fail("The watch has ended; the log has the details.")
            return
        try:
            event: dict[str, Any] = json.loads(line)
        except ValueError:
            return
        match event.get("event"):
            case "connected":
                self.name = str(event.get("name", ""))
                self._set(LiveState.CONNECTED)
            case "lost":
                self._forget_forming()
                self._set(LiveState.LOST, str(event.get("text", "")))
            case "trouble" if "follower" in event:
                self._set(LiveState.ELSEWHERE, str(event.get("text", "")))
            case "trouble":
                self.told.emit(str(event.get("text", "")))
            case "forming":
                self._take_forming(event)
            case "alert" | "gone":
                self.alerted.emit(event)

    def _take_forming(self, event: dict[str, Any]) -> None:
        self.now, self.symbols = str(event.get("now") or ""), int(event.get("symbols", 0))
        for symbol, time, *numbers in event.get("minutes", []):
            self._forming[str(symbol)] = tail_of([(time, *numbers)])
            self._dirty.add(str(symbol))
        if self._dirty:
            self._hand_on(frozenset())
        if self.state in (LiveState.CONNECTED, LiveState.CATCHING_UP):
            lacking = int(event.get("lacking", 0))
            state = LiveState.CATCHING_UP if lacking else LiveState.CONNECTED
            self._set(state, count_words(lacking, "symbol") if lacking else "")
        self.changed.emit()

    def look(self) -> None:
        """Looks in the background which final minutes came: of this window's watch, or of any other program."""
        if self._jobs.busy_with("live"):
            self._is_due = True
            return
        self._is_due = False
        self._jobs.start("live", lambda _: self._came(), self._hand_on, slow=True)

    def _came(self) -> frozenset[str]:
        """The symbols of which something final came since the last look."""
        log = self._log
        if log is None or log.path.parent != self._library.folder:  # the first look, or it was moved
            log = self._log = AppendLog(self._library.folder)
            log.changed()
            return frozenset()
        return log.changed()

    def _hand_on(self, finals: frozenset[str]) -> None:
        """Shows what is final now, and what is in progress."""
        moved, self._dirty = self._dirty | finals, set()
        if moved:
            self._replay.show_live({s: t for s, t in self._forming.items() if s in self._library.infos})
            self.moved.emit(frozenset(moved))
        if self._is_due:
            self.look()

    def words(self) -> str:
        """How it stands, for the top line."""
        match self.state:
            case LiveState.OFF:
                return "Live"
            case LiveState.CONNECTED:
                clock = self.now[11:16]
                return f"Live  {clock} UTC" if clock else "Live  connected"
            case LiveState.CATCHING_UP:
                return "Live  catching up"
        return f"Live  {self.state}"

    def hint(self) -> str:
        """The same in a sentence."""
        match self.state:
            case LiveState.OFF:
                return "Live prices are off."
            case LiveState.STARTING:
                return "The feed is being started."
            case LiveState.CONNECTED:
                return f"Connected to {self.name}: {count_words(self.symbols, 'symbol')}, market time {self.now}."
            case LiveState.CATCHING_UP:
                return f"Connected to {self.name}: minutes of {self.why} are still missing."
        return self.why
