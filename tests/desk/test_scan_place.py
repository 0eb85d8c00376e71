"""The Scan place: choose, run, stop, open a hit with its bar marked."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from oakladder.bars.timeframes import ONE_DAY
from oakladder.desk.window import Window
from oakladder.engine.scan import scan


def test_a_scan_lists_hits_and_enter_opens_the_bar(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    place = window.scan
    window.show_scan()
    place.script.setCurrentText("Quiet water")
    place.signal.setCurrentText("out_down")
    place.within.setValue(12)
    QTest.mouseClick(place.run_button, Qt.MouseButton.LeftButton)
    calm(window)
    assert place.program is not None
    expected = scan(place.program, "out_down", window.desk.library, window.desk.library.infos, ONE_DAY, 12)
    assert place.model.hits == list(expected.hits) and expected.hits
    assert place.verdict.text().startswith(f"{len(expected.hits)} of 77")
    place.table.selectRow(1)
    QTest.keyClick(place.table, Qt.Key.Key_Return)
    calm(window)
    hit = expected.hits[1]
    assert window.places.currentWidget() is window.bench
    assert window.bench.heading.text() == f"{hit.symbol}  1d"
    bars = window.bench.chart.shown.bars  # type: ignore[union-attr]
    assert window.bench.chart.pinned == len(bars) - 1 - hit.bars_ago
    assert window.desk.path is not None and window.desk.path.stem == "quiet_water"


def test_the_table_sorts_by_what_its_numbers_mean(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.show_scan()
    window.scan.within.setValue(60)
    window.run_scan()
    calm(window)
    window.scan.table.sortByColumn(6, Qt.SortOrder.DescendingOrder)
    changes = [h.change for h in window.scan.model.hits]
    assert changes == sorted(changes, reverse=True) and len(changes) > 5


def test_a_scan_can_be_stopped(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.show_scan()
    window.scan.timeframe.setCurrentText("1m")
    window.scan.run()
    assert window.scan.stop_button.isEnabled() and not window.scan.run_button.isEnabled()
    window.scan.stop()
    calm(window)
    assert window.scan.verdict.text().startswith("Stopped")
    assert window.scan.run_button.isEnabled()


def test_a_script_with_errors_cannot_be_scanned_and_says_so(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    (window.desk.workspace.scripts / "broken.rung").write_text("rung 1\nsignal go = clsoe\n")
    window.show_scan()
    window.scan.script.setCurrentText("Broken")
    assert "1 errors" in window.scan.about.text() or "1 error" in window.scan.about.text()
    assert not window.scan.run_button.isEnabled()
