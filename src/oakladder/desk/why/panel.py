"""The Why panel: one bar and one signal, every part of its condition with value and verdict, and the near misses."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QFont, QShowEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from oakladder.bars.bars import Bars
from oakladder.bars.time_words import bar_time
from oakladder.desk.look.fonts import ui_font
from oakladder.desk.look.spacing import GAP, HAIR, TIGHT
from oakladder.desk.look.theme import Theme
from oakladder.engine.explain.why import Verdict, Why, everything
from oakladder.trial.on_chart import ChartTrades

_ROLE = Qt.ItemDataRole.UserRole
_FOLLOW_MS = 40
_NO_SIGNAL = "The script has no signal."


class WhyPanel(QWidget):
    """Shows a `Why` for the bar that is read. ``asked`` tells which signal is wanted, ``went`` a bar to go to, ``came``
    that it has come into sight."""

    asked = pyqtSignal(str)
    went = pyqtSignal(int)
    came = pyqtSignal()

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self.why: Why | None = None
        self._bars: Bars | None = None
        self._bar: int | None = None
        self._trades: ChartTrades | None = None
        self.signals = QComboBox(accessibleName="Signal to explain")
        self.signals.setMinimumWidth(120)
        self.signals.setToolTip("Signal or trade decision to explain")
        self.signals.activated.connect(lambda _: self.asked.emit(self.signals.currentText()))
        self.verdict = QLabel()
        self.verdict.setMinimumWidth(20)
        self.missed = QLabel(objectName="quiet")
        #: What happened to the position on the bar, where the script trades.
        self.story = QLabel()
        self.story.setWordWrap(True)
        self.story.setVisible(False)
        self.tree = QTreeWidget(accessibleName="Parts of the condition")
        self.tree.setColumnCount(3)
        self.tree.setHeaderLabels(["Part", "Values", ""])
        self.tree.setFont(ui_font())
        self.tree.setIndentation(12)
        header = self.tree.header()
        assert header is not None
        header.setStretchLastSection(False)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(2, QHeaderView.ResizeMode.ResizeToContents)
        header.setMinimumSectionSize(24)
        self.misses = QListWidget(accessibleName="Near misses")
        self.misses.setFont(ui_font())
        self.misses.itemActivated.connect(lambda item: self.went.emit(item.data(_ROLE)))
        self.misses.itemClicked.connect(lambda item: self.went.emit(item.data(_ROLE)))
        self.nearly = QLabel("Near misses", objectName="quiet")
        self._following = QTimer(self, singleShot=True, interval=_FOLLOW_MS)
        self._following.timeout.connect(self._show_bar)
        self._lay_out()

    def _lay_out(self) -> None:
        row = QHBoxLayout()
        row.setContentsMargins(GAP, TIGHT, GAP, HAIR)
        row.setSpacing(GAP)
        row.addWidget(self.signals)
        row.addWidget(self.verdict, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row)
        self.missed.setContentsMargins(GAP, 0, GAP, TIGHT)
        self.missed.setMinimumWidth(20)
        layout.addWidget(self.missed)
        self.story.setContentsMargins(GAP, 0, GAP, TIGHT)
        layout.addWidget(self.story)
        layout.addWidget(self.tree, 3)
        self.nearly.setContentsMargins(GAP, TIGHT, GAP, HAIR)
        layout.addWidget(self.nearly)
        layout.addWidget(self.misses, 1)

    # --- what is asked ----------------------------------------------------------------------------

    def show_signals(self, names: list[str]) -> str:
        """Offers the signals of a script; returns the selected one, or an empty text without any."""
        before = self.signals.currentText()
        if names != [self.signals.itemText(k) for k in range(self.signals.count())]:
            self.signals.clear()
            self.signals.addItems(names)
            if before in names:
                self.signals.setCurrentText(before)
        self.setEnabled(bool(names))
        if not names:
            self.show_why(None, None)
        return self.signals.currentText()

    def show_why(self, why: Why | None, bars: Bars | None) -> None:
        """Explains another signal, or another run of it."""
        self.why, self._bars = why, bars
        self.misses.clear()
        if why is None or bars is None:
            self.tree.clear()
            for label in (self.verdict, self.missed, self.nearly):
                label.setText("")
                label.setToolTip("")
            if not self.isEnabled():
                self.verdict.setText(_NO_SIGNAL)
            self.misses.hide()
            return
        for near in why.misses:
            item = QListWidgetItem(f"{bar_time(bars, near.bar)}   {near.kept_by}")
            item.setToolTip(item.text())
            item.setData(_ROLE, near.bar)
            self.misses.addItem(item)
        self.nearly.setText("Near misses" if self.misses.count() else "No near misses.")
        self.misses.setVisible(bool(self.misses.count()))
        self._show_bar()

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.came.emit()

    def follow(self, bar: int | None) -> None:
        """Explains another bar, in a moment."""
        self._bar = bar
        self._following.start()

    def show_trades(self, trades: ChartTrades | None) -> None:
        """Explains the position too, if the script has one."""
        self._trades = trades
        self.story.setVisible(trades is not None)
        self._following.start()

    def _show_bar(self) -> None:
        self.tree.clear()
        if self._trades is not None and self._bar is not None and self._bar < self._trades.bars:
            self.story.setText(self._trades.story(self._bar))
        if self.why is None or self._bars is None or self._bar is None or self._bar >= len(self._bars):
            return
        made = self.why.at(self._bar)
        word = {True: "true", False: "not true", None: "not known"}[made.holds]
        missed = next((v for v in everything(made) if v.decisive), None)
        text = f"{word} {bar_time(self._bars, self._bar)}"
        self.verdict.setText(text)
        self.verdict.setToolTip(f"{self.why.signal} {text}")
        self.missed.setText(f"{missed.text}: {missed.words()}" if missed is not None else "Every part of it holds.")
        self.missed.setToolTip(self.missed.text())
        self._add(made, None)
        self.tree.expandAll()

    def _add(self, verdict: Verdict, parent: QTreeWidgetItem | None) -> None:
        values = "  ".join(verdict.value_words())
        item = QTreeWidgetItem([verdict.text, values, self._mark(verdict)])
        hint = [
            verdict.text,
            *(f"{text} is {value}" for (text, _), value in zip(verdict.values, verdict.value_words(), strict=True)),
            verdict.words(),
        ]
        for column in range(3):
            item.setToolTip(column, "\n".join(hint))
        role = {True: "gain", False: "loss", None: "faint"}[verdict.holds]
        item.setForeground(2, self.theme.color(role))
        if verdict.decisive:
            bold = QFont(ui_font(strong=True))
            for column in range(3):
                item.setFont(column, bold)
                item.setBackground(column, self.theme.color("pick"))
        if parent is None:
            self.tree.addTopLevelItem(item)
        else:
            parent.addChild(item)
        for part in verdict.parts:
            self._add(part, item)

    @staticmethod
    def _mark(verdict: Verdict) -> str:
        """The verdict as its column shows it."""
        return {True: "yes", False: "no", None: "?"}[verdict.holds]

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self._show_bar()
