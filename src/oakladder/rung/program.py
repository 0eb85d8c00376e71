"""A compiled script: what it is called, what can be set, what it shows, and the code that runs it."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

from . import native
from . import tree as t
from .checker import Checker, Shelf
from .lowering import lower
from .parser import parse
from .plan import Live, Op, Output, Plan, leaves, live
from .problems import Problem, RunProblem, ScriptError, Span, did_you_mean
from .reference import evaluate_fixed
from .state import Layout, StateMap, lay_out, map_state


@dataclass(frozen=True, slots=True)
class SettingInfo:
    """A value that the user can change without touching the text."""

    name: str
    kind: str
    default: object
    text: str
    low: float | None = None
    high: float | None = None
    step: float | None = None
    choices: tuple[object, ...] = ()


@dataclass(frozen=True, slots=True)
class Variant:
    """The part of a program that some outputs need, ready to run."""

    live: Live
    state: StateMap
    leaves: tuple[Op, ...]
    fixed: tuple[Op, ...]
    code: native.Compiled


@dataclass(slots=True)
class Program:
    """A script that can run. Made by `compile_script`; shared freely between threads."""

    text: str
    title: str
    about: str
    settings: tuple[SettingInfo, ...]
    plan: Plan
    problems: tuple[Problem, ...]
    _variants: dict[tuple[int, ...], Variant] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    @property
    def outputs(self) -> list[Output]:
        return self.plan.outputs

    @property
    def signals(self) -> list[Output]:
        return [o for o in self.plan.outputs if o.what == "signal"]

    def signal(self, name: str) -> Output:
        """The signal of that name; raises `KeyError` with the nearest names."""
        for output in self.signals:
            if output.name == name:
                return output
        names = [o.name for o in self.signals]
        hint = did_you_mean(name, names) or (f"It has {', '.join(names)}." if names else "It has none.")
        raise KeyError(f"The script has no signal `{name}`. {hint}")

    def values_of(self, settings: Mapping[str, object] | None) -> dict[str, object]:
        """Every setting's value: the default, or what is given. Raises `RunProblem` for one that does not fit."""
        given = dict(settings or {})
        made: dict[str, object] = {}
        for info in self.settings:
            made[info.name] = _fitting(info, given.pop(info.name)) if info.name in given else info.default
        if given:
            name = next(iter(given))
            hint = did_you_mean(name, made) or (f"It has {', '.join(made)}." if made else "It has none.")
            raise RunProblem(f"The script has no setting `{name}`. {hint}")
        return made

    def variant(self, roots: Sequence[Op]) -> Variant:
        """The code for the given values, compiled on first use."""
        wanted = {leaf for root in roots for leaf in leaves(root)}
        key = tuple(sorted(id(op) for op in wanted))
        with self._lock:
            if key not in self._variants:
                self._variants[key] = _variant(self.plan, list(roots), wanted)
            return self._variants[key]

    def fixed_values(self, variant: Variant, roots: Sequence[Op], settings: Mapping[str, object]) -> dict[Op, object]:
        """The fixed values that a run needs."""
        wanted = [*variant.fixed, *(op for root in roots for op in _fixed_parts(root))]
        wanted += [fold.length for fold in variant.state.folds]
        wanted += [lag for ring in variant.state.rings for lag in ring.lags if lag.fixed]
        wanted += [d.timeframe for d in variant.live.domains if d.timeframe is not None]
        wanted += [op for op in variant.live.ops if op.fixed]
        inputs = {name for names in variant.state.inputs.values() for name in names}
        wanted += [op for name, op in self.plan.named_inputs.items() if name in inputs]
        wanted += [
            op
            for name, value in self.plan.foreign_inputs.items()
            if name in inputs and value.domain is not None and (foreign := value.domain.foreign) is not None
            for op in (foreign.symbol, foreign.timeframe)
            if op is not None
        ]
        return evaluate_fixed(wanted, settings)

    def layout(self, variant: Variant, fixed: Mapping[Op, object]) -> Layout:
        """The size of the state. Raises `RunProblem` where the settings make no sense."""
        return lay_out(self.plan, variant.live, variant.state, fixed)


def _variant(plan: Plan, roots: list[Op], wanted: set[Op]) -> Variant:
    plain = [leaf for root in roots for leaf in leaves(root)]
    # All values of a run belong to one symbol: the chart's, or the one that another part of the script asks for.
    home = next((op.domain for op in plain if op.domain is not None), plan.domains[0])
    needed = live(home.foreign.domains if home.foreign else plan.domains, plain)
    state = map_state(needed)
    out = tuple(dict.fromkeys(op for op in plain if not op.fixed))
    code = native.build(needed, state, out)
    return Variant(needed, state, out, code.fixed, code)


def _fixed_parts(op: Op) -> list[Op]:
    if op.fixed:
        return [op]
    return [part for arg in op.args for part in _fixed_parts(arg)] if op.is_shell else []


def fixed_array(variant: Variant, values: Mapping[Op, object]) -> np.ndarray:
    """Fixed values as the native code reads them."""
    made = [values[op] for op in variant.fixed]
    return np.array([np.nan if v is None else float(v) for v in made] or [0.0])  # type: ignore[arg-type]


def _fitting(info: SettingInfo, value: object) -> object:
    """A value for a setting, from text where need be."""
    if info.kind == "number":
        try:
            number = float(value)  # type: ignore[arg-type]
        except (TypeError, ValueError):
            raise RunProblem(f"The setting `{info.name}` is a number, and `{value}` is none.") from None
        if info.low is not None and info.high is not None and not info.low <= number <= info.high:
            raise RunProblem(
                f"The setting `{info.name}` goes from {info.low:g} to {info.high:g}, and {number:g} is outside."
            )
        if not abs(number) < 1e15:
            raise RunProblem(f"The setting `{info.name}` cannot be {value}.")
        return number
    if info.kind == "flag":
        words = {"yes": True, "no": False, "true": True, "false": False, "1": True, "0": False}
        if isinstance(value, bool):
            return value
        if str(value).lower() not in words:
            raise RunProblem(f"The setting `{info.name}` is yes or no, and `{value}` is neither.")
        return words[str(value).lower()]
    if info.choices and value not in info.choices:
        raise RunProblem(
            f"The setting `{info.name}` is one of {', '.join(map(str, info.choices))}, and `{value}` is not."
        )
    return value


def _setting_info(statement: t.Setting) -> SettingInfo:
    def constant(expr: t.Expr | None) -> object:
        match expr:
            case t.Literal():
                return expr.value
            case t.Unary(op="-", value=t.Literal(value=float() as number)):
                return -number
            case t.Text(parts=parts):
                return "".join(p for p in parts if isinstance(p, str))
            case t.Name():
                return expr.name
        return None

    default = constant(statement.default)
    kind = "text"
    if isinstance(statement.default, t.Name):
        kind = "colour"
    elif isinstance(statement.default, t.Literal):
        kind = statement.default.kind
    elif isinstance(default, float):
        kind = "number"
    low, high, step = (_as_float(constant(e)) for e in (statement.low, statement.high, statement.step))
    choices = tuple(constant(c) for c in statement.choices)
    return SettingInfo(statement.name.name, kind, default, statement.text, low, high, step, choices)


def _as_float(value: object) -> float | None:
    return float(value) if isinstance(value, int | float) else None


@dataclass(frozen=True, slots=True)
class Analysis:
    """What is known of a script without running it: its tree, its problems by place, the units of what it shows."""

    script: t.Script
    problems: tuple[Problem, ...]
    units: dict[int, str]
    used: dict[str, t.Define]


def analyse(text: str, shelf: Shelf = ()) -> Analysis:
    """Reads and checks a script; never raises for what is wrong in it. ``shelf`` has the scripts that `use` can reach."""
    script, problems = parse(text)
    checker = Checker(script, shelf)
    try:
        checker.run()
        found = [*problems, *checker.problems]
    except RecursionError:
        found = [
            *problems,
            Problem("R112", Span(1, 1), "The script is nested too deeply.", "Make parts of it into names with `let`."),
        ]
    found.sort(key=lambda p: (p.span.line, p.span.column, p.code))
    return Analysis(script, tuple(found), {line: unit.value for line, unit in checker.units.items()}, checker.used)


@lru_cache(maxsize=128)
def compile_script(text: str, shelf: Shelf = ()) -> Program:
    """Compiles a script. Raises `ScriptError` with every problem if there is an error among them."""
    analysis = analyse(text, shelf)
    if any(p.is_error for p in analysis.problems):
        raise ScriptError(analysis.problems)
    script = analysis.script
    plan = lower(script, analysis.used)
    for output in plan.outputs:
        output.unit = analysis.units.get(output.line, "")
    settings = tuple(_setting_info(s) for s in script.statements if isinstance(s, t.Setting))
    return Program(text, script.title, script.about, settings, plan, analysis.problems)
