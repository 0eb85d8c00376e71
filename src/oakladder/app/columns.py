"""Columns of scripts as the Ladder, the Scan and the narrow watchlist show them, and how their cells are asked for."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from oakladder.app.jobs import Jobs, Ticket, sentence_of
from oakladder.app.replay import ReplayController
from oakladder.app.rule import OpenRule
from oakladder.app.seals import SealKeeper
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.columns.fill import ColumnRequest, FilledColumns, fill
from oakladder.rung import Program, RunProblem, ScriptError, compile_script
from oakladder.user.scans import plain_settings, settings_said
from oakladder.user.scripts import ScriptFileProblem, read_script, title_of
from oakladder.user.workspace import Workspace

#: More columns, and timeframes of one, than this are not remembered.
_MOST_COLUMNS, _MOST_FRAMES = 60, 20
#: Script name of a column that follows the script open on the Bench.
OPEN_SCRIPT = ""


@dataclass(slots=True)
class ScriptColumn:
    """A script column over some timeframes, with private settings.

    ``script`` is a file's name, or `OPEN_SCRIPT`; without a ``name`` it is the script's first column or newest signal.
    """

    script: str
    name: str
    timeframes: list[str]
    settings: dict[str, object] = field(default_factory=dict)
    extended: bool = False

    @property
    def caption(self) -> str:
        given = settings_said(self.settings, self.extended)
        return f"{self.name or 'The open script'}{f' ({given})' if given else ''}"

    @property
    def title(self) -> str:
        """The script as people read it; empty for the open one."""
        return title_of(self.script)

    def as_plain(self) -> dict[str, object]:
        return {
            "script": self.script,
            "name": self.name,
            "timeframes": self.timeframes,
            "settings": self.settings,
            "extended": self.extended,
        }


def read_columns(state: object) -> list[ScriptColumn]:
    """Columns from what was written down; what makes no sense is left out."""
    made = []
    for entry in state if isinstance(state, list) else []:
        if not isinstance(entry, dict) or not all(isinstance(entry.get(k), str) for k in ("script", "name")):
            continue
        said = entry.get("timeframes")
        frames = []
        for text in said[:_MOST_FRAMES] if isinstance(said, list) else []:
            with contextlib.suppress(ValueError):
                frames.append(str(Timeframe.parse(str(text))))
        if frames:
            settings, extended = plain_settings(entry.get("settings")), entry.get("extended") is True
            made.append(ScriptColumn(entry["script"], entry["name"], frames, settings, extended))
    return made[:_MOST_COLUMNS]


def open_columns() -> list[ScriptColumn]:
    """What the narrow watchlist shows until something else is chosen: the open script on days and hours."""
    return [ScriptColumn(OPEN_SCRIPT, "", ["1d", "1h"])]


@dataclass(frozen=True, slots=True)
class ColumnPlace:
    """One section: the number of its column, and the timeframe."""

    column: int = -1
    timeframe: str = ""


def places_of(columns: Sequence[ScriptColumn]) -> list[ColumnPlace]:
    """Every section of some columns, from left to right."""
    return [ColumnPlace(k, t) for k, c in enumerate(columns) for t in c.timeframes]


class ColumnJobs:
    """Computes the cells of columns in the background: one job for days and longer, one for each kind of hours."""

    def __init__(
        self,
        jobs: Jobs,
        workspace: Workspace,
        rule: OpenRule,
        replay: ReplayController,
        seals: SealKeeper,
        name: str,
    ):
        self._jobs, self._workspace, self._rule, self._replay = jobs, workspace, rule, replay
        self._seals, self._name = seals, name
        self._asked: list[str] = []

    def ask(
        self,
        columns: Sequence[ScriptColumn],
        places: Sequence[ColumnPlace],
        symbols: list[str],
        then: Callable[[dict[ColumnPlace, FilledColumns]], None],
        progress: Callable[[float], None] | None = None,
    ) -> None:
        """Requests the cells of some sections and delivers them job by job. Earlier requests are dropped."""
        for job in self._asked:
            self._jobs.stop(job)
        kinds: dict[str, list[ColumnPlace]] = {}
        for place in places:
            intraday, extended = Timeframe.parse(place.timeframe).intraday, columns[place.column].extended
            hours = "days" if not intraday else "all hours" if extended else "hours"
            kinds.setdefault(f"{self._name} {hours}", []).append(place)
        self._asked = list(kinds)
        for job, wanted in kinds.items():
            self._start(job, [(p, columns[p.column]) for p in wanted], symbols, then, progress)

    def _start(
        self,
        job: str,
        wanted: list[tuple[ColumnPlace, ScriptColumn]],
        symbols: list[str],
        then: Callable[[dict[ColumnPlace, FilledColumns]], None],
        progress: Callable[[float], None] | None,
    ) -> None:
        source, opened = self._replay.source, (self._rule.program, dict(self._rule.settings))
        seals, open_path = self._seals, self._rule.path

        def work(ticket: Ticket) -> dict[ColumnPlace, FilledColumns]:
            made: dict[ColumnPlace, FilledColumns] = {}
            asks: dict[ColumnPlace, ColumnRequest] = {}
            for place, column in wanted:
                try:
                    ask = self._ask_of(column, Timeframe.parse(place.timeframe), opened, ticket.cancelled)
                    path = open_path if column.script == OPEN_SCRIPT else self._workspace.scripts / column.script
                    asks[place] = with_seal(ask, seals, path, symbols)
                except (ScriptError, ScriptFileProblem, RunProblem) as error:
                    made[place] = FilledColumns(error=error)
            found = fill(list(asks.values()), source, symbols, context=ticket.context())
            return made | dict(zip(asks, found, strict=True))

        def failed(error: Exception) -> None:
            then({place: FilledColumns(error=error) for place, _ in wanted})

        self._jobs.start(job, work, then, failed, progress, slow=True)

    def _ask_of(
        self,
        column: ScriptColumn,
        frame: Timeframe,
        opened: tuple[Program | None, dict[str, object]],
        cancelled: Callable[[], bool],
    ) -> ColumnRequest:
        if column.script == OPEN_SCRIPT:
            program, settings = opened
            if program is None:
                raise RunProblem("The open script has errors.")
            return ColumnRequest(program, column.name or None, frame, settings, column.extended)
        return ask_of(self._workspace, column, frame, cancelled)


def ask_of(
    workspace: Workspace, column: ScriptColumn, frame: Timeframe, cancelled: Callable[[], bool] | None = None
) -> ColumnRequest:
    """The engine request for a column. Raises `ScriptError`, `ScriptFileProblem`, `RunProblem`, `Cancelled`."""
    text = read_script(workspace.scripts / column.script)
    program = compile_script(text, workspace.other_scripts(text), cancelled)
    return ColumnRequest(program, column.name or None, frame, column.settings, column.extended)


def with_seal(ask: ColumnRequest, seals: SealKeeper, path: Path | None, symbols: Sequence[str]) -> ColumnRequest:
    """A request without the results of some symbols that are sealed for a script. Raises what reading bars raises."""
    return replace(ask, sealed=seals.of_script(path).hidden(ask.program, symbols))


def troubles_of(made: dict[ColumnPlace, FilledColumns]) -> list[str]:
    """Messages for columns that failed as a whole; a failure of one symbol is shown by its cell."""
    return [sentence_of(column.error) for column in made.values() if column.error is not None]
