"""A sheet of small equity curves, one for each symbol with its own money, sorted or by group."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.spacing import GAP, HAIR, TIGHT
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.sheet import Sheet
from oakladder.rung.texts import count_words
from oakladder.trial.by_symbol import SymbolCurve, by_group, by_result, curves_words
from oakladder.trial.trial import Trial

#: Less than this share of the money is shown as if it were so much.
_LOWEST = 0.05
_SORTED, _GROUPED = "best first", "by group"


class SymbolSheet(Sheet):
    """The curves on one logarithmic scale for all, so that they can be compared."""

    least = (128.0, 74.0)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(theme, "Equity by symbol", parent)
        self.curves: list[SymbolCurve] = []
        self._groups: list[str] = []
        self._low, self._high = 0.9, 1.1

    def show_curves(self, curves: list[SymbolCurve], groups: list[str]) -> None:
        """Shows curves, and of each the group that it is shown under; empty for none."""
        self.curves, self._groups = curves, groups
        known = [c.value for c in curves if len(c.value)]
        if known:
            self._low = max(min(float(v.min()) for v in known), _LOWEST)
            self._high = max(float(v.max()) for v in known)
        self.first()

    def count(self) -> int:
        return len(self.curves)

    def hint(self, k: int) -> str:
        one = self.curves[k]
        group = f", {self._groups[k]}" if self._groups[k] else ""
        return f"{one.symbol}{group}: {one.result:+.1%} with {count_words(one.trades, 'trade')}"

    def draw(self, painter: QPainter, k: int, box: QRectF) -> None:
        one, theme = self.curves[k], self.theme
        painter.setFont(ui_font(SMALL))
        high = painter.fontMetrics().height()
        begins = bool(self._groups[k]) and (k == 0 or self._groups[k - 1] != self._groups[k])
        painter.setPen(theme.color("ink"))
        told = f"{one.symbol}  {self._groups[k]}" if begins else one.symbol
        brought = f"{one.result:+.0%}" if one.trades else "no trade"
        room = box.width() - painter.fontMetrics().horizontalAdvance(brought) - 6
        painter.drawText(
            box,
            Qt.AlignmentFlag.AlignLeft,
            painter.fontMetrics().elidedText(told, Qt.TextElideMode.ElideRight, int(room)),
        )
        painter.setPen(theme.color("faint" if not one.trades else "gain" if one.result > 0 else "loss"))
        painter.drawText(box, Qt.AlignmentFlag.AlignRight, brought)
        plot = box.adjusted(0, high + 1, 0, -1)
        if len(one.value) < 2 or plot.height() < 8:
            return

        def y(value: np.ndarray) -> np.ndarray:
            low, high = math.log(self._low), math.log(max(self._high, self._low * 1.01))
            share = (np.log(np.maximum(value, self._low)) - low) / (high - low)
            return np.asarray(plot.bottom() - plot.height() * share)

        base = float(y(np.array([1.0]))[0])
        painter.setPen(QPen(theme.color("line"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(plot.left(), base), QPointF(plot.right(), base))
        xs = np.linspace(plot.left(), plot.right(), len(one.value))
        painter.setPen(QPen(theme.color("rising" if one.result > 0 else "falling"), 1.4))
        painter.drawPolyline(
            QPolygonF([QPointF(a, b) for a, b in zip(xs.tolist(), y(one.value).tolist(), strict=True)])
        )


class SymbolCurves(QWidget):
    """The sheet with a sentence above it. ``picked`` tells a symbol that is to be looked at; ``asked`` a trial whose curves
    are to be worked out (`show_curves` takes them)."""

    picked = pyqtSignal(str)
    asked = pyqtSignal(object)

    def __init__(self, theme: Theme, group_of: Callable[[], Mapping[str, str]], parent: QWidget | None = None):
        super().__init__(parent)
        self._group_of = group_of
        self._trial: Trial | None = None
        self._found: list[SymbolCurve] = []
        self.sheet, self.words = SymbolSheet(theme), QLabel(objectName="quiet")
        self.order = QComboBox(accessibleName="Order of the symbols")
        self.order.addItems([_SORTED, _GROUPED])
        self.order.activated.connect(lambda _: self._show())
        self.sheet.opened.connect(lambda k: self.picked.emit(self.sheet.curves[k].symbol))
        row = QHBoxLayout()
        row.setContentsMargins(GAP, TIGHT, GAP, HAIR)
        self.words.setMinimumWidth(20)
        row.addWidget(self.words, 1)
        row.addWidget(self.order)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row)
        layout.addWidget(self.sheet, 1)

    def show_trial(self, trial: Trial | None) -> None:
        """Asks for the curves of another trial."""
        if trial is self._trial and trial is not None:
            return
        self._trial, self._found = trial, []
        self.sheet.empty = "There is no trial." if trial is None else "Each symbol is tried with its own money …"
        self._show()
        self.asked.emit(trial)

    def show_curves(self, trial: Trial, curves: list[SymbolCurve]) -> None:
        """Takes the curves of a trial, if it is still the one in sight."""
        if trial is self._trial:
            self._found = curves
            self.sheet.empty = "These symbols have no bars."
            self._show()

    def _show(self) -> None:
        self.words.setText(curves_words(self._found) if self._found else "")
        if self.order.currentText() == _GROUPED:
            groups = by_group(self._found, self._group_of())
            self.sheet.show_curves(
                [c for _, some in groups for c in some], [name for name, some in groups for _ in some]
            )
        else:
            self.sheet.show_curves(by_result(self._found), [""] * len(self._found))

    @property
    def theme(self) -> Theme:
        return self.sheet.theme

    @theme.setter
    def theme(self, theme: Theme) -> None:
        self.sheet.theme = theme
        self.sheet.update()
