"""The settings strip: a control for each setting of the open script, made from its `setting` lines."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QGridLayout, QLabel, QLineEdit, QSpinBox, QWidget

from oakladder.rung import SettingInfo


class SettingsStrip(QWidget):
    """Controls in two columns. ``changed`` tells the name and the new value."""

    changed = pyqtSignal(str, object)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(8, 4, 8, 4)
        self._grid.setHorizontalSpacing(6)
        self._grid.setVerticalSpacing(3)
        self._grid.setColumnStretch(0, 1)
        self._grid.setColumnStretch(2, 1)
        self.controls: dict[str, QWidget] = {}

    def show_settings(self, infos: tuple[SettingInfo, ...], values: Mapping[str, object]) -> None:
        """Makes the controls anew."""
        while (item := self._grid.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        self.controls = {}
        for k, info in enumerate(infos):
            row, column = divmod(k, 2)
            words = info.text or info.name
            label = QLabel()
            label.setToolTip(f"{words} ({info.name})")
            label.setMinimumWidth(20)
            label.setText(label.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, 118))
            control = self._control(info, values.get(info.name, info.default))
            control.setToolTip(label.toolTip())
            label.setBuddy(control)
            self.controls[info.name] = control
            self._grid.addWidget(label, row, column * 2)
            self._grid.addWidget(control, row, column * 2 + 1)
        self.setVisible(bool(infos))

    def _control(self, info: SettingInfo, value: object) -> QWidget:
        if info.choices:
            box = QComboBox()
            box.addItems([str(c) for c in info.choices])
            box.setCurrentText(str(value))
            box.currentIndexChanged.connect(lambda k: self.changed.emit(info.name, info.choices[k]))
            return box
        if info.kind == "flag":
            tick = QCheckBox()
            tick.setChecked(bool(value))
            tick.toggled.connect(lambda on: self.changed.emit(info.name, on))
            return tick
        if info.kind != "number":
            line = QLineEdit(str(value))
            line.editingFinished.connect(lambda: self.changed.emit(info.name, line.text()))
            return line
        return self._number(info, float(value))

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
        spin.setFixedWidth(64)
        spin.setKeyboardTracking(True)
        spin.valueChanged.connect(lambda v: self.changed.emit(info.name, float(v)))
        return spin
