"""The line that tells what happened: the newest sentence at once, and each of them long enough to be read."""

from __future__ import annotations

from collections import deque

from PyQt6.QtCore import QElapsedTimer, Qt, QTimer
from PyQt6.QtWidgets import QLabel, QWidget

#: Milliseconds that a sentence is shown at least: so many, and so many more for each letter.
_LEAST_MS, _LETTER_MS = 1500, 45
#: A sentence that was broken off comes back for at least so long.
_BACK_MS = 1200
_MOST_UNREAD, _MOST_SAID = 6, 12


def reading_time(sentence: str) -> int:
    """Milliseconds in which a sentence can be read."""
    return _LEAST_MS + _LETTER_MS * len(sentence)


class StatusLine(QLabel):
    """Shows one sentence. One that a newer one has pushed away too soon comes back when that has had its time.

    A *trouble* holds until it is taken back, so it returns after whatever else was said. Hovering tells the last
    sentences.
    """

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent, objectName="status")
        self._unread: list[tuple[str, int]] = []
        self._said: deque[str] = deque(maxlen=_MOST_SAID)
        self._trouble = ""
        self._since = QElapsedTimer()
        self._since.start()
        self._left = 0
        self._timer = QTimer(self, singleShot=True)
        self._timer.timeout.connect(self._next)
        self.setMinimumWidth(20)
        self.setTextFormat(Qt.TextFormat.PlainText)

    def say(self, sentence: str) -> None:
        """Shows a sentence now; an empty one says nothing."""
        if not sentence:
            return
        if sentence != self.text():
            left = self._left - self._since.elapsed()
            if left > 0 and self.text() and self.text() != self._trouble:
                self._unread.append((self.text(), max(left, _BACK_MS)))
            self._said.appendleft(sentence)
        self._unread = [u for u in self._unread if u[0] != sentence][-_MOST_UNREAD:]
        self._put(sentence, reading_time(sentence))

    def trouble(self, sentence: str) -> None:
        """Shows what is wrong until it is taken back by an empty sentence, which takes away nothing else."""
        before, self._trouble = self._trouble, sentence
        if sentence and sentence != before:
            self.say(sentence)
        elif before and not sentence:
            self._unread = [u for u in self._unread if u[0] != before]
            if self.text() == before:
                self._put("", 0)
                self._next()

    @property
    def said(self) -> list[str]:
        """What was said lately, newest first."""
        return list(self._said)

    def _put(self, sentence: str, time: int) -> None:
        self.setText(sentence)
        self.setToolTip("\n".join(self._said))
        self._left = time
        self._since.restart()
        self._timer.start(time)

    def _next(self) -> None:
        if self._unread:
            self._put(*self._unread.pop())
        elif self._trouble and self.text() != self._trouble:
            self._put(self._trouble, 0)
            self._timer.stop()
