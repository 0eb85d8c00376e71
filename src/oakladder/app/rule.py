"""The rule that the open script is: compiled as it is typed, with its problems and its settings."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Set
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.basis import BasisTracker, Part
from oakladder.app.chart_view import ChartView, Look
from oakladder.app.jobs import Jobs, Ticket, sentence_of
from oakladder.app.open_script import OpenScript
from oakladder.app.symbols import Symbols
from oakladder.app.timers import single_shot
from oakladder.disk import why, write_atomic
from oakladder.rung import Problem, Program, RunProblem, ScriptError, compile_script
from oakladder.rung.other_scripts import OtherScripts
from oakladder.rung.program import unknown_symbols
from oakladder.user.scripts import title_of
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
    """Whether a text is still the template of a new script, under any title."""
    return re.sub(r'^title ".*"$', 'title "{title}"', text, count=1, flags=re.MULTILINE) == NEW_SCRIPT


@dataclass(frozen=True, slots=True)
class Compilation:
    """The result of compiling a text: its problems, and for valid text the program and a view of the place asked for."""

    problems: tuple[Problem, ...]
    program: Program | None
    seen: tuple[ChartView, str] | None
    asked: object
    settings: dict[str, object]
    text: str


def fitting(program: Program, settings: dict[str, object]) -> dict[str, object]:
    """The settings that a program still has and that still fit."""
    made: dict[str, object] = {}
    for name, value in settings.items():
        with contextlib.suppress(RunProblem):
            program.values_of({name: value})
            made[name] = value
    return made


class OpenRule(QObject):
    """Compiles the open script in the background.

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
        self,
        script: OpenScript,
        workspace: Workspace,
        symbols: Symbols,
        jobs: Jobs,
        basis: BasisTracker,
        parent: QObject | None = None,
    ):
        super().__init__(parent)
        self._script, self._workspace, self._symbols, self._jobs = script, workspace, symbols, jobs
        self._basis = basis
        self.problems: tuple[Problem, ...] = ()
        self.program: Program | None = None
        self.settings: dict[str, object] = {}
        #: Returns the view factory of the current place and what that depends on; set by the chart controller.
        self.prepare: Callable[[], tuple[Look, object]] | None = None
        self._typing = single_shot(self, _TYPING_PAUSE_MS)
        self._typing.timeout.connect(self.compile)
        self._of: Path | None = None
        #: What was there to be used when the text was compiled.
        self._other_scripts: OtherScripts | None = None
        #: The text whose problems are known, and the settings reported last.
        self._judged: str | None = None
        self._told: object = None
        #: Whether a chart that was asked for made way for a text that is compiled.
        self._chart_due = False
        basis.read(Part.RULE, lambda: (script.path, self._text_that_counts(), self._other_scripts))
        basis.read(Part.SETTINGS, self.values)
        for signal in (self.problems_changed, self.compiled, self.changed, script.opened):
            signal.connect(basis.note)
        script.opened.connect(lambda _: self._opened())

    def _opened(self) -> None:
        """Compiles what was opened; the program of another script is none of this one, whatever comes of its text."""
        if self._script.path != self._of:
            self._of, self.program, self.problems, self._judged = self._script.path, None, (), None
        self.compile()

    def _text_that_counts(self) -> str:
        """The text that is shown everywhere: that of the editor, or once it is known to have errors the last sound one,
        empty where there is none."""
        text = self._script.text
        if self.program is None:
            return text if self._judged is None else ""
        return self.program.text if self._judged == text else text

    def values(self) -> dict[str, object]:
        """The value of every setting; without a valid text, the values given by the user."""
        if self.program is None:
            return dict(self.settings)
        return {i.name: self.settings.get(i.name, i.default) for i in self.program.settings}

    @property
    def title(self) -> str:
        """What the script is called: its title, or the name of its file."""
        titled = self.program.title if self.program is not None else ""
        return titled or (title_of(self._script.path.name) if self._script.path is not None else "")

    @property
    def is_judged(self) -> bool:
        """Whether the errors of the text are known."""
        return self._judged is not None

    @property
    def path(self) -> Path | None:
        """The file of the open script; None without one."""
        return self._script.path

    def open(self, path: Path, settings: dict[str, object] | None = None) -> None:
        """Opens a script file, optionally with given settings; the previous script is saved."""
        before, self.settings = self.settings, dict(settings or {})
        if not self._script.open(path):
            self.settings = before

    def new(self, title: str) -> None:
        """Makes a script file with a rule to start from, and opens it once it is there."""

        def write() -> Path:
            path = self._workspace.script_folder.free_path(title)
            write_atomic(path, NEW_SCRIPT.format(title=title.replace('"', "'")))
            return path

        self._jobs.write(write, self.open, self._not_made)

    def _not_made(self, error: Exception) -> None:
        reason = f"{why(error)}." if isinstance(error, OSError) else sentence_of(error)
        self.told.emit(f"The script cannot be created: {reason}")

    def set_text(self, text: str) -> None:
        """Takes what was typed; it is noted at once, compiled after a short pause and saved after a longer one."""
        if text == self._script.text:
            return
        self._script.type(text)
        self._basis.note()
        self._typing.start()

    def compile(self) -> None:
        """Compiles the text as it is now, and looks with it at once."""
        assert self.prepare is not None
        text, settings, known = self._script.text, dict(self.settings), frozenset(self._symbols.infos)
        other_scripts, (look, asked) = self._workspace.other_scripts(text), self.prepare()
        self._other_scripts = other_scripts

        def work(ticket: Ticket) -> Compilation:
            try:
                program = compile_script(text, other_scripts, ticket.cancelled)
            except ScriptError as error:
                return Compilation(error.problems, None, None, asked, settings, text)
            missing = unknown_symbols(program.foreign, known)
            seen = look(program, fitting(program, settings), ticket.cancelled)
            return Compilation((*program.problems, *missing), program, seen, asked, settings, text)

        self._chart_due = self._chart_due or self._jobs.busy_with("chart")
        self._jobs.stop("chart")
        self._jobs.start("compile", work, self._take, self.failed.emit)

    def _take(self, made: Compilation) -> None:
        first = self._judged is None
        chart_due, self._chart_due = self._chart_due, False
        self.problems, program, self._judged = made.problems, made.program, made.text
        asked_with = made.settings == self.settings
        self.problems_changed.emit(self.problems)
        if program is None:
            if first:
                self._show_without()
            elif chart_due:
                self.changed.emit()
            return
        self.program = program
        self.settings = fitting(program, self.settings)
        self._basis.settle(Part.SETTINGS)
        told = program.settings, self.values()
        if told != self._told:
            self._told = told
            self.settings_changed.emit()
        self.compiled.emit(made if asked_with else None)

    def _show_without(self) -> None:
        """A script was opened of which there is no sound text: what follows from it shows the bars alone."""
        self._told = ((), {})
        self.settings_changed.emit()
        self.changed.emit()

    def set_setting(self, name: str, value: object) -> None:
        """Changes a setting of the open script; nothing is compiled again."""
        if self.program is None:
            return
        try:
            self.program.values_of({name: value})
        except RunProblem as error:
            self.told.emit(str(error))
            self.settings_changed.emit()  # what was entered stands nowhere
            return
        self.settings[name] = value
        self._settings_set()

    def drop_settings(self) -> None:
        """Resets every setting to the script's value."""
        self.settings.clear()
        self._settings_set()

    def _settings_set(self) -> None:
        self.changed.emit()
        if self.program is not None and (told := (self.program.settings, self.values())) != self._told:
            self._told = told
            self.settings_changed.emit()

    def look_again(self) -> None:
        """Compiles again after symbols were added or removed: the script may name some of them."""
        if any(p.is_error and p.code != "R214" for p in self.problems):
            self.changed.emit()
        else:
            self.compile()

    def scripts_written(self, names: Set[str]) -> None:
        """Scripts have been written: one that takes functions from others is compiled again with them."""
        own = self._script.path.name if self._script.path is not None else ""
        if names - {own} and self._workspace.other_scripts(self._script.text) != self._other_scripts:
            self.compile()

    @property
    def waiting(self) -> bool:
        """Whether something was typed that is not yet compiled."""
        return self._typing.isActive()

    def stop(self) -> None:
        """Compiles no more."""
        self._typing.stop()
