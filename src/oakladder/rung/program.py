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
from .lowering import Trace, lower
from .parser import parse
from .plan import Live, Op, Output, Plan, leaves, live
from .problems import Problem, RunProblem, ScriptError, Span, did_you_mean
from .reference import evaluate_fixed
from .settings import SettingInfo, fitting_value, setting_info
from .state import Layout, StateMap, lay_out, map_state


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
    trace: Trace
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
            made[info.name] = fitting_value(info, given.pop(info.name)) if info.name in given else info.default
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
    plan, trace = lower(script, analysis.used)
    for output in plan.outputs:
        output.unit = analysis.units.get(output.line, "")
    settings = tuple(setting_info(s) for s in script.statements if isinstance(s, t.Setting))
    return Program(text, script.title, script.about, settings, plan, trace, analysis.problems)
