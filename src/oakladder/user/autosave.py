"""Keeps what is typed: in a journal at once, in its file after a pause, and in memory until that has worked.

A separate thread does the writing, so that a slow or full disk never delays typing. What a file holds is
looked at before every save: what another program wrote there is never overwritten unseen.
"""

from __future__ import annotations

import contextlib
import logging
import threading
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from oakladder.disk import why, write_atomic
from oakladder.user.draft import Draft, mark_of, on_disk, text_of
from oakladder.user.journal import Journal, JournalEntry
from oakladder.user.save_events import Both, Changed, Event, NotSaved, Saved, Told
from oakladder.user.scripts import ScriptFolder, ScriptText, read_script_file
from oakladder.user.versions import Versions
from oakladder.work import service_thread

#: Seconds between two entries in the journal, and between two tries to save where the disk said no.
_JOURNAL_PAUSE, _RETRY = 0.03, 2.0


_log = logging.getLogger(__name__)


class AutosaveWorker:
    """Holds the texts of open scripts and sees to it that they are kept. Safe to be used from any thread.

    ``tell`` is called on the worker's thread with every `Event`.
    """

    def __init__(self, scripts: ScriptFolder, versions: Versions, journal: Journal, tell: Callable[[Event], None]):
        self._scripts, self._versions, self._journal, self._tell = scripts, versions, journal, tell
        #: Guards the drafts; never held while a disk is waited for.
        self._turn = threading.Condition()
        self._drafts: dict[Path, Draft] = {}
        self._open: Path | None = None
        self._looking = self._ending = False
        #: What the user has decided and is still to be written.
        self._decided: list[Callable[[], None]] = []
        self._thread: threading.Thread | None = None

    def start(self) -> list[Path]:
        """Begins to keep; gives the scripts whose unsaved texts an earlier program has left in the journal."""
        try:
            for entry in self._journal.left_behind():
                self._take_up(entry)
        except OSError as error:
            self._tell(Told(Path(), f"The journal of what was typed cannot be read: {why(error)}."))
        back = list(self._drafts)
        self._thread = service_thread("autosave", self._run)
        return back

    def _take_up(self, entry: JournalEntry) -> None:
        """Holds an unsaved text of an earlier program as if it had just been typed."""
        path = Path(entry.path)
        with contextlib.suppress(OSError):
            disk = on_disk(path)
            if disk is not None and text_of(disk).text == entry.text:
                self._journal.drop(entry.path)
                return
            now = time.monotonic()
            draft = Draft(path, disk, text_of(disk), entry.text, now, now, noted=entry.text)
            if disk is not None and mark_of(disk) != entry.base:
                draft.theirs = disk
            self._drafts[path] = draft

    # --- the interface's side ---------------------------------------------------------------------

    def open(self, path: Path) -> str:
        """The text of a script to be worked on: what is not saved yet, else what its file holds.

        Raises `ScriptFileProblem`.
        """
        with self._turn:
            draft = self._drafts.get(path)
            held = draft is not None and not draft.idle
        read = None if held else read_script_file(path)
        with self._turn:
            if read is not None:
                self._drafts[path] = Draft(path, read.raw(), read, read.text)
            before, self._open = self._open, path
            if before is not None and before != path:
                self._let_go(before)
            return self._drafts[path].text

    def _let_go(self, path: Path) -> None:
        """Holds a script no longer that is neither open nor unsaved."""
        draft = self._drafts.get(path)
        if draft is not None and draft.idle and path != self._open:
            del self._drafts[path]

    def typed(self, path: Path, text: str) -> None:
        """Takes a text as it is now; returns at once."""
        now = time.monotonic()
        with self._turn:
            draft = self._drafts.setdefault(path, Draft(path, None, ScriptText(""), ""))
            draft.text, draft.last = text, now
            if draft.first is None:
                draft.first = now
            self._turn.notify_all()

    def unsaved(self) -> list[Path]:
        """The scripts whose texts are not in their files."""
        with self._turn:
            return [d.path for d in self._drafts.values() if not d.idle]

    def noted(self, path: Path) -> bool:
        """Whether the journal has the text of a script as it is now."""
        with self._turn:
            draft = self._drafts.get(path)
            return draft is None or draft.noted == draft.text

    def reason(self, path: Path) -> str:
        """Why a script could not be saved when that was last tried; empty where it was not tried or went well."""
        with self._turn:
            draft = self._drafts.get(path)
            return draft.reason if draft is not None and draft.failed else ""

    def theirs(self, path: Path) -> str | None:
        """What another program wrote into a script that was changed here too; None where that is not so."""
        with self._turn:
            draft = self._drafts.get(path)
            return None if draft is None or draft.theirs is None else text_of(draft.theirs).text

    def save(self, patience: float = 1.0) -> list[Path]:
        """Has everything saved without a pause, and waits up to ``patience`` seconds; gives what is not."""
        end = time.monotonic() + patience
        with self._turn:
            for draft in self._drafts.values():
                draft.hurry = draft.first is not None
            self._turn.notify_all()
            while any(d.hurry and d.theirs is None for d in self._drafts.values()) and self._thread is not None:
                left = end - time.monotonic()
                if left <= 0:
                    break
                self._turn.wait(left)
            # What cannot be saved shall at least be in the journal by now, if that can be written.
            while any(d.unnoted and not d.unnotable for d in self._drafts.values()) and self._thread is not None:
                left = end - time.monotonic()
                if left <= 0:
                    break
                self._turn.wait(left)
        return self.unsaved()

    def decide(self, path: Path, *, mine: bool) -> str:
        """Settles a script that was changed on both sides, and gives the text that counts; the other becomes a version."""
        with self._turn:
            draft = self._drafts[path]
            theirs, draft.theirs = draft.theirs, None
            if theirs is None:
                return draft.text
            other = draft.raw
            draft.base = theirs
            if mine:
                draft.first, draft.hurry, draft.failed = time.monotonic(), True, False
            else:
                draft.manner = text_of(theirs)
                draft.text, draft.first, draft.noted = draft.manner.text, None, None
                self._decided.append(partial(self._keep_other, path, other))
            text = draft.text
            self._turn.notify_all()
        return text

    def _keep_other(self, path: Path, other: bytes) -> None:
        """Saves the text without a version of it; the journal no longer needs it."""
        with contextlib.suppress(OSError):
            self._versions.keep(path.name, other)
        self._journal.drop(str(path))

    def save_elsewhere(self, path: Path, other: Path) -> None:
        """Writes an unsaved text into another file. Raises `OSError`."""
        with self._turn:
            raw = self._drafts[path].raw
        write_atomic(other, raw)

    def look(self) -> None:
        """Checks in the background whether another program has written the open files; returns at once."""
        with self._turn:
            self._looking = True
            self._turn.notify_all()

    def close(self) -> None:
        """Ends the thread. What is not saved stays in the journal for the next start."""
        with self._turn:
            self._ending = True
            self._turn.notify_all()
        if self._thread is not None:
            self._thread.join(5)
        self._journal.close()

    # --- the thread -------------------------------------------------------------------------------

    def _run(self) -> None:
        while (job := self._next()) is not None:
            try:
                job()
            except Exception:  # a thread that ended would keep nothing any more
                _log.exception("keeping failed")
                time.sleep(0.2)

    def _next(self) -> Callable[[], None] | None:
        """The next thing to do, waited for; None at the end."""
        with self._turn:
            while True:
                now, wake = time.monotonic(), float("inf")
                if self._decided:
                    return self._decided.pop(0)
                if self._looking:
                    self._looking = False
                    return self._look
                for draft in self._drafts.values():
                    unnoted = draft.unnoted
                    if unnoted and (draft.note_at <= now or (self._ending and not draft.failed)):
                        return partial(self._note, draft)
                    wake = min(wake, draft.note_at) if unnoted else wake
                    due = draft.due()
                    if due is not None and due <= now:
                        return partial(self._save, draft)
                    wake = min(wake, due) if due is not None else wake
                if self._ending:
                    return None
                self._turn.wait(None if wake == float("inf") else max(wake - now, 0.001))

    def _note(self, draft: Draft) -> None:
        with self._turn:
            text, base = draft.text, draft.base
        pause, noted = _JOURNAL_PAUSE, True
        try:
            self._journal.put(JournalEntry(str(draft.path), mark_of(base), text, time.time()))
        except OSError as error:
            _log.warning("the journal cannot be written: %s", error)
            pause, noted = _RETRY, False
        with self._turn:
            draft.note_at = time.monotonic() + pause
            draft.noted, draft.unnotable = text if noted else draft.noted, not noted
            self._turn.notify_all()

    def _save(self, draft: Draft) -> None:
        with self._turn:
            text, raw, base = draft.text, draft.raw, draft.base
        try:
            disk = on_disk(draft.path)
            if disk is not None and disk != base and disk != raw:
                self._both(draft, disk)
                return
            if disk != raw:
                self._write(draft.path, disk, raw)
        except OSError as error:
            self._failed(draft, why(error))
            return
        with self._turn:
            draft.base, again = raw, draft.failed
            draft.failed = draft.hurry = False
            done = draft.text == text
            draft.first = None if done else time.monotonic()
            draft.noted = None if done else draft.noted
            self._let_go(draft.path)
            self._turn.notify_all()
        if done:
            self._journal.drop(str(draft.path))
        self._tell(Saved(draft.path, again))

    def _write(self, path: Path, old: bytes | None, raw: bytes) -> None:
        if path.parent == self._scripts.place:
            self._scripts.prepare()  # the folder may have been taken away, the demo scripts with it
        if old is not None:
            try:
                self._versions.keep(path.name, old)
            except OSError as error:  # what is typed now matters more than what was
                _log.warning("no version of %s could be kept: %s", path.name, error)
        write_atomic(path, raw)

    def _failed(self, draft: Draft, reason: str) -> None:
        with self._turn:
            draft.failed, draft.hurry, draft.reason = True, False, reason
            draft.retry_at = time.monotonic() + _RETRY
            noted = draft.noted == draft.text
            self._turn.notify_all()
        self._tell(NotSaved(draft.path, reason, noted))

    def _both(self, draft: Draft, disk: bytes) -> None:
        with self._turn:
            draft.theirs, draft.hurry = disk, False
            self._turn.notify_all()
        self._tell(Both(draft.path, text_of(disk).text))

    def _look(self) -> None:
        with self._turn:
            drafts = [d for d in self._drafts.values() if d.theirs is None]
        for draft in drafts:
            try:
                disk = on_disk(draft.path)
            except OSError as error:
                _log.warning("%s cannot be looked at: %s", draft.path, error)
                continue
            self._compare(draft, disk)

    def _compare(self, draft: Draft, disk: bytes | None) -> None:
        with self._turn:
            if disk == draft.base or draft.theirs is not None:
                return
            untouched, old, raw = draft.first is None, draft.base, draft.raw
            if untouched and disk is not None:
                draft.base, draft.manner = disk, text_of(disk)
                draft.text = draft.manner.text
            elif disk is None or disk == raw:
                draft.base = disk
        name = draft.path.name
        if disk is None and untouched:
            words = "was taken away by another program. Its text is still here, and is written again if you change it."
            self._tell(Told(draft.path, f"{name} {words}"))
        elif disk is not None and untouched:
            if old is not None:
                with contextlib.suppress(OSError):
                    self._versions.keep(name, old)
            self._tell(Changed(draft.path, draft.text))
        elif disk is not None and disk != raw:
            self._both(draft, disk)
