"""Work beside the caller: every thread and every child process of the program is started here.

Each has a name, is shown by `running`, is bounded in number, and ends with the program. `WorkQueue` does named pieces of
work in a few threads; `parallel` runs the parts of one piece on all processors; `service_thread` is for what goes on as
long as the program; `ChildProcess` and `process_pool` start processes.
"""

from __future__ import annotations

import atexit
import contextlib
import itertools
import os
import signal
import subprocess
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor, wait
from dataclasses import dataclass
from multiprocessing import get_context, parent_process
from multiprocessing.connection import wait as wait_for
from typing import Any, Self

_NUMBERS = itertools.count()
#: How many child processes there may be at once; the caller of one more waits. Never fewer than there are kinds (compiler,
#: table reader, printing): one kind must not wait for another.
MOST_CHILDREN = max(4, os.cpu_count() or 1)


@dataclass(frozen=True, slots=True)
class Running:
    """Something that goes on beside the caller, and since when (seconds of `time.monotonic`)."""

    name: str
    since: float


class _Register:
    """What goes on just now."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._running: dict[int, Running] = {}

    @contextlib.contextmanager
    def listed(self, name: str) -> Iterator[None]:
        number = next(_NUMBERS)
        with self._lock:
            self._running[number] = Running(name, time.monotonic())
        try:
            yield
        finally:
            with self._lock:
                del self._running[number]

    def all(self) -> list[Running]:
        with self._lock:
            return list(self._running.values())


_REGISTER = _Register()


def running() -> list[Running]:
    """Everything that goes on beside the caller, the oldest first."""
    return _REGISTER.all()


# --- threads ---------------------------------------------------------------------------------------


def service_thread(name: str, run: Callable[[], object]) -> threading.Thread:
    """Starts a thread that goes on until ``run`` returns or the program ends; the program does not wait for it."""

    def listed() -> None:
        with _REGISTER.listed(name):
            run()

    return _started(name, listed)


def _started(name: str, run: Callable[[], object]) -> threading.Thread:
    thread = threading.Thread(target=run, name=name, daemon=True)
    thread.start()
    return thread


@dataclass(slots=True)
class _Piece:
    """A piece of work that waits or is being done."""

    future: Future[Any]
    work: Callable[[], Any]

    def do(self) -> None:
        try:
            made = self.work()
        except BaseException as error:  # whatever it is belongs to who asked
            self.future.set_exception(error)
        else:
            self.future.set_result(made)

    def drop(self) -> None:
        """Tells everyone who waits that it will not be done."""
        if self.future.cancel():
            self.future.set_running_or_notify_cancel()


class WorkQueue:
    """Does pieces of work in up to ``threads`` separate threads.

    In the order of asking, or with ``newest_first`` the other way round; of more than ``most_waiting`` that wait the oldest
    is dropped: its future is cancelled. Thread-safe.
    """

    def __init__(self, name: str, threads: int = 1, *, newest_first: bool = False, most_waiting: int | None = None):
        self._name, self._threads = name, threads
        self._newest_first, self._most_waiting = newest_first, most_waiting
        self._turn = threading.Condition()
        self._waiting: OrderedDict[object, _Piece] = OrderedDict()
        self._active: dict[object, _Piece] = {}
        self._started = self._idle = 0
        self._closed = False

    def submit(self, work: Callable[[], Any], key: object = None) -> Future[Any]:
        """Has ``work`` done. Under a ``key`` that waits or is being done already, gives the future of that, which counts as
        asked for last. Raises `RuntimeError` after `close`."""
        key = object() if key is None else key
        dropped = None
        with self._turn:
            if self._closed:
                raise RuntimeError(f"the queue {self._name} is closed")
            if key in self._active:
                return self._active[key].future
            piece = self._waiting.setdefault(key, _Piece(Future(), work))
            self._waiting.move_to_end(key)
            if self._most_waiting is not None and len(self._waiting) > self._most_waiting:
                dropped = self._waiting.popitem(last=False)[1]
            self._turn.notify()
            if self._idle < len(self._waiting) and self._started < self._threads:
                self._started += 1
                _started(self._name, self._go_on)
        if dropped is not None:
            dropped.drop()
        return piece.future

    def _next(self) -> tuple[object, _Piece] | None:
        """The next piece of work, waited for; None when the queue is closed."""
        with self._turn:
            while True:
                while self._waiting:
                    key, piece = self._waiting.popitem(last=self._newest_first)
                    if piece.future.set_running_or_notify_cancel():
                        self._active[key] = piece
                        return key, piece
                if self._closed:
                    return None
                self._idle += 1
                self._turn.wait()
                self._idle -= 1

    def _go_on(self) -> None:
        while self._do_next():
            pass

    def _do_next(self) -> bool:
        found = self._next()
        if found is None:
            return False
        key, piece = found
        try:
            with _REGISTER.listed(self._name):
                piece.do()
        finally:
            with self._turn:
                del self._active[key]
        return True

    def close(self) -> None:
        """Drops what waits and takes nothing more; what is under way ends in its own time."""
        with self._turn:
            self._closed = True
            waiting, self._waiting = list(self._waiting.values()), OrderedDict()
            self._turn.notify_all()
        for piece in waiting:
            piece.drop()


class Parallel(Executor):
    """The parts of one piece of work on the processors of this machine; its threads share memory with the caller."""

    def __init__(self, threads: ThreadPoolExecutor):
        self._threads = threads
        self._futures: set[Future[Any]] = set()

    def submit(self, fn: Callable[..., Any], /, *args: Any, **options: Any) -> Future[Any]:
        future = self._threads.submit(fn, *args, **options)
        self._futures.add(future)
        future.add_done_callback(self._futures.discard)
        return future

    def end(self) -> None:
        """Drops the parts that have not begun and waits for the others."""
        left = list(self._futures)
        for future in left:
            future.cancel()
        wait(left)


_POOLS: dict[int, ThreadPoolExecutor] = {}
_POOLS_LOCK = threading.Lock()


def shares_memory(executor: Executor) -> bool:
    """Whether the parts that an executor runs see the objects of the caller, and need not be sent them."""
    return isinstance(executor, Parallel | ThreadPoolExecutor)


@contextlib.contextmanager
def parallel(count: int | None = None) -> Iterator[Parallel]:
    """Threads for the parts of one piece of work: ``count`` of them, else one for each processor. All callers of one count
    share them, so parts must not wait for other parts. When it ends no part is under way any more."""
    count = count or os.cpu_count() or 1
    with _POOLS_LOCK:
        if count not in _POOLS:
            _POOLS[count] = ThreadPoolExecutor(count, "parallel")
        made = Parallel(_POOLS[count])
    try:
        yield made
    finally:
        made.end()


# --- processes -------------------------------------------------------------------------------------


_CHILDREN = threading.BoundedSemaphore(MOST_CHILDREN)


class ProgramEnds(Exception):
    """A child process was ended with the program before it answered."""


class ChildProcess:
    """A child process with pipes to its input and output, which does not outlive the program.

    Begins when there are fewer than `MOST_CHILDREN`; what it writes to its error output is lost. Raises `OSError` where there
    cannot be one.
    """

    def __init__(self, name: str, command: Sequence[str], *, env: Mapping[str, str] | None = None):
        _CHILDREN.acquire()
        try:
            self.process = subprocess.Popen(
                list(command),
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                close_fds=True,
                env=env,
            )
        except BaseException:
            _CHILDREN.release()
            raise
        self._listed = _REGISTER.listed(name)
        self._listed.__enter__()
        self._ends = threading.Lock()
        atexit.register(self.end)

    @property
    def is_alive(self) -> bool:
        """Whether it has not ended yet."""
        return self.process.poll() is None

    def answer(self, question: bytes, patience: float) -> bytes | None:
        """What it writes when it has been sent all of ``question``; None where it fails.

        Raises `subprocess.TimeoutExpired` after ``patience`` seconds, `ProgramEnds` where it is ended meanwhile.
        """
        try:
            output, _ = self.process.communicate(question, patience)
        except (OSError, ValueError):  # its pipes are closed
            if not self._ends.locked():
                raise
        if self._ends.locked():
            raise ProgramEnds
        return None if self.process.returncode else output

    def end(self) -> None:
        """Kills it, if it is still there, and closes its pipes."""
        if not self._ends.acquire(blocking=False):
            return  # it has been ended
        atexit.unregister(self.end)
        self.process.kill()
        self.process.wait()
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()
        self._listed.__exit__(None, None, None)
        _CHILDREN.release()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.end()


class LineProcess:
    """A child process whose output is read line by line, in a thread, and that is asked to end with the program.

    ``line`` gets each line, and None once there are no more. The child ends when its standard input is closed, so it does
    not outlive a program that is killed. Raises `OSError`.
    """

    def __init__(self, name: str, command: Sequence[str], line: Callable[[str | None], None]):
        self._process = subprocess.Popen(
            list(command), stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
        )
        self._line = line
        atexit.register(self.end)
        service_thread(name, self._read)

    def _read(self) -> None:
        assert self._process.stdout is not None
        with contextlib.suppress(ValueError, OSError):  # it was closed meanwhile
            for text in self._process.stdout:
                self._line(text.rstrip("\n"))
        self._line(None)

    def ask_to_end(self) -> None:
        """Asks it to end, and does not wait."""
        if self._process.stdin is not None:
            with contextlib.suppress(OSError):
                self._process.stdin.close()

    def end(self, patience: float = 10.0) -> None:
        """Asks it to end and waits; kills it where it does not."""
        atexit.unregister(self.end)
        self.ask_to_end()
        try:
            self._process.wait(patience)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()


def outliving(command: Sequence[str]) -> None:
    """Starts a program that goes on when this one ends, and has nothing to do with its input and output. Raises `OSError`."""
    nowhere = subprocess.DEVNULL
    subprocess.Popen(list(command), stdin=nowhere, stdout=nowhere, stderr=nowhere, start_new_session=True)


def process_pool(count: int) -> ProcessPoolExecutor:
    """Processes for parts of long work: they give way to the window, leave Ctrl+C to the caller and do not outlive it."""
    # Not forked: what other threads hold at that moment would be held there for ever.
    return ProcessPoolExecutor(count, get_context("spawn"), _begin_worker)


def _begin_worker() -> None:
    os.nice(5)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    parent = parent_process()
    if parent is not None:
        service_thread("end with the program", lambda: (wait_for([parent.sentinel]), os._exit(0)))
