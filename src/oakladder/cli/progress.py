"""Progress of a command on standard error, so that it is never silent for long."""

from __future__ import annotations

import sys
import time

#: Seconds between two reports.
_PAUSE = 1.0


class Reporter:
    """Writes a line about once a second: how much is done, and about how long the rest takes."""

    def __init__(self, verb: str):
        self._verb = verb
        self._begun = self._reported = time.monotonic()

    def share(self, share: float) -> None:
        """Takes how much is done, 0 to 1."""
        self._report(share, f"{share:.0%} {self._verb}")

    def count(self, done: int, of: int, what: str) -> None:
        """Takes how many are done."""
        self._report(done / max(of, 1), f"{done:,} of {of:,} {what} {self._verb}")

    def _report(self, share: float, words: str) -> None:
        now = time.monotonic()
        if now - self._reported < _PAUSE or share >= 1:
            return
        self._reported = now
        left = (now - self._begun) * (1 - share) / share if share > 0 else 0.0
        print(f"{words}, about {_left(left)} left", file=sys.stderr, flush=True)


def _left(seconds: float) -> str:
    return f"{seconds / 60:.0f} minutes" if seconds >= 120 else f"{max(seconds, 1):.0f} s"
