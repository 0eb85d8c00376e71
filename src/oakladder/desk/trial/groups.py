"""Trades in groups: what each group brought, as bars."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PyQt6.QtWidgets import QWidget

from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.bar_rows import BarRow, BarsBy
from oakladder.trial import groups
from oakladder.trial.figures import Unit, written
from oakladder.trial.groups import TradeGroup
from oakladder.trial.trial import Trial


def _numbers(group: TradeGroup) -> tuple[str, str, str, str]:
    found = group.figures
    return (
        written(found["net"], Unit.MONEY),
        written(found["trades"], Unit.COUNT),
        written(found.get("winners"), Unit.RATIO).lstrip("+"),
        written(found.get("average"), Unit.RATIO),
    )


class GroupsPanel(BarsBy):
    """Chooses by what trades are grouped, and shows the groups."""

    def __init__(self, theme: Theme, group_of: Callable[[], Mapping[str, str]], parent: QWidget | None = None):
        self._trial: Trial | None = None
        self._kinds: dict[str, Callable[[Trial], list[TradeGroup]]] = {
            "side and reason it was left": lambda trial: [*groups.by_side(trial), *groups.by_reason(trial)],
            "symbol": groups.by_symbol,
            "group": lambda trial: groups.by_group(trial, group_of()),
            "weekday of the entry": groups.by_weekday,
            "hour of the entry": groups.by_hour,
            "month of the entry": groups.by_entry_month,
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
            found = sorted(found, key=lambda g: -(g.figures["net"] or 0.0))
        self.bars.show_rows([BarRow(g.name, g.figures["net"] or 0.0, _numbers(g)) for g in found])
