"""Saved scans: conditions in plain words, kept in one readable file, and made into what the engine runs."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path

import msgspec

from oakladder.bars.timeframes import Timeframe
from oakladder.engine.scan.conditions import Condition, Field, FieldFilter, Group, Join, Relation, Rule, TriggerMode
from oakladder.rung import Program
from oakladder.rung.texts import count_words
from oakladder.user.entries import Entries, KeptFile, free_name
from oakladder.user.lists import ALL

#: The kind of a line that asks a script; the other kinds are the plain fields.
SCRIPT = "script"
#: The kind of a line that stands for several, joined in their own way.
GROUP = "group"
#: Max depth of nested groups.
_DEEPEST = 12
#: More bars than this a condition does not look back.
_MOST_BARS = 1_000_000


class ScanProblem(Exception):
    """Something about a saved scan that cannot be done; the text says why."""


@dataclass(frozen=True, slots=True)
class ScanLine:
    """One condition of a scan, as a user puts it: a rule of a script (``script`` is a file's name) or a plain filter."""

    kind: str = SCRIPT
    negated: bool = False
    script: str = ""
    name: str = ""
    timeframe: str = "1d"
    settings: dict[str, object] = field(default_factory=dict)
    relation: str = ""
    number: float = 0.0
    fresh: str = TriggerMode.TRUE.value
    bars: int = 5
    extended: bool = False
    words: tuple[str, ...] = ()
    #: Of a group: how its lines are joined, and they.
    join: str = Join.ALL.value
    lines: tuple[ScanLine, ...] = ()

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
        when = (
            f" {self.fresh} {self.bars}"
            if self.fresh in (TriggerMode.WITHIN, TriggerMode.LASTING)
            else f" {self.fresh}"
        )
        given = settings_said(self.settings, self.extended)
        return f"{not_}{self.name}{value}{f' ({given})' if given else ''} on {self.timeframe}{when}"


def flat(lines: Iterable[ScanLine]) -> Iterator[ScanLine]:
    """All lines that are no groups, of groups in groups too."""
    for line in lines:
        yield from flat(line.lines) if line.kind == GROUP else (line,)


def sentence_of(line: ScanLine, title_of: Callable[[str], str]) -> str:
    """A condition as a sentence; ``title_of`` names a script as people read it."""
    not_ = "not: " if line.negated else ""
    if line.kind == Field.SECTOR:
        return f"{not_}the sector is {' or '.join(line.words) or '…'}"
    if line.kind == Field.SYMBOLS:
        return f"{not_}it is in the list {' or '.join(line.words) or '…'}"
    if line.kind != SCRIPT:
        what = {
            Field.PRICE: "the last price",
            Field.CHANGE: "the last bar's change",
            Field.VOLUME: "the average volume",
        }
        number = f"{line.number:.4%}" if line.kind == Field.CHANGE else f"{line.number:,.10g}"
        if line.kind == Field.CHANGE:
            number = number.rstrip("%").rstrip("0").rstrip(".") + " %"
        return f"{not_}{what[Field(line.kind)]} is {line.relation or '>='} {number}"
    value = f" {line.relation} {line.number:.10g}" if line.relation else ""
    bars = count_words(line.bars, "bar")
    when = {
        TriggerMode.FIRES: ", on the bar on which it becomes true",
        TriggerMode.WITHIN: f", true within the last {bars}",
        TriggerMode.TRUE: "",
        TriggerMode.LASTING: f", true for {bars}",
    }[TriggerMode(line.fresh)]
    given = settings_said(line.settings, line.extended)
    with_ = f" with {given}" if given else ""
    return f"{not_}{title_of(line.script) or '…'}: {line.name or '…'}{value}{with_} on {line.timeframe}{when}"


def plain_settings(value: object) -> dict[str, object]:
    """A script's settings from what was written down; what cannot be one is left out."""
    entries = value.items() if isinstance(value, dict) else ()
    return {str(k): v for k, v in entries if isinstance(v, bool | int | float | str)}


def settings_said(settings: Mapping[str, object], extended: bool) -> str:
    """Settings and hours in words; empty where both are the usual ones."""
    words = [f"{k} {v:g}" if isinstance(v, float) else f"{k} {v}" for k, v in settings.items()]
    return ", ".join([*words, *(["all hours"] if extended else [])])


@dataclass(slots=True)
class SavedScan:
    """Lines that are joined, the list they are looked for in, and the timeframe whose bars count the days."""

    name: str = ""
    join: str = Join.ALL.value
    lines: list[ScanLine] = field(default_factory=list)
    list_name: str = ALL
    timeframe: str = "1d"
    opposite: bool = False
    #: The watchlist that is kept up to date with what is found; empty for none.
    keeps: str = ""

    def scripts(self) -> list[str]:
        """The scripts that its lines ask, each once."""

        def walk(lines: Iterable[ScanLine]) -> Iterator[str]:
            for line in lines:
                if line.kind == SCRIPT and line.script:
                    yield line.script
                yield from walk(line.lines)

        return list(dict.fromkeys(walk(self.lines)))

    def condition(self, program_of: Callable[[str], Program], symbols_of: Callable[[str], Iterable[str]]) -> Condition:
        """What the engine runs; ``program_of`` finds a script's program, ``symbols_of`` the symbols of a list."""
        made: Condition = Group(Join(self.join), tuple(_condition(x, program_of, symbols_of) for x in self.lines))
        return Group(Join.NONE, (made,)) if self.opposite and self.lines else made


def _condition(
    line: ScanLine, program_of: Callable[[str], Program], symbols_of: Callable[[str], Iterable[str]]
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
            Relation(line.relation) if line.relation else None,
            line.number,
            TriggerMode(line.fresh),
            line.bars,
            line.extended,
        )
    elif line.kind == Field.SYMBOLS:
        made = FieldFilter(Field.SYMBOLS, words=frozenset(s for name in line.words for s in symbols_of(name)))
    elif line.kind == Field.SECTOR:
        made = FieldFilter(Field.SECTOR, words=frozenset(line.words))
    else:
        made = FieldFilter(Field(line.kind), Relation(line.relation or Relation.AT_LEAST), line.number)
    return Group(Join.NONE, (made,)) if line.negated else made


class SavedScans:
    """All scans of a user, by name. Every change is written at once, on what the file holds at that moment.

    Raises `ScanProblem`, and `OSError` if a change cannot be written; then nothing is changed. ``tell`` receives,
    in a sentence, what is wrong with the file.
    """

    def __init__(self, path: Path, tell: Callable[[str], None] = lambda sentence: None):
        self._file = KeptFile(path, Entries("scans", 1, _read_whole, as_plain), tell)

    @property
    def scans(self) -> Mapping[str, SavedScan]:
        """The scans by their names."""
        return self._file.entries

    @property
    def revision(self) -> int:
        """Counts the changes."""
        return self._file.revision

    def fresh(self) -> bool:
        """Reads what another copy of the program, or the user's editor, has written; returns whether there was a change."""
        return self._file.fresh()

    def save(self, scan: SavedScan) -> None:
        """Keeps a scan under its name, in the place of one of that name."""
        if not scan.name.strip():
            raise ScanProblem("A scan needs a name to be saved under.")
        with self._file.changing() as scans:
            scans[scan.name] = replace(scan, lines=list(scan.lines))

    def delete(self, name: str) -> None:
        """Forgets a scan."""
        with self._file.changing() as scans:
            scans.pop(name, None)

    def opposite(self, name: str) -> SavedScan:
        """Saves the scan that finds what this one does not, and gives it."""
        return self._copy(name, f"Not: {name}", turned=True)

    def copy(self, name: str) -> SavedScan:
        """Saves a copy under a free name, and returns it."""
        return self._copy(name, name, turned=False)

    def _copy(self, name: str, other: str, *, turned: bool) -> SavedScan:
        with self._file.changing() as scans:
            if name not in scans:
                raise ScanProblem(f"There is no scan called {name} any more.")
            old = scans[name]
            made = replace(
                old, name=free_name(other, scans), opposite=old.opposite != turned, keeps="", lines=list(old.lines)
            )
            scans[made.name] = made
        return made


def as_plain(scan: SavedScan) -> dict[str, object]:
    """A scan as it is written down."""
    made = asdict(scan)
    made["lines"] = [{**x, "words": list(x["words"])} for x in made["lines"]]
    return made


def read_scan(entry: object) -> SavedScan | None:
    """A scan from what was written down; lines that make no sense are left out."""
    return _Reading().scan(entry)


def _read_whole(entry: object) -> tuple[SavedScan | None, bool]:
    """A scan with a name, and whether all of it was taken in."""
    reading = _Reading()
    made = reading.scan(entry)
    # A line of a scan, found alone in a damaged file, has a name too.
    named = made is not None and bool(made.name.strip()) and isinstance(entry, dict) and "kind" not in entry
    return (made if named else None), named and not reading.lost


class _Reading:
    """Reads one scan; ``lost`` says whether anything in it was invalid."""

    def __init__(self) -> None:
        self.lost = False

    def scan(self, entry: object) -> SavedScan | None:
        if not isinstance(entry, dict) or not isinstance(entry.get("lines", []), list):
            self.lost = True
            return None
        lines = [made for x in entry.get("lines", []) if (made := self._line(x)) is not None]
        usual = SavedScan()
        return SavedScan(
            self._text(entry, "name", usual.name),
            self._text(entry, "join", usual.join, [j.value for j in Join]),
            lines,
            self._text(entry, "list_name", usual.list_name),
            self._frame(entry.get("timeframe", usual.timeframe)),
            entry.get("opposite") is True,
            self._text(entry, "keeps", usual.keeps),
        )

    def _text(self, entry: dict[str, object], key: str, usual: str, allowed: Iterable[str] | None = None) -> str:
        value = entry.get(key, usual)
        if isinstance(value, str) and (allowed is None or value in allowed):
            return value
        self.lost = True
        return usual

    def _frame(self, text: object) -> str:
        with contextlib.suppress(ValueError):
            return str(Timeframe.parse(str(text)))
        self.lost = True
        return "1d"

    def _line(self, entry: object, depth: int = 0) -> ScanLine | None:
        made = self._line_or_none(entry, depth)
        self.lost = self.lost or made is None
        return made

    def _line_or_none(self, entry: object, depth: int) -> ScanLine | None:
        if not isinstance(entry, dict) or entry.get("kind") not in (SCRIPT, GROUP, *(f.value for f in Field)):
            return None
        inner = entry.get("lines", [])
        try:
            made = msgspec.convert({k: v for k, v in entry.items() if k != "lines"}, ScanLine)
        except msgspec.ValidationError:
            return None
        if made.kind == GROUP:
            if depth == _DEEPEST or made.join not in [j.value for j in Join] or not isinstance(inner, list):
                return None
            found = [self._line(x, depth + 1) for x in inner]
            return ScanLine(GROUP, made.negated, join=made.join, lines=tuple(x for x in found if x is not None))
        fine = (
            made.relation in ("", *Relation)
            and made.fresh in [f.value for f in TriggerMode]
            and 0 < made.bars < _MOST_BARS
            and all(isinstance(v, bool | int | float | str) for v in made.settings.values())
        )
        return replace(made, timeframe=self._frame(made.timeframe)) if fine else None
