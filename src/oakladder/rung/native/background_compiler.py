"""Compiles in the background: one job at a time, the newest first; outdated jobs are dropped."""

from __future__ import annotations

import logging
import threading
from collections import OrderedDict
from collections.abc import Callable

_log = logging.getLogger(__name__)
#: Max number of waiting jobs: typing asks for each text, and only the last ones are still needed. A caller that still needs
#: one that was dropped asks for it again.
_MOST_WAITING = 4


class BackgroundCompiler:
    """Does named work on a separate thread. Failed work is not repeated."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._waiting: OrderedDict[bytes, Callable[[], object]] = OrderedDict()
        self._at: bytes | None = None
        self._failed: set[bytes] = set()

    def ask(self, name: bytes, work: Callable[[], object]) -> None:
        """Has some work done, if it is not under way or waiting and has not failed before."""
        with self._lock:
            if name == self._at or name in self._failed:
                return
            self._waiting[name] = work
            self._waiting.move_to_end(name)
            if len(self._waiting) > _MOST_WAITING:
                self._waiting.popitem(last=False)
            if self._at is None:
                self._at = b""
                threading.Thread(target=self._go_on, name="code for lanes", daemon=True).start()

    def _next(self) -> Callable[[], object] | None:
        with self._lock:
            self._at, work = self._waiting.popitem() if self._waiting else (None, None)
            return work

    def _go_on(self) -> None:
        while (work := self._next()) is not None:
            try:
                work()
            except Exception:  # whatever it is, the next one is made
                _log.exception("code for lanes could not be made; symbols are run one by one")
                with self._lock:
                    self._failed.add(self._at or b"")
