"""Uncertain fills: undecided ones, and entries too large for their bar."""

from __future__ import annotations

import numpy as np

from oakladder.trial.judge.look_ahead.finding import Finding, FindingKind, finding
from oakladder.trial.trial import Trial

#: An entry of more than this share of its bar's volume moves the price.
MOST_OF_VOLUME = 0.1


def undecided(trial: Trial) -> list[Finding]:
    """Trades that a bar ended which reached both their stop and their target."""
    places = trial.trades.left[trial.book.done & trial.trades.undecided]
    if not len(places):
        return []
    words = (
        f"{_trades(len(places))} ended on a bar that reached stop and target; the stop is counted. Finer bars may tell"
    )
    return [finding(FindingKind.UNDECIDED, words, len(places), trial.ground.panel, int(places[-1]))]


def thin(trial: Trial) -> list[Finding]:
    """Entries of more units than a tenth of what traded on their bar; where no volume is known nothing is said."""
    panel, book = trial.ground.panel, trial.book
    taken = np.flatnonzero(book.done | book.open)
    volume = panel.column("volume")
    known = np.array([bool((volume[a:b] > 0).any()) for a, b in zip(panel.starts, panel.ends, strict=True)])
    taken = taken[known[trial.trades.symbol[taken]]] if len(taken) else taken
    places = trial.trades.entered[taken]
    share = np.divide(book.units[taken], volume[places], out=np.full(len(taken), np.inf), where=volume[places] > 0)
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
