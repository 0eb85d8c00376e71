"""Live minutes in the library: read as one with the files, however they came, and whatever was killed meanwhile."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from faults.killing import killed, run
from helpers import Tune
from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.resample import resample
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.append_log import NAME, Tail, tail_of
from oakladder.bars.store.appending import MOST_AGE, Appender
from oakladder.bars.store.edit_metadata import Change, edit_symbols
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.moving import move
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.tail_view import tail_view
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.engine.scan.conditions import Rule
from oakladder.engine.scan.run import run_scan
from oakladder.rung import compile_script

CALENDAR = Calendar(start=540, end=900, early=480, late=960)
#: A Monday.
DAY = 20_003
OPENS = CALENDAR.day_open(np.arange(DAY, DAY + 5, dtype=np.int64))
NAMES = [f"L{k}" for k in range(5)]
FIVE = Timeframe.parse("5m")


def minutes(times: np.ndarray, seed: int) -> Tail:
    """Some numbers for minutes."""
    rng = np.random.default_rng(seed)
    close = np.round(rng.uniform(10, 20, len(times)), 2)
    return Tail(times, {"open": close, "high": close + 1, "low": close - 1, "close": close, "volume": close * 100 // 1})


def market_of(folder: Path, *, minutes_before: int = 200) -> BarLibrary:
    """Five symbols with some minutes and days before `DAY`; the last one has neither."""
    library = BarLibrary(folder)
    library.add_symbols([SymbolInfo(n, n, "", "share", 0.01, CALENDAR) for n in NAMES])
    before = CALENDAR.day_open(np.arange(DAY - 30, DAY, dtype=np.int64))
    before = before[CALENDAR.trades_on(np.arange(DAY - 30, DAY, dtype=np.int64))]
    for k, name in enumerate(NAMES[:-1]):
        some = minutes(before[-1] + 60 * np.arange(minutes_before), k)
        library.write(Bars(name, ONE_MINUTE, CALENDAR, some.times, some.columns))
        days = minutes(before, 90 + k)
        library.write(Bars(name, ONE_DAY, CALENDAR, days.times, days.columns))
    return library


class Model:
    """What the library ought to hold: each symbol's minutes by their times."""

    def __init__(self, library: BarLibrary):
        self.rows: dict[str, dict[int, tuple[float, ...]]] = {n: {} for n in NAMES}
        self.days: dict[str, Tail] = {}
        for name in NAMES[:-1]:
            self.put(name, library.base(name, ONE_MINUTE))
            days = library.base(name, ONE_DAY)
            self.days[name] = Tail(days.times, days.columns)

    def put(self, name: str, some: Bars | Tail) -> None:
        for k, time in enumerate(some.times.tolist()):
            self.rows[name][time] = tuple(float(some[c][k]) for c in COLUMNS)

    def minutes(self, name: str) -> Bars:
        tail = tail_of([(time, *row) for time, row in sorted(self.rows[name].items())])
        return Bars(name, ONE_MINUTE, CALENDAR, tail.times, tail.columns)

    def daily(self, name: str, now: int) -> Bars:
        """The days of before, and those that are over."""
        made = resample(self.minutes(name).regular(), ONE_DAY)
        before = self.days.get(name, tail_of([]))
        first = before.times[-1] if len(before) else 0
        keep = (made.times > first) & (CALENDAR.closes(made.times, ONE_DAY) + 3 <= now)
        columns = {c: np.concatenate([before[c], made[c][keep]]) for c in COLUMNS}
        return Bars(name, ONE_DAY, CALENDAR, np.concatenate([before.times, made.times[keep]]), columns)


def same(made: Bars, expected: Bars) -> None:
    np.testing.assert_array_equal(made.times, expected.times)
    for name in COLUMNS:
        np.testing.assert_array_equal(made[name], expected[name])


def agrees(library: BarLibrary, model: Model, now: int) -> None:
    """Compares everything that reads bars with what the library ought to hold."""
    there = [n for n in NAMES if model.rows[n]]
    for name in there:
        whole, daily = model.minutes(name), model.daily(name, now)
        same(library.base(name, ONE_MINUTE), whole)
        same(library.bars(name, ONE_MINUTE), whole.regular())
        same(library.bars(name, FIVE), resample(whole.regular(), FIVE))
        if len(daily):
            same(library.bars(name, ONE_DAY), daily)
            assert library.stored(name, ONE_DAY) == len(daily)
        assert library.stored(name, ONE_MINUTE, True) == len(whole)
        assert library.stored(name, ONE_MINUTE) == len(whole.regular())
    for extended in (False, True):
        panel = library.panel(there, FIVE, extended)
        for k, name in enumerate(there):
            whole = model.minutes(name)
            same(panel.bars(k), resample(whole if extended else whole.regular(), FIVE))
    minutes = library.panel(there, ONE_MINUTE, True)
    late = tail_view(minutes, np.maximum(minutes.timeline.sizes - 7, 0))
    for k, name in enumerate(there):
        same(late.bars(k), model.minutes(name).part(max(len(model.rows[name]) - 7, 0), 10**9))


@pytest.mark.parametrize("packed", [False, True])
@pytest.mark.parametrize("seed", range(3))
def test_minutes_that_come_live_are_read_as_one_with_the_files(
    tmp_path: Path, tune: Tune, seed: int, packed: bool
) -> None:
    """New ones, repeats, corrections, late ones, folds, other readers and programs that begin anew, in any order."""
    tune(packed_symbols=2 if packed else 10**9, settled_seconds=0.0)
    library = market_of(tmp_path / "bars")
    library.pack()
    model, appender, other = Model(library), Appender(library), BarLibrary(tmp_path / "bars")
    rng = np.random.default_rng(seed)
    at, now = 0, int(OPENS[0])
    for step in range(24):
        batch = {}
        for k, name in enumerate(NAMES):
            if rng.random() < 0.3:
                continue
            day, first = divmod(at, 420)
            times = OPENS[day % 5] + 60 * (first - 30 + np.arange(int(rng.integers(1, 40))))
            some = minutes(times[rng.random(len(times)) < 0.9], 1000 * step + k)
            if rng.random() < 0.3 and model.rows[name]:  # some that are there, of which some are otherwise now
                known = model.minutes(name)
                again = np.flatnonzero(rng.random(len(known)) < 0.02)
                closes = np.where(rng.random(len(again)) < 0.5, known["close"][again], 15.0)
                back = Tail(known.times[again], {c: known[c][again] for c in COLUMNS} | {"close": closes})
                both = {**dict.fromkeys(back.times.tolist(), 0)}
                keep = ~np.isin(some.times, list(both))
                times = np.concatenate([back.times, some.times[keep]])
                order = np.argsort(times)
                some = Tail(times[order], {c: np.concatenate([back[c], some[c][keep]])[order] for c in COLUMNS})
            batch[name] = some
        at += int(rng.integers(5, 60))
        now = int(OPENS[at // 420 % 5] + 60 * (at % 420 + 20))
        for name, some in batch.items():
            model.put(name, some)
        appender.append(batch, {NAMES[0]: now}, now)
        if rng.random() < 0.2:
            appender.fold(at_least=int(rng.integers(1, 80)))
        if rng.random() < 0.2:
            library.pack()
        if rng.random() < 0.1:
            appender = Appender(library)
        agrees(other if rng.random() < 0.5 else library, model, now)
        assert library.log.sure()[NAMES[0]] == now
    agrees(BarLibrary(tmp_path / "bars"), model, now)
    assert library.damaged() == []


def test_a_correction_is_told_once_and_an_old_one_refused(tmp_path: Path) -> None:
    library = market_of(tmp_path / "bars")
    appender, times = Appender(library), OPENS[0] + 60 * np.arange(10)
    now = int(times[-1]) + 60
    made = appender.append({"L0": minutes(times, 1)}, {}, now)
    np.testing.assert_array_equal(made.new["L0"], times)
    made = appender.append({"L0": minutes(times, 1)}, {}, now)
    assert not made.new and not made.corrected and not made.refused
    other = minutes(times, 1)
    other.columns["close"][3] += 0.5
    made = appender.append({"L0": other}, {}, now)
    assert made.corrected["L0"].tolist() == [times[3]] and not made.new
    assert library.bars("L0", ONE_MINUTE)["close"][-7] == other["close"][3]
    old = minutes(times[:1], 9)
    made = appender.append({"L0": old}, {}, now + MOST_AGE + 600)
    assert made.refused == {"L0": 1} and library.bars("L0", ONE_MINUTE)["close"][-10] == other["close"][0]


def test_a_day_is_made_once_its_session_is_over_and_again_after_a_correction(tmp_path: Path) -> None:
    library = market_of(tmp_path / "bars")
    appender, times = Appender(library), OPENS[0] + 60 * np.arange(-10, 365)
    end = int(OPENS[0]) + 360 * 60
    appender.append({"L0": minutes(times, 1), "L4": minutes(times, 2)}, {}, end + 2)
    before = len(library.bars("L0", ONE_DAY))
    appender.append({}, {}, end + 3)
    days = library.bars("L0", ONE_DAY)
    assert len(days) == before + 1 and days["close"][-1] == library.bars("L0", ONE_MINUTE)["close"][-1]
    assert len(library.bars("L4", ONE_DAY)) == 1
    other = minutes(times[50:51], 1)
    other.columns["high"][0] = 500.0
    Appender(library).append({"L4": other}, {}, end + 60)
    assert library.bars("L4", ONE_DAY)["high"].tolist() == [500.0]


def test_a_days_own_bar_stays(tmp_path: Path) -> None:
    library = market_of(tmp_path / "bars")
    own = library.base("L0", ONE_DAY)
    columns = {c: np.append(own[c], 7.0) for c in COLUMNS}
    library.write(Bars("L0", ONE_DAY, CALENDAR, np.append(own.times, OPENS[0]), columns))
    Appender(library).append({"L0": minutes(OPENS[0] + 60 * np.arange(360), 1)}, {}, int(OPENS[1]))
    assert library.bars("L0", ONE_DAY)["close"][-1] == 7.0 and len(library.bars("L0", ONE_DAY)) == len(own) + 1


def test_scans_and_other_hours_see_what_came(tmp_path: Path, tune: Tune) -> None:
    tune(packed_symbols=2, settled_seconds=0.0, thorough_bars=1)
    library = market_of(tmp_path / "bars")
    library.pack()
    rule = Rule(compile_script("rung 1\nsignal up = close > 100"), "up", ONE_MINUTE)
    assert not run_scan(rule, library, NAMES[:4], ONE_MINUTE).found
    some = minutes(OPENS[0] + 60 * np.arange(3), 1)
    some.columns["close"][-1] = some.columns["high"][-1] = 101.0
    Appender(library).append({"L2": some}, {}, int(OPENS[0]) + 300)
    other = BarLibrary(tmp_path / "bars")
    for reader in (library, other):
        assert [f.symbol for f in run_scan(rule, reader, NAMES[:4], ONE_MINUTE).found] == ["L2"]
    edit_symbols(other, ["L2"], Change(hours=(500, 542)))
    assert len(library.bars("L2", ONE_MINUTE)) == len(other.bars("L2", ONE_MINUTE)) == 2 + 2  # of two days


def test_what_came_goes_with_a_library_that_is_moved(tmp_path: Path) -> None:
    library = market_of(tmp_path / "bars")
    model, appender = Model(library), Appender(library)
    for k in range(3):
        some = minutes(OPENS[0] + 60 * np.arange(10 * k, 10 * k + 10), k)
        model.put("L1", some)
        appender.append({"L1": some}, {"L1": int(some.times[-1])}, int(some.times[-1]) + 60)
        if k == 1:
            move(BarLibrary(tmp_path / "bars"), tmp_path / "elsewhere", lambda _: None)
    agrees(library, model, int(OPENS[0]) + 1800)
    assert library.folder == tmp_path / "elsewhere" and (library.folder / NAME).exists()
    assert not (tmp_path / "bars" / NAME).exists() and library.log.sure() == {"L1": int(OPENS[0]) + 29 * 60}


@pytest.mark.parametrize("damage", ["cut", "nonsense", "newer"])
def test_a_damaged_log_is_said_and_made_again(tmp_path: Path, damage: str) -> None:
    library = market_of(tmp_path / "bars")
    before = len(library.base("L0", ONE_MINUTE))
    Appender(library).append({"L0": minutes(OPENS[0] + 60 * np.arange(5), 1)}, {}, int(OPENS[0]) + 300)
    path = library.folder / NAME
    if damage == "newer":
        with sqlite3.connect(path) as db:
            db.execute("pragma user_version = 99")
        with pytest.raises(DataProblem, match="newer Oak Ladder"):
            Appender(library).append({"L0": minutes(OPENS[0] + 60 * np.arange(9), 1)}, {}, 1)
        return
    raw = path.read_bytes()
    path.write_bytes(raw[: len(raw) // 3] if damage == "cut" else b"no database" * 900)
    library = BarLibrary(library.folder)
    assert len(library.bars("L0", ONE_MINUTE)) == before
    assert any(NAME in words for words in [*library.damaged(), *library.notices])
    Appender(library).append({"L0": minutes(OPENS[0] + 60 * np.arange(7), 1)}, {}, int(OPENS[0]) + 420)
    assert len(library.bars("L0", ONE_MINUTE)) == before + 7 and not library.log.check()
    assert any("renamed" in words for words in library.notices)


_APPEND = """
import sys
from pathlib import Path
sys.path.insert(0, sys.argv[2])
from bars.store.test_append_log import NAMES, OPENS, minutes
from oakladder.bars.store.appending import Appender
from oakladder.bars.store.library import BarLibrary
import numpy as np
library = BarLibrary(Path(sys.argv[1]))
appender = Appender(library)
appender.append({}, {}, None)
print("go", flush=True)
first = library.log.sure().get("L0", int(OPENS[0]) - 60)
for k in range(60):
    times = first + 60 + 60 * np.arange(3)
    first = int(times[-1])
    appender.append({n: minutes(times, first + i) for i, n in enumerate(NAMES)}, dict.fromkeys(NAMES, first), first + 60)
    if k % 2:
        appender.fold(at_least=9, most=2)
"""


@pytest.mark.parametrize("times", [2, pytest.param(100, marks=pytest.mark.nightly)])
def test_a_program_that_is_killed_while_it_appends_or_folds_loses_and_doubles_nothing(
    tmp_path: Path, told: Callable[[str], None], times: int
) -> None:
    library = market_of(tmp_path / "bars")
    model, tests, hits = Model(library), Path(__file__).parents[2], 0
    for k in range(times):
        hits += killed(_APPEND, library.folder, tests, longest=0.5, seed=k)
        reader = BarLibrary(library.folder)
        reader.take_in()
        sure = reader.log.sure().get("L0", int(OPENS[0]) - 60)
        for time in range(int(OPENS[0]) + 120, sure + 1, 180):
            for i, name in enumerate(NAMES):
                model.put(name, minutes(time - 120 + 60 * np.arange(3), time + i))
        for name in NAMES:
            if model.rows[name]:  # the last one has none before the first batch
                same(reader.base(name, ONE_MINUTE), model.minutes(name))
        assert not reader.notices and not reader.log.check()
    run(_APPEND, library.folder, tests)
    assert BarLibrary(library.folder).log.sure()["L0"] > int(OPENS[0])
    told(f"appending and folding killed {times} times, {hits} in the middle: no minute lost, none doubled")
