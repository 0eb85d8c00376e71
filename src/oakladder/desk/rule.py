"""The rule that the open script is: compiled as it is typed, with its problems and its settings."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from oakladder.bars.store.library import BarLibrary
from oakladder.desk.jobs import Jobs, Ticket
from oakladder.desk.open_script import OpenScript
from oakladder.desk.view import Look, View
from oakladder.disk import write_atomic
from oakladder.rung import Problem, Program, RunProblem, ScriptError, compile_script
from oakladder.rung.program import unknown_symbols
from oakladder.user.workspace import Workspace

_TYPING_PAUSE_MS = 2

NEW_SCRIPT = """rung 1
title "{title}"
about "Say in a sentence what this rule looks for."

setting length = 20 range 2..200 "Length"

let average = sma(close, length)

signal go = crosses_up(close, average)  bullish "Price climbs over its average"

line average color teal width 2 named "Average"
"""


def is_new_script(text: str) -> bool:
    """Whether a text is still the one that a new script begins with, whatever its title is."""
    return re.sub(r'^title ".*"$', 'title "{title}"', text, count=1, flags=re.MULTILINE) == NEW_SCRIPT


@dataclass(frozen=True, slots=True)
class Compilation:
    """What came of a text: its problems, and if it is sound the program and a view for what was asked then."""

    problems: tuple[Problem, ...]
    program: Program | None
    seen: tuple[View, str] | None
    asked: object
    settings: dict[str, object]


def fitting(program: Program, settings: dict[str, object]) -> dict[str, object]:
    """The settings that a program still has and that still fit."""
    made: dict[str, object] = {}
    for name, value in settings.items():
        with contextlib.suppress(RunProblem):
            program.values_of({name: value})
            made[name] = value
    return made


class OpenRule(QObject):
    """Compiles the open script aside.

    ``compiled`` tells a new program with a view that was made at once, ``changed`` other settings, ``failed`` an error
    that nobody foresaw.
    """

    problems_changed = pyqtSignal(object)
    settings_changed = pyqtSignal()
    compiled = pyqtSignal(object)
    changed = pyqtSignal()
    failed = pyqtSignal(object)
    told = pyqtSignal(str)

    def __init__(
        self, script: OpenScript, workspace: Workspace, library: BarLibrary, jobs: Jobs, parent: QObject | None = None
    ):
        super().__init__(parent)
        self._script, self._workspace, self._library, self._jobs = script, workspace, library, jobs
        self.problems: tuple[Problem, ...] = ()
        self.program: Program | None = None
        self.settings: dict[str, object] = {}
        #: Gives what makes a view of the place that is looked at, and what that depends on; set by who looks.
        self.prepare: Callable[[], tuple[Look, object]] | None = None
        self._typing = QTimer(self, singleShot=True, interval=_TYPING_PAUSE_MS)
        self._typing.timeout.connect(self.compile)
        self._of: Path | None = None
        script.opened.connect(lambda _: self._opened())

    def _opened(self) -> None:
        """Compiles what was opened; the program of another script is none of this one, whatever comes of its text."""
        if self._script.path != self._of:
            self._of, self.program = self._script.path, None
        self.compile()

    def open(self, path: Path, settings: dict[str, object] | None = None) -> None:
        """Opens a script file, with settings of its own if given; what was open is saved."""
        before, self.settings = self.settings, dict(settings or {})
        if not self._script.open(path):
            self.settings = before

    def new(self, title: str) -> Path:
        """Makes a script file with a rule to start from, and opens it. Raises `OSError`."""
        path = self._workspace.script_folder.free_path(title)
        write_atomic(path, NEW_SCRIPT.format(title=title.replace('"', "'")))
        self.open(path)
        return path

    def set_text(self, text: str) -> None:
        """Takes what was typed; it is noted at once, compiled after a short pause and saved after a longer one."""
        if text == self._script.text:
            return
        self._script.type(text)
        self._typing.start()

    def compile(self) -> None:
        """Compiles the text as it is now, and looks with it at once."""
        assert self.prepare is not None
        text, settings, known = self._script.text, dict(self.settings), frozenset(self._library.infos)
        shelf, (look, asked) = self._workspace.shelf(text), self.prepare()

        def work(ticket: Ticket) -> Compilation:
            try:
                program = compile_script(text, shelf, ticket.cancelled)
            except ScriptError as error:
                return Compilation(error.problems, None, None, asked, settings)
            missing = unknown_symbols(program.foreign, known)
            seen = look(program, fitting(program, settings), ticket.cancelled)
            return Compilation((*program.problems, *missing), program, seen, asked, settings)

        self._jobs.stop("chart")
        self._jobs.start("compile", work, self._take, self.failed.emit)

    def _take(self, made: Compilation) -> None:
        self.problems, program = made.problems, made.program
        asked_with = made.settings == self.settings
        self.problems_changed.emit(self.problems)
        if program is None:
            return
        before = self.program.settings if self.program else ()
        self.program = program
        self.settings = fitting(program, self.settings)
        if program.settings != before:
            self.settings_changed.emit()
        self.compiled.emit(made if asked_with else None)

    def set_setting(self, name: str, value: object) -> None:
        """Changes a setting of the open script; nothing is compiled again."""
        if self.program is None:
            return
        try:
            self.program.values_of({name: value})
        except RunProblem as error:
            self.told.emit(str(error))
            return
        self.settings[name] = value
        self.changed.emit()

    def drop_settings(self) -> None:
        """Every setting as the script has it."""
        self.settings.clear()
        self.changed.emit()

    def look_again(self) -> None:
        """Symbols have come or gone: whether those that the script names are there may be otherwise now."""
        if any(p.is_error and p.code != "R214" for p in self.problems):
            self.changed.emit()
        else:
            self.compile()

    @property
    def waiting(self) -> bool:
        """Whether something was typed that is not yet compiled."""
        return self._typing.isActive()

    def stop(self) -> None:
        """Compiles no more."""
        self._typing.stop()
