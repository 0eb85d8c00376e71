"""Settings over ranges: all combinations of several, or some of them drawn at random."""

from __future__ import annotations

import itertools
import math
import random
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from oakladder.rung.problems import RunProblem
from oakladder.rung.settings import number_of

#: More than so many variants are not gone through at once.
MOST_VARIANTS = 100_000
#: A value of a setting: a number, or a word where it chooses among some.
Point = float | str
#: Numbers to a computer, but none to a setting.
_NO_VALUES = frozenset(["inf", "infinity", "nan"])


@dataclass(frozen=True, slots=True)
class Range:
    """A setting and the values that it is to take, in their order."""

    name: str
    values: tuple[Point, ...]

    @classmethod
    def parse(cls, text: str) -> Range:
        """``n=5..60/5`` (from, to, step, 1 unless said) or ``n=5,8,13``. Raises `RunProblem` with a sentence."""
        name, equals, span = text.partition("=")
        if not (equals and name.strip() and (".." in span or "," in span)):
            raise _no_range(text)
        if ".." not in span:
            return cls(name.strip(), tuple(dict.fromkeys(map(_point, span.split(",")))))
        first, _, rest = span.partition("..")
        last, slash, step = rest.partition("/")
        try:
            low, high, by = number_of(first), number_of(last), number_of(step) if slash else 1.0
        except ValueError:
            raise _no_range(text) from None
        if not (by > 0 and high >= low and math.isfinite(high - low)):
            raise RunProblem(f"The range `{text}` must rise, by a step above 0.")
        count = int((high - low) / by + 1e-9) + 1
        if count > MOST_VARIANTS:
            raise RunProblem(f"The range `{text}` has {count:,} values; {MOST_VARIANTS:,} are allowed.")
        return cls(name.strip(), tuple(float(f"{low + by * k:.12g}") for k in range(count)))

    def words(self) -> str:
        """As it is written."""
        return f"{self.name}={','.join(map(point_words, self.values))}"


def _no_range(text: str) -> RunProblem:
    return RunProblem(f"A range is written n=5..60/5 (from, to, step) or n=5,8,13, and `{text}` is none.")


def _point(text: str) -> Point:
    text = text.strip()
    try:
        value = number_of(text)
    except ValueError:
        if not text:
            raise RunProblem("A value of a range is empty. Write them as n=5,8,13.") from None
        if text.lstrip("+-").lower() in _NO_VALUES:
            raise RunProblem(f"{text} is no value that a setting can take.") from None
        return text
    return value


def point_words(value: object) -> str:
    """A value of a setting as it is read."""
    return f"{value:.12g}" if isinstance(value, float) else str(value)


def settings_words(settings: Mapping[str, object]) -> str:
    """Some settings in a few words."""
    return ", ".join(f"{name} {point_words(value)}" for name, value in settings.items())


def _check(ranges: Sequence[Range]) -> None:
    names = [r.name for r in ranges]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise RunProblem(f"`{twice}` is given two ranges. Write all its values as one, as in {twice}=5..20/5.")


def grid_of_settings(ranges: Sequence[Range]) -> list[dict[str, object]]:
    """Every combination of some ranges, the last changing fastest. Raises `RunProblem` where they are too many."""
    _check(ranges)
    count = math.prod(len(r.values) for r in ranges)
    if count > MOST_VARIANTS:
        raise RunProblem(f"That makes {count:,} variants; {MOST_VARIANTS:,} are allowed. Draw some of them at random.")
    names = [r.name for r in ranges]
    return [dict(zip(names, values, strict=True)) for values in itertools.product(*(r.values for r in ranges))]


def drawn_settings(ranges: Sequence[Range], count: int, seed: int = 1) -> list[dict[str, object]]:
    """So many different combinations drawn at random, or all where there are no more, in the order of the grid."""
    _check(ranges)
    every = math.prod(len(r.values) for r in ranges)
    if count > MOST_VARIANTS:
        raise RunProblem(f"{count:,} variants are asked for; {MOST_VARIANTS:,} are allowed.")
    if count >= every:
        return grid_of_settings(ranges)
    made: list[dict[str, object]] = []
    for number in sorted(random.Random(seed).sample(range(every), count)):
        values: list[Point] = []
        for one in reversed(ranges):
            number, at = divmod(number, len(one.values))
            values.append(one.values[at])
        made.append(dict(zip([r.name for r in ranges], reversed(values), strict=True)))
    return made
