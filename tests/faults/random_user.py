"""A user who does anything at all, one act an event, while a heartbeat measures what holds the interface up."""

from __future__ import annotations

import os
import random
import resource
import signal
import sys
import time
import traceback
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from types import FrameType, TracebackType

import numpy as np
from PyQt6.QtCore import QEventLoop, QPoint, QPointF, Qt, QTimer
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractItemView, QApplication, QComboBox, QDialog, QMenu, QWidget

from oakladder.app.actions import ACTIONS
from oakladder.bars.timeframes import STANDARD
from oakladder.desk.window import Window

BEAT_MS, ACT_MS = 4, 15
#: A hold of the interface thread above this counts, in seconds of processor time.
HOLD = 0.1
#: So many additions in plain Python show how fast the processor is just now: neighbours on the same machine can make it take
#: twice as long. This is only reported, and judges nothing.
_ADDITIONS = 200_000
_PIECES = (
    "let a = sma(close, 20)\n",
    "line a color teal width 2\n",
    'signal go = crosses_up(close, a) bullish "up"\n',
    "if close > open\n",
    "    line high\n",
    'setting n = 5 range 2..50 "Length"\n',
    "rung 1\n",
    "((((",
    '"',
    "-- note\n",
    "line close[1e9]\n",
    "keep s = 0\n",
    "mark go above shape arrow_up color good\n",
    "for k in 0..5\n",
    "paint close > open color amber\n",
    'line rsi(close, 14) in pane "strength"\n',
    'label "{close}" at high when go\n',
    "on 1w: close",
    "trade ride long\n",
    "    enter when close > open\n",
    "    enter at low when close > open for 3 bars\n",
    "    stop 5%\n",
    "    trail 2 * atr(14)\n",
    "    flat at session end\n",
    "line position.stop\n",
    'of "BRINE"',
    "\t",
    "é€𝛑",
    "\x00",
)
_KEYS = (
    Qt.Key.Key_Return,
    Qt.Key.Key_Tab,
    Qt.Key.Key_Escape,
    Qt.Key.Key_Up,
    Qt.Key.Key_Down,
    Qt.Key.Key_Left,
    Qt.Key.Key_Right,
    Qt.Key.Key_Home,
    Qt.Key.Key_End,
    Qt.Key.Key_PageUp,
    Qt.Key.Key_PageDown,
    Qt.Key.Key_Backspace,
    Qt.Key.Key_Delete,
    Qt.Key.Key_Space,
)
_MODIFIERS = (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier)
_LETTERS = "abcdefghijklmnopqrstuvwxyz0123456789 .,()<>=+-*/\"'_#%[]:"


@dataclass(slots=True)
class Seen:
    """What was measured: acts done, errors raised, holds (seconds of processor time, what was done), memory and widgets."""

    acts: Counter[str] = field(default_factory=Counter)
    errors: list[str] = field(default_factory=list)
    holds: list[tuple[float, str]] = field(default_factory=list)
    longest: float = 0.0
    #: Seconds of processor time for a million additions in plain Python, taken now and then.
    paces: list[float] = field(default_factory=list)
    #: (seconds, megabytes, widgets), taken now and then.
    levels: list[tuple[float, float, int]] = field(default_factory=list)

    def low_water(self) -> tuple[tuple[float, int], tuple[float, int]]:
        """The lowest memory and widgets of the second quarter of the run and of the last one.

        What stands open goes up and down with what was asked for; what is never freed lifts the lowest level too.
        """
        quarter = max(len(self.levels) // 4, 1)
        early, late = self.levels[quarter : 2 * quarter] or self.levels[-1:], self.levels[-quarter:]
        lowest = [(min(m for _, m, _ in part), min(w for _, _, w in part)) for part in (early, late)]
        return lowest[0], lowest[1]

    def words(self) -> str:
        """All of it in a sentence."""
        early, late = self.low_water()
        return (
            f"random user: {sum(self.acts.values()):,} acts of {len(self.acts)} kinds, {len(self.errors)} errors; "
            f"longest hold {self.longest * 1000:.0f} ms of processor time, {len(self.holds)} above {HOLD * 1000:.0f} ms; "
            f"a million additions in plain Python took {np.median(self.paces or [np.nan]) * 1000:.0f} ms; "
            f"memory at its lowest {early[0]:.0f}, later {late[0]:.0f} MB; widgets {early[1]}, later {late[1]}"
        )


def taken_away() -> float:
    """Seconds that the machine under this one has taken from its processors: they are counted as ours otherwise."""
    with Path("/proc/stat").open() as file:
        file.readline()
        each = [line.split() for line in file if line.startswith("cpu")]
    return max((int(cells[8]) for cells in each if len(cells) > 8), default=0) / os.sysconf("SC_CLK_TCK")


def pace_now() -> float:
    """Seconds of processor time that a million additions in plain Python take just now."""
    begin, total = time.thread_time(), 0
    for k in range(_ADDITIONS):
        total += k
    return (time.thread_time() - begin) * 1e6 / _ADDITIONS


def _memory() -> float:
    """Megabytes that the process holds now."""
    with Path("/proc/self/statm").open() as file:
        return int(file.read().split()[1]) * resource.getpagesize() / 1e6


def _kernel_time() -> tuple[float, int]:
    """Seconds that this thread has spent in the kernel so far, and pages of memory it had to be given."""
    used = resource.getrusage(resource.RUSAGE_THREAD)
    return used.ru_stime, used.ru_minflt + used.ru_majflt


class RandomUser:
    """Does something every few milliseconds, nested dialogs and menus included."""

    def __init__(self, window: Window, seed: int):
        self.window, self.session, self.seen = window, window.session, Seen()
        window.quit = lambda: None  # type: ignore[method-assign]  # the palette finds it too
        self._random = random.Random(seed)
        self._now = "start"
        self._recent: list[str] = []
        self._modal_for = 0
        self._going = False
        self._beaten, self._caught = 0.0, list[str]()
        self._last = time.thread_time(), taken_away()
        self._last_kernel = _kernel_time()
        self._acts: list[tuple[int, Callable[[], object]]] = [
            (30, self._letter),
            (10, self._key),
            (8, self._piece),
            (14, self._action),
            (14, self._click),
            (6, self._wheel),
            (4, self._drag),
            (4, self._right_click),
            (4, self._choose),
            (4, self._pick),
            (4, self._symbol),
            (4, self._timeframe),
            (2, self._open),
            (2, self._resize),
            (2, self._undo),
            (2, self._list),
            (2, self._palette),
        ]

    def go(self, seconds: float) -> Seen:
        """Goes on for some time; gives what was measured."""
        beat = QTimer(interval=BEAT_MS)
        beat.timeout.connect(self._beat)
        begun, next_level = time.monotonic(), 0.0
        before, sys.excepthook = sys.excepthook, self._failed
        try:
            self._last = time.thread_time(), taken_away()
            beat.start()
            self._going, self._beaten = True, time.monotonic()
            signal.signal(signal.SIGALRM, self._look)
            signal.setitimer(signal.ITIMER_REAL, 0.01, 0.01)
            QTimer.singleShot(ACT_MS, self._act)
            while (passed := time.monotonic() - begun) < seconds:
                QApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 20)
                time.sleep(0.001)
                if passed >= next_level:
                    self._keep_level(passed)
                    self.seen.paces.append(pace_now())
                    self._last = time.thread_time(), taken_away()  # measuring holds the window up too
                    next_level = passed + min(max(seconds / 40, 0.5), 15)
        finally:
            beat.stop()
            signal.setitimer(signal.ITIMER_REAL, 0)
            self._going = False
            sys.excepthook = before
        self._close_everything()
        self._keep_level(seconds)
        return self.seen

    def _keep_level(self, passed: float) -> None:
        self.seen.levels.append((passed, _memory(), len(QApplication.allWidgets())))

    def _failed(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        words = "".join(traceback.format_exception(kind, error, trace))
        self.seen.errors.append(f"{self._recent[-6:]}\n{words}")

    def _beat(self) -> None:
        now, kernel = (time.thread_time(), taken_away()), _kernel_time()
        held = now[0] - self._last[0] - (now[1] - self._last[1])
        inside, pages = kernel[0] - self._last_kernel[0], kernel[1] - self._last_kernel[1]
        self._last, self._last_kernel = now, kernel
        self.seen.longest = max(self.seen.longest, held)
        if held > HOLD:
            acts, where = " · ".join(self._recent[-3:]), " / ".join(self._caught) or "Qt"
            system = f"{inside * 1000:.0f} ms of it in the kernel, {pages:,} pages"
            self.seen.holds.append((held, f"{acts}: {where} ({system})"))
        self._beaten, self._caught = time.monotonic(), []

    def _look(self, _: int, frame: FrameType | None) -> None:
        """Called by a signal every few milliseconds: where in our code the thread is while its heartbeat is late."""
        if time.monotonic() - self._beaten < 0.05:
            return
        while frame is not None:
            if "oakladder" in frame.f_code.co_filename:
                name = f"{Path(frame.f_code.co_filename).name}:{frame.f_code.co_name}"
                self._caught = [*self._caught, name] if name not in self._caught else self._caught
                break
            frame = frame.f_back

    # --- acts -------------------------------------------------------------------------------------

    def _act(self) -> None:
        if not self._going:
            return
        # A timer of its own for each act: what an act opens may wait in an event loop of its own.
        QTimer.singleShot(ACT_MS, self._act)
        popup, modal = QApplication.activePopupWidget(), QApplication.activeModalWidget()
        self._modal_for = self._modal_for + 1 if (popup or modal) else 0
        if self._modal_for > 25:
            self._modal_for = 0
            self._close_everything()
            return
        if (popup is not None or modal is not None) and self._random.random() < 0.8:
            go: Callable[[], object] = self._random.choice([self._letter, self._key, self._click_on(popup or modal)])
        else:
            go = self._random.choices([g for _, g in self._acts], [w for w, _ in self._acts])[0]
        if sum(self.seen.acts.values()) % 250 == 249:
            self._clear_the_table()
        name = getattr(go, "__name__", "click").strip("_")
        self._say(name)
        try:
            go()
        except Exception:
            self.seen.errors.append(f"{self._recent[-6:]}\n{traceback.format_exc()}")

    def _clear_the_table(self) -> None:
        """Takes away what piles up because it was asked for, so that what piles up by itself can be seen."""
        self.window.scan.lines.show_lines(self.window.scan.lines.lines()[:2])
        while len(self.session.trials.changes) > 2:
            self.session.trials.remove_change(0)
        while len(self.session.overlays.uses) > 2:
            self.session.overlays.remove(0)

    def _say(self, name: str) -> None:
        self.seen.acts[name.split(":")[0]] += 1
        self._recent = [*self._recent[-8:], name]

    def _close_everything(self) -> None:
        for _ in range(10):
            popup, modal = QApplication.activePopupWidget(), QApplication.activeModalWidget()
            if popup is not None:
                popup.close()
            elif isinstance(modal, QDialog):
                modal.reject()
            else:
                break
        for widget in QApplication.topLevelWidgets():
            if isinstance(widget, QDialog) and widget.isVisible():
                widget.close()

    def _focus(self) -> QWidget:
        return (
            QApplication.activePopupWidget()
            or QApplication.activeModalWidget()
            or QApplication.focusWidget()
            or self.window
        )

    def _letter(self) -> None:
        target = self._focus()
        if self._random.random() < 0.5 and target.window() is self.window and not isinstance(target, QMenu):
            target = self.window.bench.script.editor
            if target.isVisible():
                target.setFocus()
        QTest.keyClick(target, self._random.choice(_LETTERS))

    def _key(self) -> None:
        key, held = self._random.choice(_KEYS), self._random.choice(_MODIFIERS)
        QTest.keyClick(self._focus(), key, held)

    def _piece(self) -> None:
        editor = self.window.bench.script.editor
        if self._random.random() < 0.15:
            editor.selectAll()
            editor.replaceSelectedText("rung 1\n")
        editor.setCursorPosition(self._random.randrange(editor.lines()), 0)
        editor.insert(self._random.choice(_PIECES))

    def _undo(self) -> None:
        editor = self.window.bench.script.editor
        self._random.choice([editor.undo, editor.redo])()

    def _action(self) -> None:
        action = self._random.choice([a for a in ACTIONS if a.name not in ("quit", "toggle_live")])
        self._recent[-1] = f"action:{action.name}"
        self.window.action_by_name[action.name].trigger()

    def _click_on(self, root: QWidget | None) -> Callable[[], None]:
        def click() -> None:
            if root is None:
                return
            shown = [w for w in root.findChildren(QWidget) if w.isVisible() and w.isEnabled()] or [root]
            self._press(self._random.choice(shown))

        return click

    def _click(self) -> None:
        place = self.window.places.currentWidget()
        self._click_on(place if self._random.random() < 0.9 else self.window)()

    def _press(self, widget: QWidget, button: Qt.MouseButton = Qt.MouseButton.LeftButton) -> None:
        size = widget.size()
        point = QPoint(self._random.randrange(max(size.width(), 1)), self._random.randrange(max(size.height(), 1)))
        self._recent[-1] += f":{type(widget).__name__}"
        go = QTest.mouseDClick if self._random.random() < 0.15 else QTest.mouseClick
        go(widget, button, self._random.choice(_MODIFIERS), point)

    def _right_click(self) -> None:
        chart = self.window.bench.chart
        if chart.isVisible():
            self._press(chart.viewport(), Qt.MouseButton.RightButton)
        for view in self.window.findChildren(QAbstractItemView):
            if view.isVisible() and self._random.random() < 0.3:
                view.customContextMenuRequested.emit(QPoint(self._random.randrange(300), self._random.randrange(200)))
                break

    def _wheel(self) -> None:
        chart = self.window.bench.chart.viewport()
        place = QPointF(self._random.randrange(600), self._random.randrange(400))
        by = QPoint(0, self._random.choice([-120, 120]))
        held = self._random.choice(_MODIFIERS)
        target = self.window.bench.script.editor if self._random.random() < 0.2 else chart
        QApplication.sendEvent(
            target,
            QWheelEvent(
                place,
                QPointF(target.mapToGlobal(place.toPoint())),
                QPoint(),
                by,
                Qt.MouseButton.NoButton,
                held,
                Qt.ScrollPhase.NoScrollPhase,
                False,
            ),
        )

    def _drag(self) -> None:
        chart = self.window.bench.chart.viewport()
        points = [QPoint(self._random.randrange(700), self._random.randrange(500)) for _ in range(3)]
        held = self._random.choice(_MODIFIERS[:2])
        QTest.mousePress(chart, Qt.MouseButton.LeftButton, held, points[0])
        for point in points[1:]:
            QTest.mouseMove(chart, point)
        QTest.mouseRelease(chart, Qt.MouseButton.LeftButton, held, points[-1])

    def _choose(self) -> None:
        boxes = [b for b in self.window.findChildren(QComboBox) if b.isVisible() and b.count()]
        if boxes:
            box = self._random.choice(boxes)
            at = self._random.randrange(box.count())
            box.setCurrentIndex(at)
            box.activated.emit(at)

    def _pick(self) -> None:
        views = [v for v in self.window.findChildren(QAbstractItemView) if v.isVisible() and v.model() is not None]
        views = [v for v in views if v.model().rowCount()]
        if views:
            view = self._random.choice(views)
            model = view.model()
            index = model.index(self._random.randrange(model.rowCount()), self._random.randrange(8))
            view.setCurrentIndex(index)
            if index.isValid() and self._random.random() < 0.3:
                view.activated.emit(index)

    def _symbol(self) -> None:
        self.session.chart.go_to(symbol=self._random.choice(list(self.session.library.infos)))

    def _timeframe(self) -> None:
        self.session.chart.go_to(timeframe=self._random.choice(STANDARD))

    def _open(self) -> None:
        self.session.rule.open(self._random.choice(self.session.workspace.script_files()))

    def _resize(self) -> None:
        self.window.resize(self._random.randrange(600, 1700), self._random.randrange(400, 1000))

    def _list(self) -> None:
        name = f"List {self._random.randrange(6)}"
        symbols = self._random.sample(list(self.session.library.infos), 5)
        if name in self.session.lists.user_lists:
            self.window.ladder.commands.change(lambda: self.session.lists.delete(name))
        else:
            self.window.ladder.commands.make(name, symbols)

    def _palette(self) -> None:
        self.window.open_palette(self._random.choice(["", "1", "night", "BRINE", "2026-03-12", "zzz", "fold"]))
