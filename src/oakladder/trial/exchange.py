"""Prices in the account's currency: what one unit of each symbol is worth at each moment, for each of its price."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from oakladder.bars.contract import PLAIN as SHARE
from oakladder.bars.contract import Contract
from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import Panel
from oakladder.rung.problems import RunProblem

#: How a pair of two currencies may be called.
_BETWEEN = ("", "-", "_", ".")


def factors_of(panel: Panel, closes: np.ndarray, currency: str) -> np.ndarray | None:
    """What a unit of each symbol is worth in a currency (of the account, empty where none is said) for each of its price, at
    moments that close then (int64 UTC seconds, shape (moments,)); None where that is 1 throughout.

    Float64, shape (symbols, moments). Raises `RunProblem` where no exchange rate is known.
    """
    contracts = panel.contracts or (SHARE,) * len(panel)
    needed = _needed(contracts, panel.symbols, currency)
    if not needed and all(c.multiplier == 1 for c in contracts):
        return None
    rates = {one: _rate(panel, one, currency, closes) for one in needed}
    made = np.empty((len(panel), len(closes)))
    for k, contract in enumerate(contracts):
        made[k] = contract.multiplier * rates.get(contract.currency, 1.0)
    return made


def _needed(contracts: tuple[Contract, ...], symbols: tuple[str, ...], currency: str) -> list[str]:
    """The currencies for which a rate is needed."""
    theirs = {c.currency: s for c, s in zip(contracts, symbols, strict=True) if c.currency}
    if not currency and len(theirs) > 1:
        told = ", ".join(f"{s} in {c}" for c, s in list(theirs.items())[:3])
        raise RunProblem(
            f"The symbols have prices in several currencies ({told}). Say the account's, as in --currency {next(iter(theirs))}."
        )
    return [c for c in theirs if currency and c != currency]


def _rate(panel: Panel, one: str, other: str, closes: np.ndarray) -> np.ndarray:
    """What one currency is worth in another at some moments: the last close of their pair that was known then."""
    for pair, is_inverse in _pairs(one, other):
        background = panel.background
        if background is None:
            break
        try:
            bars = background.other(pair, panel.timeframe)
        except (KeyError, DataProblem):
            continue
        rate, known = bars.column("close"), bars.timeline.closes(0) if bars.size else np.zeros(0, dtype=np.int64)
        sound = rate > 0
        if sound.any():  # before its first close the rate is that bar's open, once it has opened
            first = int(np.argmax(sound))
            opened = bars.column("open")[first] if bars.column("open")[first] > 0 else rate[first]
            rate = np.append(opened, rate[sound])
            known = np.append(bars.times[first], known[sound])
        at = np.searchsorted(known, closes, "right") - 1
        if not sound.any() or (len(at) and at[0] < 0):
            raise RunProblem(
                f"The exchange rate {pair} begins later than the bars of this trial, so what they are worth in {other} is not known. "
                "Choose a later first day (--from), or import more of it."
            )
        return 1 / rate[at] if is_inverse else rate[at]
    raise RunProblem(
        f"There is no exchange rate from {one} to {other}: import the pair {one}{other} or {other}{one}, or leave the account's "
        "currency unsaid."
    )


def _pairs(one: str, other: str) -> Iterator[tuple[str, bool]]:
    """What the pair of two currencies may be called, and whether it is the other way round."""
    for between in _BETWEEN:
        yield f"{one}{between}{other}", False
        yield f"{other}{between}{one}", True
