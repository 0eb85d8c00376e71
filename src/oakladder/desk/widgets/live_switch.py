"""The switch for live prices, in the top line: it says how it stands with the feed."""

from __future__ import annotations

from PyQt6.QtWidgets import QToolButton, QWidget

from oakladder.app.actions import hinted
from oakladder.app.live import LiveController, LiveState


class LiveSwitch(QToolButton):
    """Pressed while live prices are on."""

    def __init__(self, live: LiveController, parent: QWidget | None = None):
        super().__init__(parent, checkable=True, objectName="live")
        self._live = live
        self.clicked.connect(lambda: live.toggle())
        live.changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        live = self._live
        if self.text() != live.words():
            self.setText(live.words())
        self.setChecked(live.is_on)
        self.setToolTip(hinted(live.hint(), "toggle_live"))
        trouble = live.state in (LiveState.LOST, LiveState.CATCHING_UP)
        if self.property("trouble") != trouble:
            self.setProperty("trouble", trouble)
            style = self.style()
            if style is not None:  # the sheet looks at the property only then
                style.unpolish(self)
                style.polish(self)
