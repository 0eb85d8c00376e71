"""The user's watchlists: named, ordered by hand, with notes; kept in one readable file."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from oakladder.bars.library import SymbolInfo

from .workspace import SharedFile

ALL = "All symbols"


class ListProblem(Exception):
    """Something about a list that cannot be done; the text says why."""


@dataclass(slots=True)
class Watchlist:
    """Symbols in the user's order, and notes on some of them. ``scan`` names the saved scan that keeps it, if one does."""

    name: str
    symbols: list[str] = field(default_factory=list)
    notes: dict[str, str] = field(default_factory=dict)
    scan: str = ""


class Watchlists:
    """All lists of a user. Every change is written at once. Raises `ListProblem` and `OSError`."""

    def __init__(self, path: Path):
        self._file = SharedFile(path)
        self.own: dict[str, Watchlist] = {}
        self._load()

    def _load(self) -> None:
        found = self._file.read()
        made = [_read(entry) for entry in (found if isinstance(found, list) else [])]
        self.own = {w.name: w for w in made if w is not None}

    def fresh(self) -> None:
        """Takes in what another copy of the program has written meanwhile."""
        if self._file.changed():
            self._load()

    def _save(self) -> None:
        plain = [
            {"name": w.name, "symbols": w.symbols, "notes": w.notes, **({"scan": w.scan} if w.scan else {})}
            for w in self.own.values()
        ]
        self._file.write(plain)

    def names(self, infos: Mapping[str, SymbolInfo]) -> list[str]:
        """Everything that can be chosen: all symbols, the user's lists, the sectors."""
        self.fresh()
        sectors = sorted({i.sector for i in infos.values() if i.sector} - set(self.own) - {ALL})
        return [ALL, *self.own, *sectors]

    def symbols(self, name: str, infos: Mapping[str, SymbolInfo]) -> list[str]:
        """The symbols of a list that the library has, in the list's order. Raises `ListProblem` for an unknown list."""
        if name in self.own:
            return [s for s in self.own[name].symbols if s in infos]
        if name == ALL:
            return list(infos)
        made = [s for s, i in infos.items() if i.sector == name]
        if not made:
            raise ListProblem(f"There is no list called {name}.")
        return made

    def _list(self, name: str) -> Watchlist:
        self.fresh()
        if name not in self.own:
            raise ListProblem(f"{name} is not a list of yours, so it cannot be changed. Make a list first.")
        return self.own[name]

    def make(self, name: str, symbols: Iterable[str] = (), scan: str = "") -> Watchlist:
        """A new list; a list of that name must not be there."""
        self.fresh()
        name = name.strip()
        if not name:
            raise ListProblem("A list needs a name.")
        if name in self.own or name == ALL:
            raise ListProblem(f"There is a list called {name} already.")
        self.own[name] = Watchlist(name, list(dict.fromkeys(symbols)), {}, scan)
        self._save()
        return self.own[name]

    def keep(self, name: str, symbols: Iterable[str], scan: str = "") -> None:
        """Puts the symbols of a scan into its list, made if it is not there; notes stay."""
        self.fresh()
        found = self.own.get(name) or self.make(name, scan=scan)
        found.symbols, found.scan = list(dict.fromkeys(symbols)), scan
        self._save()

    def rename(self, name: str, other: str) -> None:
        """Gives a list another name; its place stays."""
        found, other = self._list(name), other.strip()
        if not other or other == ALL or (other in self.own and other != name):
            raise ListProblem(f"There is a list called {other} already." if other else "A list needs a name.")
        found.name = other
        self.own = {w.name: w for w in self.own.values()}
        self._save()

    def delete(self, name: str) -> None:
        self._list(name)
        del self.own[name]
        self._save()

    def add(self, name: str, text: str, infos: Mapping[str, SymbolInfo]) -> tuple[list[str], list[str]]:
        """Adds symbols typed or pasted, at the end; gives those added and the words that are no symbols."""
        found = self._list(name)
        known, unknown = parse_symbols(text, infos)
        added = [s for s in known if s not in found.symbols]
        found.symbols += added
        self._save()
        return added, unknown

    def remove(self, name: str, symbols: Iterable[str]) -> None:
        found, gone = self._list(name), set(symbols)
        found.symbols = [s for s in found.symbols if s not in gone]
        self._save()

    def move(self, name: str, symbol: str, to: int) -> None:
        """Puts a symbol at another place of the list."""
        found = self._list(name)
        if symbol in found.symbols:
            found.symbols.remove(symbol)
            found.symbols.insert(max(to, 0), symbol)
            self._save()

    def note(self, name: str, symbol: str, text: str) -> None:
        """Writes a note on a symbol; an empty one takes it away."""
        notes = self._list(name).notes
        notes.pop(symbol, None)
        if text.strip():
            notes[symbol] = text.strip()
        self._save()

    def written(self, name: str, infos: Mapping[str, SymbolInfo], *, as_csv: bool = False) -> str:
        """A list as plain text (a symbol a line) or CSV with names and notes."""
        symbols = self.symbols(name, infos)
        if not as_csv:
            return "".join(f"{s}\n" for s in symbols)
        notes = self.own[name].notes if name in self.own else {}
        made = io.StringIO()
        writer = csv.writer(made, lineterminator="\n")
        writer.writerow(["symbol", "name", "sector", "note"])
        writer.writerows([s, infos[s].name, infos[s].sector, notes.get(s, "")] for s in symbols)
        return made.getvalue()

    def read(self, name: str, text: str, infos: Mapping[str, SymbolInfo]) -> list[str]:
        """Makes a list of a text or CSV as `written` gives it; gives the words that are no symbols."""
        rows = list(csv.reader(io.StringIO(text)))
        if rows and rows[0][:1] == ["symbol"]:
            self.make(name)
            body = [r for r in rows[1:] if r]
            _, unknown = self.add(name, "\n".join(r[0] for r in body), infos)
            for row in body:
                if len(row) > 3 and row[0].upper() in infos:
                    self.note(name, row[0].upper(), row[3])
            return unknown
        self.make(name)
        return self.add(name, text, infos)[1]


def _read(entry: object) -> Watchlist | None:
    if not isinstance(entry, dict) or not isinstance(entry.get("name"), str):
        return None
    symbols, notes = entry.get("symbols"), entry.get("notes")
    return Watchlist(
        entry["name"],
        [s for s in symbols if isinstance(s, str)] if isinstance(symbols, list) else [],
        {str(k): str(v) for k, v in notes.items()} if isinstance(notes, dict) else {},
        str(entry.get("scan", "")),
    )


def parse_symbols(text: str, infos: Mapping[str, SymbolInfo]) -> tuple[list[str], list[str]]:
    """The symbols in a text, however they are parted, in order and once each; and the words that are none."""
    words = [w.strip("\"'").upper() for w in re.split(r"[\s,;|]+", text) if w.strip("\"'")]
    words = list(dict.fromkeys(words))
    return [w for w in words if w in infos], [w for w in words if w not in infos]
