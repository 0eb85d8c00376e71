"""How the bars of a chart are shown; remembered between starts."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum


class ScaleKind(StrEnum):
    """The scales that a price pane can have."""

    PLAIN = "plain"
    LOG = "log"
    PERCENT = "percent"


class BarStyle(StrEnum):
    """The forms that bars can take."""

    CANDLES = "candles"
    BARS = "bars"
    LINE = "line"
    AVERAGED = "averaged"


@dataclass(frozen=True, slots=True)
class ChartOptions:
    """What the user has chosen. ``extended`` takes in early and late hours; ``as_known`` puts every drawing where
    it became known instead of where it stands."""

    style: BarStyle = BarStyle.CANDLES
    scale: ScaleKind = ScaleKind.PLAIN
    extended: bool = False
    as_known: bool = False

    def as_plain(self) -> dict[str, object]:
        """As it is written down."""
        return {
            "style": self.style.value,
            "scale": self.scale.value,
            "extended": self.extended,
            "as_known": self.as_known,
        }


def read_options(state: object) -> ChartOptions:
    """Options from what was written down; whatever makes no sense is as at the first start."""
    found = state if isinstance(state, dict) else {}
    styles, scales = {s.value: s for s in BarStyle}, {s.value: s for s in ScaleKind}
    return ChartOptions(
        styles.get(str(found.get("style")), BarStyle.CANDLES),
        scales.get(str(found.get("scale")), ScaleKind.PLAIN),
        found.get("extended") is True,
        found.get("as_known") is True,
    )


@dataclass(slots=True)
class PaneLayout:
    """How the panes stand: the user's order, heights in pixels, which are folded, and which drawings are hidden."""

    order: list[str] = field(default_factory=list)
    heights: dict[str, float] = field(default_factory=dict)
    folded: set[str] = field(default_factory=set)
    hidden: set[str] = field(default_factory=set)

    def arranged(self, names: list[str]) -> list[str]:
        """Names in the user's order; new names come last."""
        known = {name: k for k, name in enumerate(self.order)}
        return sorted(names, key=lambda n: known.get(n, len(known)))

    def as_plain(self) -> dict[str, object]:
        """As it is written down."""
        return {
            "order": self.order,
            "heights": self.heights,
            "folded": sorted(self.folded),
            "hidden": sorted(self.hidden),
        }


def read_panes(state: object) -> PaneLayout:
    """A layout from what was written down; whatever makes no sense is left out."""
    found = state if isinstance(state, dict) else {}

    def names(key: str) -> list[str]:
        value = found.get(key)
        return [n for n in value if isinstance(n, str)] if isinstance(value, list) else []

    heights = found.get("heights")
    kept = {
        str(k): float(v)
        for k, v in (heights.items() if isinstance(heights, dict) else ())
        if isinstance(v, int | float) and 10 < v < 10_000
    }
    return PaneLayout(names("order"), kept, set(names("folded")), set(names("hidden")))
