"""Calls: which argument goes to which parameter, how a function is written, whether it keeps state."""

from __future__ import annotations

from collections.abc import Callable

from oakladder.rung import tree as t


def holds_state(node: object, call_holds: Callable[[str], bool]) -> bool:
    """Whether a piece of tree has a `keep`, a lag, or a call that holds state."""
    if isinstance(node, tuple):
        return any(holds_state(n, call_holds) for n in node)
    if isinstance(node, t.Lag | t.OnTimeframe | t.OfSymbol) or (isinstance(node, t.Keep) and not node.fresh):
        return True
    if isinstance(node, t.Call) and call_holds(node.name):
        return True
    slots = getattr(node, "__slots__", ())
    return any(holds_state(getattr(node, slot), call_holds) for slot in slots if slot != "span")


def arrange(call: t.Call, define: t.Define) -> list[tuple[t.Expr, bool]] | str:
    """The arguments in the order of the parameters, with whether each comes from the call; or what is wrong."""
    parameters = define.parameters
    if len(call.arguments) > len(parameters):
        plural = "value" if len(parameters) == 1 else "values"
        return f"`{call.name}` takes at most {len(parameters)} {plural}, not {len(call.arguments)}."
    given: dict[str, t.Expr] = {p.name.name: a for p, a in zip(parameters, call.arguments, strict=False)}
    for name, value in call.named:
        if name not in {p.name.name for p in parameters}:
            return f"`{call.name}` has no `{name}`."
        if name in given:
            return f"`{name}` is given twice to `{call.name}`."
        given[name] = value
    made: list[tuple[t.Expr, bool]] = []
    for p in parameters:
        if p.name.name in given:
            made.append((given[p.name.name], True))
        elif p.default is not None:
            made.append((p.default, False))
        else:
            return f"`{call.name}` needs a value for `{p.name.name}`."
    return made


def signature(define: t.Define) -> str:
    """A function as it is called, for messages and help: ``rsi(x, n)``."""
    parts = []
    for p in define.parameters:
        if p.default is None:
            parts.append(p.name.name)
        else:
            value = p.default.value if isinstance(p.default, t.Literal) else "…"
            parts.append(f"{p.name.name} = {value:g}" if isinstance(value, float) else f"{p.name.name} = {value}")
    return f"{define.name.name}({', '.join(parts)})"
