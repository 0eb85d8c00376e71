"""Choosing the columns of the narrow watchlist."""

from __future__ import annotations

from PyQt6.QtCore import QObject, QPoint
from PyQt6.QtGui import QCursor
from PyQt6.QtWidgets import QWidget

from oakladder.app.columns import OPEN_SCRIPT, ScriptColumn, open_columns, places_of
from oakladder.app.session import Session
from oakladder.app.watchlist import MOST_WATCHED
from oakladder.desk.widgets.column_chooser import ask_column
from oakladder.desk.widgets.transient import passing_menu


class Watching(QObject):
    """The menu of the columns, and what it does."""

    def __init__(self, session: Session, parent: QWidget):
        super().__init__(parent)
        self.session, self._parent = session, parent

    def menu(self, at: QPoint | None = None) -> None:
        """Offers to add, change and take away columns."""
        menu = passing_menu(self._parent)
        for k, column in enumerate(self.session.watchlist.columns):
            words = f"{column.caption} on {', '.join(column.timeframes)}"
            if column.script != OPEN_SCRIPT:
                menu.addAction(f"Change {words} …", lambda k=k: self._ask(k))
            menu.addAction(f"Remove {words}", lambda k=k: self.remove(k))
        menu.addSeparator()
        menu.addAction("Add a script column …", lambda: self._ask(None))
        menu.addAction("Only the open script's", lambda: self.session.watchlist.show_columns(open_columns()))
        menu.popup(at if at is not None else QCursor.pos())

    def remove(self, k: int) -> None:
        """Takes a column away; without any the open script's come back."""
        self.session.watchlist.show_columns([c for j, c in enumerate(self.session.watchlist.columns) if j != k])

    def put(self, column: ScriptColumn, k: int | None = None) -> bool:
        """Adds a column, or replaces another; False with a message if the list is full."""
        columns = [*self.session.watchlist.columns, column] if k is None else list(self.session.watchlist.columns)
        if k is not None:
            columns[k] = column
        if len(places_of(columns)) > MOST_WATCHED:
            self.session.status.emit(
                f"The watchlist shows at most {MOST_WATCHED} columns, counting each timeframe. The Ladder (Alt+2) shows any number."
            )
            return False
        self.session.watchlist.show_columns(columns)
        return True

    def _ask(self, k: int | None) -> None:
        old = self.session.watchlist.columns[k] if k is not None else ScriptColumn("", "", ["1d"])
        ask_column(self.session.programs, self._parent, old, lambda made: self.put(made, k))
