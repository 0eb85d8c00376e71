"""Accounts beside an independent one: units, results, the curve and what was not taken, to the cent."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import daily_bars
from oakladder.bars.bars import Bars
from oakladder.bars.contract import Contract
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.run.row_kernel import RowKernel
from oakladder.rung import RunProblem, compile_script
from oakladder.rung.trade_log import Moment, Order
from oakladder.rung.trade_words import Reason
from oakladder.trial.broker.ledger import Sizing, Taken
from oakladder.trial.broker.money import Account, Costs, Size, Slippage
from oakladder.trial.trial import Trial, run_trial, trial_data_of
from trial.independent_account import Deal, Terms, account
from trial.random_rules import market, random_adjustments, random_case

KINDS = {"share": Sizing.SHARE, "money": Sizing.MONEY, "units": Sizing.UNITS, "risk": Sizing.RISK}
WHY = {
    Taken.YES: "",
    Taken.NO_ROOM: "max open positions reached",
    Taken.NO_MONEY: "no money",
    Taken.TOO_SMALL: "too small",
    Taken.NO_STOP: "no stop",
}


def bar_of(trial: Trial, bar: int) -> tuple[float, float]:
    """The high less the low of a bar, and its volume."""
    high, low, volume = (float(trial.ground.panel.column(n)[bar]) for n in ("high", "low", "volume"))
    return high - low, volume


def deals_of(trial: Trial) -> list[Deal]:
    """The trades of a trial for the independent account."""
    t, at = trial.trades, trial.ground.grid.at
    return [
        Deal(
            int(t.symbol[k]),
            int(t.side[k]),
            int(at[t.entered[k]]),
            float(t.entry[k]),
            bool(t.order[k] == Order.LIMIT),
            bool(t.inside[k]),
            None if math.isnan(t.first_risk[k]) else float(t.first_risk[k]),
            None if math.isnan(t.rank[k]) else float(t.rank[k]),
            int(at[t.left[k]]) if t.left[k] >= 0 else None,
            float(t.exit[k]) if t.left[k] >= 0 else None,
            str(["", *Reason][t.reason[k]]),
            Moment(int(t.moment[k])).name.lower(),
            in_bar=bar_of(trial, int(t.entered[k])),
            out_bar=bar_of(trial, int(t.left[k])),
        )
        for k in range(len(t))
    ]


def terms_of(rng: np.random.Generator) -> tuple[Terms, Account]:
    kind = str(rng.choice(list(KINDS)))
    size = {
        "share": rng.uniform(0.02, 1),
        "money": rng.uniform(200, 9000),
        "units": 7,
        "risk": rng.uniform(0.001, 0.05),
    }
    terms = Terms(
        float(rng.uniform(500, 50_000)),
        kind,
        float(size[kind]),
        float(rng.choice([1, 5, 0.01])),
        int(rng.integers(1, 5)) if rng.random() < 0.5 else None,
        float(rng.choice([1, 2, 0.5])),
        float(rng.choice([0, 1.5])),
        float(rng.choice([0, 0.01])),
        float(rng.choice([0, 0.001])),
        float(rng.choice([0, 0.03])),
        float(rng.choice([0, 0.1])),
        float(rng.choice([0, 0.5])),
        float(rng.choice([0, 0.06])),
        float(rng.choice([0, 0.03])),
        float(rng.choice([1, 0.2])),
        float(rng.choice([0, 2.5])),
    )
    slippage = Slippage(terms.slip / 0.01, 0.0, terms.slip_range, terms.slip_volume)
    costs = Costs(terms.fixed, terms.per_unit, terms.ratio, slippage, terms.long_year, terms.short_year)
    made = Account(terms.money, Size(KINDS[kind], terms.size), terms.lot, terms.most, terms.power, costs)
    return terms, made


@pytest.mark.parametrize("seed", range(40))
def test_several_symbols_in_one_account_are_kept_as_the_independent_one_does(seed: int) -> None:
    """From seed 30 on with prices that are adjusted for dividends and splits."""
    rng = np.random.default_rng(seed)
    case = random_case(rng, within_day=False)
    script = case.script.replace(" long\n", " long\n    rank volume\n", 1) if seed % 2 else case.script
    series = []
    for k in range(5):
        bars = market(rng, 150, "1d")
        named = Bars(f"S{k}", bars.timeframe, bars.calendar, bars.times, bars.columns)
        series.append(named.adjusted(random_adjustments(rng, named) if seed >= 30 and k else None))
    panel = panel_of(series)
    panel.ticks = (0.01,) * 5
    terms, money = terms_of(rng)
    panel.contracts = (Contract(margin=terms.tied, margin_money=terms.tied_unit),) * 5
    trial = run_trial(compile_script("rung 1\n" + script), trial_data_of(panel), money)
    grid = trial.ground.grid
    deals, terms = deals_of(trial), replace(terms, slip=0.0) if seed >= 30 else terms
    if seed >= 30:  # ticks are those of real prices
        real, slip = panel.column("adjusted_by"), 0.01 * money.costs.slippage.ticks
        for k, deal in enumerate(deals):
            deal.real_in, deal.real_out = real[trial.trades.entered[k]], real[trial.trades.left[k]]
            deal.slip_in, deal.slip_out = slip * deal.real_in, slip * deal.real_out
    told = account(deals, grid.closes.tolist(), terms, grid.clock.closes.tolist())
    book = trial.book
    lots = book.real_units[~np.isnan(book.units)] / money.lot
    assert np.allclose(lots, np.round(lots), atol=1e-6) and (len(lots) or seed)
    assert [WHY[Taken(int(t))] for t in book.taken] == [d.why_not for d in told.deals]
    assert np.allclose(book.units, [d.units for d in told.deals], equal_nan=True)
    closed = trial.trades.closed
    assert np.allclose(book.net[closed], [d.net for d in told.deals if d.left is not None], atol=1e-6, equal_nan=True)
    assert np.allclose(trial.equity.value, told.curve, atol=1e-6)
    assert trial.equity.positions.tolist() == told.positions
    # Money adds up to the cent: what it began with, what closed trades brought, what open ones are worth.
    after = book.start + book.net[book.done].sum() + book.net[book.open].sum()
    assert trial.equity.value[-1] == pytest.approx(after, abs=0.005)


@pytest.mark.parametrize("seed", [0, 1, 3, 4, 5])
def test_contracts_are_worth_their_multiple_in_the_accounts_currency(seed: int) -> None:
    """As if the bars themselves were priced in it: the same trades at other prices, with the independent account."""
    rng = np.random.default_rng(100 + seed)
    case = random_case(rng, within_day=False)
    series = []
    for k in range(3):
        bars = market(rng, 150, "1d")
        series.append(Bars(f"S{k}", bars.timeframe, bars.calendar, bars.times, bars.columns))
    panel = panel_of(series)
    panel.ticks = (0.01,) * 3
    panel.contracts = (Contract(50.0), Contract(10.0, "CLAM", 0.1), Contract(1.0, "CLAM"))
    times = np.unique(panel.times)  # the pair trades whenever any of them does
    pair = np.exp(np.cumsum(rng.normal(0, 0.01, len(times))))
    rates = {"CLAMSHELL": pair} if seed % 2 else {"SHELLCLAM": 1 / pair}
    panel.background = Pairs(rates, series[0].calendar, times)
    costs = Costs(1.5, 0.02, 0.001, Slippage(2.0, 0.0001), 0.05, 0.02)
    money = Account(1e5, Size(Sizing.SHARE, 0.3), costs=costs, power=2, currency="SHELL")
    trial = run_trial(compile_script("rung 1\n" + case.script), trial_data_of(panel), money)
    factors = np.array([np.full(len(times), 50.0), 10 * pair, pair])
    deals, tied = deals_of(trial), [1.0, 0.1, 1.0]
    for deal in deals:
        at = factors[deal.symbol]
        deal.entry, deal.risk = deal.entry * at[deal.entered], deal.risk and deal.risk * at[deal.entered]
        deal.slip_in = 0.02 * at[deal.entered]
        if deal.left is not None and deal.exit is not None:
            deal.exit, deal.slip_out = deal.exit * at[deal.left], 0.02 * at[deal.left]
    closes = trial.ground.grid.closes * factors
    terms = Terms(1e5, "share", 0.3, 1.0, None, 2.0, 1.5, 0.02, 0.001, 0.0, long_year=0.05, short_year=0.02)
    terms.slip_ratio, terms.tied_by = 0.0001, tied
    told = account(deals, closes.tolist(), terms, trial.ground.grid.clock.closes.tolist())
    assert np.allclose(trial.book.units, [d.units for d in told.deals], equal_nan=True)
    assert np.allclose(trial.equity.value, told.curve, atol=1e-6)
    # What is bought and held is worth what the bars say, in the account's currency; it waits in cash before.
    grown = []
    for k, bars in enumerate(series):
        known = int(np.flatnonzero(~np.isnan(bars["open"]))[0])
        began = int(trial.ground.grid.at[panel.starts[k] + known])
        ratio = closes[k] / (bars["open"][known] * factors[k][began])
        grown.append(np.where(np.isnan(ratio), 1.0, ratio))
    assert np.allclose(trial.equity.held, 1e5 * np.mean(grown, axis=0))


class Pairs:
    """A background that knows exchange rates, by the bars of another symbol."""

    def __init__(self, rates: dict[str, np.ndarray], calendar: Calendar, times: np.ndarray):
        self._rates, self._calendar, self._times = rates, calendar, times

    def other(self, symbol: str, timeframe: Timeframe) -> Panel:
        rate = self._rates[symbol]
        columns = {"open": rate, "high": rate, "low": rate, "close": rate, "volume": rate}
        return panel_of([Bars(symbol, timeframe, self._calendar, self._times, columns)])

    def earlier(self, panel: Panel, timeframe: Timeframe) -> None:
        return None


def test_an_exchange_rate_that_is_not_known_gets_a_sentence() -> None:
    panel = panel_of([daily_bars([1.0, 2.0, 3.0], "A"), daily_bars([1.0, 2.0, 3.0], "B")])
    panel.contracts = (Contract(currency="CLAM"), Contract(currency="SHELL"))
    rule = compile_script(RULE)
    with pytest.raises(RunProblem, match=r"several currencies \(A in CLAM, B in SHELL\)"):
        run_trial(rule, trial_data_of(panel), Account())
    with pytest.raises(RunProblem, match="no exchange rate from CLAM to SHELL: import the pair CLAMSHELL"):
        run_trial(rule, trial_data_of(panel), Account(currency="SHELL"))
    late = daily_bars([1.0, 2.0, 3.0], "B", first_day=16_000)
    panel.background = Pairs({"CLAMSHELL": np.ones(3)}, late.calendar, late.times)
    with pytest.raises(RunProblem, match="begins later than the bars of this trial"):
        run_trial(rule, trial_data_of(panel), Account(currency="SHELL"))


@given(st.integers(0, 100_000))
@settings(max_examples=10, deadline=None)
def test_the_code_of_accounts_gives_the_same_bits_in_both_runners(seed: int) -> None:
    rng, run = np.random.default_rng(seed), RowKernel.run
    series = [market(rng, 120, "1d") for _ in range(4)]
    panel = panel_of([Bars(f"S{k}", b.timeframe, b.calendar, b.times, b.columns) for k, b in enumerate(series)])
    seen = []

    def both(code: RowKernel, *args: Any) -> object:
        native, plain = run(code, *args), run(code, *args, reference=True)
        for a, b in zip((*native[0], native[1]), (*plain[0], plain[1]), strict=True):
            np.testing.assert_array_equal(a, b)
        seen.append(len(native[1]))
        return native

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(RowKernel, "run", both)
        program = compile_script("rung 1\n" + random_case(rng, within_day=False).script)
        run_trial(program, trial_data_of(panel), replace(terms_of(rng)[1], apart=bool(seed % 2)))
    assert len(seen) in (2, 3) and seen[1] > 0


def test_symbols_apart_are_accounts_of_their_own() -> None:
    rng = np.random.default_rng(5)
    program = compile_script("rung 1\n" + random_case(rng, within_day=False).script)
    series = [market(rng, 200, "1d") for _ in range(3)]
    named = [Bars(f"S{k}", b.timeframe, b.calendar, b.times, b.columns) for k, b in enumerate(series)]
    together = run_trial(program, trial_data_of(panel_of(named)), Account(5000, apart=True))
    alone = [run_trial(program, trial_data_of(panel_of([b])), Account(5000)) for b in named]
    units = np.concatenate([t.book.units for t in alone])
    assert np.allclose(together.book.units, units, equal_nan=True)
    assert together.equity.value[-1] == pytest.approx(sum(t.equity.value[-1] for t in alone))
    assert together.equity.start == 15_000


RULE = "rung 1\ntrade ride long\n    enter when close > close[1]\n    leave when close < close[1]\n"


def test_the_table_of_the_docs() -> None:
    """The account that is worked out by hand in docs/trials.md."""
    bars = daily_bars([100, 101, 104, 103, 102, 105, 106], open=np.array([100, 100, 102, 104, 103, 103, 105.0]))
    columns = {"high": np.maximum(bars["open"], bars["close"]), "low": np.minimum(bars["open"], bars["close"])}
    bars = daily_bars(bars["close"], open=bars["open"], **columns)
    trial = run_trial(compile_script(RULE), trial_data_of(panel_of([bars])), Account())
    book = trial.book
    # Decided on bar 1, in at 102 + 0.01 with 98 units; decided on bar 3, out at 103 - 0.01.
    assert book.units.tolist() == [98, 96] and trial.trades.decided.tolist() == [1, 5]
    assert book.costs[0] == pytest.approx(0.0005 * 98 * (102.01 + 102.99), abs=1e-9)
    assert book.net[0] == pytest.approx(98 * 0.98 - 10.045, abs=1e-9)
    assert trial.metrics["end"] == pytest.approx(10_000 + 85.995 + 96 * (106 - 105.01) - 0.0005 * 96 * 105.01)
    assert [round(v, 3) for v in trial.equity.value[:3]] == [10_000, 10_000, 10_190.022]


def test_what_makes_no_sense_gets_a_sentence() -> None:
    for text in ("5", "0%", "-3u", "many"):
        with pytest.raises(RunProblem, match="Write a position size as 100%"):
            Size.parse(text)
    for text in ("1", "1t+", "5%ranges", "1t 2%"):
        with pytest.raises(RunProblem, match="Write slippage as 1t"):
            Slippage.parse(text)
    for bad in (Account(money=0), Account(lot=0), Account(most=0), Account(power=0), Account(costs=Costs(ratio=-1))):
        with pytest.raises(RunProblem):
            bad.check()


@pytest.mark.parametrize(
    ("text", "slip"),
    [
        ("1t", Slippage(1)),
        ("0", Slippage()),
        ("0.02%", Slippage(0, 0.0002)),
        ("10% range", Slippage(of_range=0.1)),
        ("2t+0.01%+10%range+0.5%volume", Slippage(2, 0.0001, 0.1, 0.005)),
    ],
)
def test_slippage_is_read_and_written(text: str, slip: Slippage) -> None:
    assert Slippage.parse(text) == slip == Slippage.parse(str(slip))


def test_slippage_by_the_bar_is_that_of_the_fills_bars() -> None:
    flat = np.full(8, 100.0)
    columns = {"high": flat + np.arange(8), "low": flat, "volume": np.full(8, 1000.0)}
    text = "rung 1\ntrade ride long\n    enter when bar == 2\n    leave when bar == 5\n"
    slippage = Slippage.parse("10%range+2%volume")
    account = Account(size=Size.parse("50u"), costs=Costs(0, 0, 0, slippage))
    book = run_trial(compile_script(text), trial_data_of(panel_of([daily_bars(flat, **columns)])), account).book
    # Filled on bars 3 and 6, whose ranges are 3 and 6; 50 of 1,000 units move the price by 2% of a twentieth.
    assert book.paid[0] == pytest.approx(100 + 0.3 + 0.1) and book.got[0] == pytest.approx(100 - 0.6 - 0.1)
    # Without a volume there is nothing that it could be a share of; the look-ahead check says so.
    columns["volume"] = np.zeros(8)
    book = run_trial(compile_script(text), trial_data_of(panel_of([daily_bars(flat, **columns)])), account).book
    assert book.paid[0] == pytest.approx(100.3)


@pytest.mark.parametrize("much", [1e13, 1e308, math.inf, math.nan])
def test_what_is_out_of_all_bounds_gets_a_sentence(much: float) -> None:
    for bad in (
        Account(money=much),
        Account(lot=much),
        Account(most=10**308),
        Account(power=much),
        Account(size=Size(Sizing.UNITS, much)),
        Account(costs=Costs(fixed=much)),
        Account(costs=Costs(per_unit=much)),
        Account(costs=Costs(ratio=much)),
        Account(costs=Costs(slippage=Slippage(ticks=much))),
        Account(costs=Costs(slippage=Slippage(ratio=much))),
    ):
        with pytest.raises(RunProblem):
            bad.check()


@given(st.lists(st.integers(50, 150), min_size=3, max_size=60), st.sampled_from(["1%r", "100%", "30%", "7u", "900m"]))
@settings(max_examples=60, deadline=None)
def test_no_figure_is_ever_infinite(closes: list[int], size: str) -> None:
    script = RULE.replace("leave when", "stop 3%\n    leave when")
    trial = run_trial(
        compile_script(script),
        trial_data_of(panel_of([daily_bars([float(c) for c in closes])])),
        Account(size=Size.parse(size)),
    )
    assert all(v is None or math.isfinite(v) for v in trial.metrics.values())
    assert np.isfinite(trial.equity.value).all()


def test_a_trial_without_a_bar_is_refused() -> None:
    with pytest.raises(RunProblem, match="no bars"):
        run_trial(compile_script(RULE), trial_data_of(panel_of([daily_bars([])])), Account())


@pytest.mark.parametrize("closes", [[100.0], [100.0, 100.0, 100.0]])
def test_hardly_any_bars_make_no_trades_and_sound_figures(closes: list[float]) -> None:
    trial = run_trial(compile_script(RULE), trial_data_of(panel_of([daily_bars(closes)])), Account())
    assert trial.metrics["trades"] == 0 and trial.metrics["winners"] is None
    assert trial.metrics["end"] == 10_000


def test_money_that_does_not_buy_one_unit_is_said_and_costs_nothing() -> None:
    trial = run_trial(
        compile_script(RULE), trial_data_of(panel_of([daily_bars([100, 101, 102, 101, 100.0])])), Account(50)
    )
    assert trial.metrics["trades"] == 0 and trial.metrics["end"] == 50
    assert trial.book.taken.tolist() == [Taken.TOO_SMALL]


def test_a_symbol_that_stops_trading_in_a_position_is_valued_at_its_last_close() -> None:
    long, short = daily_bars(np.arange(100, 140.0), "LONG"), daily_bars(np.arange(100, 120.0), "SHORT")
    program = compile_script("rung 1\ntrade ride long\n    enter when bar == 2\n")
    trial = run_trial(
        program, trial_data_of(panel_of([long, short])), Account(costs=Costs(ratio=0, slippage=Slippage()))
    )
    assert trial.book.open.tolist() == [True, True] and trial.metrics["trades"] == 0
    units = trial.book.units
    assert trial.metrics["end"] == 10_000 + units[0] * (139 - 103) + units[1] * (119 - 103)


@pytest.mark.parametrize("ranked", [False, True])
def test_a_trade_that_is_in_and_out_inside_a_bar_takes_no_room_from_the_next(ranked: bool) -> None:
    # Both symbols come down to their limits on the third bar; the first one's stop is reached on it too.
    def bars(name: str, low: float) -> Bars:
        close, open_ = np.array([100.0, 100, 97, 97]), np.array([100.0, 100, 100, 97])
        return daily_bars(close, name, open=open_, high=np.maximum(open_, close), low=np.array([100.0, 100, low, 97]))

    text = "rung 1\ntrade a long\n    enter at 98 when bar == 1\n    stop 3%\n" + "    rank -low\n" * ranked
    ground = trial_data_of(panel_of([bars("ONE", 94.0), bars("TWO", 97.0)]))
    trial = run_trial(compile_script(text), ground, Account(most=1))
    assert trial.trades.left.tolist() == [2, -1]
    assert trial.book.taken.tolist() == [Taken.YES, Taken.YES]
    assert trial.equity.positions.tolist() == [0, 0, 1, 1]
