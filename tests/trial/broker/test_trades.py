"""Trades of scripts: both runners, going on bar by bar, what cannot be known before, minutes, and where they are read."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import daily_bars, random_bars, values
from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.resample import resample
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.run.execute import run
from oakladder.engine.stream.live import LiveRun, LiveTrades
from oakladder.rung import RunProblem, compile_script
from oakladder.rung.trade_log import Column, Event, Moment
from oakladder.rung.trade_words import POSITION_VALUES, Reason
from oakladder.trial.broker.intrabar import minutes_for
from oakladder.trial.broker.trade_finder import find_trades
from oakladder.trial.broker.trades import Trades, trades_of
from oakladder.trial.spans import before
from oakladder.tuning import tuned
from trial.independent_broker import trade
from trial.random_rules import HOURS, Case, for_broker, market, panel_with_tick, random_case

SEEDS = st.integers(0, 1 << 30)


def compiled(case: Case, more: str = ""):  # type: ignore[no-untyped-def]
    return compile_script("rung 1\n" + case.script + more)


def columns(found: Trades) -> list[np.ndarray]:
    return [found.rule, found.decided, found.entered, found.entry, found.left, found.exit, found.reason, found.risk]


@given(SEEDS, st.sampled_from(["1d", "30m"]))
@settings(max_examples=15, deadline=None)
def test_both_runners_give_the_same_bits(seed: int, timeframe: str) -> None:
    same_bits(seed, timeframe)


def same_bits(seed: int, timeframe: str) -> None:
    """Both runners on a random script and bars with holes."""
    rng = np.random.default_rng(seed)
    case = random_case(rng, within_day=timeframe != "1d")
    bars = market(rng, 150, timeframe)
    holes = {n: np.where(rng.random(len(bars)) < 0.02, np.nan, bars[n]) for n in bars.columns}
    panel = panel_with_tick(Bars("SALT", bars.timeframe, bars.calendar, bars.times, holes))
    program = compiled(case)
    plan = program.plan.trading
    assert plan is not None
    extra = [*plan.roots, *plan.position.values()]
    native, plain = (run(program, panel, outputs=[], extra=extra, reference=r) for r in (False, True))
    for op in plan.position.values():
        assert np.array_equal(native.number(op), plain.number(op), equal_nan=True)
    for a, b in zip(columns(trades_of(native)), columns(trades_of(plain)), strict=True):
        assert np.array_equal(a, b, equal_nan=True)


@pytest.mark.nightly
@pytest.mark.parametrize("first", range(0, 600, 60))
def test_both_runners_give_the_same_bits_on_hundreds_of_scripts(first: int) -> None:
    for seed in range(first, first + 60):
        same_bits(seed, "30m" if seed % 2 else "1d")


@given(SEEDS)
@settings(max_examples=10, deadline=None)
def test_going_on_bar_by_bar_shows_the_position_as_it_was_known(seed: int) -> None:
    rng = np.random.default_rng(seed)
    program = compiled(random_case(rng, within_day=False))
    bars = market(rng, 120, "1d")
    position = list(program.plan.trading.position.values())  # type: ignore[union-attr]
    whole = run(program, panel_with_tick(bars), outputs=[], extra=position)
    live = LiveRun(program, panel_with_tick(bars.part(0, 60)), outputs=[], extra=position)
    for k in range(60, len(bars)):
        tried = live.peek(panel_with_tick(bars.part(k, k + 1)))
        made = live.advance(panel_with_tick(bars.part(k, k + 1)))
        for op in position:
            expected = whole.number(op)[k]
            assert np.array_equal(made.number(op), [expected], equal_nan=True)
            assert np.array_equal(tried.number(op), [expected], equal_nan=True)


@given(SEEDS)
@settings(max_examples=15, deadline=None)
def test_trades_that_span_calls_have_the_bars_of_a_run_over_all(seed: int) -> None:
    """Bars of several symbols come in portions of any size, and some are tried before they are final."""
    rng = np.random.default_rng(seed)
    program = compiled(random_case(rng, within_day=False))
    series = [market(rng, int(rng.integers(100, 150)), "1d") for _ in range(3)]
    ticks = tuple(float(t) for t in panel_with_tick(series[0]).steps)

    def panel(firsts: list[int], lasts: list[int]) -> Panel:
        made = panel_of([b.part(a, min(z, len(b))) for b, a, z in zip(series, firsts, lasts, strict=True)])
        made.ticks = ticks * len(series)
        return made

    rows = [program.plan.trading.rows]  # type: ignore[union-attr]
    at = [60, 0, 30]
    live, kept = LiveRun(program, panel([0] * 3, at), outputs=[], extra=rows), LiveTrades()
    kept.take(live.history.trade_rows())
    while any(a < len(b) for a, b in zip(at, series, strict=True)):
        upto = [min(a + int(rng.integers(0, 4)), len(b)) for a, b in zip(at, series, strict=True)]
        live.peek(panel(at, [a + 2 for a in upto]))
        made = live.advance(panel(at, upto))
        kept.take(made.trade_rows())
        at = upto
    whole = panel([0] * 3, [len(b) for b in series])
    expected = trades_of(run(program, whole, outputs=[], extra=rows)).rows.copy()
    firsts = whole.starts[expected[:, Column.SYMBOL].astype(np.int64)]
    expected[:, Column.ENTERED] -= firsts
    closed = expected[:, Column.EVENT] == Event.CLOSED
    expected[closed, Column.LEFT] -= firsts[closed]
    np.testing.assert_array_equal(kept.rows(), expected)


@given(SEEDS, st.integers(20, 140))
@settings(max_examples=30, deadline=None)
def test_history_cut_short_gives_the_same_trades_as_far_as_it_goes(seed: int, count: int) -> None:
    rng = np.random.default_rng(seed)
    program = compiled(random_case(rng, within_day=False))
    bars = market(rng, 150, "1d")
    whole = find_trades(program, panel_with_tick(bars))
    part = find_trades(program, before(panel_with_tick(bars), int(bars.times[min(count, len(bars) - 1)])))
    known = whole.take(whole.entered < part.panel.size)
    assert np.array_equal(known.entered, part.entered) and np.array_equal(known.entry, part.entry)
    closed = (known.left >= 0) & (known.left < part.panel.size)
    assert np.array_equal(closed, part.closed)
    assert np.array_equal(known.exit[closed], part.exit[closed])


@given(SEEDS, st.sampled_from(["1d", "30m"]))
@settings(max_examples=25, deadline=None)
def test_every_fill_lies_in_its_bar_and_behind_its_decision(seed: int, timeframe: str) -> None:
    rng = np.random.default_rng(seed)
    bars = market(rng, 250, timeframe)
    found = find_trades(compiled(random_case(rng, within_day=timeframe != "1d")), panel_with_tick(bars))
    assert (found.entered > found.decided).all()
    for price, bar in ((found.entry, found.entered), (found.exit[found.closed], found.left[found.closed])):
        assert (price >= bars["low"][bar] - 1e-9).all() and (price <= bars["high"][bar] + 1e-9).all()
    assert (found.left[found.closed] >= found.entered[found.closed]).all()
    again = found.entered[1:] - found.left[:-1]
    assert (again[found.closed[:-1]] >= 0).all()


def finer_market(seed: int) -> tuple[Bars, Bars]:
    """Minutes, and the half hours that they make."""
    rng = np.random.default_rng(seed)
    minutes = market(rng, 6_000, "1m")
    return minutes, resample(minutes, Timeframe.parse("30m"))


class OneSymbol:
    """A library with the minutes of one symbol."""

    def __init__(self, minutes: Bars):
        self.minutes = minutes

    def bars(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> Bars:
        assert str(timeframe) == "1m"
        return self.minutes


@pytest.mark.parametrize("seed", range(10))
def test_minutes_decide_what_a_bar_leaves_open(seed: int) -> None:
    minutes, bars = finer_market(seed)
    case = random_case(np.random.default_rng(seed + 1000), within_day=True)
    panel = panel_with_tick(bars)
    panel.minutes = minutes_for(panel, OneSymbol(minutes))  # type: ignore[arg-type]
    for_book = for_broker(bars)
    for k, bar in enumerate(for_book):
        first, last = int(panel.minutes.first[k]), int(panel.minutes.last[k])
        parts = slice(first, last + 1) if first >= 0 else slice(0, 0)
        bar.minutes = list(zip(*(minutes[n][parts].tolist() for n in ("open", "high", "low")), strict=True))
    assert panel.minutes.count == len(bars)
    program = compiled(case).finer()
    book = trade(for_book, case.rules(panel), 0.01, finer=True)
    for reference in (False, True):
        found = find_trades(program, panel, reference=reference)
        assert found.entered.tolist() == [t.entered for t in book.trades], case.script
        assert np.allclose(found.entry, [t.entry for t in book.trades])
        assert found.left.tolist() == [-1 if t.left is None else t.left for t in book.trades]
        assert [["", *Reason][r] for r in found.reason] == [t.reason for t in book.trades]
        # Minutes never contradict the longer bars.
        closed = found.closed
        assert (found.exit[closed] <= bars["high"][found.left[closed]] + 1e-9).all()
        assert (found.exit[closed] >= bars["low"][found.left[closed]] - 1e-9).all()


def test_minutes_that_do_not_make_the_bar_are_not_used() -> None:
    minutes, bars = finer_market(1)
    wrong = Bars("SALT", bars.timeframe, HOURS, bars.times, {**bars.columns, "high": bars["high"] + 1})
    panel = panel_with_tick(wrong)
    panel.minutes = minutes_for(panel, OneSymbol(minutes))  # type: ignore[arg-type]
    assert panel.minutes.count == 0
    case = random_case(np.random.default_rng(4), within_day=True)
    with_minutes = find_trades(compiled(case).finer(), panel)
    panel.minutes = None
    for a, b in zip(columns(with_minutes), columns(find_trades(compiled(case), panel)), strict=True):
        assert np.array_equal(a, b, equal_nan=True)


def test_a_long_series_in_pieces_trades_as_in_one_go() -> None:
    bars = random_bars(3, 5_000, holes=False)
    case = random_case(np.random.default_rng(11), within_day=False)
    program = compiled(case)
    whole = find_trades(program, panel_with_tick(bars))
    with tuned(chunk_bars=700):
        parts = find_trades(program, panel_with_tick(bars))
    assert len(whole) > 10
    for a, b in zip(columns(whole), columns(parts), strict=True):
        assert np.array_equal(a, b, equal_nan=True)


def test_several_symbols_trade_as_each_alone() -> None:
    rng = np.random.default_rng(8)
    program = compiled(random_case(rng, within_day=False))
    series = [market(rng, n, "1d") for n in (90, 1, 200, 40)]
    named = [Bars(f"S{k}", b.timeframe, b.calendar, b.times, b.columns) for k, b in enumerate(series)]
    together = find_trades(program, panel_of(named))
    for k, bars in enumerate(named):
        alone, mine = find_trades(program, panel_of([bars])), together.take(together.symbol == k)
        shift = int(together.panel.offsets[k])
        assert (mine.entered - shift).tolist() == alone.entered.tolist()
        assert np.where(mine.closed, mine.left - shift, -1).tolist() == alone.left.tolist()


HELD = "trade ride long\n    enter when bar == 3\n    leave when bar == 6\n    stop 10%\n"


def test_the_position_is_known_from_the_close_of_its_bar_on() -> None:
    bars = daily_bars([100, 101, 102, 103, 104, 105, 106, 107, 108.0])
    names = "".join(f"let {n} = position.{n}\n" for n in POSITION_VALUES)
    found = values(names + HELD, bars)
    none = [np.nan] * 4
    assert found["side"].tolist() == [0, 0, 0, 0, 1, 1, 1, 0, 0]
    assert np.array_equal(found["entry"], [*none, 104, 104, 104, np.nan, np.nan], equal_nan=True)
    assert np.array_equal(found["bars"], [*none, 0, 1, 2, np.nan, np.nan], equal_nan=True)
    assert np.array_equal(found["stop"], [*none, 93.6, 93.6, 93.6, np.nan, np.nan], equal_nan=True)
    assert np.allclose(found["gain"][4:7], [0, 105 / 104 - 1, 106 / 104 - 1])
    assert found["risk"][5] == pytest.approx(10.4)


def test_the_stop_is_that_of_the_next_bar_wherever_it_is_read() -> None:
    bars = random_bars(2, 200, holes=False)
    trail = "let a = atr(5)\nsignal go = close > close[3]\ntrade ride long\n    enter when go\n    trail 2 * a\n"
    above = values("let mine = position.stop\n" + trail, bars)["mine"]
    below = values(trail + "let mine = position.stop\n", bars)["mine"]
    assert np.isfinite(above).sum() > 20 and np.array_equal(above, below, equal_nan=True)


def test_a_trade_within_the_day_is_refused_on_days() -> None:
    program = compile_script("rung 1\ntrade a long\n    enter when close > open\n    flat at session end\n")
    with pytest.raises(RunProblem, match="makes no sense on 1d bars"):
        find_trades(program, panel_of([daily_bars([1.0, 2.0])]))
    with pytest.raises(RunProblem, match="has no `trade`"):
        find_trades(compile_script("rung 1\nsignal a = close > open\n"), panel_of([daily_bars([1.0, 2.0])]))


def test_what_is_flat_at_the_end_leaves_at_the_close_of_the_last_bar() -> None:
    bars = market(np.random.default_rng(2), 300, "30m")
    program = compile_script("rung 1\ntrade a long\n    enter when close > close[1]\n    flat at session end\n")
    found = find_trades(program, panel_with_tick(bars))
    at_close = found.moment == Moment.CLOSE
    days = HOURS.days(bars.times)
    assert at_close.sum() > 10
    assert (days[found.entered[at_close]] == days[found.left[at_close]]).all()
    assert np.allclose(found.exit[at_close], bars["close"][found.left[at_close]])


def test_a_stop_of_none_is_no_stop_and_one_of_zero_lets_nobody_in() -> None:
    bars = random_bars(4, 100, holes=False)
    enter = "rung 1\ntrade a long\n    enter when close > close[1]\n    leave when close < close[1]\n"
    plain = find_trades(compile_script(enter), panel_of([bars]))
    unknown = find_trades(compile_script(enter + "    stop close[500]\n"), panel_of([bars]))
    zero = find_trades(compile_script(enter + "    stop close - close\n"), panel_of([bars]))
    assert np.array_equal(plain.exit, unknown.exit, equal_nan=True) and np.isnan(unknown.risk).all()
    assert len(zero) == 0 and zero.touched > 10


def test_a_first_stop_that_is_already_in_profit_is_no_risk() -> None:
    # Filled at 100; the first stop that is known stands at 101, behind a price of 110: nothing is at risk, so nothing is
    # counted in it, also where the clause names a price below the fill later.
    closes = np.array([100.0, 100, 100, 110, 110, 130, 130, 106, 106])
    opens = np.append(100.0, closes[:-1])
    bars = daily_bars(closes, open=opens, high=np.maximum(opens, closes), low=np.minimum(opens, closes))
    text = (
        "rung 1\ntrade a long\n    enter when bar == 0\n"
        "    stop at (if bar < 3 then none else if bar == 3 then 101 else 95)\n    target 3 risks\n"
    )
    (found,) = [find_trades(compile_script(text), panel_of([bars]))]
    assert found.entry.tolist() == [100] and found.left.tolist() == [-1]  # 103 would have been its target
    assert np.isnan(found.risk).all()
    # With the stop below the fill it is a risk, and the target three of it beyond.
    at_risk = find_trades(compile_script(text.replace("101", "98")), panel_of([bars]))
    assert at_risk.risk.tolist() == [2] and at_risk.exit.tolist() == [110]


@pytest.mark.parametrize("side", ["long", "short"])
def test_a_price_that_rounding_error_tells_from_the_close_is_a_limit(side: str) -> None:
    way = 1 if side == "long" else -1
    odd = next(c for c in np.arange(10_000, 20_000) / 100 if way * (c * 1.1 / 1.1 - c) > 0)
    # The next bar opens beyond the close and never comes back: a stop entry would be filled, a limit is not.
    closes = np.array([odd, odd, odd + way, odd + 2 * way, odd + 3 * way])
    opens = np.append(odd, closes[1:] - 0.5 * way)
    bars = daily_bars(closes, open=opens, high=np.maximum(opens, closes), low=np.minimum(opens, closes))
    text = f"rung 1\ntrade a {side}\n    enter at close * 1.1 / 1.1 when bar == 1 for 3 bars\n"
    assert len(find_trades(compile_script(text), panel_of([bars]))) == 0
    beyond = text.replace("close * 1.1 / 1.1", f"close {'+' if way > 0 else '-'} tick_size")
    assert len(find_trades(compile_script(beyond), panel_of([bars]))) == 1


def test_nothing_is_decided_once_the_clock_takes_the_position_out() -> None:
    """A `leave` on a bar that closes at the clock or later comes too late: the reason is the clock."""
    bars = market(np.random.default_rng(2), 300, "30m")
    text = "rung 1\ntrade a long\n    enter when close > close[1]\n    leave when clock >= 13:00\n    flat by 14:00\n"
    found = find_trades(compile_script(text), panel_with_tick(bars))
    left = found.left[found.closed]
    decided = HOURS.minutes(bars.times[left - 1]) % 1440
    of_clock = found.reason[found.closed] == Reason.CLOCK.number
    by_leave = found.reason[found.closed] == Reason.LEAVE.number
    assert by_leave.sum() > 5
    # The bars of 13:00 and 13:30 close by 14:00; only what is decided on the first, which closes before, leaves by `leave`.
    assert set(decided[by_leave].tolist()) == {13 * 60} and of_clock.sum() > 0
    late = find_trades(compile_script(text.replace(">= 13:00", ">= 13:30")), panel_with_tick(bars))
    assert (late.reason[late.closed] == Reason.CLOCK.number).all() and late.closed.sum() > 5


def _bars(open_: list[float], high: list[float], low: list[float], close: list[float]) -> Bars:
    return daily_bars(np.array(close), open=np.array(open_), high=np.array(high), low=np.array(low))


def test_what_the_contract_leaves_open_is_as_the_docs_decide() -> None:
    limit = "rung 1\ntrade a long\n    enter at 98 when bar == 1 for 3 bars\n"
    # Without a close on the deciding bar there is no order.
    known = _bars([100, 100, 99, 99], [100, 100, 99, 99], [100, 100, 97, 97], [100, 100, 99, 99])
    unknown = _bars([100, 100, 99, 99], [100, 100, 99, 99], [100, 100, 97, 97], [100, np.nan, 99, 99])
    assert len(find_trades(compile_script(limit), panel_of([known]))) == 1
    assert len(find_trades(compile_script(limit), panel_of([unknown]))) == 0
    # A resting order whose stop is reached at its fill is gone, though its bars are not over.
    touched = find_trades(compile_script(limit + "    stop at 99\n"), panel_of([known]))
    assert len(touched) == 0 and touched.touched == 1
    # Filled at the open a limit may reach its target on that bar, filled inside it may not.
    target = compile_script(limit + "    target at 101\n")
    at_open = find_trades(
        target, panel_of([_bars([100, 100, 97, 99], [100, 100, 102, 99], [100, 100, 96, 99], [100, 100, 99, 99])])
    )
    inside = find_trades(
        target, panel_of([_bars([100, 100, 99, 99], [100, 100, 102, 99], [100, 100, 96, 99], [100, 100, 99, 99])])
    )
    assert at_open.left.tolist() == [2] and at_open.exit.tolist() == [101] and inside.left.tolist() == [-1]


def test_the_session_goes_before_the_clock_at_one_close() -> None:
    bars = market(np.random.default_rng(2), 200, "30m")
    text = "rung 1\ntrade a long\n    enter when close > close[1]\n    flat by 15:00\n    flat at session end\n"
    found = find_trades(compile_script(text), panel_with_tick(bars))
    at_close = found.moment == Moment.CLOSE
    assert at_close.sum() > 5 and (found.reason[at_close] == Reason.SESSION.number).all()
