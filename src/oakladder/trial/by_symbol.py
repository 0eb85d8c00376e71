"""The equity of a rule on each symbol alone, with its own money: on which markets it lives, and on which it dies."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from oakladder.rung.problems import Cancelled
from oakladder.trial.broker.account import keep_book
from oakladder.trial.trial import Trial

#: So many points are kept of each curve: small pictures show no more.
POINTS = 160
#: What symbols without a group are listed under.
NO_GROUP = "no group"


@dataclass(frozen=True, slots=True)
class SymbolCurve:
    """What the rule made of a symbol with the whole starting money: the value at some closes from the symbol's first on
    (float64, at most `POINTS`, the last among them), as a ratio of the start, and how many trades were closed."""

    symbol: str
    value: np.ndarray
    trades: int

    @property
    def result(self) -> float:
        """The result, as a ratio of the starting money."""
        return float(self.value[-1]) - 1 if len(self.value) else 0.0


def symbol_curves(
    trial: Trial,
    cancelled: Callable[[], bool] | None = None,
    progress: Callable[[float], None] | None = None,
) -> list[SymbolCurve]:
    """The curves of all symbols with bars, in the order of the panel. Raises `Cancelled`."""
    account, panel, grid = replace(trial.account, apart=True), trial.ground.panel, trial.ground.grid
    money, first = account.money, trial.ground.first_place
    made = []
    for k, symbol in enumerate(panel.symbols):
        if cancelled is not None and cancelled():
            raise Cancelled
        if progress is not None:
            progress((k + 1) / len(panel))
        begin, end = int(panel.starts[k]), int(panel.ends[k])
        if end == begin:
            continue
        book = keep_book(trial.trades.take(trial.trades.symbol == k), account, grid)
        change, _, worth = book.curve
        value = money + np.cumsum(change) + worth
        span = value[max(int(grid.at[begin]), first) :]
        made.append(SymbolCurve(symbol, _thinned(span) / money, int(book.done.sum())))
    return made


def _thinned(values: np.ndarray) -> np.ndarray:
    """At most `POINTS` of some values, the first and the last among them; shape (values,), float64."""
    if len(values) <= POINTS:
        return values
    return values[np.round(np.linspace(0, len(values) - 1, POINTS)).astype(np.int64)]


def by_result(curves: Sequence[SymbolCurve]) -> list[SymbolCurve]:
    """The best first."""
    return sorted(curves, key=lambda c: (-c.result, c.symbol))


def by_group(curves: Sequence[SymbolCurve], group_of: Mapping[str, str]) -> list[tuple[str, list[SymbolCurve]]]:
    """Groups with their symbols, the best first: groups by the median of their symbols' results."""
    groups: dict[str, list[SymbolCurve]] = {}
    for one in by_result(curves):
        groups.setdefault(group_of.get(one.symbol, "") or NO_GROUP, []).append(one)
    return sorted(groups.items(), key=lambda item: (-float(np.median([c.result for c in item[1]])), item[0]))


def curves_words(curves: Sequence[SymbolCurve]) -> str:
    """On how many symbols the rule brought something, in a sentence."""
    traded = [c for c in curves if c.trades]
    if not traded:
        return "No symbol has a closed trade."
    won = sum(c.result > 0 for c in traded)
    middle = float(np.median([c.result for c in traded]))
    rest = len(curves) - len(traded)
    without = f" {rest} without a trade." if rest else ""
    return f"Gains on {won} of {len(traded)} symbols, each with its own money; the middle one {middle:+.1%}.{without}"
