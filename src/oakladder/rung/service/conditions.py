"""A signal's condition taken apart: what it consists of, down to comparisons and plain flags.

The parts are found in the tree and read from what the tree became (`lowering.Trace`), through names, through
the script's own functions and through those of the library, which are Rung too.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from oakladder.rung import tree as t
from oakladder.rung.lower.frames import Instance, Trace
from oakladder.rung.plan.ops import Op
from oakladder.rung.problems import UnknownName
from oakladder.rung.service.unparse import unparse
from oakladder.rung.trade_words import FORMS, TradeWord

#: Deeper than this nothing is taken apart any further.
_DEEPEST = 12
#: Max number of parts of a condition: more would not be read.
_MOST_PARTS = 300


@dataclass(frozen=True, slots=True)
class Operand:
    """One side of a comparison: as written, its value, and whether that is a time of day."""

    text: str
    op: Op
    timed: bool = False


@dataclass(frozen=True, slots=True)
class ConditionPart:
    """A condition. ``how`` says what it is made of.

    ``and``, ``or``, ``not``: of its ``parts``. ``compare``: of two operands and ``relation`` (``>`` …).
    ``lag``: of its one part, ``lag`` bars ago. ``plain``: of nothing that can be shown apart.
    """

    text: str
    op: Op
    how: str
    parts: tuple[ConditionPart, ...] = ()
    operands: tuple[Operand, ...] = ()
    relation: str = ""
    lag: int = 0

    def walk(self) -> list[ConditionPart]:
        """This part and all below it, outermost first."""
        return [self, *(inner for part in self.parts for inner in part.walk())]


@dataclass(slots=True)
class _Look:
    """The current expression, and into how many more parts it may be split."""

    trace: Trace
    left: int = _MOST_PARTS


def condition(trace: Trace, signal: str) -> ConditionPart:
    """The parts of one of the `conditions`. Raises `UnknownName` if the script has no such."""
    look = _Look(trace)
    value = conditions(trace).get(signal)
    found = _part(look, trace.root, value, unparse(value), 0) if value is not None else None
    if found is None:
        raise UnknownName(f"The script has no condition called `{signal}`.")
    return found


#: The clauses of a trade that are conditions, with the place of the condition among their values.
_DECIDES = {TradeWord.ENTER: 0, TradeWord.ENTER_AT: 1, TradeWord.LEAVE: 0}


def conditions(trace: Trace) -> dict[str, t.Expr]:
    """What of a script can be taken apart, by name: its signals, then when each trade is entered and left."""
    made: dict[str, t.Expr] = {}
    for statement in trace.root.statements:
        if isinstance(statement, t.Signal):
            made[statement.name.name] = statement.value
    for statement in trace.root.statements:
        if isinstance(statement, t.Trade):
            for what, clause in statement.clauses.items():
                if what in _DECIDES:
                    made[f"{FORMS[what].word} {statement.name.name}"] = clause.values[_DECIDES[what]]
    return made


def _flag_of(look: _Look, instance: Instance, expr: t.Expr) -> Op | None:
    """The flag that an expression became, if it became one that can be read on every bar."""
    value = look.trace.values.get((instance, expr))
    return value if isinstance(value, Op) and value.is_flag else None


def _part(look: _Look, instance: Instance, expr: t.Expr, text: str, depth: int) -> ConditionPart | None:
    op = _flag_of(look, instance, expr)
    if op is None:
        return None
    look.left -= 1
    if depth < _DEEPEST and look.left > 0:
        made = _taken_apart(look, instance, expr, text, op, depth + 1)
        if made is not None:
            return made
    return ConditionPart(text, op, "plain")


def _taken_apart(look: _Look, instance: Instance, expr: t.Expr, text: str, op: Op, depth: int) -> ConditionPart | None:
    match expr:
        case t.Binary(op="and" | "or"):
            sides = _side_by_side(expr, expr.op)
            parts = [_part(look, instance, side, unparse(side), depth) for side in sides]
            return ConditionPart(text, op, expr.op, tuple(p for p in parts if p)) if all(parts) else None
        case t.Unary(op="not"):
            inner = _part(look, instance, expr.value, unparse(expr.value), depth)
            return ConditionPart(text, op, "not", (inner,)) if inner is not None else None
        case t.Compare():
            return _compared(look, instance, expr, text, op)
        case t.Lag(lag=t.Literal(kind="number", value=lag)):
            inner = _part(look, instance, expr.value, unparse(expr.value), depth)
            return ConditionPart(text, op, "lag", (inner,), lag=int(float(lag))) if inner is not None else None  # type: ignore[arg-type]
        case t.Name():
            return _named(look, instance, expr, text, depth)
        case t.Call():
            return _called(look, instance, expr, text, depth)
    return None


def _side_by_side(expr: t.Expr, op: str) -> list[t.Expr]:
    """The links of a chain of ``and`` or ``or``, in the order they are written."""
    if isinstance(expr, t.Binary) and expr.op == op:
        return [*_side_by_side(expr.left, op), *_side_by_side(expr.right, op)]
    return [expr]


def _compared(look: _Look, instance: Instance, expr: t.Compare, text: str, op: Op) -> ConditionPart | None:
    operands = []
    timed = any(map(_is_clock, expr.values))
    for value in expr.values:
        found = look.trace.values.get((instance, value))
        if not isinstance(found, Op) or found.is_shell or found.is_flag:
            return None
        operands.append(Operand(unparse(value), found, timed))
    if len(expr.ops) == 1:
        return ConditionPart(text, op, "compare", (), tuple(operands), expr.ops[0])
    # A chain of comparisons became a chain of `and`s: it holds the flags of its links, last link outermost.
    flags = [op]
    while len(flags) < len(expr.ops) and flags[0].code == "and":
        flags[:1] = list(flags[0].args)
    if len(flags) != len(expr.ops):
        return None
    links = [
        ConditionPart(f"{a.text} {relation} {b.text}", flag, "compare", (), (a, b), relation)
        for a, relation, b, flag in zip(operands, expr.ops, operands[1:], flags, strict=False)
    ]
    return ConditionPart(text, op, "and", tuple(links))


def _is_clock(expr: t.Expr) -> bool:
    """Whether an expression plainly is a time of day: then so is what it is compared with."""
    return (isinstance(expr, t.Name) and expr.name == "clock") or (isinstance(expr, t.Literal) and expr.kind == "clock")


def _named(look: _Look, instance: Instance | None, expr: t.Name, text: str, depth: int) -> ConditionPart | None:
    """What a name was made from: a `let` or signal of this body, an argument, or something of the script around it."""
    while instance is not None:
        for statement in instance.statements:
            value = None
            if (isinstance(statement, t.Let) and [n.name for n in statement.names] == [expr.name]) or (
                isinstance(statement, t.Signal) and statement.name.name == expr.name
            ):
                value = statement.value
            if value is not None:
                return _under(text, _part(look, instance, value, unparse(value), depth))
        if expr.name in instance.arguments:
            argument = instance.arguments[expr.name]
            return _part(look, argument.caller, argument.expr, unparse(argument.expr), depth)
        instance = instance.parent
    return None


def _called(look: _Look, instance: Instance, expr: t.Call, text: str, depth: int) -> ConditionPart | None:
    """A function that gives a condition: what its last line says, in the words of the caller."""
    callee = look.trace.callees.get((instance, expr))
    give = callee.statements[-1] if callee is not None and callee.statements else None
    if callee is None or not isinstance(give, t.Give) or len(give.values) != 1:
        return None
    names = {name: argument.expr for name, argument in callee.arguments.items()}
    inner = _part(look, callee, give.values[0], unparse(give.values[0]), depth)
    if inner is None or inner.how == "plain":
        return None
    return _under(text, _in_words_of(inner, names))


def _in_words_of(part: ConditionPart, names: dict[str, t.Expr]) -> ConditionPart:
    """A part with the parameters of its function replaced by what was given for them."""

    def said(text: str) -> str:
        made = text
        for name, value in names.items():
            made = _replaced(made, name, unparse(value))
        return made

    return ConditionPart(
        said(part.text),
        part.op,
        part.how,
        tuple(_in_words_of(p, names) for p in part.parts),
        tuple(Operand(said(o.text), o.op, o.timed) for o in part.operands),
        part.relation,
        part.lag,
    )


def _replaced(text: str, name: str, value: str) -> str:
    """Puts a value in the place of a name, in brackets where it is more than one word."""
    simple = re.fullmatch(r"[\w.]+(\(.*\))?", value) is not None
    return re.sub(rf"\b{name}\b(?!\()", lambda _: value if simple else f"({value})", text)


def _under(text: str, inner: ConditionPart | None) -> ConditionPart | None:
    """A part under the name that the script has for it."""
    if inner is None or inner.text == text:
        return inner
    if inner.how == "plain":
        return ConditionPart(text, inner.op, "plain")
    return replace(inner, text=f"{text}: {inner.text}")
