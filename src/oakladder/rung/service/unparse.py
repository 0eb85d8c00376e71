"""Expressions written as text again, with no more brackets than they need."""

from __future__ import annotations

from collections.abc import Callable

from oakladder.rung import tree as t

See = Callable[[t.Expr], t.Expr]
#: How tightly each form binds; what binds less tightly than its surroundings is put in brackets.
_CHOICE, _ELSE, _OR, _AND, _NOT, _COMPARE, _SUM, _PRODUCT, _NEGATIVE, _POWER, _TIGHT, _ATOM = range(12)
_BINARY = {
    "else": _ELSE,
    "or": _OR,
    "and": _AND,
    "+": _SUM,
    "-": _SUM,
    "*": _PRODUCT,
    "/": _PRODUCT,
    "mod": _PRODUCT,
    "^": _POWER,
}


def unparse(expr: t.Expr, see: See = lambda expr: expr) -> str:
    """An expression as a script would say it; ``see`` may put another in the place of each."""
    return _written(expr, see)[0]


def _within(expr: t.Expr, least: int, see: See) -> str:
    text, binds = _written(expr, see)
    return text if binds >= least else f"({text})"


def _written(expr: t.Expr, see: See) -> tuple[str, int]:
    """The text, and how tightly it binds."""
    expr = see(expr)
    match expr:
        case t.Name():
            return expr.name, _ATOM
        case t.Literal():
            return _literal(expr), _ATOM
        case t.Text():
            return _text(expr, see), _ATOM
        case t.Unary():
            if expr.op == "-":
                return f"-{_within(expr.value, _POWER, see)}", _NEGATIVE  # two dashes would begin a comment
            return f"not {_within(expr.value, _NOT, see)}", _NOT
        case t.Binary():
            binds = _BINARY[expr.op]
            # Most chains are read from the left; `else` and `^` from the right.
            left, right = {"else": (_OR, _CHOICE), "^": (_TIGHT, _NEGATIVE)}.get(expr.op, (binds, binds + 1))
            return f"{_within(expr.left, left, see)} {expr.op} {_within(expr.right, right, see)}", binds
        case t.Compare():
            parts = [_within(expr.values[0], _SUM, see)]
            for op, value in zip(expr.ops, expr.values[1:], strict=True):
                parts += [op, _within(value, _SUM, see)]
            return " ".join(parts), _COMPARE
        case t.Choice():
            return (
                f"if {_within(expr.condition, _OR, see)} then {_within(expr.yes_value, _OR, see)} "
                f"else {_within(expr.no_value, _CHOICE, see)}",
                _CHOICE,
            )
        case t.Call():
            given = [_written(a, see)[0] for a in expr.arguments]
            given += [f"{name} = {_written(value, see)[0]}" for name, value in expr.named]
            return (f"{expr.name}({', '.join(given)})" if given else expr.name), _ATOM
        case t.Lag():
            return f"{_within(expr.value, _TIGHT, see)}[{_written(expr.lag, see)[0]}]", _TIGHT
        case t.Pick():
            return f"{_within(expr.value, _TIGHT, see)}.{expr.name}", _TIGHT
        case t.OnTimeframe():
            forming = " forming" if expr.forming else ""
            return f"{_within(expr.value, _TIGHT, see)} on {_within(expr.timeframe, _ATOM, see)}{forming}", _TIGHT
        case t.OfSymbol():
            return f"{_within(expr.value, _TIGHT, see)} of {_within(expr.symbol, _ATOM, see)}", _TIGHT
    raise AssertionError(expr)


def _literal(expr: t.Literal) -> str:
    match expr.kind:
        case "flag":
            return "yes" if expr.value else "no"
        case "clock":
            minutes = int(float(expr.value))  # type: ignore[arg-type]
            return f"{minutes // 60:02d}:{minutes % 60:02d}"
        case "number":
            return f"{expr.value:.15g}"
        case "none":
            return "none"
    return str(expr.value)


def _text(expr: t.Text, see: See) -> str:
    parts = []
    for part in expr.parts:
        if isinstance(part, str):
            escaped = part.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
            parts.append(escaped.replace("{", "{{").replace("}", "}}"))
        else:
            parts.append("{" + _written(part.value, see)[0] + (f":{part.form}" if part.form else "") + "}")
    return f'"{"".join(parts)}"'
