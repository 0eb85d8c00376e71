"""A trial as plain data and as tables: for JSON, for CSV, for whoever reads it elsewhere."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from oakladder.bars.csv_files import iso
from oakladder.rung.trade_words import Reason, Side
from oakladder.trial.ledger import Taken
from oakladder.trial.trial import Trial

#: Why an entry was not taken, in words.
SKIPPED = {
    Taken.NO_ROOM: "no room: as many positions are held as the account holds at most",
    Taken.NO_MONEY: "no money left for it",
    Taken.TOO_SMALL: "too little money for one lot",
    Taken.NO_STOP: "no stop to reckon its size from",
}
#: What is told of a trade, in order. ``risk`` is a distance in price, ``ratio`` what it brought for what it was entered
#: for; ``worst`` and ``best`` are ratios of the entry.
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


def trade_rows(trial: Trial, which: np.ndarray) -> Iterator[dict[str, object]]:
    """Some trades as plain data; None for what is not known."""
    trades, book, results = trial.trades, trial.book, trial.results
    times = trades.panel.times
    for k in np.flatnonzero(which).tolist():
        closed = trades.left[k] >= 0
        yield {
            "symbol": trades.panel.symbols[trades.symbol[k]],
            "trade": trades.rules[trades.rule[k]].name,
            "side": Side(int(trades.side[k])).word,
            "decided": iso(int(times[trades.decided[k]])),
            "entered": iso(int(times[trades.entered[k]])),
            "entry": float(trades.entry[k]),
            "exit": float(trades.exit[k]) if closed else None,
            "left": iso(int(times[trades.left[k]])) if closed else None,
            "reason": str(_REASONS[trades.reason[k]]) if closed else None,
            "units": _known(book.units[k]),
            "risk": _known(trades.risk[k]),
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
            "entry": float(trades.entry[k]),
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
        "figures": trial.figures,
        "equity": [[iso(t), v] for t, v in zip(equity.times.tolist(), equity.value.tolist(), strict=True)],
        "sealed_from": None if trial.ground.seal is None else iso(trial.ground.seal),
    }


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
        yield [iso(time), repr(value), repr(held)]


def _field(value: object) -> object:
    return "" if value is None else repr(value) if isinstance(value, float) else value
