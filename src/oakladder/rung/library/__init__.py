"""The library: functions written in Rung, one file each, in this folder.

A file's comment lines at the top describe it (``-- name: value``); the rest is one or more ``define``s.
The function that the file is named for is public; others in the file are its own helpers.
"""

from __future__ import annotations

import math
import pickle
import re
import sys
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib.resources import files
from importlib.resources.abc import Traversable
from typing import cast

import lark

from oakladder.cache import DiskCache, Section, cache_key
from oakladder.rung import tree as t
from oakladder.rung.kinds import Kind, Unit
from oakladder.rung.read.blocks import parse

#: How names of sources end.
_SOURCES = (".py", ".lark", ".rung")


@dataclass(frozen=True, slots=True)
class LibraryFunction:
    """A library function: its tree, its text and what its head says of it."""

    name: str
    define: t.Define
    source: str
    about: str
    unit: Unit | None
    parameters: dict[str, str]
    example: str
    #: The smallest and the largest value that it can give.
    range: tuple[float, float] = (-math.inf, math.inf)

    @property
    def lengths(self) -> frozenset[str]:
        """The parameters that are window lengths, as their descriptions say: fixed, whole, at least 1."""
        return frozenset(name for name, about in self.parameters.items() if about.startswith("length"))

    @property
    def counts(self) -> frozenset[str]:
        """The parameters that count bars, from none on: fixed and whole."""
        return frozenset(name for name, about in self.parameters.items() if about.startswith("how many bars"))

    @property
    def bounds(self) -> dict[str, tuple[float, float]]:
        """The smallest and largest value of the parameters that have them: ``… 0 to 9`` ends their description."""
        found = {name: re.search(r"(\d+) to (\d+)$", about) for name, about in self.parameters.items()}
        return {name: (float(m[1]), float(m[2])) for name, m in found.items() if m is not None}

    @property
    def series(self) -> frozenset[str]:
        """The parameters that are looked at bar by bar."""
        return frozenset(name for name, about in self.parameters.items() if "series" in about.split(" ", 3)[:3])

    @property
    def kinds(self) -> dict[str, Kind]:
        """The parameters that take one kind of value, as their descriptions say."""
        kinds = {name: Kind.NUMBER for name, about in self.parameters.items() if not about.endswith("or flags")}
        for name, about in self.parameters.items():
            if about.startswith("the condition"):
                kinds[name] = Kind.FLAG
            elif about.startswith("the timeframe"):
                kinds[name] = Kind.TIMEFRAME
        return kinds


@lru_cache(maxsize=1)
def names() -> tuple[str, ...]:
    """Every library function, sorted; nothing is read but the folder."""
    folder = files(__package__)
    return tuple(sorted(f.name.removesuffix(".rung") for f in folder.iterdir() if f.name.endswith(".rung")))


@cache
def function(name: str) -> LibraryFunction | None:
    """The library function of that name, read once."""
    if name not in names():
        return None
    if name in _cached_trees():
        return cast("LibraryFunction", pickle.loads(_cached_trees()[name]))
    source = _source(name)
    script, problems = parse(source)
    if problems:
        raise AssertionError(f"library/{name}.rung: {problems[0].line_text(name)}")
    head = _head(source)
    define = next(s for s in script.statements if isinstance(s, t.Define) and s.name.name == name)
    unit = Unit(head["unit"]) if "unit" in head else None
    parameters = {p.name.name: head.get(p.name.name, "") for p in define.parameters}
    return LibraryFunction(name, define, source, head["about"], unit, parameters, head["example"], _range(head))


def _source(name: str) -> str:
    return files(__package__).joinpath(f"{name}.rung").read_text(encoding="utf-8")


def cache_trees() -> None:
    """Puts the syntax trees of all functions into the disk cache, so that the next start need not parse them."""
    if not _cached_trees():
        _disk_cache().put(_key(), pickle.dumps({name: pickle.dumps(function(name)) for name in names()}))


def _disk_cache() -> DiskCache:
    return DiskCache(Section.FUNCTIONS)


@lru_cache(maxsize=1)
def _key() -> bytes:
    """Everything that the trees of the library follow from: their texts, this file, the reader, and all that it is made
    of."""
    texts = (part for file in sources() for part in (file.name, file.read_bytes()))
    return cache_key(sys.version, lark.__version__, *texts)


def sources() -> list[Traversable]:
    """The files from which the trees of the library follow: this folder, the reader, and the modules beside it."""
    rung = files("oakladder.rung")
    folders = (rung, rung.joinpath("read"), rung.joinpath("library"))
    found = [f for folder in folders for f in folder.iterdir() if f.is_file() and f.name.endswith(_SOURCES)]
    return sorted(found, key=lambda f: str(f))


@lru_cache(maxsize=1)
def _cached_trees() -> dict[str, bytes]:
    """The cached tree of each function, if there is a valid one."""
    found = _disk_cache().take(_key())
    return cast("dict[str, bytes]", pickle.loads(found)) if found is not None else {}


def call_of(name: str) -> str | None:
    """A library function as its example calls it, as in ``rsi(close, 14)``; None where it takes no values."""
    found = function(name)
    text = found.example if found is not None else ""
    start = text.find(f"{name}(")
    depth = 0
    for k in range(start, len(text)) if start >= 0 else ():
        depth += {"(": 1, ")": -1}.get(text[k], 0)
        if text[k] == ")" and depth == 0:
            return text[start : k + 1]
    return None


def copy_of(name: str, own: str) -> str:
    """The source of a library function under another name, ready for a script. Raises `KeyError`."""
    found = function(name)
    if found is None:
        raise KeyError(name)
    body = [line for line in found.source.splitlines() if not line.startswith(("-- example:", "-- range:", "-- unit:"))]
    return re.sub(rf"^define {name}\b", f"define {own}", "\n".join(body), flags=re.MULTILINE) + "\n"


def _range(head: dict[str, str]) -> tuple[float, float]:
    """What the line ``-- range: 0 to 100`` says; without it anything goes."""
    low, _, high = head.get("range", "-inf to inf").partition(" to ")
    return float(low), float(high)


def _head(source: str) -> dict[str, str]:
    found: dict[str, str] = {}
    for line in source.splitlines():
        if not line.startswith("--"):
            break
        word, colon, value = line[2:].partition(":")
        if colon:
            found[word.strip()] = value.strip()
    return found
