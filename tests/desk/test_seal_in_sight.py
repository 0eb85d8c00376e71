"""What came of a rule on sealed days is nowhere in sight until its seal is broken: the chart, cells, Why, the Scan."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

import windows
from oakladder.app.columns import ScriptColumn
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.window import Window
from oakladder.engine.positions import IN_SINCE

Calm = Callable[[Window], None]
_ALT = Qt.KeyboardModifier.AltModifier
RULE = """rung 1
title "Mine"
signal over = close > highest(high, 20)[1] bullish
signal rich = position.gain > 1% and close > 0
trade ride long
    enter when over
    at most 400 bars
label "{position.gain}" when over
"""


@pytest.fixture
def bench(window: Window, calm: Calm) -> Window:
    windows.opened(window, calm, RULE, "mine")
    return window


def broken(window: Window, calm: Calm) -> None:
    """Breaks the seal on all symbols, as a user does."""
    QTest.keyClick(window, Qt.Key.Key_4, _ALT)
    calm(window)
    window.trial.show_notebook()
    calm(window)
    window.trial.notebook.ask = lambda: True
    QTest.mouseClick(window.trial.notebook.break_button, Qt.MouseButton.LeftButton)
    windows.wait(window, calm, lambda: bool(window.session.notebook.breaks()))
    QTest.keyClick(window, Qt.Key.Key_1, _ALT)
    calm(window)


def test_the_chart_tells_no_result_of_sealed_days(bench: Window, calm: Calm) -> None:
    chart = bench.session.chart
    view = chart.view
    assert view is not None and view.trades is not None and view.picture is not None
    trades = view.trades
    assert 0 < trades.opened < trades.bars and trades.is_sealed.any() and not trades.is_sealed.all()
    assert np.isnan(trades.gain[trades.is_sealed]).all() and not np.isnan(trades.gain[~trades.is_sealed]).any()
    last = int(np.flatnonzero(trades.is_sealed)[-1])
    assert "its result is sealed" in trades.words(last) and "%" not in trades.words(last)
    assert max(view.picture.labels[0].bars) < trades.opened
    # Signals go on, and Why gives no number of a result.
    over = next(e for e in view.picture.events if e.name == "over")
    assert max(over.bars) >= trades.opened
    chart.ask_why("rich")
    calm(bench)
    why = bench.bench.below.why.why
    assert why is not None
    held = int(trades.entered[last]) + 1
    assert next(v.value_words()[0] for v in why.at(held).parts) == "–"
    bench.bench.below.why.follow(held)
    calm(bench)
    QTest.qWait(300)
    assert "%" not in bench.bench.below.why.story.text()
    assert not bench.bench.grab().isNull()
    broken(bench, calm)
    whole = chart.view.trades if chart.view is not None else None
    assert whole is not None and not whole.is_sealed.any() and not np.isnan(whole.gain).any()


def test_cells_tell_no_result_until_the_seal_is_broken(bench: Window, calm: Calm) -> None:
    session = bench.session
    column = ScriptColumn(session.script.path.name, IN_SINCE, ["1d"])  # type: ignore[union-attr]
    symbols = list(session.symbols.infos)

    def cells() -> list[str]:
        found: list[str] = []
        jobs = session.column_jobs("test")
        from oakladder.app.columns import places_of

        def then(made) -> None:  # type: ignore[no-untyped-def]
            found.extend(c.text for filled in made.values() for c in filled.cells.values())

        jobs.ask([column], places_of([column]), symbols, then)
        calm(bench)
        return [text for text in found if "bar" in text or "new" in text]

    assert cells() and not any("%" in text for text in cells())
    # The ladder of timeframes says that a position is held, and not what it brought.
    held = [p.held for pips in session.chart.signal_ages.values() for p in pips if p.held is not None]
    assert all(h.gain is None for h in held)
    broken(bench, calm)
    assert all("%" in text for text in cells())


def test_the_scan_does_not_tell_what_followed_on_sealed_days(bench: Window, calm: Calm) -> None:
    session = bench.session
    session.trials.set_ground(list_name="All symbols", timeframe=Timeframe.parse("1d"))
    QTest.keyClick(bench, Qt.Key.Key_3, _ALT)
    calm(bench)
    scan = bench.scan
    scan.days.setValue(200)  # all of them within the sealed part
    scan.look_back()
    windows.wait(bench, calm, lambda: bool(scan.results.past.all))
    past = scan.results.past
    assert all(o.after != o.after for o in past.all) and any(o.sealed for o in past.all)
    row = next(k for k, o in enumerate(past.rows) if o.sealed)
    assert past.text(row, 3) == "sealed" and "sealed part of history" in past.hint(row, 3)
    assert "sealed part of history" in scan.verdict.text() and "had risen" not in scan.verdict.text()
    broken(bench, calm)
    QTest.keyClick(bench, Qt.Key.Key_3, _ALT)
    calm(bench)
    scan.look_back()
    windows.wait(bench, calm, lambda: not any(o.sealed for o in past.all))
    assert "had risen" in scan.verdict.text()


def test_other_scripts_say_who_has_seen_it(bench: Window, calm: Calm) -> None:
    broken(bench, calm)
    windows.opened(bench, calm, RULE.replace("at most 400", "at most 300"), "other")
    QTest.keyClick(bench, Qt.Key.Key_4, _ALT)
    calm(bench)
    bench.trial.show_notebook()
    calm(bench)
    assert "1 other rule has seen this part of history before: mine on" in bench.trial.notebook.seal.text()
    trial = bench.trial.trials.outcome.trial  # type: ignore[union-attr]
    assert trial is not None and trial.ground.seal is not None
    bench.trial.notebook.ask = lambda: True
    QTest.mouseClick(bench.trial.notebook.break_button, Qt.MouseButton.LeftButton)
    windows.wait(bench, calm, lambda: bool(bench.session.notebook.breaks()))
    # It was tried on the open part only after the other had been looked at.
    windows.wait(bench, calm, lambda: "Tuned on known data" in bench.trial.word.text())


def test_a_timeframe_within_the_sealed_days_can_be_looked_at_only_by_breaking(bench: Window, calm: Calm) -> None:
    QTest.keyClick(bench, Qt.Key.Key_4, _ALT)
    bench.session.trials.set_ground(timeframe=Timeframe.parse("1h"))
    calm(bench)
    assert "All 1h bars lie in the sealed part of history" in bench.trial.word.text()
    broken(bench, calm)
    assert "nothing was promised" in bench.trial.notebook.seal.text()
    trial = bench.trial.trials.outcome.trial  # type: ignore[union-attr]
    assert trial is not None and str(trial.ground.panel.timeframe) == "1h"
