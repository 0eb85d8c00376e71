"""Finds every problem of a script that can be known before it runs: names, kinds, fixedness, units.

The checker walks the tree with types in place of values. The body of a function is walked once for each
combination of argument types, so a function is as general as its body. It goes on after a problem: what
cannot be typed becomes UNKNOWN, which silences what would only follow from the first slip.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

from oakladder.rung import library, values
from oakladder.rung import tree as t
from oakladder.rung.arguments import arrange, holds_state, signature
from oakladder.rung.check.impossible import Judge
from oakladder.rung.kinds import (
    UNKNOWN,
    Kind,
    Type,
    Unit,
    blend,
    common_unit,
    joined,
    product_unit,
    quotient_unit,
    unlike,
)
from oakladder.rung.problems import Cancelled, Problem, Span, did_you_mean
from oakladder.rung.read.parser import RESERVED, parse
from oakladder.rung.words import ALWAYS, CLAUSE_KINDS, CLAUSE_WORDS, CLAUSES, OPERANDS

#: The other scripts that `use` may take from: title and text of each.
Shelf = tuple[tuple[str, str], ...]
MAX_CALL_DEPTH = 40
_TOO_FAR = 100_000
#: Kinds that cannot be held from bar to bar.
_UNKEPT = (Kind.TEXT, Kind.COLOUR, Kind.TIMEFRAME)
#: So often is a name that is nowhere compared with those that are, to say what may be meant.
_MOST_GUESSES = 25


@dataclass(slots=True)
class Binding:
    """What a name stands for while the script is walked."""

    what: str  # let, keep, fresh, setting, parameter, counter, signal
    type: Type
    span: Span
    read: bool = False
    in_block: bool = False
    argument: Span | None = None


@dataclass(slots=True)
class Scope:
    """The names of a script or of one run of a function body; ``blocks`` counts open ifs and fors."""

    parent: Scope | None = None
    names: dict[str, Binding] = field(default_factory=dict)
    later: frozenset[str] = frozenset()
    blocks: int = 0
    loops: int = 0

    def find(self, name: str) -> Binding | None:
        scope: Scope | None = self
        while scope is not None:
            if name in scope.names:
                return scope.names[name]
            scope = scope.parent
        return None


@dataclass(frozen=True, slots=True)
class Function:
    """A function that can be called: the user's own or one of the library."""

    define: t.Define
    scope: Scope | None
    unit: Unit | None = None
    of_library: bool = False
    lengths: frozenset[str] = frozenset()


def base_scope() -> dict[str, Type]:
    """The built-in names that are values."""
    names = {name: value.type for name, value in values.BAR_VALUES.items()}
    names.update({name: Type(Kind.COLOUR, moving=False) for name in values.PALETTE})
    return names


class Checker:
    """Checks one script; `problems` holds what was found."""

    def __init__(self, script: t.Script, shelf: Shelf = (), cancelled: Callable[[], bool] | None = None):
        self.script = script
        self._cancelled = cancelled
        #: The line of the script that is being checked.
        self.line = 1
        #: The other symbols that the script names, and where.
        self.foreign: list[tuple[str, Span]] = []
        self._shelf = shelf
        #: Functions taken from other scripts.
        self.used: dict[str, t.Define] = {}
        #: Line of an output statement → the unit of its first operand.
        self.units: dict[int, Unit] = {}
        self._found: dict[tuple[str, int, int], Problem] = {}
        self._base = base_scope()
        self._functions: dict[str, Function] = {}
        self._called: set[str] = set()
        self._defined = {s.name.name for s in script.statements if isinstance(s, t.Define)}
        self._stack: list[str] = []
        self._results: list[frozenset[str]] = []
        self._blame: list[Span] = []
        self._checked: dict[tuple[int, tuple[Type, ...]], Type] = {}
        self._holds: dict[int, bool] = {}
        self._judge = Judge()
        self._guesses = 0

    @property
    def problems(self) -> list[Problem]:
        return list(self._found.values())

    def report(self, code: str, span: Span, message: str, fix: str = "", replacement: str | None = None) -> None:
        """Writes a problem down once; inside the library, at the call that led there."""
        if self._blame:
            span, replacement = self._blame[-1], None
        key = (code, span.line, span.column)
        self._found.setdefault(key, Problem(code, span, message, fix, replacement))

    # --- the script -------------------------------------------------------------------------------

    def run(self) -> None:
        """Walks the whole script."""
        if self.script.version is None and self.script.statements:
            self.report(
                "R110",
                Span(1, 1),
                "The script does not say which Rung it is written in.",
                "Put `rung 1` on the first line.",
            )
        scope = Scope(later=_later_names(self.script.statements))
        self._walk(self.script.statements, scope)
        for name, function in self._functions.items():
            if name not in self._called:
                self._body(function, [UNKNOWN] * len(function.define.parameters), function.define.span)
        self._unread(scope)

    def _unread(self, scope: Scope) -> None:
        for name, binding in scope.names.items():
            if binding.read or binding.what == "signal" or name.startswith("_"):
                continue
            if binding.what == "setting":
                self.report("R702", binding.span, f"Nothing reads the setting `{name}`.", "Use it, or take it out.")
            elif binding.what in {"let", "keep", "fresh"}:
                self.report("R701", binding.span, f"Nothing reads `{name}`.", "Use it, or take it out.")

    def _walk(self, statements: Sequence[t.Statement], scope: Scope) -> tuple[t.Expr, ...] | None:
        given: tuple[t.Expr, ...] | None = None
        for statement in statements:
            if not self._stack:
                self.line = statement.span.line
                if self._cancelled is not None and self._cancelled():
                    raise Cancelled
            if given is not None:
                self.report(
                    "R113", statement.span, "Nothing can follow `give` in a function.", "Move this line above it."
                )
                break
            match statement:
                case t.Give():
                    if scope.blocks or not self._stack:
                        self.report(
                            "R113", statement.span, "`give` ends a `define`; it has no place here.", "Take it out."
                        )
                    else:
                        given = statement.values
                case t.Let():
                    self._let(statement, scope)
                case t.Keep():
                    self._keep(statement, scope)
                case t.Set():
                    self._set(statement, scope)
                case t.If():
                    for condition, body in statement.branches:
                        if condition is not None:
                            self._flag(condition, scope, "A condition")
                        self._nested(body, scope)
                case t.For():
                    self._for(statement, scope)
                case t.Stop():
                    if not scope.loops:
                        self.report(
                            "R113", statement.span, "`stop` leaves a `for`, and none is open here.", "Take it out."
                        )
                case _:
                    if scope.blocks or self._stack:
                        word = statement.what if isinstance(statement, t.Show) else type(statement).__name__.lower()
                        self.report(
                            "R113",
                            statement.span,
                            f"`{word}` stands on its own, not inside a block.",
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
                self._setting(statement, scope)
            case t.Signal():
                type_ = self._flag(statement.value, scope, "A signal")
                reason = self._judge.never(statement.value)
                self._judge.learn(statement.name.name, statement.value)
                if type_.value is False or reason:
                    self.report(
                        "R703",
                        statement.span,
                        f"The signal `{statement.name.name}` can never be true{': ' * bool(reason)}{reason}.",
                        "Change or take out one of the parts.",
                    )
                self._bind(
                    statement.name, Binding("signal", replace(type_, kind=Kind.FLAG), statement.name.span), scope
                )
            case t.Show():
                self._show(statement, scope)
            case t.Use():
                self._use(statement)

    def _use(self, statement: t.Use) -> None:
        """Takes functions from another script of the user's."""
        text = dict(self._shelf).get(statement.title)
        if text is None:
            hint = did_you_mean(statement.title, dict(self._shelf)).replace("`", '"')
            self.report(
                "R211",
                statement.span,
                f'There is no script called "{statement.title}" in your folder.',
                hint or "Check its title.",
            )
            return
        defines = {s.name.name: s for s in parse(text)[0].statements if isinstance(s, t.Define)}
        for name in statement.names:
            if name.name not in defines:
                hint = did_you_mean(name.name, defines) or (
                    f"It has {', '.join(defines)}." if defines else "It has none."
                )
                self.report("R204", name.span, f'"{statement.title}" has no function `{name.name}`.', hint)
            elif name.name in self._functions or name.name in self._base or name.name in values.PRIMITIVES:
                self.report("R202", name.span, f"`{name.name}` is taken.", "Rename it in one of the scripts.")
            else:
                self.used[name.name] = defines[name.name]
                self._functions[name.name] = Function(defines[name.name], None, of_library=True)

    def _nested(self, body: Sequence[t.Statement], scope: Scope, loop: bool = False) -> None:
        inner = Scope(scope, blocks=scope.blocks + 1, loops=scope.loops + loop)
        self._walk(body, inner)

    # --- names ------------------------------------------------------------------------------------

    def _bind(self, name: t.Name, binding: Binding, scope: Scope) -> None:
        old = scope.find(name.name)
        if old is not None and (name.name in scope.names or scope.blocks):
            self.report(
                "R202",
                name.span,
                f"`{name.name}` is already made in line {old.span.line}.",
                "Choose another name; to change a value, make it with `keep` or `fresh` and use `set`.",
            )
        elif self._results and name.name in self._results[-1]:
            pass  # a function may name its results as the bar's own: `open`, `high`
        elif name.name in self._base:  # functions are called with brackets, so their names stay free
            self.report(
                "R202",
                name.span,
                f"`{name.name}` belongs to the language.",
                f"Call it `my_{name.name}`, say.",
                f"my_{name.name}",
            )
        scope.names[name.name] = binding

    def _let(self, statement: t.Let, scope: Scope) -> None:
        type_ = self.type_of(statement.value, scope)
        if len(statement.names) == 1 and scope.parent is None and not self._stack:
            self._judge.learn(statement.names[0].name, statement.value)
        if len(statement.names) == 1:
            self._bind(
                statement.names[0], Binding("let", type_, statement.names[0].span, in_block=scope.blocks > 0), scope
            )
            return
        results = [r for _, r in type_.results]
        if type_.kind is not Kind.UNKNOWN and len(results) != len(statement.names):
            what = f"{len(results)} results" if results else "one result"
            self.report(
                "R205",
                statement.span,
                f"{len(statement.names)} names stand here, but the value gives {what}.",
                "Name as many as there are results.",
            )
        for k, name in enumerate(statement.names):
            made = results[k] if k < len(results) else UNKNOWN
            self._bind(name, Binding("let", made, name.span, in_block=scope.blocks > 0), scope)

    def _keep(self, statement: t.Keep, scope: Scope) -> None:
        word = "fresh" if statement.fresh else "keep"
        if scope.blocks and not statement.fresh:
            self.report("R113", statement.span, "`keep` cannot stand inside `if` or `for`.", "Move it above the block.")
        start = self._single(statement.start, scope)
        if start.kind in _UNKEPT:
            self._report_unkept(word, statement.start.span, start)
        kept = replace(start, moving=True, value=None, counter=False)
        if start.kind is Kind.NONE:  # what it holds is known from the first `set` on
            kept = replace(kept, kind=Kind.UNKNOWN, unit=Unit.UNKNOWN)
        self._bind(statement.name, Binding(word, kept, statement.name.span, in_block=scope.blocks > 0), scope)

    def _report_unkept(self, name: str, span: Span, type_: Type) -> None:
        self.report(
            "R301",
            span,
            f"`{self._outermost(name)}` holds numbers and flags, and this is {type_.kind.with_article}.",
            "Keep a number, and choose the text or colour from it with `if … then … else`.",
        )

    def _set(self, statement: t.Set, scope: Scope) -> None:
        value = self._single(statement.value, scope)
        binding = scope.find(statement.name.name)
        if binding is None:
            self._unknown_name(statement.name, scope)
            return
        if binding.what not in {"keep", "fresh"}:
            self.report(
                "R208",
                statement.name.span,
                f"`{statement.name.name}` is made with `{binding.what}` and never changes.",
                "Make it with `keep` (lives on) or `fresh` (starts again on every bar).",
            )
            return
        old = binding.type
        if value.kind in _UNKEPT:
            self._report_unkept(statement.name.name, statement.value.span, value)
            return
        if old.known_kind and value.known_kind and old.kind is not value.kind:
            self.report(
                "R301",
                statement.value.span,
                f"`{statement.name.name}` holds {old.kind.with_article}, and this is {value.kind.with_article}.",
                "Give it a value of its own kind.",
            )
            return
        if old.kind is Kind.UNKNOWN:
            binding.type = replace(value, moving=True, value=None, counter=False)
        elif value.kind is Kind.NUMBER:
            binding.type = replace(old, unit=common_unit(old.unit, value.unit))

    def _for(self, statement: t.For, scope: Scope) -> None:
        for bound in (statement.first, statement.last):
            type_ = self._number(bound, scope, "The bound of a `for`")
            if type_.moving and not type_.counter:
                self.report(
                    "R302",
                    bound.span,
                    "The bounds of a `for` must be fixed, so that its cost is known.",
                    "Use a number, a setting, or what is made of them.",
                )
            elif isinstance(type_.value, float) and (type_.value != int(type_.value) or abs(type_.value) > _TOO_FAR):
                self.report(
                    "R305",
                    bound.span,
                    f"The bounds of a `for` are whole numbers, at most {_TOO_FAR:,}, and this is {type_.value:g}.",
                    "Use `floor` or `ceil`, or another number.",
                )
        inner = Scope(scope, blocks=scope.blocks + 1, loops=scope.loops + 1)
        counter = Type(Kind.NUMBER, moving=True, unit=Unit.PLAIN, counter=True)
        self._bind(
            statement.counter, Binding("counter", counter, statement.counter.span, read=True, in_block=True), inner
        )
        self._walk(statement.body, inner)

    def _define(self, statement: t.Define, scope: Scope) -> None:
        name = statement.name.name
        if name in self._functions or name in self._base or name in values.PRIMITIVES or scope.find(name):
            self.report("R202", statement.name.span, f"`{name}` is taken.", f"Call it `my_{name}`, say.", f"my_{name}")
            return
        seen: set[str] = set()
        for p in statement.parameters:
            if p.name.name in seen:
                self.report(
                    "R202", p.name.span, f"Two parameters are called `{p.name.name}`.", "Give each a name of its own."
                )
            seen.add(p.name.name)
        if not any(isinstance(s, t.Give) for s in statement.body) and statement.body:
            self.report("R210", statement.span, f"The function `{name}` gives nothing back.", "End it with `give …`.")
        self._functions[name] = Function(statement, scope)

    def _setting(self, statement: t.Setting, scope: Scope) -> None:
        default = self._single(statement.default, scope)
        name = statement.name.name
        if default.moving and not statement.choices:
            self.report(
                "R302",
                statement.default.span,
                f"The default of the setting `{name}` must be a fixed value.",
                "Use a number, text, colour, timeframe or clock time.",
            )
        numeric = all(isinstance(x, int | float) for x in (default.value, *self._limits(statement, scope)))
        limits = self._limits(statement, scope)
        if limits and default.kind is not Kind.NUMBER and default.known_kind:
            self.report(
                "R303",
                statement.default.span,
                f"`range` goes with numbers, and `{name}` is {default.kind.with_article}.",
                "Use `choose` for other kinds.",
            )
        elif limits and numeric:
            low, high = float(limits[0]), float(limits[1])  # type: ignore[arg-type]
            if low > high:
                self.report(
                    "R303",
                    statement.span,
                    f"The range of `{name}` ends below its start.",
                    "Put the smaller number first.",
                )
            elif not low <= float(default.value) <= high:  # type: ignore[arg-type]
                self.report(
                    "R303",
                    statement.default.span,
                    f"The default of `{name}` is outside its range {low:g}..{high:g}.",
                    "Change the default or the range.",
                )
        if statement.choices:
            options = [self._single(c, scope) for c in statement.choices]
            if any(o.kind is not default.kind for o in options if o.known_kind and default.known_kind):
                self.report(
                    "R303",
                    statement.span,
                    f"The choices of `{name}` are not all of one kind.",
                    "Offer values of one kind.",
                )
            elif (
                default.value is not None
                and all(o.value is not None for o in options)
                and default.value not in [o.value for o in options]
            ):
                self.report(
                    "R303",
                    statement.default.span,
                    f"The default of `{name}` is not among its choices.",
                    "Put it among them.",
                )
            if any(o.moving for o in options):
                self._series_setting(statement)
                default = replace(default, moving=True)
        self._bind(statement.name, Binding("setting", replace(default, value=None), statement.name.span), scope)

    def _series_setting(self, statement: t.Setting) -> None:
        """A setting that chooses between series: each choice is a name, so that it can be offered."""
        names = [c.name if isinstance(c, t.Name) else "" for c in statement.choices]
        if not all(names):
            self.report(
                "R302",
                statement.span,
                "Choices that move must be plain names, such as `close` or `hl2`.",
                "Make the others above with `let`, and offer their names.",
            )
        elif not isinstance(statement.default, t.Name) or statement.default.name not in names:
            self.report(
                "R303",
                statement.default.span,
                f"The default of `{statement.name.name}` is not among its choices.",
                "Put it among them.",
            )

    def _limits(self, statement: t.Setting, scope: Scope) -> list[object]:
        ends = [statement.low, statement.high] + ([statement.step] if statement.step else [])
        return [self._single(e, scope).value for e in ends if e is not None]

    # --- outputs ----------------------------------------------------------------------------------

    def _show(self, statement: t.Show, scope: Scope) -> None:
        for operand, kinds in zip(statement.operands, OPERANDS[statement.what], strict=True):
            type_ = self._single(operand, scope)
            self.units.setdefault(statement.span.line, type_.unit)
            if type_.known_kind and type_.kind not in kinds:
                self.report(
                    "R301",
                    operand.span,
                    f"`{statement.what}` takes {kinds[0].with_article}, and this is {type_.kind.with_article}.",
                    "A condition can be shown with `mark` or `lane`." if type_.kind is Kind.FLAG else "",
                )
            if statement.what == "level" and type_.moving:
                self.report("R302", operand.span, "A level is fixed, and this value moves.", "Use `line` for it.")
        allowed = CLAUSES[statement.what]
        for clause in statement.clauses:
            if clause.word not in allowed and clause.word not in ALWAYS:
                word = str(clause.value) if clause.word == "side" else "at" if clause.word == "corner" else clause.word
                names = sorted((allowed | ALWAYS) - {"side", "painted", "corner"})
                self.report(
                    "R114", clause.span, f"`{statement.what}` takes no `{word}`.", f"It takes {', '.join(names)}."
                )
                continue
            self._clause(clause, scope)

    def _clause(self, clause: t.Clause, scope: Scope) -> None:
        if clause.word in CLAUSE_WORDS:
            known = CLAUSE_WORDS[clause.word]
            if clause.value not in known:
                hint = did_you_mean(str(clause.value), known) or f"There are {', '.join(known)}."
                self.report("R212", clause.span, f"There is no {clause.word} `{clause.value}`.", hint)
            return
        wanted = CLAUSE_KINDS.get(clause.word)
        if wanted is None or clause.value is None or isinstance(clause.value, str):
            return
        type_ = self._single(clause.value, scope)
        if wanted is Kind.TEXT and type_.kind is Kind.NUMBER:
            return
        if type_.known_kind and type_.kind is not wanted:
            self.report(
                "R301",
                clause.value.span,
                f"`{clause.word}` takes {wanted.with_article}, and this is {type_.kind.with_article}.",
                "Compare it with something to make a condition." if wanted is Kind.FLAG else "",
            )

    # --- expressions ------------------------------------------------------------------------------

    def _single(self, expr: t.Expr, scope: Scope) -> Type:
        """The type of an expression that must be one value."""
        type_ = self.type_of(expr, scope)
        if type_.kind is Kind.BUNDLE:
            names = ", ".join(f".{name}" for name, _ in type_.results)
            self.report("R213", expr.span, "This gives several results, and one is needed.", f"Pick one of {names}.")
            return UNKNOWN
        return type_

    def _number(self, expr: t.Expr, scope: Scope, what: str) -> Type:
        return self._wanted(expr, scope, Kind.NUMBER, what)

    def _flag(self, expr: t.Expr, scope: Scope, what: str) -> Type:
        return self._wanted(expr, scope, Kind.FLAG, what)

    def _wanted(self, expr: t.Expr, scope: Scope, kind: Kind, what: str) -> Type:
        type_ = self._single(expr, scope)
        if kind is Kind.NUMBER and type_.kind is Kind.CLOCK:
            return replace(type_, kind=Kind.NUMBER, value=None)  # a clock time counts its minutes
        if type_.known_kind and type_.kind is not kind:
            fix = "Compare it with something, as in `> 0`." if kind is Kind.FLAG and type_.kind is Kind.NUMBER else ""
            if kind is Kind.NUMBER and type_.kind is Kind.FLAG:
                fix = "Write `if … then 1 else 0` to count a condition."
            self.report(
                "R301",
                self._span_of(expr, scope),
                f"{what} must be {kind.with_article}, and this is {type_.kind.with_article}.",
                fix,
            )
            return replace(type_, kind=kind, value=None)
        return type_

    def _span_of(self, expr: t.Expr, scope: Scope) -> Span:
        """Where to point for an expression: at the argument, if it is a parameter."""
        if isinstance(expr, t.Name) and (binding := scope.find(expr.name)) is not None and binding.argument is not None:
            if self._blame:
                self._blame[-1] = binding.argument
            return binding.argument
        return expr.span

    def type_of(self, expr: t.Expr, scope: Scope) -> Type:
        """The type of an expression; reports what is wrong in it."""
        match expr:
            case t.Literal():
                return self._literal(expr)
            case t.Text():
                parts = [self._single(p.value, scope) for p in expr.parts if isinstance(p, t.TextPart)]
                value = "".join(str(p) for p in expr.parts) if not parts else None
                return blend(*parts, kind=Kind.TEXT, value=value)
            case t.Name():
                return self._name(expr, scope)
            case t.Unary(op="-"):
                inner = self._number(expr.value, scope, "What follows `-`")
                return replace(inner, value=-inner.value if isinstance(inner.value, float) else None)
            case t.Unary():
                inner = self._flag(expr.value, scope, "What follows `not`")
                return replace(inner, kind=Kind.FLAG, value=not inner.value if isinstance(inner.value, bool) else None)
            case t.Binary(op="else"):
                left, right = self._single(expr.left, scope), self._single(expr.right, scope)
                self._same_kind(left, right, expr.right.span)
                return joined(left, right)
            case t.Binary(op="and" | "or"):
                return self._logic(expr, scope)
            case t.Binary():
                return self._arithmetic(expr, scope)
            case t.Compare():
                return self._compare(expr, scope)
            case t.Choice():
                condition = self._flag(expr.condition, scope, "What follows `if`")
                yes, no = self._single(expr.yes_value, scope), self._single(expr.no_value, scope)
                self._same_kind(yes, no, expr.no_value.span)
                either = joined(yes, no)
                return blend(condition, either, kind=either.kind, unit=either.unit)
            case t.Lag():
                return self._lag(expr, scope)
            case t.Pick():
                return self._pick(expr, scope)
            case t.Call():
                return self._call(expr, scope)
            case t.OnTimeframe():
                return self._on_timeframe(expr, scope)
            case t.OfSymbol():
                return self._of_symbol(expr, scope)
        raise AssertionError(expr)

    def _literal(self, expr: t.Literal) -> Type:
        kind = Kind(expr.kind)
        return Type(kind, moving=False, value=expr.value)

    def _name(self, expr: t.Name, scope: Scope) -> Type:
        binding = scope.find(expr.name)
        if binding is not None:
            binding.read = True
            return binding.type
        if expr.name in self._base:
            return self._base[expr.name]
        if expr.name in self._defined and expr.name not in self._functions and not self._blame:
            self._too_early(expr)
            return UNKNOWN
        function = self._function(expr.name)
        if function is not None and not isinstance(arrange(t.Call(expr.name, (), (), expr.span), function.define), str):
            return self._call(t.Call(expr.name, (), (), expr.span), scope)
        self._unknown_name(expr, scope)
        return UNKNOWN

    def _unknown_name(self, expr: t.Name, scope: Scope) -> None:
        root = scope
        while root.parent is not None:
            root = root.parent
        if expr.name in root.later or expr.name in scope.later:
            self._too_early(expr)
            return
        if expr.name in values.PRIMITIVES or self._function(expr.name) is not None:
            self.report("R205", expr.span, f"`{expr.name}` is a function.", f"Call it with brackets: `{expr.name}(…)`.")
            return
        self.report(
            "R201", expr.span, f"There is no `{expr.name}`.", self._guess(expr, scope) or "Make it above with `let`."
        )

    def _guess(self, expr: t.Name, scope: Scope) -> str:
        """What may have been meant by a name that is nowhere; not for the hundredth of them."""
        self._guesses += 1
        if self._guesses > _MOST_GUESSES:
            return ""
        names: set[str] = set(self._base) | set(values.PRIMITIVES) | set(library.names()) | set(self._functions)
        at: Scope | None = scope
        while at is not None:
            names |= set(at.names)
            at = at.parent
        return did_you_mean(expr.name, names)

    def _too_early(self, expr: t.Name | t.Call) -> None:
        self.report(
            "R207",
            Span(expr.span.line, expr.span.column, len(expr.name)),
            f"`{expr.name}` is used before it is made.",
            "Move the line that makes it above this one.",
        )

    def _same_kind(self, a: Type, b: Type, span: Span) -> None:
        if a.known_kind and b.known_kind and a.kind is not b.kind:
            self.report(
                "R301",
                span,
                f"One side is {a.kind.with_article}, the other {b.kind.with_article}.",
                "Both must be of one kind.",
            )

    def _logic(self, expr: t.Binary, scope: Scope) -> Type:
        left = self._flag(expr.left, scope, f"What stands left of `{expr.op}`")
        right = self._flag(expr.right, scope, f"What stands right of `{expr.op}`")
        decisive = expr.op == "or"
        value = (
            decisive
            if decisive in (left.value, right.value)
            and isinstance(decisive, bool)
            and (left.value is decisive or right.value is decisive)
            else None
        )
        if value is None and isinstance(left.value, bool) and isinstance(right.value, bool):
            value = not decisive
        return blend(left, right, kind=Kind.FLAG, value=value)

    def _arithmetic(self, expr: t.Binary, scope: Scope) -> Type:
        left = self._number(expr.left, scope, f"What stands left of `{expr.op}`")
        right = self._number(expr.right, scope, f"What stands right of `{expr.op}`")
        if expr.op in "+-":
            if unlike(left.unit, right.unit):
                self.report(
                    "R401",
                    expr.span,
                    f"This mixes {left.unit.value} and {right.unit.value}.",
                    "Bring both to one unit, or check that the right value is meant.",
                )
            unit = common_unit(left.unit, right.unit)
        elif expr.op == "*":
            unit = product_unit(left.unit, right.unit)
        elif expr.op == "/":
            unit = quotient_unit(left.unit, right.unit)
        elif expr.op == "mod":
            unit = left.unit
        else:
            unit = left.unit if left.unit in (Unit.PLAIN, Unit.RATIO) else Unit.UNKNOWN
        return blend(left, right, kind=Kind.NUMBER, unit=unit, value=_fold(expr.op, left.value, right.value))

    def _compare(self, expr: t.Compare, scope: Scope) -> Type:
        types = [self._single(v, scope) for v in expr.values]
        for k, op in enumerate(expr.ops):
            a, b = types[k], types[k + 1]
            span = expr.values[k + 1].span
            timed = {a.kind, b.kind} == {Kind.CLOCK, Kind.NUMBER}
            if a.known_kind and b.known_kind and a.kind is not b.kind and not timed:
                self.report(
                    "R301",
                    span,
                    f"{a.kind.with_article.capitalize()} is compared with {b.kind.with_article}.",
                    "Compare values of one kind.",
                )
            elif op not in ("==", "!=") and (a.known_kind and a.kind not in (Kind.NUMBER, Kind.CLOCK)):
                self.report(
                    "R301", span, f"`{op}` needs numbers, and this is {a.kind.with_article}.", "Use `==` or `!=`."
                )
            elif a.kind in (Kind.TEXT, Kind.COLOUR) and (a.moving or b.moving):
                self.report(
                    "R302",
                    span,
                    "Texts and colours that move cannot be compared.",
                    "Compare the values they are made of.",
                )
            elif a.kind is Kind.NONE or b.kind is Kind.NONE:
                self.report(
                    "R301", span, "A comparison with none is never true.", "Write `known(x)` or `not known(x)`."
                )
            elif unlike(a.unit, b.unit):
                self.report(
                    "R401",
                    expr.span,
                    f"This compares {a.unit.value} with {b.unit.value}.",
                    "Bring both to one unit, or check that the right value is meant.",
                )
        return blend(*types, kind=Kind.FLAG)

    def _lag(self, expr: t.Lag, scope: Scope) -> Type:
        value = self._single(expr.value, scope)
        lag = self._number(expr.lag, scope, "A lag")
        if scope.blocks and not self._recorded(expr.value, scope):
            self.report(
                "R304",
                expr.span,
                "Inside `if` and `for`, only names made above the block can be looked back at.",
                "Make it above with `let`, and use `name[n]` here.",
            )
        if isinstance(lag.value, float) and lag.value < 0:
            self.report(
                "R501",
                self._span_of(expr.lag, scope),
                "A script cannot see the future: a lag counts bars back, from 0.",
                "Use a number of bars back.",
            )
        elif isinstance(lag.value, float) and (lag.value != int(lag.value) or lag.value > _TOO_FAR):
            self.report(
                "R305",
                self._span_of(expr.lag, scope),
                f"A lag is a whole number of bars, at most {_TOO_FAR:,}.",
                "Change it.",
            )
        if (lag.moving and not lag.counter) or lag.per_symbol:
            self.report(
                "R502",
                self._span_of(expr.lag, scope),
                "A lag must be fixed, and this one moves.",
                "Hold the value in a `keep` instead.",
            )
        if value.kind in (Kind.TEXT, Kind.COLOUR, Kind.TIMEFRAME):
            self.report(
                "R301",
                expr.value.span,
                f"A lag takes a number or a flag, and this is {value.kind.with_article}.",
                "Look back at the values it is made of.",
            )
        return replace(value, moving=True, value=None, counter=False)

    def _recorded(self, expr: t.Expr, scope: Scope) -> bool:
        """Whether the past of an expression is on record although the block may not run."""
        if not isinstance(expr, t.Name):
            return False
        binding = scope.find(expr.name)
        return binding is None or not binding.in_block

    def _on_timeframe(self, expr: t.OnTimeframe, scope: Scope) -> Type:
        if scope.blocks:
            self.report(
                "R304",
                expr.span,
                "Another timeframe cannot be read inside `if` or `for`.",
                "Compute it above the block with `let`, and use the name here.",
            )
        value = self.type_of(expr.value, scope)
        timeframe = self._wanted(expr.timeframe, scope, Kind.TIMEFRAME, "What follows `on`")
        if timeframe.moving:
            self.report(
                "R302",
                expr.timeframe.span,
                "A timeframe must be fixed, and this one moves.",
                "Use 1d, say, or a setting.",
            )
        if value.kind in (Kind.TEXT, Kind.COLOUR):
            self.report(
                "R301",
                expr.value.span,
                f"`on` takes numbers and flags, and this is {value.kind.with_article}.",
                "Read the values it is made of on the other timeframe.",
            )
        return replace(value, moving=True, value=None, counter=False)

    def _of_symbol(self, expr: t.OfSymbol, scope: Scope) -> Type:
        if scope.blocks:
            self.report(
                "R304",
                expr.span,
                "Another symbol cannot be read inside `if` or `for`.",
                "Compute it above the block with `let`, and use the name here.",
            )
        value = self.type_of(expr.value, scope)
        symbol = self._wanted(expr.symbol, scope, Kind.TEXT, "What follows `of`")
        if isinstance(expr.symbol, t.Text) and isinstance(symbol.value, str) and not self._blame:
            self.foreign.append((symbol.value, expr.symbol.span))
        if symbol.moving or symbol.per_symbol:
            self.report(
                "R302",
                expr.symbol.span,
                "The other symbol must be the same on every bar.",
                'Write its name in quotes, as in `close of "TIDE"`, or use a setting.',
            )
        if value.kind in (Kind.TEXT, Kind.COLOUR):
            self.report(
                "R301",
                expr.value.span,
                f"`of` takes numbers and flags, and this is {value.kind.with_article}.",
                "Read the values it is made of from the other symbol.",
            )
        return replace(value, moving=True, value=None, counter=False, per_symbol=False)

    def _pick(self, expr: t.Pick, scope: Scope) -> Type:
        type_ = self.type_of(expr.value, scope)
        if type_.kind is Kind.UNKNOWN:
            return UNKNOWN
        for name, result in type_.results:
            if name == expr.name:
                return result
        names = [name for name, _ in type_.results]
        hint = did_you_mean(expr.name, names) or (
            f"It gives {', '.join(names)}." if names else "It gives one value; leave the point out."
        )
        self.report("R206", expr.span, f"There is no result `{expr.name}` here.", hint)
        return UNKNOWN

    # --- calls ------------------------------------------------------------------------------------

    def _function(self, name: str) -> Function | None:
        if name in self._functions and not self._blame:  # the library calls the library only
            return self._functions[name]
        found = library.function(name)
        return Function(found.define, None, found.unit, True, found.lengths) if found else None

    def _call(self, expr: t.Call, scope: Scope) -> Type:
        if expr.name in values.PRIMITIVES:
            return self._primitive(expr, values.PRIMITIVES[expr.name], scope)
        if expr.name in self._defined and expr.name not in self._functions and not self._blame:
            self._too_early(expr)
            return UNKNOWN
        function = self._function(expr.name)
        if function is None:
            for argument in (*expr.arguments, *(v for _, v in expr.named)):
                self._single(argument, scope)
            names = [*values.PRIMITIVES, *library.names(), *self._functions]
            hint = did_you_mean(expr.name, names) or "Make it above with `define`."
            if scope.find(expr.name) or expr.name in self._base:
                hint = f"`{expr.name}` is a value; look back with square brackets: `{expr.name}[1]`."
            self.report(
                "R204",
                Span(expr.span.line, expr.span.column, len(expr.name)),
                f"There is no function `{expr.name}`.",
                hint,
            )
            return UNKNOWN
        self._called.add(expr.name)
        if expr.name in self._stack and not function.of_library:
            self.report(
                "R209", expr.span, f"`{expr.name}` calls itself.", "Use `keep` to carry a value from bar to bar."
            )
            return UNKNOWN
        if scope.blocks and self._function_holds(function):
            self.report(
                "R304",
                expr.span,
                f"`{expr.name}` looks back over bars, so it must run on every bar, not inside `if` or `for`.",
                "Compute it above the block with `let`, and use the name here.",
            )
        arguments = arrange(expr, function.define)
        if isinstance(arguments, str):
            self.report("R205", expr.span, arguments, f"It is called as {signature(function.define)}.")
            for argument in expr.arguments:
                self._single(argument, scope)
            return UNKNOWN
        types = []
        for parameter, (argument, inside) in zip(function.define.parameters, arguments, strict=True):
            where = scope if inside else Scope()
            is_length = parameter.name.name in function.lengths
            types.append(self._length(argument, where, expr.name) if is_length else self._single(argument, where))
        spans = [self._span_quiet(a, scope) if inside else expr.span for a, inside in arguments]
        return self._body(function, types, expr.span, spans)

    def _span_quiet(self, expr: t.Expr, scope: Scope) -> Span:
        if isinstance(expr, t.Name) and (binding := scope.find(expr.name)) is not None and binding.argument is not None:
            return binding.argument
        return expr.span

    def _body(self, function: Function, types: Sequence[Type], span: Span, spans: Sequence[Span] = ()) -> Type:
        define = function.define
        key = (id(define), tuple(types))
        if key in self._checked:
            return self._checked[key]
        if len(self._stack) >= MAX_CALL_DEPTH:
            self.report("R601", span, f"Functions call functions more than {MAX_CALL_DEPTH} deep.", "Use fewer layers.")
            return UNKNOWN
        before = len(self._found)
        self._stack.append(define.name.name)
        self._results.append(frozenset(_given_names(define)))
        if function.of_library:
            self._blame.append(self._blame[-1] if self._blame else span)
        scope = Scope(function.scope, later=_later_names(define.body))
        for k, (parameter, type_) in enumerate(zip(define.parameters, types, strict=True)):
            argument = spans[k] if function.of_library and spans else None
            scope.names[parameter.name.name] = Binding(
                "parameter", type_, parameter.name.span, read=True, argument=argument
            )
        given = self._walk(define.body, scope)
        results: list[tuple[str, Type]] = []
        for k, value in enumerate(given or ()):
            name = value.name if isinstance(value, t.Name) else str(k + 1)
            results.append((name, self._single(value, scope)))
        if function.of_library:
            self._blame.pop()
        self._stack.pop()
        self._results.pop()
        if not function.of_library:
            for name, binding in scope.names.items():
                if not binding.read:
                    self.report("R701", binding.span, f"Nothing reads `{name}`.", "Use it, or take it out.")
        made = UNKNOWN
        if len(results) == 1:
            made = results[0][1]
            if function.unit is not None:
                made = replace(made, unit=function.unit)
        elif results:
            made = Type(Kind.BUNDLE, results=tuple(results))
        if len(self._found) == before:
            self._checked[key] = made
        return made

    def _primitive(self, expr: t.Call, primitive: values.Primitive, scope: Scope) -> Type:
        names = [name for name, _ in primitive.parameters]
        if expr.named or len(expr.arguments) != len(names):
            self.report(
                "R205",
                expr.span,
                f"`{expr.name}` takes {len(names)} value{'s' if len(names) > 1 else ''}, and {len(expr.arguments)} stand here.",
                f"It is called as {expr.name}({', '.join(names)}).",
            )
            for argument in expr.arguments:
                self._single(argument, scope)
            return Type(primitive.gives)
        if primitive.holds and scope.blocks:
            self.report(
                "R304",
                expr.span,
                f"`{expr.name}` looks back over bars, so it must run on every bar, not inside `if` or `for`.",
                "Compute it above the block with `let`, and use the name here.",
            )
        types: list[Type] = []
        for argument, (name, wants) in zip(expr.arguments, primitive.parameters, strict=True):
            if wants == values.Wants.ANY:
                types.append(self._single(argument, scope))
            elif wants == values.Wants.TIMEFRAME:
                types.append(self._wanted(argument, scope, Kind.TIMEFRAME, f"`{name}` of `{expr.name}`"))
            elif wants == values.Wants.COLOUR:
                types.append(self._wanted(argument, scope, Kind.COLOUR, f"`{name}` of `{expr.name}`"))
            elif wants == values.Wants.LENGTH:
                types.append(self._length(argument, scope, expr.name))
            else:
                types.append(self._number(argument, scope, f"`{name}` of `{expr.name}`"))
        unit = Unit.PLAIN
        if primitive.unit == "same":
            unit = types[0].unit
            if expr.name in ("min", "max"):
                unit = common_unit(types[0].unit, types[1].unit)
            elif expr.name == "sqrt":
                unit = types[0].unit if types[0].unit in (Unit.PLAIN, Unit.RATIO) else Unit.UNKNOWN
        made = blend(*types, kind=primitive.gives, unit=unit)
        return replace(made, moving=True, counter=False) if primitive.holds else made

    def _length(self, expr: t.Expr, scope: Scope, name: str) -> Type:
        """A window length: fixed, a whole number, at least 1."""
        type_ = self._number(expr, scope, "A length")
        if type_.moving or type_.per_symbol:
            self.report(
                "R302",
                self._span_of(expr, scope),
                f"The length for `{self._outermost(name)}` must be fixed, and this one moves.",
                "Use a number or a setting.",
            )
        elif isinstance(type_.value, float) and (
            type_.value < 1 or type_.value != int(type_.value) or type_.value > _TOO_FAR
        ):
            self.report(
                "R305",
                self._span_of(expr, scope),
                f"A length is a whole number of bars from 1 to {_TOO_FAR:,}, and this is {type_.value:g}.",
                "Use 1 or more.",
            )
        return type_

    def _outermost(self, name: str) -> str:
        return self._stack[0] if self._stack and self._blame else name

    def _function_holds(self, function: Function) -> bool:
        """Whether a function keeps anything from bar to bar, by itself or by what it calls."""
        key = id(function.define)
        if key not in self._holds:
            self._holds[key] = False
            self._holds[key] = holds_state(function.define.body, self._name_holds)
        return self._holds[key]

    def _name_holds(self, name: str) -> bool:
        if name in values.PRIMITIVES:
            return values.PRIMITIVES[name].holds
        function = self._function(name)
        return function is not None and self._function_holds(function)


def _given_names(define: t.Define) -> list[str]:
    """The names under which a function gives its results."""
    return [v.name for s in define.body if isinstance(s, t.Give) for v in s.values if isinstance(v, t.Name)]


def _later_names(statements: Sequence[t.Statement]) -> frozenset[str]:
    found: set[str] = set()
    for s in statements:
        if isinstance(s, t.Let):
            found |= {n.name for n in s.names}
        elif isinstance(s, t.Keep | t.Signal | t.Setting):
            found.add(s.name.name)
    return frozenset(found - RESERVED)


def _fold(op: str, a: object, b: object) -> float | None:
    """The value of arithmetic on two known numbers, if it has one."""
    if not isinstance(a, float) or not isinstance(b, float):
        return None
    if op == "+":
        return a + b
    if op == "-":
        return a - b
    if op == "*":
        return a * b
    if op == "/":
        return a / b if b else None
    return None
