"""Watchlists from the Ladder: making, filling, renaming, importing and exporting them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QApplication, QComboBox, QFileDialog, QToolButton, QWidget

from oakladder.app.jobs import writing
from oakladder.app.session import Session
from oakladder.desk.widgets.questions import agreed, text_for, words_for
from oakladder.desk.widgets.transient import below, passing_menu
from oakladder.disk import read_text, write_atomic
from oakladder.rung.texts import count_words
from oakladder.user.lists import ListProblem


class ListOwner(Protocol):
    """The place whose lists they are, as far as it is needed here."""

    session: Session
    lists: QComboBox
    list_button: QToolButton

    def fill_lists(self, current: str) -> None: ...

    def refresh(self) -> None: ...

    def selected(self) -> list[str]: ...


class ListCommands(QObject):
    """What can be done with the lists of a Ladder. What cannot be done is said, and nothing is lost."""

    def __init__(self, place: ListOwner, widget: QWidget):
        super().__init__(widget)
        self._place, self._session, self._widget = place, place.session, widget

    @property
    def current(self) -> str:
        """The name of the list that is shown."""
        return self._place.lists.currentText()

    def menu(self) -> None:
        """Offers everything that can be done with lists."""
        menu = passing_menu(self._widget)
        own = self.current in self._session.lists.user_lists
        menu.addAction("New list …", self._ask_list)
        menu.addAction("Import a list …", self._ask_import)
        menu.addAction("Export this list …", self._ask_export)
        menu.addSeparator()
        for words, go in (
            ("Add symbols …", self._ask_symbols),
            ("Paste symbols", self._paste),
            ("Rename …", self._ask_rename),
            ("Delete this list …", self._ask_delete),
        ):
            action = menu.addAction(words, go)
            assert action is not None
            action.setEnabled(own)
        menu.popup(below(self._place.list_button))

    def change(
        self,
        go: Callable[[], Any],
        current: str | None = None,
        then: Callable[[Any], None] = lambda made: None,
    ) -> None:
        """Changes lists in the background, shows the list ``current``, and reports errors.

        ``go`` touches no widget; ``then`` is called with what it gives.
        """

        def done(made: Any) -> None:
            self._place.fill_lists(current or self.current)
            self._place.refresh()
            then(made)

        self._session.change_lists(go, done)

    def _ask_delete(self) -> None:
        """Deletes a list with its notes, after a question: this cannot be undone."""
        name = self.current
        own = self._session.lists.user_lists.get(name)
        if own is None:
            return
        symbols, notes = count_words(len(own.symbols), "symbol"), count_words(len(own.notes), "note")
        words = f"Delete {name} with its {symbols} and {notes}?"
        if agreed(self._widget, words, "This cannot be undone.", "Delete"):
            self.change(lambda: self._session.lists.delete(name))

    def _ask_list(self) -> None:
        name = words_for(self._widget, "Name of the new list", "Create")
        if name is not None:
            self.make(name)

    def make(self, name: str, symbols: list[str] | None = None) -> None:
        """A new list with the symbols that are selected, or none."""
        chosen = symbols if symbols is not None else self._place.selected()
        self.change(lambda: self._session.lists.make(name, chosen if len(chosen) > 1 else []), name.strip())

    def _ask_symbols(self) -> None:
        text = text_for(self._widget, "Symbols to add", "Add", "Separate symbols with commas, spaces or lines.")
        if text is not None:
            self.add(text)

    def _paste(self) -> None:
        board = QApplication.clipboard()
        self.add(board.text() if board is not None else "")

    def add(self, text: str) -> None:
        """Adds symbols to the list that is shown, and says which words are none."""
        infos, name = self._session.symbols.infos, self.current

        def say(made: tuple[list[str], list[str]]) -> None:
            added, unknown = made
            words = f"{len(added)} added."
            self._session.status.emit(f"{words} Not found: {', '.join(unknown[:8])}." if unknown else words)

        self.change(lambda: self._session.lists.add(name, text, infos), then=say)

    def _ask_rename(self) -> None:
        old = self.current
        name = words_for(self._widget, f"New name of {old}", "Rename", old)
        if name is not None:
            self.change(lambda: self._session.lists.rename(old, name), name.strip())

    def _ask_import(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self._widget, "Import a list", "", "Lists (*.txt *.csv)")
        if name:
            self.read(Path(name))

    def read(self, path: Path) -> None:
        """Makes a list of a text or CSV file, named for it."""
        infos = self._session.symbols.infos

        def go() -> list[str]:
            try:
                text = read_text(path)
            except UnicodeDecodeError:
                raise ListProblem(f"{path.name} is not UTF-8 text.") from None
            return self._session.lists.read(path.stem, text, infos)

        def say(unknown: list[str]) -> None:
            if unknown:
                self._session.status.emit(f"Not found: {', '.join(unknown[:8])}.")

        self.change(go, path.stem, say)

    def _ask_export(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self._widget, "Export this list", f"{self.current}.txt", "Text (*.txt);;CSV (*.csv)"
        )
        if name:
            self.write(Path(name))

    def write(self, path: Path) -> None:
        """Writes the list that is shown, as CSV or plain text by the name's ending."""
        name, infos, as_csv = self.current, self._session.symbols.infos, path.suffix.lower() == ".csv"

        def go() -> None:
            text = self._session.lists.written(name, infos, as_csv=as_csv)
            with writing(path):
                write_atomic(path, text)

        self._session.jobs.write(go, lambda _: self._session.status.emit(f"Saved as {path.name}."))
