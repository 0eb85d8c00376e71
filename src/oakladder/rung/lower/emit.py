"""The plan as it grows: values are put into blocks, and the same value asked for twice is made once."""

from __future__ import annotations

import math

from oakladder.rung.lower.frames import Value
from oakladder.rung.plan.ops import (
    PLACE,
    TAME_EXPONENT,
    ZONE,
    Domain,
    Foreign,
    Item,
    Op,
    Output,
    Put,
    RuntimeConstraint,
    Slot,
)
from oakladder.rung.problems import Problem, ScriptError, Span

MAX_OPS = 20_000
#: Operations that differ from bar to bar (or symbol to symbol) whatever they are made of.
_MOVING = frozenset([ZONE, PLACE, "ranked", "input", "get", "prev", "past", "fold", "bar", "export", "symbol"])


class Emitter:
    """Holds the domains with their blocks, and everything that the finished plan is made of."""

    def __init__(self, guards: bool = True) -> None:
        self.base = Domain()
        self._guards = guards
        self.domains = [self.base]
        self.outputs: list[Output] = []
        self.demands: list[RuntimeConstraint] = []
        self.foreigners: list[Foreign] = []
        self.blocks: dict[Domain, list[list[Item]]] = {self.base: [self.base.body]}
        self.top: set[Op] = set()
        #: What the tail of a domain keeps for the next bar: values of the bar before, values for other domains.
        self.befores: dict[object, Slot] = {}
        self.fixed: dict[tuple[object, ...], Op] = {}
        #: The line of the script that is being lowered.
        self.line = 1
        self.versions: dict[Slot, int] = {}
        self.shared: dict[Domain, list[dict[tuple[object, ...], Op]]] = {self.base: [{}]}
        self._count = 0

    def emit(
        self,
        code: str,
        *args: Op,
        attr: object = None,
        kind: str = "number",
        bound: float = TAME_EXPONENT,
        domain: Domain,
    ) -> Op:
        """A value on a domain; the same value asked for twice is made once."""
        fixed, of_zone = code not in _MOVING, code == ZONE
        for arg in args:
            fixed = fixed and arg.fixed
            of_zone = of_zone or arg.of_zone
        version = self.versions.get(attr, 0) if isinstance(attr, Slot) else 0
        key = (code, attr, kind, version, *map(id, args))
        shell = kind not in ("number", "flag")
        if fixed or shell or of_zone:
            if key not in self.fixed:
                self.fixed[key] = self._made(Op(code, args, attr, kind, fixed, bound))
            return self.fixed[key]
        for table in self.shared[domain]:
            if key in table:
                return table[key]
        op = self._made(Op(code, args, attr, kind, False, bound, domain))
        # What reads no slot and depends on nothing inside a block is computed before it: loops compute it once.
        free = code != "get" and all(a.fixed or a in self.top for a in args)
        level = 0 if free else -1
        if free or len(self.blocks[domain]) == 1:
            self.top.add(op)
        self.shared[domain][level][key] = op
        self.blocks[domain][level].append(op)
        return op

    def _made(self, op: Op) -> Op:
        self._count += 1
        if self._count > MAX_OPS:
            raise ScriptError(
                (
                    Problem(
                        "R601",
                        Span(self.line, 1),
                        f"Written out, this script takes more than {MAX_OPS:,} operations a bar.",
                        "Call fewer functions, or share a result with `let`.",
                    ),
                )
            )
        return op

    def const(self, value: float) -> Op:
        bound = math.log2(abs(value)) if value and not math.isnan(value) else 0.0
        key = ("const", repr(value))
        if key not in self.fixed:
            self.fixed[key] = Op("const", (), value, "number", True, bound)
        return self.fixed[key]

    def flag_const(self, value: bool | None) -> Op:
        key = ("flag", value)
        if key not in self.fixed:
            self.fixed[key] = Op("flag", (), value, "flag", True)
        return self.fixed[key]

    def guard_overflow(self, op: Op, domain: Domain, limit: float = 1000) -> Op:
        """Checks a number whose size could run away; beyond the limit it becomes none."""
        return op if op.bound <= limit or not self._guards else self.emit("guard", op, domain=domain)

    def number(self, value: Value, domain: Domain) -> Op:
        op = self.one(value)
        return self.emit("to_number", op, bound=1, domain=domain) if op.is_flag else op

    def flag(self, value: Value, domain: Domain) -> Op:
        op = self.one(value)
        if op.is_flag:
            return op
        if op.code == "const" and isinstance(op.attr, float) and math.isnan(op.attr):
            return self.flag_const(None)
        return self.emit("to_flag", op, kind="flag", domain=domain)

    @staticmethod
    def one(value: Value) -> Op:
        assert isinstance(value, Op)
        return value

    def between(self, test: Op, yes: Op, no: Op, domain: Domain) -> Op:
        return self.either("choose", (test,), yes, no, domain)

    def either(self, code: str, before: tuple[Op, ...], a: Op, b: Op, domain: Domain) -> Op:
        if a.is_shell or b.is_shell:
            return self.emit(code, *before, a, b, kind=a.kind if a.is_shell else b.kind, domain=domain)
        if a.is_flag or b.is_flag:
            return self.emit(code, *before, self.flag(a, domain), self.flag(b, domain), kind="flag", domain=domain)
        return self.emit(code, *before, a, b, bound=max(a.bound, b.bound), domain=domain)

    def put(self, slot: Slot, value: Value) -> None:
        domain = slot.domain
        op = (
            self.flag(value, domain)
            if slot.flag
            else self.guard_overflow(self.number(value, domain), domain, TAME_EXPONENT)
        )
        self.blocks[domain][-1].append(Put(slot, op))
        self.versions[slot] = self.versions.get(slot, 0) + 1

    def demand(self, value: Op, low: float, high: float, what: str) -> None:
        self.demands.append(RuntimeConstraint(value, low, high, what, self.line))

    def open(self, domain: Domain) -> None:
        self.blocks[domain] = [domain.body]
        self.shared[domain] = [{}]
