"""The settings strip: a control for each setting of the open script, made from its `setting` lines."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import Qt, QTime, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QSpinBox,
    QTimeEdit,
    QToolButton,
    QWidget,
)

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.spacing import GAP, TIGHT
from oakladder.desk.look.theme import DAY, Theme, qcolor
from oakladder.desk.widgets.colour_picker import ColourPicker, swatch
from oakladder.desk.widgets.transient import discard
from oakladder.rung import SettingInfo
from oakladder.rung.values import TIMEFRAMES

#: How wide a control is, in pixels.
_CONTROL = 64


class SettingsStrip(QWidget):
    """Controls in two columns; what has a long label stands alone in its row. ``changed`` tells the name and the new value, ``kept`` that the values shall become
    the script's own, ``dropped`` that the script's own shall come back."""

    changed = pyqtSignal(str, object)
    kept = pyqtSignal()
    dropped = pyqtSignal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme: Theme = DAY
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(GAP, TIGHT, GAP, TIGHT)
        self._grid.setHorizontalSpacing(GAP)
        self._grid.setVerticalSpacing(TIGHT)
        self._grid.setColumnStretch(0, 1)
        self._grid.setColumnStretch(2, 1)
        self.controls: dict[str, QWidget] = {}
        self._values: dict[str, object] = {}
        self._infos: tuple[SettingInfo, ...] = ()
        self._labels: list[QLabel] = []
        self._room = 0
        self.word = QLabel("Changed settings:", objectName="quiet")
        self.keep = QToolButton(text="Save")
        self.keep.setToolTip("Save these values into the script as its defaults")
        self.keep.clicked.connect(self.kept)
        self.drop = QToolButton(text="Reset")
        self.drop.setToolTip("Reset to the script's values")
        self.drop.clicked.connect(self.dropped)
        self._foot = QWidget(self)
        row = QHBoxLayout(self._foot)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.word, 1)
        for widget in (self.word, self.keep, self.drop):
            widget.setFont(ui_font(SMALL))
        row.addWidget(self.keep)
        row.addWidget(self.drop)
        self._foot.hide()
        self.hide()  # until a script has something to set

    def show_settings(self, infos: tuple[SettingInfo, ...], values: Mapping[str, object]) -> None:
        """Creates the controls again if the settings have changed."""
        if infos == self._infos and self._values == {i.name: values.get(i.name, i.default) for i in infos}:
            return
        self._grid.removeWidget(self._foot)
        while (item := self._grid.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                discard(widget)
        self.controls, self._infos = {}, infos
        self._values = {i.name: values.get(i.name, i.default) for i in infos}
        self._labels = []
        for info in infos:
            words = info.text or info.name
            label = QLabel(words, toolTip=f"{words} ({info.name})")
            control = self._control(info, self._values[info.name])
            control.setToolTip(label.toolTip())
            label.setBuddy(control)
            self.controls[info.name] = control
            self._labels.append(label)
        self._place()
        self._show_foot()
        self.setVisible(bool(infos))

    def _place(self) -> None:
        """Puts the controls into two columns; a label that is wider than its column has a row to itself."""
        self._room = max((self.width() - 4 * GAP) // 2 - _CONTROL, 0)
        row, half = 0, 0
        for label, control in zip(self._labels, self.controls.values(), strict=True):
            long = label.fontMetrics().horizontalAdvance(label.text()) > self._room
            if long and half:
                row, half = row + 1, 0
            label.setWordWrap(long)
            self._grid.addWidget(label, row, half * 2, 1, 3 if long else 1)
            self._grid.addWidget(control, row, 3 if long else half * 2 + 1)
            row, half = (row + 1, 0) if long or half else (row, 1)
        self._grid.addWidget(self._foot, row + 1, 0, 1, 4)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        if self._labels and max((self.width() - 4 * GAP) // 2 - _CONTROL, 0) != self._room:
            self._place()

    def _tell(self, info: SettingInfo, value: object) -> None:
        self._values[info.name] = value
        self._show_foot()
        self.changed.emit(info.name, value)

    def _show_foot(self) -> None:
        """Keeping and dropping are offered where something differs from the script."""
        self._foot.setVisible(any(self._values[i.name] != i.default for i in self._infos))

    def _control(self, info: SettingInfo, value: object) -> QWidget:
        if info.choices:
            return self._choice(info, value)
        match info.kind:
            case "flag":
                tick = QCheckBox()
                tick.setChecked(bool(value))
                tick.toggled.connect(lambda on: self._tell(info, on))
                return tick
            case "clock":
                return self._clock(info, float(value))
            case "timeframe":
                return self._timeframe(info, str(value))
            case "colour":
                return self._colour(info, str(value))
            case "number":
                return self._number(info, float(value))
        line = QLineEdit(str(value))
        line.editingFinished.connect(lambda: self._tell(info, line.text()))
        return line

    def _choice(self, info: SettingInfo, value: object) -> QWidget:
        box = QComboBox()
        box.addItems([info.words(c) for c in info.choices])
        box.setCurrentText(info.words(value))
        box.currentIndexChanged.connect(lambda k: self._tell(info, info.choices[k]))
        return box

    def _clock(self, info: SettingInfo, minutes: float) -> QWidget:
        edit = QTimeEdit(QTime(int(minutes) // 60, int(minutes) % 60))
        edit.setDisplayFormat("HH:mm")
        edit.setFixedWidth(_CONTROL)
        edit.timeChanged.connect(lambda t: self._tell(info, float(t.hour() * 60 + t.minute())))
        return edit

    def _timeframe(self, info: SettingInfo, value: str) -> QWidget:
        """The usual timeframes, and any other typed in."""
        box = QComboBox()
        box.setEditable(True)
        box.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        box.addItems(TIMEFRAMES)
        box.setCurrentText(value)
        box.setMinimumWidth(_CONTROL)
        box.activated.connect(lambda _: self._tell(info, box.currentText()))
        line = box.lineEdit()
        assert line is not None
        line.editingFinished.connect(lambda: self._tell(info, box.currentText()))
        return box

    def _colour(self, info: SettingInfo, value: str) -> QWidget:
        button = QToolButton(text=value)
        button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)

        def show(word: str) -> None:
            button.setText(word)
            button.setIcon(swatch(qcolor(self.theme.paint(word))))

        def chosen(word: str) -> None:
            show(word)
            self._tell(info, word)

        show(value)
        button.clicked.connect(
            lambda: ColourPicker(self.theme, button.text(), chosen, self).open_at(
                button.mapToGlobal(button.rect().bottomLeft())
            )
        )
        return button

    def _number(self, info: SettingInfo, value: float) -> QWidget:
        step = info.step or 1.0
        whole = all(float(x).is_integer() for x in (value, step, info.low or 0.0))
        spin: QSpinBox | QDoubleSpinBox = QSpinBox() if whole else QDoubleSpinBox()
        low, high = (info.low, info.high) if info.low is not None and info.high is not None else (-1e9, 1e9)
        if isinstance(spin, QSpinBox):
            spin.setRange(int(max(low, -(2**31))), int(min(high, 2**31 - 1)))
            spin.setSingleStep(int(step))
            spin.setValue(int(value))
        else:
            spin.setDecimals(max(len(f"{step:.6f}".rstrip("0").split(".")[1]), 1))
            spin.setRange(low, high)
            spin.setSingleStep(step)
            spin.setValue(value)
        spin.setFixedWidth(_CONTROL)
        spin.setKeyboardTracking(True)
        spin.valueChanged.connect(lambda v: self._tell(info, float(v)))
        return spin


class HeldSettings(SettingsStrip):
    """Controls of a dialog: holds what is set until the dialog asks, and touches no script."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.keep.setVisible(False)
        self._held: dict[str, object] = {}
        self.changed.connect(self._held.__setitem__)
        self.dropped.connect(self.forget)

    def hold(self, infos: tuple[SettingInfo, ...], values: Mapping[str, object]) -> None:
        """Shows the settings of a script; values that it has no setting for are left out."""
        known = {i.name for i in infos}
        self._held.clear()
        self._held.update({k: v for k, v in values.items() if k in known})
        self.show_settings(infos, self._held)

    def forget(self) -> None:
        """Everything as in the script."""
        self.hold(self._infos, {})

    def given(self) -> dict[str, object]:
        """The settings that differ from the script's own."""
        defaults = {i.name: i.default for i in self._infos}
        return {k: v for k, v in self._held.items() if v != defaults[k]}
