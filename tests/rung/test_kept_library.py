"""What was read of the library is kept: the same functions, never out of date, never trusted when it is damaged."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from oakladder.rung import library
from oakladder.rung.read import blocks

#: Reads two functions in a process of its own and tells how often a text had to be read for it.
READING = """
import sys
from oakladder.rung import library
read = []
real = library.parse
library.parse = lambda text: read.append(text) or real(text)
made = [library.function(name) for name in ("rsi", "atr")]
print(len(read), [f.about for f in made] == [library.function(f.name).about for f in made])
if sys.argv[1:] == ["keep"]:
    library.keep()
"""


def reading(home: Path, *words: str) -> int:
    """How many texts were read."""
    done = subprocess.run(
        [sys.executable, "-c", READING, *words], env={"XDG_CACHE_HOME": str(home)}, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    count, same = done.stdout.split()
    assert same == "True"
    return int(count)


@pytest.fixture
def nothing_known(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A cache of its own, and nothing read yet."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    forget()
    return tmp_path / "oakladder" / "library"


def forget() -> None:
    for known in (library.function, library._kept, library._key):
        known.cache_clear()


@pytest.fixture(autouse=True)
def forgotten() -> object:
    yield
    forget()


def test_nothing_is_read_again_at_the_next_start(tmp_path: Path) -> None:
    assert reading(tmp_path, "keep") == 2
    assert reading(tmp_path) == 0


def test_what_is_kept_is_what_would_be_read(nothing_known: Path) -> None:
    read = {name: repr(library.function(name)) for name in library.names()}  # a none is not equal to itself
    library.keep()
    forget()
    assert library._kept()
    assert {name: repr(library.function(name)) for name in library.names()} == read


@pytest.mark.parametrize("damage", [b"", b"oak shelf 1\n", b"another thing altogether"])
def test_damaged_trees_are_read_anew(nothing_known: Path, damage: bytes) -> None:
    library.keep()
    (kept,) = nothing_known.glob("*.kept")
    kept.write_bytes(damage)
    forget()
    found = library.function("rsi")
    assert found is not None and found.source.startswith("-- ")


def test_another_reader_reads_for_itself(nothing_known: Path, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """What an earlier version of the program has kept is not taken by the next one."""
    library.keep()
    before = library._key()
    forget()
    changed = tmp_path / "sources"
    (changed / "read").mkdir(parents=True)
    for path in (Path(blocks.__file__), *(Path(blocks.__file__).parents[1].glob("*.py"))):
        (changed / ("read" if path.parent.name == "read" else "") / path.name).write_bytes(path.read_bytes() + b"\n")
    real = library.files
    monkeypatch.setattr(library, "files", lambda package: changed if package == "oakladder.rung" else real(package))
    assert library._key() != before and not library._kept()
