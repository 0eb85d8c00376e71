"""The status line: shows the newest message at once, and each message long enough to be read."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, replace

from PyQt6.QtCore import QElapsedTimer, Qt, QTimer
from PyQt6.QtWidgets import QLabel, QWidget

#: Milliseconds that a sentence is shown at least: so many, and so many more for each letter.
_LEAST_MS, _LETTER_MS = 1500, 45
#: A sentence that was broken off comes back for at least so long.
_BACK_MS = 1200
_MOST_UNREAD, _MOST_SAID = 6, 12
#: How long a message stays after the time it takes to read.
_STAY_MS = 12_000


def reading_time(sentence: str) -> int:
    """Milliseconds in which a sentence can be read."""
    return _LEAST_MS + _LETTER_MS * len(sentence)


@dataclass(slots=True)
class _Said:
    """A sentence, how long it is still to be shown (ms), and the state that it was said in; None until that is known."""

    sentence: str
    left: int
    state: object = None


class StatusLine(QLabel):
    """Shows one sentence. One that a newer one has pushed away too soon comes back when that has had its time.

    A sentence that has been read goes as soon as the state in which it was said is another, and after a while in any
    case; one that has not been read yet is greyed meanwhile. A *trouble* holds until it is taken back, so it returns
    after whatever else was said. Hovering tells the last sentences.
    """

    def __init__(self, state: Callable[[], object] = lambda: "", parent: QWidget | None = None):
        """``state`` reads what sentences may be about: a place of the window, a script, a symbol; None while it is settling."""
        super().__init__(parent, objectName="status")
        self._state = state
        self._unread: list[_Said] = []
        self._said: deque[str] = deque(maxlen=_MOST_SAID)
        self._now = _Said("", 0)
        self._trouble = ""
        self._since = QElapsedTimer()
        self._since.start()
        self._timer = QTimer(self, singleShot=True)
        self._timer.timeout.connect(self._next)
        self._settled = QTimer(self, singleShot=True, interval=0)
        self._settled.timeout.connect(self._note_state)
        self.setMinimumWidth(20)
        self.setTextFormat(Qt.TextFormat.PlainText)

    def say(self, sentence: str) -> None:
        """Shows a sentence now; an empty one says nothing."""
        if not sentence:
            return
        if sentence != self.text():
            left = self._now.left - self._since.elapsed()
            if left > 0 and self.text() and self.text() != self._trouble:
                self._unread.append(replace(self._now, left=max(left, _BACK_MS)))
            self._said.appendleft(sentence)
        self._unread = [u for u in self._unread if u.sentence != sentence][-_MOST_UNREAD:]
        self._put(_Said(sentence, reading_time(sentence)))
        self._settled.start()

    def trouble(self, sentence: str) -> None:
        """Shows what is wrong until it is taken back by an empty sentence, which takes away nothing else."""
        before, self._trouble = self._trouble, sentence
        if sentence and sentence != before:
            self.say(sentence)
        elif before and not sentence:
            self._unread = [u for u in self._unread if u.sentence != before]
            if self.text() == before:
                self._put(_Said("", 0))
                self._next()

    def look(self) -> None:
        """Looks whether the state is another now."""
        if self._now.state is None:
            self._note_state()
        elif self._is_past(self._now):
            if self._since.elapsed() >= self._now.left:
                self._next()
            else:
                self.setEnabled(False)

    def _note_state(self) -> None:
        self._now.state = self._state()

    def _is_past(self, said: _Said) -> bool:
        """Whether a sentence was said in another state."""
        now = self._state()
        past = said.state is not None and now is not None and said.state != now
        return past and bool(said.sentence) and said.sentence != self._trouble

    @property
    def said(self) -> list[str]:
        """What was said lately, newest first."""
        return list(self._said)

    def _put(self, said: _Said) -> None:
        self._now = said
        self.setText(said.sentence)
        self.setToolTip("\n".join(self._said))
        self.setEnabled(True)
        self._since.restart()
        self._timer.start(said.left)

    def _next(self) -> None:
        """The sentence has been read: what else is to be read takes its place; else it goes, if not at once."""
        self._unread = [u for u in self._unread if not self._is_past(u)]
        if self._unread:
            self._put(self._unread.pop())
        elif self._trouble:
            if self.text() != self._trouble:
                self._put(_Said(self._trouble, 0, self._state()))
            self._timer.stop()
        elif self._is_past(self._now) or self._since.elapsed() >= self._now.left + _STAY_MS:
            self._put(_Said("", 0))
            self._timer.stop()
        elif self.text():
            self._timer.start(max(self._now.left + _STAY_MS - self._since.elapsed(), 1))
