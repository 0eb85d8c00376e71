"""A rule and its ground as bytes, so that another process can put variants of it on trial and gets the same bits."""

from __future__ import annotations

import pickle
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

from oakladder.bars.adjustments import Adjustments
from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.contract import Contract
from oakladder.bars.panel import Background, Minutes, Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import Timeframe
from oakladder.rung import Program, compile_script
from oakladder.rung.other_scripts import OtherScripts
from oakladder.trial.batch.processes import Shared
from oakladder.trial.broker.money import Account
from oakladder.trial.grid import grid_of
from oakladder.trial.trial import TrialData


@dataclass(frozen=True, slots=True)
class PackedPanel:
    """A panel as plain data."""

    symbols: tuple[str, ...]
    timeframe: str
    calendars: tuple[Calendar, ...]
    times: tuple[np.ndarray, ...]
    columns: dict[str, np.ndarray]
    extended: bool
    ticks: tuple[float, ...] | None
    contracts: tuple[Contract, ...] | None
    adjustments: tuple[Adjustments | None, ...] | None
    minutes: Minutes | None

    @classmethod
    def of(cls, panel: Panel) -> PackedPanel:
        panel.fetch(COLUMNS)
        timeline = panel.timeline
        columns = {name: np.ascontiguousarray(panel.column(name)) for name in COLUMNS}
        return cls(
            panel.symbols,
            str(panel.timeframe),
            panel.calendars,
            timeline.each,
            columns,
            timeline.extended,
            panel.ticks,
            panel.contracts,
            panel.adjustments,
            panel.minutes,
        )

    def unpacked(self) -> Panel:
        """The panel again; without a background."""
        frame, at, series = Timeframe.parse(self.timeframe), 0, []
        for symbol, calendar, times in zip(self.symbols, self.calendars, self.times, strict=True):
            part = slice(at, at + len(times))
            columns = {name: values[part] for name, values in self.columns.items()}
            series.append(Bars(symbol, frame, calendar, times, columns, self.extended))
            at += len(times)
        made = panel_of(series, frame)
        made.ticks, made.contracts, made.minutes = self.ticks, self.contracts, self.minutes
        made.adjustments = self.adjustments
        return made


class NotPacked(Exception):
    """Something was asked for that was not sent along: the variant is to be tried where the bars are."""


@dataclass(slots=True)
class Recorded:
    """A background that remembers what was asked of it, and answers from that alone once it was sent elsewhere."""

    real: Background | None
    others: dict[tuple[str, str], PackedPanel] = field(default_factory=dict)
    before: dict[tuple[tuple[str, ...], str], PackedPanel | None] = field(default_factory=dict)

    def other(self, symbol: str, timeframe: Timeframe) -> Panel:
        key = symbol, str(timeframe)
        if self.real is not None:
            found = self.real.other(symbol, timeframe)
            self.others[key] = PackedPanel.of(found)
            return found
        if key not in self.others:
            raise NotPacked
        return self.others[key].unpacked()

    def earlier(self, panel: Panel, timeframe: Timeframe) -> Panel | None:
        key = panel.symbols, str(timeframe)
        if self.real is not None:
            found = self.real.earlier(panel, timeframe)
            self.before[key] = None if found is None else PackedPanel.of(found)
            return found
        if key not in self.before:
            raise NotPacked
        packed = self.before[key]
        return None if packed is None else packed.unpacked()


@dataclass(frozen=True, slots=True)
class Packed:
    """All that trials of a rule depend on, its settings apart."""

    text: str
    #: The scripts that it may take functions from.
    other_scripts: OtherScripts
    finer: bool
    panel: PackedPanel
    background: Recorded | None
    first: int | None
    seal: int | None
    account: Account
    #: What units are worth in the account's currency, see `Grid`.
    factors: np.ndarray | None

    def to_bytes(self) -> bytes:
        return pickle.dumps(self, protocol=pickle.HIGHEST_PROTOCOL)


def packed(
    program: Program,
    other_scripts: OtherScripts,
    finer: bool,
    ground: TrialData,
    account: Account,
    seen: Recorded | None,
) -> bytes:
    """A rule and its ground as bytes; ``seen`` is what a run of it asked of its background."""
    background = Recorded(None, seen.others, seen.before) if seen is not None else None
    made = Packed(
        program.text,
        other_scripts,
        finer,
        PackedPanel.of(ground.panel),
        background,
        ground.first,
        ground.seal,
        account,
        ground.grid.in_currency(account.currency).factors,
    )
    return made.to_bytes()


@lru_cache(maxsize=2)
def unpacked(data: bytes | Shared) -> tuple[Program, TrialData, Account]:
    """The rule, its ground and its account again; remembered, since many variants of one rule come."""
    made: Packed = pickle.loads(data.bytes() if isinstance(data, Shared) else data)
    program = compile_script(made.text, made.other_scripts)
    panel = made.panel.unpacked()
    panel.background = made.background
    ground = TrialData(panel, grid_of(panel), made.first, made.seal)
    ground.grid.know(made.account.currency, made.factors)
    return program.finer() if made.finer else program, ground, made.account
