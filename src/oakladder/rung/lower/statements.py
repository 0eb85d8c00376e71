"""Statements: names, state, blocks; each frame is lowered as far as it is needed."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from oakladder.rung import tree as t
from oakladder.rung.lower.expressions import Expressions
from oakladder.rung.lower.frames import NAN, Bundle, CallFrame, Instance, Value
from oakladder.rung.lower.outputs import Outputs
from oakladder.rung.lower.trading import Trading
from oakladder.rung.plan.ops import LONGEST, Branch, Domain, Item, LeaveLoop, Loop, Op, Output, Put, Slot
from oakladder.rung.problems import Cancelled
from oakladder.rung.words import Shown


class Statements:
    """Lowers statements; ``trading`` is set by the lowerer."""

    trading: Trading | None = None

    def __init__(self, expressions: Expressions, cancelled: Callable[[], bool] | None):
        self.emitter, self.expressions, self._cancelled = expressions.emitter, expressions, cancelled
        self.outputs = Outputs(self.emitter, expressions)

    def frame(self, instance: Instance, domain: Domain, upto: int) -> CallFrame:
        """The frame of an instance on a domain, with its first ``upto`` statements lowered."""
        frame = instance.frames.get(domain)
        if frame is None:
            frame = instance.frames[domain] = CallFrame(instance, domain)
            # Everything from outside is lowered before the body, so that nothing of it lands inside a block.
            if instance.parent is not None:
                self.frame(instance.parent, domain, instance.parent_done)
            for name in instance.arguments:
                self.expressions.find(name, frame)
        while frame.done < upto:
            statement = instance.statements[frame.done]
            frame.done += 1
            if instance is self.expressions.trace.root:
                self.emitter.line = statement.span.line
                if self._cancelled is not None and self._cancelled():
                    raise Cancelled
            frame.begun = True
            self._statement(statement, frame)
            frame.begun = False
        return frame

    def _statement(self, statement: t.Statement, frame: CallFrame) -> None:
        domain = frame.domain
        match statement:
            case t.Let():
                value = self.expressions.value(statement.value, frame)
                if len(statement.names) == 1:
                    frame.names[statement.names[0].name] = value
                    return
                assert isinstance(value, Bundle)
                for name, result in zip(statement.names, value.results.values(), strict=True):
                    frame.names[name.name] = result
            case t.Keep():
                self._keep(statement, frame)
            case t.Set():
                slot = self.expressions.find(statement.name.name, frame)
                assert isinstance(slot, Slot)
                self.emitter.put(slot, self.expressions.value(statement.value, frame))
            case t.If():
                self._if(statement.branches, frame)
            case t.For():
                self._for(statement, frame)
            case t.Stop():
                self.emitter.blocks[domain][-1].append(LeaveLoop())
            case t.Give():
                self._give(statement, frame)
            case t.Setting():
                frame.names[statement.name.name] = self._setting(statement, frame)
            case t.Signal():
                flag = self.emitter.flag(self.expressions.value(statement.value, frame), domain)
                frame.names[statement.name.name] = flag
                if domain is self.emitter.base:
                    self.emitter.outputs.append(
                        Output(
                            Shown.SIGNAL,
                            statement.name.name,
                            {"value": flag},
                            {"tone": statement.tone, "text": statement.text},
                            statement.span.line,
                        )
                    )
            case t.Trade():
                if domain is self.emitter.base and self.trading is not None:
                    self.trading.trade(statement, frame)
            case t.Show():
                if domain is self.emitter.base:
                    self.outputs.show(statement, frame)

    def _keep(self, statement: t.Keep, frame: CallFrame) -> None:
        domain = frame.domain
        start = self.emitter.one(self.expressions.value(statement.start, frame))
        slot = Slot(domain, lasting=not statement.fresh, flag=start.is_flag)
        frame.names[statement.name.name] = slot
        if statement.fresh:
            self.emitter.put(slot, start)
        elif start.fixed and start.code == "const":
            slot.start = float(start.attr)  # type: ignore[arg-type]
        elif start.fixed and start.code == "flag":
            slot.start = NAN if start.attr is None else float(bool(start.attr))
        else:
            bar = self.emitter.emit("bar", bound=40, domain=domain)
            first = self.emitter.emit("eq", bar, self.emitter.const(0.0), kind="flag", domain=domain)
            self.emitter.blocks[domain][-1].append(
                Branch(first, [Put(slot, self.emitter.number(start, domain) if not slot.flag else start)], [])
            )
            self.emitter.versions[slot] = self.emitter.versions.get(slot, 0) + 1

    def _give(self, statement: t.Give, frame: CallFrame) -> None:
        results: dict[str, Op] = {}
        for k, expr in enumerate(statement.values):
            name = expr.name if isinstance(expr, t.Name) else str(k + 1)
            results[name] = self.emitter.one(self.expressions.value(expr, frame))
        frame.given = next(iter(results.values())) if len(results) == 1 else Bundle(results)

    def _nested(self, domain: Domain, statements: Sequence[t.Statement], frame: CallFrame) -> list[Item]:
        """Lowers the statements of a block; what they make is not seen outside it."""
        block: list[Item] = []
        self.emitter.blocks[domain].append(block)
        self.emitter.shared[domain].append({})
        inner = CallFrame(frame.instance, domain, dict(frame.names))
        for statement in statements:
            self._statement(statement, inner)
        self.emitter.blocks[domain].pop()
        self.emitter.shared[domain].pop()
        return block

    def _if(self, branches: Sequence[tuple[t.Expr | None, tuple[t.Statement, ...]]], frame: CallFrame) -> None:
        domain = frame.domain
        (condition, body), *others = branches
        if condition is None:
            self.emitter.blocks[domain][-1].extend(self._nested(domain, body, frame))
            return
        test = self.emitter.flag(self.expressions.value(condition, frame), domain)
        then = self._nested(domain, body, frame)
        otherwise: list[Item] = []
        if others:
            self.emitter.blocks[domain].append(otherwise)
            self.emitter.shared[domain].append({})
            self._if(others, frame)
            self.emitter.blocks[domain].pop()
            self.emitter.shared[domain].pop()
        self.emitter.blocks[domain][-1].append(Branch(test, then, otherwise))

    def _for(self, statement: t.For, frame: CallFrame) -> None:
        domain = frame.domain
        first = self.emitter.one(self.expressions.value(statement.first, frame))
        last = self.emitter.one(self.expressions.value(statement.last, frame))
        for bound in (first, last):
            if bound.fixed:
                self.emitter.demand(bound, -LONGEST, LONGEST, "a bound of `for`")
        counter = Slot(domain, lasting=False)
        self.expressions.bounds[counter] = (first, last)
        inner = CallFrame(frame.instance, domain, {**frame.names, statement.counter.name: counter})
        # A value read in one round may have been changed in the round before: nothing is shared across rounds.
        for slot in _changed(statement.body, frame.names):
            self.emitter.versions[slot] = self.emitter.versions.get(slot, 0) + 1
        body = self._nested(domain, statement.body, inner)
        self.emitter.blocks[domain][-1].append(Loop(counter, first, last, body, self.emitter.line))
        for slot in _changed(statement.body, frame.names):
            self.emitter.versions[slot] = self.emitter.versions.get(slot, 0) + 1

    def _setting(self, statement: t.Setting, frame: CallFrame) -> Op:
        default = self.emitter.one(self.expressions.value(statement.default, frame))
        name = statement.name.name
        if default.fixed or not statement.choices:
            return self.emitter.emit("setting", attr=name, kind=default.kind, domain=frame.domain)
        chosen = self.emitter.emit("setting", attr=name, kind="text", domain=frame.domain)
        made = default
        for choice in statement.choices:
            assert isinstance(choice, t.Name)
            word = self.emitter.emit("literal", attr=choice.name, kind="text", domain=frame.domain)
            test = self.emitter.emit("eq", chosen, word, kind="flag", domain=frame.domain)
            made = self.emitter.between(
                test, self.emitter.one(self.expressions.value(choice, frame)), made, frame.domain
            )
        return made


def _changed(statements: Sequence[t.Statement], names: dict[str, Value | Slot]) -> set[Slot]:
    """The slots that a block may change."""
    found: set[Slot] = set()
    for s in statements:
        if isinstance(s, t.Set):
            slot = names.get(s.name.name)
            if isinstance(slot, Slot):
                found.add(slot)
        elif isinstance(s, t.If):
            for _, body in s.branches:
                found |= _changed(body, names)
        elif isinstance(s, t.For):
            found |= _changed(s.body, names)
    return found
