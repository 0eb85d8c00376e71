"""Windows that tests have made."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QAbstractItemModel, QAbstractListModel, QEvent, QModelIndex, Qt, QTimer
from PyQt6.QtGui import QAction
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QDialog, QMenu, QPushButton, QWidget

from oakladder.desk.widgets.questions import Question
from oakladder.desk.widgets.veil import Veil
from oakladder.desk.window import Window


def opened(window: Window, calm: Callable[[Window], None], text: str, name: str = "mine") -> None:
    """Opens a script of some text, and waits for all that shows it."""
    path = window.session.workspace.scripts / f"{name}.rung"
    path.write_text(text)
    window.session.rule.open(path)
    calm(window)


def wait(window: Window, calm: Callable[[Window], None], until: Callable[[], bool], patience: float = 10.0) -> None:
    """Waits until something holds, at most `patience` seconds, then for all that follows from it; it must hold still."""
    end = time.monotonic() + patience
    while not until() and time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.01)
    calm(window)
    assert until()


def put_away(window: Window) -> None:
    """Closes a window and frees it: styles are worked out anew for every widget that is still there."""
    window.close()
    window.session.deleteLater()
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


def close_popups() -> None:
    """Closes every menu that is open."""
    while (popup := QApplication.activePopupWidget()) is not None:
        popup.close()


def popup_actions() -> dict[str, QAction]:
    """The actions of the menu that is open, by their words."""
    menu = QApplication.activePopupWidget()
    assert isinstance(menu, QMenu)
    return {a.text(): a for a in menu.actions() if a.text()}


def once_asked(then: Callable[[], object]) -> None:
    """Does something as soon as a dialog waits for an answer and the keys go to it."""

    def look() -> None:
        modal, at = QApplication.activeModalWidget(), QApplication.focusWidget()
        if modal is None or at is None or at.window() is not modal:
            QTimer.singleShot(10, look)
        else:
            then()

    QTimer.singleShot(0, look)


def answer(words: str, first: Callable[[Any], object] = lambda dialog: None) -> None:
    """Answers the next dialog as a user would: does something ``first`` in it, then clicks the button of these words."""

    def then() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, QDialog)
        first(dialog)
        button = next(b for b in dialog.findChildren(QPushButton) if b.text() == words)
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)

    once_asked(then)


def reply(dialog: QDialog, says: str) -> int:
    """Answers a question as a user would: types, or chooses by the first letters, and clicks its verb. Without words,
    or where it is another dialog, it is left by Escape."""
    if not says or not isinstance(dialog, Question):
        return int(QDialog.DialogCode.Rejected)
    dialog.show()
    field = dialog.room.itemAt(0).widget()
    if not isinstance(field, QComboBox):
        QTest.keyClick(field, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClicks(field, says)
    verb = next(b for b in dialog.findChildren(QPushButton) if b.text() == dialog.windowTitle())
    QTest.mouseClick(verb, Qt.MouseButton.LeftButton)
    assert not dialog.isVisible()
    return dialog.result()


def outdated(widget: QWidget) -> bool:
    """Whether a widget says itself that it is out of date, by a veil over it or over what it stands in."""
    at: QWidget | None = widget
    while at is not None:
        if any(v.freshness.is_stale for v in at.findChildren(Veil, options=Qt.FindChildOption.FindDirectChildrenOnly)):
            return True
        at = at.parentWidget()
    return False


def columns_of(model: QAbstractItemModel, parent: QModelIndex) -> int:
    return 1 if isinstance(model, QAbstractListModel) else model.columnCount(parent)


def cells(model: QAbstractItemModel, parent: QModelIndex | None = None) -> list[object]:
    at = parent if parent is not None else QModelIndex()
    made: list[object] = []
    for row in range(min(model.rowCount(at), 60)):
        made.append([model.index(row, k, at).data() for k in range(columns_of(model, at))])
        made += cells(model, model.index(row, 0, at)) if model.rowCount(model.index(row, 0, at)) else []
    return made
