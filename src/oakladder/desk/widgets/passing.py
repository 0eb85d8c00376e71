"""Menus and dialogs that are there for one answer, and are freed when it is given."""

from __future__ import annotations

from PyQt6 import sip
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QDialog, QMenu, QWidget


def passing_menu(parent: QWidget) -> QMenu:
    """A menu to be shown once."""
    menu = QMenu(parent)
    menu.aboutToHide.connect(menu.deleteLater)  # after what was chosen has been done
    return menu


def below(widget: QWidget) -> QPoint:
    """The place on the screen under a widget's left edge."""
    return widget.mapToGlobal(widget.rect().bottomLeft())


def answered(dialog: QDialog) -> bool:
    """Shows a dialog until it is answered; whether that was a yes. What it holds can be read until control returns."""
    try:
        return dialog.exec() == QDialog.DialogCode.Accepted
    finally:
        if not sip.isdeleted(dialog):  # what it belonged to may have gone meanwhile, and taken it along
            dialog.deleteLater()


def show_for_itself(dialog: QDialog) -> None:
    """Shows a dialog beside the window; it is freed when it is closed."""
    dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    dialog.show()
