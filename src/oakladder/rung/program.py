"""A compiled script: what it is called, what can be set, what it shows, and the code that runs it."""

from __future__ import annotations

import sys
import threading
from collections import OrderedDict
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache, cached_property
from typing import TYPE_CHECKING

from oakladder.rung import tree as t
from oakladder.rung.check.checker import Checker
from oakladder.rung.lower.frames import Trace
from oakladder.rung.lower.lowering import Known, lower
from oakladder.rung.other_scripts import OtherScripts
from oakladder.rung.plan.fixed import evaluate_fixed, evaluate_in_order, in_order
from oakladder.rung.plan.ops import CHART_TIMEFRAME, Op, Output, Plan, leaves, under
from oakladder.rung.plan.part import Part, part_of, settings_of
from oakladder.rung.plan.sizes import sizes_of
from oakladder.rung.problems import Problem, RunProblem, ScriptError, Span, UnknownName, did_you_mean
from oakladder.rung.read.blocks import parse
from oakladder.rung.service.fixes import apply_fix
from oakladder.rung.settings import SettingInfo, fitting_value, setting_info
from oakladder.rung.words import Shown

if TYPE_CHECKING:  # numpy and the compiler take longer to load than a script to check
    from oakladder.rung.native.compiled_kernel import CompiledKernel
    from oakladder.rung.plan.layout import StateLayout
    from oakladder.rung.plan.split import Split


@dataclass
class Program:
    """A script that can run. Made by `compile_script`; shared freely between threads."""

    text: str
    title: str
    about: str
    settings: tuple[SettingInfo, ...]
    plan: Plan
    trace: Trace
    problems: tuple[Problem, ...]
    #: The other symbols that it names, and where.
    foreign: tuple[tuple[str, Span], ...] = ()
    #: What makes the same program once more with trades filled minute by minute, or only where they are traded through.
    _finer: Callable[[], Program] | None = None
    _through: Callable[[], Program] | None = None
    #: What makes it with longer bars read complete.
    _complete: Callable[[], Program] | None = None
    _variants: dict[tuple[tuple[int, ...], tuple[int, ...], bool, bool], CompiledKernel] = field(default_factory=dict)
    #: The same by what was asked for, which is found sooner.
    _asked: dict[tuple[tuple[Op, ...], bool, bool, bool], CompiledKernel] = field(default_factory=dict)
    #: The fixed values that a run of a variant for some values needs, in order.
    _wanted: dict[tuple[int, tuple[Op, ...]], tuple[Op, ...]] = field(default_factory=dict)
    #: What everything that it shows is read out of, and the part of the plan for that.
    _whole: tuple[list[Op], Part] | None = None
    #: Other results derived from it, by owner.
    facts: dict[object, object] = field(default_factory=dict, compare=False, repr=False)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    @cached_property
    def split(self) -> Split | None:
        """How its trades are run in two parts; None where they are run as one."""
        from oakladder.rung.plan.split import split_trades  # what has no trades need not load it

        return split_trades(self.plan)

    @property
    def outputs(self) -> list[Output]:
        return self.plan.outputs

    @property
    def signals(self) -> list[Output]:
        return [o for o in self.plan.outputs if o.what is Shown.SIGNAL]

    def finer(self) -> Program:
        """The same with trades filled minute by minute where a panel has its minutes."""
        return self._finer() if self._finer is not None else self

    def traded_through(self) -> Program:
        """The same with limits and targets filled only where prices go at least a tick beyond them."""
        return self._through() if self._through is not None else self

    def on_complete_bars(self) -> Program:
        """The same with longer bars read when they are complete, also where the script reads them `forming`."""
        return self._complete() if self._complete is not None else self

    def signal(self, name: str) -> Output:
        """The signal of that name; raises `UnknownName` with the nearest names."""
        for output in self.signals:
            if output.name == name:
                return output
        names = [o.name for o in self.signals]
        hint = did_you_mean(name, names) or (f"It has {', '.join(names)}." if names else "It has none.")
        raise UnknownName(f"The script has no signal `{name}`. {hint}")

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

    def variant(
        self, roots: Sequence[Op], split: Split | None = None, *, alone: bool = False, adjusted: bool = False
    ) -> CompiledKernel:
        """The code for some values, compiled on first use; with a split, for its second run, or for one that sees what
        becomes of single bars (`Idle.alone`). Over real prices, or ``adjusted`` ones."""
        asked = (tuple(roots), split is not None, alone, adjusted)
        found = self._asked.get(asked)
        if found is None:
            found = self._asked[asked] = self._variant(roots, split, alone, adjusted)
        return found

    def _variant(self, roots: Sequence[Op], split: Split | None, alone: bool, adjusted: bool) -> CompiledKernel:
        from oakladder.rung.native.compiled_kernel import make_kernel  # loads the compiler

        plain = [leaf for root in roots for leaf in leaves(root)]
        given, idle = (split.given, split.idle) if split is not None else (frozenset(), None)
        if alone:
            assert idle is not None
            idle = replace(idle, alone=True)
        key = (tuple(sorted({id(op) for op in plain})), tuple(sorted(id(op) for op in given)), alone, adjusted)
        with self._lock:
            if key not in self._variants:
                if self._whole is not None and not given and plain == self._whole[0]:
                    part = self._whole[1]
                else:
                    part = part_of(self.plan, plain, given, idle)
                self._variants[key] = make_kernel(part, plain, adjusted=adjusted)
            return self._variants[key]

    def settings_under(self, op: Op) -> frozenset[str]:
        """The settings that a value rests on."""
        return settings_of(part_of(self.plan, [op]))

    def fixed_values(
        self, variant: CompiledKernel, roots: Sequence[Op], settings: Mapping[str, object]
    ) -> dict[Op, object]:
        """The fixed values that a run needs."""
        key = (id(variant), tuple(roots))
        if key not in self._wanted:
            self._wanted[key] = in_order(self._needed_fixed(variant, roots))
        return evaluate_in_order(self._wanted[key], settings)

    def _needed_fixed(self, variant: CompiledKernel, roots: Sequence[Op]) -> list[Op]:
        wanted = [*variant.fixed, *(op for root in roots for op in _fixed_parts(root))]
        wanted += [fold.length for fold in variant.state.folds]
        wanted += [cells.size for cells in variant.state.cells]
        wanted += [lag for ring in variant.state.rings for lag in ring.lags if lag.fixed]
        wanted += [d.timeframe for d in variant.live.domains if d.timeframe is not None]
        wanted += [op for op in variant.live.ops if op.fixed]
        wanted += [op for what in variant.state.all_inputs for op in what.fixed]
        return wanted

    def layout(self, variant: CompiledKernel, fixed: Mapping[Op, object]) -> StateLayout:
        """The size of the state. Raises `RunProblem` where the settings make no sense."""
        from oakladder.rung.plan.layout import lay_out  # loads numpy

        return lay_out(self.plan, variant.live, variant.state, fixed)


def _fixed_parts(op: Op) -> list[Op]:
    """The fixed values that a shell is made of."""
    return [part for part in under(op, lambda part: part.is_read_out and not part.fixed) if part.fixed]


#: Walking an expression that is nested as deep as is allowed, within calls as deep as is allowed, takes more frames
#: than Python's default limit.
_FRAMES = 20_000
sys.setrecursionlimit(max(sys.getrecursionlimit(), _FRAMES))
#: Max number of fixes tried on a script of less than so many lines; one on a longer script. Untried fixes are not offered.
_MOST_FIXES, _LONG = 12, 400
#: The scripts that are remembered.
_MOST_PROGRAMS = 128


@dataclass(frozen=True, slots=True)
class Analysis:
    """What is known of a script without running it: its tree, its problems by place, the units of what it shows,
    and the other symbols that it names."""

    script: t.Script
    problems: tuple[Problem, ...]
    units: dict[int, str]
    used: dict[str, t.Define]
    foreign: tuple[tuple[str, Span], ...]
    #: Values in texts that are times of day.
    clocks: frozenset[t.TextPart] = frozenset()
    #: Distances of trades that are ratios of the fill price.
    ratios: frozenset[t.Expr] = frozenset()


def analyse(
    text: str, other_scripts: OtherScripts = OtherScripts(), cancelled: Callable[[], bool] | None = None
) -> Analysis:
    """Reads and checks a script; never raises for errors in it, but `Cancelled`. ``other_scripts`` holds the scripts that
    `use` can reach.

    A problem keeps its fix only if that makes the script better: it is checked again with each.
    """
    made = _analysed(text, other_scripts, cancelled)
    if not any(p.edits for p in made.problems):
        return made
    kept: list[Problem] = []
    tries = _MOST_FIXES if text.count("\n") < _LONG else 1
    for problem in made.problems:
        if problem.edits:
            tries -= 1
            if tries < 0 or not _is_better(apply_fix(text, problem), made.problems, other_scripts, cancelled):
                problem = replace(problem, replacement=None, also=())
        kept.append(problem)
    return replace(made, problems=tuple(kept))


def _is_better(
    text: str, before: tuple[Problem, ...], other_scripts: OtherScripts, cancelled: Callable[[], bool] | None
) -> bool:
    """Whether a script has fewer errors than it had, or as many and fewer problems."""
    after = _analysed(text, other_scripts, cancelled).problems
    weights = [(sum(p.is_error for p in problems), len(problems)) for problems in (after, before)]
    return weights[0] < weights[1]


def _analysed(text: str, other_scripts: OtherScripts, cancelled: Callable[[], bool] | None) -> Analysis:
    script, problems = parse(text, cancelled)
    checker = Checker(script, other_scripts, cancelled, text)
    try:
        checker.run()
        found = _without_echoes([*problems, *checker.problems])
    except RecursionError:
        found = [*problems, _too_deep(checker.line)]
    found.sort(key=lambda p: (p.span.line, p.span.column, p.code))
    units = {line: unit.value for line, unit in checker.units.items()}
    return Analysis(script, tuple(found), units, checker.used, tuple(checker.foreign), checker.clocks, checker.ratios)


def _without_echoes(problems: list[Problem]) -> list[Problem]:
    """The problems without consequences of others: capitals in names that are wrong in any letters,
    a script that is not found because its title stands without quotes."""
    unknown = {(p.span.line, p.span.column) for p in problems if p.is_error and p.code != "R203"}
    unread = {p.span.line for p in problems if p.code == "R102"}

    def echoes(problem: Problem) -> bool:
        if problem.code == "R203":
            return any((at.line, at.column) in unknown for at, _ in problem.edits)
        return problem.code == "R211" and problem.span.line in unread

    nowhere = {p.span.line for p in problems if p.code == "R211"} & unread
    kept = [p for p in problems if not echoes(p)]
    return [replace(p, replacement=None, also=()) if p.span.line in nowhere else p for p in kept]


def _too_deep(line: int) -> Problem:
    what = "Functions and expressions lie too deep in each other here."
    return Problem("R112", Span(line, 1), what, "Make parts of it into names with `let`.")


def compile_script(
    text: str, other_scripts: OtherScripts = OtherScripts(), cancelled: Callable[[], bool] | None = None
) -> Program:
    """Compiles a script; the last ones are remembered. Raises `ScriptError` with every problem if there is an error
    among them, `Cancelled`."""
    key = (text, other_scripts)
    with _PROGRAMS_LOCK:
        known = _PROGRAMS.get(key)
        if known is not None:
            _PROGRAMS.move_to_end(key)
            return known
    made = _compiled(text, other_scripts, cancelled)
    with _PROGRAMS_LOCK:
        made = _PROGRAMS.setdefault(key, made)
        while len(_PROGRAMS) > _MOST_PROGRAMS:
            _PROGRAMS.popitem(last=False)
    return made


_PROGRAMS: OrderedDict[tuple[str, OtherScripts], Program] = OrderedDict()
_PROGRAMS_LOCK = threading.Lock()


def forget_programs() -> None:
    """Forgets the scripts that are remembered."""
    with _PROGRAMS_LOCK:
        _PROGRAMS.clear()


def _compiled(text: str, other_scripts: OtherScripts, cancelled: Callable[[], bool] | None) -> Program:
    analysis = analyse(text, other_scripts, cancelled)
    if any(p.is_error for p in analysis.problems):
        raise ScriptError(analysis.problems)
    known = Known(analysis.used, analysis.clocks, analysis.ratios)
    return _with_variants(_lowered(text, analysis, known, cancelled), text, analysis, known)


def _with_variants(made: Program, text: str, analysis: Analysis, known: Known) -> Program:
    """A program that knows how it is made in other ways."""

    def other(as_well: Known) -> Callable[[], Program]:
        return cache(lambda: _with_variants(_lowered(text, analysis, as_well, None), text, analysis, as_well))

    made._complete = other(replace(known, complete=True))
    if made.plan.trading is not None:
        made._finer, made._through = other(replace(known, finer=True)), other(replace(known, through=True))
    return made


def _lowered(text: str, analysis: Analysis, known: Known, cancelled: Callable[[], bool] | None) -> Program:
    """The program of a script without errors. Raises `ScriptError` where it is too large to run."""
    script = analysis.script
    try:
        plan, trace = lower(script, known, cancelled)
    except RecursionError:
        raise ScriptError((*analysis.problems, _too_deep(1))) from None
    for output in plan.outputs:
        output.unit = analysis.units.get(output.line, "")
    settings = tuple(setting_info(s) for s in script.statements if isinstance(s, t.Setting))
    made = Program(text, script.title, script.about, settings, plan, trace, analysis.problems, analysis.foreign)
    try:
        _check_sizes(made)
    except RunProblem as error:
        sentence = error.sentence.replace(" with these settings", "").removeprefix("With these settings ")
        problem = Problem("R602", Span(max(error.line, 1), 1), sentence[:1].upper() + sentence[1:])
        raise ScriptError((*analysis.problems, problem)) from None
    return made


def _check_sizes(program: Program) -> None:
    """Raises `RunProblem` where the script could not run as its settings stand: a length that makes no sense, a loop
    that takes too long."""
    plan = program.plan
    roots = [op for output in plan.outputs for op in output.roles.values()]
    roots += plan.trading.roots if plan.trading is not None else []
    plain = [leaf for root in roots for leaf in leaves(root) if leaf.domain is None or leaf.domain.foreign is None]
    part = part_of(plan, plain)
    needed, state = part.live, part.state
    program._whole = plain, part
    wanted = [op for op in needed.ops if op.fixed]
    wanted += [fold.length for fold in state.folds] + [lag for r in state.rings for lag in r.lags if lag.fixed]
    wanted += [demand.value for demand in plan.demands]
    fixed = evaluate_fixed(wanted, program.values_of(None) | {CHART_TIMEFRAME: "1d"})
    sizes_of(plan, needed, state, fixed)


def unknown_symbols(foreign: Iterable[tuple[str, Span]], known: Collection[str]) -> list[Problem]:
    """Problems for the symbols that a script names and the library does not have."""
    made = []
    for symbol, span in foreign:
        if symbol not in known:
            spelled = next((k for k in known if k.upper() == symbol.upper()), None)
            hint = f"Write {spelled}." if spelled else did_you_mean(symbol, known).replace("`", "")
            replacement = f'"{spelled}"' if spelled else None
            made.append(Problem("R214", span, f"The library has no symbol {symbol}.", hint, replacement))
    return made
