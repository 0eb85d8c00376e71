"""Windows that tests have made."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent
from PyQt6.QtWidgets import QApplication

from oakladder.desk.window import Window


def opened(window: Window, calm: Callable[[Window], None], text: str, name: str = "mine") -> None:
    """Opens a script of some text, and waits for all that shows it."""
    path = window.desk.workspace.scripts / f"{name}.rung"
    path.write_text(text)
    window.desk.rule.open(path)
    calm(window)


def put_away(window: Window) -> None:
    """Closes a window and frees it: styles are worked out anew for every widget that is still there."""
    window.close()
    window.desk.deleteLater()
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
