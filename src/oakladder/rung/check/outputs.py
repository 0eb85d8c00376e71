"""What a script shows: the operands and clauses of each output, by the table in `words`."""

from __future__ import annotations

from oakladder.rung import tree as t
from oakladder.rung.check.context import Context
from oakladder.rung.check.expressions import Expressions
from oakladder.rung.check.scope import Scope
from oakladder.rung.kinds import Kind
from oakladder.rung.problems import did_you_mean
from oakladder.rung.words import CLAUSE_CHOICES, CLAUSE_KINDS, OUTPUTS, allowed


class Outputs:
    """Checks what a script shows."""

    def __init__(self, context: Context, expressions: Expressions):
        self.context, self.expressions = context, expressions

    def show(self, statement: t.Show, scope: Scope) -> None:
        for operand, kinds in zip(statement.operands, OUTPUTS[statement.what].kinds, strict=True):
            type_ = self.expressions.single(operand, scope)
            self.context.units.setdefault(statement.span.line, type_.unit)
            if type_.known_kind and type_.kind not in kinds:
                self.context.report(
                    "R301",
                    operand.span,
                    f"`{statement.what}` takes {kinds[0].with_article}, and this is {type_.kind.with_article}.",
                    "A condition can be shown with `mark` or `lane`." if type_.kind is Kind.FLAG else "",
                )
            if statement.what == "level" and type_.moving:
                self.context.report(
                    "R302", operand.span, "A level is fixed, and this value moves.", "Use `line` for it."
                )
        taken = allowed(statement.what)
        for clause in statement.clauses:
            if clause.word not in taken:
                word = str(clause.value) if clause.word == "side" else "at" if clause.word == "corner" else clause.word
                names = sorted(taken - {"side", "painted", "corner"})
                self.context.report(
                    "R114", clause.span, f"`{statement.what}` takes no `{word}`.", f"It takes {', '.join(names)}."
                )
                continue
            self._clause(clause, scope)

    def _clause(self, clause: t.Clause, scope: Scope) -> None:
        if clause.word in CLAUSE_CHOICES:
            known = CLAUSE_CHOICES[clause.word]
            if clause.value not in known:
                hint = did_you_mean(str(clause.value), known) or f"There are {', '.join(known)}."
                self.context.report("R212", clause.span, f"There is no {clause.word} `{clause.value}`.", hint)
            return
        wanted = CLAUSE_KINDS.get(clause.word)
        if wanted is None or clause.value is None or isinstance(clause.value, str):
            return
        type_ = self.expressions.single(clause.value, scope)
        if wanted is Kind.TEXT and type_.kind is Kind.NUMBER:
            return
        if type_.known_kind and type_.kind is not wanted:
            self.context.report(
                "R301",
                clause.value.span,
                f"`{clause.word}` takes {wanted.with_article}, and this is {type_.kind.with_article}.",
                "Compare it with something to make a condition." if wanted is Kind.FLAG else "",
            )
