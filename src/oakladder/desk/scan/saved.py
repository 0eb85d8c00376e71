"""The scans that are saved: choosing one, saving, copying, turning round, deleting."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import (
    QComboBox,
    QWidget,
)

from oakladder.app.session import Session
from oakladder.desk.widgets.questions import agreed, words_for
from oakladder.desk.widgets.transient import PlainMenu
from oakladder.user.scans import SavedScan


class SavedBox(QObject):
    """The box with the saved scans. ``changed`` tells that another one is shown."""

    changed = pyqtSignal()

    def __init__(
        self, session: Session, current: Callable[[], SavedScan], show: Callable[[SavedScan], None], parent: QWidget
    ):
        """``current`` returns the scan as edited, ``show`` shows one."""
        super().__init__(parent)
        self.session, self._current, self._show = session, current, show
        self.box = QComboBox(accessibleName="The scan")
        self.box.setMinimumWidth(110)
        self.box.setMaximumWidth(240)
        self.box.activated.connect(lambda _: self.show_saved(self.box.currentText()))

    @property
    def name(self) -> str:
        """The name of the scan in view; empty if it is not saved."""
        return self.box.currentText() if self.box.currentIndex() > 0 else ""

    def menu(self, keep: Callable[[], None], export: Callable[[], None]) -> PlainMenu:
        """What can be done with the scan: ``keep`` makes a list of what is found, ``export`` writes it into a file."""
        menu = PlainMenu(self.box)
        menu.addAction("Save", self.save)
        menu.addAction("Save as …", self.ask_save)
        menu.addAction("Copy", lambda: self.with_chosen(lambda n: self.session.scans.copy(n).name))
        menu.addAction("Invert conditions", lambda: self.with_chosen(lambda n: self.session.scans.opposite(n).name))
        menu.addAction("Delete …", self.ask_delete)
        menu.addSeparator()
        menu.addAction("Save matches as a list", keep)
        menu.addAction("Export matches …", export)
        return menu

    def fill(self, current: str) -> None:
        self.box.clear()
        self.box.addItem("(not saved)")
        self.box.addItems(self.session.scans.scans)
        self.box.setCurrentText(current if current in self.session.scans.scans else "(not saved)")

    def with_chosen(self, go: Callable[[str], str]) -> None:
        """Applies a change to the selected saved scan in the background, and shows the result."""
        name = self.box.currentText()
        if name not in self.session.scans.scans:
            self.session.status.emit("Save the scan under a name first.")
            return
        self.session.change_lists(lambda: go(name), self._show_made)

    def _show_made(self, made: str) -> None:
        self.fill(made)
        self.show_saved(made)

    def ask_delete(self) -> None:
        """Deletes the saved scan that is chosen, once that is agreed to."""
        name = self.box.currentText()
        if name not in self.session.scans.scans or agreed(self.box, f"Delete the scan {name}?", "", "Delete"):
            self.with_chosen(self._delete)

    def _delete(self, name: str) -> str:
        self.session.scans.delete(name)
        return ""

    def show_saved(self, name: str) -> None:
        if name in self.session.scans.scans:
            self._show(self.session.scans.scans[name])
        self.changed.emit()

    def ask_save(self) -> None:
        name = words_for(self.box, "Name of the scan", "Save the scan", self._current().name)
        if name is not None:
            self.save_as(name)

    def save(self) -> None:
        """Saves the scan under the name it has, or asks for one."""
        if self._current().name:
            self.save_as(self._current().name)
        else:
            self.ask_save()

    def save_as(self, name: str) -> None:
        made = self._current()
        made.name = name.strip()
        self.session.change_lists(lambda: self.session.scans.save(made), lambda _: self._show_saved_as(made.name))

    def _show_saved_as(self, name: str) -> None:
        self.fill(name)
        self.session.status.emit(f"Saved as {name}.")
