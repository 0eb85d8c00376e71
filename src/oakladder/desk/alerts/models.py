"""The tables of the Alerts place: the alerts, and the log of what they told."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import UTC, datetime

import numpy as np

from oakladder.alerts.alert import Alert, AlertProblem, Once
from oakladder.alerts.store import LogRow
from oakladder.app.alerts import AlertsController
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.rows_model import Look, RowsModel

_ONCE = {Once.BAR: "once a bar", Once.DAY: "once a day", Once.EVER: "once"}


def moment_text(seconds: float) -> str:
    """A moment of the machine's as tables show it, in its own zone."""
    return f"{datetime.fromtimestamp(seconds):%d %b %Y %H:%M}"


class AlertRows(RowsModel):
    """A row for each alert."""

    left = frozenset(range(7))
    _heads = ("Alert", "State", "Signal", "Over", "Timeframe", "Tells", "Last told")

    def __init__(self, alerts: AlertsController, theme: Theme):
        super().__init__(theme)
        self._alerts = alerts
        self.alerts: list[Alert] = []
        self._texts: list[tuple[str, ...]] = []

    def show(self) -> None:
        """Shows the alerts as they are now."""
        self.beginResetModel()
        self.alerts, told = list(self._alerts.alerts), self._alerts.last_told()
        self._texts = [self._texts_of(alert, told.get(alert.id)) for alert in self.alerts]
        self.endResetModel()

    def _texts_of(self, alert: Alert, told: float | None) -> tuple[str, ...]:
        """The cells of an alert. An alert that holds no condition is shown, to be removed."""
        try:
            over, frame, signal = alert.symbol or alert.saved.list_name, str(alert.frame.timeframe), alert.signal
        except (AlertProblem, ValueError):
            over, frame, signal = "", "", "no condition"
        changed = ", script changed" if alert.id in self._alerts.outdated else ""
        return (
            alert.name,
            ("on" if alert.is_on else "off") + changed,
            signal,
            over,
            frame + (", extended hours" if alert.extended else ""),
            f"{'as the bar forms' if alert.forming else 'when the bar closes'}, {_ONCE[alert.once]}",
            moment_text(told) if told is not None else "not yet",
        )

    def count(self) -> int:
        return len(self.alerts)

    def sections(self) -> int:
        return len(self._heads)

    def head(self, section: int) -> str:
        return self._heads[section]

    def text(self, row: int, section: int) -> str:
        return self._texts[row][section]

    def look(self, row: int, section: int) -> Look:
        return None, "ink" if self.alerts[row].is_on else "faint"


class LogRows(RowsModel):
    """A row for each bar that an alert told of, the newest first."""

    left = frozenset(range(6))
    _heads = ("Bar", "Alert", "Symbol", "Timeframe", "What", "Told")

    def __init__(self, theme: Theme, infos: Callable[[], Mapping[str, SymbolInfo]]):
        super().__init__(theme)
        self._infos = infos
        self.rows: list[LogRow] = []

    def show(self, rows: list[LogRow]) -> None:
        """Shows other rows."""
        self.beginResetModel()
        self.rows = rows[::-1]
        self.endResetModel()

    def count(self) -> int:
        return len(self.rows)

    def sections(self) -> int:
        return len(self._heads)

    def head(self, section: int) -> str:
        return self._heads[section]

    def text(self, row: int, section: int) -> str:
        one = self.rows[row]
        ended = "no longer true: " if one.gone is not None else ""
        told = (
            "missed" if one.missed else "muted" if one.muted else moment_text(one.told) if one.told is not None else ""
        )
        return (self._bar_text(one), one.name, one.symbol, one.timeframe, f"{ended}{one.text}", told)[section]

    def _bar_text(self, one: LogRow) -> str:
        """When the bar began, on the exchange's clock as the chart shows it."""
        info, times = self._infos().get(one.symbol), np.array([one.bar], dtype=np.int64)
        local = info.calendar.shown(times, Timeframe.parse(one.timeframe)) if info is not None else times
        return f"{datetime.fromtimestamp(int(local[0]), UTC):%d %b %Y %H:%M}"

    def order(self, row: int, section: int) -> float | str:
        return float(self.rows[row].bar) if section == 0 else self.text(row, section)

    def hint(self, row: int, section: int) -> str:
        return f"{self.text(row, section)}. Enter opens the bar on the Bench."

    def look(self, row: int, section: int) -> Look:
        one = self.rows[row]
        return None, "faint" if one.missed or one.muted or one.gone is not None else "ink"
