"""The results of a scan: the table with a small chart in each row, and the days of past occurrences."""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Mapping
from typing import Any

import numpy as np
from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QHelpEvent, QMouseEvent, QPainter
from PyQt6.QtWidgets import QToolTip, QWidget

from oakladder.app.columns import ColumnPlace, ScriptColumn, places_of
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.time_words import opening_words
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.cells import look_of, words_of
from oakladder.desk.widgets.rows_model import Look, RowsModel
from oakladder.desk.widgets.small_charts import draw_spark
from oakladder.desk.widgets.thumbnail_sheet import Caption, Captions
from oakladder.engine.columns.cells import NOTHING, Cell, signal_cell
from oakladder.engine.columns.fill import FilledColumns
from oakladder.engine.scan.run import FOLLOWED_BARS, Match, Occurrence
from oakladder.engine.sealed import SEALED

HEADS = ("Symbol", "Name", "Sector", "Since", "Bars", "New", "Last", "Change", "Chart")
_LEFT = {0, 1, 2, 5}
CHART = HEADS.index("Chart")
SPARK_BARS = 60


class FoundModel(RowsModel):
    """The symbols that a scan found; behind the fixed columns one for each rule, with how long ago it held."""

    left = frozenset(_LEFT)

    def __init__(self, theme: Theme):
        super().__init__(theme)
        self.found: list[Match] = []
        self.rules: list[str] = []
        self.timeframe = ONE_DAY
        self.infos: Mapping[str, SymbolInfo] = {}
        self.sparks: dict[str, np.ndarray] = {}
        self.columns: list[ScriptColumn] = []
        self.places: list[ColumnPlace] = []
        self.cells: dict[ColumnPlace, dict[str, Cell]] = {}

    def show_found(
        self, found: list[Match], rules: list[str], timeframe: Timeframe, infos: Mapping[str, SymbolInfo]
    ) -> None:
        self.beginResetModel()
        self.found, self.rules, self.timeframe, self.infos, self.sparks = found, rules, timeframe, infos, {}
        self.endResetModel()

    def show_sparks(self, closes: dict[str, np.ndarray]) -> None:
        """The last closes of each symbol, for its small chart. Each shape (bars,), float64."""
        self.sparks = closes
        if self.found:
            self.dataChanged.emit(self.index(0, CHART), self.index(self.rowCount() - 1, CHART))

    def show_columns(self, columns: list[ScriptColumn]) -> None:
        """Shows other columns of scripts behind the rules; their cells come later."""
        self.beginResetModel()
        self.columns, self.places, self.cells = columns, places_of(columns), {}
        self.endResetModel()

    def fill(self, made: dict[ColumnPlace, FilledColumns]) -> None:
        """Puts the cells of some columns in."""
        self.cells |= {place: column.cells for place, column in made.items()}
        if self.found:
            last = self.index(self.rowCount() - 1, self.columnCount() - 1)
            self.dataChanged.emit(self.index(0, len(HEADS)), last)

    def place_of(self, section: int) -> ColumnPlace | None:
        """Which script column a section is; None for the others."""
        k = section - len(HEADS) - len(self.rules)
        return self.places[k] if 0 <= k < len(self.places) else None

    def cell(self, one: Match, section: int) -> Cell | None:
        """The cell of a script column; None elsewhere and before it has come."""
        place = self.place_of(section)
        return self.cells.get(place, {}).get(one.symbol) if place is not None else None

    def head(self, section: int) -> str:
        """What stands above a section."""
        place = self.place_of(section)
        if place is not None:
            return f"{self.columns[place.column].caption} {place.timeframe}"
        return HEADS[section] if section < len(HEADS) else self.rules[section - len(HEADS)]

    def captions(self) -> Captions:
        """What stands over the small chart of each symbol."""
        return Captions(self.found, self._caption)

    def _caption(self, one: Match) -> Caption:
        info = self.infos.get(one.symbol)
        ink = "loss" if one.change < 0 else "gain"
        since = signal_cell(one.bars_ago, None, "").text
        moved = f"{one.change:+.2%}" if one.change == one.change else ""
        return Caption(one.symbol, f"{since}  {info.name if info else ''}", moved, ink)

    def count(self) -> int:
        return len(self.found)

    def sections(self) -> int:
        return len(HEADS) + len(self.rules) + len(self.places)

    def text(self, row: int, section: int) -> str:
        return self._text(self.found[row], section)

    def look(self, row: int, section: int) -> Look:
        one = self.found[row]
        cell = self.cell(one, section)
        if section == 7:
            return None, "loss" if one.change < 0 else "gain"
        return look_of(cell)

    def draw_chart(self, painter: QPainter, row: int, box: QRectF) -> None:
        """The small chart of a row, the bar marked since which the scan holds."""
        one = self.found[row]
        closes = self.sparks.get(one.symbol)
        if closes is None:
            return
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_spark(painter, closes, box.adjusted(6, 4, -6, -4), self.theme, one.bars_ago)
        painter.restore()

    def _text(self, one: Match, section: int) -> str:
        info = self.infos.get(one.symbol)
        if info is None:  # it is in the library no more
            return one.symbol if section == 0 else ""
        place = self.place_of(section)
        if place is not None:
            cell = self.cell(one, section)
            return words_of(cell, waiting=place not in self.cells)
        if section >= len(HEADS):
            age = one.ages[section - len(HEADS)]
            return signal_cell(age, None, "").text
        if section == 3:
            return opening_words(info.calendar, self.timeframe, one.since)
        return (
            info.symbol,
            info.name,
            info.sector,
            "",
            str(one.bars_ago),
            "new" if one.is_new else "",
            f"{one.last:,.{info.decimals}f}",
            "–" if one.change != one.change else f"{one.change:+.2%}",
            "",
        )[section]

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        if not 0 <= column < self.columnCount():
            return
        keys = (
            lambda f: f.symbol,
            lambda f: self._text(f, 1),
            lambda f: self._text(f, 2),
            lambda f: f.since,
            lambda f: f.bars_ago,
            lambda f: not f.is_new,
            lambda f: f.last,
            lambda f: f.change if f.change == f.change else -np.inf,
            lambda f: f.change,
        )
        self.layoutAboutToBeChanged.emit()
        if column < len(keys):
            key = keys[column]
        elif self.place_of(column) is not None:

            def key(f: Match) -> Any:
                cell = self.cell(f, column)
                return cell.order if cell is not None and cell.order == cell.order else np.inf

        else:
            k = column - len(HEADS)

            def key(f: Match) -> Any:
                return f.ages[k] if f.ages[k] >= 0 else 10**9

        self.found.sort(key=key, reverse=order is Qt.SortOrder.DescendingOrder)
        self.layoutChanged.emit()


class Almanac(PaintedWidget):
    """How many symbols matched on each day: a column for each week, a square for each weekday. ``chosen`` delivers a day."""

    chosen = pyqtSignal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self.counts: Counter[int] = Counter()
        self.day: int | None = None
        self._last = 0
        self._rows = 5
        self.setFixedHeight(self._height())
        self.setMouseTracking(True)
        self.setAccessibleName("Occurrences per day")

    def show_days(self, found: list[Occurrence], last_day: int) -> None:
        """Shows so many on each day, up to a last one (days since 1970)."""
        self.counts = Counter(o.day for o in found)
        self.day, self._last = None, max([last_day, *self.counts])
        self._rows = 7 if any((day + 3) % 7 > 4 for day in self.counts) else 5
        self.setFixedHeight(self._height())
        self.update()

    def _height(self) -> int:
        return 26 + 13 * self._rows

    def _last_monday(self) -> int:
        return self._last - (self._last + 3) % 7

    def place_of(self, day: int) -> QRectF:
        """The square of a day (days since 1970)."""
        weeks = (self._last_monday() - (day - (day + 3) % 7)) // 7
        return QRectF(self.width() - 22 - 14 * weeks, 20 + 13 * ((day + 3) % 7), 12, 11)

    def day_at(self, x: float, y: float) -> int | None:
        """The day under a point, if anything matched on it."""
        weeks = round((self.width() - 22 + 6 - x) / 14)
        row = int((y - 20) // 13)
        day = self._last_monday() - 7 * weeks + row
        return day if 0 <= row < 7 and day in self.counts else None

    def paint(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), self.theme.color("raised"))
        if not self.counts:
            return
        most = max(self.counts.values())
        painter.setFont(ui_font(SMALL))
        monday = self._last_monday()
        for week in range((self.width() - 60) // 14):
            start = monday - 7 * week
            date = datetime.date(1970, 1, 1) + datetime.timedelta(days=start)
            if date.day <= 7:
                painter.setPen(self.theme.color("faint"))
                painter.drawText(QRectF(self.place_of(start).left() - 4, 3, 60, 14), f"{date:%b %y}")
            for day in range(start, start + self._rows):
                box, count = self.place_of(day), self.counts.get(day, 0)
                color = self.theme.color("pin" if count else "sunken")
                if count:
                    color.setAlphaF(0.25 + 0.75 * count / most)
                painter.fillRect(box, color)
                if day == self.day:
                    painter.setPen(self.theme.color("ink"))
                    painter.drawRect(box)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        day = self.day_at(event.position().x(), event.position().y())
        self.day = None if day == self.day else day
        self.update()
        self.chosen.emit(-1 if self.day is None else self.day)

    def event(self, event: object) -> bool:
        if isinstance(event, QHelpEvent):
            day = self.day_at(event.pos().x(), event.pos().y())
            if day is not None:
                date = datetime.date(1970, 1, 1) + datetime.timedelta(days=day)
                QToolTip.showText(event.globalPos(), f"{date:%a %d %b %Y}: {self.counts[day]}", self)
            return True
        return bool(super().event(event))


class OccurrenceModel(RowsModel):
    """Every bar on which a scan matched, newest first."""

    left = frozenset({0, 1, 2})

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme)
        self.all: list[Occurrence] = []
        self.rows: list[Occurrence] = []
        self.infos: Mapping[str, SymbolInfo] = {}
        self.timeframe = ONE_DAY

    def show_all(self, found: list[Occurrence], timeframe: Timeframe, infos: Mapping[str, SymbolInfo]) -> None:
        self.beginResetModel()
        self.all = self.rows = found
        self.timeframe, self.infos = timeframe, infos
        self.endResetModel()

    def show_day(self, day: int) -> None:
        """Only those of a day; all for -1."""
        self.beginResetModel()
        self.rows = [o for o in self.all if o.day == day] if day >= 0 else self.all
        self.endResetModel()

    def captions(self) -> Captions:
        """What stands over the small chart of each occurrence."""
        return Captions(self.rows, self._caption)

    def _caption(self, one: Occurrence) -> Caption:
        return Caption(one.symbol, self._words(one, 0), self._words(one, 3), self._ink(one))

    def count(self) -> int:
        return len(self.rows)

    def sections(self) -> int:
        return 4

    def head(self, section: int) -> str:
        return ("When", "Symbol", "Name", f"{FOLLOWED_BARS} bars on")[section]

    def hint(self, row: int, section: int) -> str:
        one = self.rows[row]
        if section == 3 and one.sealed:
            return "What followed lies in the sealed part of history. Break the seal in the rule's notebook to see it."
        if section == 3 and one.after != one.after:
            return f"Fewer than {FOLLOWED_BARS} bars have passed since"
        return self.text(row, section)

    def look(self, row: int, section: int) -> Look:
        return None, self._ink(self.rows[row]) if section == 3 else "ink"

    @staticmethod
    def _ink(one: Occurrence) -> str:
        return "faint" if one.after != one.after else "loss" if one.after < 0 else "gain"

    def text(self, row: int, section: int) -> str:
        return self._words(self.rows[row], section)

    def _words(self, one: Occurrence, section: int) -> str:
        info = self.infos.get(one.symbol)
        if section == 3:
            if one.after == one.after:
                return f"{one.after:+.1%}"
            return SEALED if one.sealed else NOTHING
        if section == 1 or info is None:
            return one.symbol if section == 1 else ""
        return info.name if section else opening_words(info.calendar, self.timeframe, one.time)
