"""Values as words: numbers in texts, texts made of values, and mixtures of colours that no theme has resolved yet."""

from __future__ import annotations

from collections.abc import Sequence

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


#: The form of a time of day, which no script writes: it follows from the kind of the value.
CLOCK = "clock"


def write_clock(minutes: float) -> str:
    """Minutes since midnight as a time of day."""
    whole = round(minutes) % 1440
    return f"{whole // 60:02}:{whole % 60:02}"


def write_value(value: object, form: str = "") -> str:
    """Any value as text."""
    if value is None or value != value:
        return NONE_TEXT
    if form == CLOCK and isinstance(value, int | float):
        return write_clock(value)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return write_number(float(value), form)
    return str(value)


def count_words(count: int, what: str) -> str:
    """How many there are of something: "1 bar", "3 bars", "2 entries"."""
    if count == 1:
        return f"1 {what}"
    if what.endswith("y") and what[-2:-1] not in "aeou":
        return f"{count:,} {what[:-1]}ies"
    return f"{count:,} {what}{'es' if what.endswith(('s', 'ch', 'x')) else 's'}"


def agree(count: int, one: str, many: str) -> str:
    """The form of a word that agrees with a number."""
    return one if count == 1 else many


#: A text is cut here: texts made of texts could grow without end.
MOST_LETTERS = 2000


def write_text(template: Sequence[str | tuple[int, str]], args: Sequence[object]) -> str:
    """A text template with its values filled in."""
    pieces = [p if isinstance(p, str) else write_value(args[p[0]], p[1]) for p in template]
    made = "".join(pieces)
    return made if len(made) <= MOST_LETTERS else made[: MOST_LETTERS - 1] + "…"


def is_none(value: object) -> bool:
    """Whether a value that was read out is none."""
    return value is None or value != value


def mixture(code: str, args: list[object]) -> str | None:
    """The word for a mixture of fixed parts: none where a colour is, the first colour where the amount is."""
    if any(a is None or a != a for a in args[:-1]):
        return None
    if args[-1] is None or args[-1] != args[-1]:
        return str(args[0])
    return f"{code}({', '.join(a if isinstance(a, str) else repr(float(a)) for a in args)})"  # type: ignore[arg-type]
