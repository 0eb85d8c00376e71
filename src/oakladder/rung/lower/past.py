"""The past: the bar before in a slot, earlier ones in rings, each written down as soon as it is known."""

from __future__ import annotations

from oakladder.rung import tree as t
from oakladder.rung.lower.emit import Emitter
from oakladder.rung.lower.expressions import Expressions
from oakladder.rung.lower.frames import NAN, CallFrame
from oakladder.rung.plan.ops import LONGEST, TAME_EXPONENT, Domain, Item, Op, Put, Ring, Save, Slot


class Past:
    """Lowers lags."""

    def __init__(self, emitter: Emitter, expressions: Expressions):
        self.emitter, self.expressions = emitter, expressions
        self._rings: dict[object, Ring] = {}
        #: What writes values of the outermost block into their rings, right behind them.
        self._saves: dict[Op, Save] = {}

    def lag(self, expr: t.Lag, frame: CallFrame) -> Op:
        domain = frame.domain
        lag = self.emitter.one(self.expressions.value(expr.lag, frame))
        if lag.fixed:
            self.emitter.demand(lag, 0, LONGEST, "a lag")
        source: Slot | Op
        found = self.expressions.find(expr.value.name, frame) if isinstance(expr.value, t.Name) else None
        source = found if isinstance(found, Slot) else self.emitter.one(self.expressions.value(expr.value, frame))
        if isinstance(source, Op) and source.fixed:
            return self._past_of_fixed(source, lag, domain)
        flag = source.flag if isinstance(source, Slot) else source.is_flag
        kind = "flag" if flag else "number"
        bound = TAME_EXPONENT if isinstance(source, Slot) else source.bound
        if lag.code == "const" and lag.attr == 1.0:
            return self.emitter.emit(
                "prev", attr=self._before(source, flag, domain), kind=kind, bound=bound, domain=domain
            )
        ring = self._ring(source, flag, domain)
        if not any(lag is other for other in ring.lags):
            ring.lags.append(lag)
        past = self.emitter.emit("past", lag, attr=ring, kind=kind, bound=bound, domain=domain)
        if isinstance(source, Op):
            return past
        now = self.emitter.emit("get", attr=source, kind=kind, bound=bound, domain=domain)
        zero = self.emitter.emit("eq", lag, self.emitter.const(0.0), kind="flag", domain=domain)
        return self.emitter.emit("choose", zero, now, past, kind=kind, bound=bound, domain=domain)

    def _past_of_fixed(self, source: Op, lag: Op, domain: Domain) -> Op:
        """A fixed value was the same on every bar, but has none before the first bar."""
        bar = self.emitter.emit("bar", bound=40, domain=domain)
        there = self.emitter.emit("ge", bar, lag, kind="flag", domain=domain)
        none = self.emitter.flag_const(None) if source.is_flag else self.emitter.const(NAN)
        return self.emitter.emit("choose", there, source, none, kind=source.kind, bound=source.bound, domain=domain)

    def _before(self, source: Slot | Op, flag: bool, domain: Domain) -> Slot:
        """The slot that holds a value of the bar before."""
        if source not in self.emitter.befores:
            slot = self.emitter.befores[source] = Slot(domain, lasting=True, flag=flag)
            domain.tail.append(Put(slot, self._at_end(source, flag, domain)))
        return self.emitter.befores[source]

    def _ring(self, source: Slot | Op, flag: bool, domain: Domain) -> Ring:
        if source not in self._rings:
            ring = self._rings[source] = Ring(domain, flag)
            if isinstance(source, Slot):
                domain.tail.append(Save(ring, self._at_end(source, flag, domain)))
            elif source in self.emitter.top:
                self._saves[source] = Save(ring, source)
            else:
                self.emitter.blocks[domain][0].append(Save(ring, source))
        return self._rings[source]

    def with_saves(self, block: list[Item]) -> list[Item]:
        """A block that stores values for later lookback as soon as they are known."""
        made: list[Item] = []
        for item in block:
            made.append(item)
            save = self._saves.get(item) if isinstance(item, Op) else None
            if save is not None:
                made.append(save)
        return made

    @staticmethod
    def _at_end(source: Slot | Op, flag: bool, domain: Domain) -> Op:
        """The value at the end of the bar."""
        if isinstance(source, Op):
            return source
        read = Op("get", attr=source, kind="flag" if flag else "number", domain=domain)
        domain.tail.append(read)
        return read
