"""Windows that tests have made."""

from __future__ import annotations

from PyQt6.QtCore import QEvent
from PyQt6.QtWidgets import QApplication

from oakladder.desk.window import Window


def put_away(window: Window) -> None:
    """Closes a window and frees it: styles are worked out anew for every widget that is still there."""
    window.close()
    window.desk.deleteLater()
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
