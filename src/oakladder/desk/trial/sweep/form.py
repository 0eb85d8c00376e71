"""Which settings go from where to where, how many combinations are tried, and by what they are looked at."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QLabel,
    QLineEdit,
    QSpinBox,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.desk.look.spacing import GAP, TIGHT, WIDE
from oakladder.desk.widgets.transient import discard
from oakladder.rung.problems import RunProblem
from oakladder.rung.settings import SettingInfo
from oakladder.trial.metrics.metrics import METRICS
from oakladder.trial.sweep.ranges import MOST_VARIANTS, Range

#: About so many values of a setting are offered at first.
_VALUES = 9
_FIRST_FIGURE = "sharpe"


class SweepForm(QWidget):
    """``asked`` tells that a sweep is wanted, ``walk_asked`` one that is walked forward, ``metric_changed`` another metric,
    ``told`` what makes no sense."""

    asked = pyqtSignal()
    walk_asked = pyqtSignal()
    metric_changed = pyqtSignal()
    told = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._infos: list[SettingInfo] = []
        #: What the user has typed and ticked, by setting: it stays while the rest follows the script.
        self._typed: dict[str, str] = {}
        self._ticked: dict[str, bool] = {}
        #: The tick and the values of each setting.
        self.rows: list[tuple[QCheckBox, QLineEdit]] = []
        self.metrics = QComboBox(accessibleName="Metric")
        self.names = [name for name, metric in METRICS.items() if metric.in_sweeps]
        self.metrics.addItems([METRICS[name].title for name in self.names])
        self.metrics.setCurrentIndex(self.names.index(_FIRST_FIGURE))
        self.metrics.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.metrics.setToolTip("Metric for the map, and for choosing settings in the walk forward")
        self.drawn = QSpinBox(accessibleName="Combinations drawn at random")
        self.drawn.setRange(0, MOST_VARIANTS)
        self.drawn.setSpecialValueText("all of them")
        self.drawn.setToolTip("Test only this many combinations, drawn at random; 0 tests all")
        self.count = QLabel(objectName="quiet")
        self.count.setWordWrap(True)
        self.sweep_button, self.walk_button = QToolButton(text="Sweep"), QToolButton(text="Walk forward")
        self.sweep_button.setToolTip("Test every combination")
        self.walk_button.setToolTip(
            "Choose on a span of history, trade the next, and so on; beside what hindsight chooses"
        )
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(GAP)
        self._grid.setVerticalSpacing(TIGHT)
        fields = QGridLayout()
        fields.addWidget(QLabel("Metric", objectName="quiet"), 0, 0)
        fields.addWidget(self.metrics, 0, 1)
        fields.addWidget(QLabel("Combinations", objectName="quiet"), 1, 0)
        fields.addWidget(self.drawn, 1, 1)
        fields.addWidget(self.sweep_button, 2, 0)
        fields.addWidget(self.walk_button, 2, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(WIDE, GAP, GAP, GAP)
        layout.addWidget(QLabel("Settings and ranges", objectName="head"))
        layout.addLayout(self._grid)
        layout.addSpacing(6)
        layout.addLayout(fields)
        layout.addWidget(self.count)
        layout.addStretch(1)
        self.metrics.activated.connect(lambda _: self.metric_changed.emit())
        self.drawn.valueChanged.connect(lambda _: self._count())
        self.sweep_button.clicked.connect(lambda: self.asked.emit())
        self.walk_button.clicked.connect(lambda: self.walk_asked.emit())

    @property
    def metric_name(self) -> str:
        """The name of the selected metric, one of `METRICS`."""
        return self.names[self.metrics.currentIndex()]

    @property
    def draw(self) -> int | None:
        """How many combinations are drawn; None for all."""
        return self.drawn.value() or None

    def show_settings(self, infos: Sequence[SettingInfo], values: Mapping[str, object]) -> None:
        """Offers the settings of a script that are numbers or choose among some, each with values around what it is now;
        what the user has typed and ticked stays."""
        wanted = [i for i in infos if i.kind == "number" or i.choices]
        if [i.name for i in wanted] != [i.name for i in self._infos]:
            self._make_rows(wanted)
        self._infos = wanted
        for k, (info, (box, line)) in enumerate(zip(wanted, self.rows, strict=True)):
            text = self._typed.get(info.name) or first_range(info, values.get(info.name, info.default))
            if text != line.text():
                line.setText(text)
            box.setChecked(self._ticked.get(info.name, k < 2))
            box.setToolTip(info.text or info.name)
        self._count()

    def _make_rows(self, infos: Sequence[SettingInfo]) -> None:
        for pair in self.rows:
            for part in pair:
                self._grid.removeWidget(part)
                discard(part)
        self.rows = []
        for k, info in enumerate(infos):
            box, line = QCheckBox(info.name), QLineEdit()
            line.setToolTip("From, to and step as in 5..60/5, or single values as in 5,8,13")
            line.setAccessibleName(f"Values of {info.name}")
            box.clicked.connect(lambda on, name=info.name: self._ticked.__setitem__(name, on))
            line.textEdited.connect(lambda text, name=info.name: self._typed.__setitem__(name, text))
            box.toggled.connect(lambda _: self._count())
            line.textChanged.connect(lambda _: self._count())
            self._grid.addWidget(box, k, 0)
            self._grid.addWidget(line, k, 1)
            self.rows.append((box, line))

    def clear(self) -> None:
        """Offers nothing: there is no sound script."""
        self._make_rows(())
        self._infos = []
        self.count.setText("")

    def keep(self) -> None:
        """Keeps everything as it is now: a sweep of it is made."""
        for info, (box, line) in zip(self._infos, self.rows, strict=True):
            self._typed[info.name], self._ticked[info.name] = line.text(), box.isChecked()

    def forget(self) -> None:
        """Forgets what was typed and ticked: the settings are of another script from now on."""
        self._typed, self._ticked = {}, {}

    def show_ranges(self, ranges: Sequence[Range]) -> None:
        """Shows the ranges of a sweep that was made before."""
        known = {r.name: r for r in ranges}
        for info, (box, line) in zip(self._infos, self.rows, strict=True):
            box.setChecked(info.name in known)
            if info.name in known:
                line.setText(known[info.name].words().partition("=")[2])
        self.keep()

    def ranges(self) -> list[Range]:
        """The ranges that are ticked. Raises `RunProblem` with a sentence."""
        return [
            Range.parse(f"{info.name}={line.text()}")
            for info, (box, line) in zip(self._infos, self.rows, strict=True)
            if box.isChecked()
        ]

    def _count(self) -> None:
        """Says how many combinations that makes."""
        try:
            ranges = self.ranges()
        except RunProblem as error:
            self.count.setText(str(error))
            return
        every = math.prod(len(r.values) for r in ranges)
        if not self._infos:
            self.count.setText(
                "The script has no numeric setting to sweep. Add one, such as `setting n = 20 range 5..100`."
            )
        elif not ranges:
            self.count.setText("Select a setting.")
        else:
            drawn = f", {min(self.drawn.value(), every):,} of them drawn at random" if self.drawn.value() else ""
            self.count.setText(f"{every:,} combinations{drawn}; each counts as a try.")


def first_range(info: SettingInfo, value: object) -> str:
    """Values that are offered for a setting at first: from half to twice of what it is, in some round steps."""
    if info.choices or not isinstance(value, int | float):
        return ",".join(map(str, info.choices)) if info.choices else str(value)
    low = max(value / 2, info.low if info.low is not None else -math.inf)
    high = min(value * 2, info.high if info.high is not None else math.inf)
    if not high > low:
        low, high = (info.low if info.low is not None else value), (info.high if info.high is not None else value + 1)
    step = info.step or (1.0 if float(value).is_integer() and high - low >= 2 else 0.0)
    rough = (high - low) / (_VALUES - 1)
    if step:
        rough = max(round(rough / step), 1) * step
        low = round(low / step) * step
    else:
        rough = float(f"{rough:.1g}")
    return f"{low:.6g}..{high:.6g}/{rough:.6g}"
