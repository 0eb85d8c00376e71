"""Prices adjusted for dividends and splits: by which factor the real prices of each day are multiplied.

A library keeps real prices. What scripts see are adjusted ones, so that a dividend or a split is no fall; what is traded is
traded at real ones.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from hashlib import blake2b

import msgspec
import numpy as np

#: The smallest and the largest factor that makes sense, and the most steps of one symbol.
LEAST, MOST, MOST_STEPS = 1e-9, 1e9, 5000
#: More steps than one in so many rows are no dividends and splits.
_ROWS_A_STEP = 4
#: Adjusted prices are written with at most so many decimals; longer floats count as if they were written so.
_MOST_DECIMALS = 10
#: The share of a step by which a value may be off one, for the last digits of its arithmetic.
_NEAR = 1e-6


@dataclass(frozen=True, slots=True)
class Adjustments:
    """The factors of a symbol. ``days`` (exchange days since 1970, rising) are the first ones on which each of ``factors`` holds;
    the first factor holds before its day too. ``until`` is the last day of the file that the last of them came from."""

    days: tuple[int, ...]
    factors: tuple[float, ...]
    until: int

    @property
    def is_sound(self) -> bool:
        """Whether the numbers make sense."""
        days, factors = np.array(self.days), np.array(self.factors)
        return bool(
            0 < len(days) == len(factors) <= MOST_STEPS
            and (np.diff(days) > 0).all()
            and ((factors >= LEAST) & (factors <= MOST)).all()
        )

    @property
    def is_plain(self) -> bool:
        """Whether all prices are real ones."""
        return all(f == 1 for f in self.factors)

    @property
    def steps(self) -> int:
        """How many dividends and splits there are."""
        return len(self.days) - 1

    @property
    def number(self) -> int:
        """A whole number below 2**62 by which they differ from others."""
        return int.from_bytes(blake2b(msgspec.json.encode(self), digest_size=8).digest()) >> 2

    def on_days(self, days: np.ndarray) -> np.ndarray:
        """The factor on some days in order. Int64, shape (days,); float64 of that shape."""
        begins = np.searchsorted(days, np.array(self.days[1:], dtype=np.int64))
        counts = np.diff(np.concatenate([[0], begins, [len(days)]]))
        return np.repeat(np.array(self.factors), counts)

    def after(self, known: Adjustments | None, last: int | None) -> Adjustments:
        """These of a newer file beside the known ones, whose bars reach to the day ``last``.

        Where the newer file speaks it counts. What lies before it is brought in line with its first day; where known bars
        follow behind it, it is brought in line with those.
        """
        if known is None:
            return self
        first, scale = self.days[0], 1.0
        behind = last is not None and last > self.until
        if behind:
            scale = _one(known, self.until) / _one(self, self.until)
        before = scale * _one(self, first) / _one(known, first)
        made = {d: f * before for d, f in zip(known.days, known.factors, strict=True) if d < first}
        if not made and known.factors[0] * before != self.factors[0] * scale:
            made[first - 1] = known.factors[0] * before
        made |= {d: f * scale for d, f in zip(self.days, self.factors, strict=True)}
        if behind:
            made |= {d: f for d, f in zip(known.days, known.factors, strict=True) if d > self.until}
        return Adjustments.of_steps(made, max(known.until, self.until) if behind else self.until)

    @classmethod
    def of_steps(cls, steps: dict[int, float], until: int) -> Adjustments:
        """Of a factor for each day on which one begins; steps that change nothing are left out."""
        days: list[int] = []
        factors: list[float] = []
        for day in sorted(steps):
            factor = 1.0 if abs(steps[day] - 1) < 1e-12 else steps[day]
            if not factors or abs(factor / factors[-1] - 1) > 1e-12:
                days.append(day)
                factors.append(factor)
        return cls(tuple(days), tuple(factors), until)


def _one(of: Adjustments, day: int) -> float:
    return float(of.on_days(np.array([day]))[0])


def found_in(days: np.ndarray, close: np.ndarray, adjusted: np.ndarray) -> Adjustments | None:
    """The factors that lead from closes to adjusted closes of some days in order; None where there are none.

    Both are rounded as they are written, so their ratio changes on every day. It is taken for one factor as long as one
    number explains all of them, from the last day backwards: the fewest steps that there can be. Days: int64, prices: float64,
    each of shape (rows,). Raises `ValueError` where it changes too often to come from dividends and splits.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        good = (close > 0) & (adjusted > 0) & np.isfinite(close) & np.isfinite(adjusted)
        ratio = adjusted / close
        good &= (ratio >= LEAST) & (ratio <= MOST)
    if not good.any():
        return None
    days, close, adjusted = days[good], close[good], adjusted[good]
    # A little more than half a step: the number may have been rounded from one that was rounded before.
    slack = 0.55 * _step_of(adjusted) + 1e-9 * adjusted
    most = min(max(len(days) // _ROWS_A_STEP, 1), MOST_STEPS - 1)
    made = _steps(days, (adjusted - slack) / close, (adjusted + slack) / close)
    if len(made) - 1 > most:  # made of closes that were rounded later
        half = np.minimum(0.55 * _step_of(close), 0.5 * close)
        made = _steps(days, (adjusted - slack) / (close + half), (adjusted + slack) / (close - half))
    if len(made) - 1 > most:
        raise ValueError
    found = Adjustments.of_steps(made, int(days[-1]))
    return found if found.is_sound else None


def _steps(days: np.ndarray, low: np.ndarray, high: np.ndarray) -> dict[int, float]:
    """The fewest factors that lie between two bounds on every row, from the last one backwards, by the first day of each."""
    made: dict[int, float] = {}
    lows, highs = low.tolist(), high.tolist()
    below, above = lows[-1], highs[-1]
    for k in range(len(lows) - 2, -2, -1):
        if k >= 0 and max(below, lows[k]) <= min(above, highs[k]):
            below, above = max(below, lows[k]), min(above, highs[k])
            continue
        made[int(days[k + 1])] = _between(below, above)
        if k >= 0:
            below, above = lows[k], highs[k]
    return made


def _between(low: float, high: float) -> float:
    """A number between two: a plain one, as splits have, or else their middle."""
    middle = (low + high) / 2
    plain = [p for p in (round(middle), round(middle, 1), round(middle, 2)) if low <= p <= high and p]
    return float(plain[0]) if plain else middle


def _step_of(prices: np.ndarray) -> float:
    """The smallest step that prices are written with, a power of ten."""
    for decimals in range(_MOST_DECIMALS):
        scaled = prices * 10.0**decimals
        if (np.abs(scaled - np.round(scaled)) < 1e-6 * np.maximum(1.0, scaled * 1e-7)).all():
            return 10.0**-decimals
    return 10.0**-_MOST_DECIMALS


def adjustments_text(adjustments: Adjustments | None) -> str:
    """Adjustments as they are written down: JSON, or nothing."""
    return "" if adjustments is None else msgspec.json.encode(adjustments).decode()


def adjustments_of_text(text: object) -> Adjustments | None:
    """Adjustments from what was written down; None where that makes no sense."""
    try:
        made = msgspec.json.decode(text, type=Adjustments) if isinstance(text, str) and text else None
    except (msgspec.MsgspecError, RecursionError):
        return None
    return made if made is not None and made.is_sound else None


def adjusted_words(adjustments: Adjustments | None) -> list[str]:
    """What a symbol's facts say of adjusted prices, in a few words; nothing of real ones."""
    if adjustments is None:
        return []
    count = (
        f"{adjustments.steps:,} dividend or split"
        if adjustments.steps == 1
        else f"{adjustments.steps:,} dividends and splits"
    )
    return [f"adjusted for {count}"]


def any_of(each: Sequence[Adjustments | None]) -> tuple[Adjustments | None, ...] | None:
    """Those of several symbols; None where no symbol has any."""
    return tuple(each) if any(a is not None for a in each) else None


def on_steps(values: np.ndarray, step: np.ndarray | float) -> np.ndarray:
    """Values without the last digits of arithmetic: a whole number of steps where they are all but one, else as they are.
    Shape (values,), float64; so is the result."""
    per_one = np.round(1 / np.asarray(step, dtype=np.float64))
    whole = (per_one > 0) & (np.abs(per_one * step - 1) < 1e-9)  # a whole number of steps make 1, which is exact
    by, over = np.where(whole, per_one, 1.0), np.where(whole, 1.0, step)
    counted = values * by / over
    nearest = np.round(counted)
    with np.errstate(invalid="ignore"):
        return np.where(np.abs(counted - nearest) <= _NEAR, nearest * over / by, values)
