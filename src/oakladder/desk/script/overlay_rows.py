"""The overlaid scripts below the editor: captions, settings, and removal."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget, QWidgetAction

from oakladder.app.jobs import sentence_of
from oakladder.app.script_overlays import ScriptUse, compiled
from oakladder.app.session import Session
from oakladder.desk.look.spacing import GAP, HAIR, TIGHT
from oakladder.desk.widgets.settings_strip import SettingsStrip
from oakladder.desk.widgets.transient import below, discard, passing_menu
from oakladder.rung import RunProblem, ScriptError
from oakladder.user.scripts import ScriptFileProblem


class OverlayRows(QWidget):
    """A row for each overlay. Hidden without any."""

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        self._rows = QVBoxLayout(self)
        self._rows.setContentsMargins(GAP, 0, GAP, HAIR)
        self._rows.setSpacing(HAIR)
        self.captions: list[QLabel] = []
        session.overlays.came_or_went.connect(self._fill)

    def _fill(self) -> None:
        while (item := self._rows.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                discard(widget)
        self.captions = []
        for k, use in enumerate(self.session.overlays.uses):
            self._rows.addWidget(self._row(k, use))
        self.setVisible(bool(self.session.overlays.uses))

    def _row(self, k: int, use: ScriptUse) -> QWidget:
        made = QWidget()
        row = QHBoxLayout(made)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(TIGHT)
        caption = QLabel(f"Beside: {use.caption}", objectName="quiet")
        caption.setMinimumWidth(20)
        caption.setToolTip(use.caption)
        self.captions.append(caption)
        row.addWidget(caption, 1)
        if use.path is not None:
            settings = QToolButton(text="Settings")
            settings.setToolTip(f"Settings of {use.title}")
            settings.clicked.connect(lambda: self._open_settings(k, settings))
            row.addWidget(settings)
        remove = QToolButton(text="Remove")
        remove.setToolTip("Remove from the chart; the script itself is kept")
        remove.clicked.connect(lambda: self.session.overlays.remove(k))
        row.addWidget(remove)
        return made

    def _open_settings(self, k: int, button: QToolButton) -> None:
        """The settings of one overlay, in a strip below its button."""
        use = self.session.overlays.uses[k]
        try:
            program = compiled(use, self.session.workspace)
        except (ScriptError, ScriptFileProblem, RunProblem) as error:
            self.session.status.emit(sentence_of(error))
            return
        strip = SettingsStrip()
        strip.show_settings(program.settings, use.settings)
        strip.changed.connect(lambda name, value: self._changed(k, name, value))
        menu = passing_menu(self)
        holder = QWidgetAction(menu)
        holder.setDefaultWidget(strip if program.settings else QLabel("  It has no settings.  "))
        menu.addAction(holder)
        menu.popup(below(button))

    def _changed(self, k: int, name: str, value: object) -> None:
        self.session.overlays.set(k, name, value)
        self.captions[k].setText(f"Beside: {self.session.overlays.uses[k].caption}")
