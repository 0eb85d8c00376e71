"""What a scan means: the condition that the engine runs, and all that its result is derived from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.engine.scan.conditions import Condition, Field, TriggerMode
from oakladder.rung import Program
from oakladder.user.lists import ListProblem, Watchlists
from oakladder.user.scans import SCRIPT, SavedScan, ScanLine, ScanProblem, flat

Programs = Mapping[str, Program]
Infos = Mapping[str, SymbolInfo]


def condition_of(scan: SavedScan, programs: Programs, lists: Watchlists, infos: Infos) -> Condition:
    """What the engine shall run. Raises `ScanProblem` or `ListProblem`."""

    def program_of(script: str) -> Program:
        if script not in programs:
            raise ScanProblem(
                f"The script {script or 'of a condition'} is missing or has errors. Open it on the Bench."
            )
        return programs[script]

    try:
        return scan.condition(program_of, lambda name: lists.symbols(name, infos))
    except ValueError as error:
        raise ScanProblem(str(error)) from None


def derived_from(scan: SavedScan, programs: Programs, lists: Watchlists, infos: Infos) -> object:
    """Everything besides bars that the result of a scan follows from: equal where nothing of it has changed."""
    conditions = list(flat(scan.lines))
    scripts = sorted({line.script for line in conditions if line.kind == SCRIPT})
    texts = [programs[name].text if name in programs else None for name in scripts]
    names = [scan.list_name, *(word for line in conditions if line.kind == Field.SYMBOLS for word in line.words)]
    return replace(scan, name="", keeps=""), texts, [_symbols(name, lists, infos) for name in names]


def _symbols(name: str, lists: Watchlists, infos: Infos) -> list[str] | None:
    try:
        return lists.symbols(name, infos)
    except ListProblem:
        return None


def first_lines(opened: Path | None, programs: Mapping[str, Program]) -> list[ScanLine]:
    """The first signal of the open script, lately; of another one where it has none."""
    for name in (opened.name if opened else "", *programs):
        program = programs.get(name)
        if program is not None and program.signals:
            signal = program.signals[0].name
            return [ScanLine(SCRIPT, script=name, name=signal, fresh=TriggerMode.WITHIN.value, bars=5)]
    return []
