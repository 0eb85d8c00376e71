"""The folder of a library as several programs and threads share it: following moves, taking turns, noticing changes.

See `access` for the protocol.
"""

from __future__ import annotations

import contextlib
import logging
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.access import LOCK, advance, cannot_use, note_in, place_of, place_while_moving, stamp_of
from oakladder.disk import why
from oakladder.locks import Locked, locked

_log = logging.getLogger(__name__)
#: Seconds that a writer waits for others: long enough for a large library to be moved to another disk.
PATIENCE = 6 * 3600.0
#: How often in a row a library may be moved while its lock is waited for.
_MOST_TRIES = 20


class SharedFolder:
    """Where a library is, and who changes it.

    ``moved`` is called with the turn held when the library has been found in another folder, ``changed`` when another
    program has begun a new generation.
    """

    def __init__(self, folder: Path, moved: Callable[[], None], changed: Callable[[], None]):
        self.folder = place_of(folder)
        self._moved, self._changed = moved, changed
        #: Held with the library's lock by the thread that writes, and how often it has taken it.
        self._turn, self._depth, self._is_dirty = threading.RLock(), 0, False
        #: The generations that readers have taken in, and that `is_fresh` has reported.
        self._read_stamp = self._told_stamp = stamp_of(self.folder)

    # --- where it is, and what others have changed ------------------------------------------------

    def follow(self) -> bool:
        """Goes where the library was moved; whether it was. Raises `DataProblem` where that folder is missing."""
        there = place_while_moving(self.folder)
        if there == self.folder:
            return False
        if not there.is_dir():
            raise DataProblem(
                f"The bars were moved to {there}, and that folder is missing. Bring it back, or connect its disk."
            )
        with self._turn:
            if self.folder != there:
                _log.info("the library was moved from %s to %s", self.folder, there)
                self.folder = there
                self._moved()
                self._read_stamp = stamp_of(there)
        return True

    def take_in(self) -> None:
        """Reports a generation that another program has begun, once."""
        stamp = stamp_of(self.folder)
        if stamp != self._read_stamp:
            self._read_stamp = stamp
            self._changed()

    def is_fresh(self) -> bool:
        """Follows a move and takes in changes; whether there were any since this was last asked."""
        with contextlib.suppress(DataProblem):  # the next read reports it
            self.follow()
        self.take_in()
        fresh, self._told_stamp = self._read_stamp != self._told_stamp, self._read_stamp
        return fresh

    # --- changing it --------------------------------------------------------------------------------

    def mark(self) -> None:
        """Notes that what the library holds has been changed, by the thread that holds the lock."""
        self._is_dirty = True

    @contextlib.contextmanager
    def changing(self, patience: float = PATIENCE, cancelled: Callable[[], bool] | None = None) -> Iterator[None]:
        """Holds the lock: no other program or thread changes the library meanwhile. A thread may take it again.

        Changes by others are read first. Raises `DataProblem`.
        """
        with self._turn:
            if self._depth:
                yield
                return
            with contextlib.ExitStack() as stack:
                self._take_lock(stack, patience, cancelled)
                told = self._told_stamp == self._read_stamp
                self._depth, self._is_dirty = 1, False
                try:
                    yield
                finally:
                    self._depth = 0
                    if self._is_dirty:
                        self._begin_generation(told)

    def _begin_generation(self, told: bool) -> None:
        """Ends a change. This program's own is not reported by `is_fresh`, if all before it was."""
        advance(self.folder)
        self._read_stamp = stamp_of(self.folder)
        if told:
            self._told_stamp = self._read_stamp

    def _take_lock(self, stack: contextlib.ExitStack, patience: float, cancelled: Callable[[], bool] | None) -> None:
        for _ in range(_MOST_TRIES):
            folder, held = self.folder, contextlib.ExitStack()
            try:
                held.enter_context(locked(folder / LOCK, patience, cancelled=cancelled, make_folder=False))
            except Locked as error:
                raise DataProblem(
                    f"The bars cannot be changed: {error.holder} is changing them. Try again later."
                ) from None
            except FileNotFoundError as error:
                if self.follow():
                    continue
                raise cannot_use(folder, error) from None
            except OSError as error:
                raise DataProblem(f"The bars cannot be changed: {why(error)}.") from None
            if note_in(folder) is None:
                stack.push(held)
                self.take_in()
                return
            held.close()
            self.follow()
        raise DataProblem(f"The bars of {self.folder} were moved again and again. Try again.")
