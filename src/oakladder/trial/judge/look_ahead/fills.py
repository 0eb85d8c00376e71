"""Uncertain fills: undecided ones, those at a bar's very extreme, and entries too large for their bar."""

from __future__ import annotations

import numpy as np

from oakladder.rung.texts import count_words
from oakladder.rung.trade_log import Moment, Order
from oakladder.rung.trade_words import Reason
from oakladder.trial.judge.look_ahead.finding import Finding, FindingKind, finding
from oakladder.trial.trial import Trial

#: An entry of more than this share of its bar's volume moves the price.
MOST_OF_VOLUME = 0.1
#: The share of a tick by which prices may differ and be the same.
_SAME = 1e-6


def undecided(trial: Trial) -> list[Finding]:
    """Trades that a bar ended which reached both their stop and their target."""
    places = trial.trades.left[trial.book.done & trial.trades.undecided]
    if not len(places):
        return []
    words = (
        f"{_trades(len(places))} ended on a bar that reached stop and target; the stop is counted. Finer bars may tell"
    )
    return [finding(FindingKind.UNDECIDED, words, len(places), trial.ground.panel, int(places[-1]))]


def at_the_extreme(trial: Trial) -> list[Finding]:
    """Limits and targets that were filled at the lowest price of their bar, or the highest for what is sold: they may have
    been touched and not filled."""
    trades, panel, book = trial.trades, trial.ground.panel, trial.book
    taken = book.done | book.open
    high, low = panel.column("high"), panel.column("low")
    is_long = trades.side > 0

    def touched(price: np.ndarray, bars: np.ndarray, buys: np.ndarray) -> np.ndarray:
        tick = panel.ticks_on(trades.symbol, bars) * _SAME
        return np.where(buys, np.abs(price - low[bars]) <= tick, np.abs(price - high[bars]) <= tick)

    entries = taken & trades.inside & (trades.order == Order.LIMIT) & touched(trades.entry, trades.entered, is_long)
    by_target = book.done & (trades.moment == Moment.INSIDE) & (trades.reason == Reason.TARGET.number)
    exits = by_target & touched(trades.exit, trades.left, ~is_long)
    places = np.sort(np.concatenate([trades.entered[entries], trades.left[exits]]))
    if not len(places):
        return []
    words = f"{count_words(len(places), 'fill')} of a limit or target at the very extreme of a bar: prices did not trade through"
    return [finding(FindingKind.THROUGH, words, len(places), panel, int(places[-1]))]


def without_volume(trial: Trial) -> list[Finding]:
    """Entries on bars of symbols of which no volume is known."""
    panel, taken = trial.ground.panel, np.flatnonzero(trial.book.done | trial.book.open)
    places = trial.trades.entered[taken[~_has_volume(trial)[trial.trades.symbol[taken]]]] if len(taken) else taken
    if not len(places):
        return []
    words = f"{_trades(len(places))} entered where no volume is known, so their size cannot be checked"
    return [finding(FindingKind.NO_VOLUME, words, len(places), panel, int(places[-1]))]


def _has_volume(trial: Trial) -> np.ndarray:
    """Of which symbols a volume is known; bool, shape (symbols,)."""
    panel = trial.ground.panel
    volume = panel.column("volume")
    return np.array([bool((volume[a:b] > 0).any()) for a, b in zip(panel.starts, panel.ends, strict=True)])


def thin(trial: Trial) -> list[Finding]:
    """Entries of more units than a tenth of what traded on their bar; see `without_volume` for symbols without any."""
    panel, book = trial.ground.panel, trial.book
    taken = np.flatnonzero(book.done | book.open)
    volume = panel.column("volume")
    taken = taken[_has_volume(trial)[trial.trades.symbol[taken]]] if len(taken) else taken
    places = trial.trades.entered[taken]
    share = np.divide(book.real_units[taken], volume[places], out=np.full(len(taken), np.inf), where=volume[places] > 0)
    much = np.flatnonzero(share > MOST_OF_VOLUME)
    if not len(much):
        return []
    worst = int(much[np.argmax(share[much])])
    how = "nothing traded" if np.isinf(share[worst]) else f"{share[worst]:,.0%} of all that traded"
    words = (
        f"{_trades(len(much))} entered with more than {MOST_OF_VOLUME:.0%} of their bar's volume, the worst with {how}"
    )
    return [finding(FindingKind.THIN, words, len(much), panel, int(places[worst]))]


def _trades(count: int) -> str:
    return "1 trade" if count == 1 else f"{count:,} trades"
