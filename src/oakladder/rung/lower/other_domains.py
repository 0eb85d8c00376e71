"""Other timeframes and other symbols: separate domains, whose values are passed on."""

from __future__ import annotations

from oakladder.rung import tree as t
from oakladder.rung.lower.emit import Emitter
from oakladder.rung.lower.expressions import Expressions
from oakladder.rung.lower.frames import CallFrame, Value, each, timeframe_of
from oakladder.rung.plan.inputs import OtherSymbol
from oakladder.rung.plan.ops import Domain, Foreign, Op, Put, Slot
from oakladder.rung.problems import Problem, ScriptError, Span
from oakladder.rung.values import makes


class OtherDomains:
    """Lowers `on` and `of`. With ``complete`` no longer bar is read while it forms."""

    def __init__(self, emitter: Emitter, expressions: Expressions, *, complete: bool = False):
        self.emitter, self.expressions, self._complete = emitter, expressions, complete
        #: Whether any was so far.
        self.reads_forming = False

    def on_timeframe(self, expr: t.OnTimeframe, frame: CallFrame) -> Value:
        timeframe = self.emitter.one(self.expressions.value(expr.timeframe, frame))
        forming = expr.forming and not self._complete
        self.reads_forming |= forming
        domain = self._domain(timeframe, forming, frame.domain.foreign)
        if domain is frame.domain:
            return self.expressions.value(expr.value, frame)
        there = self.expressions.seen_from(frame.instance, domain, frame.seen)
        return each(self.expressions.value(expr.value, there), lambda op: self._export(op, domain, frame.domain))

    def _domain(self, timeframe: Op, forming: bool, foreign: Foreign | None) -> Domain:
        family = self.emitter.domains if foreign is None else foreign.domains
        for domain in family:
            if domain.timeframe is timeframe and domain.forming == forming:
                return domain
        if foreign is not None:
            self._fits(foreign, timeframe)
        domain = Domain(timeframe, forming, foreign)
        self.emitter.open(domain)
        family.append(domain)
        return domain

    def _fits(self, foreign: Foreign, timeframe: Op) -> None:
        """Another symbol's bars are as long as the reader's: nothing shorter can be made of them."""
        there = foreign.timeframe
        if there is None or there.code != "literal" or timeframe.code != "literal":
            return
        if not makes(str(there.attr), str(timeframe.attr)):
            what = f"{timeframe.attr} bars cannot be made of the other symbol's {there.attr} bars."
            fix = f"Put `on {there.attr}` nearer to what it is for, or ask for longer bars."
            raise ScriptError((Problem("R503", Span(self.emitter.line, 1), what, fix),))

    def of_symbol(self, expr: t.OfSymbol, frame: CallFrame) -> Value:
        """A value of another symbol, on bars as long as the reader's: it comes in as an input."""
        symbol = self.emitter.one(self.expressions.value(expr.symbol, frame))
        domain = self._foreign(symbol, timeframe_of(frame.domain)).domains[0]
        there = self.expressions.seen_from(frame.instance, domain, frame.seen)
        return each(self.expressions.value(expr.value, there), lambda op: self._foreign_input(op, frame.domain))

    def _foreign(self, symbol: Op, timeframe: Op | None) -> Foreign:
        for foreign in self.emitter.foreigners:
            if foreign.symbol is symbol and foreign.timeframe is timeframe:
                return foreign
        made = Foreign(symbol, timeframe)
        self.emitter.open(made.domains[0])
        self.emitter.foreigners.append(made)
        return made

    def _foreign_input(self, op: Op, reader: Domain) -> Op:
        if op.fixed:
            return op
        raw = self.emitter.emit("input", attr=OtherSymbol(op), bound=op.bound, domain=reader)
        return self.emitter.flag(raw, reader) if op.is_flag else raw

    def _export(self, op: Op, source: Domain, reader: Domain) -> Op:
        """A value of another domain, as of the last bar that it ran on."""
        if op.fixed:
            return op
        key = ("export", id(op))
        if key not in self.emitter.befores:
            slot = self.emitter.befores[key] = Slot(source, lasting=True, flag=op.is_flag)
            source.tail.append(Put(slot, op))
        return self.emitter.emit("export", attr=self.emitter.befores[key], kind=op.kind, bound=op.bound, domain=reader)
