"""From a result to plain drawing data: what is drawn on which bar, at which price, in which colour.

Nothing here knows of a screen. Colours are 0xAARRGGBB, made by the caller's ``paint`` from colour words;
0 means "not drawn". Bars are counted from the first bar of the panel, which holds one symbol.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from oakladder.rung.plan import Op, Output
from oakladder.rung.shells import write_value

from .run import Result
from .scan import TONE_COLOURS

Paint = Callable[[str], int]
PRICE, VOLUME = "price", "volume"


@dataclass(frozen=True, slots=True)
class Line:
    """A line or a level: a value for each bar (NaN is a gap), one colour for each bar."""

    name: str
    pane: str
    values: np.ndarray
    colours: np.ndarray
    width: float
    style: str
    is_level: bool


@dataclass(frozen=True, slots=True)
class Mark:
    """A shape on some bars. ``prices`` is given for marks at a price; others stand above or below the bar."""

    name: str
    bars: np.ndarray
    side: str
    prices: np.ndarray | None
    shape: str
    colours: np.ndarray
    size: int


@dataclass(frozen=True, slots=True)
class Label:
    """Texts on some bars."""

    bars: np.ndarray
    side: str
    prices: np.ndarray | None
    texts: list[str]
    colours: np.ndarray


@dataclass(frozen=True, slots=True)
class Note:
    """A text in a corner that follows the cursor."""

    corner: str
    text_at: Callable[[int], str]
    colour_at: Callable[[int], int]


@dataclass(frozen=True, slots=True)
class Event:
    """Every occurrence of a signal: the bars on which it was true, oldest first."""

    name: str
    text: str
    tone: str
    bars: np.ndarray


@dataclass(frozen=True, slots=True)
class Picture:
    """All that a script draws on one chart."""

    lines: tuple[Line, ...]
    marks: tuple[Mark, ...]
    labels: tuple[Label, ...]
    bar_colours: np.ndarray | None
    notes: tuple[Note, ...]
    events: tuple[Event, ...]
    panes: tuple[str, ...]


def draw(result: Result, paint: Paint) -> Picture:
    """The drawing data of a result over a panel of one symbol."""
    pane = PRICE
    lines: list[Line] = []
    marks: list[Mark] = []
    labels: list[Label] = []
    notes: list[Note] = []
    painted: np.ndarray | None = None
    for output in result.outputs:
        match output.what:
            case "line" | "level":
                pane = _pane(output, pane)
                lines.append(_line(result, output, pane, paint))
            case "mark":
                marks.append(_mark(result, output, paint))
            case "label":
                labels.append(_label(result, output, paint))
            case "paint" if output.attributes["painted"] == "bars":
                colours = _colours(result, output, paint, "warn")
                painted = colours if painted is None else np.where(colours != 0, colours, painted)
            case "note":
                notes.append(_note(result, output, paint))
    events = tuple(_event(result, o) for o in result.outputs if o.what == "signal")
    marks += [_default_mark(result, o, paint) for o in _unmarked(result.outputs)]
    panes = tuple(dict.fromkeys(line.pane for line in lines if line.pane not in (PRICE, VOLUME)))
    return Picture(tuple(lines), tuple(marks), tuple(labels), painted, tuple(notes), events, panes)


def _pane(output: Output, before: str) -> str:
    """Where a line stands: as it says, else by its unit; a plain level keeps to the line before it."""
    said = output.attributes.get("in", "")
    if said:
        return said.removeprefix("pane ") if said.startswith("pane ") else said
    if output.unit in (PRICE, VOLUME):
        return output.unit
    if output.what == "level" and output.unit in ("plain", "unknown", ""):
        return before
    return output.unit if output.unit not in ("unknown", "") else output.name or "plain"


def _colours(result: Result, output: Output, paint: Paint, default: str) -> np.ndarray:
    """The colour on each bar, 0 where the statement's ``when`` does not hold."""
    op = output.roles.get("color")
    size = len(result.panel.times)
    colours = result.colours(op, paint) if op is not None else np.full(size, paint(default), dtype=np.uint32)
    return np.where(result.is_true(output.roles.get("when")), colours, np.uint32(0))


def _fixed_number(result: Result, output: Output, role: str, default: float) -> float:
    """A clause that is the same all along; a moving one counts as it stands on the last bar."""
    op = output.roles.get(role)
    if op is None or not len(result.panel.times):
        return default
    value = result.at(op, len(result.panel.times) - 1)
    return float(value) if isinstance(value, int | float) else default


def _line(result: Result, output: Output, pane: str, paint: Paint) -> Line:
    values = result.number(output.roles["value"])
    colours = _colours(result, output, paint, "ink" if output.what == "line" else "mute")
    width = _fixed_number(result, output, "width", 1.4)
    style = output.attributes.get("style", "dashed" if output.what == "level" else "solid")
    return Line(
        output.name or output.what, pane, values, colours, min(max(width, 0.5), 8), style, output.what == "level"
    )


def _place(result: Result, output: Output, bars: np.ndarray, default: str) -> tuple[str, np.ndarray | None]:
    if "at" in output.roles:
        return "at", result.number(output.roles["at"])[bars]
    return output.attributes.get("side", default), None


def _side_of(shape: str) -> str:
    return "above" if shape.endswith("down") else "below"


def _mark(result: Result, output: Output, paint: Paint) -> Mark:
    shape = output.attributes.get("shape", "dot")
    shown = result.is_true(output.roles["value"]) & result.is_true(output.roles.get("when"))
    bars = np.flatnonzero(shown)
    side, prices = _place(result, output, bars, _side_of(shape))
    colours = _colours(result, output, paint, "calm")[bars]
    size = int(min(max(_fixed_number(result, output, "size", 2), 1), 5))
    return Mark(output.name, bars, side, prices, shape, colours, size)


def _label(result: Result, output: Output, paint: Paint) -> Label:
    bars = np.flatnonzero(result.is_true(output.roles.get("when")))
    side, prices = _place(result, output, bars, "below")
    texts = [write_value(result.at(output.roles["value"], int(b))) for b in bars]
    return Label(bars, side, prices, texts, _colours(result, output, paint, "mute")[bars])


def _note(result: Result, output: Output, paint: Paint) -> Note:
    when, color, value = output.roles.get("when"), output.roles.get("color"), output.roles["value"]

    def text_at(bar: int) -> str:
        shown = when is None or result.at(when, bar) is True
        return write_value(result.at(value, bar)) if shown else ""

    def colour_at(bar: int) -> int:
        word = result.at(color, bar) if color is not None else "ink"
        return paint(str(word))

    return Note(output.attributes.get("corner", "top left"), text_at, colour_at)


def _event(result: Result, output: Output) -> Event:
    bars = np.flatnonzero(result.is_true(output.roles["value"]))
    return Event(output.name, output.attributes["text"], output.attributes["tone"], bars)


def _unmarked(outputs: list[Output]) -> list[Output]:
    """Signals that no mark or label of the script shows."""
    shown: set[Op] = set()
    for output in outputs:
        if output.what == "mark":
            shown.update(_parts(output.roles["value"]))
        elif output.what == "label" and "when" in output.roles:
            shown.update(_parts(output.roles["when"]))
    return [o for o in outputs if o.what == "signal" and o.roles["value"] not in shown]


def _parts(op: Op) -> Iterator[Op]:
    yield op
    for arg in op.args:
        yield from _parts(arg)


def _default_mark(result: Result, output: Output, paint: Paint) -> Mark:
    bars = np.flatnonzero(result.is_true(output.roles["value"]))
    tone = output.attributes["tone"]
    shape = {"bullish": "arrow_up", "bearish": "arrow_down"}.get(tone, "dot")
    colours = np.full(len(bars), paint(TONE_COLOURS[tone]), dtype=np.uint32)
    return Mark(output.name, bars, _side_of(shape), None, shape, colours, 3)
