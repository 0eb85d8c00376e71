"""Work off the interface thread: the newest job of a kind wins, results come back as Qt signals."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from threading import Event
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal


def sentence_of(error: Exception) -> str:
    """What an error says to the user; a `KeyError` would put its sentence in quotes."""
    return str(error.args[0]) if isinstance(error, KeyError) and error.args else str(error)


@dataclass(slots=True)
class Ticket:
    """What a running job sees of the outside: whether it should stop, and a way to tell how far it is."""

    kind: str
    report: Callable[[float], None]
    stop: Event = field(default_factory=Event)

    def cancelled(self) -> bool:
        return self.stop.is_set()


class Jobs(QObject):
    """Runs functions in threads. Starting a kind again stops the one before; its result is dropped."""

    _done = pyqtSignal(object, object, object)
    _moved = pyqtSignal(object, float)

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self._quick = ThreadPoolExecutor(1, "chart")
        self._slow = ThreadPoolExecutor(2, "background")  # a scan need not wait for the columns
        self._tickets: dict[str, Ticket] = {}
        self._then: dict[
            int, tuple[Callable[[Any], None], Callable[[Exception], None] | None, Callable[[float], None] | None]
        ] = {}
        self._done.connect(self._finish)
        self._moved.connect(self._progress)

    def start(
        self,
        kind: str,
        work: Callable[[Ticket], Any],
        then: Callable[[Any], None],
        failed: Callable[[Exception], None] | None = None,
        progress: Callable[[float], None] | None = None,
        *,
        slow: bool = False,
    ) -> Ticket:
        """Runs ``work`` aside; ``then``, ``failed`` and ``progress`` are called on the interface thread."""
        self.stop(kind)
        ticket = Ticket(kind, lambda x: None)
        ticket.report = lambda x: self._moved.emit(ticket, x)
        self._tickets[kind] = ticket
        self._then[id(ticket)] = (then, failed, progress)
        pool = self._slow if slow else self._quick
        future: Future[Any] = pool.submit(self._guarded, ticket, work)
        future.add_done_callback(lambda f: None if f.cancelled() else self._emit(ticket, f.result()))
        return ticket

    @staticmethod
    def _guarded(ticket: Ticket, work: Callable[[Ticket], Any]) -> tuple[Any, Exception | None]:
        if ticket.cancelled():
            return None, None
        try:
            return work(ticket), None
        except Exception as error:
            return None, error

    def _emit(self, ticket: Ticket, made: tuple[Any, Exception | None]) -> None:
        with contextlib.suppress(RuntimeError):  # the window may be gone; then nobody waits for this any more
            self._done.emit(ticket, made[0], made[1])

    def stop(self, kind: str) -> None:
        """Stops the job of a kind, if one runs."""
        ticket = self._tickets.pop(kind, None)
        if ticket is not None:
            ticket.stop.set()

    def busy_with(self, kind: str) -> bool:
        """Whether a job of a kind is still awaited."""
        return kind in self._tickets

    def busy(self) -> bool:
        """Whether any job is still awaited."""
        return bool(self._tickets)

    def _finish(self, ticket: Ticket, value: Any, error: Exception | None) -> None:
        then, failed, _ = self._then.pop(id(ticket))
        if self._tickets.get(ticket.kind) is not ticket:
            return
        del self._tickets[ticket.kind]
        if error is None:
            then(value)
        elif failed is not None:
            failed(error)
        else:
            raise error

    def _progress(self, ticket: Ticket, share: float) -> None:
        if (
            self._tickets.get(ticket.kind) is ticket
            and (told := self._then.get(id(ticket))) is not None
            and told[2] is not None
        ):
            told[2](share)

    def close(self) -> None:
        """Stops everything and waits for the threads."""
        for kind in list(self._tickets):
            self.stop(kind)
        self._quick.shutdown(wait=True, cancel_futures=True)
        self._slow.shutdown(wait=True, cancel_futures=True)
