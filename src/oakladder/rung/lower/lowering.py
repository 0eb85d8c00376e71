"""Tree to plan: functions are written out in place, identical parts are shared, state becomes explicit.

A value can be asked for on several timeframes. Each call (and the script itself) is an `Instance`; on each
domain it has a `CallFrame`, whose statements are lowered in order, as far as they are needed.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from oakladder.rung import tree as t
from oakladder.rung.lower.calls import Calls
from oakladder.rung.lower.emit import Emitter
from oakladder.rung.lower.expressions import Expressions
from oakladder.rung.lower.frames import Bundle, CallFrame, Instance, Trace
from oakladder.rung.lower.other_domains import OtherDomains
from oakladder.rung.lower.past import Past
from oakladder.rung.lower.primitives import Primitives
from oakladder.rung.lower.statements import Statements
from oakladder.rung.lower.trading import Trading
from oakladder.rung.plan.ops import Op, Plan


@dataclass(frozen=True, slots=True)
class Known:
    """What the checker found out: functions from other scripts, the values in texts that are times of day, and the
    distances of trades that are ratios of the fill price."""

    used: Mapping[str, t.Define] = field(default_factory=dict)
    clocks: frozenset[t.TextPart] = frozenset()
    ratios: frozenset[t.Expr] = frozenset()
    #: Whether trades are filled minute by minute where there are minutes.
    finer: bool = False
    #: Whether limits and targets are filled only where prices trade through them.
    through: bool = False
    #: Whether longer bars are read complete also where the script asks for them `forming`.
    complete: bool = False


class Lowerer:
    """Builds the plan of one checked script."""

    def __init__(self, script: t.Script, known: Known, cancelled: Callable[[], bool] | None):
        self.script = script
        self.trace = Trace(Instance(script.statements))
        self.emitter = Emitter()
        self.expressions = Expressions(self.emitter, self.trace, known.clocks)
        self.statements = Statements(self.expressions, cancelled)
        self.past = Past(self.emitter, self.expressions)
        calls = Calls(script, known.used, self.expressions, Primitives(self.emitter, self.expressions))
        trades = [s for s in script.statements if isinstance(s, t.Trade)]
        self.trading = None
        if trades:
            self.trading = Trading(trades, self.expressions, known.ratios, finer=known.finer, through=known.through)
        self.statements.trading = self.expressions.trading = self.trading
        self.other_domains = other_domains = OtherDomains(self.emitter, self.expressions, complete=known.complete)
        # Expressions hold calls, calls are made of statements, statements hold expressions: the circle closes here.
        self.expressions.frame = self.statements.frame
        self.expressions.parts = {
            t.Lag: self.past.lag,
            t.Call: calls.call,
            t.OnTimeframe: other_domains.on_timeframe,
            t.OfSymbol: other_domains.of_symbol,
        }

    def run(self) -> Plan:
        """The plan of the whole script."""
        plan = self.emitter
        if self.trading is not None:
            self.trading.fills()
        frame = self.statements.frame(self.trace.root, plan.base, len(self.script.statements))
        if self.trading is not None:
            self.trading.decisions()
        values = self._values_of(frame)
        trading = self.trading.plan() if self.trading is not None else None
        for domain in [*plan.domains, *(d for f in plan.foreigners for d in f.domains)]:
            domain.body = self.past.with_saves(domain.body)
        reads_forming = self.other_domains.reads_forming
        return Plan(plan.domains, plan.outputs, plan.demands, values, trading, reads_forming=reads_forming)

    def _values_of(self, frame: CallFrame) -> dict[str, Op]:
        """Every top-level `let` and `keep`, with its value at the end of the bar."""
        made: dict[str, Op] = {}
        for statement in self.script.statements:
            names = (
                statement.names
                if isinstance(statement, t.Let)
                else (statement.name,)
                if isinstance(statement, t.Keep)
                else ()
            )
            for name in names:
                value = self.expressions.name_of(name, frame)
                if isinstance(value, Bundle):
                    made.update({f"{name.name}.{part}": op for part, op in value.results.items()})
                else:
                    made[name.name] = value
        return made


def lower(script: t.Script, known: Known = Known(), cancelled: Callable[[], bool] | None = None) -> tuple[Plan, Trace]:
    """The plan of a script that the checker found no error in, and what its expressions became.

    Raises `ScriptError` if it is too large, `Cancelled`.
    """
    lowerer = Lowerer(script, known, cancelled)
    try:
        return lowerer.run(), lowerer.trace
    finally:  # opens the circle: what a text became would else wait for the collector
        lowerer.expressions.parts, lowerer.expressions.trading = {}, None
        del lowerer.expressions.frame
