"""The script that is open: its file and text, how it is kept, and what happens when another program writes it too."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.main_thread import MainThreadDispatcher
from oakladder.user.save_events import Both, Changed, Event, NotSaved, Saved, Told
from oakladder.user.scripts import ScriptFileProblem
from oakladder.user.workspace import Workspace

#: Seconds that leaving, and putting a script beside itself, may wait for a save.
_PATIENCE = 1.0


class OpenScript(QObject):
    """Opens scripts and hands what is typed to the autosave worker.

    ``opened`` tells another text, ``settled`` that it stands otherwise with the file (saved, not saved, changed on
    both sides); ``told`` a sentence for the user.
    """

    opened = pyqtSignal(str)
    settled = pyqtSignal()
    told = pyqtSignal(str)

    def __init__(self, workspace: Workspace, parent: QObject | None = None):
        super().__init__(parent)
        self.path: Path | None = None
        self.text = ""
        #: Why the text cannot be saved for now; empty where it can.
        self.trouble = ""
        self._dispatch = MainThreadDispatcher(self._take, self)
        self._autosave = workspace.autosave(self._dispatch)

    def start(self) -> None:
        """Begins to keep; says which texts an earlier program could not save."""
        back = self._autosave.start()
        if back:
            names = ", ".join(p.stem for p in back)
            self.told.emit(f"Unsaved text of {names} was restored.")

    def open(self, path: Path) -> bool:
        """Opens a script file; what was open is saved. Says why where that cannot be done, and gives False."""
        self._autosave.save(0)
        try:
            text = self._autosave.open(path)
        except ScriptFileProblem as error:
            self.told.emit(str(error))
            return False
        self.path, self.text = path, text
        self.trouble = ""
        self.opened.emit(text)
        self.settled.emit()
        return True

    def type(self, text: str) -> None:
        """Takes the text as it is now."""
        self.text = text
        if self.path is not None:
            self._autosave.typed(self.path, text)

    @property
    def theirs(self) -> str | None:
        """What another program wrote into the script while it was changed here; None where that is not so."""
        return self._autosave.theirs(self.path) if self.path is not None else None

    def decide(self, *, mine: bool) -> None:
        """Settles which text counts where both sides changed it; the other one is kept as a version."""
        if self.path is None:
            return
        text = self._autosave.decide(self.path, mine=mine)
        if text != self.text:
            self.text = text
            self.opened.emit(text)
        self.settled.emit()

    def save(self, patience: float = _PATIENCE) -> list[Path]:
        """Saves everything now; gives the scripts whose texts are not in their files."""
        return self._autosave.save(patience)

    def only_here(self) -> list[Path]:
        """Has everything saved, and gives the scripts whose texts could not be. One that both sides changed is not
        among them where the journal has it: its file and the journal keep both texts."""
        return [p for p in self.save() if self._autosave.theirs(p) is None or not self._autosave.noted(p)]

    def reasons(self) -> list[str]:
        """Why texts could not be saved, each reason once; it follows a colon."""
        return list(dict.fromkeys(r for p in self._autosave.unsaved() if (r := self._autosave.reason(p))))

    def in_journal(self) -> bool:
        """Whether the journal has every text that is not in its file."""
        return all(self._autosave.noted(p) for p in self._autosave.unsaved())

    def save_elsewhere(self, path: Path, other: Path) -> None:
        """Writes an unsaved text into another file. Raises `OSError`."""
        self._autosave.save_elsewhere(path, other)

    def look(self) -> None:
        """Looks whether another program has written the script."""
        self._autosave.look()

    def _take(self, event: Event) -> None:
        """Handles an event of the autosave worker, on the window's thread."""
        here = event.path == self.path
        match event:
            case Saved(path, again):
                if again:
                    self.told.emit(f"{path.name} is saved again.")
                if here:
                    self.trouble = ""
            case NotSaved(path, reason, noted):
                held = "It is kept in the journal" if noted else "It is held in memory"
                sentence = f"{path.name} cannot be saved: {reason}. {held} and tried again."
                if here and self.trouble != sentence:
                    self.trouble = sentence
                    self.told.emit(sentence)
            case Changed(path, text) if here:
                self.text = text
                self.opened.emit(text)
                self.told.emit(f"{path.name} was changed by another program and was reloaded.")
            case Both(path):
                if here:
                    self.told.emit(
                        f"{path.name} was changed by another program too. Choose above the text which one to keep."
                    )
                else:
                    self.told.emit(
                        f"{path.name} was changed by another program too. Open it to choose which text to keep."
                    )
            case Told(_, sentence):
                self.told.emit(sentence)
        self.settled.emit()

    def close(self) -> None:
        """Ends the keeping; what is not saved stays in the journal for the next start."""
        self._dispatch.close()
        self._autosave.close()
