"""Notifies of changes to the user's folders by other programs."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Iterable
from pathlib import Path

import watchfiles

from oakladder.work import service_thread

_log = logging.getLogger(__name__)
#: Milliseconds for which changes are gathered, and after which a missing folder is checked again.
_GATHER_MS, _AGAIN_MS = 80, 1000


class Watch:
    """Watches some folders (without subfolders) on a separate thread.

    ``tell`` is called on that thread with the paths that have changed; files whose names begin with a dot are ours.
    Files that are ``polled`` are checked each second too: not every disk reports changes.
    """

    def __init__(self, folders: Iterable[Path], tell: Callable[[set[Path]], None], *, polled: Iterable[Path] = ()):
        self._folders, self._tell = list(folders), tell
        self._polled = {path: _stamp(path) for path in polled}
        self._stop = threading.Event()
        self._thread = service_thread("watch", self._run)

    def _run(self) -> None:
        while not self._stop.is_set():
            there = [f for f in self._folders if f.is_dir()]
            try:
                if there:
                    self._look_at(there)
            except (OSError, RuntimeError) as error:  # a folder went away, or no more can be watched
                _log.warning("watching broke off: %s", error)
            if not self._stop.wait(_AGAIN_MS / 1000):
                self._tell(set(self._folders))

    def _look_at(self, folders: list[Path]) -> None:
        for changes in watchfiles.watch(
            *folders,
            watch_filter=None,
            debounce=_GATHER_MS,
            step=20,
            stop_event=self._stop,
            rust_timeout=_AGAIN_MS,
            yield_on_timeout=True,
            recursive=False,
            raise_interrupt=False,
        ):
            paths = {Path(name) for _, name in changes}
            shown = {p for p in paths if not p.name.startswith(".")}
            shown |= self._otherwise()
            if shown:
                self._tell(shown)
            if [f for f in self._folders if f.is_dir()] != folders:
                return

    def _otherwise(self) -> set[Path]:
        """The polled files that have changed since the last check."""
        before, self._polled = self._polled, {path: _stamp(path) for path in self._polled}
        return {path for path, stamp in self._polled.items() if stamp != before[path]}

    def close(self) -> None:
        """Ends the thread."""
        self._stop.set()
        self._thread.join(2)


def _stamp(path: Path) -> tuple[int, int, int] | None:
    try:
        facts = path.stat()
    except OSError:
        return None
    return facts.st_ino, facts.st_mtime_ns, facts.st_size
