"""Values of lines further down, worked out here: where they rest on nothing that changes on the way."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from oakladder.rung import tree as t
from oakladder.rung.lower.expressions import Expressions
from oakladder.rung.lower.frames import CallFrame
from oakladder.rung.plan.ops import Op
from oakladder.rung.trade_words import POSITION


class ForwardValues:
    """Works out expressions of the script before the lines that make their names are reached."""

    def __init__(self, expressions: Expressions):
        self.expressions = expressions

    def values(self, wanted: Sequence[t.Expr]) -> list[Op] | None:
        """The values of some expressions of the script's own level; None where they rest on what a script changes, on
        the position's stop, or on functions that are made further down."""
        emitter, root = self.expressions.emitter, self.expressions.trace.root
        frame = root.frames.get(emitter.base)
        if frame is None:
            return None
        lines = self._needed(wanted, root.statements, frame.seen)
        if lines is None:
            return None
        names = dict(frame.names)
        for at in sorted(lines):
            statement = root.statements[at]
            assert isinstance(statement, t.Let | t.Signal)
            value = self.expressions.value(statement.value, CallFrame(root, emitter.base, names, at))
            if isinstance(statement, t.Signal):
                names[statement.name.name] = emitter.flag(value, emitter.base)
            elif len(statement.names) == 1:
                names[statement.names[0].name] = value
            else:
                return None
        last = CallFrame(root, emitter.base, names, max(lines, default=frame.seen - 1) + 1)
        return [emitter.one(self.expressions.value(expr, last)) for expr in wanted]

    def _needed(self, wanted: Sequence[t.Expr], statements: Sequence[t.Statement], seen: int) -> set[int] | None:
        """The lines from ``seen`` on that make what some expressions are made of."""
        makers: dict[str, int] = {}
        for at, statement in enumerate(statements):
            for name in _made_by(statement):
                makers.setdefault(name, at)
        lines: set[int] = set()
        todo = [*wanted]
        looked_at: set[str] = set()
        while todo:
            for name in _names(todo.pop()):
                if name in looked_at:
                    continue
                looked_at.add(name)
                if name == POSITION:
                    return None
                if name not in makers:
                    continue
                at = makers[name]
                statement = statements[at]
                if isinstance(statement, t.Let | t.Signal):
                    todo.append(statement.value)
                    if at >= seen:
                        lines.add(at)
                elif not (isinstance(statement, t.Setting) and at < seen):
                    return None
        return lines


def _made_by(statement: t.Statement) -> Iterator[str]:
    match statement:
        case t.Let():
            yield from (name.name for name in statement.names)
        case t.Keep() | t.Signal() | t.Setting() | t.Define():
            yield statement.name.name
        case t.Use():
            yield from (name.name for name in statement.names)


def _names(node: object) -> Iterator[str]:
    """Every name and function that a piece of tree mentions."""
    if isinstance(node, tuple):
        for part in node:
            yield from _names(part)
        return
    if isinstance(node, t.Name | t.Call):
        yield node.name
    for slot in getattr(node, "__slots__", ()):
        if slot != "span":
            yield from _names(getattr(node, slot))
