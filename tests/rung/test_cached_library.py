"""What was read of the library is kept: the same functions, never out of date, never trusted when it is damaged."""

from __future__ import annotations

import ast
import subprocess
import sys
from dataclasses import fields, is_dataclass
from pathlib import Path

import pytest

import oakladder
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
    library.cache_trees()
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
    return tmp_path / "oakladder"


def forget() -> None:
    for known in (library.function, library._cached_trees, library._key):
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
    library.cache_trees()
    forget()
    assert library._cached_trees()
    assert {name: repr(library.function(name)) for name in library.names()} == read


@pytest.mark.parametrize("damage", [b"", b"oak cache 2\n", b"another thing altogether"])
def test_damaged_trees_are_read_anew(nothing_known: Path, damage: bytes) -> None:
    library.cache_trees()
    (kept,) = nothing_known.glob("functions-*.cache")
    kept.write_bytes(damage)
    forget()
    found = library.function("rsi")
    assert found is not None and found.source.startswith("-- ")


def test_another_reader_reads_for_itself(nothing_known: Path, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """What an earlier version of the program has kept is not taken by the next one."""
    library.cache_trees()
    before = library._key()
    forget()
    for changed in ("problems.py", "blocks.py", "grammar.lark", "tree.py", "rsi.rung"):
        copies = []
        for source in library.sources():
            copy = tmp_path / "sources" / changed / source.name
            copy.parent.mkdir(parents=True, exist_ok=True)
            copy.write_bytes(source.read_bytes() + (b"\n" if source.name == changed else b""))
            copies.append(copy)
        monkeypatch.setattr(library, "sources", lambda copies=copies: copies)
        forget()
        assert library._key() != before and not library._cached_trees(), changed


def imported_by(path: Path, seen: set[Path]) -> set[Path]:
    """A module of the program and all that it imports when it is loaded."""
    if path in seen or not path.exists():
        return seen
    seen.add(path)
    top = Path(oakladder.__file__).parent.parent
    for node in ast.parse(path.read_text("utf-8")).body:
        names = []
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("oakladder"):
            names = [node.module, *(f"{node.module}.{a.name}" for a in node.names)]
        elif isinstance(node, ast.Import):
            names = [a.name for a in node.names if a.name.startswith("oakladder")]
        for name in names:
            module = top.joinpath(*name.split("."))
            imported_by(module.with_suffix(".py"), seen)
    return seen


def test_the_key_names_all_that_the_trees_are_made_of() -> None:
    """A tree is made by the reader, of classes that may lie in any module that it imports."""
    named = {Path(str(f)) for f in library.sources()}
    needed = imported_by(Path(blocks.__file__), set()) | imported_by(Path(library.__file__), set())
    assert {p for p in needed if "rung" in p.parts} <= named
    for name in library.names():
        for node in nodes(library.function(name)):
            assert Path(sys.modules[type(node).__module__].__file__ or "") in named


def nodes(node: object) -> list[object]:
    """All objects of our own classes in a tree."""
    if isinstance(node, tuple | list):
        return [n for part in node for n in nodes(part)]
    if not type(node).__module__.startswith("oakladder"):
        return []
    inner = [getattr(node, f.name) for f in fields(node)] if is_dataclass(node) else []
    return [node, *(n for part in inner for n in nodes(part))]
