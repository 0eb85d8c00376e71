"""A trial as plain data and as tables: for JSON and CSV."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime

import numpy as np

from oakladder.bars.time_words import iso, tick_words
from oakladder.rung.trade_words import Reason, Side
from oakladder.trial.broker.ledger import Taken
from oakladder.trial.metrics.metrics import METRICS, metric_words
from oakladder.trial.trial import Trial

#: Why an entry was not taken, in words.
SKIPPED = {
    Taken.NO_ROOM: "max open positions reached",
    Taken.NO_MONEY: "not enough money",
    Taken.TOO_SMALL: "not enough money for one lot",
    Taken.NO_STOP: "no stop to size the position by",
}
#: The columns of a trade. ``risk`` is a distance in price, ``ratio`` the return on the entry value; ``worst`` and ``best``
#: are ratios of the entry.
TRADE_COLUMNS = (
    "symbol",
    "trade",
    "side",
    "decided",
    "entered",
    "entry",
    "exit",
    "left",
    "reason",
    "units",
    "risk",
    "net",
    "ratio",
    "bars",
    "worst",
    "best",
)
_REASONS = ["", *Reason]


def day_words(trial: Trial, bar: int) -> str:
    """When a bar of a trial's panel opened, on its exchange's clock: the day, and the time on bars within the day."""
    panel = trial.ground.panel
    calendar = panel.calendars[int(np.searchsorted(panel.offsets, bar, "right")) - 1]
    local = int(calendar.shown(panel.times[bar : bar + 1], panel.timeframe)[0])
    form = "%d %b %Y %H:%M" if panel.timeframe.intraday else "%d %b %Y"
    return f"{datetime.fromtimestamp(local, UTC):{form}}"


def price_words(trial: Trial, k: int, price: float) -> str:
    """A price of a trade's symbol with that symbol's own decimals; a dash for none."""
    tick = trial.ground.panel.steps[trial.trades.symbol[k]]
    decimals = len(tick_words(tick).partition(".")[2])
    return "–" if price != price else f"{price:,.{decimals}f}"


def trade_words(trial: Trial, k: int) -> str:
    """A trade in a few lines, for a tooltip."""
    trades, book, results = trial.trades, trial.book, trial.results
    symbol, name = trades.panel.symbols[trades.symbol[k]], trades.rules[trades.rule[k]].name
    side = Side(int(trades.side[k])).word
    made = [
        f"{symbol}, {name} {side}",
        f"in {day_words(trial, int(trades.entered[k]))} at {price_words(trial, k, trades.real_entry[k])}",
    ]
    if trades.left[k] >= 0:
        made.append(
            f"out {day_words(trial, int(trades.left[k]))} at {price_words(trial, k, trades.real_exit[k])} by {_REASONS[trades.reason[k]]}"
        )
    else:
        made.append("still open")
    if book.taken[k] == Taken.YES:
        risks = f", {results.risks[k]:+.2f} risks" if np.isfinite(results.risks[k]) else ""
        ratio = f"{results.ratio[k]:+.2%}" if np.isfinite(results.ratio[k]) else ""
        beside = f"{ratio}{risks}".removeprefix(", ")
        made.append(f"{book.real_units[k]:,.6g} units brought {book.net[k]:,.2f}" + (f" ({beside})" if beside else ""))
    else:
        made.append(f"skipped: {SKIPPED[Taken(int(book.taken[k]))]}")
    return "\n".join(made)


def trade_rows(trial: Trial, which: np.ndarray) -> Iterator[dict[str, object]]:
    """Some trades as plain data; None for what is not known. Shape (trades chosen,), int64."""
    trades, book, results = trial.trades, trial.book, trial.results
    times, units = trades.panel.times, book.real_units
    for k in np.flatnonzero(which).tolist():
        closed = trades.left[k] >= 0
        yield {
            "symbol": trades.panel.symbols[trades.symbol[k]],
            "trade": trades.rules[trades.rule[k]].name,
            "side": Side(int(trades.side[k])).word,
            "decided": iso(int(times[trades.decided[k]])),
            "entered": iso(int(times[trades.entered[k]])),
            "entry": float(trades.real_entry[k]),
            "exit": float(trades.real_exit[k]) if closed else None,
            "left": iso(int(times[trades.left[k]])) if closed else None,
            "reason": str(_REASONS[trades.reason[k]]) if closed else None,
            "units": _known(units[k]),
            "risk": _known(trades.real_risk[k]),
            "net": _known(book.net[k]),
            "ratio": _known(results.ratio[k]),
            "bars": int(results.bars[k]),
            "worst": _known(results.worst[k]),
            "best": _known(results.best[k]),
        }


def skipped_rows(trial: Trial) -> Iterator[dict[str, object]]:
    """The entries that were not taken, with their reasons."""
    trades, taken = trial.trades, trial.book.taken
    for k in np.flatnonzero(taken != Taken.YES).tolist():
        yield {
            "symbol": trades.panel.symbols[trades.symbol[k]],
            "trade": trades.rules[trades.rule[k]].name,
            "side": Side(int(trades.side[k])).word,
            "decided": iso(int(trades.panel.times[trades.decided[k]])),
            "entered": iso(int(trades.panel.times[trades.entered[k]])),
            "entry": float(trades.real_entry[k]),
            "reason": SKIPPED[Taken(int(taken[k]))],
        }


def _known(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None


def as_plain(trial: Trial) -> dict[str, object]:
    """A whole trial as plain data, ready for JSON."""
    equity = trial.equity
    return {
        "trades": list(trade_rows(trial, trial.book.done)),
        "open": list(trade_rows(trial, trial.book.open)),
        "skipped": list(skipped_rows(trial)),
        "counts": trial.counts,
        "figures": trial.metrics,
        "equity": [[iso(t), v] for t, v in zip(equity.times.tolist(), equity.value.tolist(), strict=True)],
        "sealed_from": None if trial.ground.seal is None else iso(trial.ground.seal),
        "tuned": trial.ground.is_tuned,
    }


def through_words(trial: Trial, at_touch: Trial) -> str:
    """What it changes that limits and targets fill only where prices trade through them, beside a touch being enough."""
    told = [
        f"{METRICS[name].title.lower()} {metric_words(trial.metrics, name)} instead of {metric_words(at_touch.metrics, name)}"
        for name in ("trades", "average", "growth")
    ]
    return f"Limits and targets fill only where prices go beyond them: {', '.join(told)}."


def trades_table(trial: Trial) -> Iterator[list[object]]:
    """The closed trades, then the open ones, as rows under a head; empty fields for what is not known."""
    yield list(TRADE_COLUMNS)
    for which in (trial.book.done, trial.book.open):
        for row in trade_rows(trial, which):
            yield [_field(row[name]) for name in TRADE_COLUMNS]


def equity_table(trial: Trial) -> Iterator[list[object]]:
    """The curve as rows under a head."""
    equity = trial.equity
    yield ["time", "value", "held"]
    for time, value, held in zip(equity.times.tolist(), equity.value.tolist(), equity.held.tolist(), strict=True):
        yield [iso(time), repr(value), repr(held) if held == held else ""]


def _field(value: object) -> object:
    return "" if value is None else repr(value) if isinstance(value, float) else value
