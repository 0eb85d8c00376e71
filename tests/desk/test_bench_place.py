"""The Bench, driven for real: typing, settings, ladder, watchlist, chart, keys."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QSpinBox, QWidget

from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.desk.app import make_app, make_window
from oakladder.desk.look.theme import DAY, NIGHT, Theme
from oakladder.desk.screenshot import settle
from oakladder.desk.window import Window
from oakladder.engine.columns.fill import cells

RULE = 'rung 1\nsignal up = close > close[1] bullish "up"\nline sma(close, 5) color teal named "Five"\n'


def type_script(window: Window, text: str) -> None:
    """Replaces the text of the editor as if it had been typed."""
    editor = window.bench.script.editor
    editor.selectAll()
    editor.replaceSelectedText(text)


def names(window: Window) -> list[str]:
    return [line.name for line in window.bench.chart.panes["price"].lines.lines]


def test_first_start_shows_a_market_a_script_and_signals(window: Window) -> None:
    bench = window.bench
    assert bench.watchlist.rows.rowCount() == 77
    assert bench.heading.text() == "BRINE  1d"
    assert names(window) == ["Short tide", "Long tide"]
    assert "rung 1" in bench.script.editor.text()
    assert len(bench.ladder.signal_ages) == 12
    model = bench.watchlist.model
    assert all(model.data(model.index(0, c)) not in ("", "…") for c in range(5))
    assert bench.strip.events and len(bench.strip.all_bars())


def test_typing_changes_chart_ladder_and_columns_without_a_button(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(window, RULE)
    calm(window)
    assert names(window) == ["Five"]
    market, program = window.session.library, window.session.rule.program
    assert program is not None
    for column, frame in ((3, ONE_DAY), (4, Timeframe.parse("1h"))):
        expected = cells(program, None, market, ["GULLW"], frame)[0]["GULLW"].text
        model = window.bench.watchlist.model
        assert model.data(model.index(2, column)) == expected
    assert {p.signal for found in window.bench.ladder.signal_ages.values() for p in found} == {"up"}


def test_going_elsewhere_while_a_script_compiles_shows_both(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    scripts = {p.stem: p for p in window.session.workspace.script_files()}
    for symbol in (window.session.chart.symbol, "GULLW"):
        for stem, first in (("below_the_band", "Middle"), ("tide_turn", "Short tide")):
            window.session.rule.open(scripts[stem])
            window.session.chart.go_to(symbol)
            calm(window)
            assert names(window)[0] == first
            assert window.bench.strip.events and window.bench.heading.text() == f"{symbol}  1d"


def test_a_broken_script_keeps_the_last_picture_and_says_so(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(window, RULE)
    calm(window)
    type_script(window, RULE + "line clsoe\n")
    calm(window)
    panel = window.bench.script
    assert names(window) == ["Five"]
    assert panel.verdict.text().startswith("1 error")
    assert "Did you mean `close`" in panel.problems.item(0).text()
    assert panel.editor.problem_at(3, 6) is not None
    panel.problems.itemClicked.emit(panel.problems.item(0))
    assert panel.editor.getCursorPosition() == (3, 5)
    type_script(window, RULE + "line close\n")
    calm(window)
    assert panel.verdict.text().endswith("No errors.")
    assert len(names(window)) == 2


def test_what_is_typed_is_saved_and_its_past_is_kept(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    path = window.session.script.path
    assert path is not None
    old = path.read_text()
    type_script(window, RULE)
    qtbot.waitUntil(lambda: path.read_text() == RULE)
    kept = window.session.workspace.versions.of(path.name)
    assert [v.text() for v in kept] == [old]


def test_a_setting_moves_the_line_and_not_the_text(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    before = window.bench.chart.panes["price"].lines.lines[0].values.copy()
    text = window.bench.script.editor.text()
    spin = window.bench.script.settings.controls["short"]
    assert isinstance(spin, QSpinBox) and spin.value() == 10
    spin.stepUp()
    calm(window)
    after = window.bench.chart.panes["price"].lines.lines[0].values
    assert not np.array_equal(before, after, equal_nan=True)
    assert window.bench.script.editor.text() == text
    assert window.session.rule.settings == {"short": 11.0}


def test_the_ladder_changes_the_timeframe_and_the_watchlist_the_symbol(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    ladder = window.bench.ladder
    QTest.mouseClick(ladder, Qt.MouseButton.LeftButton, pos=ladder.rect().center())
    expected = ladder.step_at(ladder.rect().center().y())
    calm(window)
    assert window.session.chart.timeframe == expected != ONE_DAY
    window.bench.watchlist.table.setFocus()
    QTest.keyClick(window.bench.watchlist.table, Qt.Key.Key_Down)
    calm(window)
    assert window.bench.heading.text() == f"CROSS  {expected}"
    assert window.bench.chart.shown is not None and window.bench.chart.shown.bars.symbol == "CROSS"


def test_keys_step_through_signals_timeframes_and_bars(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    chart, strip = window.bench.chart, window.bench.strip
    window.previous_signal()
    fired = strip.all_bars()
    assert chart.pinned == fired[-1]
    window.previous_signal()
    assert chart.pinned == fired[-2]
    window.next_signal()
    assert chart.pinned == fired[-1]
    first, last = chart.seen
    chart.setFocus()
    QTest.keyClick(chart, Qt.Key.Key_Left)
    assert chart.seen[0] < first
    QTest.keyClick(chart, Qt.Key.Key_Plus)
    assert chart.seen[1] - chart.seen[0] < last - first
    QTest.keyClick(chart, Qt.Key.Key_Home)
    assert chart.seen[0] <= 1
    QTest.keyClick(chart, Qt.Key.Key_Escape)
    assert chart.pinned is None
    window.longer_timeframe()
    calm(window)
    assert str(window.session.chart.timeframe) == "1w"


def test_the_cursor_reads_every_value_at_its_bar(window: Window) -> None:
    chart = window.bench.chart
    view = chart.panes["price"].view
    bars = chart.shown.bars  # type: ignore[union-attr]
    bar = len(bars) - 40
    chart.moved_to(view.in_scene(QPointF(bar, float(bars["close"][bar]))))
    text = window.bench.reading.text()
    for name in ("open", "high", "low", "close"):
        assert f"{bars[name][bar]:,.2f}" in text
    entries = chart.panes["price"].overlay.content.entries
    assert entries[0].value == f"{chart.panes['price'].lines.lines[0].values[bar]:,.2f}"
    note = chart.panes["price"].overlay.content.notes[0][1]
    assert entries[0].value in note


def pixel(window: Window, bar: int, price: float) -> QColor:
    """The colour that the chart shows at a bar and price."""
    chart = window.bench.chart
    view = chart.panes["price"].view
    point = chart.mapFromScene(view.in_scene(QPointF(bar, price)))
    return chart.viewport().grab().toImage().pixelColor(point)  # type: ignore[union-attr]


def near(a: QColor, b: QColor) -> bool:
    return abs(a.red() - b.red()) + abs(a.green() - b.green()) + abs(a.blue() - b.blue()) < 40


def test_rising_bars_are_hollow_falling_bars_filled_painted_bars_coloured(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(window, "rung 1\npaint bars color plum when close < open and bar mod 2 == 0\n")
    calm(window)
    chart = window.bench.chart
    bars = chart.shown.bars  # type: ignore[union-attr]
    chart.see(len(bars) - 30, len(bars) + 2)
    body = bars["close"] - bars["open"]
    tall = np.abs(body) > 0.25 * np.abs(body[-30:]).max()
    theme = window.session.chart.theme
    checked = set()
    for bar in range(len(bars) - 28, len(bars)):
        if not tall[bar]:
            continue
        middle = float(bars["open"][bar] + bars["close"][bar]) / 2
        if body[bar] > 0:
            expected, kind = theme.color("ground"), "rising"
        elif bar % 2 == 0:
            expected, kind = QColor("#7b4b78"), "painted"
        else:
            expected, kind = theme.color("falling"), "falling"
        assert near(pixel(window, bar, middle), expected), (bar, kind)
        checked.add(kind)
    assert checked == {"rising", "falling", "painted"}


def test_areas_and_lanes_are_painted_where_they_belong(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(
        window,
        """rung 1
let late = bar >= 1520
lane "Late" color rose when late
paint background color plum when bar between 1500 and 1510
zone 10 to 200 color teal lasting 3 bars when bar == 1525
band low, high color rust when bar > 99999
histogram close - open color good in pane "Body"
paint volume color lime when late
""",
    )
    calm(window)
    chart = window.bench.chart
    chart.see(1480, 1545)
    assert list(chart.panes) == ["price", "volume", "lanes", "Body"]
    high = float(chart.panes["price"].view.heights[1])
    ground = window.session.chart.theme.color("ground")

    def top(bar: int) -> QColor:
        return pixel(window, bar, high - (high - float(chart.panes["price"].view.heights[0])) * 0.3)

    assert not near(top(1505), ground) and near(top(1493), ground)
    assert top(1526).green() > top(1526).red() and near(top(1530), ground)
    view = chart.panes["lanes"].view
    image = chart.viewport().grab().toImage()  # type: ignore[union-attr]
    middle = (view.heights[0] + view.heights[1]) / 2
    lane = [image.pixelColor(chart.mapFromScene(view.in_scene(QPointF(b, middle)))) for b in (1512, 1530)]
    assert near(lane[0], ground) and near(lane[1], QColor("#c4707c"))


def test_lanes_have_no_heights_that_could_be_read_off(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(window, "rung 1\n" + "".join(f'lane "L{k}" color rose when close > open\n' for k in range(4)))
    calm(window)
    chart = window.bench.chart
    image = chart.viewport().grab().toImage()  # type: ignore[union-attr]

    def beside(name: str) -> set[str]:
        axis = chart.panes[name].axis
        box = chart.mapFromScene(axis.mapRectToScene(axis.boundingRect())).boundingRect().adjusted(4, 2, -4, -2)
        rows, columns = range(box.top(), box.bottom()), range(box.left(), box.right())
        return {image.pixelColor(x, y).name() for x in columns for y in rows}

    assert len(beside("lanes")) == 1 < len(beside("price"))


def test_night_changes_every_part(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.toggle_night()
    calm(window)
    assert window.session.chart.theme is NIGHT
    shown = window.bench.chart.viewport().grab().toImage()  # type: ignore[union-attr]
    mean = shown.scaled(1, 1, transformMode=Qt.TransformationMode.SmoothTransformation).pixelColor(0, 0)
    assert mean.lightness() < 90
    editor = window.bench.script.editor
    assert editor.grab().toImage().pixelColor(editor.width() - 40, editor.height() - 40).lightness() < 90


def test_the_desk_comes_back_as_it_was(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.session.chart.go_to("FLAKE", Timeframe.parse("1h"))
    window.session.rule.set_setting("short", 14)
    calm(window)
    window.close()
    again = make_window(window.session.workspace)
    again.show()
    settle(make_app(), again.session)
    try:
        assert again.bench.heading.text() == "FLAKE  1h"
        assert again.session.rule.settings == {"short": 14}
        assert again.bench.script.settings.controls["short"].value() == 14  # type: ignore[attr-defined]
    finally:
        again.close()


def test_the_palette_finds_actions_and_symbols(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.open_palette()
    palette = window.palette_dialog
    QTest.keyClicks(palette.line, "flake")
    QTest.keyClick(palette.line, Qt.Key.Key_Return)
    calm(window)
    assert window.session.chart.symbol == "FLAKE"
    window.open_palette()
    QTest.keyClicks(window.palette_dialog.line, "no such thing")
    assert window.palette_dialog.list.item(0).text() == "No match."  # type: ignore[union-attr]
    window.palette_dialog.close()


def test_a_new_script_starts_with_a_rule_that_works(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.session.rule.new("My first rule")
    calm(window)
    assert window.session.script.path is not None and window.session.script.path.name == "my_first_rule.rung"
    assert window.bench.script.verdict.text().endswith("No errors.")
    assert names(window) == ["Average"]
    window.session.rule.new("My first rule")
    calm(window)
    assert window.session.script.path.name == "my_first_rule_2.rung"


def test_sides_fold_and_the_window_may_be_small(window: Window) -> None:
    window.resize(1000, 700)
    window.fold_list()
    window.fold_script()
    assert not window.bench.watchlist.isVisible() and not window.bench.script.isVisible()
    window.focus_script()
    assert window.bench.script.isVisible()


def test_sides_that_do_not_fit_fold_and_come_back_with_the_room(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    bench = window.bench

    def in_sight() -> list[bool]:
        calm(window)
        parts = [p for k in range(bench.splitter.count()) if (p := bench.splitter.widget(k)) and p.isVisible()]
        edges = [(p.geometry().left(), p.geometry().right()) for p in parts]
        assert all(one[1] < other[0] for one, other in itertools.pairwise(edges)), "parts overlap"
        assert edges[-1][1] <= bench.splitter.width() and all(p.width() >= p.minimumSizeHint().width() for p in parts)
        return [p.isVisible() for p in (bench.watchlist, bench.side)]

    assert in_sight() == [True, True]
    window.resize(500, 300)
    assert (window.width(), window.height()) == (800, 560)  # which is the least
    assert in_sight() == [False, True]
    window.action_by_name["fold_list"].trigger()
    assert in_sight() == [True, False]  # the one that was asked for last
    window.action_by_name["fold_script"].trigger()
    assert in_sight() == [False, True]
    window.action_by_name["focus_list"].trigger()
    assert in_sight() == [True, False] and bench.watchlist.isVisible()
    window.resize(1280, 800)
    assert in_sight() == [True, True]
    window.action_by_name["fold_list"].trigger()
    window.resize(800, 560)
    window.resize(1280, 800)
    assert in_sight() == [False, True]  # what was folded away by hand stays away


@pytest.mark.parametrize("size", [(800, 560), (1000, 700)])
def test_no_button_is_cut_in_a_small_window(window: Window, calm, size: tuple[int, int]) -> None:  # type: ignore[no-untyped-def]
    window.resize(*size)
    for show in (
        window.show_bench,
        window.show_ladder,
        window.show_scan,
        window.show_trial,
        window.show_data,
        window.show_alerts,
    ):
        show()
        calm(window)
        place = window.places.currentWidget()
        assert place is not None
        for button in [b for b in place.findChildren(QAbstractButton) if b.isVisible() and b.text()]:
            right = button.mapTo(window, button.rect().bottomRight()).x()
            assert right <= window.width() and button.width() >= button.minimumSizeHint().width(), button.text()


def test_a_timeframe_that_a_script_cannot_run_on_is_said_on_the_chart(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(window, "rung 1\nline close on 1d\n")
    window.session.chart.go_to(timeframe=Timeframe.parse("1w"))
    calm(window)
    assert "shorter than the 1w" in window.bench.chart.panes["price"].overlay.content.trouble
    window.session.chart.go_to(timeframe=ONE_DAY)
    calm(window)
    assert window.bench.chart.panes["price"].overlay.content.trouble == ""


def test_as_much_of_a_bar_is_written_out_as_there_is_room(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    bench = window.bench
    window.resize(1500, 800)
    calm(window)
    wide = bench.reading.text()
    window.resize(1000, 700)
    calm(window)
    narrow = bench.reading.text()
    assert "V " in wide and len(narrow) < len(wide)
    assert bench.reading.fontMetrics().horizontalAdvance(narrow) <= bench.reading.width() + 2
    for _ in range(3):  # beside other charts it has the room over all of them
        window.action_by_name["more_charts"].trigger()
    calm(window)
    assert "2026" in bench.reading.text()
    window.action_by_name["one_chart"].trigger()
    window.session.chart.go_to(timeframe=Timeframe.parse("15m"))  # the time of the bar makes it longer
    calm(window)
    assert bench.reading.fontMetrics().horizontalAdvance(bench.reading.text()) <= bench.reading.width() + 2


def test_night_reaches_every_part_however_it_is_asked_for(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    def ground(widget: QWidget) -> str:
        return str(widget.grab().toImage().pixelColor(widget.width() - 3, 3).name())

    def wait_for(theme: Theme) -> None:
        calm(window)
        QTest.qWait(40)
        assert ground(window.top) == theme.raised
        assert ground(window.places.currentWidget()) in (theme.raised, theme.ground)  # type: ignore[arg-type]

    wait_for(DAY)
    window.toggle_night()
    wait_for(NIGHT)
    window.show_scan()
    wait_for(NIGHT)
    window.toggle_night()
    window.show_ladder()
    wait_for(DAY)
    other = Window(window.session)  # as at a start that remembers the night
    window.session.chart.set_theme(NIGHT)
    other.show()
    calm(window)
    assert ground(other.top) == NIGHT.raised
    other.deleteLater()


def test_once_all_is_calm_every_part_in_sight_is_painted(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    """A part that is being styled is not painted: a picture taken then would have a hole."""
    for show in (window.show_trial, window.show_scan, window.show_bench) * 3:
        show()
        window.toggle_night()
        calm(window)
        assert all(part.updatesEnabled() for part in window.findChildren(QWidget) if part.isVisible())
