"""What a picture is made of: what is drawn on which bars, at which prices, in which colours."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from oakladder.rung.words import Tone

Paint = Callable[[str], int]
PRICE, VOLUME = "price", "volume"


@dataclass(frozen=True, slots=True)
class DrawnLine:
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
    """A shape on some bars. ``prices`` is given for marks at a price; others stand above or below the bar.

    ``known`` is, for each, the bar on which it became known; with ``ago`` that is later than the bar it is drawn on.
    """

    name: str
    bars: np.ndarray
    known: np.ndarray
    side: str
    prices: np.ndarray | None
    shape: str
    colours: np.ndarray
    size: int
    texts: list[str] | None = None
    pane: str = PRICE


@dataclass(frozen=True, slots=True)
class Label:
    """Texts on some bars; ``known`` as for marks."""

    bars: np.ndarray
    known: np.ndarray
    side: str
    prices: np.ndarray | None
    texts: list[str]
    colours: np.ndarray
    size: int = 2
    pane: str = PRICE


@dataclass(frozen=True, slots=True)
class Columns:
    """A histogram: columns from a base to a value on each bar."""

    name: str
    pane: str
    values: np.ndarray
    base: np.ndarray
    colours: np.ndarray


@dataclass(frozen=True, slots=True)
class Band:
    """The area between two lines."""

    name: str
    pane: str
    first: np.ndarray
    second: np.ndarray
    colours: np.ndarray


@dataclass(frozen=True, slots=True)
class Lane:
    """A named row of squares; colour 0 is an empty place."""

    name: str
    colours: np.ndarray


@dataclass(frozen=True, slots=True)
class Zone:
    """A rectangle between two prices, from the bar where it opened up to and including its last bar."""

    name: str
    start: int
    end: int
    low: float
    high: float
    colour: int


@dataclass(frozen=True, slots=True)
class Link:
    """A straight line between two earlier points, known on the bar ``known``."""

    name: str
    pane: str
    start: tuple[int, float]
    end: tuple[int, float]
    known: int
    colour: int
    width: float
    style: str


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
    tone: Tone
    bars: np.ndarray


@dataclass(frozen=True, slots=True)
class Picture:
    """All that a script draws on one chart."""

    lines: tuple[DrawnLine, ...]
    marks: tuple[Mark, ...]
    labels: tuple[Label, ...]
    bar_colours: np.ndarray | None
    volume_colours: np.ndarray | None
    ground_colours: np.ndarray | None
    histograms: tuple[Columns, ...]
    bands: tuple[Band, ...]
    lanes: tuple[Lane, ...]
    zones: tuple[Zone, ...]
    links: tuple[Link, ...]
    notes: tuple[Note, ...]
    events: tuple[Event, ...]
    panes: tuple[str, ...]
    #: Scripts whose marks are tinted: their captions, and the tint (0xAARRGGBB).
    legends: tuple[tuple[str, int], ...] = ()
