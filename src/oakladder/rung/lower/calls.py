"""Calls: functions are written out in place, and the same call is written out once."""

from __future__ import annotations

import functools
from collections.abc import Mapping

from oakladder.rung import library, values
from oakladder.rung import tree as t
from oakladder.rung.arguments import arrange
from oakladder.rung.lower.expressions import Expressions
from oakladder.rung.lower.frames import NOWHERE, Argument, Bundle, CallFrame, Instance, Value
from oakladder.rung.lower.primitives import Primitives
from oakladder.rung.other_scripts import is_taken
from oakladder.rung.plan.ops import LONGEST, Slot


class Calls:
    """Lowers calls of functions: of the script, of scripts that it uses, and of the library."""

    def __init__(
        self, script: t.Script, used: Mapping[str, t.Define], expressions: Expressions, primitives: Primitives
    ):
        self.emitter, self.expressions, self.primitives = expressions.emitter, expressions, primitives
        self._used = used
        self._defines = {s.name.name: s for s in script.statements if isinstance(s, t.Define)}
        self._places = {s.name.name: k for k, s in enumerate(script.statements) if isinstance(s, t.Define)}
        self._known: dict[tuple[object, ...], Instance] = {}
        self._crossing: dict[int, bool] = {}

    def call(self, expr: t.Call, frame: CallFrame) -> Value:
        if expr.name in values.PRIMITIVES:
            return self.primitives.primitive(expr, frame)
        # Only the script's own text sees the functions that it makes or takes; the library sees the library.
        ours = self.expressions.trace.root in (frame.instance, frame.instance.parent)
        own = self._defines.get(expr.name) if ours else None
        lengths: frozenset[str] = frozenset()
        parent: Instance | None = None
        if expr.name in self._used and (ours or is_taken(expr.name)):
            define = self._used[expr.name]
        elif own is None:
            found = library.function(expr.name)
            assert found is not None, expr.name
            define, lengths = found.define, found.lengths
        else:
            define, parent = own, self.expressions.trace.root
        arranged = arrange(expr, define)
        assert isinstance(arranged, list)
        at = frame.seen
        caller = frame.instance
        arguments: dict[str, Argument] = {}
        names: dict[str, Value | Slot] = {}
        for parameter, (value, inside) in zip(define.parameters, arranged, strict=True):
            holder, place = (caller, at) if inside else (NOWHERE, 0)
            arguments[parameter.name.name] = Argument(value, holder, place)
            made_of = self.expressions.value(value, frame if inside else CallFrame(NOWHERE, frame.domain))
            names[parameter.name.name] = made_of
            if parameter.name.name in lengths:
                self.emitter.demand(self.emitter.one(made_of), 1, LONGEST, f"the length of `{expr.name}`")
        key: tuple[object, ...] = (id(define), frame.domain, *(_identity(v) for v in names.values()))
        if self._crosses(define):
            key = (*key, *(id(a.expr) for a in arguments.values()), id(caller))
        top = len(self.emitter.blocks[frame.domain]) == 1
        instance = self._known.get(key) if top else None
        shared = instance is not None
        if instance is None:
            instance = Instance(define.body, parent, arguments, self._places.get(expr.name, 0))
        if frame.domain is self.emitter.base:
            self.expressions.trace.callees[caller, expr] = instance
        if shared:
            given = instance.frames[frame.domain].given
            assert given is not None
            return given
        if parent is not None:
            self.expressions.frame(parent, frame.domain, instance.parent_done)
        made = instance.frames[frame.domain] = CallFrame(instance, frame.domain, names)
        self.expressions.frame(instance, frame.domain, len(define.body))
        assert made.given is not None
        if top:
            self._known[key] = instance
        return made.given

    def _crosses(self, define: t.Define) -> bool:
        """Whether a function reads another timeframe; looked up once for each."""
        if id(define) not in self._crossing:
            found = library.function(define.name.name)
            of_library = found is not None and found.define is define
            self._crossing[id(define)] = _library_crosses(define.name.name) if of_library else _crosses(define.body)
        return self._crossing[id(define)]


@functools.cache
def _library_crosses(name: str) -> bool:
    """Whether a function of the library reads another timeframe: its text stays the same from script to script."""
    found = library.function(name)
    return found is not None and _crosses(found.define.body)


def _identity(value: Value | Slot) -> object:
    if isinstance(value, Bundle):
        return tuple(id(op) for op in value.results.values())
    return id(value)


def _crosses(node: object) -> bool:
    """Whether a piece of tree reads another timeframe."""
    if isinstance(node, tuple):
        return any(_crosses(n) for n in node)
    if isinstance(node, t.OnTimeframe | t.OfSymbol):
        return True
    return any(_crosses(getattr(node, slot)) for slot in getattr(node, "__slots__", ()) if slot != "span")
