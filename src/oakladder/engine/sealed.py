"""The sealed part of history: from which day on the results of a rule are hidden. Marks and signals are shown."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.execute import Result
from oakladder.rung.plan.ops import Op, Output, leaves
from oakladder.rung.plan.part import part_of
from oakladder.rung.program import Program
from oakladder.rung.words import Shown

#: What is shown instead of a result.
SEALED = "sealed"
_DAY = 86_400
#: The values of a position that are results; a script can compute the same from its entry price.
_BROUGHT, _ENTRY = ("gain", "best"), "entry"
#: The roles of a mark that place it.
_PLACES_OF_MARKS = ("when", "value", "at", "ago")


@dataclass(frozen=True, slots=True)
class SealedDays:
    """The first sealed day of each symbol, in days since 1970; other symbols have none."""

    days: Mapping[str, int] = field(default_factory=dict)

    @property
    def time(self) -> int | None:
        """From when on everything is sealed: midnight of the latest of the days, UTC seconds; None where nothing is."""
        return max(self.days.values()) * _DAY if self.days else None

    def opened(self, panel: Panel) -> np.ndarray:
        """How many bars of each symbol are complete before its first sealed day. Int64, shape (symbols,)."""
        made = panel.timeline.sizes.astype(np.int64)
        known: dict[tuple[int, int, int], int] = {}
        for k, (symbol, times) in enumerate(zip(panel.symbols, panel.timeline.each, strict=True)):
            day = self.days.get(symbol)
            if day is None or not len(times):
                continue
            calendar = panel.calendars[k]
            same = id(times), id(calendar), day
            if same not in known:
                begin = int(calendar.day_open(np.array([day]), extended=True)[0])
                count = int(np.searchsorted(times, begin))
                if count and not panel.timeframe.intraday:  # a longer bar may reach into the sealed part
                    last = calendar.closes(times[count - 1 : count], panel.timeframe, panel.timeline.extended)
                    count -= int(last[0] > begin)
                known[same] = count
            made[k] = known[same]
        return made

    def hides_now(self, panel: Panel) -> np.ndarray:
        """Whether the last bar of each symbol is sealed; bool. Shape (symbols,)."""
        return self.opened(panel) < panel.timeline.sizes


#: Nothing is sealed.
OPEN = SealedDays()


def tells_result(program: Program, op: Op) -> bool:
    """Whether a value is made of what a position has brought: of its gain, its best price, or reckoned from its entry."""
    known = program.facts.setdefault(tells_result, {})
    assert isinstance(known, dict)
    if op not in known:  # it is asked again for each bar that is drawn
        known[op] = _tells_result(program, op)
    return bool(known[op])


def _tells_result(program: Program, op: Op) -> bool:
    plan = program.plan.trading
    if plan is None:
        return False
    told = frozenset[Op]().union(*(plan.reads.get(name, ()) for name in (*_BROUGHT, _ENTRY)))
    if not told:
        return False
    shown_as_it_is = plan.reads.get(_ENTRY, frozenset())
    roots = [leaf for leaf in leaves(op) if leaf not in shown_as_it_is]
    if not roots:
        return False
    read = part_of(program.plan, roots, frozenset[Op]().union(*plan.reads.values())).live.ops
    return not told.isdisjoint(read)


def output_tells_result(program: Program, output: Output) -> bool:
    """The same of anything that is drawn or told; what only decides where a signal or a mark stands is no result."""
    if program.plan.trading is None or output.what is Shown.SIGNAL:
        return False
    is_mark = output.what is Shown.MARK
    return any(
        tells_result(program, op) for name, op in output.roles.items() if not is_mark or name not in _PLACES_OF_MARKS
    )


def results_hidden(result: Result, opened: int) -> Callable[[Output], Result]:
    """What may be shown of each output of a result over one symbol, of which the first bars are ``opened``: all of it, or,
    where it contains results, only those bars."""
    if opened >= result.panel.size or result.program.plan.trading is None:
        return lambda output: result

    def shown(output: Output) -> Result:
        if not output_tells_result(result.program, output):
            return result
        parts = {f.name: getattr(result, f.name) for f in fields(Result)}
        return _Hidden(**parts, opened=opened, is_mark=output.what is Shown.MARK)

    return shown


@dataclass(slots=True)
class _Hidden(Result):
    """A run without the results of positions from some bar on. Marks keep their places."""

    opened: int = 0
    is_mark: bool = False

    def number(self, op: Op) -> np.ndarray:
        made = Result.number(self, op)
        return self._without(op, made, np.nan) if not op.is_flag else made

    def flag(self, op: Op) -> np.ndarray:
        made = Result.flag(self, op)
        return made if self.is_mark else self._without(op, made, -1)

    def is_true(self, op: Op | None) -> np.ndarray:
        made = Result.is_true(self, op).copy()
        if not self.is_mark:
            made[self.opened :] = False
        return made

    def at(self, op: Op, bar: int) -> object:
        return None if bar >= self.opened and tells_result(self.program, op) else Result.at(self, op, bar)

    def colours(self, op: Op, paint: Callable[[str], int]) -> np.ndarray:
        return self._without(op, Result.colours(self, op, paint), paint("mute") if self.is_mark else 0)

    def _without(self, op: Op, values: np.ndarray, nothing: float) -> np.ndarray:
        if not tells_result(self.program, op):
            return values
        made = values.copy()
        made[self.opened :] = nothing
        return made
