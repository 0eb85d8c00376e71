"""Trades in groups: what each group brought, as bars."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PyQt6.QtWidgets import QWidget

from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.bar_rows import BarRow, BarsBy
from oakladder.trial import breakdowns, regimes
from oakladder.trial.breakdowns import TradeGroup
from oakladder.trial.metrics.metrics import Unit, written
from oakladder.trial.trial import Trial


def _numbers(group: TradeGroup) -> tuple[str, str, str, str]:
    found = group.metrics
    return (
        written(found["net"], Unit.MONEY),
        written(found["trades"], Unit.COUNT),
        written(found.get("winners"), Unit.RATIO).lstrip("+"),
        written(found.get("average"), Unit.RATIO),
    )


class BreakdownPanel(BarsBy):
    """Chooses by what trades are grouped, and shows the groups."""

    def __init__(self, theme: Theme, group_of: Callable[[], Mapping[str, str]], parent: QWidget | None = None):
        self._trial: Trial | None = None
        self._kinds: dict[str, Callable[[Trial], list[TradeGroup]]] = {
            "side and exit reason": lambda trial: [*breakdowns.by_side(trial), *breakdowns.by_reason(trial)],
            "symbol": breakdowns.by_symbol,
            "group": lambda trial: breakdowns.by_group(trial, group_of()),
            "year": regimes.by_year,
            "trend of the index": regimes.by_trend,
            "volatility of the index": regimes.by_volatility,
            "entry weekday": breakdowns.by_weekday,
            "entry hour": breakdowns.by_hour,
            "entry month": breakdowns.by_entry_month,
        }
        super().__init__(theme, ("result", "trades", "winners", "average"), list(self._kinds), parent)
        self.chosen.connect(lambda _: self._show())

    def show_trial(self, trial: Trial | None) -> None:
        """Shows the groups of another trial."""
        self._trial = trial
        self._show()

    def _show(self) -> None:
        found = self._kinds[self.kind](self._trial) if self._trial is not None else []
        if self.kind == "symbol":
            found = sorted(found, key=lambda g: -(g.metrics["net"] or 0.0))
        self.bars.show_rows([BarRow(g.name, g.metrics["net"] or 0.0, _numbers(g)) for g in found])
