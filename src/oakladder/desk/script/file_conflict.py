"""What stands above the text when it and its file do not agree: not saved, or changed by another program too."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QDialog, QFileDialog, QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from oakladder.app.session import Session
from oakladder.desk.look.spacing import GAP
from oakladder.desk.look.theme import theme_of
from oakladder.desk.script.difference import DifferenceView
from oakladder.desk.widgets.transient import answered
from oakladder.disk import why


class Standing(QFrame):
    """A sentence and what can be done about it; hidden while text and file agree."""

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent, objectName="standing")
        self.session = session
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.difference = QPushButton("Difference")
        self.mine = QPushButton("Keep mine")
        self.theirs = QPushButton("Use theirs")
        self.again = QPushButton("Try again")
        self.elsewhere = QPushButton("Save elsewhere …")
        self.difference.clicked.connect(lambda: self.show_difference())
        self.mine.clicked.connect(lambda: session.script.decide(mine=True))
        self.theirs.clicked.connect(lambda: session.script.decide(mine=False))
        self.again.clicked.connect(lambda: session.jobs.write(session.script.save))
        self.elsewhere.clicked.connect(lambda: self.ask_elsewhere())
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GAP, GAP, GAP, GAP)
        layout.addWidget(self.words)
        row = QHBoxLayout()
        for button in (self.difference, self.mine, self.theirs, self.again, self.elsewhere):
            row.addWidget(button)
        row.addStretch(1)
        layout.addLayout(row)
        session.script.settled.connect(self._show)
        self._show()

    def _show(self) -> None:
        script = self.session.script
        both, name = script.theirs is not None, script.path.name if script.path is not None else ""
        for button in (self.difference, self.mine, self.theirs):
            button.setVisible(both)
        for button in (self.again, self.elsewhere):
            button.setVisible(not both)
        if both:
            self.words.setText(
                f"Another program has changed {name} too. Choose which text to keep; the other stays among the"
                " earlier versions."
            )
        else:
            self.words.setText(script.trouble)
        self.setVisible(both or bool(script.trouble))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """As many lines as the sentence needs at this width."""
        super().resizeEvent(event)
        self.words.setMinimumHeight(max(self.words.heightForWidth(self.words.width()), 0))

    def show_difference(self) -> None:
        """Shows both texts against each other."""
        theirs = self.session.script.theirs
        if theirs is None:
            return
        dialog = QDialog(self)
        dialog.setWindowTitle("The difference")
        dialog.resize(640, 420)
        view = DifferenceView(theme_of(self.session))
        view.show_between(self.session.script.text, theirs)
        layout = QVBoxLayout(dialog)
        layout.addWidget(QLabel("− only in yours, + only in theirs.", objectName="quiet"))
        layout.addWidget(view, 1)
        close = QPushButton("Close")
        close.clicked.connect(dialog.accept)
        layout.addWidget(close)
        answered(dialog)

    def ask_elsewhere(self) -> None:
        """Asks for another file, and writes the text there."""
        path = self.session.script.path
        if path is None:
            return
        name, _ = QFileDialog.getSaveFileName(self, "Save the script elsewhere", path.name, "Scripts (*.rung)")
        if not name:
            return
        try:
            self.session.script.save_elsewhere(path, Path(name))
        except OSError as error:
            self.session.status.emit(f"{Path(name).name} cannot be written: {why(error)}.")
            return
        self.session.status.emit(f"A copy is in {name}. The script itself is tried again.")
