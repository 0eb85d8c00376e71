"""The user's own folders: bars, scripts, and what the desk remembers. XDG places, atomic writes."""

from __future__ import annotations

import contextlib
import errno
import json
import os
import re
import shutil
import tempfile
import time
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

import platformdirs

from oakladder.bars import demo
from oakladder.bars.library import BarLibrary

MAX_SCRIPT_BYTES = 1_000_000
_HISTORY = 50


class SharedFile:
    """A JSON file that another copy of the program may write too: what it wrote is read before every change."""

    def __init__(self, path: Path):
        self._path = path
        self._seen: tuple[int, int] | None = None

    def changed(self) -> bool:
        """Whether the file is another than when it was last read or written here."""
        return self._stamp() != self._seen

    def _stamp(self) -> tuple[int, int] | None:
        try:
            facts = self._path.stat()
        except OSError:
            return None
        return facts.st_mtime_ns, facts.st_size

    def read(self) -> object:
        """What the file holds; None where it is not there or spoiled."""
        self._seen = self._stamp()
        try:
            return json.loads(self._path.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return None

    def write(self, plain: object) -> None:
        """Puts something into the file, whole or not at all. Raises `OSError`."""
        write_atomic(self._path, json.dumps(plain, indent=2, ensure_ascii=False) + "\n")
        self._seen = self._stamp()


class ScriptFileProblem(Exception):
    """A script file that cannot be read or written; the text says why and what to do."""


def write_atomic(path: Path, text: str) -> None:
    """Puts a text file in place whole or not at all."""
    path.parent.mkdir(parents=True, exist_ok=True)
    handle, partial = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            file.write(text)
        os.replace(partial, path)
    except OSError:
        Path(partial).unlink(missing_ok=True)
        raise


def read_script(path: Path) -> str:
    """A script's text; raises `ScriptFileProblem` for a file that is none."""
    try:
        size = path.stat().st_size
        if size > MAX_SCRIPT_BYTES:
            raise ScriptFileProblem(
                f"{path.name} has {size:,} bytes; a script has at most {MAX_SCRIPT_BYTES:,}. Is it the right file?"
            )
        return path.read_bytes().decode("utf-8-sig")
    except FileNotFoundError:
        raise ScriptFileProblem(f"There is no script {path}.") from None
    except UnicodeDecodeError:
        raise ScriptFileProblem(f"{path.name} is not UTF-8 text, so it cannot be a script. Save it as UTF-8.") from None
    except OSError as error:
        raise ScriptFileProblem(f"{path.name} cannot be read: {error.strerror}.") from None


@dataclass(slots=True)
class Workspace:
    """Everything of the user's, in two folders."""

    data: Path
    config: Path

    @classmethod
    def default(cls) -> Workspace:
        return cls(Path(platformdirs.user_data_dir("oakladder")), Path(platformdirs.user_config_dir("oakladder")))

    @property
    def library_folder(self) -> Path:
        """Where the bars are: beside the scripts, or where the user has moved them."""
        try:
            said = (self.config / "library.txt").read_text(encoding="utf-8").strip()
        except (OSError, UnicodeDecodeError):
            said = ""
        return Path(said) if said and Path(said).is_dir() else self.data / "bars"

    def move_library(self, folder: Path) -> None:
        """Moves the bars to another folder, which must be empty or not there. Raises `OSError`."""
        folder = folder.absolute()
        if folder.exists() and any(folder.iterdir()):
            raise FileExistsError(errno.EEXIST, "the folder is not empty")
        self.demo_library()
        if folder.exists():
            folder.rmdir()
        folder.parent.mkdir(parents=True, exist_ok=True)
        shutil.move(str(self.library_folder), str(folder))
        write_atomic(self.config / "library.txt", f"{folder}\n")

    def demo_library(self) -> BarLibrary:
        """The bar library with the demo market in it, made on first use."""
        library = BarLibrary(self.library_folder)
        demo.prepare(library)
        return library

    # --- scripts ----------------------------------------------------------------------------------

    @property
    def scripts(self) -> Path:
        """The folder of scripts, with the demo scripts in it from the first time on."""
        folder = self.data / "scripts"
        if not folder.exists():
            for source in files("oakladder").joinpath("demo_scripts").iterdir():
                if source.name.endswith(".rung"):
                    write_atomic(folder / source.name, source.read_text(encoding="utf-8"))
        return folder

    def script_files(self) -> list[Path]:
        return sorted(self.scripts.glob("*.rung"), key=lambda p: p.stem.lower())

    def shelf(self, text: str) -> tuple[tuple[str, str], ...]:
        """The scripts that a script can `use`, title and text of each; nothing is read unless it does."""
        if not re.search(r"^use\b", text, re.MULTILINE):
            return ()
        made = []
        for path in self.script_files():
            with contextlib.suppress(ScriptFileProblem):
                other = read_script(path)
                if found := re.search(r'^title "([^"\n]*)"', other, re.MULTILINE):
                    made.append((found.group(1), other))
        return tuple(made)

    def save_script(self, path: Path, text: str) -> None:
        """Writes a script and keeps what it replaces in its history."""
        if path.exists():
            old = path.read_text(encoding="utf-8", errors="replace")
            if old == text:
                return
            past = path.parent / ".history" / path.stem
            past.mkdir(parents=True, exist_ok=True)
            write_atomic(past / f"{time.time_ns()}.rung", old)
            for stale in sorted(past.glob("*.rung"))[:-_HISTORY]:
                stale.unlink()
        write_atomic(path, text)

    # --- what the desk remembers ------------------------------------------------------------------

    def remembered(self) -> dict[str, object]:
        """The desk's state from last time; empty if there is none or it cannot be read."""
        try:
            found = json.loads((self.config / "desk.json").read_text(encoding="utf-8"))
            return found if isinstance(found, dict) else {}
        except (OSError, ValueError):
            return {}

    def remember(self, state: dict[str, object]) -> None:
        write_atomic(self.config / "desk.json", json.dumps(state, indent=2) + "\n")
