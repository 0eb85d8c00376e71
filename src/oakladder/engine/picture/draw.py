"""From a result to plain drawing data: what is drawn on which bar, at which price, in which colour.

Nothing here knows of a screen. Colours are 0xAARRGGBB, made by the caller's ``paint`` from colour words;
0 means "not drawn". Bars are counted from the first bar of the panel, which holds one symbol.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import fields, replace
from typing import Any

import numpy as np

from oakladder.engine.picture.parts import (
    PRICE,
    VOLUME,
    Band,
    Columns,
    DrawnLine,
    Event,
    Label,
    Lane,
    Link,
    Mark,
    Note,
    Paint,
    Picture,
    Zone,
)
from oakladder.engine.picture.zones import Openings
from oakladder.engine.run.execute import Result
from oakladder.engine.sealed import OPEN, SealedDays, results_hidden
from oakladder.engine.signal_ages import TONE_COLOURS
from oakladder.rung.plan.ops import Op, Output, under
from oakladder.rung.texts import write_value
from oakladder.rung.words import Shown, Tone

#: After so many things that are made one by one it is asked whether anybody still waits for them.
_LOOK_UP = 2048


def draw(
    result: Result, paint: Paint, cancelled: Callable[[], bool] | None = None, sealed: SealedDays = OPEN
) -> Picture:
    """The drawing data of a result over a panel of one symbol, without what a position brought on sealed days. Raises
    `Cancelled`."""
    result = replace(result, cancelled=cancelled)
    shown = results_hidden(result, int(sealed.opened(result.panel)[0]))
    made: dict[Shown, list[Any]] = {what: [] for what in _MAKERS}
    painted: dict[str, np.ndarray | None] = {"bars": None, "volume": None, "background": None}
    pane = PRICE
    for output in result.outputs:
        result.go_on()
        if output.what in _PLACED:
            pane = _pane(output, pane)
        if output.what is Shown.PAINT:
            where = output.attributes["painted"]
            colours, before = _colours(shown(output), output, paint, "warn"), painted[where]
            painted[where] = colours if before is None else np.where(colours != 0, colours, before)
        elif output.what in _MAKERS:
            made[output.what] += _MAKERS[output.what](shown(output), output, paint, pane)
    lines = [*made[Shown.LINE], *made[Shown.LEVEL]]
    marks = made[Shown.MARK] + [_default_mark(result, o, paint) for o in _unmarked(result.outputs)]
    placed = [*lines, *made[Shown.HISTOGRAM], *made[Shown.BAND], *made[Shown.LINK], *marks, *made[Shown.LABEL]]
    return Picture(
        lines=tuple(lines),
        marks=tuple(marks),
        labels=tuple(made[Shown.LABEL]),
        bar_colours=painted["bars"],
        volume_colours=painted["volume"],
        ground_colours=painted["background"],
        histograms=tuple(made[Shown.HISTOGRAM]),
        bands=tuple(made[Shown.BAND]),
        lanes=tuple(made[Shown.LANE]),
        zones=tuple(made[Shown.ZONE]),
        links=tuple(made[Shown.LINK]),
        notes=tuple(made[Shown.NOTE]),
        events=tuple(_event(result, o) for o in result.outputs if o.what is Shown.SIGNAL),
        panes=tuple(dict.fromkeys(x.pane for x in placed if x.pane not in (PRICE, VOLUME))),
    )


def merged(pictures: Sequence[tuple[str, Picture]]) -> Picture:
    """Several scripts on one chart: everything of each, named with its caption where it has one."""
    if len(pictures) == 1 and not pictures[0][0]:
        return pictures[0][1]

    def all_of(slot: str) -> tuple[Any, ...]:
        return tuple(_captioned(item, caption) for caption, p in pictures for item in getattr(p, slot))

    painted: dict[str, np.ndarray | None] = {"bar_colours": None, "volume_colours": None, "ground_colours": None}
    for _, picture in pictures:
        for slot, before in painted.items():
            colours = getattr(picture, slot)
            if colours is not None:
                painted[slot] = colours if before is None else np.where(before != 0, before, colours)
    lists = [f.name for f in fields(Picture) if f.name not in (*painted, "panes")]
    panes = tuple(dict.fromkeys(pane for _, p in pictures for pane in p.panes))
    return Picture(**{slot: all_of(slot) for slot in lists}, **painted, panes=panes)  # type: ignore[arg-type]


def _captioned(item: Any, caption: str) -> Any:
    if not caption or not hasattr(item, "name"):
        return item if not caption or not isinstance(item, Note) else _captioned_note(item, caption)
    return replace(item, name=f"{item.name} · {caption}" if item.name and item.name != caption else caption)


def _captioned_note(note: Note, caption: str) -> Note:
    def text_at(bar: int) -> str:
        text = note.text_at(bar)
        return f"{caption}: {text}" if text else ""

    return replace(note, text_at=text_at)


def _pane(output: Output, before: str) -> str:
    """Where a line stands: as it says, else by its unit; a plain level keeps to the line before it."""
    said = _said_pane(output)
    if said:
        return said
    if output.unit in (PRICE, VOLUME):
        return output.unit
    if output.what is Shown.LEVEL and output.unit in ("plain", "unknown", ""):
        return before
    return output.unit if output.unit not in ("unknown", "") else output.name or "plain"


def _said_pane(output: Output) -> str:
    """The pane that a statement names itself; empty if it names none."""
    return output.attributes.get("in", "").removeprefix("pane ")


def _colours(result: Result, output: Output, paint: Paint, default: str) -> np.ndarray:
    """The colour on each bar, 0 where the statement's ``when`` does not hold."""
    op = output.roles.get("color")
    size = result.panel.size
    colours = result.colours(op, paint) if op is not None else np.full(size, paint(default), dtype=np.uint32)
    return np.where(result.is_true(output.roles.get("when")), colours, np.uint32(0))


def _fixed_number(result: Result, output: Output, role: str, default: float) -> float:
    """A constant clause; a varying one has its value of the last bar."""
    op = output.roles.get(role)
    if op is None or not result.panel.size:
        return default
    value = result.at(op, result.panel.size - 1)
    return float(value) if isinstance(value, int | float) else default


def _line(result: Result, output: Output, pane: str, paint: Paint) -> DrawnLine:
    values = result.number(output.roles["value"])
    colours = _colours(result, output, paint, "ink" if output.what is Shown.LINE else "mute")
    width = _fixed_number(result, output, "width", 1.4)
    style = output.attributes.get("style", "dashed" if output.what is Shown.LEVEL else "solid")
    return DrawnLine(
        output.name or output.what, pane, values, colours, min(max(width, 0.5), 8), style, output.what is Shown.LEVEL
    )


def _place(result: Result, output: Output, bars: np.ndarray, default: str) -> tuple[str, np.ndarray | None]:
    if "at" in output.roles:
        return "at", result.number(output.roles["at"])[bars]
    return output.attributes.get("side", default), None


def _side_of(shape: str) -> str:
    return "above" if shape.endswith("down") else "below"


def _texts(result: Result, op: Op, bars: np.ndarray) -> list[str]:
    """A text on some bars; empty where it is missing."""
    made = []
    for k, bar in enumerate(bars.tolist()):
        if k % _LOOK_UP == 0:
            result.go_on()
        value = result.at(op, bar)
        made.append("" if value is None and op.is_shell else write_value(value))
    return made


def _mark(result: Result, output: Output, paint: Paint) -> Mark:
    shape = output.attributes.get("shape", "dot")
    shown = result.is_true(output.roles["value"]) & result.is_true(output.roles.get("when"))
    known, bars = _known_and_shown(result, output, np.flatnonzero(shown))
    side, prices = _place(result, output, known, _side_of(shape))
    colours = _colours(result, output, paint, "calm")[known]
    texts = _texts(result, output.roles["text"], known) if "text" in output.roles else None
    size, pane = _size(result, output), _said_pane(output) or PRICE
    return Mark(output.name, bars, known, side, prices, shape, colours, size, texts, pane)


def _size(result: Result, output: Output) -> int:
    return int(min(max(_fixed_number(result, output, "size", 2), 1), 5))


def _known_and_shown(result: Result, output: Output, known: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The bars on which drawings became known and the bars they are drawn on, in the order of the latter."""
    bars = _back(result, output, known)
    order = np.argsort(bars, kind="stable")
    order = order[bars[order] >= 0]
    return known[order], bars[order]


def _label(result: Result, output: Output, paint: Paint) -> Label:
    known, bars = _known_and_shown(result, output, np.flatnonzero(result.is_true(output.roles.get("when"))))
    side, prices = _place(result, output, known, "below")
    texts = _texts(result, output.roles["value"], known)
    if "" in texts:  # a text of none is no label
        said = np.array([bool(t) for t in texts])
        known, bars, texts = known[said], bars[said], [t for t in texts if t]
        prices = prices[said] if prices is not None else None
    colours = _colours(result, output, paint, "mute")[known]
    return Label(bars, known, side, prices, texts, colours, _size(result, output), _said_pane(output) or PRICE)


def _note(result: Result, output: Output, paint: Paint) -> Note:
    when, color, value = output.roles.get("when"), output.roles.get("color"), output.roles["value"]

    def text_at(bar: int) -> str:
        shown = when is None or result.at(when, bar) is True
        text = result.at(value, bar) if shown else None
        return "" if text is None else write_value(text)

    def colour_at(bar: int) -> int:
        word = result.at(color, bar) if color is not None else "ink"
        return paint(str(word)) if word is not None else 0

    return Note(output.attributes.get("corner", "top left"), text_at, colour_at)


def _numbers(result: Result, output: Output, role: str, default: float) -> np.ndarray:
    """A number on each bar, or the same default on all."""
    op = output.roles.get(role)
    return result.number(op) if op is not None else np.full(result.panel.size, default)


def _back(result: Result, output: Output, bars: np.ndarray, role: str = "ago") -> np.ndarray:
    """Bars moved back by ``ago``; -1 where that leads before the first bar or is none."""
    ago = _numbers(result, output, role, 0.0)[bars]
    with np.errstate(invalid="ignore"):
        moved = bars - np.where(ago >= 0, np.floor(ago), np.nan)
    return np.where(moved >= 0, moved, -1).astype(np.int64)


def _columns(result: Result, output: Output, paint: Paint, pane: str) -> Columns:
    base = _numbers(result, output, "base", 0.0)
    return Columns(
        output.name, pane, result.number(output.roles["value"]), base, _colours(result, output, paint, "mute")
    )


def _band(result: Result, output: Output, paint: Paint, pane: str) -> Band:
    first, second = (result.number(output.roles[role]) for role in ("value", "other"))
    return Band(output.name, pane, first, second, _colours(result, output, paint, "sand"))


def _lane(result: Result, output: Output, paint: Paint) -> Lane:
    last = max(result.panel.size - 1, 0)
    return Lane(write_value(result.at(output.roles["value"], last)), _colours(result, output, paint, "calm"))


def _zones(result: Result, output: Output, paint: Paint) -> list[Zone]:
    """One zone for each bar on which ``when`` holds."""
    found = Openings(result, output)
    colours, ends = _colours(result, output, paint, "sand"), found.ends()
    parts = (found.starts, ends, found.low, found.high, colours[found.starts])
    return [
        Zone(output.name, start, end, low, high, colour)
        for start, end, low, high, colour in zip(*(p.tolist() for p in parts), strict=True)
    ]


def _links(result: Result, output: Output, paint: Paint, pane: str) -> list[Link]:
    known = np.flatnonzero(result.is_true(output.roles.get("when")))
    first, second = (_back(result, output, known, role) for role in ("ago_start", "ago"))
    a, b = (result.number(output.roles[role])[known] for role in ("value", "other"))
    colours = _colours(result, output, paint, "ink")[known]
    width, style = _fixed_number(result, output, "width", 1.4), output.attributes.get("style", "solid")
    whole = (first >= 0) & (second >= 0) & ~np.isnan(a + b)
    return [
        Link(
            output.name,
            pane,
            (int(first[k]), float(a[k])),
            (int(second[k]), float(b[k])),
            int(known[k]),
            int(colours[k]),
            width,
            style,
        )
        for k in np.flatnonzero(whole)
    ]


def _event(result: Result, output: Output) -> Event:
    bars = np.flatnonzero(result.is_true(output.roles["value"]))
    return Event(output.name, output.attributes["text"], output.tone, bars)


def _unmarked(outputs: list[Output]) -> list[Output]:
    """Signals that no mark or label of the script shows."""
    shown: set[Op] = set()
    for output in outputs:
        if output.what is Shown.MARK:
            shown.update(under(output.roles["value"]))
        elif output.what is Shown.LABEL and "when" in output.roles:
            shown.update(under(output.roles["when"]))
    return [o for o in outputs if o.what is Shown.SIGNAL and o.roles["value"] not in shown]


def _default_mark(result: Result, output: Output, paint: Paint) -> Mark:
    bars = np.flatnonzero(result.is_true(output.roles["value"]))
    tone = output.tone
    shape = {Tone.BULLISH: "arrow_up", Tone.BEARISH: "arrow_down"}.get(tone, "dot")
    colours = np.full(len(bars), paint(TONE_COLOURS[tone]), dtype=np.uint32)
    return Mark(output.name, bars, bars, _side_of(shape), None, shape, colours, 3)


#: Output statement → what makes its drawings.
_MAKERS: dict[Shown, Callable[[Result, Output, Paint, str], list[Any]]] = {
    Shown.LINE: lambda r, o, p, pane: [_line(r, o, pane, p)],
    Shown.LEVEL: lambda r, o, p, pane: [_line(r, o, pane, p)],
    Shown.HISTOGRAM: lambda r, o, p, pane: [_columns(r, o, p, pane)],
    Shown.BAND: lambda r, o, p, pane: [_band(r, o, p, pane)],
    Shown.MARK: lambda r, o, p, pane: [_mark(r, o, p)],
    Shown.LABEL: lambda r, o, p, pane: [_label(r, o, p)],
    Shown.LANE: lambda r, o, p, pane: [_lane(r, o, p)],
    Shown.ZONE: lambda r, o, p, pane: _zones(r, o, p),
    Shown.LINK: _links,
    Shown.NOTE: lambda r, o, p, pane: [_note(r, o, p)],
}


#: Statements whose pane follows from their unit.
_PLACED = frozenset([Shown.LINE, Shown.LEVEL, Shown.HISTOGRAM, Shown.BAND, Shown.LINK])
