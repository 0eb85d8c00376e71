"""What a script shows: its operands and clauses by role."""

from __future__ import annotations

from oakladder.rung import tree as t
from oakladder.rung.lower.emit import Emitter
from oakladder.rung.lower.expressions import Expressions
from oakladder.rung.lower.frames import CallFrame
from oakladder.rung.plan.ops import DATA_EXPONENT, ZONE, Op, Output, under
from oakladder.rung.problems import Problem, ScriptError, Span
from oakladder.rung.words import ZONE_CLAUSES, ZONE_VALUES, Shown

#: Max number of texts or colours that one is composed of.
MAX_SHELLS = 200


class Outputs:
    """Lowers outputs."""

    def __init__(self, emitter: Emitter, expressions: Expressions):
        self.emitter, self.expressions = emitter, expressions

    def show(self, statement: t.Show, frame: CallFrame) -> None:
        roles: dict[str, Op] = {}
        attributes: dict[str, str] = {}
        for name, operand in zip(("value", "other"), statement.operands, strict=False):
            roles[name] = self.emitter.one(self.expressions.value(operand, frame))
        for clause in statement.clauses:
            if isinstance(clause.value, str):
                attributes[clause.word] = clause.value
            elif clause.value is not None:
                op = self.emitter.one(self.expressions.value(clause.value, self._sees(statement, clause, frame)))
                roles[clause.word] = self.emitter.flag(op, frame.domain) if clause.word in ("when", "until") else op
        if statement.what == "mark":
            roles["value"] = self.emitter.flag(roles["value"], frame.domain)
        for role in roles.values():
            self._check_shell(role)
        first = statement.operands[0] if statement.operands else None
        name = attributes.get("named") or (first.name if isinstance(first, t.Name) else "")
        self.emitter.outputs.append(Output(Shown(statement.what), name, roles, attributes, statement.span.line))

    def _sees(self, statement: t.Show, clause: t.Clause, frame: CallFrame) -> CallFrame:
        """What the names in a clause stand for: in `until` of a zone `top`, `bottom` and `age` are its own."""
        if statement.what != Shown.ZONE or clause.word not in ZONE_CLAUSES:
            return frame
        own = {n: self.emitter.emit(ZONE, attr=n, bound=DATA_EXPONENT, domain=frame.domain) for n in ZONE_VALUES}
        return CallFrame(frame.instance, frame.domain, {**frame.names, **own}, frame.done, frame.begun)

    def _check_shell(self, op: Op) -> None:
        """Limits how many parts a text or colour has: it is composed bar by bar when it is shown."""
        if op.is_shell and sum(part.is_shell for part in under(op, lambda part: part.is_shell)) > MAX_SHELLS:
            words = f"a text or colour that is composed of more than {MAX_SHELLS} others"
            raise ScriptError(
                (Problem("R601", Span(self.emitter.line, 1), f"This shows {words}.", "Make it of fewer."),)
            )
