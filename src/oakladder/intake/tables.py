"""Parquet and Arrow files, read by a separate process.

A damaged file of these kinds can ask for any amount of memory, take for ever, or take the reader down: that process is
bounded, can be ended at any time, and is begun again when it is gone. What it gives is plain and checked.
"""

from __future__ import annotations

import json
import os
import selectors
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from oakladder.bars.errors import DataProblem
from oakladder.work import ChildProcess

#: Seconds in which a file must be read, and seconds more for each million bytes of it.
_SECONDS, _SECONDS_PER_MB = 20.0, 0.5
#: Seconds between two looks whether reading shall stop.
_PAUSE = 0.05
Stop = Callable[[], bool]


def table_names(path: Path, cancelled: Stop | None = None) -> list[str]:
    """The names of a table's columns. Raises `DataProblem`."""
    head, _ = _READER.ask({"path": str(path), "columns": None}, path, cancelled)
    return [str(name) for name in head["names"]]


def table_columns(path: Path, places: Sequence[int], cancelled: Stop | None = None) -> dict[int, pa.Array]:
    """Some columns of a table by their places: texts, float64, whole numbers, timestamps in seconds.

    Raises `DataProblem`, also where it was stopped.
    """
    _, raw = _READER.ask({"path": str(path), "columns": list(places)}, path, cancelled)
    if not raw:
        return {place: pa.array([], pa.string()) for place in places}
    table = pa.ipc.open_stream(pa.BufferReader(raw)).read_all()
    return {place: table.column(k).combine_chunks() for k, place in enumerate(places)}


class _Reader:
    """The process that reads, begun when it is first needed. One file at a time."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._child: ChildProcess | None = None

    def ask(self, request: dict[str, Any], path: Path, cancelled: Stop | None) -> tuple[dict[str, Any], bytes]:
        """Has a file read. Raises `DataProblem` with what was wrong."""
        try:
            size = path.stat().st_size
        except OSError:
            raise DataProblem(f"There is no file {path}.") from None
        end = time.monotonic() + _SECONDS + _SECONDS_PER_MB * size / 1e6
        with self._lock:
            process = self._running()
            assert process.stdin is not None and process.stdout is not None
            try:
                process.stdin.write(json.dumps(request).encode() + b"\n")
                process.stdin.flush()
                length, more = struct.unpack("<qq", self._read(process, 16, end, cancelled))
                head = json.loads(self._read(process, length, end, cancelled))
                raw = self._read(process, more, end, cancelled)
            except (_Ended, BrokenPipeError, struct.error, ValueError):
                self._stop()
                raise DataProblem(f"{path.name} is damaged: reading it broke down.") from None
            except _TooLong:
                self._stop()
                raise DataProblem(f"{path.name} could not be read in time; it may be damaged.") from None
            except BaseException:
                self._stop()
                raise
        if "trouble" in head:
            raise DataProblem(f"{path.name} {head['trouble']}")
        return head, raw

    def _running(self) -> subprocess.Popen[bytes]:
        if self._child is None or not self._child.is_alive:
            self._stop()
            self._child = ChildProcess("table reader", [sys.executable, "-m", "oakladder.intake.table_worker"])
        return self._child.process

    @staticmethod
    def _read(process: subprocess.Popen[bytes], count: int, end: float, cancelled: Stop | None) -> bytes:
        """So many bytes of what the process writes."""
        assert process.stdout is not None
        made = bytearray()
        with selectors.DefaultSelector() as selector:
            selector.register(process.stdout, selectors.EVENT_READ)
            while len(made) < count:
                if cancelled is not None and cancelled():
                    raise DataProblem("Reading was stopped.")
                if time.monotonic() > end:
                    raise _TooLong
                if selector.select(_PAUSE):
                    some = os.read(process.stdout.fileno(), min(count - len(made), 1 << 20))
                    if not some:
                        raise _Ended
                    made += some
        return bytes(made)

    def _stop(self) -> None:
        child, self._child = self._child, None
        if child is not None:
            child.end()


class _Ended(Exception):
    """The process is gone."""


class _TooLong(Exception):
    """The process takes too long."""


_READER = _Reader()
