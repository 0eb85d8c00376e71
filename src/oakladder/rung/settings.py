"""The settings of a script: what can be set, and whether a given value fits."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

from oakladder.rung import tree as t
from oakladder.rung.problems import RunProblem, Span, did_you_mean
from oakladder.rung.values import PALETTE, TIMEFRAMES, is_timeframe


@dataclass(frozen=True, slots=True)
class SettingInfo:
    """A value that the user can change without touching the text. A clock time is its minutes since midnight."""

    name: str
    kind: str
    default: object
    text: str
    low: float | None = None
    high: float | None = None
    step: float | None = None
    choices: tuple[object, ...] = ()
    #: The place of the default in the script.
    place: Span | None = None

    def written(self, value: object) -> str:
        """A value as written in a script: texts in quotes."""
        made = self.words(value)
        if self.kind != "text":
            return made
        escaped = made.replace("\\", "\\\\").replace('"', '\\"').replace("{", "{{").replace("}", "}}")
        return f'"{escaped}"'

    def words(self, value: object) -> str:
        """A value as it is written in a script."""
        if self.kind == "flag":
            return "yes" if value else "no"
        if self.kind == "clock":
            return clock_words(float(value))  # type: ignore[arg-type]
        return f"{value:g}" if isinstance(value, float) else str(value)


def setting_info(statement: t.Setting) -> SettingInfo:
    """What a `setting` statement declares."""
    default = _constant(statement.default)
    kind = "text"
    if isinstance(statement.default, t.Name):
        kind = "series" if statement.choices and default not in PALETTE else "colour"
    elif isinstance(statement.default, t.Literal):
        kind = statement.default.kind
    elif isinstance(default, float):
        kind = "number"
    low, high, step = (_as_float(_constant(e)) for e in (statement.low, statement.high, statement.step))
    choices = tuple(_constant(c) for c in statement.choices)
    return SettingInfo(
        statement.name.name, kind, default, statement.text, low, high, step, choices, statement.default.span
    )


def _constant(expr: t.Expr | None) -> object:
    match expr:
        case t.Literal():
            return expr.value
        case t.Unary(op="-", value=t.Literal(value=float() as number)):
            return -number
        case t.Text(parts=parts):
            return "".join(p for p in parts if isinstance(p, str))
        case t.Name():
            return expr.name
    return None


def _as_float(value: object) -> float | None:
    return float(value) if isinstance(value, int | float) else None


def clock_words(minutes: float) -> str:
    """Minutes since midnight as a time of day."""
    return f"{int(minutes) // 60:02d}:{int(minutes) % 60:02d}"


_NUMBER = re.compile(r"\s*([+-]?(?:\d[\d_]*(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?)\s*(%?)\s*")


def number_of(text: str) -> float:
    """A number as a script writes it: ``12``, ``0.5``, ``-3``, ``1_000``, ``1e6``, ``5%`` (is 0.05). Raises `ValueError`."""
    found = _NUMBER.fullmatch(text)
    if found is None:
        raise ValueError(f"{text} is no number")
    number = float(found[1].replace("_", ""))
    return number / 100.0 if found[2] else number  # as a script's own literals are read, to the last bit


def fitting_value(info: SettingInfo, value: object) -> object:
    """A value for a setting, from text where need be. Raises `RunProblem` with a sentence for one that does not fit."""
    made = _READERS[info.kind](info, value)
    if info.choices and made not in info.choices:
        raise RunProblem(
            f"The setting `{info.name}` is one of {', '.join(map(info.words, info.choices))}, and `{value}` is not."
        )
    return made


def _number(info: SettingInfo, value: object) -> float:
    try:
        number = number_of(value) if isinstance(value, str) else float(value)  # type: ignore[arg-type]
    except (TypeError, ValueError):
        raise RunProblem(f"The setting `{info.name}` is a number, and `{value}` is none.") from None
    if info.low is not None and info.high is not None and not info.low <= number <= info.high:
        raise RunProblem(
            f"The setting `{info.name}` goes from {info.low:g} to {info.high:g}, and {number:g} is outside."
        )
    if not abs(number) < 1e15:
        raise RunProblem(f"The setting `{info.name}` cannot be {value}.")
    return number


def _flag(info: SettingInfo, value: object) -> bool:
    words = {"yes": True, "no": False, "true": True, "false": False, "1": True, "0": False}
    if isinstance(value, bool):
        return value
    if str(value).lower() not in words:
        raise RunProblem(f"The setting `{info.name}` is yes or no, and `{value}` is neither.")
    return words[str(value).lower()]


def _clock(info: SettingInfo, value: object) -> float:
    if isinstance(value, int | float):
        minutes = float(value)
    else:
        found = re.fullmatch(r"\s*(\d{1,2}):(\d{2})\s*", str(value))
        minutes = float(int(found[1]) * 60 + int(found[2])) if found and int(found[2]) < 60 else -1.0
    if not 0 <= minutes < 24 * 60:
        raise RunProblem(f"The setting `{info.name}` is a time of day such as 09:30, and `{value}` is none.")
    return minutes


def _timeframe(info: SettingInfo, value: object) -> str:
    word = str(value).strip()
    if not is_timeframe(word):
        raise RunProblem(
            f"The setting `{info.name}` is a timeframe such as {', '.join(TIMEFRAMES[5:])}, and `{value}` is none."
        )
    return word


def _colour(info: SettingInfo, value: object) -> str:
    word = str(value).strip().lower()
    if word not in PALETTE and not re.fullmatch(r"#[0-9a-f]{6}", word):
        hint = did_you_mean(word, PALETTE) or "Write a palette name or #3a7d44."
        raise RunProblem(f"The setting `{info.name}` is a colour, and `{value}` is none. {hint}")
    return word


def _series(info: SettingInfo, value: object) -> str:
    return str(value).strip()


def _text(info: SettingInfo, value: object) -> str:
    text = str(value)
    # A script writes texts in quotes; the words of a call may keep them.
    return text[1:-1] if len(text) > 1 and text[0] == text[-1] == '"' and text not in info.choices else text


_READERS: dict[str, Callable[[SettingInfo, object], object]] = {
    "number": _number,
    "flag": _flag,
    "clock": _clock,
    "timeframe": _timeframe,
    "colour": _colour,
    "series": _series,
    "text": _text,
}
