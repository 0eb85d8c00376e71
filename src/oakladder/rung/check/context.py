"""What all parts of the checker share while they walk one script."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from oakladder.rung import tree as t
from oakladder.rung.check.impossible import Judge
from oakladder.rung.check.reporter import Reporter
from oakladder.rung.check.scope import Function, base_scope
from oakladder.rung.kinds import Type, Unit
from oakladder.rung.problems import Span

#: The other scripts that `use` may take from: title and text of each.
OtherScripts = tuple[tuple[str, str], ...]
#: Lengths, lags and bounds of loops go no farther.
TOO_FAR = 100_000


@dataclass(slots=True)
class Context:
    """State of one check. ``defined`` are the functions that the script makes anywhere."""

    defined: frozenset[str]
    shelf: OtherScripts = ()
    cancelled: Callable[[], bool] | None = None
    reporter: Reporter = field(default_factory=Reporter)
    judge: Judge = field(default_factory=Judge)
    #: The line of the script that is being checked.
    line: int = 1
    #: The other symbols that the script names, and where.
    foreign: list[tuple[str, Span]] = field(default_factory=list)
    #: Functions taken from other scripts.
    used: dict[str, t.Define] = field(default_factory=dict)
    #: Line of an output statement → the unit of its first operand.
    units: dict[int, Unit] = field(default_factory=dict)
    base: dict[str, Type] = field(default_factory=base_scope)
    functions: dict[str, Function] = field(default_factory=dict)
    called: set[str] = field(default_factory=set)
    #: The functions whose bodies are being walked, outermost first, and the names of their results.
    stack: list[str] = field(default_factory=list)
    results: list[frozenset[str]] = field(default_factory=list)
    #: What bodies gave for types of arguments; which functions keep anything from bar to bar.
    checked: dict[tuple[int, tuple[Type, ...]], Type] = field(default_factory=dict)
    holds: dict[int, bool] = field(default_factory=dict)
    guesses: int = 0

    def report(self, code: str, span: Span, message: str, fix: str = "", replacement: str | None = None) -> None:
        """Writes a problem down once; inside the library, at the call that led there."""
        self.reporter.report(code, span, message, fix, replacement)
