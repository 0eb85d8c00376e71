"""Scripts overlaid on the chart beside the open one, each with private settings."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.jobs import sentence_of
from oakladder.app.seals import SealKeeper
from oakladder.bars.panel import Panel
from oakladder.engine.picture.draw import draw, merged
from oakladder.engine.picture.parts import Paint, Picture
from oakladder.engine.picture.tint import tint_word, tinted
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import run
from oakladder.rung import Program, RunProblem, ScriptError, compile_script
from oakladder.user.scans import plain_settings
from oakladder.user.scripts import ScriptFileProblem, read_script
from oakladder.user.workspace import Workspace


@dataclass(slots=True)
class ScriptUse:
    """One use of a script: a file of the user's, or (without a path) a text such as a single line."""

    title: str
    path: Path | None = None
    text: str = ""
    settings: dict[str, object] = field(default_factory=dict)

    def source(self) -> str:
        """The text of the script. Raises `ScriptFileProblem`."""
        return read_script(self.path) if self.path is not None else self.text

    @property
    def caption(self) -> str:
        """What the legend calls it: its title, with the settings that differ."""
        given = ", ".join(f"{name} {value}" for name, value in _short(self.settings).items())
        return f"{self.title} ({given})" if given else self.title

    def as_plain(self) -> dict[str, object]:
        """As it is written down."""
        path = self.path.name if self.path is not None else ""
        return {"title": self.title, "file": path, "text": self.text, "settings": self.settings}


def _short(settings: Mapping[str, object]) -> dict[str, str]:
    return {name: f"{v:g}" if isinstance(v, float) else str(v) for name, v in settings.items()}


def read_use(state: object, folder: Path) -> ScriptUse | None:
    """A use from what was written down; None if that makes no sense or its file is gone."""
    if not isinstance(state, dict) or not isinstance(state.get("title"), str):
        return None
    name, text, settings = state.get("file"), state.get("text"), plain_settings(state.get("settings"))
    path = folder / Path(name).name if isinstance(name, str) and name else None
    try:
        if path is not None and not path.exists():
            return None
    except (OSError, ValueError):  # a name that no file can have
        return None
    return ScriptUse(state["title"], path, text if isinstance(text, str) else "", settings)


def line_use(expression: str) -> ScriptUse:
    """A plain line beside the script: any expression of the language."""
    return ScriptUse(expression, None, f"rung 1\nline {expression} named {_quoted(expression)}\n")


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "").replace('"', "'").replace("{", "").replace("}", "") + '"'


def compiled(use: ScriptUse, workspace: Workspace, cancelled: Callable[[], bool] | None = None) -> Program:
    """The program of a use. Raises `ScriptError`, `ScriptFileProblem`, `Cancelled`."""
    text = use.source()
    return compile_script(text, workspace.other_scripts(text), cancelled)


def _drawn(
    use: ScriptUse,
    workspace: Workspace,
    panel: Panel,
    paint: Paint,
    seals: SealKeeper,
    cancelled: Callable[[], bool] | None,
) -> Picture:
    program = compiled(use, workspace, cancelled)
    sealed = seals.of_script(use.path).hidden(program, panel.symbols)
    result = run(program, panel, use.settings, context=RunContext(cancelled=cancelled))
    return draw(result, paint, cancelled, sealed)


class ScriptsBeside(QObject):
    """The overlays of the chart. ``changed`` reports that overlays or their settings have changed;
    ``came_or_went`` that there are others; ``told`` a sentence for the user."""

    changed = pyqtSignal()
    came_or_went = pyqtSignal()
    told = pyqtSignal(str)

    def __init__(self, workspace: Workspace, parent: QObject | None = None):
        super().__init__(parent)
        self._workspace = workspace
        self.uses: list[ScriptUse] = []

    def restore(self, state: Sequence[object]) -> None:
        """Takes what was written down; what is gone is left out."""
        found = (read_use(u, self._workspace.scripts) for u in state)
        self.uses = [use for use in found if use is not None]
        self.came_or_went.emit()

    def add(self, use: ScriptUse) -> None:
        """Puts another script, or the same with other settings, or a line beside the open one."""
        self.uses = [*self.uses, use]
        self._tell()

    def remove(self, k: int) -> None:
        """Takes one of them away."""
        self.uses = [u for j, u in enumerate(self.uses) if j != k]
        self._tell()

    def set(self, k: int, name: str, value: object) -> None:
        """Changes a setting of one of them."""
        try:
            compiled(self.uses[k], self._workspace).values_of({name: value})
        except (RunProblem, ScriptError, ScriptFileProblem) as error:
            self.told.emit(sentence_of(error))
            return
        # Replaced, never modified: background jobs read it meanwhile.
        changed = replace(self.uses[k], settings={**self.uses[k].settings, name: value})
        self.uses = [changed if j == k else use for j, use in enumerate(self.uses)]
        self.changed.emit()

    def scripts_written(self, names: Set[str]) -> None:
        """Other programs have written scripts."""
        if any(use.path is not None and use.path.name in names for use in self.uses):
            self.changed.emit()

    def _tell(self) -> None:
        self.came_or_went.emit()
        self.changed.emit()


def draw_beside(
    uses: list[ScriptUse],
    workspace: Workspace,
    panel: Panel,
    main: Picture | None,
    paint: Paint,
    seals: SealKeeper,
    cancelled: Callable[[], bool] | None = None,
) -> tuple[Picture | None, list[str]]:
    """The picture of the open script with those beside it, and a sentence for each that cannot be shown."""
    made: list[tuple[str, Picture]] = [] if main is None else [("", main)]
    troubles = []
    for k, use in enumerate(uses):
        try:
            picture = _drawn(use, workspace, panel, paint, seals, cancelled)
            made.append((use.caption, tinted(picture, use.caption, paint(tint_word(k)))))
        except ScriptError as error:
            first = next(p for p in error.problems if p.is_error)
            troubles.append(f"{use.caption} is not shown: {first.message} {first.fix}".strip())
        except (RunProblem, ScriptFileProblem) as error:
            troubles.append(f"{use.caption} is not shown: {error}")
    return (merged(made) if made else None), troubles
