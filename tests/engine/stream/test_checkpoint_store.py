"""Runs that go on from a saved state: the bits of a run over all bars, and scans that need not read them."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from helpers import Tune, daily_bars, random_bars
from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.edit_metadata import Change, edit_symbols
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.tail_view import tail_view
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.engine.run.checkpoint import Checkpoint, CheckpointRecorder
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import run
from oakladder.engine.scan.conditions import Condition, Group, Join, Rule, TriggerMode
from oakladder.engine.scan.run import ScanResult, run_scan
from oakladder.engine.stream.checkpoint_store import can_be_saved
from oakladder.rung import compile_script
from oakladder.tuning import tuned
from rung_programs import EXPRESSIONS, PROLOGUE

WEEK, HOUR = Timeframe.parse("1w"), Timeframe.parse("1h")


# --- the same bits ------------------------------------------------------------------------------------


def goes_on_alike(script: str, seed: int, saving: int, going_on: int, *, early: int) -> bool:
    """Compares a run that goes on with one over all bars; False where the program's state cannot be saved."""
    program = compile_script("rung 1\n" + script)
    plain = {name: op for name, op in program.plan.values.items() if not op.is_shell and not op.fixed}
    ops = list(plain.values())
    variant = program.variant(ops)
    if not can_be_saved(variant):
        return False
    rng = np.random.default_rng(seed)
    counts = [int(c) for c in rng.choice([0, 1, 30, 64, 65, 100, 131, 200], 11)]
    panel = panel_of([_named(random_bars(97 * seed + k, max(c, 1)).part(0, c), f"S{k}") for k, c in enumerate(counts)])
    cells = len(program.layout(variant, program.fixed_values(variant, ops, program.values_of({}))).template)
    keeping = CheckpointRecorder.of(len(panel), cells, int(rng.integers(1, 60)))
    whole = run(program, panel, outputs=[], extra=ops, context=RunContext(lanes=saving), keeping=keeping)
    plainly = run(program, panel, outputs=[], extra=ops, context=RunContext(lanes=0))
    skips = np.maximum(keeping.bars - 1 - early, 0)
    late = tail_view(panel, skips)
    made = run(
        program,
        late,
        outputs=[],
        extra=ops,
        context=RunContext(lanes=going_on),
        start=Checkpoint(keeping.bars, keeping.rows),
    )
    for name, op in plain.items():
        a, b, c = (r.flag(op) if op.is_flag else r.number(op) for r in (whole, made, plainly))
        np.testing.assert_array_equal(a, c)
        for k in range(len(panel)):
            left = counts[k] - int(keeping.bars[k])
            ends = (
                slice(int(panel.ends[k]) - left, int(panel.ends[k])),
                slice(int(late.ends[k]) - left, int(late.ends[k])),
            )
            np.testing.assert_array_equal(b[ends[1]], a[ends[0]], err_msg=f"{name} of S{k} in\n{script}")
            before = b[int(late.starts[k]) : int(late.ends[k]) - left]
            assert (np.isnan(before) if before.dtype == float else before == -1).all()
    return True


def _named(bars: Bars, symbol: str) -> Bars:
    return Bars(symbol, bars.timeframe, bars.calendar, bars.times, bars.columns)


def script_of(expressions: list[str]) -> str:
    return PROLOGUE + "\n".join(f"let v{k} = {text}" for k, text in enumerate(expressions))


@settings(max_examples=15, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
@given(st.lists(EXPRESSIONS, min_size=1, max_size=3), st.integers(0, 50), st.sampled_from([0, 2, 8]), st.sampled_from([0, 4, 8]), st.integers(0, 9))  # fmt: skip
def test_going_on_gives_the_same_bits(
    expressions: list[str], seed: int, saving: int, going_on: int, early: int
) -> None:
    assume(goes_on_alike(script_of(expressions), seed, saving, going_on, early=early))


@pytest.mark.nightly
@settings(max_examples=600, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.lists(EXPRESSIONS, min_size=1, max_size=5), st.integers(0, 5000), st.sampled_from([0, 2, 4, 8]), st.sampled_from([0, 2, 4, 8]), st.integers(0, 9))  # fmt: skip
def test_going_on_gives_the_same_bits_on_many_programs(
    expressions: list[str], seed: int, saving: int, going_on: int, early: int
) -> None:
    assume(goes_on_alike(script_of(expressions), seed, saving, going_on, early=early))


@pytest.mark.parametrize("going_on", [0, 8])
@pytest.mark.parametrize("saving", [0, 2, 8])
@pytest.mark.parametrize(
    "script",
    [
        "let x = ema(close, 9)\nlet y = rsi(close, 5) + atr(7)\nlet z = sma(x, 11)[3]",
        "keep best = 0\nif close > best\n    set best = close\nlet x = best - lowest(low, 13)",
        "let x = bar + highest(high, 6)[2]\nlet y = weekday + (if last_of_session then 1 else 0)",
        "keep count = 0\nfor k in 1..3\n    if close > close[k]\n        set count = count + 1\nlet x = count",
    ],
)
def test_kept_values_windows_and_counters_go_on(script: str, saving: int, going_on: int) -> None:
    for seed in range(4):
        assert goes_on_alike(script, seed, saving, going_on, early=seed)


@pytest.mark.parametrize("script", ["let x = ema(close, 3) on 1w", "let x = tick_size * 2 + ema(close, 3)"])
def test_what_is_not_in_the_state_is_not_saved(script: str) -> None:
    assert not goes_on_alike(script, 1, 0, 0, early=0)


# --- scans --------------------------------------------------------------------------------------------

SMOOTH = """rung 1
setting length = 12 range 2..50
signal over = close > ema(close, length)
signal weak = rsi(close, 9) < 40
"""
SYMBOLS = [f"Q{k:02d}" for k in range(20)]


@pytest.fixture(autouse=True)
def every_scan_is_large(monkeypatch: pytest.MonkeyPatch, tune: Tune, tmp_path_factory: pytest.TempPathFactory) -> None:
    tune(thorough_bars=1)
    tune(settled_seconds=0.0)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path_factory.mktemp("cache")))


@pytest.fixture(params=["files", "pack"])
def library(request: pytest.FixtureRequest, tmp_path: Path, tune: Tune) -> BarLibrary:
    tune(packed_symbols=2 if request.param == "pack" else 10**9)
    made = BarLibrary(tmp_path / "bars")
    calendar = Calendar(start=540, end=900, early=480, late=960)
    opens = calendar.day_open(np.arange(18_000, 18_012, dtype=np.int64))
    minutes = (opens[:, None] + 60 * np.arange(-60, 420, 2)).ravel()
    made.add_symbols([SymbolInfo(n, n, "", "share", 0.01, calendar) for n in SYMBOLS])
    for k, name in enumerate(SYMBOLS):
        days = random_bars(k, 900 + 13 * (k % 7))
        stamps = calendar.day_open(Calendar().days(days.times))
        made.write(Bars(name, ONE_DAY, calendar, stamps, days.columns))
        some = minutes[: len(minutes) - 31 * (k % 5)]
        made.write(Bars(name, ONE_MINUTE, calendar, some, random_bars(70 + k, len(some)).columns))
    made.settle()
    made.pack()
    return made


def all_of(*rules: Rule) -> Condition:
    return Group(Join.ALL, rules)


def answer(made: ScanResult) -> str:
    """All that a scan says but how long it took; as text, in which a none is like a none."""
    return repr((made.found, made.gone, made.skipped, made.stages))


def plainly(
    condition: Condition, library: BarLibrary, timeframe: Timeframe, monkeypatch: pytest.MonkeyPatch
) -> ScanResult:
    """A scan that has no states to go on from."""
    with monkeypatch.context() as patch, tuned(thorough_bars=10**12):
        patch.setenv("XDG_CACHE_HOME", str(_folder() / "nothing here"))
        return run_scan(condition, library, SYMBOLS, timeframe)


def _folder() -> Path:
    return Path(os.environ["XDG_CACHE_HOME"])


def checkpoint_files() -> list[Path]:
    """The files of the cached checkpoints, the oldest first."""
    return sorted(_folder().glob("oakladder/checkpoints-*"), key=lambda p: p.stat().st_mtime)


@pytest.fixture
def bars_read(monkeypatch: pytest.MonkeyPatch) -> Callable[[], int]:
    """How many numbers of bars were read after it was asked the last time."""
    from oakladder.bars.store.panel_reading import Stored

    real, read = Stored.read, []

    def counted(
        self: Stored, which: object, names: object, firsts: object, into: list[np.ndarray], places: object
    ) -> None:
        read.append(sum(len(a) for a in into))
        real(self, which, names, firsts, into, places)  # type: ignore[arg-type]

    monkeypatch.setattr(Stored, "read", counted)

    def asked() -> int:
        made = sum(read)
        read.clear()
        return made

    return asked


PROGRAM = compile_script(SMOOTH)
CONDITIONS = {
    "days": (Rule(PROGRAM, "over"), ONE_DAY),
    "days and weeks": (all_of(Rule(PROGRAM, "over"), Rule(PROGRAM, "over", WEEK)), ONE_DAY),
    "weeks": (Rule(PROGRAM, "weak", WEEK, fresh=TriggerMode.WITHIN, bars=4), WEEK),
    "minutes": (Rule(PROGRAM, "weak", ONE_MINUTE, fresh=TriggerMode.WITHIN, bars=20), ONE_MINUTE),
    "minutes, hours and days": (
        all_of(Rule(PROGRAM, "weak", ONE_MINUTE, fresh=TriggerMode.WITHIN, bars=50), Rule(PROGRAM, "over", HOUR), Rule(PROGRAM, "over")),
        ONE_MINUTE,
    ),
    "with what forgets": (
        all_of(Rule(PROGRAM, "over"), Rule(compile_script("rung 1\nsignal up = close > sma(close, 100)"), "up")),
        ONE_DAY,
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", CONDITIONS)
def test_a_scan_from_saved_states_answers_as_one_over_all_bars(
    library: BarLibrary, name: str, monkeypatch: pytest.MonkeyPatch, bars_read: Callable[[], int]
) -> None:
    condition, timeframe = CONDITIONS[name]
    expected = plainly(condition, library, timeframe, monkeypatch)
    assert expected.found and not expected.skipped
    bars_read()
    first = run_scan(condition, library, SYMBOLS, timeframe)
    whole = bars_read()
    with ThreadPoolExecutor(2) as pool:
        for opened in (library, BarLibrary(library.folder)):
            again = run_scan(condition, opened, SYMBOLS, timeframe, context=RunContext(pool))
            assert answer(again) == answer(first) == answer(expected)
    if name in ("days", "minutes", "with what forgets"):
        assert bars_read() / 2 < whole / 1.5


def test_bars_that_change_are_run_from_the_first(library: BarLibrary, monkeypatch: pytest.MonkeyPatch) -> None:
    condition = Rule(PROGRAM, "over")
    for k in range(3):
        run_scan(condition, library, SYMBOLS)
        bars = library.base(SYMBOLS[3 * k], ONE_DAY)
        moved = {n: v * np.where(np.arange(len(v)) < 800, 1.5 + k, 1.0) for n, v in bars.columns.items()}
        BarLibrary(library.folder).write(Bars(bars.symbol, ONE_DAY, bars.calendar, bars.times, moved))
        made = run_scan(condition, library, SYMBOLS)
        assert answer(made) == answer(plainly(condition, library, ONE_DAY, monkeypatch))


def test_of_what_was_just_changed_no_state_is_saved(library: BarLibrary, tune: Tune) -> None:
    tune(settled_seconds=60.0)
    run_scan(Rule(PROGRAM, "over"), library, SYMBOLS)
    assert not checkpoint_files()
    tune(settled_seconds=0.0)
    run_scan(Rule(PROGRAM, "over"), library, SYMBOLS)
    assert checkpoint_files()


def test_hours_that_change_make_other_bars_of_the_same_minutes(
    library: BarLibrary, monkeypatch: pytest.MonkeyPatch
) -> None:
    condition = Rule(PROGRAM, "weak", ONE_MINUTE, fresh=TriggerMode.WITHIN, bars=9)
    run_scan(condition, library, SYMBOLS, ONE_MINUTE)
    edit_symbols(library, SYMBOLS[:9], Change(hours=(600, 840)))
    made = run_scan(condition, library, SYMBOLS, ONE_MINUTE)
    assert answer(made) == answer(plainly(condition, library, ONE_MINUTE, monkeypatch))


def test_other_settings_have_states_of_their_own(library: BarLibrary, monkeypatch: pytest.MonkeyPatch) -> None:
    for length in (12, 3, 12, 40):
        condition = Rule(PROGRAM, "over", settings={"length": float(length)})
        made = run_scan(condition, library, SYMBOLS)
        assert answer(made) == answer(plainly(condition, library, ONE_DAY, monkeypatch))


def test_a_scan_that_looks_farther_back_than_what_is_saved(
    library: BarLibrary, monkeypatch: pytest.MonkeyPatch
) -> None:
    rare, counts = compile_script("rung 1\nsignal weak = rsi(close, 9) < 18"), set()
    for bars in (2, 400, 2, 400):
        condition = Rule(rare, "weak", fresh=TriggerMode.WITHIN, bars=bars)
        made = run_scan(condition, library, SYMBOLS)
        assert answer(made) == answer(plainly(condition, library, ONE_DAY, monkeypatch))
        counts.add(len(made.found))
    assert len(counts) == 2 and max(counts) < 20


@pytest.mark.parametrize("damage", ["cut short", "scrambled", "another's", "nonsense", "gone", "a folder"])
def test_damaged_states_cost_nothing_but_time(library: BarLibrary, damage: str) -> None:
    condition = Rule(PROGRAM, "over")
    expected = answer(run_scan(condition, library, SYMBOLS))
    run_scan(Rule(PROGRAM, "weak"), library, SYMBOLS)
    files = checkpoint_files()
    assert len(files) >= 2
    raws = [p.read_bytes() for p in files]
    for path, raw, other in zip(files, raws, raws[::-1], strict=True):
        match damage:
            case "cut short":
                path.write_bytes(raw[:-40])
            case "scrambled":
                path.write_bytes(raw[:-400] + bytes(b ^ 1 for b in raw[-400:]))
            case "another's":  # sound in itself, and not what is asked for
                path.write_bytes(other)
            case "nonsense":
                path.write_bytes(b"")
            case "gone":
                path.unlink()
            case "a folder":
                path.unlink()
                path.mkdir()
    assert answer(run_scan(condition, library, SYMBOLS)) == expected
    assert answer(run_scan(condition, BarLibrary(library.folder), SYMBOLS)) == expected


def test_a_market_cut_at_a_moment_has_no_states(library: BarLibrary) -> None:
    """Replay looks at bars that are otherwise than the stored ones."""
    from oakladder.bars.store.as_of import LibraryAsOf

    condition = Rule(PROGRAM, "over")
    now = run_scan(condition, library, SYMBOLS)
    moment = int(library.base(SYMBOLS[0], ONE_DAY).times[700])
    then = run_scan(condition, LibraryAsOf(library, moment), SYMBOLS)
    assert {f.since for f in then.found} != {f.since for f in now.found}
    assert all(f.since <= moment for f in then.found) and answer(run_scan(condition, library, SYMBOLS)) == answer(now)


def test_few_symbols_of_a_market_go_on_too(library: BarLibrary, bars_read: Callable[[], int]) -> None:
    condition = Rule(PROGRAM, "over")
    whole = run_scan(condition, library, SYMBOLS)
    bars_read()
    some = run_scan(condition, library, SYMBOLS[3:9])
    assert bars_read() < 6 * 400
    assert some.found == tuple(f for f in whole.found if f.symbol in SYMBOLS[3:9])


def test_a_symbol_that_comes_later_is_added(library: BarLibrary, monkeypatch: pytest.MonkeyPatch) -> None:
    condition = Rule(PROGRAM, "over")
    run_scan(condition, library, SYMBOLS)
    library.write(
        daily_bars(random_bars(5, 700)["close"], "NEWER"), SymbolInfo("NEWER", "", "", "share", 0.01, Calendar())
    )
    names = [*SYMBOLS, "NEWER"]
    first, second = run_scan(condition, library, names), run_scan(condition, library, names)
    assert answer(first) == answer(second) and first.looked_at == 21


def test_files_that_go_while_states_are_used_are_left_out(library: BarLibrary) -> None:
    condition = Rule(PROGRAM, "over")
    run_scan(condition, library, SYMBOLS)
    library.path(SYMBOLS[2], ONE_DAY).unlink()
    assert [s.symbol for s in run_scan(condition, library, SYMBOLS).skipped] == [SYMBOLS[2]]
