"""Standard output and standard error of a command: always open, able to write any text, and safe for a terminal."""

from __future__ import annotations

import io
import json
import math
import os
import re
import sys
from typing import IO, TYPE_CHECKING, Any

if TYPE_CHECKING:  # loaded for the first table
    from rich.console import Console

#: Signs that move a terminal's cursor, change its state, or reorder and hide what stands around them.
_UNSAFE = re.compile(
    "\r(?!\n)|[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u200b-\u200f\u202a-\u202e\u2060-\u2064\u2066-\u2069\ufeff]"
)


def visible(text: str) -> str:
    """A text with control characters, zero-width signs and direction marks written as escapes, as in ``\\x1b``."""
    return _UNSAFE.sub(lambda found: _escaped(found.group()), text)


def json_words(value: object, indent: int | None = None) -> str:
    """Plain data as JSON that every reader takes: a number that is not finite is null."""
    return json.dumps(_finite(value), indent=indent, allow_nan=False)


def _finite(value: object) -> object:
    match value:
        case float():
            return value if math.isfinite(value) else None
        case dict():
            return {key: _finite(inner) for key, inner in value.items()}
        case list() | tuple():
            return [_finite(inner) for inner in value]
    return value


def _escaped(sign: str) -> str:
    return f"\\x{ord(sign):02x}" if ord(sign) < 0x100 else f"\\u{ord(sign):04x}"


class VisibleText(io.TextIOWrapper):
    """A text stream that writes `visible` texts."""

    def write(self, text: str, /) -> int:
        super().write(visible(text))
        return len(text)

    def write_styled(self, text: str) -> int:
        """Writes a text as it is: one that has been made visible and styled."""
        return super().write(text)


class _Styled:
    """A `VisibleText` as a file for styled texts."""

    def __init__(self, stream: VisibleText):
        self._stream = stream

    def write(self, text: str) -> int:
        return self._stream.write_styled(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def console(to: IO[str] | None = None) -> Console:
    """A console for tables, on standard output unless another stream is given. Cells must be `visible`."""
    from rich.console import Console

    class PlainOutput(Console):
        def on_broken_pipe(self) -> None:
            raise BrokenPipeError  # the program's entry decides the exit code, as for any other output

    stream: Any = to or sys.stdout
    styled: Any = _Styled(stream) if isinstance(stream, VisibleText) else stream
    return PlainOutput(file=styled, markup=False, highlight=False)


def set_up() -> None:
    """Opens standard streams that the caller has closed, and makes output safe: no text is refused by its encoding."""
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)  # the lowest free number: a file of the user's must not get it
    sys.stdin = sys.stdin or open(os.devnull)  # noqa: SIM115
    sys.stdout = _made_visible(sys.stdout, 1)
    sys.stderr = _made_visible(sys.stderr, 2)


def _made_visible(stream: Any, number: int) -> VisibleText:
    if isinstance(stream, VisibleText):
        return stream
    encoding, by_line = "utf-8", True
    if stream is not None:
        encoding, by_line = stream.encoding, stream.line_buffering
    raw: Any = stream.detach() if stream is not None else os.fdopen(number, "wb", closefd=False)
    return VisibleText(raw, encoding=encoding, errors="backslashreplace", line_buffering=by_line)


def discard_output() -> None:
    """Discards what is still to be written to standard output: it can take no more."""
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)
    os.close(nowhere)
