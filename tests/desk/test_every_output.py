"""Every output statement shows something: an output that nothing paints would be an empty promise."""

from __future__ import annotations

from PyQt6.QtGui import QImage

from oakladder.desk.app import make_app
from oakladder.desk.screenshot import settle
from oakladder.desk.window import Window
from oakladder.rung.words import Shown

#: A line for each output; all of them are known on every bar in sight.
EXAMPLES = {
    Shown.SIGNAL: "signal go = close > open bullish",
    Shown.LINE: "line sma(close, 5) color plum width 3",
    Shown.LEVEL: 'level 5 color plum width 3 in pane "One"',
    Shown.HISTOGRAM: 'histogram close - open color plum in pane "One"',
    Shown.BAND: "band high, low color plum",
    Shown.LANE: 'lane "One" color plum',
    Shown.ZONE: "zone low to high lasting 3 bars color plum when close > open",
    Shown.LINK: "link low[5] ago 5 to high ago 0 color plum",
    Shown.MARK: "mark close > open below shape dot size 4 color plum",
    Shown.LABEL: 'label "here" below color plum when close > open',
    Shown.PAINT: "paint background color plum when close > open",
    Shown.NOTE: 'note "here" at top left color plum',
    Shown.COLUMN: 'column "here" fill plum',
}


def painted(window: Window, line: str) -> QImage:
    window.session.rule.set_text(f'rung 1\ntitle "One"\n{line}\n')
    settle(make_app(), window.session)
    assert not [p for p in window.session.rule.problems if p.is_error], window.session.rule.problems
    image = QImage(window.bench.size(), QImage.Format.Format_ARGB32)
    window.bench.render(image)
    return image


def test_there_is_an_example_of_every_output() -> None:
    assert set(EXAMPLES) == set(Shown)


def test_every_output_changes_what_is_painted(window: Window) -> None:
    unseen = []
    for what, line in EXAMPLES.items():
        without = painted(window, "let nothing = close")
        shown = painted(window, line)
        part = window.bench.watchlist if what is Shown.COLUMN else window.bench.chart
        box = part.geometry().translated(part.parentWidget().mapTo(window.bench, part.parentWidget().rect().topLeft()))
        if shown.copy(box) == without.copy(box):
            unseen.append(what)
    assert unseen == []
