"""Statements: names and state, blocks, functions; each is checked for where it stands and what it makes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from oakladder.rung import library, values
from oakladder.rung import tree as t
from oakladder.rung.check.calls import Calls
from oakladder.rung.check.context import TOO_FAR, Context
from oakladder.rung.check.expressions import Expressions
from oakladder.rung.check.outputs import Outputs
from oakladder.rung.check.scope import Binding, Function, Scope
from oakladder.rung.check.settings import Settings
from oakladder.rung.check.trades import Trades
from oakladder.rung.kinds import UNKNOWN, Kind, Type, Unit, common_unit
from oakladder.rung.other_scripts import functions_of, is_taken, own_values_read, reached
from oakladder.rung.problems import Cancelled, Span, did_you_mean
from oakladder.rung.trade_words import FORMS

#: So many statements below a `fresh` are looked through for where it is set.
_NEAR = 200
#: So many titles are named where another is not found.
_MOST_TITLES = 8
#: Kinds that cannot be held from bar to bar.
_UNKEPT = (Kind.TEXT, Kind.COLOUR, Kind.TIMEFRAME)


class Statements:
    """Walks statements one after the other; outputs and settings are checked by separate parts."""

    def __init__(self, context: Context, expressions: Expressions, calls: Calls):
        self.context, self.expressions, self.calls = context, expressions, calls
        self.names = expressions.names
        self.outputs = Outputs(context, expressions)
        self.settings = Settings(context, expressions)
        self.trades = Trades(context, expressions)

    def walk(self, statements: Sequence[t.Statement], scope: Scope) -> tuple[t.Expr, ...] | None:
        given: tuple[t.Expr, ...] | None = None
        for at, statement in enumerate(statements):
            if not self.context.stack:
                self.context.line = statement.span.line
                if self.context.cancelled is not None and self.context.cancelled():
                    raise Cancelled
            if given is not None:
                self.context.reporter.report(
                    "R113", statement.span, "Nothing can follow `give` in a function.", "Move this line above it."
                )
                break
            if not scope.blocks and not self.context.reporter.blame:
                self.context.block = statement.span if isinstance(statement, t.If | t.For) else None
            match statement:
                case t.Give():
                    if scope.blocks or not self.context.stack:
                        self.context.reporter.report(
                            "R113", statement.span, "`give` ends a `define`; it has no place here.", "Take it out.", ""
                        )
                    else:
                        given = statement.values
                case t.Lost():
                    self._lost(statement, scope)
                case t.Let():
                    self._let(statement, scope)
                case t.Keep():
                    self._keep(statement, scope)
                    if not self.context.reporter.blame:
                        self.expressions.value_lints.stays(statement, statements[at + 1 : at + _NEAR])
                case t.Set():
                    self._set(statement, scope)
                case t.If():
                    for condition, body in statement.branches:
                        if condition is not None:
                            self.expressions.flag(condition, scope, "A condition")
                        self._nested(body, scope)
                case t.For():
                    self._for(statement, scope)
                case t.Stop():
                    if not scope.loops:
                        self.context.reporter.report(
                            "R113", statement.span, "`stop` leaves a `for`, and none is open here.", "Take it out.", ""
                        )
                case _:
                    if scope.blocks or self.context.stack:
                        word = _word_of(statement)
                        self.context.reporter.report(
                            "R113",
                            statement.span,
                            f"`{word}` belongs at the top level, not inside a block.",
                            "Move it out and use `when` for its condition."
                            if isinstance(statement, t.Show)
                            else "Move it to the left margin.",
                        )
                    else:
                        self._top(statement, scope)
        return given

    def _top(self, statement: t.Statement, scope: Scope) -> None:
        match statement:
            case t.Define():
                self._define(statement, scope)
            case t.Setting():
                self.settings.setting(statement, scope)
            case t.Signal():
                type_ = self.expressions.flag(statement.value, scope, "A signal")
                reason = self.context.judge.never(statement.value)
                self.context.judge.learn(statement.name.name, statement.value)
                if type_.value is False or reason:
                    self.context.reporter.report(
                        "R703",
                        statement.span,
                        f"The signal `{statement.name.name}` can never be true{': ' * bool(reason)}{reason}.",
                        "Change or take out one of the parts.",
                        also=self._one_back(self.context.judge.looks_at_itself),
                    )
                self.names.bind(
                    statement.name, Binding("signal", replace(type_, kind=Kind.FLAG), statement.name.span), scope
                )
            case t.Show():
                self.outputs.show(statement, scope)
            case t.Use():
                self._use(statement)
            case t.Trade():
                self.trades.trade(statement, scope)
            case t.TradeClause():
                word = FORMS[statement.what].word
                self.context.reporter.report(
                    "R113",
                    statement.span,
                    f"`{word}` belongs to a trade.",
                    "Indent it under a line such as `trade ride long`.",
                )

    def _lost(self, statement: t.Lost, scope: Scope) -> None:
        """Takes what a line that could not be read may make and read for granted."""
        for word in statement.words:
            if (binding := scope.find(word)) is not None:
                binding.read = True
        for name in statement.names:
            if scope.find(name) is None and name not in self.context.base:
                scope.names[name] = Binding("keep", UNKNOWN, statement.span, read=True)
        self.context.lost.update(statement.functions)
        if statement.body:
            inner = Scope(scope, blocks=scope.blocks + 1, loops=scope.loops + 1)
            for word in statement.words:
                if scope.find(word) is None and word not in self.context.base:
                    inner.names[word] = Binding("keep", UNKNOWN, statement.span, read=True)
            for part in statement.body:
                for value in part.values if isinstance(part, t.Give) else ():
                    self.expressions.single(value, inner)
            self.walk([s for s in statement.body if not isinstance(s, t.Give)], inner)

    def _one_back(self, extreme: t.Expr | None) -> tuple[tuple[Span, str], ...]:
        """A look one bar back behind an extreme that has the bar itself in it."""
        if extreme is None or not self.context.written(extreme.span).endswith(")"):
            return ()
        return ((Span(extreme.span.line, extreme.span.column + extreme.span.length, 0), "[1]"),)

    def _use(self, statement: t.Use) -> None:
        """Takes functions from another script of the user's."""
        other_scripts = self.context.other_scripts
        functions = functions_of(statement.title, other_scripts)
        if other_scripts.text(statement.title) is None:
            where = f"in {other_scripts.folder}" if other_scripts.folder else "in your folder"
            titles = ", ".join(f'"{title}"' for title in other_scripts.titles[:_MOST_TITLES])
            hint = did_you_mean(statement.title, other_scripts.titles).replace("`", '"')
            self.context.reporter.report(
                "R211",
                statement.span,
                f'There is no script called "{statement.title}" {where} or beside this one.',
                hint or (f"There are {titles}." if titles else "A script is found by its title or by its file's name."),
            )
            for name in statement.names:
                self.context.lost.add(name.name)
            return
        for name in statement.names:
            if name.name not in functions:
                known = [n for n in functions if not is_taken(n)]
                hint = did_you_mean(name.name, known) or (f"It has {', '.join(known)}." if known else "It has none.")
                self.context.reporter.report(
                    "R204", name.span, f'"{statement.title}" has no function `{name.name}`.', hint
                )
                self.context.lost.add(name.name)
            elif (
                name.name in self.context.functions or name.name in self.context.base or name.name in values.PRIMITIVES
            ):
                self.context.reporter.report(
                    "R202", name.span, f"`{name.name}` is taken.", "Rename it in one of the scripts."
                )
            elif owned := own_values_read(statement.title, name.name, other_scripts):
                values_words = ", ".join(f"`{n}` ({made})" for n, made in owned[:3])
                self.context.reporter.report(
                    "R217",
                    name.span,
                    f'`{name.name}` reads {values_words} of "{statement.title}", and a function is taken without the values '
                    "around it.",
                    f'Give it a parameter for each in "{statement.title}", as in `define {name.name}(x, {owned[0][0]})`.',
                )
                self.context.lost.add(name.name)
            else:
                for called in reached(name.name, functions):
                    self.context.used[called] = functions[called]
                    self.context.functions[called] = Function(functions[called], None, of_library=True)

    def _nested(self, body: Sequence[t.Statement], scope: Scope, loop: bool = False) -> None:
        inner = Scope(scope, blocks=scope.blocks + 1, loops=scope.loops + loop)
        self.walk(body, inner)

    def _let(self, statement: t.Let, scope: Scope) -> None:
        type_ = self.expressions.type_of(statement.value, scope)
        if len(statement.names) == 1 and scope.parent is None and not self.context.stack:
            self.context.judge.learn(statement.names[0].name, statement.value)
        if len(statement.names) == 1:
            self.names.bind(
                statement.names[0], Binding("let", type_, statement.names[0].span, in_block=scope.blocks > 0), scope
            )
            return
        results = [r for _, r in type_.results]
        if type_.kind is not Kind.UNKNOWN and len(results) != len(statement.names):
            what = f"{len(results)} results" if results else "one result"
            self.context.reporter.report(
                "R205",
                statement.span,
                f"There are {len(statement.names)} names, but the value gives {what}.",
                "Name as many as there are results.",
            )
        for k, name in enumerate(statement.names):
            made = results[k] if k < len(results) else UNKNOWN
            self.names.bind(name, Binding("let", made, name.span, in_block=scope.blocks > 0), scope)

    def _keep(self, statement: t.Keep, scope: Scope) -> None:
        word = "fresh" if statement.fresh else "keep"
        if scope.blocks and not statement.fresh:
            self.context.reporter.report(
                "R113", statement.span, "`keep` cannot stand inside `if` or `for`.", "Move it above the block."
            )
        start = self.expressions.single(statement.start, scope)
        if start.kind in _UNKEPT:
            self._report_unkept(word, statement.start.span, start)
        kept = replace(start, moving=True, value=None, counter=False)
        if start.kind is Kind.NONE:  # what it holds is known from the first `set` on
            kept = replace(kept, kind=Kind.UNKNOWN, unit=Unit.UNKNOWN)
        self.names.bind(statement.name, Binding(word, kept, statement.name.span, in_block=scope.blocks > 0), scope)

    def _report_unkept(self, name: str, span: Span, type_: Type) -> None:
        self.context.reporter.report(
            "R301",
            span,
            f"`{self.calls.outermost(name)}` holds numbers and flags, and this is {type_.kind.with_article}.",
            "Keep a number, and choose the text or colour from it with `if … then … else`.",
        )

    def _set(self, statement: t.Set, scope: Scope) -> None:
        if not self.context.stack:
            self.context.judge.changed(statement.name.name)
        if scope.find(statement.name.name) is None:
            self._never_made(statement, scope)
            return
        value = self.expressions.single(statement.value, scope)
        binding = scope.find(statement.name.name)
        assert binding is not None
        if binding.what not in {"keep", "fresh"}:
            made = self._word_before(binding.span, "let") if binding.what == "let" else None
            self.context.reporter.report(
                "R208",
                statement.name.span,
                f"`{statement.name.name}` is made with `{binding.what}` and never changes.",
                "Make it with `keep` (lives on) or `fresh` (starts again on every bar).",
                also=((made, "fresh"),) if made is not None else (),
            )
            return
        if statement.name.name in self.context.taken:
            self.context.met.setdefault(statement.name.name, []).append(statement.name.span)
        old = binding.type
        if value.of_position:
            old = binding.type = replace(old, of_position=True)
        if value.kind is Kind.NONE:  # that fits whatever it holds
            return
        if value.kind in _UNKEPT:
            self._report_unkept(statement.name.name, statement.value.span, value)
            return
        if {old.kind, value.kind} == {Kind.CLOCK, Kind.NUMBER}:  # a clock counts its minutes
            binding.type = replace(old, kind=Kind.NUMBER)
            return
        if old.known_kind and value.known_kind and old.kind is not value.kind:
            self.context.reporter.report(
                "R301",
                statement.value.span,
                f"`{statement.name.name}` holds {old.kind.with_article}, and this is {value.kind.with_article}.",
                "Give it a value of the same kind.",
            )
            return
        if old.kind is Kind.UNKNOWN:
            binding.type = replace(value, moving=True, value=None, counter=False)
        elif value.kind is Kind.NUMBER:
            binding.type = replace(old, unit=common_unit(old.unit, value.unit))

    def _never_made(self, statement: t.Set, scope: Scope) -> None:
        """A `set` of an unknown name: it must be defined above, with a start of its kind."""
        name = statement.name
        if not self.expressions.is_unknown(name, scope):
            self.expressions.unknown_name(name, scope)
            return
        root = scope
        while root.parent is not None and not self.context.stack:
            root = root.parent
        root.names[name.name] = Binding("keep", UNKNOWN, name.span, read=True)
        kind = self.expressions.single(statement.value, scope).kind
        written = self.context.written(name.span)
        where = self.context.block or statement.span
        start = {Kind.NUMBER: "0", Kind.FLAG: "no"}.get(kind, "none")
        above = Span(where.line, where.column, 0)
        self.context.reporter.report(
            "R201",
            name.span,
            f"There is no `{written or name.name}` that could be set.",
            f"Make it above with `keep {name.name} = {start}`.",
            also=((above, f"keep {name.name} = {start}\n{' ' * (where.column - 1)}"),)
            if not self.context.stack
            else (),
        )

    def _word_before(self, span: Span, word: str) -> Span | None:
        """The place of the word with which the line begins on which a name is made, if it is this one."""
        before = self.context.lines[span.line - 1][: span.column - 1] if span.line <= len(self.context.lines) else ""
        return Span(span.line, len(before) - len(before.lstrip()) + 1, len(word)) if before.strip() == word else None

    def _for(self, statement: t.For, scope: Scope) -> None:
        for bound in (statement.first, statement.last):
            type_ = self.expressions.number(bound, scope, "The bound of a `for`")
            if type_.moving and not type_.counter:
                self.context.reporter.report(
                    "R302",
                    bound.span,
                    "The bounds of a `for` must be fixed, so that its cost is known.",
                    "Use a number, a setting, or what is made of them.",
                )
            elif isinstance(type_.value, float) and (type_.value != int(type_.value) or abs(type_.value) > TOO_FAR):
                self.context.reporter.report(
                    "R305",
                    bound.span,
                    f"The bounds of a `for` are whole numbers, at most {TOO_FAR:,}, and this is {type_.value:g}.",
                    "Use `floor` or `ceil`, or another number.",
                )
        inner = Scope(scope, blocks=scope.blocks + 1, loops=scope.loops + 1)
        counter = Type(Kind.NUMBER, moving=True, unit=Unit.PLAIN, counter=True)
        self.names.bind(
            statement.counter, Binding("counter", counter, statement.counter.span, read=True, in_block=True), inner
        )
        self.walk(statement.body, inner)

    def _define(self, statement: t.Define, scope: Scope) -> None:
        name = statement.name.name
        if library.function(name) is not None and name not in self.context.functions and scope.find(name) is None:
            self.context.hiding[name] = [statement.name.span]
        if name in self.context.functions or name in self.context.base or name in values.PRIMITIVES or scope.find(name):
            self.context.reporter.report(
                "R202", statement.name.span, f"`{name}` is taken.", f"Call it `my_{name}`, say.", f"my_{name}"
            )
            return
        seen: set[str] = set()
        for p in statement.parameters:
            if p.name.name in seen:
                self.context.reporter.report(
                    "R202", p.name.span, f"Two parameters are called `{p.name.name}`.", "Give each another name."
                )
            seen.add(p.name.name)
        if not any(isinstance(s, t.Give | t.Lost) for s in statement.body) and statement.body:
            last = statement.body[-1]
            edit: tuple[tuple[Span, str], ...] = ()
            if isinstance(last, t.Let) and last.span.line <= len(self.context.lines):
                row = self.context.lines[last.span.line - 1]
                give = f"\n{' ' * (last.span.column - 1)}give {', '.join(n.name for n in last.names)}"
                edit = ((Span(last.span.line, len(row.rstrip()) + 1, 0), give),)
            self.context.reporter.report(
                "R210", statement.span, f"The function `{name}` gives nothing back.", "End it with `give …`.", also=edit
            )
        self.context.functions[name] = Function(statement, scope)


def _word_of(statement: t.Statement) -> str:
    """The word with which a statement begins."""
    if isinstance(statement, t.TradeClause):
        return FORMS[statement.what].word
    return statement.what if isinstance(statement, t.Show) else type(statement).__name__.lower()
