"""Sizes and times by which the program chooses how to work. They change how fast it is, and never what comes out.

One place for all of them: a measurement or a test tries others with `tuned`.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass


@dataclass(slots=True)
class Tuning:
    """The values in use."""

    # --- stored bars ----------------------------------------------------------------------------------
    #: Seconds for which a file must have stood still before anything is derived from it: where a disk keeps coarse times,
    #: one more change could look the same as the last.
    settled_seconds: float = 3.0
    #: Symbols with more bars than this stay in their own files: with so much to read, opening one costs nothing.
    packed_bars: int = 20_000
    #: So few symbols are read from their files as quickly as from a pack.
    packed_symbols: int = 100
    #: Bytes of bars that stay in memory.
    bar_cache_bytes: int = 400_000_000

    # --- runs -----------------------------------------------------------------------------------------
    #: From this many bars on, it pays to wait for the thoroughly compiled code.
    thorough_bars: int = 1_000_000
    #: About this many bars are run at a time: enough to be worth it, few enough to cancel soon.
    chunk_bars: int = 200_000
    #: And no more bars than cost this many operations.
    chunk_operations: int = 20_000_000
    #: Programs whose machine code stays loaded.
    loaded_machines: int = 256
    #: Bars of a market that one part of a visit covers.
    part_bars: int = 1_200_000
    #: Bars that go through both passes of a trial together: what the first computed is still at hand for the second.
    two_pass_bars: int = 600_000

    # --- what is searched first ----------------------------------------------------------------------
    #: Last bars that a scan searches first; most matches are found within them.
    scan_bars: int = 32
    #: Last bars in which a column searches for a signal's last occurrence, before all others.
    column_bars: int = 128
    #: Bars of zones that are gone through together.
    zone_bars: int = 1_000_000

    # --- trials ---------------------------------------------------------------------------------------
    #: With each variant as many more exits may be cached as one in so many bars; more would take longer than it saves.
    exits_one_in: int = 40
    #: Seconds of work for which a sweep begins threads, those for which it asks other processes, and those in a batch.
    threads_seconds: float = 0.1
    processes_seconds: float = 4.0
    batch_seconds: float = 0.1

    # --- the window -----------------------------------------------------------------------------------
    #: How often other jobs are put off while a trial runs: the trial in sight comes first, and keeps nothing from coming.
    put_off_most: int = 10


#: Read wherever a choice is made.
TUNING = Tuning()


@contextlib.contextmanager
def tuned(**values: float) -> Iterator[None]:
    """Other values while it lasts, in the whole process. Raises `AttributeError` for an unknown name."""
    before = {name: getattr(TUNING, name) for name in values}
    try:
        for name, value in values.items():
            setattr(TUNING, name, value)
        yield
    finally:
        for name, value in before.items():
            setattr(TUNING, name, value)
