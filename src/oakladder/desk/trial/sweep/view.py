"""Many settings tried: which, the map of what came, and walking forward."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QScrollArea, QTabWidget, QVBoxLayout, QWidget

from oakladder.app.basis import TRIAL, BasisTracker
from oakladder.app.notebook import NotebookController
from oakladder.app.rule import OpenRule
from oakladder.app.sweeps import Sweep, SweepController
from oakladder.desk.look.spacing import GAP, TIGHT
from oakladder.desk.look.theme import Theme
from oakladder.desk.trial.sweep.form import SweepForm
from oakladder.desk.trial.sweep.map import SweepMapView
from oakladder.desk.trial.sweep.walk_forward import WalkView
from oakladder.desk.widgets.veil import veiled
from oakladder.rung.problems import RunProblem
from oakladder.trial.batch.task import Tried
from oakladder.trial.notebook import Swept, mark_of, ranges_of
from oakladder.trial.spans import TUNED_WORDS
from oakladder.trial.sweep.map import SweepMap
from oakladder.trial.sweep.ranges import Range
from oakladder.trial.sweep.walk_forward import Walk
from oakladder.trial.sweep.words import beside_words, by_settings, map_words


class SweepView(QWidget):
    """A form beside a map; a picked point becomes the rule's settings."""

    def __init__(
        self,
        sweeping: SweepController,
        notes: NotebookController,
        rule: OpenRule,
        basis: BasisTracker,
        theme: Theme,
        parent: QWidget | None = None,
    ):
        super().__init__(parent)
        self._sweeping, self._notes, self._rule = sweeping, notes, rule
        self._shown: tuple[tuple[Range, ...], Sequence[Tried]] | None = None
        #: The sweep that was looked at before, by its settings.
        self._before: dict[str, Tried] = {}
        self._walked_names: set[str] = set()
        #: Which earlier sweep is shown; empty for the last one.
        self._of, self._is_tuned = "", False
        self.form, self.map, self.walk = SweepForm(), SweepMapView(theme), WalkView(theme)
        self.words, self.walk_words, self.earlier = QLabel(), QLabel(), QComboBox(accessibleName="Earlier sweeps")
        self.legend = QLabel(
            "Framed: the best. Oak: the best with its neighbours. Dotted: a lonely peak. Dot: as the rule is set. Wedge: the best is at the end of its range.",
            objectName="quiet",
        )
        self.tabs = QTabWidget(accessibleName="Sweep and walk forward")
        self._lay_out()
        # A sweep speaks of other values of its settings too; it is stale where anything else has changed.
        self._swept = veiled(basis, TRIAL, self.map, self.words)
        self._walked = veiled(basis, TRIAL, self.walk, self.walk_words)
        self.form.asked.connect(self._sweep)
        self.form.walk_asked.connect(self._walk)
        self.form.metric_changed.connect(self._show)
        self.map.picked.connect(self._take_settings)
        self.earlier.activated.connect(self._show_earlier)
        sweeping.swept.connect(self._take)
        sweeping.mapped.connect(self._show_map)
        sweeping.walked.connect(self._take_walk)
        notes.changed.connect(self._show_list)
        notes.rule_changed.connect(self._forget)
        rule.settings_changed.connect(self._show_settings)
        rule.compiled.connect(lambda _: self._show_settings())
        rule.changed.connect(self._show_settings)
        self.enter()

    def _lay_out(self) -> None:
        for line in (self.words, self.walk_words, self.legend):
            line.setWordWrap(True)
            line.setMinimumWidth(20)
        # Its longest line must not make the form wider than its place.
        self.earlier.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.earlier.setToolTip("Earlier sweeps of this rule")
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 0, GAP)
        column.addWidget(self.form, 1)
        column.addWidget(self.earlier)
        area = QScrollArea(accessibleName="The sweep")
        area.setWidgetResizable(True)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(left)
        area.setFixedWidth(280)
        for name, words, picture, below in (
            ("Map", self.words, self.map, self.legend),
            ("Walk forward", self.walk_words, self.walk, None),
        ):
            page = QWidget()
            parts = QVBoxLayout(page)
            parts.setContentsMargins(GAP, GAP, GAP, TIGHT)
            parts.addWidget(words)
            parts.addWidget(picture, 1)
            if below is not None:
                parts.addWidget(below)
            self.tabs.addTab(page, name)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(area)
        layout.addWidget(self.tabs, 1)

    # --- asking -------------------------------------------------------------------------------------

    def _sweep(self) -> None:
        self._ask(lambda ranges: self._sweeping.run(ranges, self.form.draw))

    def _walk(self) -> None:
        def go(ranges: list[Range]) -> None:
            self._walked_names = {r.name for r in ranges}
            self._sweeping.walk(ranges, self.form.draw, self.form.metric_name)

        self._ask(go)

    def _ask(self, go: Callable[[list[Range]], None]) -> None:
        try:
            ranges = self.form.ranges()
        except RunProblem as error:
            self._sweeping.told.emit(str(error))
            return
        self.form.keep()
        go(ranges)

    # --- results --------------------------------------------------------------------------------------

    def _take(self, made: Sweep) -> None:
        self._of, self._is_tuned = "", False
        self._swept.took(apart={r.name for r in made.ranges})
        self.look_at(made.ranges, made.rows, tuned=made.tuned)
        self.map.setFocus()

    def _take_walk(self, made: Walk) -> None:
        self.walk.show_walk(made)
        self.walk_words.setText(made.words())
        self._walked.took(apart=self._walked_names)
        self.tabs.setCurrentIndex(1)

    def _show(self, *_: object) -> None:
        """Computes the map of the selected metric; a large one takes a moment."""
        if self._shown is None:
            self.map.show_map(None, ())
            self.words.setText("")
        else:
            self._sweeping.ask_map(*self._shown, self.form.metric_name)

    def _show_map(self, made: SweepMap) -> None:
        if self._shown is None:
            return
        ranges, rows = self._shown
        self.map.show_map(made, rows, self._before)
        self._show_current()
        of = (f"{self._of}. " if self._of else "") + (f"{TUNED_WORDS} " if self._is_tuned else "")
        self.words.setText(of + map_words(made, ranges, rows) + beside_words(made.metric, rows, self._before))

    def look_at(self, ranges: tuple[Range, ...], rows: Sequence[Tried], *, tuned: bool = False) -> None:
        """Shows a sweep, and whether it was made on known data; the previous one stays visible beside it."""
        self._is_tuned = tuned
        self._before = by_settings(self._shown[1]) if self._shown is not None else {}
        self._shown = ranges, rows
        self.tabs.setCurrentIndex(0)
        self._show()

    def _show_current(self) -> None:
        program = self._rule.program
        if program is not None:
            self.map.current = {**{i.name: i.default for i in program.settings}, **self._rule.settings}
            self.map.update()

    def _take_settings(self, settings: dict[str, object]) -> None:
        """The rule with the settings of a point."""
        for name, value in settings.items():
            self._rule.set_setting(name, value)
        self._show_current()

    # --- the rule, and sweeps that were made before -------------------------------------------------

    def enter(self) -> None:
        """Shows what the rule is now."""
        self._show_settings()
        self._show_list()

    def _show_settings(self) -> None:
        program = self._rule.program
        if program is not None:
            self.form.show_settings(program.settings, self._rule.settings)
            self._show_current()
        else:
            self.form.clear()

    def _show_list(self) -> None:
        kept = [e for e in self._notes.book.entries if isinstance(e, Swept)]
        self.earlier.clear()
        self.earlier.setVisible(bool(kept))
        self.earlier.addItem("Earlier sweeps …")
        program = self._rule.program
        for entry in reversed(kept):
            other = ", another text" if program is not None and mark_of(program.text) != entry.what.text else ""
            when = f"{datetime.fromtimestamp(entry.moment):%d %b %H:%M}"
            names = " × ".join(entry.ranges)
            where = f"{entry.what.list_name} {entry.what.timeframe}"
            self.earlier.addItem(f"{when}: {names}, {entry.count:,}, {where}{other}", entry.file)

    def _show_earlier(self, at: int) -> None:
        name = self.earlier.itemData(at)
        entry = next((e for e in self._notes.book.entries if isinstance(e, Swept) and e.file == name), None)
        if entry is None:
            return
        rows, ranges = self._notes.book.rows.get(entry.file, ()), tuple(ranges_of(entry))
        if not rows:
            self._sweeping.told.emit("The file of this sweep cannot be read.")
            return
        self.form.show_ranges(ranges)
        self._of = self.earlier.itemText(at)
        self._swept.took(apart={r.name for r in ranges})
        self.look_at(ranges, rows, tuned=entry.tuned)

    def _forget(self) -> None:
        """Another rule is open: its sweeps are others."""
        self.form.forget()
        self._show_settings()
        self._of, self._is_tuned = "", False
        self._swept.cleared()
        self._walked.cleared()
        self._shown, self._before = None, {}
        self.walk.show_walk(None)
        self.walk_words.setText("")
        self._show()

    def set_theme(self, theme: Theme) -> None:
        for part in (self.map, self.walk):
            part.theme = theme
            part.update()
