"""Composed trades, rewritten ones, ranges and spans; and where a position is told: cells, the ladder."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import daily_bars, random_bars
from oakladder.bars.panels import panel_of
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.offsets import Unreadable
from oakladder.bars.timeframes import ONE_DAY
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.columns.cells import available_outputs
from oakladder.engine.columns.fill import cells
from oakladder.engine.positions import IN_SINCE
from oakladder.engine.signal_ages import recent_signals
from oakladder.rung import RunProblem, compile_script
from oakladder.rung.trade_words import Side
from oakladder.trial.broker.trade_finder import find_trades
from oakladder.trial.compose import draft_of, with_trade
from oakladder.trial.rewrite import swapped, trade_lines, turned_round, with_stop, with_trades
from oakladder.trial.spans import SEALED_SHARE, Span, before, seal_of
from oakladder.trial.spec import Change, ChangeKind, TrialSpec, read_changes
from oakladder.trial.sweep.ranges import Range, grid_of_settings
from oakladder.trial.trial import run_trial, trial_data_of
from oakladder.trial.universe import trial_data_in

SIGNALS = {
    "up": "signal up = close > open bullish\n",
    "down": "signal down = close < open bearish\n",
    "odd": "signal odd = volume > 3\n",
}


@pytest.mark.parametrize(
    ("names", "side", "enter", "leave", "most"),
    [
        (("up", "down"), Side.LONG, "up", "down", None),
        (("up",), Side.LONG, "up", "", 20),
        (("down", "odd"), Side.SHORT, "down", "", 20),
        (("odd",), Side.LONG, "odd", "", 20),
    ],
)
def test_a_trade_is_composed_of_the_signals_that_there_are(
    names: tuple[str, ...], side: Side, enter: str, leave: str, most: int | None
) -> None:
    program = compile_script("rung 1\n" + "".join(SIGNALS[n] for n in names))
    draft = draft_of(program)
    assert (draft.side, draft.enter, draft.leave, draft.most) == (side, enter, leave, most)
    made = compile_script(with_trade(program, draft))
    assert made.problems == () and len(find_trades(made, panel_of([random_bars(1, 200, holes=False)]))) > 3
    assert enter in draft.words()


def test_a_composed_trade_takes_a_name_that_is_free() -> None:
    program = compile_script("rung 1\nlet ride = close\nlet haul = ride\nsignal go = haul > open bullish\n")
    assert "trade voyage long" in with_trade(program, draft_of(program))
    with pytest.raises(RunProblem, match="neither a `trade` nor a `signal`"):
        draft_of(compile_script("rung 1\nline close\n"))


RULE = """rung 1
-- a note above
signal go = close > open

trade one long
    enter at low - 1 when go for 3 bars
    -- a note within
    stop at lowest(low, 3)

    target 2 risks
    flat by 15:00
trade two short
    enter when not go
line close  -- a note below
"""


def test_trades_are_written_anew_and_nothing_else_changes() -> None:
    same = with_trades(RULE, lambda trade: trade)
    assert compile_script(same).problems == ()
    assert "    enter at low - 1 when go for 3 bars\n    stop at lowest(low, 3)\n    target 2 risks" in same
    assert same.startswith("rung 1\n-- a note above\n") and same.endswith("line close  -- a note below\n")
    other = with_trades(RULE, swapped)
    assert "trade one short" in other and "trade two long" in other
    turned = with_trades(RULE, turned_round)
    assert "enter at low - 1 when not go for 3 bars" in turned and "enter when not not go" in turned
    stopped = with_trades(with_trades(RULE, with_stop("5%")), with_stop("2 * atr(14)"))
    assert stopped.count("stop 2 * atr(14)") == 2 and "stop 5%" not in stopped
    assert compile_script(stopped).problems == ()


def test_every_clause_comes_back_as_it_was() -> None:
    lines = ["enter when go", "leave when not go", "stop 0.05", "trail 2 * atr(14)", "protect after 1 risks"]
    lines += ["target at high + 1", "at most 5 bars", "flat at session end", "pause 2 bars", "rank volume"]
    text = "rung 1\nsignal go = close > open\ntrade x long\n" + "".join(f"    {line}\n" for line in lines)
    trade = compile_script(text).trace.root.statements[-1]
    assert trade_lines(trade) == ["trade x long", *(f"    {line}" for line in lines)]  # type: ignore[arg-type]


def test_changes_are_remembered_and_odd_ones_left_out() -> None:
    changes = [Change(ChangeKind.SETTING, "5", "n"), Change(ChangeKind.SWAPPED), Change(ChangeKind.COST, "0.2%")]
    assert read_changes([c.as_plain() for c in changes]) == changes
    assert read_changes([{"what": "nothing"}, 3, None]) == [] and read_changes("odd") == []
    case = TrialSpec(RULE)
    assert Change(ChangeKind.COST, "0.2%").of(case).account.costs.ratio == 0.002
    assert len({c.words() for c in changes}) == 3


def test_ranges_are_read_to_their_end() -> None:
    assert Range.parse("n=5..60/5").values == tuple(range(5, 61, 5))
    assert Range.parse("n=0.1..0.3/0.1").values == pytest.approx((0.1, 0.2, 0.3))
    assert list(grid_of_settings([Range("a", (1, 2)), Range("b", (3,))])) == [{"a": 1, "b": 3}, {"a": 2, "b": 3}]
    with pytest.raises(RunProblem, match="allowed"):
        Range.parse("n=0..1e9")


def test_the_last_fifth_of_time_is_sealed() -> None:
    panel = panel_of([daily_bars(np.arange(1.0, 501)), daily_bars(np.arange(1.0, 301), "LATE", first_day=15_300)])
    span = Span(seal=seal_of(panel))
    seal = span.seal_time(panel)
    assert seal is not None
    first, last = int(panel.times.min()), int(panel.times.max())
    assert (last - seal) / (last - first) == pytest.approx(SEALED_SHARE, abs=0.003)
    cut = span.truncate(panel)
    assert cut.times.max() < seal and (panel.times < seal).sum() == cut.size
    assert Span().truncate(panel) is panel and Span().seal_time(panel) is None
    assert before(panel, last + 1) is panel
    assert seal_of(panel_of([])).days == {}


def test_only_entries_decided_in_the_span_count_and_averages_know_what_was_before() -> None:
    bars = random_bars(3, 400, holes=False)
    program = compile_script("rung 1\ntrade a long\n    enter when close > sma(close, 100)\n    at most 3 bars\n")
    first = int(bars.times[200])
    whole = run_trial(program, trial_data_of(panel_of([bars])))
    later = run_trial(program, trial_data_of(panel_of([bars]), Span(first)))
    kept = whole.trades.decided >= 200
    assert later.trades.entered.tolist() == whole.trades.entered[kept].tolist()
    assert later.trades.decided[0] < 210 and len(later.equity.times) == 200


def test_in_since_tells_what_is_held(market: BarLibrary) -> None:
    program = compile_script("rung 1\nsignal s = close > open\ntrade a long\n    enter when bar == 10\n")
    assert IN_SINCE in available_outputs(program) and IN_SINCE not in available_outputs(
        compile_script("rung 1\nline close\n")
    )
    made, _ = cells(program, IN_SINCE, market, ["BRINE", "FLAKE"], ONE_DAY)
    panel = market.panel(["BRINE"], ONE_DAY)
    count = panel.size - 1 - 11
    gain = panel.column("close")[-1] / panel.column("open")[11] - 1
    assert made["BRINE"].text == f"{count:,} bars {gain:+.1%}" and made["BRINE"].holds
    assert made["BRINE"].fill == ("good" if gain > 0 else "bad")
    found = recent_signals(program, market, "BRINE", ONE_DAY)
    assert found[0].held is not None and found[0].held.bars == count and found[0].age == count
    never = compile_script("rung 1\ntrade a short\n    enter when close < 0\n")
    assert cells(never, IN_SINCE, market, ["BRINE"], ONE_DAY)[0]["BRINE"].holds is False
    assert recent_signals(never, market, "BRINE", ONE_DAY) == []


def test_one_bad_symbol_spoils_no_trial(market: BarLibrary, monkeypatch: pytest.MonkeyPatch) -> None:
    real = BarLibrary.panel

    def panel(self: BarLibrary, symbols: list[str], *where: object) -> object:
        if "CROSS" in symbols:
            raise Unreadable("CROSS", OSError(5, "broken"))
        return real(self, symbols, *where)  # type: ignore[arg-type]

    monkeypatch.setattr(BarLibrary, "panel", panel)
    ground, skipped = trial_data_in(market, ["BRINE", "CROSS", "NOWHERE", "FLAKE"], BarSelection(ONE_DAY))
    assert ground.panel.symbols == ("BRINE", "FLAKE")
    assert {s.symbol for s in skipped} == {"CROSS", "NOWHERE"} and all(s.reason for s in skipped)
    for none in ([], ["NOWHERE"]):
        with pytest.raises(RunProblem):
            trial_data_in(market, none, BarSelection(ONE_DAY))
