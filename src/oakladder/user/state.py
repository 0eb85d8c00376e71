"""The remembered state: typed, each part read separately, so that one odd value spoils no other."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import asdict, dataclass, field, fields
from pathlib import Path
from typing import Any, get_type_hints

import msgspec

from oakladder.disk import copy_aside, read_regular, why, write_atomic
from oakladder.user.entries import json_of
from oakladder.user.salvage import objects_in

_VERSION = 1
_MOST_BYTES = 16_000_000
#: What parts were called in the first files.
_FORMERLY = {"list": "list_name"}
#: What a script's setting can be set to.
Setting = bool | int | float | str
Plain = dict[str, Any]


@dataclass(slots=True)
class DeskState:
    """Where the user was, and how the screens stood. The parts that places read themselves are kept as they wrote them."""

    symbol: str = ""
    timeframe: str = "1d"
    theme: str = ""
    #: The open script's file name, and what its settings are set to.
    script: str = ""
    settings: dict[str, Setting] = field(default_factory=dict)
    chart: Plain = field(default_factory=dict)
    panes: Plain = field(default_factory=dict)
    beside: list[Plain] = field(default_factory=list)
    list_name: str = ""
    watched: list[Plain] = field(default_factory=list)
    ladder: Plain = field(default_factory=dict)
    scan: Plain = field(default_factory=dict)
    trial: Plain = field(default_factory=dict)
    steps: Plain = field(default_factory=dict)
    companions: Plain = field(default_factory=dict)


_HINTS = get_type_hints(DeskState)


def read_state(path: Path, tell: Callable[[str], None]) -> DeskState:
    """The state from last time; damaged parts are as at the first start, with a message and a copy of the file."""
    try:
        raw = read_regular(path, _MOST_BYTES)
    except FileNotFoundError:
        return DeskState()
    except OSError as error:
        tell(f"The remembered places cannot be read: {why(error)}.")
        return DeskState()
    found, whole = _decoded(raw)
    if _is_newer(found):
        tell(f"{path.name} is of a newer version of the program, so what is open now is not remembered by this one.")
    found = {_FORMERLY.get(word, word): value for word, value in found.items()}
    made = DeskState()
    for part in fields(DeskState):
        if part.name in found:
            try:
                setattr(made, part.name, msgspec.convert(found[part.name], _HINTS[part.name]))
            except (msgspec.ValidationError, RecursionError):
                whole = False
    if not whole:
        try:
            kept = f"; the file as it was is kept as {copy_aside(path).name}"
        except OSError:
            kept = ""
        tell(f"{path.name} was damaged, so not everything is as you left it{kept}.")
    return made


def _decoded(raw: bytes) -> tuple[Plain, bool]:
    try:
        found = msgspec.json.decode(raw)
        return (found, True) if isinstance(found, dict) else ({}, False)
    except (msgspec.MsgspecError, ValueError, RecursionError):
        text = raw.decode("utf-8", "replace")
        first = next((x for x in objects_in(text) if isinstance(x, dict) and "symbol" in x), None)
        return (first if isinstance(first, dict) else {}), False


def _is_newer(found: Plain) -> bool:
    """Whether a newer version of the program has written a state: this one would lose what it does not know of."""
    version = found.get("version")
    return isinstance(version, int) and version > _VERSION


def write_state(path: Path, state: DeskState) -> None:
    """Writes the state, whole or not at all; one of a newer version of the program is left as it is. Raises `OSError`."""
    with contextlib.suppress(OSError):
        if _is_newer(_decoded(read_regular(path, _MOST_BYTES))[0]):
            return
    write_atomic(path, json_of({"version": _VERSION, **asdict(state)}), durable=False)
