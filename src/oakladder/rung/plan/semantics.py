"""What every plain operation means, in plain Python. The native code must give the same bits."""

from __future__ import annotations

import math
from collections.abc import Callable

from oakladder.rung.plan.ops import DIVISOR_EXPONENT, NEAR_TICK, TAME_LIMIT

_NAN = float("nan")
Flag = bool | None


def _div(a: float, b: float) -> float:
    if b == 0:
        return _NAN if a == 0 or a != a else math.copysign(math.inf, a) * math.copysign(1.0, b)
    return a / b


def _mod(a: float, b: float) -> float:
    if b == 0 or a != a or b != b:
        return _NAN
    r = math.fmod(a, b)
    return r + b if r != 0 and (r < 0) != (b < 0) else r


def _pow(a: float, b: float) -> float:
    try:
        return math.pow(a, b)
    except (ValueError, OverflowError):
        return _NAN


def _exp(a: float) -> float:
    try:
        return math.exp(a)
    except OverflowError:
        return math.inf


def _max(a: float, b: float) -> float:
    return a if a != a or a > b else b


def _min(a: float, b: float) -> float:
    return a if a != a or a < b else b


def _whole(how: Callable[[float], float]) -> Callable[[float], float]:
    def apply(a: float) -> float:
        return a if a != a or math.isinf(a) else math.copysign(float(how(a)), a)

    return apply


def _compare(how: Callable[[float, float], bool]) -> Callable[[float, float], Flag]:
    return lambda a, b: None if a != a or b != b else how(a, b)


def _and(a: Flag, b: Flag) -> Flag:
    if a is False or b is False:
        return False
    return None if a is None or b is None else True


def _or(a: Flag, b: Flag) -> Flag:
    if a is True or b is True:
        return True
    return None if a is None or b is None else False


def _on_tick(how: Callable[[float], float]) -> Callable[[float, float, float], float]:
    """A price at a whole number of steps: the nearest one if it is all but there, else the one below or above. Where the
    number of steps that make 1 is whole it counts, since it is exact and the size of a step is not."""
    whole, floor = _whole(how), _whole(math.floor)

    def apply(price: float, count: float, size: float) -> float:
        by, over = (count, 1.0) if count == count else (1.0, size)
        steps = _div(price * by, over)
        nearest = floor(steps + 0.5)
        taken = nearest if abs(steps - nearest) <= NEAR_TICK else whole(steps)
        return _div(taken * over, by)

    return apply


def _known(a: object) -> bool:
    return a is not None and a == a


#: What each plain operation means. Numbers are floats with NaN for none, flags True, False or None.
MEANING: dict[str, Callable[..., object]] = {
    "add": lambda a, b: a + b,
    "sub": lambda a, b: a - b,
    "mul": lambda a, b: a * b,
    "div": _div,
    "mod": _mod,
    "pow": _pow,
    "neg": lambda a: -a,
    "abs": abs,
    "min": _min,
    "max": _max,
    "floor": _whole(math.floor),
    "ceil": _whole(math.ceil),
    "tick_down": _on_tick(math.floor),
    "tick_up": _on_tick(math.ceil),
    "sqrt": lambda a: math.sqrt(a) if a >= 0 else _NAN,
    "log": lambda a: math.log(a) if a > 0 else _NAN,
    "exp": _exp,
    "guard": lambda a: a if abs(a) < TAME_LIMIT else _NAN,
    "divisor": lambda a: a if abs(a) >= 2.0**-DIVISOR_EXPONENT else _NAN,
    "lt": _compare(lambda a, b: a < b),
    "le": _compare(lambda a, b: a <= b),
    "gt": _compare(lambda a, b: a > b),
    "ge": _compare(lambda a, b: a >= b),
    "eq": _compare(lambda a, b: a == b),
    "ne": _compare(lambda a, b: a != b),
    "and": _and,
    "or": _or,
    "not": lambda a: None if a is None else not a,
    "known": _known,
    "choose": lambda c, a, b: a if c is True else b,
    "otherwise": lambda a, b: a if _known(a) else b,
    "to_number": lambda a: _NAN if a is None else float(a),
    "to_flag": lambda a: None if a != a else True if a == 1 else False if a == 0 else None,
}
