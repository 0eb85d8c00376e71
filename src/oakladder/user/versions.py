"""Earlier versions of scripts: every text that a save replaced, thinned out by age and never to nothing."""

from __future__ import annotations

import contextlib
import time
from dataclasses import dataclass
from pathlib import Path

from oakladder.disk import read_regular, write_atomic
from oakladder.user.scripts import MAX_SCRIPT_BYTES

_MINUTE, _HOUR, _DAY = 60.0, 3600.0, 86_400.0
#: Age in seconds up to which one version is kept for each so many seconds.
_STEPS = ((10 * _MINUTE, 0.0), (_DAY, 5 * _MINUTE), (30 * _DAY, _HOUR), (365 * _DAY, _DAY), (float("inf"), 7 * _DAY))
#: The newest so many stay, however close together they are.
_NEWEST = 20


@dataclass(frozen=True, slots=True)
class Version:
    """A text that a script once had, up to a moment (seconds since 1970)."""

    moment: float
    path: Path

    def text(self) -> str:
        """The text. Raises `OSError`."""
        return read_regular(self.path, MAX_SCRIPT_BYTES).decode("utf-8-sig", "replace").replace("\r\n", "\n")


class Versions:
    """The versions of all scripts, a folder for each."""

    def __init__(self, folder: Path):
        self._folder = folder

    def of(self, script: str) -> list[Version]:
        """The versions of a script (its file's name), oldest first."""
        made = []
        for path in self._place(script).glob("*.rung"):
            with contextlib.suppress(ValueError):
                made.append(Version(int(path.stem) / 1e9, path))
        return sorted(made, key=lambda v: v.moment)

    def _place(self, script: str) -> Path:
        return self._folder / script.removesuffix(".rung").lstrip(".")

    def keep(self, script: str, raw: bytes) -> None:
        """Keeps a text that is being replaced, unless it is the newest version already. Raises `OSError`."""
        known = self.of(script)
        if known and read_regular(known[-1].path, MAX_SCRIPT_BYTES) == raw:
            return
        write_atomic(self._place(script) / f"{time.time_ns()}.rung", raw)
        for version in thinned(self.of(script), time.time()):
            version.path.unlink(missing_ok=True)

    def take_over(self, old: Path) -> None:
        """Brings in versions from where they were kept before: a folder for each script, beside the scripts."""
        if not old.is_dir():
            return
        for path in old.glob("*/*.rung"):
            place = self._place(path.parent.name)
            place.mkdir(parents=True, exist_ok=True)
            path.rename(place / path.name)
        with contextlib.suppress(OSError):
            for folder in [*old.iterdir(), old]:
                folder.rmdir()


def thinned(versions: list[Version], now: float) -> list[Version]:
    """The versions (oldest first) to delete: of several that are close together for their age only the first stays."""
    gone = []
    kept: float | None = None
    for version in versions[:-_NEWEST]:
        age = now - version.moment
        step = next(step for limit, step in _STEPS if age <= limit)
        if kept is not None and version.moment - kept < step:
            gone.append(version)
        else:
            kept = version.moment
    return gone
