"""Texts and colours: shells over numbers and flags, read out after a run, bar by bar or all at once."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np

from .colours import mix, mixture
from .plan import Op

NONE_TEXT = "–"


def write_number(value: float, form: str = "") -> str:
    """A number as a template form says: ``.2`` two decimals, ``+.2`` with its sign, ``.1%`` as percent."""
    if value is None or value != value:
        return NONE_TEXT
    percent = form.endswith("%")
    sign = "+" if form.startswith("+") else ""
    decimals = form.strip("+%")
    scaled = value * 100.0 if percent else value
    if decimals:
        text = f"{scaled:{sign},{decimals}f}"
    else:
        text = f"{scaled:{sign},.6g}" if abs(scaled) < 1e6 else f"{scaled:{sign},.0f}"
    return text + ("%" if percent else "")


def write_value(value: object, form: str = "") -> str:
    """Any value as text."""
    if value is None:
        return NONE_TEXT
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return write_number(float(value), form)
    return str(value)


def write_text(op: Op, args: list[object]) -> str:
    """A text template with its values filled in."""
    pieces = [p if isinstance(p, str) else write_value(args[p[0]], p[1]) for p in op.attr]  # type: ignore[attr-defined]
    return "".join(pieces)


def read_at(op: Op, leaf: Callable[[Op], object], fixed: Mapping[Op, object]) -> object:
    """The value of a shell (or plain value) on one bar; ``leaf`` reads numbers and flags there."""
    if op in fixed:
        return fixed[op]
    if not op.is_shell or op.code == "symbol":
        return leaf(op)
    if op.code == "choose":
        test = read_at(op.args[0], leaf, fixed)
        return read_at(op.args[1] if test is True else op.args[2], leaf, fixed)
    args = [read_at(a, leaf, fixed) for a in op.args]
    if op.code == "text":
        return write_text(op, args)
    if op.code in ("fade", "blend"):
        return mixture(op.code, args)
    if op.code == "otherwise":
        return args[0] if args[0] is not None else args[1]
    raise AssertionError(op)


def read_colours(
    op: Op, leaf: Callable[[Op], np.ndarray], fixed: Mapping[Op, object], paint: Callable[[str], int], size: int
) -> np.ndarray:
    """A colour on every bar as packed 0xAARRGGBB, shape (size,), uint32; ``paint`` resolves a colour word."""
    if op in fixed:
        return np.full(size, paint(str(fixed[op])), dtype=np.uint32)
    if op.code == "choose":
        flags = leaf(op.args[0]) == 1 if op.args[0] not in fixed else np.full(size, fixed[op.args[0]] is True)
        yes = read_colours(op.args[1], leaf, fixed, paint, size)
        no = read_colours(op.args[2], leaf, fixed, paint, size)
        return np.where(flags, yes, no)
    if op.code in ("fade", "blend"):
        *parts, amount = op.args
        share = np.full(size, fixed[amount], dtype=np.float64) if amount in fixed else leaf(amount)
        return mix(op.code, [read_colours(p, leaf, fixed, paint, size) for p in parts], share)
    if op.code == "otherwise":  # a colour is never none
        return read_colours(op.args[0], leaf, fixed, paint, size)
    raise AssertionError(op)
