"""Styles, scales, panes, legends, folding labels, drawings known later, measuring, and what is taken away."""

from __future__ import annotations

import csv
import itertools
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QColor, QImage
from PyQt6.QtTest import QTest

from helpers import daily_bars, random_bars, taken
from oakladder.app.chart_options import BarStyle, ChartOptions, PaneLayout, ScaleKind, read_options, read_panes
from oakladder.app.chart_view import ChartView, averaged_candles
from oakladder.app.jobs import NotDone
from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.desk.chart.areas import runs
from oakladder.desk.chart.axes import PriceAxis
from oakladder.desk.chart.chart import Chart
from oakladder.desk.chart.export import picture_of, save_data
from oakladder.desk.chart.minmax_pyramid import Pyramid, step_for
from oakladder.desk.chart.readout import span_words, words_of
from oakladder.desk.chart.scale import Scale
from oakladder.desk.look.theme import DAY
from oakladder.engine.picture.draw import draw, merged
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script

PANES = """
line rsi(close, 5) color teal named "Strength"
line roc(close, 3) in pane "Pace" named "Pace"
histogram close - open in pane "Body" named "Body"
lane "Up" when close > open
line sma(close, 4) color rust named "Mean"
"""


@pytest.fixture
def chart(qtbot) -> Chart:  # type: ignore[no-untyped-def]
    made = Chart(DAY)
    qtbot.addWidget(made)
    made.resize(760, 620)
    made.show()
    return made


def show(chart: Chart, bars: Bars, script: str = "", decimals: int = 2) -> ChartView:
    panel = panel_of([bars])
    result = run(compile_script("rung 1\n" + script), panel)
    made = ChartView(bars, result, draw(result, DAY.paint), averaged_candles(panel))
    chart.show_view(made, decimals)
    return made


def picture(chart: Chart) -> QImage:
    return chart.grab().toImage()


def pixel(chart: Chart, bar: float, price: float, pane: str = "price") -> QPointF:
    owner = chart.panes[pane]
    place = owner.view.in_scene(QPointF(bar, float(owner.scale.to(price))))
    return QPointF(chart.mapFromScene(place))


def colours_near(image: QImage, point: QPointF, reach: int = 1) -> set[str]:
    x, y = round(point.x()), round(point.y())
    return {
        QColor(image.pixel(x + a, y + b)).name()
        for a in range(-reach, reach + 1)
        for b in range(-reach, reach + 1)
        if 0 <= x + a < image.width() and 0 <= y + b < image.height()
    }


def wide_bars() -> Bars:
    """Four bars far apart: rising, falling, rising, falling."""
    close = np.array([20.0, 12.0, 24.0, 10.0])
    open_ = np.array([10.0, 20.0, 12.0, 24.0])
    return daily_bars(close, open=open_, high=np.maximum(open_, close) + 2, low=np.minimum(open_, close) - 2)


# --- bars and scales ----------------------------------------------------------------------------------


def test_each_bar_style_paints_what_it_should(chart: Chart) -> None:
    show(chart, wide_bars())
    chart.see(-1, 8)
    body = pixel(chart, 1, 16)  # inside the falling body
    assert DAY.falling in colours_near(picture(chart), body)
    assert DAY.ground in colours_near(picture(chart), pixel(chart, 0, 15))  # a rising body is hollow
    chart.set_options(ChartOptions(style=BarStyle.BARS))
    ticked = picture(chart)
    assert DAY.falling in colours_near(ticked, body)
    assert DAY.falling not in colours_near(ticked, body + QPointF(8, 0))  # an upright, no body
    chart.set_options(ChartOptions(style=BarStyle.LINE))
    assert DAY.falling not in colours_near(picture(chart), body, 3)
    chart.set_options(ChartOptions(style=BarStyle.AVERAGED))
    view = chart.shown
    assert view is not None and view.averaged is not None
    middle = (view.averaged["open"][3] + view.averaged["close"][3]) / 2
    image = picture(chart)
    tones = colours_near(image, pixel(chart, 3, float(view.averaged["high"][3]) - 0.2))
    assert {DAY.falling, DAY.rising} & (tones | colours_near(image, pixel(chart, 3, middle), 2))


@pytest.mark.parametrize("kind", list(ScaleKind))
def test_every_price_stands_at_its_height_on_every_scale(chart: Chart, kind: ScaleKind) -> None:
    bars = daily_bars(np.exp(np.linspace(0, 5, 200)))
    chart.set_options(ChartOptions(scale=kind))
    show(chart, bars, "line close color teal width 3")
    chart.see(0, 210)
    low, high = chart.panes["price"].view.heights
    scale = chart.panes["price"].scale
    assert low < float(scale.to(bars["low"].min())) and float(scale.to(bars["high"].max())) < high
    image = picture(chart)
    for bar in (20, 100, 190):
        tones = colours_near(image, pixel(chart, bar, float(bars["close"][bar])), 2)
        assert any(abs(QColor(t).hue() - QColor(DAY.color("ink")).hue()) for t in tones)
        assert QColor(DAY.paint("teal")).name() in tones


@given(st.sampled_from(list(ScaleKind)), st.floats(0.001, 1e8), st.floats(0.01, 1e6))
def test_a_height_leads_back_to_its_price(kind: ScaleKind, price: float, base: float) -> None:
    scale = Scale(kind, base)
    assert scale.back(float(scale.to(price))) == pytest.approx(price, rel=1e-9, abs=1e-12 * base)


@pytest.mark.parametrize(("low", "high"), [(1.0, 1000.0), (90.0, 110.0), (0.0001, 3.0)])
def test_ticks_of_a_logarithmic_scale_are_round_prices_apart(qtbot, low: float, high: float) -> None:  # type: ignore[no-untyped-def]
    axis = PriceAxis()
    axis.price_scale = Scale(ScaleKind.LOG)
    ticks = axis.ticks(np.log10(low), np.log10(high), 400).heights
    prices = [10**t for t in ticks]
    assert len(ticks) >= 3
    for price in prices:
        digits = f"{price:.3e}".split("e")[0].rstrip("0").rstrip(".")
        assert len(digits.replace(".", "")) <= 3
    pixels = np.diff(ticks) * 400 / (np.log10(high) - np.log10(low))
    assert pixels.min() >= 23


def test_prices_of_nothing_and_below_leave_a_logarithmic_chart_standing(chart: Chart) -> None:
    chart.set_options(ChartOptions(scale=ScaleKind.LOG))
    show(chart, daily_bars([5.0, 0.0, -3.0, 8.0]), "line close - 6")
    picture(chart)
    low, high = chart.panes["price"].view.heights
    assert np.isfinite([low, high]).all() and low < high


def test_early_and_late_hours_are_shaded_and_sessions_parted(chart: Chart, market) -> None:  # type: ignore[no-untyped-def]
    from oakladder.bars.timeframes import Timeframe

    bars = market.bars("BRINE", Timeframe.parse("15m"), True)
    chart.show_view(ChartView(bars, None, None), 2)
    regular = bars.calendar.is_regular(bars.times)
    last = len(bars) - 1
    chart.see(last - 80, last)
    image = picture(chart)
    low = float(bars["low"][last - 80 :].min())
    early = next(k for k in range(last - 70, last) if not regular[k] and not regular[k + 1])
    inside = next(k for k in range(last - 70, last) if regular[k] and regular[k + 1])
    assert DAY.sunken in colours_near(image, pixel(chart, early + 0.5, low * 0.9995))
    assert DAY.sunken not in colours_near(image, pixel(chart, inside + 0.5, low * 0.9995))


# --- panes and legends --------------------------------------------------------------------------------


def test_volume_sits_under_the_price_and_each_unit_has_its_pane(chart: Chart) -> None:
    show(chart, random_bars(3, 80), PANES)
    assert list(chart.panes) == ["price", "volume", "lanes", "Body", "percent points", "Pace"] or set(chart.panes) == {
        "price",
        "volume",
        "lanes",
        "percent points",
        "Pace",
        "Body",
    }
    price, volume = (chart.panes[n].view.sceneBoundingRect() for n in ("price", "volume"))
    assert abs(price.bottom() - volume.top()) <= 2
    assert [e.name for e in chart.panes["Pace"].overlay.content.entries] == ["Pace"]
    assert [e.name for e in chart.panes["Body"].overlay.content.entries] == ["Body"]


def test_panes_fold_move_and_keep_their_heights(chart: Chart, qtbot) -> None:  # type: ignore[no-untyped-def]
    show(chart, random_bars(3, 80), PANES)
    before = list(chart.panes)
    chart.move_pane("Pace", -1)
    after = list(chart.panes)
    assert after.index("Pace") == before.index("Pace") - 1
    chart.fold_pane("Pace")
    qtbot.waitUntil(lambda: chart.panes["Pace"].plot.sceneBoundingRect().height() < 50)
    assert not chart.panes["Pace"].lines.shown
    show(chart, random_bars(4, 80), PANES + 'line mean_of in pane "More"'.replace("mean_of", "change(close, 2)"))
    assert chart.panes["Pace"].folded
    chart.fold_pane("Pace")
    assert chart.panes["Pace"].lines.shown


def test_dragging_an_edge_makes_one_pane_higher(chart: Chart, qtbot) -> None:  # type: ignore[no-untyped-def]
    show(chart, random_bars(3, 80), 'line rsi(close, 5) named "Strength"')
    qtbot.wait(20)
    name = list(chart.panes)[-1]
    top = chart.panes[name].plot.sceneBoundingRect().top()
    height = chart.panes[name].plot.sceneBoundingRect().height()
    at = chart.mapFromScene(QPointF(200, top))
    viewport = chart.viewport()
    QTest.mousePress(viewport, Qt.MouseButton.LeftButton, pos=at)
    QTest.mouseMove(viewport, at - QPoint(0, 60))
    QTest.mouseRelease(viewport, Qt.MouseButton.LeftButton, pos=at - QPoint(0, 60))
    qtbot.waitUntil(lambda: chart.panes[name].plot.sceneBoundingRect().height() > height + 30)
    assert name in chart.stack.layout.heights


def test_a_lower_chart_keeps_its_bars_below_the_legend(chart: Chart) -> None:
    bars = random_bars(3, 80)
    show(chart, bars, 'line sma(close, 4) named "Mean"')
    chart.resize(760, 1400)
    chart.resize(760, 320)
    picture(chart)
    pane = chart.panes["price"]
    first, last = (int(bar) for bar in pane.view.bars)
    top = pane.scale.to(float(bars["high"][max(first, 0) : last + 1].max()))
    legend = max(box.bottom() for box, _ in pane.overlay.places)
    assert pane.view.in_scene(QPointF(last, float(top))).y() >= legend


def test_an_edge_between_panes_without_room_stays_where_it_is(chart: Chart) -> None:
    show(chart, random_bars(3, 80), PANES)
    chart.resize(500, 170)
    panes = list(chart.panes.values())
    edge = panes[-1].plot.sceneBoundingRect().top()
    at = chart.mapFromScene(QPointF(200, edge))
    viewport = chart.viewport()
    QTest.mousePress(viewport, Qt.MouseButton.LeftButton, pos=at)
    QTest.mouseMove(viewport, at - QPoint(0, 12))
    QTest.mouseRelease(viewport, Qt.MouseButton.LeftButton, pos=at - QPoint(0, 12))
    chart.resize(500, 700)
    price, body = (chart.panes[name].plot.size().height() for name in ("price", "Body"))
    assert price > 2 * body, "the heights that are wanted are as they were"


@pytest.mark.parametrize("height", [90, 320, 620, 1400])
def test_panes_fill_the_chart_whatever_its_size(chart: Chart, height: int) -> None:
    """From the top edge to the bottom one, none over another, the times in sight."""
    show(chart, random_bars(3, 80), PANES)
    chart.fold_pane("Pace")
    chart.resize(500, height)
    panes = list(chart.panes.values())
    boxes = [pane.plot.sceneBoundingRect() for pane in panes]
    assert boxes[0].top() == 0 and boxes[-1].bottom() == chart.height()
    for above, below in itertools.pairwise(boxes):
        assert above.bottom() == below.top() and above.height() > 0
    assert all(box.width() == chart.width() for box in boxes)
    times = chart.stack.time_axis.sceneBoundingRect()
    assert times.bottom() == chart.height() and (height < 320 or times.height() == 24)
    view, axis = panes[0].view.sceneBoundingRect(), panes[0].axis.sceneBoundingRect()
    assert view.right() == axis.left() and axis.right() == chart.width()
    if height >= 620:
        loose = [pane for pane in panes if not pane.folded and pane.name != "lanes"]
        assert len(loose) > 3 and all(pane.plot.size().height() >= 40 for pane in loose)
        assert chart.panes["price"].plot.size().height() > 2 * chart.panes["Body"].plot.size().height()


@pytest.mark.parametrize("width", [240, 330, 420, 760])
def test_words_in_a_corner_do_not_cover_the_legend(chart: Chart, width: int) -> None:
    chart.resize(width, 420)
    lines = 'line sma(close, 4) named "The mean of four"\nline sma(close, 9) named "The mean of nine"\n'
    notes = 'note "to the right of all" at top right\nnote "and to the left of it" at top left\n'
    show(chart, random_bars(3, 80), lines)
    without = picture(chart)
    show(chart, random_bars(3, 80), lines + notes)
    both = picture(chart)
    legend = [box.toAlignedRect() for box, _ in chart.panes["price"].overlay.places]
    assert legend and all(without.copy(box) == both.copy(box) for box in legend)
    assert without != both


def test_a_click_on_the_legend_hides_a_line_and_brings_it_back(chart: Chart) -> None:
    show(chart, random_bars(3, 80), PANES)
    picture(chart)
    overlay = chart.panes["price"].overlay
    place, name = overlay.places[0]
    assert name == "Mean"
    QTest.mouseClick(chart.viewport(), Qt.MouseButton.LeftButton, pos=place.center().toPoint())
    assert chart.panes["price"].lines.lines == []
    assert overlay.content.entries[0].hidden
    chart.toggle("Mean")
    assert [line.name for line in chart.panes["price"].lines.lines] == ["Mean"]


def test_what_is_remembered_comes_back_and_nonsense_does_not() -> None:
    options = ChartOptions(BarStyle.BARS, ScaleKind.LOG, True, True)
    assert read_options(options.as_plain()) == options
    assert read_options({"style": "wigwam", "scale": 3}) == ChartOptions() == read_options(None)
    panes = PaneLayout(["a", "b"], {"a": 90.0}, {"b"}, {"x"})
    assert read_panes(panes.as_plain()) == panes
    assert read_panes({"order": "a", "heights": {"a": "tall", "b": -4}, "hidden": [3]}) == PaneLayout()
    assert panes.arranged(["c", "b", "a"]) == ["a", "b", "c"]


def test_several_scripts_share_a_chart_under_their_captions(chart: Chart) -> None:
    bars = random_bars(3, 80)
    panel = panel_of([bars])
    one, two = (
        draw(
            run(
                compile_script(
                    f'rung 1\nsetting n = 3 range 1..50\nline sma(close, n) named "Mean"\nsignal go = close > open\npaint bars color {c} when close > open\nnote "here"'
                ),
                panel,
                {"n": n},
            ),
            DAY.paint,
        )
        for n, c in ((3, "teal"), (9, "plum"))
    )
    both = merged([("", one), ("slower (n 9)", two)])
    chart.show_view(ChartView(bars, None, both), 2)
    assert [e.name for e in chart.panes["price"].overlay.content.entries] == ["Mean", "Mean · slower (n 9)"]
    assert [e.name for e in both.events] == ["go", "go · slower (n 9)"]
    assert both.bar_colours is not None and DAY.paint("teal") in both.bar_colours
    assert DAY.paint("plum") not in both.bar_colours  # the open script comes first
    assert [n.text_at(5) for n in both.notes] == ["here", "slower (n 9): here"]


# --- marks and labels ---------------------------------------------------------------------------------


def test_labels_that_would_cover_one_another_fold_into_a_count(chart: Chart) -> None:
    show(chart, daily_bars(np.full(300, 50.0)), 'label "number {bar}" above color good when close > 0')
    chart.see(0, 300)
    picture(chart)
    shown = chart.marks.drawn
    assert 3 <= len(shown) < 40
    for k, one in enumerate(shown):
        assert not any(one.box.intersects(other.box) for other in shown[k + 1 :])
    counted = sum(len(d.words.split("\n")) for d in shown)
    assert counted > len(shown) and any("more" in d.words for d in shown)
    chart.see(100, 108)
    picture(chart)
    assert {d.words for d in chart.marks.drawn if 101 <= d.bar <= 107} == {f"number {k}" for k in range(101, 108)}


def test_a_drawing_that_was_known_later_says_so_and_can_stand_there(chart: Chart) -> None:
    closes = np.concatenate([np.arange(10.0, 20), np.arange(20.0, 10, -1)])
    show(chart, daily_bars(closes), "mark known(swing_high(3, 3)) above shape ring color rust ago 3")
    chart.see(0, 22)
    picture(chart)
    peak = int(closes.argmax())
    radius = 2.6 + 1.5 * 2
    point = pixel(chart, peak, float(closes[peak])) - QPointF(0, 5 + radius)
    found = chart.marks.at(point)
    assert found is not None and (found.bar, found.known) == (peak, peak + 3)
    assert chart.shown is not None
    words = words_of(chart.shown.bars, found)
    assert "Known 3 bars later" in words
    chart.moved_to(chart.mapToScene(point.toPoint()))
    assert chart.panes["price"].overlay.content.known == (peak, peak + 3)
    chart.set_options(ChartOptions(as_known=True))
    picture(chart)
    assert chart.marks.at(point) is None
    there = chart.marks.at(pixel(chart, peak + 3, float(closes[peak + 3])) - QPointF(0, 5 + radius))
    assert there is not None and there.known == peak + 3


def test_marks_on_one_bar_stack_outward_and_leave_the_bar_free(chart: Chart) -> None:
    show(
        chart,
        wide_bars(),
        "mark bar == 1 below shape dot color teal size 3\nmark bar == 1 below shape square color plum size 3\n"
        'mark bar == 1 above shape star color rust text "top {close:.0}"',
    )
    chart.see(-1, 8)
    image = picture(chart)
    low = pixel(chart, 1, 10.0)
    first, second = low + QPointF(0, 5 + 7), low + QPointF(0, 5 + 7 * 2 + 2 + 7)
    assert QColor(DAY.paint("teal")).name() in colours_near(image, first)
    assert QColor(DAY.paint("plum")).name() in colours_near(image, second)
    above = chart.marks.at(pixel(chart, 1, 22.0) - QPointF(0, 5 + 5.6))
    assert above is not None and above.words == "top 12"


def test_marks_and_labels_can_stand_in_another_pane(chart: Chart) -> None:
    show(
        chart,
        wide_bars(),
        'line close - open in pane "Body"\nmark bar == 2 at close - open shape square color plum size 4 in pane "Body"\n'
        'label "here" above color good when bar == 1 in pane "Body"\nmark bar == 3 below shape dot in pane "Body"',
    )
    chart.see(-1, 8)
    image = picture(chart)
    assert QColor(DAY.paint("plum")).name() in colours_near(image, pixel(chart, 2, 12.0, "Body"))
    body = chart.panes["Body"]
    assert [d.words for d in body.marks.drawn] == ["here"] and chart.marks.drawn == []
    box = body.marks.box
    assert box.contains(body.marks.drawn[0].box)
    assert body.marks.at(QPointF(float(body.marks.bar_x(3)), box.bottom() - 22 + 5.6)) is not None


# --- reading ------------------------------------------------------------------------------------------


def test_measuring_tells_bars_time_price_and_per_cent(chart: Chart) -> None:
    show(chart, daily_bars(np.arange(10.0, 60)))
    made = chart.measure((5, 15.0), (12, 22.5))
    assert made is not None
    assert made.words[0] == "+7.50  +50.00%" and made.words[1].startswith("7 bars, ")
    assert chart.panes["price"].overlay.content.measure == made
    picture(chart)
    chart.pin(8)
    assert chart.panes["price"].overlay.content.measure is None


def test_shift_and_drag_measures_and_plain_dragging_pans(chart: Chart) -> None:
    show(chart, daily_bars(np.arange(10.0, 210)))
    picture(chart)
    a, b = (pixel(chart, bar, price) for bar, price in ((150, 160.0), (180, 190.0)))
    chart._measured(chart.mapToScene(a.toPoint()), chart.mapToScene(b.toPoint()))
    made = chart.panes["price"].overlay.content.measure
    assert made is not None and made.start[0] == 150 and made.end[0] == 180
    assert made.words[0].startswith("+") and "30 bars" in made.words[1]


@pytest.mark.parametrize(
    ("seconds", "words"), [(0, "0 min"), (300, "5 min"), (90_000, "1 d 1 h"), (7_260, "2 h 1 min"), (172_800, "2 d")]
)
def test_lengths_of_time_are_short(seconds: int, words: str) -> None:
    assert span_words(seconds) == words


def test_the_last_price_stands_on_the_axis(chart: Chart) -> None:
    show(chart, daily_bars([10.0, 12.0, 11.0]))
    ((height, text, color, _),) = chart.panes["price"].axis.tags
    assert (height, text, color.name()) == (11.0, "11.00", DAY.falling)


def test_letters_typed_on_the_chart_are_handed_on(chart: Chart, qtbot) -> None:  # type: ignore[no-untyped-def]
    show(chart, daily_bars([10.0, 12.0, 11.0]))
    with qtbot.waitSignal(chart.typed) as told:
        QTest.keyClick(chart, Qt.Key.Key_G)
    assert told.args == ["g"]


# --- taking it away -----------------------------------------------------------------------------------


def test_the_chart_is_saved_as_picture_and_data(chart: Chart, tmp_path: Path) -> None:
    view = show(chart, random_bars(3, 60, holes=False), PANES + "signal go = close > open\nmark go shape star")
    for name, head in (("a.png", b"\x89PNG"), ("a.svg", b"<?xml")):
        picture_of(chart, tmp_path / name)()
        assert (tmp_path / name).read_bytes().startswith(head)
    assert b"<path" in (tmp_path / "a.svg").read_bytes()
    save_data(view, tmp_path / "a.csv")
    rows = list(csv.DictReader((tmp_path / "a.csv").open()))
    assert len(rows) == 60
    np.testing.assert_allclose([float(r["close"]) for r in rows], view.bars["close"])
    assert rows[0]["Mean"] == "" and float(rows[10]["Mean"]) == pytest.approx(view.bars["close"][7:11].mean())
    assert {r["go"] for r in rows} == {"0", "1"}
    for name in ("x.csv", "x.png", "x.svg"):
        with pytest.raises(NotDone):
            target = taken(tmp_path) / name
            save_data(view, target) if name.endswith("csv") else picture_of(chart, target)()


# --- the parts underneath -----------------------------------------------------------------------------


@settings(max_examples=60, deadline=None)
@given(st.integers(1, 30_000), st.integers(0, 9), st.data())
def test_a_pyramid_gives_the_extremes_of_any_stretch(count: int, seed: int, data: st.DataObject) -> None:
    rng = np.random.default_rng(seed)
    values = np.where(rng.random(count) < 0.05, np.nan, rng.normal(0, 1, count))
    pyramid = Pyramid(values)
    a = data.draw(st.integers(0, count - 1))
    b = data.draw(st.integers(a + 1, count))
    part = values[a:b][~np.isnan(values[a:b])]
    expected = (part.min(), part.max()) if len(part) else (np.nan, np.nan)
    np.testing.assert_array_equal(pyramid.ends(a, b), expected)
    step = 1 << data.draw(st.integers(0, 12))
    starts = np.arange(a - a % step, b, step)
    low, high = pyramid.groups(starts, step)
    end = min(int(starts[-1]) + step, count)
    edges = [*starts.tolist(), end]
    for k in range(len(starts)):
        whole = values[edges[k] : edges[k + 1]]
        known = whole[~np.isnan(whole)]
        if len(known):
            # The last group may reach to the end of a coarser block, which the array ends before.
            assert low[k] == known.min() or k == len(starts) - 1
            assert high[k] == known.max() or k == len(starts) - 1


@given(st.floats(1e-6, 20))
def test_no_two_groups_share_more_than_a_pixel(width: float) -> None:
    step = step_for(width)
    assert step == 1 if width >= 1 else 1 <= step * width <= 2.0001


@given(st.lists(st.integers(0, 3), max_size=60))
def test_runs_of_a_colour_put_the_colours_together_again(colours: list[int]) -> None:
    array = np.array(colours, dtype=np.uint32)
    again = np.zeros_like(array)
    for a, b, tone in zip(*runs(array), strict=True):
        assert tone and (array[a:b] == tone).all()
        again[a:b] = tone
    np.testing.assert_array_equal(again, array)
