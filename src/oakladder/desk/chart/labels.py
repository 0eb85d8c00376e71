"""The texts over the panes for the current bar: legends, notes, and tags on the axes."""

from __future__ import annotations

from collections.abc import Mapping, Set

from PyQt6.QtGui import QColor

from oakladder.app.chart_view import ChartView
from oakladder.desk.chart.pane import Pane
from oakladder.desk.chart.readout import legend
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.engine.picture.parts import PRICE


def tags_of(pane: Pane, theme: Theme) -> list[tuple[float, str, QColor, QColor]]:
    """What stands out on a pane's axis."""
    content, made = pane.overlay.content, []
    if pane.folded:
        return []
    if content.last is not None:
        price, color, text = content.last
        made.append((float(pane.scale.to(price)), text, color, theme.color("ground")))
    if content.cursor_y is not None:
        made.append((content.cursor_y, content.cursor_text, theme.color("ink"), theme.color("ground")))
    return made


def write(
    panes: Mapping[str, Pane],
    view: ChartView,
    at: int | None,
    pinned: int | None,
    decimals: int,
    theme: Theme,
    hidden: Set[str],
) -> None:
    """Fills legends and notes for the bar that is read."""
    picture = view.picture
    for name, pane in panes.items():
        content = pane.overlay.content
        content.pinned = pinned
        content.entries = []
        if at is not None:
            content.entries = legend(name, view.bars, picture, at, decimals, theme, hidden)
        if name == PRICE:
            notes = picture.notes if picture is not None and at is not None else ()
            content.notes = [(n.corner, n.text_at(at), qcolor(n.colour_at(at))) for n in notes]
        pane.overlay.update()
        pane.axis.set_tags(tags_of(pane, theme))
