"""Files that are chosen for an import: how each is read, which symbol it is said to be, and what it would bring."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from oakladder.bars.errors import DataProblem, Stopped
from oakladder.bars.store.library import BarLibrary
from oakladder.intake.file_layout import TableLayout, guess
from oakladder.intake.importing import Intake, Options, find_claims, look_at
from oakladder.intake.names import as_symbol, symbol_of, trouble_of
from oakladder.intake.reading import Stop
from oakladder.intake.symbol_conflicts import Conflict


@dataclass(slots=True)
class FileList:
    """The files of a list, and what the user has said of single ones."""

    layouts: dict[Path, TableLayout] = field(default_factory=dict)
    seen: dict[Path, list[Intake]] = field(default_factory=dict)
    #: The symbols that the user has given to files, and the files whose bars belong to their symbol for sure.
    symbols: dict[Path, str] = field(default_factory=dict)
    same: set[Path] = field(default_factory=set)

    def snapshot(self) -> FileList:
        """A copy for another thread."""
        return FileList(dict(self.layouts), dict(self.seen), dict(self.symbols), set(self.same))

    def symbol_of(self, path: Path) -> str:
        """The symbol that a file stands for, where it has no column of symbols."""
        return self.symbols.get(path) or symbol_of(path)

    def call(self, path: Path, text: str) -> None:
        """Gives a file a symbol; an empty text gives it back the one of its name. Raises `DataProblem`."""
        symbol = as_symbol(text)
        if not symbol or symbol == symbol_of(path):
            self.symbols.pop(path, None)
        elif words := trouble_of(symbol):
            raise DataProblem(f"`{text.strip()}` {words}. Choose another symbol.")
        else:
            self.symbols[path] = symbol
        self.same.discard(path)

    def belong(self, path: Path, on: bool) -> None:
        """Says that the bars of a file, and of all that claim its symbol, belong to that symbol; or takes it back."""
        symbol = self.symbol_of(path)
        for each in [p for p in self.seen if self.symbol_of(p) == symbol]:
            (self.same.add if on else self.same.discard)(each)

    def options_of(self, path: Path, common: Options) -> Options:
        """How a file is imported: what is asked of every file, and what was said of this one."""
        return replace(common, symbol=self.symbols.get(path), same=path in self.same)

    def choices(self, common: Options) -> dict[Path, Options]:
        """How each file is imported."""
        return {path: self.options_of(path, common) for path in self.seen}

    def keep(self, intakes: Iterable[Intake]) -> None:
        """Leaves only these on the list."""
        self.seen = {}
        for intake in intakes:
            self.seen.setdefault(intake.path, []).append(intake)
        for held in (self.layouts, self.symbols):
            for path in [p for p in held if p not in self.seen]:
                del held[path]
        self.same &= set(self.seen)


@dataclass(frozen=True, slots=True)
class Looked:
    """What files would bring, and how they are read."""

    layouts: Mapping[Path, TableLayout]
    intakes: Mapping[Path, list[Intake]]


def look_over(
    listing: FileList,
    paths: Sequence[Path],
    library: BarLibrary,
    common: Options,
    progress: Callable[[float], None],
    cancelled: Stop,
) -> Looked:
    """Looks at files of a list, or at new ones, and at those of it that claim one symbol with them. Raises `Stopped`.

    A file whose symbol another one claims too is in doubt, with its bars.
    """
    layouts = dict(listing.layouts)
    files = list(dict.fromkeys([*listing.seen, *paths]))
    claims = find_claims(files, lambda p: listing.options_of(p, common), layouts)
    todo = dict.fromkeys(paths)
    for path, intakes in listing.seen.items():
        if (path in claims) != any(i.doubt is Conflict.CLAIMED for i in intakes):
            todo[path] = None
    made: dict[Path, list[Intake]] = {}
    for k, path in enumerate(todo):
        if cancelled():
            raise Stopped
        try:
            layouts[path] = layouts.get(path) or guess(path)
        except (DataProblem, OSError, ValueError):
            layouts.pop(path, None)
        made[path] = look_at(path, library, listing.options_of(path, common), layouts.get(path), cancelled)
        if path in claims:
            made[path] = [i.claim(i.symbol or listing.symbol_of(path), claims[path]) for i in made[path]]
        progress((k + 1) / len(todo))
    return Looked(layouts, made)
