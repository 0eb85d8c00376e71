"""What a chart says in words: legends, notes, measures, for the bar that is read."""

from __future__ import annotations

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.time_words import bar_time
from oakladder.desk.chart.axes import short_number
from oakladder.desk.chart.marks import Drawn
from oakladder.desk.chart.overlay import LegendLine, Measure
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.engine.picture.parts import PRICE, VOLUME, Picture
from oakladder.rung.texts import count_words


def legend(
    name: str, bars: Bars, picture: Picture | None, at: int, decimals: int, theme: Theme, hidden: set[str]
) -> list[LegendLine]:
    """The legend of a pane as of a bar: each line, histogram and band with its value there."""

    def number(value: float) -> str:
        if value != value:
            return "–"
        return f"{value:,.{decimals}f}" if name == PRICE else f"{value:,.4g}"

    entries = []
    if name == VOLUME:
        entries.append(LegendLine(theme.color("mute"), "Volume", short_number(float(bars["volume"][at]))))
    if picture is None:
        return entries
    for line in picture.lines:
        if line.pane == name and not line.is_level:
            entries.append(_entry(line.name, line.colours, number(float(line.values[at])), theme, hidden))
    for columns in picture.histograms:
        if columns.pane == name and columns.name:
            entries.append(_entry(columns.name, columns.colours, number(float(columns.values[at])), theme, hidden))
    for band in picture.bands:
        if band.pane == name and band.name:
            words = f"{number(float(band.first[at]))} to {number(float(band.second[at]))}"
            entries.append(_entry(band.name, band.colours, words, theme, hidden))
    if name == PRICE:
        entries += [LegendLine(qcolor(tint), f"marks of {caption}", "") for caption, tint in picture.legends]
    return entries


def _entry(name: str, colours: np.ndarray, words: str, theme: Theme, hidden: set[str]) -> LegendLine:
    shown = np.flatnonzero(colours[-500:])
    color = qcolor(int(colours[-500:][shown[-1]])) if len(shown) else theme.color("mute")
    return LegendLine(color, name, words, name in hidden)


def measured(bars: Bars, start: tuple[float, float], end: tuple[float, float], decimals: int) -> Measure:
    """Two points against one another: bars, time, price and per cent."""
    last = len(bars) - 1
    a, b = (int(np.clip(round(p[0]), 0, last)) for p in (start, end))
    moved = end[1] - start[1]
    share = f"  {moved / start[1]:+.2%}" if start[1] else ""
    count = abs(b - a)
    words = (
        f"{moved:+,.{decimals}f}{share}",
        f"{count} bar{'s' * (count != 1)}, {span_words(abs(int(bars.times[b]) - int(bars.times[a])))}",
        f"{bar_time(bars, min(a, b))} to {bar_time(bars, max(a, b))}",
    )
    return Measure((a, start[1]), (b, end[1]), words)


def span_words(seconds: int) -> str:
    """A length of time in the two largest units that matter."""
    parts = []
    for size, word in ((86_400, "d"), (3_600, "h"), (60, "min")):
        count, seconds = divmod(seconds, size)
        if count:
            parts.append(f"{count} {word}")
    return " ".join(parts[:2]) or "0 min"


def words_of(bars: Bars, drawn: Drawn) -> str:
    """What the hover says of something drawn."""
    when = bar_time(bars, drawn.bar)
    if drawn.known == drawn.bar:
        return f"{drawn.words}\n{when}".strip()
    late = drawn.known - drawn.bar
    return f"{drawn.words}\nStands on {when}\nKnown {count_words(late, 'bar')} later, on {bar_time(bars, drawn.known)}".strip()
