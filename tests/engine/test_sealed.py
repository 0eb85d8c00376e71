"""What came of a rule on sealed days is not shown; its marks and signals are."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.panels import panel_of, resample_panel
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.columns.cell_why import explain
from oakladder.engine.columns.fill import ColumnRequest, FilledColumns, fill
from oakladder.engine.explain.why import Why
from oakladder.engine.picture.draw import draw
from oakladder.engine.positions import IN_SINCE
from oakladder.engine.run.execute import run
from oakladder.engine.scan.conditions import Relation, Rule
from oakladder.engine.scan.run import FOLLOWED_BARS, occurrences
from oakladder.engine.scan.why_not import why_not
from oakladder.engine.sealed import SEALED, SealedDays, output_tells_result, tells_result
from oakladder.engine.signal_ages import recent_signals
from oakladder.rung import compile_script

TRADE = "rung 1\nsignal go = close > 0\ntrade ride long\n    enter when bar == 3\n"
CLOSES = 20.0 + np.arange(40.0)
PANEL = panel_of([daily_bars(CLOSES)])
DAYS = PANEL.calendars[0].days(PANEL.times)
#: Sealed from bar 25 on.
FROM_25 = SealedDays({"TEST": int(DAYS[25])})


def paint(word: str) -> int:
    return 0xFF000001 + sum(map(ord, word))


def test_bars_that_reach_into_a_sealed_day_are_sealed_on_every_timeframe(market: BarLibrary) -> None:
    assert FROM_25.opened(PANEL).tolist() == [25] and FROM_25.hides_now(PANEL).tolist() == [True]
    assert SealedDays({"TEST": int(DAYS[-1]) + 1}).hides_now(PANEL).tolist() == [False]
    assert SealedDays({"OTHER": 0}).opened(PANEL).tolist() == [40] and SealedDays().time is None
    weeks = resample_panel(PANEL, Timeframe.parse("1w"))
    opened = int(FROM_25.opened(weeks)[0])
    ends = weeks.calendars[0].days(weeks.timeline.closes(0) - 1)
    assert 0 < opened < weeks.size and (ends[:opened] < DAYS[25]).all() and ends[opened] >= DAYS[25]
    # A whole number of sessions within the day, and the same days on a symbol with other hours.
    for symbol in list(market.infos)[::9]:
        minutes = market.panel([symbol], Timeframe.parse("1h"))
        days = minutes.calendars[0].days(minutes.times)
        day = int(days[minutes.size // 2])
        assert SealedDays({symbol: day}).opened(minutes).tolist() == [int((days < day).sum())]


@pytest.mark.parametrize(
    ("line", "tells"),
    [
        ("line position.gain", True),
        ("line position.best", True),
        ("line position.entry", False),
        ("line position.stop", False),
        ("line close", False),
        ("line close / position.entry - 1", True),
        ("keep got = 0\nset got = position.gain\nline got", True),
        ("let won = position.gain\nlet more = sma(won, 3)\nline more", True),
        ("define twice(x)\n    give 2 * x\nline twice(position.gain)", True),
        ("label position.gain", True),
        ("label 'held {position.bars} bars'".replace("'", '"'), False),
        ("label 'in at {position.entry}'".replace("'", '"'), False),
        ("label 'it is {position.gain}' when go".replace("'", '"'), True),
        ("paint bars color good when position.gain > 0", True),
        ("paint bars color good when position.side == 1", False),
        ("mark position.gain > 5%", False),
        ("mark go text '{position.gain}'".replace("'", '"'), True),
        ("column position.gain named 'Won'".replace("'", '"'), True),
    ],
)
def test_what_tells_a_result(line: str, tells: bool) -> None:
    program = compile_script(f"{TRADE}    leave when position.gain > 90%\n{line}\n")
    output = [o for o in program.outputs if o.what != "signal"][-1]
    assert output_tells_result(program, output) is tells


def test_a_script_without_trades_has_no_results() -> None:
    program = compile_script("rung 1\nline close / close[5] - 1\n")
    assert not output_tells_result(program, program.outputs[0])
    assert not tells_result(program, program.outputs[0].roles["value"])


def test_a_chart_shows_marks_and_signals_and_no_results_on_sealed_bars() -> None:
    text = (
        TRADE + 'line position.gain\nline close\nlabel position.gain when go\nlabel "held {position.bars}" when go\n'
        'mark position.gain > 0 shape dot text "{position.gain}"\npaint bars color good when position.gain > 0\n'
        'note "{position.gain}"\n'
    )
    result = run(compile_script(text), PANEL)
    whole, sealed = draw(result, paint), draw(result, paint, None, FROM_25)
    assert np.isnan(sealed.lines[0].values[25:]).all() and not np.isnan(whole.lines[0].values[25:]).any()
    np.testing.assert_array_equal(sealed.lines[0].values[:25], whole.lines[0].values[:25])
    np.testing.assert_array_equal(sealed.lines[1].values, whole.lines[1].values)
    assert max(sealed.labels[0].bars) == 24 and max(sealed.labels[1].bars) == 39
    own = next(m for m in sealed.marks if m.texts is not None)
    assert max(own.bars) == 39 and not any(own.texts[list(own.bars).index(25) :])  # type: ignore[index]
    assert all(own.texts[: list(own.bars).index(25)])  # type: ignore[index]
    assert sealed.bar_colours is not None and not sealed.bar_colours[25:].any() and sealed.bar_colours[10]
    assert sealed.notes[0].text_at(24) and not sealed.notes[0].text_at(25)
    assert [e.bars.tolist() for e in sealed.events] == [e.bars.tolist() for e in whole.events]


def test_why_gives_no_result_of_a_sealed_bar() -> None:
    program = compile_script(TRADE + "signal won = position.gain > 50% and close > 1\n")
    why = Why(program, PANEL, "won", sealed=FROM_25)
    assert [p.values[0][1] == p.values[0][1] for p in why.at(24).parts] == [True, True]
    sealed = why.at(30)
    assert sealed.holds is True and [p.values[0][1] == p.values[0][1] for p in sealed.parts] == [False, True]


def column(market: BarLibrary, text: str, name: str | None, symbols: list[str], sealed: SealedDays) -> FilledColumns:
    return fill([ColumnRequest(compile_script(text), name, ONE_DAY, sealed=sealed)], market, symbols)[0]


def test_cells_tell_no_result_of_a_sealed_symbol(market: BarLibrary) -> None:
    symbols = list(market.infos)[:3]
    panel = market.panel(symbols, ONE_DAY)
    last = int(panel.calendars[0].days(panel.times[-1:])[0])
    sealed = SealedDays({symbols[0]: last - 50, symbols[1]: last + 1})
    text = (
        TRADE
        + 'column position.gain named "Won"\ncolumn position.bars named "Held"\nlet most = position.best / close\n'
    )
    held = column(market, text, IN_SINCE, symbols, sealed).cells
    assert "%" not in held[symbols[0]].text and "bars" in held[symbols[0]].text and held[symbols[0]].fill == "calm"
    assert all("%" in held[s].text and held[s].fill in ("good", "bad") for s in symbols[1:])
    for name in ("Won", "most"):
        cells = column(market, text, name, symbols, sealed).cells
        assert cells[symbols[0]].text == SEALED and cells[symbols[0]].order != cells[symbols[0]].order
        assert all(cells[s].text != SEALED for s in symbols[1:])
    assert all(c.text != SEALED for c in column(market, text, "Held", symbols, sealed).cells.values())
    ask = ColumnRequest(compile_script(text), "Won", ONE_DAY, sealed=sealed)
    assert explain(ask, market, symbols[0]).lines[0] == f"{SEALED}, the bar before {SEALED}"
    assert SEALED not in explain(ask, market, symbols[1]).lines[0]
    stroke = recent_signals(ask.program, market, symbols[0], ONE_DAY, sealed=sealed)[0]
    assert stroke.held is not None and stroke.held.gain is None and "%" not in stroke.held.words()


def test_why_not_gives_no_result_of_a_sealed_symbol(market: BarLibrary) -> None:
    symbol = next(iter(market.infos))
    program = compile_script(TRADE + "let won = position.gain\nlet held = position.bars\n")
    day = int(market.panel([symbol], ONE_DAY).calendars[0].days(market.panel([symbol], ONE_DAY).times[-1:])[0])
    sealed = SealedDays({symbol: day - 9})
    for name, hidden in (("won", True), ("held", False)):
        rule = Rule(program, name, relation=Relation.ABOVE, number=1e9)
        (open_part,) = why_not(rule, market, symbol, ONE_DAY).answers
        (answer,) = why_not(rule, market, symbol, ONE_DAY, sealed).answers
        assert answer.holds == open_part.holds
        assert answer.words == (f"{name} is {SEALED}" if hidden else open_part.words)


def test_what_followed_on_sealed_days_is_not_told(market: BarLibrary) -> None:
    symbols = list(market.infos)[:4]
    panel = market.panel(symbols, ONE_DAY)
    days = panel.calendars[0].days(panel.timeline.each[0])
    day = int(days[-100])
    rule = Rule(compile_script("rung 1\nsignal up = close > close[1]\n"), "up")
    sealed = SealedDays(dict.fromkeys(symbols, day))
    whole, _ = occurrences(rule, market, symbols, ONE_DAY, 250)
    kept, _ = occurrences(rule, market, symbols, ONE_DAY, 250, sealed=sealed)
    assert [(o.symbol, o.time) for o in kept] == [(o.symbol, o.time) for o in whole]
    edge = int(days[-100 - FOLLOWED_BARS])
    for a, b in zip(whole, kept, strict=True):
        if b.day < edge:
            assert b.after == a.after and not b.sealed
        else:
            assert b.after != b.after and b.sealed == (a.after == a.after)
    assert any(o.sealed for o in kept) and any(o.after == o.after for o in kept)
