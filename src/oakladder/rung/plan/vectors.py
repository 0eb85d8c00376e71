"""What the plain operations mean over whole arrays: for what is read out after a run, many bars at a time.

Numbers are float64 with NaN for none, flags int8: 1 yes, 0 no, -1 none. The counterpart of `meaning.MEANING`.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from oakladder.rung.plan.ops import DIVISOR_EXPONENT, NEAR_TICK, TAME_LIMIT

#: An array, or a number that stands for an array of it.
Array = Any


def _compare(how: Callable[[Array, Array], Array]) -> Callable[[Array, Array], Array]:
    return lambda a, b: np.where(np.isnan(a) | np.isnan(b), -1, how(a, b)).astype(np.int8)


def _known(x: Array) -> Array:
    x = np.asarray(x)
    return ((x >= 0) if x.dtype == np.int8 else ~np.isnan(x)).astype(np.int8)


def _and(a: Array, b: Array) -> Array:
    return np.where((a == 0) | (b == 0), 0, np.where((a < 0) | (b < 0), -1, 1)).astype(np.int8)


def _or(a: Array, b: Array) -> Array:
    return np.where((a == 1) | (b == 1), 1, np.where((a < 0) | (b < 0), -1, 0)).astype(np.int8)


def _mod(a: Array, b: Array) -> Array:
    rest = np.fmod(a, np.where(b == 0, np.nan, b))
    return np.where((rest != 0) & ((rest < 0) != (b < 0)), rest + b, rest)


def _pow(a: Array, b: Array) -> Array:
    made = np.power(np.asarray(a, dtype=np.float64), b)
    return np.where(np.isinf(made) & np.isfinite(a) & np.isfinite(b), np.nan, made)


def _on_tick(how: Callable[[Array], Array]) -> Callable[[Array, Array, Array], Array]:
    def apply(price: Array, count: Array, size: Array) -> Array:
        known = ~np.isnan(count)
        by, over = np.where(known, count, 1.0), np.where(known, 1.0, size)
        steps = price * by / over
        nearest = np.floor(steps + 0.5)
        return np.where(np.abs(steps - nearest) <= NEAR_TICK, nearest, how(steps)) * over / by

    return apply


def _to_flag(x: Array) -> Array:
    return np.where(x == 1, 1, np.where(x == 0, 0, -1)).astype(np.int8)


VECTOR: dict[str, Callable[..., Array]] = {
    "add": lambda a, b: a + b,
    "sub": lambda a, b: a - b,
    "mul": lambda a, b: a * b,
    "div": lambda a, b: a / b,
    "mod": _mod,
    "pow": _pow,
    "neg": lambda a: -a,
    "abs": np.abs,
    "min": lambda a, b: np.where(np.isnan(a) | (a < b), a, b),
    "max": lambda a, b: np.where(np.isnan(a) | (a > b), a, b),
    "floor": np.floor,
    "ceil": np.ceil,
    "tick_down": _on_tick(np.floor),
    "tick_up": _on_tick(np.ceil),
    "sqrt": lambda a: np.sqrt(np.where(a >= 0, a, np.nan)),
    "log": lambda a: np.log(np.where(a > 0, a, np.nan)),
    "exp": np.exp,
    "guard": lambda a: np.where(np.abs(a) < TAME_LIMIT, a, np.nan),
    "divisor": lambda a: np.where(np.abs(a) >= 2.0**-DIVISOR_EXPONENT, a, np.nan),
    "lt": _compare(lambda a, b: a < b),
    "le": _compare(lambda a, b: a <= b),
    "gt": _compare(lambda a, b: a > b),
    "ge": _compare(lambda a, b: a >= b),
    "eq": _compare(lambda a, b: a == b),
    "ne": _compare(lambda a, b: a != b),
    "and": _and,
    "or": _or,
    "not": lambda a: np.where(a < 0, -1, 1 - a).astype(np.int8),
    "known": _known,
    "choose": lambda c, a, b: np.where(c == 1, a, b),
    "otherwise": lambda a, b: np.where(_known(a) == 1, a, b),
    "to_number": lambda a: np.where(a < 0, np.nan, a).astype(np.float64),
    "to_flag": _to_flag,
}
