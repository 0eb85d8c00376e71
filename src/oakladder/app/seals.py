"""What is sealed of history for which rule, asked from any thread."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from oakladder.bars.store.as_of import BarSource
from oakladder.engine.sealed import OPEN, SealedDays
from oakladder.rung import Program
from oakladder.trial.notebook import Notebook, What
from oakladder.trial.seal import is_tuned
from oakladder.trial.universe import days_in
from oakladder.user.lists import ALL
from oakladder.user.notebooks import Notebooks
from oakladder.user.seals import Seals
from oakladder.user.workspace import Workspace


class SealKeeper:
    """Knows from which day on each symbol is sealed, and which rules have seen it. Thread-safe."""

    def __init__(self, workspace: Workspace, library: BarSource):
        self._library = library
        self.books: Notebooks = workspace.notebooks()
        self.seals: Seals = workspace.seals()

    def days(self, list_name: str, symbols: Sequence[str]) -> SealedDays:
        """The sealed days of a list for every rule; fixed now where it is judged for the first time."""
        return self.seals.sealed(list_name, symbols, partial(days_in, self._library))

    def days_of_any(self, symbols: Sequence[str]) -> SealedDays:
        """The sealed days of symbols that are shown together and are no list: symbols that were never judged are judged with all
        symbols of the library."""
        known = self.seals.known(symbols)
        if len(known.days) < len(symbols):
            self.days(ALL, list(self._library.infos))
            known = self.seals.known(symbols)
        return known

    def of_all(self, paths: Iterable[Path], list_name: str, symbols: Sequence[str]) -> SealedDays:
        """What of a list is sealed for one of several scripts together; everything for none."""
        books = [self.of_script(path).book for path in paths]
        days = self.days(list_name, symbols).days
        return SealedDays({s: day for s, day in days.items() if not books or not all(b.has_seen((s,)) for b in books)})

    def of_rule(self, rule: str) -> RuleSeal:
        """What is sealed for a rule, by what it goes by; for none everything is."""
        return RuleSeal(self, rule)

    def of_script(self, path: Path | None) -> RuleSeal:
        """The same by the file of a script."""
        return self.of_rule(self.books.rule_name(path) if path is not None else "")


@dataclass(frozen=True, slots=True)
class RuleSeal:
    """What is sealed for one rule."""

    keeper: SealKeeper
    rule: str

    @property
    def book(self) -> Notebook:
        """The notebook of the rule as it is now."""
        try:
            return self.keeper.books.read(self.rule) if self.rule else Notebook()
        except OSError:  # said where the notebook is shown
            return Notebook()

    def of(self, list_name: str, symbols: Sequence[str]) -> SealedDays:
        """The sealed days of a list that this rule may not show results of: none once it has seen them for all symbols."""
        sealed = self.keeper.days(list_name, symbols)
        return OPEN if self.book.has_seen(sealed.days) else sealed

    def hidden(self, program: Program, symbols: Sequence[str]) -> SealedDays:
        """The same symbol by symbol, for places that show what a script's positions brought on each; nothing for a script
        without trades, which has no results."""
        if program.plan.trading is None:
            return OPEN
        book = self.book
        days = (self.keeper.days(symbols[0], symbols) if len(symbols) == 1 else self.keeper.days_of_any(symbols)).days
        return SealedDays({s: day for s, day in days.items() if not book.has_seen((s,))})

    def is_tuned(
        self, what: What, text: str, symbols: Iterable[str], variants: Iterable[Mapping[str, object]] = ({},)
    ) -> bool:
        """Whether one of some variants of a text became what it is after sealed days of the symbols had been seen."""
        book, seen, asked = self.book, self.keeper.seals.seen, tuple(symbols)
        return any(is_tuned(book, what.with_settings(v), text, seen, asked) for v in variants)
