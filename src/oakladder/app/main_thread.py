"""The one way from a worker's thread to the interface's: values are handed over one by one, until it is closed."""

from __future__ import annotations

from collections.abc import Callable
from threading import Lock
from typing import Any
from weakref import WeakSet

from PyQt6.QtCore import QObject, Qt, pyqtSignal

#: All dispatchers, so that each can be closed before the process ends.
_DISPATCHERS: WeakSet[MainThreadDispatcher] = WeakSet()


def close_dispatchers() -> None:
    """Stops delivering calls, from any thread: the receivers are about to be destroyed."""
    for dispatcher in list(_DISPATCHERS):
        dispatcher.close()


class MainThreadDispatcher(QObject):
    """Calling it from any thread has ``then`` called with the value on the thread that made it, between its events.

    That holds for calls from that thread itself too: a job may have ended before a callback could be attached, and
    what ``then`` does may call again.
    After `close` nothing goes through any more, what was on its way included: neither a thread that works on nor what it
    has left behind may touch an object that Qt has freed.
    """

    _came = pyqtSignal(object)

    def __init__(self, then: Callable[[Any], None], parent: QObject | None = None):
        super().__init__(parent)
        self._lock, self._closed, self._then = Lock(), False, then
        _DISPATCHERS.add(self)
        self._came.connect(self._arrive, Qt.ConnectionType.QueuedConnection)  # type: ignore[call-arg]

    def _arrive(self, value: object) -> None:
        if not self._closed:
            self._then(value)

    def __call__(self, value: object) -> None:
        with self._lock:
            if not self._closed:
                self._came.emit(value)

    def close(self) -> None:
        """Lets nothing through from now on."""
        with self._lock:
            self._closed = True
