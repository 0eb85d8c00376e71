"""The user's own folders: bars, scripts, and what the desk remembers. XDG places, atomic writes."""

from __future__ import annotations

import contextlib
import json
import os
import re
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

    def demo_library(self) -> BarLibrary:
        """The bar library with the demo market in it, made on first use."""
        library = BarLibrary(self.data / "bars")
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
