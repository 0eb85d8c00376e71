"""The user's watchlists: named, in the user's order, with notes; kept in one readable file."""

from __future__ import annotations

import contextlib
import csv
import io
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.user.entries import Entries, KeptFile

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
    """All lists of a user. Every change is written at once, on what the file holds at that moment.

    Raises `ListProblem`, and `OSError` if a change cannot be written; then nothing is changed. ``tell`` receives,
    in a sentence, what is wrong with the file.
    """

    def __init__(self, path: Path, tell: Callable[[str], None] = lambda sentence: None):
        self._file = KeptFile(path, Entries("lists", 1, _read, _plain), tell)

    @property
    def user_lists(self) -> Mapping[str, Watchlist]:
        """The user's lists by their names."""
        return self._file.entries

    @property
    def revision(self) -> int:
        """Counts the changes."""
        return self._file.revision

    def fresh(self) -> bool:
        """Reads what another copy of the program, or the user's editor, has written; returns whether there was a change."""
        return self._file.fresh()

    def names(self, infos: Mapping[str, SymbolInfo]) -> list[str]:
        """Everything that can be chosen: all symbols, the user's lists, the sectors."""
        sectors = sorted({i.sector for i in infos.values() if i.sector} - set(self.user_lists) - {ALL})
        return [ALL, *self.user_lists, *sectors]

    def symbols(self, name: str, infos: Mapping[str, SymbolInfo]) -> list[str]:
        """The symbols of a list that the library has, in the list's order. Raises `ListProblem` for an unknown list."""
        if name in self.user_lists:
            return [s for s in self.user_lists[name].symbols if s in infos]
        if name == ALL:
            return list(infos)
        made = [s for s, i in infos.items() if i.sector == name]
        if not made:
            raise ListProblem(f"There is no list called {name}.")
        return made

    @contextlib.contextmanager
    def _changing_list(self, name: str) -> Iterator[Watchlist]:
        with self._file.changing() as own:
            _check_own(name, own)
            yield own[name]

    def make(self, name: str, symbols: Iterable[str] = (), scan: str = "") -> Watchlist:
        """A new list; a list of that name must not be there."""
        name = _cleaned(name)
        with self._file.changing() as own:
            _check_new(name, own)
            own[name] = Watchlist(name, list(dict.fromkeys(symbols)), {}, scan)
        return self.user_lists[name]

    def keep(self, name: str, symbols: Iterable[str], scan: str) -> None:
        """Puts the symbols of a scan into its list, made if it is not there; notes stay.

        A list of the user's, or of another scan, is not overwritten: `ListProblem`.
        """
        name = _cleaned(name)
        with self._file.changing() as own:
            found = own.get(name)
            if found is None:
                _check_new(name, own)
                found = own[name] = Watchlist(name)
            elif found.scan != scan or not scan:
                by = f"belongs to the scan {found.scan}" if found.scan else "was created by you"
                raise ListProblem(f"The list {name} {by}, so this scan does not write to it. Choose another name.")
            found.symbols, found.scan = list(dict.fromkeys(symbols)), scan

    def rename(self, name: str, other: str) -> None:
        """Gives a list another name; its place stays."""
        other = _cleaned(other)
        with self._file.changing() as own:
            _check_own(name, own)
            if other != name:
                _check_new(other, own)
            own[name].name = other
            renamed = {w.name: w for w in own.values()}
            own.clear()
            own.update(renamed)

    def delete(self, name: str) -> None:
        with self._file.changing() as own:
            _check_own(name, own)
            del own[name]

    def add(self, name: str, text: str, infos: Mapping[str, SymbolInfo]) -> tuple[list[str], list[str]]:
        """Adds symbols typed or pasted, at the end; gives those added and the words that are no symbols."""
        known, unknown = parse_symbols(text, infos)
        with self._changing_list(name) as found:
            added = [s for s in known if s not in found.symbols]
            found.symbols += added
        return added, unknown

    def remove(self, name: str, symbols: Iterable[str]) -> None:
        gone = set(symbols)
        with self._changing_list(name) as found:
            found.symbols = [s for s in found.symbols if s not in gone]

    def move(self, name: str, symbol: str, to: int) -> None:
        """Puts a symbol at another place of the list."""
        with self._changing_list(name) as found:
            if symbol in found.symbols:
                found.symbols.remove(symbol)
                found.symbols.insert(max(to, 0), symbol)

    def note(self, name: str, symbol: str, text: str) -> None:
        """Writes a note on a symbol; an empty one takes it away."""
        with self._changing_list(name) as found:
            found.notes.pop(symbol, None)
            if text.strip():
                found.notes[symbol] = text.strip()

    def written(self, name: str, infos: Mapping[str, SymbolInfo], *, as_csv: bool = False) -> str:
        """A list as plain text (a symbol a line) or CSV with names and notes."""
        symbols = self.symbols(name, infos)
        if not as_csv:
            return "".join(f"{s}\n" for s in symbols)
        notes = self.user_lists[name].notes if name in self.user_lists else {}
        made = io.StringIO()
        writer = csv.writer(made, lineterminator="\n")
        writer.writerow(["symbol", "name", "sector", "note"])
        writer.writerows([s, infos[s].name, infos[s].sector, notes.get(s, "")] for s in symbols)
        return made.getvalue()

    def read(self, name: str, text: str, infos: Mapping[str, SymbolInfo]) -> list[str]:
        """Makes a list of a text or CSV as `written` gives it; gives the words that are no symbols."""
        try:
            rows = list(csv.reader(io.StringIO(text)))
        except csv.Error:
            rows = []  # not a table then; it may hold symbols all the same
        noted: dict[str, str] = {}
        if rows and rows[0][:1] == ["symbol"]:
            body = [r for r in rows[1:] if r]
            text = "\n".join(r[0] for r in body)
            noted = {r[0].upper(): r[3] for r in body if len(r) > 3 and r[3].strip() and r[0].upper() in infos}
        known, unknown = parse_symbols(text, infos)
        name = _cleaned(name)
        with self._file.changing() as own:
            _check_new(name, own)
            own[name] = Watchlist(name, known, noted)
        return unknown


def _cleaned(name: str) -> str:
    """A name for a menu: on one line, without invisible characters."""
    return " ".join("".join(c if c.isprintable() else " " for c in name).split())


def _check_own(name: str, own: Mapping[str, Watchlist]) -> None:
    if name not in own:
        raise ListProblem(f"{name} is not a list of yours, so it cannot be changed. Make a list first.")


def _check_new(name: str, own: Mapping[str, Watchlist]) -> None:
    if not name:
        raise ListProblem("A list needs a name.")
    if name in own or name == ALL:
        raise ListProblem(f"There is a list called {name} already.")


def _read(entry: object) -> tuple[Watchlist | None, bool]:
    """A list from what was written down, and whether all of it was taken in."""
    if not isinstance(entry, dict) or not isinstance(entry.get("name"), str):
        return None, False
    try:
        return msgspec.convert(entry, Watchlist), True
    except msgspec.ValidationError:
        symbols, notes = entry.get("symbols"), entry.get("notes")
        kept = [s for s in symbols if isinstance(s, str)] if isinstance(symbols, list) else []
        said = {k: v for k, v in notes.items() if isinstance(v, str)} if isinstance(notes, dict) else {}
        scan = entry.get("scan")
        return Watchlist(entry["name"], kept, said, scan if isinstance(scan, str) else ""), False


def _plain(entry: Watchlist) -> object:
    made: dict[str, object] = {"name": entry.name, "symbols": entry.symbols, "notes": entry.notes}
    return made | ({"scan": entry.scan} if entry.scan else {})


def parse_symbols(text: str, infos: Mapping[str, SymbolInfo]) -> tuple[list[str], list[str]]:
    """The symbols in a text, however they are parted, in order and once each; and the words that are none."""
    known: dict[str, None] = {}
    unknown: dict[str, None] = {}
    for part in re.split(r"[,;|\t\r\n]+", text.upper()):
        whole = part.strip().strip("\"'").strip()
        # A symbol may have a space in it, but spaces also stand between symbols.
        for word in [whole] if whole in infos else whole.split():
            word = word.strip("\"'")
            if word:
                (known if word in infos else unknown)[word] = None
    return list(known), list(unknown)
