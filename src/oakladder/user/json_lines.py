"""Files of JSON lines that are only ever added to, by several programs at once. A damaged line costs itself alone."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from oakladder.locks import locked

T = TypeVar("T")


def append_lines(path: Path, entries: Sequence[object]) -> None:
    """Adds a line for each entry. Raises `OSError`; then none is added."""
    path.parent.mkdir(parents=True, exist_ok=True)
    lines = b"".join(msgspec.json.encode(e) + b"\n" for e in entries)
    with locked(path.with_name(".lock")), path.open("ab+") as file:
        end = file.seek(0, os.SEEK_END)
        if end:
            file.seek(end - 1)
            if file.read(1) != b"\n":  # a program that was killed has left half a line
                lines = b"\n" + lines
        try:
            file.write(lines)
            file.flush()
            os.fsync(file.fileno())
        except OSError:
            with contextlib.suppress(OSError):
                file.truncate(end)
            raise


def read_lines(raw: bytes, kinds: Any) -> tuple[list[Any], int]:
    """The entries of a file, each of one of some kinds, and how many lines are none."""
    made: list[Any] = []
    damaged = 0
    decoder = msgspec.json.Decoder(kinds)
    for line in raw.split(b"\n"):
        if not line.strip():
            continue
        try:
            made.append(decoder.decode(line))
        except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
            damaged += 1
    return made, damaged
