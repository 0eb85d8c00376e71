"""A picture as plain data, for `./oak eval` and for tests."""

from __future__ import annotations

from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np

from oakladder.engine.picture.parts import Picture
from oakladder.rung.colours import resolve
from oakladder.rung.values import PALETTE


def day_paint(word: str) -> int:
    """A colour word or #rrggbb as 0xAARRGGBB, in the colours of the day."""
    return resolve(word, lambda plain: 0xFF000000 | int(PALETTE.get(plain, plain)[1:7], 16))


def as_plain(picture: Picture, last_bar: int) -> dict[str, Any]:
    """A picture as plain lists and words, for JSON: none is null, colours are #aarrggbb or null where not drawn."""
    made: dict[str, Any] = {}
    for slot in fields(picture):
        value = getattr(picture, slot.name)
        if slot.name == "notes":
            made["notes"] = [{"corner": n.corner, "text": n.text_at(last_bar)} for n in value]
        else:
            made[slot.name] = _plain(value, slot.name)
    return made


def _plain(value: Any, name: str) -> Any:
    if is_dataclass(value):
        return {slot.name: _plain(getattr(value, slot.name), slot.name) for slot in fields(value)}
    if "colour" in name and isinstance(value, np.ndarray | int):
        return [_word(v) for v in value.tolist()] if isinstance(value, np.ndarray) else _word(value)
    if isinstance(value, np.ndarray):
        return [None if v != v else v for v in value.tolist()]
    if isinstance(value, tuple | list):
        return [_plain(v, name) for v in value]
    return value


def _word(argb: int) -> str | None:
    return f"#{argb:08x}" if argb else None
