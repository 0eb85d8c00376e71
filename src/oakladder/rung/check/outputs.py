"""What a script shows: the operands and clauses of each output, by the table in `words`."""

from __future__ import annotations

from oakladder.rung import tree as t
from oakladder.rung.check.context import Context
from oakladder.rung.check.expressions import Expressions
from oakladder.rung.check.scope import Binding, Scope
from oakladder.rung.check.suggestions import surest, unquoted
from oakladder.rung.kinds import Kind, Type, Unit
from oakladder.rung.problems import Span, did_you_mean
from oakladder.rung.values import SHAPES
from oakladder.rung.words import CLAUSE_CHOICES, CLAUSE_KINDS, OUTPUTS, ZONE_CLAUSES, ZONE_VALUES, Shown, allowed

#: The largest size of marks and labels.
_LARGEST = 5


class Outputs:
    """Checks what a script shows."""

    def __init__(self, context: Context, expressions: Expressions):
        self.context, self.expressions = context, expressions

    def show(self, statement: t.Show, scope: Scope) -> None:
        if self._shape_first(statement, scope):
            return
        self.expressions.lints.drawn(statement)
        for operand, kinds in zip(statement.operands, OUTPUTS[statement.what].kinds, strict=True):
            if Kind.TEXT in kinds and self._bare_text(operand, scope):
                continue
            type_ = self.expressions.single(operand, scope)
            self.context.units.setdefault(statement.span.line, Unit.CLOCK if type_.kind is Kind.CLOCK else type_.unit)
            timed = type_.kind is Kind.CLOCK and Kind.NUMBER in kinds  # a clock counts its minutes
            if type_.known_kind and type_.kind not in kinds and not timed:
                self.context.reporter.report(
                    "R301",
                    operand.span,
                    f"`{statement.what}` takes {kinds[0].with_article}, and this is {type_.kind.with_article}.",
                    "A condition can be shown with `mark` or `lane`." if type_.kind is Kind.FLAG else "",
                )
            if statement.what == Shown.LEVEL and type_.moving:
                begin = Span(statement.span.line, statement.span.column, len(Shown.LEVEL))
                edit = "line" if self.context.written(begin) == Shown.LEVEL else None
                self.context.reporter.report(
                    "R302",
                    operand.span,
                    "A level is fixed, and this value moves.",
                    "Use `line` for it.",
                    also=((begin, edit),) if edit else (),
                )
        taken = allowed(statement.what)
        for clause in statement.clauses:
            if clause.word not in taken:
                word = str(clause.value) if clause.word == "side" else "at" if clause.word == "corner" else clause.word
                names = sorted(taken - {"side", "painted", "corner"})
                self.context.reporter.report(
                    "R114", clause.span, f"`{statement.what}` takes no `{word}`.", f"It takes {', '.join(names)}."
                )
                continue
            self._clause(clause, self._sees(statement, clause, scope))

    def _sees(self, statement: t.Show, clause: t.Clause, scope: Scope) -> Scope:
        """The names that a clause can read: in `until` of a zone its own `top`, `bottom` and `age`."""
        if statement.what != Shown.ZONE or clause.word not in ZONE_CLAUSES:
            return scope
        units = {"age": Unit.BARS}
        own = {
            name: Binding(
                "let", Type(Kind.NUMBER, unit=units.get(name, Unit.PRICE), of_zone=True), clause.span, read=True
            )
            for name in ZONE_VALUES
        }
        return Scope(scope, own)

    def _bare_text(self, operand: t.Expr, scope: Scope) -> bool:
        """Whether a text stands without quotes: one word that is no name, where a text belongs."""
        if not isinstance(operand, t.Name) or not self.expressions.is_unknown(operand, scope):
            return False
        written = self.context.written(operand.span)
        if surest(operand.name, self.context.base) is not None or not written:
            return False
        self.context.reporter.report(
            "R201",
            operand.span,
            f"There is no `{written}`; a text is in quotes.",
            f'Write "{written}".',
            f'"{written}"',
        )
        return True

    def _shape_first(self, statement: t.Show, scope: Scope) -> bool:
        """Whether a `mark` begins with its shape: `mark arrow_up when …`."""
        if statement.what != Shown.MARK or not isinstance(statement.operands[0], t.Name):
            return False
        shape = statement.operands[0]
        if shape.name not in SHAPES or not self.expressions.is_unknown(shape, scope):
            return False
        when = next((c for c in statement.clauses if c.word == "when" and not isinstance(c.value, str)), None)
        if when is None or when.value is None or isinstance(when.value, str):
            edit: tuple[str | None, tuple[tuple[Span, str], ...]] = (None, ())
        else:
            edit = self.context.written(when.value.span), ((when.span, f"shape {shape.name}"),)
        self.context.reporter.report(
            "R201",
            shape.span,
            f"`{shape.name}` is a shape; a `mark` begins with its condition.",
            f"Write `mark FLAG shape {shape.name}`.",
            *edit,
        )
        for clause in statement.clauses:
            self._clause(clause, scope)
        return True

    def _at_most(self, value: t.Expr, type_: Type) -> None:
        """How many zones may be open: fixed, whole, one or more."""
        if type_.moving or type_.per_symbol:
            self.context.reporter.report(
                "R302", value.span, "`most` must be fixed, and this moves.", "Use a number or a setting."
            )
        elif isinstance(type_.value, float) and (type_.value < 1 or not type_.value.is_integer()):
            self.context.reporter.report("R305", value.span, "`most` is a whole number from 1 on.", "Use 1 or more.")

    def _clause(self, clause: t.Clause, scope: Scope) -> None:
        if clause.word in CLAUSE_CHOICES:
            known = CLAUSE_CHOICES[clause.word]
            if clause.value not in known:
                sure = surest(str(clause.value), known)
                hint = did_you_mean(str(clause.value), known) or f"There are {', '.join(known)}."
                self.context.reporter.report(
                    "R212", clause.span, f"There is no {clause.word} `{clause.value}`.", hint, sure
                )
            return
        wanted = CLAUSE_KINDS.get(clause.word)
        if wanted is None or clause.value is None or isinstance(clause.value, str):
            return
        type_ = self.expressions.single(clause.value, scope)
        if clause.word == "most":
            self._at_most(clause.value, type_)
        if clause.word == "size" and isinstance(type_.value, float) and not 1 <= type_.value <= _LARGEST:
            near = f"{min(max(type_.value, 1), _LARGEST):g}"
            self.context.reporter.report(
                "R406",
                clause.value.span,
                f"A size goes from 1 to {_LARGEST}, and {type_.value:g} is drawn as {near}.",
                f"Write {near}.",
                near,
            )
        if (wanted, type_.kind) in ((Kind.TEXT, Kind.NUMBER), (Kind.NUMBER, Kind.CLOCK)):
            return
        if type_.known_kind and type_.kind is not wanted:
            plain = unquoted(clause.value, wanted)
            hint = "Compare it with something to make a condition." if wanted is Kind.FLAG else ""
            self.context.reporter.report(
                "R301",
                clause.value.span,
                f"`{clause.word}` takes {wanted.with_article}, and this is {type_.kind.with_article}.",
                f"Write `{plain}` without quotes." if plain else hint,
                plain,
            )
