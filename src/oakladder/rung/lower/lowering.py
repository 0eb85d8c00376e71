"""Tree to plan: functions are written out in place, identical parts are shared, state becomes explicit.

A value can be asked for on several timeframes. Each call (and the script itself) is an `Instance`; on each
domain it has a `Frame`, whose statements are lowered in order, as far as they are needed.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from oakladder.rung import library, values
from oakladder.rung import tree as t
from oakladder.rung.arguments import arrange
from oakladder.rung.kinds import Kind
from oakladder.rung.plan.ops import (
    CHART_TIMEFRAME,
    DATA_EXPONENT,
    DIVISOR_EXPONENT,
    SORTED,
    TAME_EXPONENT,
    Branch,
    Demand,
    Domain,
    Fold,
    Foreign,
    Item,
    Loop,
    Op,
    Output,
    Plan,
    Put,
    Ring,
    Save,
    Slot,
    Stop,
    under,
)
from oakladder.rung.problems import Cancelled, Problem, ScriptError, Span
from oakladder.rung.read.parser import parse

MAX_OPS = 20_000
#: The most texts or colours that one is put together of.
MAX_SHELLS = 200
_NAN = float("nan")
#: Operations that differ from bar to bar (or symbol to symbol) whatever they are made of.
_MOVING = frozenset(["ranked", "input", "get", "prev", "past", "fold", "bar", "export", "symbol"])
_MAX_LENGTH = 100_000


@dataclass(slots=True)
class Bundle:
    """Several results of a call, by name."""

    results: dict[str, Op]


Value = Op | Bundle


@dataclass(slots=True)
class Argument:
    """What a parameter stands for: an expression of the caller, lowered on whichever domain asks."""

    expr: t.Expr
    caller: Instance
    at: int


class Instance:
    """The script, or one call of a function."""

    __slots__ = ("arguments", "frames", "parent", "parent_done", "statements")

    def __init__(
        self,
        statements: Sequence[t.Statement],
        parent: Instance | None = None,
        arguments: dict[str, Argument] | None = None,
        parent_done: int = 0,
    ):
        self.statements, self.parent, self.parent_done = statements, parent, parent_done
        self.arguments = arguments or {}
        self.frames: dict[Domain, Frame] = {}


@dataclass(slots=True)
class Frame:
    """An instance on a domain: what its names stand for so far, and how many statements are done."""

    instance: Instance
    domain: Domain
    names: dict[str, Value | Slot] = field(default_factory=dict)
    done: int = 0
    given: Value | None = None


@dataclass(slots=True)
class Trace:
    """What each expression became on the chart's own bars, so that a condition can be taken apart afterwards."""

    root: Instance
    values: dict[tuple[Instance, t.Expr], Value] = field(default_factory=dict)
    callees: dict[tuple[Instance, t.Expr], Instance] = field(default_factory=dict)


class Lowerer:
    """Builds the plan of one checked script."""

    def __init__(self, script: t.Script, used: Mapping[str, t.Define], cancelled: Callable[[], bool] | None = None):
        self.script = script
        self._cancelled = cancelled
        self._used = used
        self.base = Domain()
        self.domains = [self.base]
        self.outputs: list[Output] = []
        self.demands: list[Demand] = []
        self._defines = {s.name.name: s for s in script.statements if isinstance(s, t.Define)}
        self._places = {s.name.name: k for k, s in enumerate(script.statements) if isinstance(s, t.Define)}
        self._bounds: dict[Slot, tuple[Op, Op]] = {}
        self._blocks: dict[Domain, list[list[Item]]] = {self.base: [self.base.body]}
        self._shared: dict[Domain, list[dict[tuple[object, ...], Op]]] = {self.base: [{}]}
        self._fixed: dict[tuple[object, ...], Op] = {}
        self._versions: dict[Slot, int] = {}
        self._calls: dict[tuple[object, ...], Instance] = {}
        self._top: set[Op] = set()
        self._knowns: dict[Op, Op] = {}
        self._rings: dict[object, Ring] = {}
        #: What writes values of the outermost block into their rings, right behind them.
        self._saves: dict[Op, Save] = {}
        self._befores: dict[object, Slot] = {}
        self._root = Instance(script.statements)
        self.trace = Trace(self._root)
        self.named_inputs: dict[str, Op] = {}
        self.foreign_inputs: dict[str, Op] = {}
        self._foreigners: list[Foreign] = []
        self._derived: dict[str, t.Expr] = {}
        self._count = 0
        self._line = 1

    def run(self) -> Plan:
        """The plan of the whole script."""
        frame = self._frame(self._root, self.base, len(self.script.statements))
        values = self._values_of(frame)
        for domain in [*self.domains, *(d for f in self._foreigners for d in f.domains)]:
            domain.body = self._with_saves(domain.body)
        return Plan(self.domains, self.outputs, self.demands, values, self.named_inputs, self.foreign_inputs)

    def _values_of(self, frame: Frame) -> dict[str, Op]:
        """Every top-level `let` and `keep` as it stands at the end of the bar."""
        made: dict[str, Op] = {}
        for statement in self.script.statements:
            names = (
                statement.names
                if isinstance(statement, t.Let)
                else (statement.name,)
                if isinstance(statement, t.Keep)
                else ()
            )
            for name in names:
                value = self._name(name, frame)
                if isinstance(value, Bundle):
                    made.update({f"{name.name}.{part}": op for part, op in value.results.items()})
                else:
                    made[name.name] = value
        return made

    # --- emitting ---------------------------------------------------------------------------------

    def _emit(
        self,
        code: str,
        *args: Op,
        attr: object = None,
        kind: str = "number",
        bound: float = TAME_EXPONENT,
        domain: Domain,
    ) -> Op:
        """A value on a domain; the same value asked for twice is made once."""
        fixed = all(a.fixed for a in args) and code not in _MOVING
        version = self._versions.get(attr, 0) if isinstance(attr, Slot) else 0
        key = (code, attr, kind, version, *map(id, args))
        shell = kind not in ("number", "flag")
        if fixed or shell:
            if key not in self._fixed:
                self._fixed[key] = self._made(Op(code, args, attr, kind, fixed, bound))
            return self._fixed[key]
        for table in self._shared[domain]:
            if key in table:
                return table[key]
        op = self._made(Op(code, args, attr, kind, False, bound, domain))
        # What reads no slot and rests on nothing inside a block is worked out before it: loops do it once.
        free = code != "get" and all(a.fixed or a in self._top for a in args)
        level = 0 if free else -1
        if free or len(self._blocks[domain]) == 1:
            self._top.add(op)
        self._shared[domain][level][key] = op
        self._blocks[domain][level].append(op)
        return op

    def _made(self, op: Op) -> Op:
        self._count += 1
        if self._count > MAX_OPS:
            raise ScriptError(
                (
                    Problem(
                        "R601",
                        Span(self._line, 1),
                        f"Written out, this script takes more than {MAX_OPS:,} operations a bar.",
                        "Call fewer functions, or share a result with `let`.",
                    ),
                )
            )
        return op

    def _const(self, value: float) -> Op:
        bound = math.log2(abs(value)) if value and not math.isnan(value) else 0.0
        key = ("const", repr(value))
        if key not in self._fixed:
            self._fixed[key] = Op("const", (), value, "number", True, bound)
        return self._fixed[key]

    def _flag_const(self, value: bool | None) -> Op:
        key = ("flag", value)
        if key not in self._fixed:
            self._fixed[key] = Op("flag", (), value, "flag", True)
        return self._fixed[key]

    def _tame(self, op: Op, domain: Domain, limit: float = 1000) -> Op:
        """Checks a number whose size could run away; beyond the limit it becomes none."""
        return op if op.bound <= limit else self._emit("tame", op, domain=domain)

    def _number(self, value: Value, domain: Domain) -> Op:
        op = self._one(value)
        return self._emit("to_number", op, bound=1, domain=domain) if op.is_flag else op

    def _flag(self, value: Value, domain: Domain) -> Op:
        op = self._one(value)
        if op.is_flag:
            return op
        if op.code == "const" and isinstance(op.attr, float) and math.isnan(op.attr):
            return self._flag_const(None)
        return self._emit("to_flag", op, kind="flag", domain=domain)

    @staticmethod
    def _one(value: Value) -> Op:
        assert isinstance(value, Op)
        return value

    # --- frames -----------------------------------------------------------------------------------

    def _frame(self, instance: Instance, domain: Domain, upto: int) -> Frame:
        """The frame of an instance on a domain, with its first ``upto`` statements lowered."""
        frame = instance.frames.get(domain)
        if frame is None:
            frame = instance.frames[domain] = Frame(instance, domain)
            # Everything from outside is lowered before the body, so that nothing of it lands inside a block.
            if instance.parent is not None:
                self._frame(instance.parent, domain, instance.parent_done)
            for name in instance.arguments:
                self._find(name, frame)
        while frame.done < upto:
            statement = instance.statements[frame.done]
            frame.done += 1
            if instance is self._root:
                self._line = statement.span.line
                if self._cancelled is not None and self._cancelled():
                    raise Cancelled
            self._statement(statement, frame)
        return frame

    def _statement(self, statement: t.Statement, frame: Frame) -> None:
        domain = frame.domain
        match statement:
            case t.Let():
                value = self._value(statement.value, frame)
                if len(statement.names) == 1:
                    frame.names[statement.names[0].name] = value
                    return
                assert isinstance(value, Bundle)
                for name, result in zip(statement.names, value.results.values(), strict=True):
                    frame.names[name.name] = result
            case t.Keep():
                self._keep(statement, frame)
            case t.Set():
                slot = self._find(statement.name.name, frame)
                assert isinstance(slot, Slot)
                self._put(slot, self._value(statement.value, frame))
            case t.If():
                self._if(statement.branches, frame)
            case t.For():
                self._for(statement, frame)
            case t.Stop():
                self._blocks[domain][-1].append(Stop())
            case t.Give():
                self._give(statement, frame)
            case t.Setting():
                frame.names[statement.name.name] = self._setting(statement, frame)
            case t.Signal():
                flag = self._flag(self._value(statement.value, frame), domain)
                frame.names[statement.name.name] = flag
                if domain is self.base:
                    self.outputs.append(
                        Output(
                            "signal",
                            statement.name.name,
                            {"value": flag},
                            {"tone": statement.tone, "text": statement.text},
                            statement.span.line,
                        )
                    )
            case t.Show():
                if domain is self.base:
                    self._show(statement, frame)

    def _keep(self, statement: t.Keep, frame: Frame) -> None:
        domain = frame.domain
        start = self._one(self._value(statement.start, frame))
        slot = Slot(domain, lasting=not statement.fresh, flag=start.is_flag)
        frame.names[statement.name.name] = slot
        if statement.fresh:
            self._put(slot, start)
        elif start.fixed and start.code == "const":
            slot.start = float(start.attr)  # type: ignore[arg-type]
        elif start.fixed and start.code == "flag":
            slot.start = _NAN if start.attr is None else float(bool(start.attr))
        else:
            bar = self._emit("bar", bound=40, domain=domain)
            first = self._emit("eq", bar, self._const(0.0), kind="flag", domain=domain)
            self._blocks[domain][-1].append(
                Branch(first, [Put(slot, self._number(start, domain) if not slot.flag else start)], [])
            )
            self._versions[slot] = self._versions.get(slot, 0) + 1

    def _put(self, slot: Slot, value: Value) -> None:
        domain = slot.domain
        op = self._flag(value, domain) if slot.flag else self._tame(self._number(value, domain), domain, TAME_EXPONENT)
        self._blocks[domain][-1].append(Put(slot, op))
        self._versions[slot] = self._versions.get(slot, 0) + 1

    def _give(self, statement: t.Give, frame: Frame) -> None:
        results: dict[str, Op] = {}
        for k, expr in enumerate(statement.values):
            name = expr.name if isinstance(expr, t.Name) else str(k + 1)
            results[name] = self._one(self._value(expr, frame))
        frame.given = next(iter(results.values())) if len(results) == 1 else Bundle(results)

    def _nested(self, domain: Domain, statements: Sequence[t.Statement], frame: Frame) -> list[Item]:
        """Lowers the statements of a block; what they make is not seen outside it."""
        block: list[Item] = []
        self._blocks[domain].append(block)
        self._shared[domain].append({})
        inner = Frame(frame.instance, domain, dict(frame.names))
        for statement in statements:
            self._statement(statement, inner)
        self._blocks[domain].pop()
        self._shared[domain].pop()
        return block

    def _if(self, branches: Sequence[tuple[t.Expr | None, tuple[t.Statement, ...]]], frame: Frame) -> None:
        domain = frame.domain
        (condition, body), *others = branches
        if condition is None:
            self._blocks[domain][-1].extend(self._nested(domain, body, frame))
            return
        test = self._flag(self._value(condition, frame), domain)
        then = self._nested(domain, body, frame)
        otherwise: list[Item] = []
        if others:
            self._blocks[domain].append(otherwise)
            self._shared[domain].append({})
            self._if(others, frame)
            self._blocks[domain].pop()
            self._shared[domain].pop()
        self._blocks[domain][-1].append(Branch(test, then, otherwise))

    def _for(self, statement: t.For, frame: Frame) -> None:
        domain = frame.domain
        first = self._one(self._value(statement.first, frame))
        last = self._one(self._value(statement.last, frame))
        for bound in (first, last):
            if bound.fixed:
                self._demand(bound, -_MAX_LENGTH, _MAX_LENGTH, "a bound of `for`")
        counter = Slot(domain, lasting=False)
        self._bounds[counter] = (first, last)
        inner = Frame(frame.instance, domain, {**frame.names, statement.counter.name: counter})
        # A value read in one round may have been changed in the round before: nothing is shared across rounds.
        for slot in _changed(statement.body, frame.names):
            self._versions[slot] = self._versions.get(slot, 0) + 1
        body = self._nested(domain, statement.body, inner)
        self._blocks[domain][-1].append(Loop(counter, first, last, body, self._line))
        for slot in _changed(statement.body, frame.names):
            self._versions[slot] = self._versions.get(slot, 0) + 1

    def _setting(self, statement: t.Setting, frame: Frame) -> Op:
        default = self._one(self._value(statement.default, frame))
        name = statement.name.name
        if default.fixed or not statement.choices:
            return self._emit("setting", attr=name, kind=default.kind, domain=frame.domain)
        chosen = self._emit("setting", attr=name, kind="text", domain=frame.domain)
        made = default
        for choice in statement.choices:
            assert isinstance(choice, t.Name)
            word = self._emit("literal", attr=choice.name, kind="text", domain=frame.domain)
            test = self._emit("eq", chosen, word, kind="flag", domain=frame.domain)
            made = self._between(test, self._one(self._value(choice, frame)), made, frame.domain)
        return made

    # --- outputs ----------------------------------------------------------------------------------

    def _show(self, statement: t.Show, frame: Frame) -> None:
        roles: dict[str, Op] = {}
        attributes: dict[str, str] = {}
        for name, operand in zip(("value", "other"), statement.operands, strict=False):
            roles[name] = self._one(self._value(operand, frame))
        for clause in statement.clauses:
            if isinstance(clause.value, str):
                attributes[clause.word] = clause.value
            elif clause.value is not None:
                op = self._one(self._value(clause.value, frame))
                roles[clause.word] = self._flag(op, frame.domain) if clause.word in ("when", "until") else op
        if statement.what == "mark":
            roles["value"] = self._flag(roles["value"], frame.domain)
        for role in roles.values():
            self._check_shell(role)
        first = statement.operands[0] if statement.operands else None
        name = attributes.get("named") or (first.name if isinstance(first, t.Name) else "")
        self.outputs.append(Output(statement.what, name, roles, attributes, statement.span.line))

    def _check_shell(self, op: Op) -> None:
        """A text or colour is put together bar by bar when it is shown: out of so many parts and no more."""
        if op.is_shell and sum(part.is_shell for part in under(op, lambda part: part.is_shell)) > MAX_SHELLS:
            words = f"a text or colour that is put together of more than {MAX_SHELLS} others"
            raise ScriptError((Problem("R601", Span(self._line, 1), f"This shows {words}.", "Make it of fewer."),))

    # --- expressions ------------------------------------------------------------------------------

    def _value(self, expr: t.Expr, frame: Frame) -> Value:
        made = self._lowered(expr, frame)
        if frame.domain is self.base:
            self.trace.values[frame.instance, expr] = made
        return made

    def _lowered(self, expr: t.Expr, frame: Frame) -> Value:
        domain = frame.domain
        match expr:
            case t.Literal():
                return self._literal(expr)
            case t.Text():
                return self._text(expr, frame)
            case t.Name():
                return self._name(expr, frame)
            case t.Unary(op="-"):
                inner = self._number(self._value(expr.value, frame), domain)
                if inner.code == "const":
                    return self._const(-float(inner.attr))  # type: ignore[arg-type]
                return self._emit("neg", inner, bound=inner.bound, domain=domain)
            case t.Unary():
                return self._emit("not", self._flag(self._value(expr.value, frame), domain), kind="flag", domain=domain)
            case t.Binary(op="and" | "or"):
                left = self._flag(self._value(expr.left, frame), domain)
                right = self._flag(self._value(expr.right, frame), domain)
                return self._emit(expr.op, left, right, kind="flag", domain=domain)
            case t.Binary(op="else"):
                return self._pair("otherwise", (), expr.left, expr.right, frame)
            case t.Binary():
                left = self._number(self._value(expr.left, frame), domain)
                right = self._number(self._value(expr.right, frame), domain)
                return self._arithmetic(expr.op, left, right, domain)
            case t.Compare():
                return self._compare(expr, frame)
            case t.Choice():
                test = self._flag(self._value(expr.condition, frame), domain)
                return self._pair("choose", (test,), expr.yes_value, expr.no_value, frame)
            case t.Lag():
                return self._lag(expr, frame)
            case t.Pick():
                bundle = self._value(expr.value, frame)
                assert isinstance(bundle, Bundle)
                return bundle.results[expr.name]
            case t.Call():
                return self._call(expr, frame)
            case t.OnTimeframe():
                return self._on_timeframe(expr, frame)
            case t.OfSymbol():
                return self._of_symbol(expr, frame)
        raise AssertionError(expr)

    def _literal(self, expr: t.Literal) -> Op:
        match expr.kind:
            case "number" | "clock":
                return self._const(float(expr.value))  # type: ignore[arg-type]
            case "flag":
                return self._flag_const(bool(expr.value))
            case "none":
                return self._const(_NAN)
        return self._emit("literal", attr=expr.value, kind=expr.kind, domain=self.base)

    def _text(self, expr: t.Text, frame: Frame) -> Op:
        parts: list[str | tuple[int, str]] = []
        args: list[Op] = []
        for part in expr.parts:
            if isinstance(part, str):
                parts.append(part)
            else:
                parts.append((len(args), part.form))
                args.append(self._one(self._value(part.value, frame)))
        return self._emit("text", *args, attr=tuple(parts), kind="text", domain=frame.domain)

    def _find(self, name: str, frame: Frame) -> Value | Slot | None:
        if name in frame.names:
            return frame.names[name]
        instance = frame.instance
        if name in instance.arguments:
            argument = instance.arguments[name]
            caller = self._frame(argument.caller, frame.domain, argument.at)
            value = self._value(argument.expr, caller)
            frame.names[name] = value
            return value
        if instance.parent is not None:
            return self._find(name, self._frame(instance.parent, frame.domain, instance.parent_done))
        return None

    def _name(self, expr: t.Name, frame: Frame) -> Value:
        found = self._find(expr.name, frame)
        if isinstance(found, Slot):
            bound = 18.0 if found in self._bounds else TAME_EXPONENT
            return self._emit(
                "get", attr=found, kind="flag" if found.flag else "number", bound=bound, domain=found.domain
            )
        if found is not None:
            return found
        if expr.name in values.COLUMNS:
            return self._emit("input", attr=expr.name, bound=DATA_EXPONENT, domain=frame.domain)
        if expr.name in values.DERIVED:
            return self._value(self._derived_expr(expr.name), Frame(_NOWHERE, frame.domain))
        if expr.name == "bar":
            return self._emit("bar", bound=40, domain=frame.domain)
        if expr.name in values.TIME_INPUTS:
            raw = self._emit("input", attr=expr.name, bound=DATA_EXPONENT, domain=frame.domain)
            return self._flag(raw, frame.domain) if expr.name == "extended" else raw
        if expr.name == "symbol":
            return self._emit("symbol", kind="text", domain=frame.domain)
        if expr.name == "timeframe":
            return self._timeframe_of(frame.domain) or self._emit(
                "setting", attr=CHART_TIMEFRAME, kind="timeframe", domain=frame.domain
            )
        if expr.name in values.PALETTE:
            return self._emit("literal", attr=expr.name, kind="colour", domain=frame.domain)
        return self._call(t.Call(expr.name, (), (), expr.span), frame)

    def _derived_expr(self, name: str) -> t.Expr:
        return self._written(values.DERIVED[name])

    def _written(self, text: str) -> t.Expr:
        """An expression that the compiler itself writes in Rung."""
        if text not in self._derived:
            script, _ = parse(f"let x = {text}")
            statement = script.statements[0]
            assert isinstance(statement, t.Let)
            self._derived[text] = statement.value
        return self._derived[text]

    def _pair(self, code: str, before: tuple[Op, ...], left: t.Expr, right: t.Expr, frame: Frame) -> Op:
        """A value that is one of two, of whichever kind they are."""
        domain = frame.domain
        a, b = self._one(self._value(left, frame)), self._one(self._value(right, frame))
        return self._either(code, before, a, b, domain)

    def _between(self, test: Op, yes: Op, no: Op, domain: Domain) -> Op:
        return self._either("choose", (test,), yes, no, domain)

    def _either(self, code: str, before: tuple[Op, ...], a: Op, b: Op, domain: Domain) -> Op:
        if a.is_shell or b.is_shell:
            return self._emit(code, *before, a, b, kind=a.kind if a.is_shell else b.kind, domain=domain)
        if a.is_flag or b.is_flag:
            return self._emit(code, *before, self._flag(a, domain), self._flag(b, domain), kind="flag", domain=domain)
        return self._emit(code, *before, a, b, bound=max(a.bound, b.bound), domain=domain)

    def _arithmetic(self, op: str, a: Op, b: Op, domain: Domain) -> Op:
        match op:
            case "+" | "-":
                code = "add" if op == "+" else "sub"
                return self._tame(self._emit(code, a, b, bound=max(a.bound, b.bound) + 1, domain=domain), domain)
            case "*":
                return self._tame(self._emit("mul", a, b, bound=a.bound + b.bound, domain=domain), domain)
            case "/" if b.fixed:
                divisor = self._emit("divisor", b, domain=domain)
                return self._tame(
                    self._emit("div", a, divisor, bound=a.bound + DIVISOR_EXPONENT, domain=domain), domain
                )
            case "/":
                return self._tame(self._emit("div", a, b, bound=math.inf, domain=domain), domain)
            case "mod":
                return self._emit("mod", a, b, bound=max(a.bound, b.bound), domain=domain)
        if b.code == "const" and b.attr == 2.0:
            return self._arithmetic("*", a, a, domain)
        if b.code == "const" and b.attr == 0.5:
            return self._emit("sqrt", a, bound=a.bound, domain=domain)
        return self._tame(self._emit("pow", a, b, bound=math.inf, domain=domain), domain)

    def _compare(self, expr: t.Compare, frame: Frame) -> Op:
        domain = frame.domain
        values = [self._one(self._value(v, frame)) for v in expr.values]
        names = {"<": "lt", "<=": "le", ">": "gt", ">=": "ge", "==": "eq", "!=": "ne"}
        result: Op | None = None
        for k, op in enumerate(expr.ops):
            a, b = values[k], values[k + 1]
            if "symbol" in (a.code, b.code):
                made = self._is_symbol(a if b.code == "symbol" else b, op, domain)
            elif a.is_shell or b.is_shell:
                made = self._emit(names[op], a, b, kind="flag", domain=domain)
            else:
                made = self._emit(
                    names[op], self._number(a, domain), self._number(b, domain), kind="flag", domain=domain
                )
            result = made if result is None else self._emit("and", result, made, kind="flag", domain=domain)
        assert result is not None
        return result

    def _is_symbol(self, text: Op, op: str, domain: Domain) -> Op:
        """Whether the symbol is the one that a fixed text names: an input of its own for each text."""
        raw = self._emit("input", attr=self._fixed_input("is", text), bound=1, domain=domain)
        same = self._flag(raw, domain)
        return same if op == "==" else self._emit("not", same, kind="flag", domain=domain)

    # --- the past ---------------------------------------------------------------------------------

    def _lag(self, expr: t.Lag, frame: Frame) -> Op:
        domain = frame.domain
        lag = self._one(self._value(expr.lag, frame))
        if lag.fixed:
            self._demand(lag, 0, _MAX_LENGTH, "a lag")
        source: Slot | Op
        found = self._find(expr.value.name, frame) if isinstance(expr.value, t.Name) else None
        source = found if isinstance(found, Slot) else self._one(self._value(expr.value, frame))
        if isinstance(source, Op) and source.fixed:
            return self._past_of_fixed(source, lag, domain)
        flag = source.flag if isinstance(source, Slot) else source.is_flag
        kind = "flag" if flag else "number"
        bound = TAME_EXPONENT if isinstance(source, Slot) else source.bound
        if lag.code == "const" and lag.attr == 1.0:
            return self._emit("prev", attr=self._before(source, flag, domain), kind=kind, bound=bound, domain=domain)
        ring = self._ring(source, flag, domain)
        if not any(lag is other for other in ring.lags):
            ring.lags.append(lag)
        past = self._emit("past", lag, attr=ring, kind=kind, bound=bound, domain=domain)
        if isinstance(source, Op):
            return past
        now = self._emit("get", attr=source, kind=kind, bound=bound, domain=domain)
        zero = self._emit("eq", lag, self._const(0.0), kind="flag", domain=domain)
        return self._emit("choose", zero, now, past, kind=kind, bound=bound, domain=domain)

    def _past_of_fixed(self, source: Op, lag: Op, domain: Domain) -> Op:
        """A fixed value was the same on every bar, but there is none before the first."""
        bar = self._emit("bar", bound=40, domain=domain)
        there = self._emit("ge", bar, lag, kind="flag", domain=domain)
        none = self._flag_const(None) if source.is_flag else self._const(_NAN)
        return self._emit("choose", there, source, none, kind=source.kind, bound=source.bound, domain=domain)

    def _before(self, source: Slot | Op, flag: bool, domain: Domain) -> Slot:
        """The slot that holds a value of the bar before."""
        if source not in self._befores:
            slot = self._befores[source] = Slot(domain, lasting=True, flag=flag)
            domain.tail.append(Put(slot, self._at_end(source, flag, domain)))
        return self._befores[source]

    def _ring(self, source: Slot | Op, flag: bool, domain: Domain) -> Ring:
        if source not in self._rings:
            ring = self._rings[source] = Ring(domain, flag)
            if isinstance(source, Slot):
                domain.tail.append(Save(ring, self._at_end(source, flag, domain)))
            elif source in self._top:
                self._saves[source] = Save(ring, source)
            else:
                self._blocks[domain][0].append(Save(ring, source))
        return self._rings[source]

    def _with_saves(self, block: list[Item]) -> list[Item]:
        """A block with what is to be looked back at written down as soon as it is known."""
        made: list[Item] = []
        for item in block:
            made.append(item)
            save = self._saves.get(item) if isinstance(item, Op) else None
            if save is not None:
                made.append(save)
        return made

    @staticmethod
    def _at_end(source: Slot | Op, flag: bool, domain: Domain) -> Op:
        """A value as it stands at the end of the bar."""
        if isinstance(source, Op):
            return source
        read = Op("get", attr=source, kind="flag" if flag else "number", domain=domain)
        domain.tail.append(read)
        return read

    def _demand(self, value: Op, low: float, high: float, what: str) -> None:
        self.demands.append(Demand(value, low, high, what, self._line))

    # --- calls ------------------------------------------------------------------------------------

    def _call(self, expr: t.Call, frame: Frame) -> Value:
        if expr.name in values.PRIMITIVES:
            return self._primitive(expr, frame)
        # Only the script's own text sees the functions that it makes or takes; the library sees the library.
        ours = self._root in (frame.instance, frame.instance.parent)
        own = self._defines.get(expr.name) if ours else None
        lengths: frozenset[str] = frozenset()
        parent: Instance | None = None
        if ours and expr.name in self._used:
            define = self._used[expr.name]
        elif own is None:
            found = library.function(expr.name)
            assert found is not None, expr.name
            define, lengths = found.define, found.lengths
        else:
            define, parent = own, self._root
        arranged = arrange(expr, define)
        assert isinstance(arranged, list)
        at = max(frame.done - 1, 0)
        caller = frame.instance
        arguments: dict[str, Argument] = {}
        names: dict[str, Value | Slot] = {}
        for parameter, (value, inside) in zip(define.parameters, arranged, strict=True):
            holder, place = (caller, at) if inside else (_NOWHERE, 0)
            arguments[parameter.name.name] = Argument(value, holder, place)
            made_of = self._value(value, frame if inside else Frame(_NOWHERE, frame.domain))
            names[parameter.name.name] = made_of
            if parameter.name.name in lengths:
                self._demand(self._one(made_of), 1, _MAX_LENGTH, f"the length of `{expr.name}`")
        key: tuple[object, ...] = (id(define), frame.domain, *(_identity(v) for v in names.values()))
        if _crosses(define.body):
            key = (*key, *(id(a.expr) for a in arguments.values()), id(caller))
        top = len(self._blocks[frame.domain]) == 1
        instance = self._calls.get(key) if top else None
        shared = instance is not None
        if instance is None:
            instance = Instance(define.body, parent, arguments, self._places.get(expr.name, 0))
        if frame.domain is self.base:
            self.trace.callees[caller, expr] = instance
        if shared:
            given = instance.frames[frame.domain].given
            assert given is not None
            return given
        if parent is not None:
            self._frame(parent, frame.domain, instance.parent_done)
        made = instance.frames[frame.domain] = Frame(instance, frame.domain, names)
        self._frame(instance, frame.domain, len(define.body))
        assert made.given is not None
        if top:
            self._calls[key] = instance
        return made.given

    def _primitive(self, expr: t.Call, frame: Frame) -> Op:
        domain = frame.domain
        args = [self._one(self._value(a, frame)) for a in expr.arguments]
        if expr.name == "new":
            return self._new(args[0], frame)
        if values.PRIMITIVES[expr.name].gives is Kind.COLOUR:
            mixed = [a if a.is_shell else self._number(a, domain) for a in args]
            return self._emit(expr.name, *mixed, kind="colour", domain=domain)
        if expr.name == "known":
            return self._known(args[0], domain)
        numbers = [self._number(a, domain) for a in args]
        if expr.name in ("ranked", "rank_of"):
            return self._ranked(numbers, domain)
        if values.PRIMITIVES[expr.name].holds:
            return self._fold(expr.name, numbers[0], numbers[1], domain)
        bound = max(a.bound for a in numbers)
        if expr.name == "log":
            bound = 12
        if expr.name == "exp":
            return self._tame(self._emit("exp", numbers[0], bound=math.inf, domain=domain), domain)
        return self._emit(expr.name, *numbers, bound=bound, domain=domain)

    def _known(self, op: Op, domain: Domain) -> Op:
        """Whether a value is known: of a text or colour, whether the part that it takes is."""
        if not op.is_shell:
            return self._emit("known", op, kind="flag", domain=domain)
        if op not in self._knowns:
            if op.code == "choose":
                test, yes, no = op.args
                made = self._either("choose", (test,), self._known(yes, domain), self._known(no, domain), domain)
            elif op.code == "otherwise":
                made = self._emit(
                    "or", self._known(op.args[0], domain), self._known(op.args[1], domain), kind="flag", domain=domain
                )
            elif op.code in ("fade", "blend"):
                made = self._known(op.args[0], domain)
                for part in op.args[1:-1]:
                    made = self._emit("and", made, self._known(part, domain), kind="flag", domain=domain)
            else:  # a word, a template, a setting: always there
                made = self._flag_const(True)
            self._knowns[op] = made
        return self._knowns[op]

    def _new(self, timeframe: Op, frame: Frame) -> Op:
        """Whether a longer bar begins: days, weeks and months by the calendar, shorter ones by an input."""
        domain = frame.domain
        name = self._fixed_input("new", timeframe)
        made = self._flag(self._emit("input", attr=name, bound=1, domain=domain), domain)
        for word, period in values.PERIODS.items():
            test = self._emit(
                "eq",
                timeframe,
                self._emit("literal", attr=word, kind="timeframe", domain=domain),
                kind="flag",
                domain=domain,
            )
            changed = self._written(f"({period}) != (({period})[1] else -1)")
            begins = self._flag(self._value(changed, Frame(_NOWHERE, domain)), domain)
            if timeframe.code == "literal":
                if timeframe.attr == word:
                    return begins
                continue
            made = self._between(test, begins, made, domain)
        return made

    def _fixed_input(self, what: str, op: Op) -> str:
        """The name of an input that depends on a fixed value, which the engine looks up before a run."""
        for name, other in self.named_inputs.items():
            if other is op and name.startswith(what):
                return name
        name = f"{what} {len(self.named_inputs)}"
        self.named_inputs[name] = op
        return name

    def _fold(self, how: str, x: Op, length: Op, domain: Domain) -> Op:
        self._demand(length, 1, _MAX_LENGTH, "a length" if how == SORTED else f"the length of `{how}`")
        key = ("fold", how, id(x), id(length), domain)
        if key not in self._fixed:
            fold = Fold(domain, how, length)
            bound = 18.0 if how == SORTED else x.bound + 17 if how == "sum" else x.bound
            self._fixed[key] = self._emit("fold", x, attr=fold, bound=bound, domain=domain)
        return self._tame(self._fixed[key], domain)

    def _ranked(self, numbers: list[Op], domain: Domain) -> Op:
        """The place of the newest value among the last ones, or (with a third number) the value of a place."""
        place = self._fold(SORTED, numbers[0], numbers[1], domain)
        if len(numbers) == 2:
            return place
        self._demand(numbers[2], 1, _MAX_LENGTH, "the place for `ranked`")
        return self._emit("ranked", place, numbers[2], attr=place.attr, bound=numbers[0].bound, domain=domain)

    def _on_timeframe(self, expr: t.OnTimeframe, frame: Frame) -> Value:
        timeframe = self._one(self._value(expr.timeframe, frame))
        domain = self._domain(timeframe, expr.forming, frame.domain.foreign)
        if domain is frame.domain:
            return self._value(expr.value, frame)
        there = self._frame(frame.instance, domain, frame.done - 1)
        return _each(self._value(expr.value, there), lambda op: self._export(op, domain, frame.domain))

    def _domain(self, timeframe: Op, forming: bool, foreign: Foreign | None) -> Domain:
        family = self.domains if foreign is None else foreign.domains
        for domain in family:
            if domain.timeframe is timeframe and domain.forming == forming:
                return domain
        domain = Domain(timeframe, forming, foreign)
        self._open(domain)
        family.append(domain)
        return domain

    def _open(self, domain: Domain) -> None:
        self._blocks[domain] = [domain.body]
        self._shared[domain] = [{}]

    @staticmethod
    def _timeframe_of(domain: Domain) -> Op | None:
        """The timeframe of a domain's bars; None for the chart's."""
        return domain.timeframe or (domain.foreign.timeframe if domain.foreign else None)

    def _of_symbol(self, expr: t.OfSymbol, frame: Frame) -> Value:
        """A value of another symbol, on bars as long as the reader's: it comes in as an input."""
        symbol = self._one(self._value(expr.symbol, frame))
        domain = self._foreign(symbol, self._timeframe_of(frame.domain)).domains[0]
        there = self._frame(frame.instance, domain, frame.done - 1)
        return _each(self._value(expr.value, there), lambda op: self._foreign_input(op, frame.domain))

    def _foreign(self, symbol: Op, timeframe: Op | None) -> Foreign:
        for foreign in self._foreigners:
            if foreign.symbol is symbol and foreign.timeframe is timeframe:
                return foreign
        made = Foreign(symbol, timeframe)
        self._open(made.domains[0])
        self._foreigners.append(made)
        return made

    def _foreign_input(self, op: Op, reader: Domain) -> Op:
        if op.fixed:
            return op
        name = next((name for name, other in self.foreign_inputs.items() if other is op), "")
        if not name:
            name = f"of {len(self.foreign_inputs)}"
            self.foreign_inputs[name] = op
        raw = self._emit("input", attr=name, bound=op.bound, domain=reader)
        return self._flag(raw, reader) if op.is_flag else raw

    def _export(self, op: Op, source: Domain, reader: Domain) -> Op:
        """A value of another domain, as of the last bar that it ran on."""
        if op.fixed:
            return op
        key = ("export", id(op))
        if key not in self._befores:
            slot = self._befores[key] = Slot(source, lasting=True, flag=op.is_flag)
            source.tail.append(Put(slot, op))
        return self._emit("export", attr=self._befores[key], kind=op.kind, bound=op.bound, domain=reader)


_NOWHERE = Instance(())


def _each(value: Value, how: Callable[[Op], Op]) -> Value:
    """Does something with a value, or with each of several results."""
    return Bundle({k: how(op) for k, op in value.results.items()}) if isinstance(value, Bundle) else how(value)


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


def _changed(statements: Sequence[t.Statement], names: dict[str, Value | Slot]) -> set[Slot]:
    """The slots that a block may change."""
    found: set[Slot] = set()
    for s in statements:
        if isinstance(s, t.Set):
            slot = names.get(s.name.name)
            if isinstance(slot, Slot):
                found.add(slot)
        elif isinstance(s, t.If):
            for _, body in s.branches:
                found |= _changed(body, names)
        elif isinstance(s, t.For):
            found |= _changed(s.body, names)
    return found


def lower(
    script: t.Script, used: Mapping[str, t.Define], cancelled: Callable[[], bool] | None = None
) -> tuple[Plan, Trace]:
    """The plan of a script that the checker found no error in, and what its expressions became.

    ``used`` are functions from other scripts. Raises `ScriptError` if it is too large, `Cancelled`.
    """
    lowerer = Lowerer(script, used, cancelled)
    return lowerer.run(), lowerer.trace
