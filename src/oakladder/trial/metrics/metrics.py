"""The metrics of a trial, each declared once: its name, its title, what it means, how it is written."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from enum import Enum
from functools import cached_property

import numpy as np

from oakladder.bars.zones import DAY
from oakladder.rung.trade_log import Column
from oakladder.trial.broker.account import Book, in_order, rows_in_money
from oakladder.trial.broker.ledger import Taken
from oakladder.trial.broker.trades import Trades
from oakladder.trial.metrics.equity import Equity
from oakladder.trial.metrics.excursions import excursions

#: Days of a year, leap years in the mean.
YEAR = 365.25
#: A relative fall of at most this is no drawdown: sums of money are no more exact.
NO_FALL = 1e-12


class Unit(Enum):
    """How a metric is written."""

    COUNT = "count"
    MONEY = "money"
    RATIO = "ratio"
    NUMBER = "number"
    DAYS = "days"


@dataclass(frozen=True, slots=True)
class Metric:
    """A metric: its name in tables and JSON, its title, how it is written, and what it means in a sentence.

    ``good`` is 1 where more is better, -1 where less is, 0 where neither. ``of_book`` metrics need the book of a trial, which
    a sweep does not keep.
    """

    name: str
    title: str
    unit: Unit
    about: str
    good: int = 0
    of_book: bool = False

    @property
    def in_sweeps(self) -> bool:
        """Whether a sweep can be looked at by it."""
        return self.good != 0 and not self.of_book


METRICS: dict[str, Metric] = {
    f.name: f
    for f in (
        Metric("trades", "Trades", Unit.COUNT, "closed trades that the account took"),
        Metric("winners", "Winners", Unit.RATIO, "share of trades with a profit after costs", 1),
        Metric("profit_factor", "Profit factor", Unit.NUMBER, "gross profit divided by gross loss", 1),
        Metric("average", "Average trade", Unit.RATIO, "mean return of a trade on its entry value", 1),
        Metric("average_money", "Average trade (money)", Unit.MONEY, "mean profit of a trade", 1),
        Metric("average_winner", "Average winner", Unit.MONEY, "mean profit of winning trades", 1),
        Metric("average_loser", "Average loser", Unit.MONEY, "mean loss of losing trades", 1),
        Metric(
            "expectancy",
            "Expectancy (R)",
            Unit.NUMBER,
            "mean result of a trade in multiples of its risk at the first stop (R)",
            1,
        ),
        Metric("longest_win", "Longest winning run", Unit.COUNT, "most winners in a row, by exit date"),
        Metric("longest_loss", "Longest losing run", Unit.COUNT, "most losers in a row, by exit date", -1),
        Metric("bars", "Bars held", Unit.NUMBER, "mean number of bars from entry to exit"),
        Metric("net", "Net profit", Unit.MONEY, "profit of all closed trades after costs", 1),
        Metric("costs", "Commission", Unit.MONEY, "commission of all fills; slippage is in the prices", -1),
        Metric("end", "End value", Unit.MONEY, "account value at the last close", 1),
        Metric(
            "held_end", "Buy and hold", Unit.MONEY, "end value of the same money in the symbols from their first opens"
        ),
        Metric(
            "growth",
            "Annual return",
            Unit.RATIO,
            "compound annual growth rate (CAGR) from the start to the end value",
            1,
        ),
        Metric("held_growth", "Buy and hold, annual", Unit.RATIO, "annual return of buy and hold"),
        Metric("drawdown", "Max drawdown", Unit.RATIO, "largest fall from a previous peak, on closes", -1),
        Metric(
            "drawdown_money",
            "Max drawdown (money)",
            Unit.MONEY,
            "largest fall in money from a previous peak, on closes",
            -1,
        ),
        Metric(
            "drawdown_within",
            "Max drawdown within bars",
            Unit.RATIO,
            "largest fall from a previous peak, by the worst price of each bar for what was held",
            -1,
            of_book=True,
        ),
        Metric(
            "drawdown_within_money",
            "Max drawdown within bars (money)",
            Unit.MONEY,
            "largest fall in money from a previous peak, by the worst price of each bar for what was held",
            -1,
            of_book=True,
        ),
        Metric("under_water", "Longest drawdown", Unit.DAYS, "longest time below a previous peak", -1),
        Metric("exposure", "Exposure", Unit.RATIO, "share of bars that close with an open position"),
        Metric(
            "sharpe",
            "Sharpe ratio",
            Unit.NUMBER,
            "mean of daily returns divided by their standard deviation, annualised",
            1,
        ),
        Metric(
            "sortino",
            "Sortino ratio",
            Unit.NUMBER,
            "mean of daily returns divided by their downside deviation over all days, annualised",
            1,
        ),
        Metric("calmar", "Return / max drawdown", Unit.NUMBER, "annual return divided by max drawdown", 1),
        Metric(
            "zero_cost",
            "Break-even cost per fill",
            Unit.RATIO,
            "cost of each fill at which closed trades bring nothing; open positions are left out",
            1,
        ),
    )
}
#: A metric that is not defined here: no trades, no losses, no time.
Value = float | None


@dataclass(frozen=True)
class TradeResults:
    """What each trade brought beside its book: arrays with a place for each trade."""

    trades: Trades
    #: What it brought for what it was entered for, and counted in risks; NaN where that is not known.
    ratio: np.ndarray
    risks: np.ndarray
    bars: np.ndarray
    #: Whether results have a meaning in money alone: a symbol has prices of 0 and below.
    in_money: bool = False

    @cached_property
    def _excursions(self) -> tuple[np.ndarray, np.ndarray]:
        if self.in_money:
            return self.ratio, self.ratio
        return excursions(self.trades)  # no metric is made of them

    @property
    def worst(self) -> np.ndarray:
        """The worst that it was worth, as a ratio of its entry. Shape (trades,), float64."""
        return self._excursions[0]

    @property
    def best(self) -> np.ndarray:
        """The best that it was worth, as a ratio of its entry. Shape (trades,), float64."""
        return self._excursions[1]


def results_of(book: Book) -> TradeResults:
    """The results of every trade of a book; without ratios where a symbol has prices of 0 and below."""
    if book.grid.below_zero.any():
        return TradeResults(book.trades, np.full(len(book.trades), np.nan), book.risks, book.bars, in_money=True)
    return TradeResults(book.trades, book.ratio, book.risks, book.bars)


def metrics_of(book: Book, results: TradeResults, equity: Equity) -> dict[str, Value]:
    """All metrics by name; None where one is not defined."""
    made: dict[str, float] = {}
    done = np.flatnonzero(book.done)
    net = book.net[done]
    made |= of_trades(net, results.ratio[done], results.risks[done], results.bars[done])
    won = net[in_order(_exit_moments(book, done))] > 0
    made |= {"longest_win": float(_longest(won)), "longest_loss": float(_longest(~won))}
    made |= _of_costs(book, done)
    if results.in_money:
        made["zero_cost"] = math.nan
    return named(made | of_curve(equity))


def named(made: Mapping[str, float]) -> dict[str, Value]:
    """All metrics in order; None where one is not defined."""
    return {name: defined(made.get(name, math.nan)) for name in METRICS}


def without_book(metrics: Mapping[str, Value]) -> dict[str, Value]:
    """The metrics of a trial that need no book of it: those of a sweep."""
    return {name: value for name, value in metrics.items() if not METRICS[name].of_book}


def defined(value: float) -> Value:
    return float(value) if math.isfinite(value) else None


def of_trades(net: np.ndarray, ratio: np.ndarray, risks: np.ndarray, bars: np.ndarray) -> dict[str, float]:
    """Figures of some closed trades; NaN where one is not defined. Each: shape (trades,), float64, ``bars`` int64."""
    winners = net > 0
    ratio_sum, ratios = _sum_of_known(ratio)
    risk_sum, risk_count = _sum_of_known(risks)
    return of_sums(
        Sums(
            trades=len(net),
            winners=int(np.count_nonzero(winners)),
            won=float(np.add.reduce(net, where=winners)),
            lost=float(np.add.reduce(net, where=~winners)),
            ratio=ratio_sum,
            ratios=ratios,
            risks=risk_sum,
            risky=risk_count,
            bars=float(np.add.reduce(bars)),
        )
    )


@dataclass(frozen=True, slots=True)
class Sums:
    """What closed trades come to, added up: their number and that of winners, what those won and the others lost; of
    those whose result for what they were entered for (in risks) is known, its sum and their number; the bars held."""

    trades: float
    winners: float
    won: float
    lost: float
    ratio: float
    ratios: float
    risks: float
    risky: float
    bars: float


def of_sums(sums: Sums) -> dict[str, float]:
    """Figures of closed trades that are added up; NaN where one is not defined."""
    count, wins, won, lost = sums.trades, sums.winners, sums.won, sums.lost
    if not count:
        return {"trades": 0.0, "net": 0.0}
    return {
        "trades": float(count),
        "winners": wins / count,
        "profit_factor": won / -lost if lost < 0 else math.nan,
        "average": sums.ratio / sums.ratios if sums.ratios else math.nan,
        "average_money": (won + lost) / count,
        "average_winner": won / wins if wins else math.nan,
        "average_loser": lost / (count - wins) if wins < count else math.nan,
        "expectancy": sums.risks / sums.risky if sums.risky else math.nan,
        "bars": sums.bars / count,
        "net": won + lost,
    }


def _sum_of_known(values: np.ndarray) -> tuple[float, int]:
    """The sum and the number of the values other than NaN."""
    total, count = float(np.add.reduce(values)), len(values)
    if total != total:
        known = values[~np.isnan(values)]
        total, count = float(np.add.reduce(known)), len(known)
    return total, count


def _exit_moments(book: Book, done: np.ndarray) -> np.ndarray:
    left = book.trades.left[done]
    return book.grid.at[left] * 4 + book.trades.moment[done] if len(left) else left


def _longest(flags: np.ndarray) -> int:
    """The longest run of yes."""
    stops = np.flatnonzero(~flags)
    if not len(stops):
        return len(flags)
    gaps = int((stops[1:] - stops[:-1]).max(initial=1)) - 1
    return max(int(stops[0]), gaps, len(flags) - 1 - int(stops[-1]))


def _of_costs(book: Book, done: np.ndarray) -> dict[str, float]:
    rows, units = rows_in_money(book.trades, book.grid), book.units[done]
    turnover = float(units @ (rows[done, Column.ENTRY] + rows[done, Column.EXIT]))
    paid = book.costs[book.taken == Taken.YES]
    return of_costs(float(np.add.reduce(paid)), float(np.add.reduce(book.gross[done])), turnover)


def of_costs(costs: float, gross: float, turnover: float) -> dict[str, float]:
    """Figures of what fills cost: in all, and as a share of all that was bought and sold at which nothing would be left
    of what closed trades brought before costs."""
    return {"costs": costs, "zero_cost": gross / turnover if turnover > 0 else math.nan}


def of_curve(equity: Equity) -> dict[str, float]:
    """Figures of a curve of values at the closes of bars; NaN where one is not defined."""
    value = equity.value
    if not len(value):
        return {"end": equity.start, "held_end": equity.start, "exposure": 0.0, "drawdown": 0.0}
    peak = equity.peak
    under = value / peak - 1
    path = Path(
        fall=0.0 - float(under.min()),  # a fall of nothing is 0, not -0
        fall_money=float((peak - value).max()),
        under=_longest_under(under, equity.clock.closes),
        exposed=int(np.count_nonzero(equity.positions)),
    )
    return of_path(path, equity)


@dataclass(frozen=True, slots=True)
class Path:
    """How the value of an account went: its deepest fall from a highest value so far, as a ratio and in money, the longest
    time below one in seconds, and the number of closes at which it held something."""

    fall: float
    fall_money: float
    under: float
    exposed: float


def of_path(path: Path, equity: Equity) -> dict[str, float]:
    """Figures of a curve with at least one value of which it is known how it went; NaN where one is not defined."""
    days, end = equity.clock.days, float(equity.value[-1])
    growth = _growth(end, equity.start, days)
    made = {
        "end": end,
        "held_end": float(equity.held[-1]),
        "growth": growth,
        "held_growth": _growth(equity.held[-1], equity.start, days),
        "drawdown": path.fall,
        "drawdown_money": path.fall_money,
        "under_water": path.under / DAY,
        "exposure": path.exposed / len(equity.value),
        "calmar": growth / path.fall if path.fall > 0 else math.nan,
    }
    return made | _of_returns(equity)


def _growth(end: float, start: float, days: float) -> float:
    """Yearly growth: (end / start) ^ (365.25 / days) - 1; all is lost where nothing is left."""
    if days <= 0:
        return math.nan
    if end <= 0:
        return -1.0
    exponent = YEAR / days * math.log(end / start)
    return math.expm1(exponent) if exponent < 700 else math.nan


def session_returns(equity: Equity) -> tuple[np.ndarray, float] | None:
    """The returns of a curve from each session's close to the next, and how many sessions a year has; None where there
    are too few, or nothing was left. Shape (sessions - 1,), float64."""
    sessions, days = equity.clock.sessions, equity.clock.days
    if len(sessions) < 3 or days <= 0:
        return None
    at_close = equity.value[sessions]
    if at_close.min() <= 0:
        return None
    return at_close[1:] / at_close[:-1] - 1, len(sessions) / (days / YEAR)


def _of_returns(equity: Equity) -> dict[str, float]:
    """Sharpe and Sortino ratios of the returns from each session's close to the next, nothing subtracted.

    Sortino's downside deviation is the root mean square of min(return, 0) over all sessions.
    """
    found = session_returns(equity)
    if found is None:
        return {}
    returns, sessions_a_year = found
    a_year, mean = math.sqrt(sessions_a_year), float(np.add.reduce(returns)) / len(returns)
    away, falling = returns - mean, returns[returns < -NO_FALL]
    deviation = math.sqrt(float(away @ away) / (len(returns) - 1))
    made = {}
    if deviation > 1e-15:
        made["sharpe"] = mean / deviation * a_year
    if len(falling):
        made["sortino"] = mean / math.sqrt(float(falling @ falling) / len(returns)) * a_year
    return made


def _longest_under(under: np.ndarray, closes: np.ndarray) -> float:
    """The longest time between two bars at a highest value so far, in seconds; at its end it may still be under."""
    edges = np.concatenate([[0], np.flatnonzero(under >= -NO_FALL), [len(under) - 1]])
    apart = edges[1:] - edges[:-1] > 1
    since = closes[edges]
    return float((since[1:] - since[:-1])[apart].max(initial=0))


def written(value: Value, unit: Unit) -> str:
    """A metric as it is read; a dash where it is not defined."""
    if value is None or not math.isfinite(value):
        return "–"
    match unit:
        case Unit.COUNT:
            return f"{value:,.0f}"
        case Unit.MONEY:
            return f"{value:,.2f}" if abs(value) < 1e7 else f"{value:,.0f}"
        case Unit.RATIO:
            return f"{value:+.1%}" if abs(value) >= 0.1 else f"{value:+.2%}"
        case Unit.DAYS:
            return f"{value:,.0f} days"
        case Unit.NUMBER:
            return f"{value:,.2f}"


def metric_words(metrics: Mapping[str, Value], name: str) -> str:
    """A metric of a trial as it is read; shares without a sign."""
    made = written(metrics.get(name), METRICS[name].unit)
    return made.lstrip("+") if name in ("winners", "exposure", "drawdown", "drawdown_within") else made
