"""Finds every problem of a script that can be known before it runs: names, kinds, fixedness, units.

The checker walks the tree with types in place of values. The body of a function is walked once for each
combination of argument types, so a function is as general as its body. It goes on after a problem: what
cannot be typed becomes UNKNOWN, which silences errors that only follow from the first.
"""

from __future__ import annotations

from collections.abc import Callable

from oakladder.rung import tree as t
from oakladder.rung.check.calls import Calls
from oakladder.rung.check.context import Context
from oakladder.rung.check.expressions import Expressions
from oakladder.rung.check.past import Past
from oakladder.rung.check.scope import Scope, later_names
from oakladder.rung.check.statements import Statements
from oakladder.rung.kinds import UNKNOWN, Unit
from oakladder.rung.other_scripts import OtherScripts, is_taken
from oakladder.rung.problems import Problem, Span
from oakladder.rung.read.lines import lines_of


class Checker:
    """Checks one script; `problems` holds what was found."""

    def __init__(
        self,
        script: t.Script,
        other_scripts: OtherScripts = OtherScripts(),
        cancelled: Callable[[], bool] | None = None,
        text: str = "",
    ):
        self.script = script
        defined = frozenset(s.name.name for s in script.statements if isinstance(s, t.Define))
        trades = any(isinstance(s, t.Trade) for s in script.statements)
        self.context = Context(defined, other_scripts, cancelled, tuple(lines_of(text)), trades=trades)
        self._expressions = expressions = Expressions(self.context)
        self.calls = Calls(self.context, expressions)
        self.statements = Statements(self.context, expressions, self.calls)
        past = Past(self.context, expressions)
        # Expressions hold calls, calls walk statements, statements hold expressions: the circle closes here.
        expressions.calls = self.calls
        expressions.past = {t.Lag: past.lag, t.OnTimeframe: past.on_timeframe, t.OfSymbol: past.of_symbol}
        self.calls.walk = self.statements.walk

    @property
    def problems(self) -> list[Problem]:
        return list(self.context.reporter.found.values())

    @property
    def line(self) -> int:
        """The line of the script that is being checked."""
        return self.context.line

    @property
    def foreign(self) -> list[tuple[str, Span]]:
        """The other symbols that the script names, and where."""
        return self.context.foreign

    @property
    def used(self) -> dict[str, t.Define]:
        """Functions taken from other scripts."""
        return self.context.used

    @property
    def clocks(self) -> frozenset[t.TextPart]:
        """Values in texts that are times of day."""
        return frozenset(self.context.clocks)

    @property
    def ratios(self) -> frozenset[t.Expr]:
        """Distances of trades that are ratios of the fill price."""
        return frozenset(self.context.ratios)

    @property
    def units(self) -> dict[int, Unit]:
        """Line of an output statement → the unit of its first operand."""
        return self.context.units

    def run(self) -> None:
        """Walks the whole script, once."""
        try:
            self._run()
        finally:  # opens the circle: the tree of every text typed would else wait for the collector
            self._expressions.past = {}
            del self._expressions.calls, self.calls.walk

    def _run(self) -> None:
        if self.script.version is None and self.script.statements:
            self.context.reporter.report(
                "R110",
                Span(1, 1),
                "The script does not say which Rung it is written in.",
                "Put `rung 1` on the first line.",
                also=((Span(1, 1, 0), "rung 1\n"),),
            )
        expressions = self._expressions
        scope = Scope(later=later_names(self.script.statements))
        self.statements.walk(self.script.statements, scope)
        self.statements.trades.together(self.script.statements)
        expressions.number_lints.totals(self.script.statements)
        for statement in self.script.statements:
            if isinstance(statement, t.Show):
                expressions.lints.zone_names(statement, self.script.statements)
        for name, function in self.context.functions.items():
            if name not in self.context.called and not is_taken(name):
                self.calls.body(function, [UNKNOWN] * len(function.define.parameters), function.define.span)
        self._unread(scope)
        self._missing()
        self._taken()
        self._hiding()

    def _taken(self) -> None:
        """Says of each name of the language that the script has taken how it is renamed, wherever it stands."""
        for name, span in self.context.taken.items():
            new = f"my_{name}"
            others = [at for at in dict.fromkeys(self.context.met.get(name, [])) if at != span]
            self.context.reporter.report(
                "R202",
                span,
                f"`{name}` belongs to the language.",
                f"Call it `{new}`, say.",
                new,
                tuple((at, new) for at in others),
            )

    def _missing(self) -> None:
        """Reports each unknown name once, with a suggestion, at all its places."""
        for missing in self.context.missing.values():
            first, *others = dict.fromkeys(missing.places)
            new = missing.replacement
            also = tuple((at, new) for at in others) if new is not None else ()
            self.context.reporter.report("R201", first, missing.message, missing.fix, new, also)

    def _hiding(self) -> None:
        """Says of each function that hides one of the library how it is renamed, wherever it is called."""
        for name, spans in self.context.hiding.items():
            new = f"my_{name}"
            first, *others = dict.fromkeys(spans)
            self.context.reporter.report(
                "R215",
                first,
                f"`{name}` is a function of the library, and this one takes its place in the script.",
                f"Call it `{new}` to avoid confusion.",
                new,
                tuple((at, new) for at in others),
            )

    def _unread(self, scope: Scope) -> None:
        for name, binding in scope.names.items():
            if binding.read or binding.what == "signal" or name.startswith("_"):
                continue
            if binding.what == "setting":
                self.context.reporter.report(
                    "R702", binding.span, f"Nothing reads the setting `{name}`.", "Use it, or take it out."
                )
            elif binding.what in {"let", "keep", "fresh"}:
                self.context.reporter.report(
                    "R701", binding.span, f"Nothing reads `{name}`.", "Use it, or take it out."
                )
