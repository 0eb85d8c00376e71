"""Leaving the program: never over a text that is not in its file without asking."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QElapsedTimer, QEventLoop, QTimer
from PyQt6.QtWidgets import QDialog, QFileDialog, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from oakladder.app.session import Session
from oakladder.desk.widgets.transient import answered
from oakladder.disk import why
from oakladder.file_names import free_path

#: How long leaving waits for what is still to be written before it asks.
_MOMENT_MS = 1000


def may_leave(session: Session, parent: QWidget) -> bool:
    """Has everything saved; where that cannot be done, asks until it is, or the user says what shall be."""
    while unsaved := session.script.only_here():
        asked = UnsavedDialog(session, unsaved, parent)
        if not answered(asked):
            return False
        if asked.leave:
            break
    return _written(session) or answered(WaitingDialog(session, parent))


def _written(session: Session) -> bool:
    """Whether all that was to be written is, after a moment at most."""
    if not session.jobs.owes:
        return True
    loop = QEventLoop()
    QTimer.singleShot(_MOMENT_MS, loop.quit)
    session.jobs.changed.connect(loop.quit)
    clock = QElapsedTimer()
    clock.start()
    while session.jobs.owes and clock.elapsed() < _MOMENT_MS:
        loop.exec()
    return not session.jobs.owes


class WaitingDialog(QDialog):
    """Says what leaving still waits for; accepted once that is written, or given up."""

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Not saved yet")
        self.words = QLabel(f"Some of your changes are not saved yet. {session.waits_for}".strip())
        self.words.setWordWrap(True)
        self.words.setMinimumWidth(420)
        self.go, self.stay = QPushButton("Quit without saving"), QPushButton("Cancel")
        self.go.clicked.connect(lambda: self._give_up())
        self.stay.clicked.connect(self.reject)
        self.stay.setDefault(True)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(self.go)
        row.addWidget(self.stay)
        layout = QVBoxLayout(self)
        layout.addWidget(self.words)
        layout.addLayout(row)
        session.jobs.changed.connect(self._look)

    def _look(self) -> None:
        if not self._session.jobs.owes:
            self.accept()

    def _give_up(self) -> None:
        self._session.jobs.stop_writing()
        self.accept()


class UnsavedDialog(QDialog):
    """Says which scripts are not in their files. Accepted to try again or (``leave``) to go all the same."""

    def __init__(self, session: Session, unsaved: list[Path], parent: QWidget | None = None):
        super().__init__(parent)
        self._session, self._unsaved = session, unsaved
        self.leave = False
        self.setWindowTitle("Not saved")
        names = ", ".join(p.name for p in unsaved)
        noted = session.script.in_journal()
        held = (
            "Your text is in the journal and comes back at the next start."
            if noted
            else "Your text is in memory only: quitting now loses it."
        )
        reasons = ", ".join(session.script.reasons())
        self.words = QLabel(f"{names} cannot be saved{f': {reasons}' if reasons else ''}. {held}")
        self.words.setWordWrap(True)
        self.words.setMinimumWidth(420)
        self.again, self.elsewhere = QPushButton("Try again"), QPushButton("Save elsewhere …")
        self.go, self.stay = QPushButton("Quit anyway"), QPushButton("Cancel")
        self.again.clicked.connect(self.accept)
        self.elsewhere.clicked.connect(lambda: self._ask_elsewhere())
        self.go.clicked.connect(lambda: self._leave())
        self.stay.clicked.connect(self.reject)
        self.again.setDefault(True)
        row = QHBoxLayout()
        for button in (self.again, self.elsewhere, self.go, self.stay):
            row.addWidget(button)
        layout = QVBoxLayout(self)
        layout.addWidget(self.words)
        layout.addLayout(row)

    def _leave(self) -> None:
        self.leave = True
        self.accept()

    def _ask_elsewhere(self) -> None:
        """Writes every unsaved text into a folder of the user's choice; then leaving loses nothing."""
        folder = QFileDialog.getExistingDirectory(self, "A folder to save them in")
        if not folder:
            return
        try:
            for path in self._unsaved:
                self._session.script.save_elsewhere(path, free_path(Path(folder), path.stem, path.suffix))
        except OSError as error:
            self.words.setText(f"They cannot be written there: {why(error)}. Choose another folder.")
            return
        self._leave()
