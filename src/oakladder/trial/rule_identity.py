"""What tells rules apart however their scripts are written: the marks of a script's text and of what it compiles to."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

from oakladder.rung.plan.ops import Op
from oakladder.rung.program import Program
from oakladder.trial.notebook import rule_mark


def compiled_mark(program: Program) -> str:
    """The mark of what a script's signals and trades compile to: equal however its names, lines and comments are written.
    Settings count by their names, not by their values. Empty for a script with neither."""
    trading = program.plan.trading
    roots = [s.roles["value"] for s in program.signals] + (trading.roots if trading is not None else [])
    if not roots:
        return ""
    code = program.variant(roots).code
    inputs = [(type(i).__name__, getattr(i, "name", ""), [_told(op) for op in i.fixed]) for i in code.inputs]
    told = repr((code.digest, [_told(op) for op in code.fixed], inputs))
    return hashlib.blake2b(told.encode("utf-8", "surrogatepass"), digest_size=8).hexdigest()


def marks_of(programs: Iterable[Program], texts: Iterable[str]) -> frozenset[str]:
    """All marks by which a script may be recognised: of its programs and of its texts, earlier ones too."""
    found = {compiled_mark(p) for p in programs} | {rule_mark(t) for t in texts}
    return frozenset(found - {"", rule_mark("")})


def _told(op: Op) -> tuple[object, ...]:
    """A fixed value as what it is reckoned from."""
    attr = op.attr if isinstance(op.attr, str | int | float | tuple) else type(op.attr).__name__
    return op.code, attr, op.kind, tuple(_told(a) for a in op.args)
