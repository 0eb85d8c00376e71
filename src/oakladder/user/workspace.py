"""The user's own folders: bars, scripts, lists, and what the desk remembers. XDG places."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

from oakladder.disk import is_regular, read_text, write_atomic
from oakladder.user.scripts import ScriptFolder

if TYPE_CHECKING:  # each is loaded on first use: checking a script needs no bar library
    from oakladder.bars.store.library import BarLibrary
    from oakladder.rung.other_scripts import OtherScripts
    from oakladder.user.autosave import AutosaveWorker
    from oakladder.user.lists import Watchlists
    from oakladder.user.notebooks import Notebooks
    from oakladder.user.save_events import Event
    from oakladder.user.scans import SavedScans
    from oakladder.user.seals import Seals
    from oakladder.user.state import DeskState
    from oakladder.user.versions import Versions


@dataclass(slots=True)
class Workspace:
    """Everything of the user's, in two folders."""

    data: Path
    config: Path
    #: Messages about damaged or unreachable files, for the caller to show.
    notices: list[str] = field(default_factory=list)

    @classmethod
    def default(cls) -> Workspace:
        return cls(Path(platformdirs.user_data_dir("oakladder")), Path(platformdirs.user_config_dir("oakladder")))

    def copy_into(self, folder: Path) -> Workspace:
        """A copy whose scripts, notebooks, lists and state are its own, over the same bars: what is written into it
        stays in ``folder``. Raises `DataProblem`, `OSError`."""
        made = Workspace(folder / "data", folder / "config")
        write_atomic(made._pointer, f"{self.library().folder}\n", durable=False)
        for source, target in (
            (self.data / "scripts", made.data / "scripts"),
            (self.data / "notebooks", made.data / "notebooks"),
            (self.data / "seals", made.data / "seals"),
            (self.config, made.config),
        ):
            for path in filter(is_regular, source.glob("*")):
                if not (target / path.name).exists():
                    target.mkdir(parents=True, exist_ok=True)
                    shutil.copyfile(path, target / path.name)
        return made

    # --- bars -------------------------------------------------------------------------------------

    @property
    def _pointer(self) -> Path:
        return self.config / "library.txt"

    @property
    def _said_places(self) -> list[Path]:
        """Where the user has moved the bars, the newest place first; none where they are beside the scripts."""
        try:
            return [Path(line.strip()) for line in read_text(self._pointer).split("\n") if line.strip()]
        except (OSError, UnicodeDecodeError):
            return []

    @property
    def missing_library(self) -> Path | None:
        """The folder that the bars were moved to, where it is missing: its disk is not connected, most likely."""
        from oakladder.bars.store.access import place_of

        places = self._said_places or [self.data / "bars"]
        found = next((p for p in places if p.is_dir()), places[0])
        place = place_of(found)
        return None if place.is_dir() or (place == found and not self._said_places) else place

    @property
    def library_folder(self) -> Path:
        """Where the bars are: beside the scripts, or where the user has moved them. Raises `DataProblem`."""
        from oakladder.bars.store.access import note_in, place_of

        missing = self.missing_library
        beside = self.data / "bars"
        if missing is None:
            return place_of(next((p for p in self._said_places if p.is_dir()), beside))
        meanwhile = beside if note_in(beside) is None else self.data / "bars-meanwhile"
        notice = f"The folder of the bars, {missing}, is missing. Until it is back, those in {meanwhile} are shown."
        if notice not in self.notices:
            self.notices.append(notice)
        return meanwhile

    def move_library(
        self,
        folder: Path,
        *,
        progress: Callable[[float], None] | None = None,
        cancelled: Callable[[], bool] | None = None,
    ) -> None:
        """Moves the bars to another folder, which must be empty or missing. Raises as `moving.move`.

        Broken off at any moment, the bars are whole in one of the two places and are found there.
        """
        from oakladder.bars.store.moving import move

        def point(places: Sequence[Path]) -> None:
            write_atomic(self._pointer, "".join(f"{place}\n" for place in places))

        move(self.library(), folder, point, progress=progress, cancelled=cancelled)

    def library(self) -> BarLibrary:
        """The bar library, with the demo market in it from the first use on. Raises `DataProblem`."""
        from oakladder.bars.store.library import BarLibrary
        from oakladder.bars.store.moving import finish
        from oakladder.demo import upkeep

        if len(places := self._said_places) > 1:  # a move was broken off
            finish(*places[:2])
        library = BarLibrary(self.library_folder)
        upkeep.prepare(library)
        return library

    # --- scripts ----------------------------------------------------------------------------------

    @property
    def script_folder(self) -> ScriptFolder:
        return ScriptFolder(self.data / "scripts")

    @property
    def scripts(self) -> Path:
        """The folder of scripts, with the demo scripts in it from the first time on."""
        return self.script_folder.folder

    def script_files(self) -> list[Path]:
        return self.script_folder.files()

    def other_scripts(self, text: str, beside: Path | None = None) -> OtherScripts:
        """The scripts that a script can `use`, in the folder and ``beside`` it; nothing is read unless it does."""
        return self.script_folder.other_scripts(text, beside)

    @property
    def versions(self) -> Versions:
        """Earlier versions of scripts."""
        from oakladder.user.versions import Versions

        return Versions(self.data / "versions")

    def autosave(self, tell: Callable[[Event], None]) -> AutosaveWorker:
        """What keeps the texts of open scripts; not started yet."""
        from oakladder.user.autosave import AutosaveWorker
        from oakladder.user.journal import Journal

        with contextlib.suppress(OSError):  # they stay where they are, then
            self.versions.take_over(self.data / "scripts" / ".history")
        return AutosaveWorker(self.script_folder, self.versions, Journal(self.data / "journal"), tell)

    def notebooks(self) -> Notebooks:
        """What was tried of each rule."""
        from oakladder.user.notebooks import Notebooks

        return Notebooks(self.data / "notebooks", self.data / "scripts", self.notices.append)

    def seals(self) -> Seals:
        """Which days of the bars are sealed, and which rules have seen them."""
        from oakladder.user.seals import Seals

        return Seals(self.data / "seals" / "log.jsonl", self.notices.append)

    # --- lists, scans, and what the desk remembers ------------------------------------------------

    def lists(self) -> Watchlists:
        from oakladder.user.lists import Watchlists

        return Watchlists(self.config / "watchlists.json", self.notices.append)

    def scans(self) -> SavedScans:
        from oakladder.user.scans import SavedScans

        return SavedScans(self.config / "scans.json", self.notices.append)

    def remembered(self) -> DeskState:
        """The desk's state from last time; what is damaged in it is as at the first start."""
        from oakladder.user.state import read_state

        return read_state(self.config / "desk.json", self.notices.append)

    def remember(self, state: DeskState) -> None:
        """Writes the desk's state. Raises `OSError`."""
        from oakladder.user.state import write_state

        write_state(self.config / "desk.json", state)
