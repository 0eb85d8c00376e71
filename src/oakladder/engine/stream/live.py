"""A program that goes on: state after the last bar is kept, new bars are added, a bar in progress is tried.

Running over history and then bar by bar gives the same bits as running over everything at once. What is read of another
symbol goes on in the same way. Bars are counted from each symbol's first one, whatever the calls in which they came.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.run.execute import Result, roots_of
from oakladder.engine.run.setup import BoundKernel, RunSetup, other_panel, prepare
from oakladder.rung.native.compile import COMMIT, FRESH
from oakladder.rung.plan.inputs import OtherSymbol
from oakladder.rung.plan.ops import LOG_ROWS, ROWS_A_BAR, Op, Output
from oakladder.rung.program import Program
from oakladder.rung.trade_log import WIDTH, Column, Event


@dataclass
class LiveResult(Result):
    """What a call gave; ``before`` is how many bars of each symbol came before it, shape (symbols,), int64."""

    before: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=np.int64))

    def trade_rows(self) -> np.ndarray:
        """The rows of the trade log that the call has written, for each symbol in order (`trade_log.Column`); bars are
        counted from the symbol's first one. Shape (rows, `WIDTH`), float64."""
        trading, panel = self.program.plan.trading, self.panel
        if trading is None or trading.rows not in self.arrays:
            return np.empty((0, WIDTH))
        log, found = self.arrays[trading.rows], [np.empty((0, WIDTH))]
        for k in np.flatnonzero(panel.timeline.sizes).tolist():
            start, end = ROWS_A_BAR * int(panel.starts[k]), ROWS_A_BAR * int(panel.ends[k])
            ended = np.flatnonzero(log[start:end, Column.EVENT] == 0)
            rows = log[start : start + int(ended[0]) if len(ended) else end].copy()
            rows[:, Column.SYMBOL] = k
            shift = float(self.before[k]) - float(panel.starts[k])
            rows[:, Column.ENTERED] += shift
            rows[rows[:, Column.EVENT] == Event.CLOSED, Column.LEFT] += shift
            found.append(rows)
        return np.concatenate(found)


class LiveRun:
    """The state of a program on each symbol of a panel. Raises `RunProblem` as `run` does.

    ``chart`` is the timeframe that the script itself runs on, where the panel has another symbol's longer bars.
    """

    def __init__(
        self,
        program: Program,
        history: Panel,
        settings: Mapping[str, object] | None = None,
        outputs: Sequence[Output] | None = None,
        extra: Sequence[Op] = (),
        chart: Timeframe | None = None,
    ):
        self.program, self.settings = program, dict(settings or {})
        self._shown = program.outputs if outputs is None else list(outputs)
        self._roots = roots_of(self._shown, extra)
        self._background, self._chart = history.background, chart or history.timeframe
        job = prepare(program, history, self.settings, self._roots, self._chart)
        self.state = np.empty((len(history), len(job.layout.template)))
        self._last: tuple[int | None, ...] = (None,) * len(history)
        self._others: dict[Op, _OtherSymbol] = {}
        #: How many bars of each symbol were run. Shape (symbols,), int64.
        self.counts = np.zeros(len(history), dtype=np.int64)
        #: The cell of the state that holds the place of an entry, None where no log is kept.
        self._entry = _entry_cell(job)
        self.history = self._go(history, FRESH | COMMIT)
        self._remember(history)

    def _go(self, panel: Panel, mode: int) -> LiveResult:
        panel.background = panel.background or self._background
        job = prepare(self.program, panel, self.settings, self._roots, self._chart)
        self._read_others(job)
        outs = job.empty_outs()
        # Longer timeframes may end with the bar that is tried: they run on a copy. Without them the code
        # itself leaves no trace (registers are not stored back, cells are written again by the real bar).
        # Of several bars only the last leaves no trace.
        traces = len(job.variant.live.domains) > 1 or bool((np.diff(panel.offsets) > 1).any())
        traces = traces or any(slot.cold for slot in job.variant.live.slots)  # those are changed where they are
        rows = self.state.copy() if traces and not mode & COMMIT else self.state
        arrays = dict(zip(job.variant.leaves, outs, strict=True))
        made = LiveResult(self.program, panel, self._shown, arrays, job.fixed, before=self.counts)
        if self._entry is None:
            BoundKernel(job, outs)(0, len(panel), rows, mode)
        else:
            self._with_log(job, outs, rows, mode)
            made.pieces = panel.timeline.firsts
        return made

    def _with_log(self, job: RunSetup, outs: list[np.ndarray], rows: np.ndarray, mode: int) -> None:
        """Runs symbol by symbol, so that each row of the log has its symbol. The state holds the place of an
        entry as this call counts places while it runs, and counted from the symbol's first bar afterwards."""
        starts, kernel, cell = job.panel.starts, BoundKernel(job, outs), self._entry
        rows[:, cell] += starts - self.counts
        for k in np.flatnonzero(job.panel.timeline.sizes).tolist():
            kernel(k, k + 1, rows[k : k + 1], mode)
        if mode & FRESH:
            rows[job.panel.timeline.sizes == 0] = job.layout.template
        rows[:, cell] -= starts - self.counts

    def _read_others(self, job: RunSetup) -> None:
        """Gives a job what it reads of other symbols, which goes on as well."""
        values = [what.value for what in job.variant.code.inputs if isinstance(what, OtherSymbol)]
        if not values or not job.panel.size:
            return
        upto = max(int(job.panel.timeline.closes(k)[-1]) for k in np.flatnonzero(job.panel.timeline.sizes).tolist())
        for value in values:
            if value not in self._others:
                self._others[value] = _OtherSymbol(self, job, value)
            job.foreign[value] = self._others[value].values(job, upto)

    def _remember(self, panel: Panel) -> None:
        self.counts = self.counts + panel.timeline.sizes
        self._last = tuple(
            int(panel.times[b - 1]) if b > a else old
            for a, b, old in zip(panel.starts, panel.ends, self._last, strict=True)
        )

    def advance(self, bars: Panel) -> LiveResult:
        """Runs over new, finished bars of the same symbols (any number of each) and keeps the state after them."""
        bars.timeline.previous = self._last
        made = self._go(bars, COMMIT)
        self._remember(bars)
        return made

    def peek(self, bars: Panel) -> LiveResult:
        """What the bar in progress would give if it closed now; the state stays as it was."""
        bars.timeline.previous = self._last
        return self._go(bars, 0)


class LiveTrades:
    """The trades of a live run so far: the closed ones, and the ones that are open at each symbol's last bar."""

    def __init__(self) -> None:
        self._closed: list[np.ndarray] = [np.empty((0, WIDTH))]
        self._open: dict[int, np.ndarray] = {}

    def take(self, rows: np.ndarray) -> None:
        """Takes in the rows of a call (`LiveResult.trade_rows`). Shape (rows, `WIDTH`), float64."""
        for row in rows:
            symbol = int(row[Column.SYMBOL])
            if row[Column.EVENT] == Event.OPEN:  # written once, by the call in which it was entered
                self._open[symbol] = row
            elif row[Column.EVENT] == Event.CLOSED:
                self._open.pop(symbol, None)
                self._closed.append(row[None])

    def rows(self) -> np.ndarray:
        """All trades by symbol, then by entry, as rows of the log. Shape (trades, `WIDTH`), float64."""
        made = np.concatenate([*self._closed, *(row[None] for row in self._open.values())])
        return made[np.lexsort((made[:, Column.ENTERED], made[:, Column.SYMBOL]))]


class _OtherSymbol:
    """A value of another symbol, on the bars of that symbol that were complete by now."""

    def __init__(self, owner: LiveRun, job: RunSetup, value: Op):
        assert value.domain is not None and value.domain.foreign is not None
        foreign = value.domain.foreign
        self._owner, self._value = owner, value
        self._symbol = str(job.fixed[foreign.symbol])
        given = foreign.timeframe
        self._timeframe = owner._chart if given is None else Timeframe.parse(str(job.fixed[given]))
        self._run: LiveRun | None = None
        self._closes, self._numbers = np.zeros(0, dtype=np.int64), np.zeros(0)
        self._last = 0

    def values(self, job: RunSetup, upto: int) -> tuple[np.ndarray, np.ndarray]:
        """When each of its bars was complete and the value there, of bars that were complete by a time (UTC seconds)."""
        panel = other_panel(job, self._symbol, self._timeframe)
        closes = panel.timeline.closes(0)
        count, done = int(np.searchsorted(closes, upto, "right")), len(self._closes)
        goes_on = self._run is not None and done <= count and (not done or int(panel.times[done - 1]) == self._last)
        if not goes_on:
            self._run, self._closes, self._numbers, done = None, closes[:0], self._numbers[:0], 0
        if count > done:
            self._add(panel, done, count, closes)
        return self._closes, self._numbers

    def _add(self, panel: Panel, done: int, count: int, closes: np.ndarray) -> None:
        bars = panel_of([panel.bars(0).part(done, count)])
        bars.background, bars.ticks, bars.contracts = panel.background, panel.ticks, panel.contracts
        if self._run is None:
            own = self._owner
            self._run = LiveRun(own.program, bars, own.settings, [], [self._value], own._chart)
            made = self._run.history
        else:
            made = self._run.advance(bars)
        self._closes = np.concatenate([self._closes, closes[done:count]])
        self._numbers = np.concatenate([self._numbers, made.number(self._value)])
        self._last = int(panel.times[count - 1])


def _entry_cell(job: RunSetup) -> int | None:
    trading = job.program.plan.trading
    if trading is None or not any(op.code == LOG_ROWS for op in job.variant.leaves):
        return None
    return job.variant.state.scalars.get(trading.entered)
