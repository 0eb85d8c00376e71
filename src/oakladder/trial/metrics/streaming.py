"""The metrics of a trial without its book: the trades of all symbols gone through moment by moment, and summed up.

A sweep asks for nothing but metrics, hundreds of times. What is bought, sold and held is reckoned by the code of `ledger`
and `fills`, in the same order; what each trade brought is added up instead of written down.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from functools import lru_cache

import numpy as np

from oakladder.engine.run.row_kernel import RowKernel
from oakladder.rung.lower.internal_codegen import own_writer
from oakladder.rung.lower.writer import Writer
from oakladder.rung.trade_log import Column, Moment
from oakladder.trial.broker.account import cost_settings, model_columns, model_of, money_settings, panel_columns
from oakladder.trial.broker.fills import (
    Model,
    brought,
    carried,
    cost_in,
    cost_out,
    of_trade,
    pushed,
    read_entry,
    read_exit,
    read_trade,
)
from oakladder.trial.broker.ledger import SETTINGS, begin, buy, read_event, reckon, sell
from oakladder.trial.broker.money import Account
from oakladder.trial.broker.trades import Trades
from oakladder.trial.grid import Grid
from oakladder.trial.metrics.equity import Equity
from oakladder.trial.metrics.metrics import NO_FALL, Path, Sums, Value, named, of_costs, of_path, of_sums

#: What happens in a bar, one after the other: exits at the open, entries there, exits inside.
_LEAVE, _ENTER, _LEAVE_INSIDE = range(3)
_PHASES = 3
#: With more of them a trial that needs its book anyway would take a good deal longer, for the same metrics.
_MOST_TRADES = 50_000
#: What is added up, in the order of the table of sums.
_OF_TRADES = tuple(f.name for f in fields(Sums))
_OF_PATH = tuple(f.name for f in fields(Path))
_SUMS = (*_OF_TRADES, "longest_win", "longest_loss", "spent", "before_costs", "turnover", *_OF_PATH)


def can_stream(trades: Trades, account: Account) -> bool:
    """Whether nothing but entries at the open and exits there or inside the bar come to one account, without a rank, not
    too many of them, and there are bars at all."""
    one = trades.panel.size > 0 and (not account.apart or len(trades.panel) == 1)
    return (
        one
        and len(trades) <= _MOST_TRADES
        and not any(rule.has_rank or rule.is_resting or rule.within_day for rule in trades.rules)
    )


@dataclass(frozen=True, slots=True)
class StreamingTotals:
    """All metrics by name, and the value of the account at the close of each moment that counts."""

    metrics: dict[str, Value]
    value: np.ndarray


def stream_totals(trades: Trades, account: Account, grid: Grid, first: int = 0) -> StreamingTotals:
    """What trades with an account come to; its curve counts from a place in the grid on. Ask `can_sum` first."""
    grid = grid.in_currency(account.currency)
    count, moments, symbols = len(trades), len(grid), len(trades.panel)
    settings = cost_settings(account, grid) | money_settings(account, symbols)
    settings |= {
        "moments": float(moments),
        "first": float(first),
        "regular": float(moments * symbols == trades.panel.size),
        "lists": float(_PHASES * moments),
        "events": float(2 << max(count - 1, 1).bit_length()),  # few sizes: they are laid out once
    }
    columns = panel_columns(trades, grid) | model_columns(trades, account, grid) | {"counts": np.array([float(count)])}
    (value,), sums = _summing(model_of(account, grid)).run(columns, np.array([0, count + moments]), settings)
    made = dict(zip(_SUMS, sums.tolist(), strict=True))
    curve = Equity(
        grid.times[first:],
        value[count + first :],
        account.money * grid.held[first:],
        np.zeros(0),
        account.money,
        grid.clock.since(first),
    )
    metrics = of_sums(Sums(**{name: made[name] for name in _OF_TRADES}))
    metrics |= {name: made[name] for name in ("longest_win", "longest_loss")}
    metrics |= of_costs(made["spent"], made["before_costs"], made["turnover"])
    metrics |= of_path(Path(**{name: made[name] for name in _OF_PATH}), curve)
    return StreamingTotals(named(metrics), curve.value)


@lru_cache(maxsize=8)
def _summing(model: Model) -> RowKernel:
    """A row for each trade, from the last to the first, which puts its entry and its exit into the lists of their moments;
    then one for each moment, which goes through these and gives the value of the account."""
    w = own_writer((), (*SETTINGS, "moments", "first", "regular", "lists", "events"), guard_overflow=False)
    for name, size in (("first_of", "lists"), ("many_of", "lists"), ("next_of", "events")):
        w.table(name, w.names[size])  # type: ignore[arg-type]
    w.table("sums", w.value(str(len(_SUMS))))
    begin(w, model)
    for name in (*(f"sum_{name}" for name in _SUMS), "win_now", "loss_now"):
        w.keep(name, 0.0, cold=True)
    w.keep("peak")
    w.keep("peak_at")
    w.fresh("worth", "none")
    # A table index is kept as a number: as a value it would be computed on every row, also where it has no
    # meaning.
    w.fresh("turn", "0")
    w.fresh("moment", "0")
    w.let("trades", w.column("counts", "0 * bar"))
    with w.when("bar < trades"):
        _put_into_lists(w)
    with w.otherwise():
        w.set("moment", "bar - trades")
        _go_through(w, model)
        reckon(w, "moment", model)
        w.set("worth", "equity")
        with w.when("moment >= first"):
            _follow(w)
        with w.when("moment == moments - 1"):
            for k, name in enumerate(_SUMS):
                w.store("sums", str(k), f"sum_{name}")
    return RowKernel.of(w, ("worth",), "sums")


def _follow(w: Writer) -> None:
    """How the value of the account goes. Times below a highest value lie between two closes at one, or the first and the
    last close of all."""
    with w.when("not known(peak)"):
        w.set("peak", "money")
        w.set("peak_at", "first")
    with w.when("worth > peak"):
        w.set("peak", "worth")
    w.set("sum_fall", "max(sum_fall, 1 - worth / peak)")
    w.set("sum_fall_money", "max(sum_fall_money, peak - worth)")
    with w.when(f"worth >= peak * (1 - {NO_FALL}) or moment == moments - 1"):
        with w.when("moment - peak_at > 1"):
            w.let("since", w.column("clock", "peak_at"))
            w.let("until", w.column("clock", "moment"))
            w.set("sum_under", "max(sum_under, until - since)")
        w.set("peak_at", "moment")
    with w.when("held > 0"):
        _add(w, "exposed", "1")


def _put_into_lists(w: Writer) -> None:
    w.set("turn", "trades - 1 - bar")
    read_trade(w, "turn")
    read_exit(w)
    w.fresh("moment_of", "0")
    _put(w, Column.ENTERED, str(_ENTER), "2 * turn")
    with w.when("closed"):
        w.let("how", of_trade(w, Column.MOMENT))
        _put(w, Column.LEFT, f"if how == {Moment.OPEN.value} then {_LEAVE} else {_LEAVE_INSIDE}", "2 * turn + 1")


def _put(w: Writer, bar: Column, phase: str, event: str) -> None:
    """Puts an event before the others of its list."""
    w.let("place_of", of_trade(w, bar))
    with w.when("regular == 1"):
        w.set("moment_of", "place_of - symbol * stride")
    with w.otherwise():
        w.let("in_grid", w.column("at", "place_of"))
        w.set("moment_of", "in_grid")
    w.let("list", f"moment_of * {_PHASES} + ({phase})")
    w.let("others", w.cell("first_of", "list"))
    w.let("many", w.cell("many_of", "list"))
    w.store("next_of", event, "others")
    w.store("first_of", "list", event)
    w.store("many_of", "list", "many + 1")


def _go_through(w: Writer, model: Model) -> None:
    """All that happens at a moment."""
    for name, start in (("event", "0"), ("units", "none"), ("taken", "0")):
        w.fresh(name, start)
    with w.rounds("phase", "0", str(_PHASES - 1), _PHASES):
        w.let("list", f"moment * {_PHASES} + phase")
        w.let("many", w.cell("many_of", "list"))
        w.let("earliest", w.cell("first_of", "list"))
        w.set("event", "earliest")
        with w.rounds("k_event", "1", "many", 1):
            w.set("units", "none")
            w.set("taken", "0")
            read_event(w)
            with w.when(f"phase == {_ENTER}"):
                buy(w, model)
                with w.when("taken == 0"):
                    _add(w, "spent", cost_in("units", model))
            with w.otherwise():
                sell(w, model)
                with w.when("known(units)"):
                    _add_up(w, model)
            w.let("next", w.cell("next_of", "event"))
            w.set("event", "next")


def _add_up(w: Writer, model: Model) -> None:
    """Adds what a trade brought that is left here."""
    read_entry(w, model)
    if model.by_bar or model.adjusted:
        read_exit(w, model)
    if model.by_bar:
        pushed(w, "units", entry=True)
        pushed(w, "units", entry=False)
    if model.carry:
        w.let("first_bar", of_trade(w, Column.ENTERED))
        w.let("from", w.column("at", "first_bar"))
        w.let("since", w.column("clock", "from"))
        w.let("until", w.column("clock", "moment"))
        w.let("carry", carried("units", "since", "until"))
    brought(w, "got", "exit", cost_out("units", model), "last_bar", "carry" if model.carry else "0", model)
    for better, name, total, longest, other in (
        ("net > 0", "winners", "won", "win", "loss"),
        ("not (net > 0)", "", "lost", "loss", "win"),
    ):
        with w.when(better):
            if name:
                _add(w, name, "1")
            _add(w, total, "net")
            w.set(f"{longest}_now", f"{longest}_now + 1")
            w.set(f"{other}_now", "0")
            w.set(f"sum_longest_{longest}", f"max(sum_longest_{longest}, {longest}_now)")
    for value, known in (("ratio", "ratios"), ("risks", "risky")):
        with w.when(f"known({value})"):
            _add(w, value, value)
            _add(w, known, "1")
    _add(w, "trades", "1")
    _add(w, "bars", "bars")
    _add(w, "spent", "out_cost")
    _add(w, "before_costs", "gross")
    _add(w, "turnover", "units * (entry + exit)")


def _add(w: Writer, name: str, value: str) -> None:
    w.set(f"sum_{name}", f"sum_{name} + {value}")
