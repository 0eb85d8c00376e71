"""Saved scans: conditions in plain words, kept in one readable file, and made into what the engine runs."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import asdict, dataclass, field, fields, replace
from pathlib import Path

from oakladder.bars.timeframes import Timeframe
from oakladder.engine.rules import RELATIONS, Condition, Field, Fresh, Group, Join, Plain, Rule
from oakladder.rung import Program

from .watchlists import ALL
from .workspace import SharedFile

#: The kind of a line that asks a script; the other kinds are the plain fields.
SCRIPT = "script"
#: The kind of a line that stands for several, joined in their own way.
GROUP = "group"
#: Deeper than this groups are not read: nobody has put them there by hand.
_DEEPEST = 12


class ScanProblem(Exception):
    """Something about a saved scan that cannot be done; the text says why."""


@dataclass(frozen=True, slots=True)
class Line:
    """One condition of a scan, as a user puts it: a rule of a script (``script`` is a file's name) or a plain filter."""

    kind: str = SCRIPT
    negated: bool = False
    script: str = ""
    name: str = ""
    timeframe: str = "1d"
    settings: dict[str, object] = field(default_factory=dict)
    relation: str = ""
    number: float = 0.0
    fresh: str = Fresh.TRUE.value
    bars: int = 5
    extended: bool = False
    words: tuple[str, ...] = ()
    #: Of a group: how its lines are joined, and they.
    join: str = Join.ALL.value
    lines: tuple[Line, ...] = ()

    def said(self) -> str:
        """The line in words, for lists and heads."""
        not_ = "not " if self.negated else ""
        if self.kind == GROUP:
            return f"{not_}{self.join} of ({'; '.join(x.said() for x in self.lines)})"
        if self.kind in (Field.SECTOR, Field.SYMBOLS):
            return f"{not_}{self.kind} {' or '.join(self.words)}"
        if self.kind != SCRIPT:
            number = f"{self.number:.1%}" if self.kind == Field.CHANGE else f"{self.number:,.10g}"
            return f"{not_}{self.kind} {self.relation or '>='} {number}"
        value = f" {self.relation} {self.number:g}" if self.relation else ""
        when = f" {self.fresh} {self.bars}" if self.fresh in (Fresh.WITHIN, Fresh.LASTING) else f" {self.fresh}"
        given = settings_said(self.settings, self.extended)
        return f"{not_}{self.name}{value}{f' ({given})' if given else ''} on {self.timeframe}{when}"


def settings_said(settings: Mapping[str, object], extended: bool) -> str:
    """Settings and hours in words; empty where both are the usual ones."""
    words = [f"{k} {v:g}" if isinstance(v, float) else f"{k} {v}" for k, v in settings.items()]
    return ", ".join([*words, *(["all hours"] if extended else [])])


@dataclass(slots=True)
class SavedScan:
    """Lines that are joined, the list they are looked for in, and the timeframe whose bars count the days."""

    name: str = ""
    join: str = Join.ALL.value
    lines: list[Line] = field(default_factory=list)
    list_name: str = ALL
    timeframe: str = "1d"
    opposite: bool = False
    #: The watchlist that is kept up to date with what is found; empty for none.
    keeps: str = ""

    def condition(self, program_of: Callable[[str], Program], symbols_of: Callable[[str], Iterable[str]]) -> Condition:
        """What the engine runs; ``program_of`` finds a script's program, ``symbols_of`` the symbols of a list."""
        made: Condition = Group(Join(self.join), tuple(_condition(x, program_of, symbols_of) for x in self.lines))
        return Group(Join.NONE, (made,)) if self.opposite and self.lines else made


def _condition(
    line: Line, program_of: Callable[[str], Program], symbols_of: Callable[[str], Iterable[str]]
) -> Condition:
    made: Condition
    if line.kind == GROUP:
        made = Group(Join(line.join), tuple(_condition(x, program_of, symbols_of) for x in line.lines))
    elif line.kind == SCRIPT:
        made = Rule(
            program_of(line.script),
            line.name,
            Timeframe.parse(line.timeframe),
            line.settings,
            line.relation,
            line.number,
            Fresh(line.fresh),
            line.bars,
            line.extended,
        )
    elif line.kind == Field.SYMBOLS:
        made = Plain(Field.SYMBOLS, words=frozenset(s for name in line.words for s in symbols_of(name)))
    elif line.kind == Field.SECTOR:
        made = Plain(Field.SECTOR, words=frozenset(line.words))
    else:
        made = Plain(Field(line.kind), line.relation or ">=", line.number)
    return Group(Join.NONE, (made,)) if line.negated else made


class SavedScans:
    """All scans of a user, by name. Every change is written at once."""

    def __init__(self, path: Path):
        self._file = SharedFile(path)
        self.scans: dict[str, SavedScan] = {}
        self._load()

    def _load(self) -> None:
        found = self._file.read()
        made = [read_scan(entry) for entry in (found if isinstance(found, list) else [])]
        self.scans = {s.name: s for s in made if s is not None and s.name}

    def fresh(self) -> None:
        """Takes in what another copy of the program has written meanwhile."""
        if self._file.changed():
            self._load()

    def _save(self) -> None:
        self._file.write([as_plain(s) for s in self.scans.values()])

    def save(self, scan: SavedScan) -> None:
        """Keeps a scan under its name, in the place of one of that name."""
        if not scan.name.strip():
            raise ScanProblem("A scan needs a name to be saved under.")
        self.fresh()
        self.scans[scan.name] = replace(scan, lines=list(scan.lines))
        self._save()

    def delete(self, name: str) -> None:
        """Forgets a scan."""
        self.fresh()
        self.scans.pop(name, None)
        self._save()

    def free_name(self, name: str) -> str:
        """A name like this one that is not taken."""
        made, k = name, 2
        while made in self.scans:
            made, k = f"{name} {k}", k + 1
        return made

    def opposite(self, name: str) -> SavedScan:
        """Saves the scan that finds what this one does not, and gives it."""
        old = self.scans[name]
        made = replace(
            old, name=self.free_name(f"Not: {name}"), opposite=not old.opposite, keeps="", lines=list(old.lines)
        )
        self.save(made)
        return made

    def copy(self, name: str) -> SavedScan:
        """Saves a copy under a name of its own, and gives it."""
        made = replace(self.scans[name], name=self.free_name(name), keeps="", lines=list(self.scans[name].lines))
        self.save(made)
        return made


def as_plain(scan: SavedScan) -> dict[str, object]:
    """A scan as it is written down."""
    made = asdict(scan)
    made["lines"] = [{**x, "words": list(x["words"])} for x in made["lines"]]
    return made


def read_scan(entry: object) -> SavedScan | None:
    """A scan from what was written down; lines that make no sense are left out."""
    if not isinstance(entry, dict):
        return None
    lines = [made for x in entry.get("lines") or [] if (made := _read_line(x)) is not None]
    join = str(entry.get("join"))
    return SavedScan(
        str(entry.get("name", "")),
        join if join in [j.value for j in Join] else Join.ALL.value,
        lines,
        str(entry.get("list_name", ALL)),
        _frame(entry.get("timeframe")),
        entry.get("opposite") is True,
        str(entry.get("keeps", "")),
    )


def _frame(text: object) -> str:
    try:
        return str(Timeframe.parse(str(text)))
    except ValueError:
        return "1d"


def _read_line(entry: object, depth: int = 0) -> Line | None:
    if not isinstance(entry, dict) or entry.get("kind") not in (SCRIPT, GROUP, *(f.value for f in Field)):
        return None
    if entry["kind"] == GROUP:
        inner = entry.get("lines")
        join = str(entry.get("join"))
        if depth == _DEEPEST or join not in [j.value for j in Join]:
            return None
        found = [_read_line(x, depth + 1) for x in (inner if isinstance(inner, list | tuple) else [])]
        return Line(GROUP, entry.get("negated") is True, join=join, lines=tuple(x for x in found if x is not None))
    known = {f.name for f in fields(Line)} - {"join", "lines"}
    given = {k: v for k, v in entry.items() if k in known}
    given["words"] = tuple(str(w) for w in given.get("words") or ())
    given["timeframe"] = _frame(given.get("timeframe"))
    made = replace(Line(), **given)
    fine = (
        made.relation in ("", *RELATIONS)
        and made.fresh in [f.value for f in Fresh]
        and isinstance(made.bars, int)
        and isinstance(made.number, int | float)
        and isinstance(made.settings, dict)
    )
    return made if fine else None
