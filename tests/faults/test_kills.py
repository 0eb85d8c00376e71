"""The program is killed at random moments: what was there before is there after, and what was begun can be gone on with."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from helpers import DEMO_SCRIPTS, daily_bars
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY
from oakladder.demo import upkeep
from oakladder.user.workspace import Workspace

from .killing import killed, run, write_days

_IMPORT = """
import sys
from pathlib import Path
from oakladder.bars.store.library import BarLibrary
from oakladder.intake.importing import import_files
library = BarLibrary(Path(sys.argv[1]))
print("go", flush=True)
made = import_files([Path(sys.argv[2])], library)
assert not [i.trouble for i in made if i.trouble]
"""
_START = """
import sys
from pathlib import Path
from oakladder.user.workspace import Workspace
space = Workspace(Path(sys.argv[1]) / "data", Path(sys.argv[1]) / "config")
print("go", flush=True)
space.script_files()
library = space.library()
print(len(library.infos), len(space.script_files()))
"""
_SCAN = """
import sys
from pathlib import Path
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.scan.conditions import Condition, Group, Join, Rule
from oakladder.engine.scan.run import run_scan as screen
from oakladder.rung import compile_script
library = BarLibrary(Path(sys.argv[1]))
program = compile_script("rung 1\\nsignal go = close > sma(close, 20)\\n")
print("go", flush=True)
both = Group(Join.ANY, (Rule(program, "go", Timeframe.parse("1d")), Rule(program, "go", Timeframe.parse("1h"))))
made = screen(both, library, list(library.infos), Timeframe.parse("1d"))
print(sorted(f.symbol for f in made.found))
"""
_PACK = """
import sys
from pathlib import Path
from oakladder.bars.store import pack, packing
from oakladder.bars.store.library import BarLibrary
packing.LEAST_SYMBOLS, pack.SETTLED = 2, 0.0
library = BarLibrary(Path(sys.argv[1]))
print("go", flush=True)
library.pack()
"""
_SYMBOLS, _DAYS = 12, 400


def tries(short: int, long: int) -> list[object]:
    return [pytest.param(short, id="short"), pytest.param(long, id="long", marks=pytest.mark.nightly)]


@pytest.mark.parametrize("times", tries(2, 60))
def test_kills_while_importing_leave_each_symbol_old_or_new(
    tmp_path: Path, told: Callable[[str], None], times: int
) -> None:
    files, hits = tmp_path / "files", 0
    files.mkdir()
    for k in range(times):
        folder, fresh = tmp_path / f"bars {k}", k % 2 == 0
        counts = {0, _DAYS} if fresh else {_DAYS // 2, _DAYS}
        if not fresh:
            for s in range(_SYMBOLS):
                write_days(files / f"S{s}.csv", 0, _DAYS // 2, 10 + s)
            run(_IMPORT, folder, files)
        for s in range(_SYMBOLS):
            write_days(files / f"S{s}.csv", 0, _DAYS, 10 + s)
        hits += killed(_IMPORT, folder, files, longest=0.5, seed=k)
        library = BarLibrary(folder)
        found = {s: len(library.bars(s, ONE_DAY)) for s in library.infos}
        assert library.damaged() == [] and set(found.values()) <= counts, found
        assert fresh or len(found) == _SYMBOLS
        run(_IMPORT, folder, files)  # what was broken off is gone on with
        library = BarLibrary(folder)
        assert {len(library.bars(s, ONE_DAY)) for s in library.infos} == {_DAYS} and len(library.infos) == _SYMBOLS
    told(f"kills while importing: {times} tries, {hits} hit it at work, 0 bars lost")


@pytest.mark.parametrize("times", tries(1, 40))
def test_kills_at_the_first_start_are_made_up_for(tmp_path: Path, told: Callable[[str], None], times: int) -> None:
    hits = 0
    for k in range(times):
        root = tmp_path / f"home {k % 3}"  # some are killed again and again
        hits += killed(_START, root, longest=1.6, seed=k)
        if k % 3 == 2 or times == 1:
            symbols, scripts = run(_START, root).splitlines()[1].split()
            library = BarLibrary(root / "data" / "bars")
            assert (int(symbols), int(scripts)) == (len(library.infos), len(DEMO_SCRIPTS)) and len(library.infos) == 77
            assert library.damaged() == [] and upkeep.prepare(library) is None
    told(f"kills at the first start: {times} tries, {hits} hit it at work, 0 symbols or scripts missing after")


@pytest.mark.parametrize("times", tries(1, 30))
def test_kills_while_scanning_change_no_answer(
    tmp_path: Path, market: BarLibrary, told: Callable[[str], None], times: int
) -> None:
    expected = run(_SCAN, market.folder).splitlines()[1]
    hits = 0
    for k in range(times):
        hits += killed(_SCAN, market.folder, longest=0.6, seed=k)
        if k % 5 == 0:
            assert run(_SCAN, market.folder).splitlines()[1] == expected
    assert BarLibrary(market.folder).damaged() == []
    told(f"kills while scanning: {times} tries, {hits} hit it at work, every answer as before")


def test_a_home_that_another_start_is_making_is_waited_for(tmp_path: Path) -> None:
    space = Workspace(tmp_path / "data", tmp_path / "config")
    space.library()
    assert len(space.library().infos) == 77


@pytest.mark.parametrize("times", tries(2, 100))
def test_kills_while_packing_cost_nothing_but_time(tmp_path: Path, told: Callable[[str], None], times: int) -> None:
    folder, files, hits = tmp_path / "bars", tmp_path / "files", 0
    files.mkdir()
    for s in range(_SYMBOLS):
        write_days(files / f"S{s}.csv", 0, _DAYS, 10 + s)
    run(_IMPORT, folder, files)
    for k in range(times):
        for s in range(k % _SYMBOLS, _SYMBOLS, 1 + k % 5):  # some are packed anew, behind the others or with them
            library = BarLibrary(folder)
            library.write(daily_bars(np.arange(1.0, 2 + _DAYS) + k, symbol=f"S{s}"))
        hits += killed(_PACK, folder, longest=0.03, seed=k)
        library = BarLibrary(folder)
        panel = library.panel(library.infos, ONE_DAY)
        for j, symbol in enumerate(panel.symbols):
            np.testing.assert_array_equal(panel.bars(j)["close"], library.base(symbol, ONE_DAY)["close"])
        assert not library.notices and library.damaged() == []
    run(_PACK, folder)
    told(f"packing killed {times} times, {hits} in the middle: nothing lost")
