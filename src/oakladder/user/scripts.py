"""The folder of scripts: plain files that are the user's own, with the demo scripts in it from the first time on."""

from __future__ import annotations

import contextlib
import logging
import re
from dataclasses import dataclass, replace
from importlib.resources import files
from pathlib import Path

from oakladder.disk import TooLarge, is_regular, read_regular, sweep, why, write_atomic
from oakladder.file_names import free_path
from oakladder.rung.other_scripts import OtherScripts
from oakladder.rung.read.blocks import MAX_BYTES

_log = logging.getLogger(__name__)
#: The longest script file.
MAX_SCRIPT_BYTES = MAX_BYTES
#: Says which demo scripts have been given, so that one that the user took away stays away.
_GIVEN = ".given"
#: No more files than these are looked at beside a script: it may stand anywhere.
_MOST_BESIDE = 200
_BOM = b"\xef\xbb\xbf"


class ScriptFileProblem(Exception):
    """A script file that cannot be read or written; the text says why and what to do."""


@dataclass(frozen=True, slots=True)
class ScriptText:
    """A script as stored: lines end in a line feed here, whatever the file's line endings."""

    text: str
    crlf: bool = False
    bom: bool = False

    @classmethod
    def of(cls, raw: bytes) -> ScriptText:
        """From the bytes of a file. Raises `UnicodeDecodeError`."""
        text = raw.decode("utf-8-sig")
        crlf = "\r\n" in text and not re.search(r"(?<!\r)\n", text)
        return cls(text.replace("\r\n", "\n") if crlf else text, crlf, raw.startswith(_BOM))

    def raw(self) -> bytes:
        """The bytes of the file. Halves of signs, which no file can hold, become question marks."""
        text = self.text.replace("\n", "\r\n") if self.crlf else self.text
        return (_BOM if self.bom else b"") + text.encode("utf-8", "replace")

    def with_text(self, text: str) -> ScriptText:
        """Another text, written in the same manner."""
        return replace(self, text=text)


def read_script_file(path: Path) -> ScriptText:
    """A script as stored. Raises `ScriptFileProblem` for any other file."""
    try:
        return ScriptText.of(read_regular(path, MAX_SCRIPT_BYTES))
    except TooLarge as error:
        raise ScriptFileProblem(
            f"{path.name} has {error.size:,} bytes; a script has at most {error.most:,}. Is it the right file?"
        ) from None
    except FileNotFoundError:
        raise ScriptFileProblem(f"There is no script {path}.") from None
    except UnicodeDecodeError:
        raise ScriptFileProblem(f"{path.name} is not UTF-8 text, so it cannot be a script. Save it as UTF-8.") from None
    except OSError as error:
        raise ScriptFileProblem(f"{path.name} cannot be read: {why(error)}.") from None
    except ValueError:
        raise ScriptFileProblem("No file can have the name of this script. Choose another one.") from None


def read_script(path: Path) -> str:
    """A script's text. Raises `ScriptFileProblem` for any other file."""
    return read_script_file(path).text


def fits_in_a_file(text: str) -> bool:
    """Whether a text is no longer than a script may be."""
    return len(text) <= MAX_SCRIPT_BYTES // 4 or len(text.encode("utf-8", "replace")) <= MAX_SCRIPT_BYTES


def title_of(script: str) -> str:
    """What a script without a title is called: its file's name as people read it."""
    return script.removesuffix(".rung").replace("_", " ").capitalize()


class ScriptFolder:
    """All scripts of a user."""

    def __init__(self, folder: Path):
        self._folder = folder

    @property
    def place(self) -> Path:
        """Where the folder is or will be."""
        return self._folder

    @property
    def folder(self) -> Path:
        """The folder, made with the demo scripts where it is not there, if that can be done."""
        try:
            self.prepare()
        except OSError as error:  # writers get the error; existing scripts can be read all the same
            _log.warning("the folder of scripts cannot be prepared: %s", error)
        return self._folder

    def prepare(self) -> None:
        """Gives the demo scripts that have not been given yet. Broken off, it goes on the next time. Raises `OSError`."""
        note = self._folder / _GIVEN
        try:
            given = read_regular(note, MAX_SCRIPT_BYTES).decode("utf-8").split()
        except (FileNotFoundError, UnicodeDecodeError):
            if any(self._folder.glob("*.rung")):
                return  # a folder of the user's own, or one from before the note was kept
            given = []
            write_atomic(note, "", durable=False)
            sweep(self._folder)
        missing = [s for s in _demos() if s.name not in given]
        for source in missing:
            path = self._folder / source.name
            if not path.exists():
                write_atomic(path, source.read_bytes(), durable=False)
            given.append(source.name)
            write_atomic(note, "".join(f"{name}\n" for name in given), durable=False)

    def files(self) -> list[Path]:
        """Every script, by name; a folder, pipe or device of such a name is none."""
        return sorted(filter(is_regular, self.folder.glob("*.rung")), key=lambda p: p.stem.lower())

    def other_scripts(self, text: str, beside: Path | None = None) -> OtherScripts:
        """The scripts that a script can `use`, by their titles and by the names of their files; scripts
        ``beside`` it come first. Nothing is read unless it takes from one."""
        if not re.search(r"^use\b", text, re.MULTILINE):
            return OtherScripts((), str(self._folder))
        near = [] if beside is None or beside.parent == self._folder else sorted(beside.parent.glob("*.rung"))
        made: dict[str, str] = {}
        for path in [*near[:_MOST_BESIDE], *self.files()]:
            if beside is not None and path == beside:
                continue
            with contextlib.suppress(ScriptFileProblem):
                other = read_script(path)
                found = re.search(r'^title "([^"\n]*)"', other, re.MULTILINE)
                for name in (found.group(1) if found else path.stem, path.stem, path.name):
                    made.setdefault(name, other)
        return OtherScripts(tuple(made.items()), str(self._folder))

    def free_path(self, title: str) -> Path:
        """A file for a new script of that title that is not there yet."""
        stem = "".join(c if c.isalnum() else "_" for c in title.lower()).strip("_")[:60] or "script"
        return free_path(self.folder, stem, ".rung")


def _demos() -> list[Path]:
    folder = Path(str(files("oakladder").joinpath("demo", "scripts")))
    return sorted(folder.glob("*.rung"))
