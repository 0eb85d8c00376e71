"""Work off the interface thread: the newest job of a kind wins, results come back as Qt signals."""

from __future__ import annotations

import contextlib
import itertools
import logging
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future, wait
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from threading import Event
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.alerts.alert import AlertProblem
from oakladder.app.basis import Basis, BasisTracker
from oakladder.app.main_thread import MainThreadDispatcher
from oakladder.bars.errors import DataProblem
from oakladder.disk import why
from oakladder.engine.run.context import RunContext
from oakladder.locks import stoppable
from oakladder.rung import RunProblem, ScriptError
from oakladder.rung.problems import Cancelled
from oakladder.user.lists import ListProblem
from oakladder.user.scans import ScanProblem
from oakladder.user.scripts import ScriptFileProblem
from oakladder.work import WorkQueue

#: Seconds that leaving waits for what the user was promised, however slow the disk is.
_OWED_PATIENCE = 10.0
#: Seconds between two words on how far a job is.
_REPORT_PAUSE = 0.03
_log = logging.getLogger(__name__)


class NotDone(Exception):
    """Something that could not be done; the text says why."""


@contextlib.contextmanager
def writing(path: Path) -> Iterator[None]:
    """Writes a file that the user has named: what the system refuses becomes a sentence, `NotDone`."""
    try:
        yield
    except OSError as error:
        raise NotDone(f"{path.name} cannot be written: {why(error)}.") from None


#: Errors whose text is a sentence for the user. Any other was not foreseen.
EXPECTED = (
    DataProblem,
    RunProblem,
    ScriptError,
    ScriptFileProblem,
    ListProblem,
    ScanProblem,
    AlertProblem,
    Cancelled,
    NotDone,
)


def sentence_of(error: BaseException) -> str:
    """What an error says to the user."""
    if isinstance(error, ScriptError):
        first = next(p for p in error.problems if p.is_error)
        return f"line {first.span.line}: {first.message} {first.fix}".strip()
    if isinstance(error, EXPECTED):
        return str(error)
    if isinstance(error, OSError):
        where = f"{Path(str(error.filename)).name}: " if error.filename else ""
        return f"{where}{why(error)}."
    if isinstance(error, MemoryError):
        return "Not enough memory. Use fewer symbols or a longer timeframe."
    return f"Something went wrong ({type(error).__name__}). Your work is safe; the log has the details (Ctrl+K, log)."


def _nobody(share: float) -> None:
    """Ignores progress that has no listener."""


@dataclass(slots=True)
class Ticket:
    """The interface between a running job and its owner: cancellation and progress."""

    kind: str
    stop: Event = field(default_factory=Event)
    tell: Callable[[float], None] = _nobody
    _told: float = 0.0
    began: float = field(default_factory=time.monotonic)
    #: How much is done, 0 to 1; None where the job does not say.
    share: float | None = None
    #: What held when it was asked for.
    basis: Basis | None = None

    def cancelled(self) -> bool:
        return self.stop.is_set()

    def context(self, executor: Executor | None = None) -> RunContext:
        """The circumstances of a run that is done by this job."""
        return RunContext(executor, self.cancelled, self.report)

    def report(self, share: float) -> None:
        """Reports progress, 0 to 1; reports that follow too quickly are dropped."""
        now, self.share = time.monotonic(), share
        if now - self._told >= _REPORT_PAUSE:
            self._told = now
            self.tell(share)


@dataclass(frozen=True, slots=True)
class Working:
    """A job that is awaited: for how long already, and how much of it is done (0 to 1, None for not known)."""

    kind: str
    milliseconds: float
    share: float | None


class Jobs(QObject):
    """Runs functions in threads. Starting a kind again stops the one before; its result is dropped."""

    #: The error of a job without a failure handler, as a sentence.
    failed = pyqtSignal(str)
    #: Other jobs are awaited than before.
    changed = pyqtSignal()

    def __init__(self, parent: QObject | None = None, tracker: BasisTracker | None = None):
        super().__init__(parent)
        self._tracker = tracker
        self._quick = WorkQueue("chart")
        self._slow = WorkQueue("background", 2)  # a scan need not wait for the columns
        self._writer = WorkQueue("writing")
        self._writes = itertools.count()
        self._closed = False
        self._tickets: dict[str, Ticket] = {}
        self._running: set[Future[Any]] = set()
        self._owed: set[Future[Any]] = set()
        self._promised: set[str] = set()
        self._then: dict[
            int, tuple[Callable[[Any], None], Callable[[Exception], None] | None, Callable[[float], None] | None]
        ] = {}
        self._done = MainThreadDispatcher(lambda came: self._finish(*came), self)
        self._moved = MainThreadDispatcher(lambda came: self._progress(*came), self)

    def start(
        self,
        kind: str,
        work: Callable[[Ticket], Any],
        then: Callable[[Any], None],
        failed: Callable[[Exception], None] | None = None,
        progress: Callable[[float], None] | None = None,
        *,
        slow: bool = False,
        owed: bool = False,
    ) -> Ticket:
        """Runs ``work`` in the background; ``then``, ``failed`` and ``progress`` are called on the interface thread.

        What is ``owed`` is something that the user was promised, such as a file: leaving waits for it, and what is owed
        is done in the order in which it was asked for. After `close` nothing is started any more.
        """
        self.stop(kind)
        if self._closed:
            ticket = Ticket(kind)
            ticket.stop.set()
            return ticket
        ticket = Ticket(kind, basis=self._tracker.now() if self._tracker is not None else None)
        ticket.tell = lambda share: self._moved((ticket, share))
        self._tickets[kind] = ticket
        (self._promised.add if owed else self._promised.discard)(kind)
        self._then[id(ticket)] = (then, failed, progress)
        pool = self._writer if owed else self._slow if slow else self._quick
        future: Future[Any] = pool.submit(partial(self._guarded, ticket, work))
        for kept in (self._running, self._owed) if owed else (self._running,):
            kept.add(future)
            future.add_done_callback(kept.discard)
        future.add_done_callback(lambda f: None if f.cancelled() else self._done((ticket, *f.result())))
        self.changed.emit()
        return ticket

    def write(
        self,
        work: Callable[[], Any],
        then: Callable[[Any], None] = lambda made: None,
        failed: Callable[[Exception], None] | None = None,
        kind: str = "",
    ) -> None:
        """Writes something of the user's: see ``owed``. Of several of one ``kind`` the newest counts."""
        self.start(kind or f"write {next(self._writes)}", lambda _: work(), then, failed, owed=True)

    @property
    def owes(self) -> bool:
        """Whether something is still to be written."""
        return any(kind in self._promised for kind in self._tickets)

    def stop_writing(self) -> bool:
        """Stops what is waiting to be written, whatever it waits for; whether there was anything."""
        kinds = [kind for kind in self._tickets if kind in self._promised]
        for kind in kinds:
            self.stop(kind)
        return bool(kinds)

    @staticmethod
    def _guarded(ticket: Ticket, work: Callable[[Ticket], Any]) -> tuple[Any, Exception | None]:
        if ticket.cancelled():
            return None, None
        try:
            with stoppable(ticket.cancelled):
                return work(ticket), None
        except Exception as error:
            foreseen = isinstance(error, (*EXPECTED, OSError))
            if not foreseen and not ticket.cancelled():
                _log.exception("the job %s failed", ticket.kind)
            return None, error

    def stop(self, kind: str) -> None:
        """Stops the job of a kind, if one runs."""
        ticket = self._tickets.pop(kind, None)
        if ticket is not None:
            ticket.stop.set()
            self.changed.emit()

    def busy_with(self, kind: str) -> bool:
        """Whether a job of a kind is still awaited."""
        return kind in self._tickets

    def busy(self) -> bool:
        """Whether any job is still awaited."""
        return bool(self._tickets)

    def working(self) -> list[Working]:
        """Every job that is awaited."""
        now = time.monotonic()
        return [Working(kind, (now - t.began) * 1000, t.share) for kind, t in self._tickets.items()]

    def _finish(self, ticket: Ticket, value: Any, error: Exception | None) -> None:
        then, failed, _ = self._then.pop(id(ticket))
        ticket.tell = _nobody  # which held the ticket in a circle, and with it all that the job worked on
        if self._tickets.get(ticket.kind) is not ticket:
            return
        del self._tickets[ticket.kind]
        self.changed.emit()
        with self._arriving(ticket):
            if error is None:
                then(value)
            elif failed is not None:
                failed(error)
            else:
                self.failed.emit(sentence_of(error))

    def _arriving(self, ticket: Ticket) -> contextlib.AbstractContextManager[None]:
        """While a result is taken: it was derived from what held when it was asked for."""
        if self._tracker is None or ticket.basis is None:
            return contextlib.nullcontext()
        return self._tracker.arriving(ticket.basis)

    def _progress(self, ticket: Ticket, share: float) -> None:
        if (
            self._tickets.get(ticket.kind) is ticket
            and (told := self._then.get(id(ticket))) is not None
            and told[2] is not None
        ):
            told[2](share)

    def ended(self) -> bool:
        """Whether no thread works any more."""
        return not self._running

    def close(self, patience: float = 0.7) -> bool:
        """Stops everything and waits a little for the threads; whether all have come to an end.

        What is compiled just now cannot be stopped. Nothing of the user's depends on it: whatever writes, writes
        whole files.
        """
        for dispatcher in (self._done, self._moved):
            dispatcher.close()
        for kind in list(self._tickets):
            if kind not in self._promised:
                self.stop(kind)
        self._closed = True
        wait(self._owed, _OWED_PATIENCE)
        self._tickets.clear()  # jobs that end later report to no listener
        for queue in (self._quick, self._slow, self._writer):
            queue.close()
        return not wait(self._running, patience).not_done
