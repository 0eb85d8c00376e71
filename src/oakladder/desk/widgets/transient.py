"""Menus and dialogs that are there for one answer, and are freed when it is given."""

from __future__ import annotations

from typing import Any

from PyQt6 import sip
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QAction, QShowEvent
from PyQt6.QtWidgets import QDialog, QMenu, QWidget

#: The property of a window under which its style sheet is found.
SHEET = "sheet"


def dress(widget: QWidget) -> None:
    """Gives a dialog or menu the style sheet of its window, where no part that it belongs to passes on its own."""
    above = widget.parentWidget()
    while above is not None and not above.styleSheet():
        sheet = above.property(SHEET)
        if sheet:
            widget.setStyleSheet(sheet)
            return
        above = above.parentWidget()


class PlainMenu(QMenu):
    """A menu that shows its words as they are: an ampersand in a name is no key."""

    def addAction(self, what: QAction | str, *then: Any) -> QAction | None:  # type: ignore[override]
        return super().addAction(what.replace("&", "&&") if isinstance(what, str) else what, *then)

    def showEvent(self, event: QShowEvent | None) -> None:
        dress(self)
        super().showEvent(event)

    def addMenu(self, words: str) -> PlainMenu:  # type: ignore[override]
        made = PlainMenu(words.replace("&", "&&"), self)
        super().addMenu(made)
        return made


def discard(widget: QWidget) -> None:
    """Takes a widget out of sight and frees it: until the next turn of the event loop it would be painted under others."""
    widget.hide()
    widget.deleteLater()


def passing_menu(parent: QWidget) -> PlainMenu:
    """A menu to be shown once."""
    menu = PlainMenu(parent)
    menu.aboutToHide.connect(menu.deleteLater)  # after what was chosen has been done
    return menu


def below(widget: QWidget) -> QPoint:
    """The place on the screen under a widget's left edge."""
    return widget.mapToGlobal(widget.rect().bottomLeft())


def answered(dialog: QDialog) -> bool:
    """Shows a dialog until it is answered; whether that was a yes. What it holds can be read until control returns."""
    dress(dialog)
    try:
        return dialog.exec() == QDialog.DialogCode.Accepted
    finally:
        if not sip.isdeleted(dialog):  # what it belonged to may have gone meanwhile, and taken it along
            dialog.deleteLater()


def show_for_itself(dialog: QDialog) -> None:
    """Shows a dialog beside the window; it is freed when it is closed."""
    dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    dress(dialog)
    dialog.show()
