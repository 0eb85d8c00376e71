"""The Alerts place: what is watched, and the alert log."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QModelIndex, pyqtSignal
from PyQt6.QtGui import QHideEvent, QShowEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QTableView,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.alerts.alert import Alert
from oakladder.app.picked_symbol import PickedSymbol
from oakladder.app.session import Session
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.alerts.models import AlertRows, LogRows
from oakladder.desk.look.spacing import GAP
from oakladder.desk.look.theme import theme_of
from oakladder.desk.widgets import tables
from oakladder.desk.widgets.questions import agreed
from oakladder.desk.widgets.sorted_rows import SortedRows
from oakladder.disk import is_regular
from oakladder.rung.texts import count_words

_NONE_YET = (
    "No alert is watched yet. Open a rule on the Bench and press Ctrl+Shift+W: its signal is watched over the list, on the "
    "timeframe that the chart shows. Alerts are judged while live prices are on (F5) or `oak watch` runs."
)
#: What the log shows.
_EVERY, _TOLD, _MISSED = "All rows", "Told", "Missed or muted"


class AlertsPlace(QWidget):
    """Two tables, and buttons for the chosen alert. ``picked`` says what to show on the Bench."""

    picked = pyqtSignal(object)

    def __init__(self, session: Session):
        super().__init__(objectName="place")
        self.session, self._alerts = session, session.alerts
        theme = theme_of(session)
        self.source, self.log_source = AlertRows(session.alerts, theme), LogRows(theme, lambda: session.library.infos)
        self.table, self.log = QTableView(accessibleName="Alerts"), QTableView(accessibleName="Alert log")
        self.rows, self.log_rows = SortedRows(self.source), SortedRows(self.log_source)
        self.counted = QLabel(objectName="head")
        self.empty = QLabel(_NONE_YET, objectName="quiet", wordWrap=True)
        self.switch, self.renew, self.mute, self.remove = (
            QToolButton(text="Switch off"),
            QToolButton(text="Take the new text"),
            QToolButton(text="Mute for an hour"),
            QToolButton(text="Remove …"),
        )
        self.shown = QComboBox(accessibleName="Rows of the log")
        self.shown.addItems([_EVERY, _TOLD, _MISSED])
        self.filter = QLineEdit(placeholderText="Filter by alert or symbol", accessibleName="Filter of the log")
        self._set_up()
        self._lay_out()
        self.switch.clicked.connect(lambda: self._with(self._alerts.switch))
        self.renew.clicked.connect(lambda: self._with(self._alerts.renew))
        self.renew.setToolTip("The script was changed after the alert was made, which runs the text of then")
        self.mute.clicked.connect(lambda: self._with(self._alerts.mute))
        self.remove.clicked.connect(lambda: self._with(self._remove))
        self.log.activated.connect(self._open)
        self.shown.currentIndexChanged.connect(lambda _: self._show_log())
        self.filter.textChanged.connect(lambda _: self._show_log())
        session.alerts.changed.connect(self._show)
        session.chart.theme_changed.connect(self._themed)
        self._was: tuple[object, ...] = ()
        self._show()

    def _set_up(self) -> None:
        for table, rows, widths in (
            (self.table, self.rows, (0, 120, 100, 110, 100, 200, 130)),
            (self.log, self.log_rows, (150, 230, 90, 90, 0, 150)),
        ):
            table.setModel(rows)
            across = tables.set_up(table, sortable=True)
            table.setAlternatingRowColors(True)
            table.setSelectionMode(QTableView.SelectionMode.SingleSelection)
            for k, width in enumerate(widths):
                if width:
                    table.setColumnWidth(k, width)
                else:
                    across.setSectionResizeMode(k, QHeaderView.ResizeMode.Stretch)
        chosen = self.table.selectionModel()
        assert chosen is not None
        chosen.currentRowChanged.connect(lambda *_: self._show_buttons())
        self.log.setToolTip("Enter opens the bar on the Bench")

    def _lay_out(self) -> None:
        head = QHBoxLayout()
        head.addWidget(self.counted, 1)
        for button in (self.renew, self.switch, self.mute, self.remove):
            head.addWidget(button)
        told = QHBoxLayout()
        told.addWidget(QLabel("Log", objectName="head"))
        told.addWidget(self.shown)
        told.addWidget(self.filter, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GAP, GAP, GAP, GAP)
        layout.setSpacing(GAP)
        layout.addLayout(head)
        layout.addWidget(self.empty)
        layout.addWidget(self.table, 2)
        layout.addLayout(told)
        layout.addWidget(self.log, 3)

    def showEvent(self, event: QShowEvent | None) -> None:
        self._alerts.watch(True)
        super().showEvent(event)

    def hideEvent(self, event: QHideEvent | None) -> None:
        self._alerts.watch(False)
        super().hideEvent(event)

    def _themed(self) -> None:
        for source in (self.source, self.log_source):
            source.theme = theme_of(self.session)
            source.refresh()

    # --- showing --------------------------------------------------------------------------------------

    def _show(self) -> None:
        now = self._alerts.alerts, self._alerts.outdated, self._alerts.last_told()
        if now != self._was:
            self._was = now
            self._show_alerts()
        self._show_log()

    def _show_alerts(self) -> None:
        chosen = self.chosen()
        self.source.show()
        on = sum(a.is_on for a in self.source.alerts)
        self.counted.setText(f"{count_words(len(self.source.alerts), 'alert')}, {on} on")
        self.empty.setVisible(not self.source.alerts)
        at = next((k for k, a in enumerate(self.source.alerts) if chosen is not None and a.id == chosen.id), 0)
        if self.source.alerts:
            self.table.setCurrentIndex(self.rows.mapFromSource(self.source.index(at, 0)))
        self._show_buttons()

    def _show_log(self) -> None:
        typed, which = self.filter.text().casefold().strip(), self.shown.currentText()
        rows = [
            row
            for row in self._alerts.rows
            if (not typed or typed in row.name.casefold() or typed in row.symbol.casefold())
            and (which == _EVERY or (which == _TOLD) == (row.told is not None))
        ]
        index = self.log.currentIndex()
        chosen = self.log_source.rows[self.log_rows.mapToSource(index).row()].id if index.isValid() else ""
        self.log_source.show(rows)
        at = next((k for k, row in enumerate(self.log_source.rows) if row.id == chosen), None)
        if at is not None:  # the keys stay on the row that they were on
            self.log.setCurrentIndex(self.log_rows.mapFromSource(self.log_source.index(at, 0)))

    def _show_buttons(self) -> None:
        chosen = self.chosen()
        for button in (self.switch, self.mute, self.remove):
            button.setEnabled(chosen is not None)
        self.renew.setVisible(chosen is not None and chosen.id in self._alerts.outdated)
        self.switch.setText("Switch on" if chosen is not None and not chosen.is_on else "Switch off")

    # --- what can be done -------------------------------------------------------------------------------

    def chosen(self) -> Alert | None:
        """The alert that is chosen; None without one."""
        index = self.table.currentIndex()
        if not index.isValid():
            return None
        return self.source.alerts[self.rows.mapToSource(index).row()]

    def _with(self, do: Callable[[Alert], None]) -> None:
        chosen = self.chosen()
        if chosen is not None:
            do(chosen)

    def _remove(self, alert: Alert) -> None:
        if agreed(self, f"Remove {alert.name}?", "What it told stays in the log.", "Remove"):
            self._alerts.remove(alert)

    def _open(self, index: QModelIndex) -> None:
        row = self.log_source.rows[self.log_rows.mapToSource(index).row()]
        path = self.session.workspace.scripts / row.script
        script = path if row.script and is_regular(path) else None
        self.picked.emit(PickedSymbol(row.symbol, Timeframe.parse(row.timeframe), row.bar, script))
