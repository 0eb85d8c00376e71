"""The chart with bars that are out of the ordinary, its axes, its strip, and stacked marks."""

from __future__ import annotations

import gc

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QImage, QPainter
from PyQt6.QtTest import QTest

from helpers import daily_bars
from oakladder.app.chart_options import ScaleKind
from oakladder.app.chart_view import ChartView
from oakladder.app.time_marks import time_marks
from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.bars.time_words import bar_time
from oakladder.desk.chart.axes import PriceAxis, TimeAxis, short_number
from oakladder.desk.chart.chart import Chart
from oakladder.desk.chart.scale import Scale
from oakladder.desk.chart.signal_strip import SignalStrip
from oakladder.desk.look.shapes import shape_path
from oakladder.desk.look.theme import DAY, NIGHT
from oakladder.engine.picture.as_data import day_paint
from oakladder.engine.picture.draw import draw
from oakladder.engine.picture.parts import Event
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script
from oakladder.rung.values import PALETTE, SHAPES


def view_of(
    bars: Bars, script: str = 'line sma(close, 2)\nmark close > open\nlabel "x" when close > 0\nnote "{close:.2}"'
) -> ChartView:
    result = run(compile_script("rung 1\n" + script), panel_of([bars]))
    return ChartView(bars, result, draw(result, day_paint))


@pytest.fixture
def chart(qtbot) -> Chart:  # type: ignore[no-untyped-def]
    made = Chart(DAY)
    qtbot.addWidget(made)
    made.resize(700, 500)
    made.show()
    return made


@pytest.mark.parametrize(
    "closes",
    [
        [],
        [5.0],
        [7.0] * 50,
        [0.0001, 0.0002, 0.00015],
        [1e9, 1.1e9, 1.05e9],
        [np.nan] * 5,
        [1.0, np.nan, 3.0],
        list(range(1, 4000)),
    ],
)
def test_bars_of_every_kind_are_drawn_sensibly(chart: Chart, closes: list[float]) -> None:
    bars = daily_bars(closes)
    chart.show_view(view_of(bars), 4)
    chart.viewport().repaint()
    low, high = chart.panes["price"].view.heights
    assert low < high
    known = [c for c in closes[-130:] if c == c]
    if known:
        assert low <= min(known) and high >= max(known)
        assert high - low < 40 * (max(known) - min(known) + 0.02 * abs(max(known)))
    for key in (Qt.Key.Key_Home, Qt.Key.Key_Up, Qt.Key.Key_Left, Qt.Key.Key_Down, Qt.Key.Key_End, Qt.Key.Key_Escape):
        QTest.keyClick(chart, key)
    assert chart.seen[1] > chart.seen[0]


def test_zooming_out_far_thins_the_bars_but_keeps_the_extremes(chart: Chart) -> None:
    closes = 100 + np.sin(np.arange(60_000) / 50)
    closes[30_000] = 180
    bars = daily_bars(closes, first_day=1000)
    chart.show_view(view_of(bars, "line close color rust"), 2)
    chart.see(0, 60_000)
    chart.viewport().repaint()
    assert chart.panes["price"].view.heights[1] > 180


def test_a_script_without_lines_leaves_the_scale_to_the_bars(chart: Chart) -> None:
    chart.show_view(view_of(daily_bars([50.0, 60.0, 55.0]), "signal go = close > open"), 2)
    low, high = chart.panes["price"].view.heights
    assert 48 < low < 50 and 60 < high < 62


def test_the_part_that_is_seen_stays_when_the_script_changes(chart: Chart) -> None:
    bars = daily_bars(np.arange(1.0, 400))
    chart.show_view(view_of(bars), 2)
    chart.see(100, 160)
    chart.pin(120)
    chart.show_view(view_of(bars, "line close * 2"), 2)
    assert chart.seen == (100, 160) and chart.pinned == 120
    chart.show_view(view_of(daily_bars(np.arange(1.0, 300), symbol="OTHER")), 2)
    assert chart.pinned is None and chart.seen[1] > 290


def test_a_bar_outside_the_view_is_brought_into_it(chart: Chart) -> None:
    chart.show_view(view_of(daily_bars(np.arange(1.0, 900))), 2)
    chart.pin(50)
    assert chart.seen[0] < 50 < chart.seen[1]


def test_time_ticks_stand_where_something_begins_and_not_on_each_other(chart: Chart) -> None:
    bars = daily_bars(np.arange(1.0, 900))
    axis = TimeAxis()
    axis.show_marks(time_marks(bars))
    months = (bars.times.astype("datetime64[s]").astype("datetime64[M]")).astype(int)
    for first, last in ((0, 60), (0, 300), (100, 899)):
        ticks = axis.ticks(first, last, 600)
        assert 2 <= len(ticks) <= 12
        assert min(np.diff(ticks)) * 600 / (last - first) >= 52
        assert all(axis.written(ticks))
    ticks = axis.ticks(0, 300, 600)
    assert all(months[t] != months[t - 1] for t in ticks)


@pytest.mark.parametrize("most", [1.1, 2.3, 4.9, 7.2, 9.9, 10.7])
def test_a_low_pane_still_has_a_number_on_its_axis(qtbot, most: float) -> None:  # type: ignore[no-untyped-def]
    axis = PriceAxis()
    ticks = axis.ticks(0, most * 1e6, 65)
    assert ticks.heights and all(0 < t < most * 1e6 for t in ticks.heights)
    assert all(number.endswith(("M", "k")) for number in axis.written(ticks))


@pytest.mark.parametrize(
    ("low", "high", "decimals"), [(1.0, 2.0, 2), (0.0001, 0.0003, 4), (100, 100_000, 2), (0, 9e6, None)]
)
def test_price_ticks_are_round_and_written_apart(qtbot, low: float, high: float, decimals: int | None) -> None:  # type: ignore[no-untyped-def]
    axis = PriceAxis()
    axis.decimals = decimals
    ticks = axis.ticks(low, high, 400)
    assert 3 <= len(ticks.heights) <= 13
    assert all(low <= t <= high for t in ticks.heights)
    numbers = axis.written(ticks)
    assert len(set(numbers)) == len(numbers)


def test_zero_has_no_sign_on_an_axis(qtbot) -> None:  # type: ignore[no-untyped-def]
    axis = PriceAxis()
    assert axis.written(axis.ticks(-0.4, 3, 105))[0] == "0"
    axis.decimals = 2
    assert axis.written(axis.ticks(-0.4, 3, 105))[0] == "0.00"


@pytest.mark.parametrize(
    ("value", "words"), [(1234567, "1.23M"), (25_300, "25.3k"), (0.00214, "0.00214"), (-3e9, "-3B"), (12, "12")]
)
def test_numbers_are_short(value: float, words: str) -> None:
    assert short_number(value) == words


def test_bar_times_are_the_exchanges(market) -> None:  # type: ignore[no-untyped-def]
    from oakladder.bars.timeframes import Timeframe

    bars = market.bars("BRINE", Timeframe.parse("4h"))
    assert bar_time(bars, 0).endswith("09:00") and bar_time(bars, 1).endswith("13:00")


def test_the_strip_steps_through_all_signals(qtbot) -> None:  # type: ignore[no-untyped-def]
    strip = SignalStrip(DAY)
    qtbot.addWidget(strip)
    strip.resize(500, 40)
    strip.show_events((Event("a", "", "bullish", np.array([3, 9])), Event("b", "", "bearish", np.array([5, 9]))), 12)
    assert strip.all_bars().tolist() == [3, 5, 9]
    assert (strip.next_after(3), strip.next_after(9), strip.last_before(5), strip.last_before(3)) == (5, None, 3, None)
    with qtbot.waitSignal(strip.asked) as asked:
        QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=strip.rect().center())
    assert asked.args[0] in (3, 5, 9)
    strip.show_events((), 0)
    strip.repaint()


@pytest.mark.parametrize("shape", SHAPES)
def test_every_shape_keeps_to_its_radius(qtbot, shape: str) -> None:  # type: ignore[no-untyped-def]
    path, _ = shape_path(shape, 50, 60, 8)
    box = path.boundingRect()
    assert not path.isEmpty()
    assert box.left() >= 41.9 and box.right() <= 58.1 and box.top() >= 51.9 and box.bottom() <= 68.1


@pytest.mark.parametrize("theme", [DAY, NIGHT])
def test_every_colour_word_can_be_seen_on_the_ground(theme) -> None:  # type: ignore[no-untyped-def]
    ground = theme.color("ground")
    for word in [*PALETTE, "#3a7d44"]:
        argb = theme.paint(word)
        apart = sum(
            abs(((argb >> shift) & 255) - c)
            for shift, c in ((16, ground.red()), (8, ground.green()), (0, ground.blue()))
        )
        assert argb >> 24 == 255 and apart > 60, word


def test_panes_come_and_go_and_nothing_of_those_that_went_is_asked_for(chart: Chart) -> None:
    bars = daily_bars(list(range(1, 60)))
    with_panes = view_of(bars, 'line close - open in pane "Body"\nlane "Up" when close > open')
    without = view_of(bars)
    for view in (with_panes, without, with_panes, without):
        chart.show_view(view, 2)
        gc.collect()  # what went is taken down
        chart.show_view(view, 2)
        chart.viewport().repaint()
    assert set(chart.panes) == {"price", "volume"}


def test_marks_are_sharp_on_a_screen_of_twice_the_pixels(chart: Chart) -> None:
    chart.show_view(view_of(daily_bars(list(range(1, 60))), "mark bar == 50 below shape ring size 5 color good"), 2)
    picture = QImage(chart.size() * 2, QImage.Format.Format_RGB32)
    picture.setDevicePixelRatio(2)
    chart.render(QPainter(picture), QRectF(chart.rect()))
    place = chart.mapFromScene(chart.panes["price"].view.in_scene(QPointF(50, 50)))  # just above the ring
    rows = [[picture.pixel(2 * place.x() + x, 2 * place.y() + y) for x in range(-20, 21)] for y in range(10, 44)]
    for first in (0, 1):  # points made twice as large would come in pairs of equal rows
        assert sum(a != b for a, b in zip(rows[first::2], rows[first + 1 :: 2], strict=False)) > 8


@pytest.mark.parametrize(
    "script", ['label "top" above', "mark yes above size 5", 'label "a" above size 5\nmark yes above']
)
def test_what_stands_over_the_highest_bar_is_not_under_the_legend(chart: Chart, script: str) -> None:
    text = f'line close named "A line with a name"\nnote "Written at the left" at top left\n{script} when bar == 59'
    chart.show_view(view_of(daily_bars(list(range(1, 61))), text.replace("yes above", "close > 0 above")), 2)
    chart.viewport().repaint()
    legend = chart.panes["price"].overlay.places[0][0]
    note = legend.height() + 4
    high = float(chart.marks.price_y(60.0))
    tops = [drawn.box.top() for drawn in chart.marks.drawn]
    found = chart.marks.at(QPointF(float(chart.marks.bar_x(59)), high - 5 - 2.6 - 1.5 * 5 / 2))
    tops += [found.box.top()] if found is not None else []
    assert tops and min(tops) >= legend.bottom() + note - 2


@pytest.mark.parametrize("kind", [ScaleKind.PLAIN, ScaleKind.LOG])
def test_a_number_on_the_axis_is_whole(kind: ScaleKind) -> None:
    axis = PriceAxis()
    axis.price_scale = Scale(kind)
    for top in np.linspace(80, 130, 60):
        low, high = (float(axis.price_scale.to(price)) for price in (20.0, top))
        heights = axis.ticks(low, high, 160).heights
        assert len(heights) > 1 and all(height < high - 8 * (high - low) / 160 for height in heights)


def test_the_mouse_finds_no_mark_of_bars_that_are_shown_no_more(chart: Chart) -> None:
    chart.show_view(view_of(daily_bars(list(range(1, 400)))), 2)
    chart.viewport().repaint()
    (mark, *_) = chart.marks.drawn
    place = chart.mapToScene(mark.box.center().toPoint())
    chart.show_view(view_of(daily_bars([5.0, 6.0])), 2)  # and not painted yet
    chart.moved_to(place)
    assert chart.marks.at(mark.box.center()) is None
