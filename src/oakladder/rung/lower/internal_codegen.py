"""Code that the compiler writes in Rung and runs over rows of numbers instead of bars."""

from __future__ import annotations

from oakladder.rung import tree as t
from oakladder.rung.lower.calls import Calls
from oakladder.rung.lower.emit import Emitter
from oakladder.rung.lower.expressions import Expressions
from oakladder.rung.lower.frames import Instance, Trace
from oakladder.rung.lower.primitives import Primitives
from oakladder.rung.lower.writer import Writer
from oakladder.rung.plan.inputs import BarColumn
from oakladder.rung.plan.ops import DATA_EXPONENT, Op, Plan


def own_writer(inputs: tuple[str, ...], settings: tuple[str, ...], *, guard_overflow: bool = True) -> Writer:
    """A writer with nothing written yet, that knows the numbers of a row and what is the same for all rows by name. Unless
    it is to ``guard_overflow`` them, numbers may grow beyond all limits."""
    emitter = Emitter(guard_overflow)
    expressions = Expressions(emitter, Trace(Instance(())), frozenset())
    calls = Calls(t.Script(1, "", ""), {}, expressions, Primitives(emitter, expressions))
    expressions.parts = {t.Call: calls.call}
    writer = Writer(expressions, emitter.base)
    for name in inputs:
        writer.let(name, emitter.emit("input", attr=BarColumn(name), bound=DATA_EXPONENT, domain=emitter.base))
    for name in settings:
        writer.let(name, emitter.emit("setting", attr=name, domain=emitter.base))
    return writer


def own_plan(writer: Writer, results: tuple[str, ...]) -> tuple[Plan, tuple[Op, ...]]:
    """The plan of what was written, and the numbers that it is to give for each row, by name."""
    made = tuple(writer.value(name) for name in results)
    return Plan(writer.emitter.domains, [], [], {}, is_own=True), made
