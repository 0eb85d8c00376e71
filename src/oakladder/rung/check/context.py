"""What all parts of the checker share while they walk one script."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from oakladder.rung import tree as t
from oakladder.rung.check.reporter import Reporter
from oakladder.rung.check.scope import Binding, Function, base_scope
from oakladder.rung.check.unsatisfiable import UnsatisfiabilityChecker
from oakladder.rung.kinds import Type, Unit
from oakladder.rung.other_scripts import OtherScripts
from oakladder.rung.problems import Span

#: Lengths, lags and bounds of loops go no farther.
TOO_FAR = 100_000


@dataclass(slots=True)
class Missing:
    """An unknown name: the message, the suggested name if there is one, and its place."""

    message: str
    fix: str
    replacement: str | None
    places: list[Span]


@dataclass(slots=True)
class Context:
    """State of one check. ``defined`` are the functions that the script makes anywhere."""

    defined: frozenset[str]
    other_scripts: OtherScripts = field(default_factory=OtherScripts)
    cancelled: Callable[[], bool] | None = None
    #: The script's text, line by line.
    lines: tuple[str, ...] = ()
    #: Names of the language that the script redefines, and where it first does.
    taken: dict[str, Span] = field(default_factory=dict)
    #: Where each name of a taken one is met from then on: it is renamed there too.
    met: dict[str, list[Span]] = field(default_factory=dict)
    #: Functions of the script that hide one of the library, and where they are named.
    hiding: dict[str, list[Span]] = field(default_factory=dict)
    #: Unknown names: the message for each, and every place.
    missing: dict[str, Missing] = field(default_factory=dict)
    #: Functions that lines make which could not be read.
    lost: set[str] = field(default_factory=set)
    reporter: Reporter = field(default_factory=Reporter)
    judge: UnsatisfiabilityChecker = field(default_factory=UnsatisfiabilityChecker)
    #: The line of the script that is being checked.
    line: int = 1
    #: The other symbols that the script names, and where.
    foreign: list[tuple[str, Span]] = field(default_factory=list)
    #: The texts that a setting can be, and where each stands.
    texts: dict[str, list[tuple[str, Span]]] = field(default_factory=dict)
    #: The settings, and the names at the top of the script.
    settings: dict[str, t.Setting] = field(default_factory=dict)
    bindings: dict[str, Binding] = field(default_factory=dict)
    #: Settings that choose among the bar's prices.
    price_settings: set[str] = field(default_factory=set)
    #: Sums that are part of a longer one.
    summed: set[t.Expr] = field(default_factory=set)
    #: Functions taken from other scripts.
    used: dict[str, t.Define] = field(default_factory=dict)
    #: Line of an output statement → the unit of its first operand.
    units: dict[int, Unit] = field(default_factory=dict)
    #: Values in texts that are times of day.
    clocks: set[t.TextPart] = field(default_factory=set)
    #: Distances of trades that are ratios of the fill price.
    ratios: set[t.Expr] = field(default_factory=set)
    #: Whether the script has a trade, and so a position.
    trades: bool = False
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
    #: The outermost block that is open.
    block: Span | None = None

    def written(self, span: Span) -> str:
        """The source text of a place in the script."""
        if span.line > len(self.lines):
            return ""
        return self.lines[span.line - 1][span.column - 1 : span.column - 1 + span.length]
