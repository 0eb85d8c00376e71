"""Settings whose value was chosen on the very history that it is tried on, by what the notebook knows."""

from __future__ import annotations

from oakladder.trial.judge.look_ahead.own_history import BestValue
from oakladder.trial.notebook import Notebook, Try, What

#: Of fewer values of a setting the best is no choice; and by which metrics a value is the best.
FEWEST_VALUES, BEST_BY = 3, ("sharpe", "growth", "average")


def best_values(book: Notebook, what: What) -> list[BestValue]:
    """The settings of a variant whose values are the best of at least `FEWEST_VALUES` that were tried on the same list,
    timeframe and dates with everything else the same."""
    alike: dict[str, dict[str, Try]] = {}
    for one in book.tries.values():
        other = one.what
        if book.place_of(other) != book.place_of(what) or set(other.settings) != set(what.settings):
            continue
        names = [n for n, value in other.settings.items() if value != what.settings[n]]
        if len(names) <= 1:
            for name in names or list(what.settings):
                alike.setdefault(name, {})[other.settings[name]] = one
    made = []
    for name, tries in alike.items():
        own = tries.get(what.settings[name])
        if own is None or len(tries) < FEWEST_VALUES:
            continue
        for metric in BEST_BY:
            known = [v for one in tries.values() if (v := one.metrics.get(metric)) is not None]
            value = own.metrics.get(metric)
            if value is not None and value == max(known) and min(known) < value:
                made.append(BestValue(name, what.settings[name], len(tries), metric))
                break
    return made
