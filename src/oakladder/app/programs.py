"""The user's scripts, compiled in the background, for the choices of the Scan and the Ladder."""

from __future__ import annotations

import logging
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject

from oakladder.app.jobs import Jobs, Ticket
from oakladder.rung import Program, RunProblem, ScriptError, compile_script
from oakladder.rung.problems import Cancelled
from oakladder.user.scripts import ScriptFileProblem, read_script
from oakladder.user.workspace import Workspace

_log = logging.getLogger(__name__)
_Known = dict[str, tuple[object, Program]]


class Programs(QObject):
    """Scripts without errors by file name. Only what has changed since is read and compiled again."""

    def __init__(self, workspace: Workspace, jobs: Jobs, parent: QObject | None = None):
        super().__init__(parent)
        self._workspace, self._jobs = workspace, jobs
        self._known: _Known = {}
        self._waiting: list[Callable[[dict[str, Program]], None]] = []

    def when_read(self, then: Callable[[dict[str, Program]], None]) -> None:
        """Calls back with all sound scripts as they are now, once they are read."""
        self._waiting.append(then)
        known = dict(self._known)
        self._jobs.start(
            "programs",
            lambda ticket: self._read(known, ticket),
            self._arrived,
            lambda _: self._arrived(known),
            slow=True,
        )

    def _read(self, known: _Known, ticket: Ticket) -> _Known:
        made: _Known = {}
        for path in self._workspace.script_files():
            if ticket.cancelled():
                break
            try:
                made[path.name] = self._compiled(path, known.get(path.name), ticket)
            except (ScriptError, ScriptFileProblem, RunProblem):
                continue
            except Cancelled:
                break
            except Exception:  # an unexpected error in one script must not hide the others
                _log.exception("the script %s cannot be compiled", path.name)
        return made

    def _compiled(self, path: Path, old: tuple[object, Program] | None, ticket: Ticket) -> tuple[object, Program]:
        text = read_script(path)
        key = (text, other_scripts := self._workspace.other_scripts(text))
        return (
            old if old is not None and old[0] == key else (key, compile_script(text, other_scripts, ticket.cancelled))
        )

    def _arrived(self, made: _Known) -> None:
        self._known = made
        waiting, self._waiting = self._waiting, []
        for then in waiting:
            then({name: program for name, (_, program) in made.items()})
