"""The user's own folders: bars, scripts, lists, and what the desk remembers. XDG places."""

from __future__ import annotations

import contextlib
import errno
import shutil
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

from oakladder.disk import write_atomic
from oakladder.user.scripts import ScriptFolder

if TYPE_CHECKING:  # each is loaded when it is asked for: who checks a script waits for no bar library
    from oakladder.bars.store.library import BarLibrary
    from oakladder.rung.other_scripts import OtherScripts
    from oakladder.user.lists import Watchlists
    from oakladder.user.notebooks import Notebooks
    from oakladder.user.save_events import Event
    from oakladder.user.saving import Keeper
    from oakladder.user.scans import SavedScans
    from oakladder.user.state import DeskState
    from oakladder.user.versions import Versions


@dataclass(slots=True)
class Workspace:
    """Everything of the user's, in two folders."""

    data: Path
    config: Path
    #: Sentences about what was found damaged or out of reach, for whoever shows them.
    notices: list[str] = field(default_factory=list)

    @classmethod
    def default(cls) -> Workspace:
        return cls(Path(platformdirs.user_data_dir("oakladder")), Path(platformdirs.user_config_dir("oakladder")))

    # --- bars -------------------------------------------------------------------------------------

    @property
    def _pointer(self) -> Path:
        return self.config / "library.txt"

    @property
    def library_folder(self) -> Path:
        """Where the bars are: beside the scripts, or where the user has moved them."""
        try:
            said = self._pointer.read_text(encoding="utf-8").split("\n")
        except (OSError, UnicodeDecodeError):
            said = []
        places = [Path(line.strip()) for line in said if line.strip()]
        found = next((p for p in places if p.is_dir()), None)
        if places and found is None:
            notice = f"The folder of the bars, {places[0]}, is not there. Until it is, the bars beside the scripts are shown."
            if notice not in self.notices:
                self.notices.append(notice)
        return found or self.data / "bars"

    def move_library(self, folder: Path) -> None:
        """Moves the bars to another folder, which must be empty or not there. Raises `OSError`.

        Broken off at any moment, the bars are whole in one of the two places and are found there.
        """
        folder, old = folder.absolute(), self.library().folder
        if folder.exists() and any(folder.iterdir()):
            raise FileExistsError(errno.EEXIST, "the folder is not empty")
        if folder.exists():
            folder.rmdir()
        folder.parent.mkdir(parents=True, exist_ok=True)
        if folder.parent.stat().st_dev == old.lstat().st_dev:
            write_atomic(self._pointer, f"{folder}\n{old}\n")  # whichever of the two is there
            old.rename(folder)
            write_atomic(self._pointer, f"{folder}\n")
        else:
            self._copy_library(old, folder)

    def _copy_library(self, old: Path, folder: Path) -> None:
        """Moves the bars to another disk."""
        copied = folder.with_name(f".{folder.name}.moving")
        shutil.rmtree(copied, ignore_errors=True)
        try:
            shutil.copytree(old, copied)
            copied.rename(folder)
        except (OSError, shutil.Error) as error:
            shutil.rmtree(copied, ignore_errors=True)
            raise _plain_error(error) from None
        write_atomic(self._pointer, f"{folder}\n")
        if old.is_symlink():
            old.unlink()
        else:
            shutil.rmtree(old, ignore_errors=True)

    def library(self) -> BarLibrary:
        """The bar library, with the demo market in it from the first use on. Raises `DataProblem`."""
        from oakladder.bars.store.library import BarLibrary
        from oakladder.demo import upkeep

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

    def shelf(self, text: str, beside: Path | None = None) -> OtherScripts:
        """The scripts that a script can `use`, in the folder and ``beside`` it; nothing is read unless it does."""
        return self.script_folder.shelf(text, beside)

    @property
    def versions(self) -> Versions:
        """Earlier versions of scripts."""
        from oakladder.user.versions import Versions

        return Versions(self.data / "versions")

    def keeper(self, tell: Callable[[Event], None]) -> Keeper:
        """What keeps the texts of open scripts; not started yet."""
        from oakladder.user.journal import Journal
        from oakladder.user.saving import Keeper

        with contextlib.suppress(OSError):  # they stay where they are, then
            self.versions.take_over(self.data / "scripts" / ".history")
        return Keeper(self.script_folder, self.versions, Journal(self.data / "journal"), tell)

    def notebooks(self) -> Notebooks:
        """What was tried of each rule."""
        from oakladder.user.notebooks import Notebooks

        return Notebooks(self.data / "notebooks", self.data / "scripts", self.notices.append)

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


def _plain_error(error: Exception) -> OSError:
    """The first reason of an error of `shutil`, which gathers one for each file in texts."""
    if isinstance(error, shutil.Error) and error.args and isinstance(error.args[0], list):
        for _, _, reason in error.args[0]:
            if "Errno" in str(reason):
                number = str(reason).partition("Errno ")[2].partition("]")[0]
                return OSError(int(number) if number.isdigit() else errno.EIO, str(reason))
        return OSError(errno.EIO, "not everything could be copied")
    return error if isinstance(error, OSError) else OSError(errno.EIO, str(error))
