"""What a script needs of the past is enough: a run that begins later gives the same bits, and scans the same answers."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from helpers import Tune, daily_bars, random_bars
from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of, resample_panel
from oakladder.bars.resample_index import begins, marks
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.offsets import FileChanged, FileOffsets
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.tail_view import tail_view
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.disk import why
from oakladder.engine.columns.fill import cells
from oakladder.engine.run.execute import run
from oakladder.engine.scan import run as screening
from oakladder.engine.scan.conditions import Condition, Field, FieldFilter, Group, Join, Rule, TriggerMode
from oakladder.engine.scan.run import run_scan
from oakladder.engine.stream.lookback import lookback
from oakladder.engine.universe import map as market_walk
from oakladder.rung import compile_script
from oakladder.tuning import tuned

WEEK, MONTH, HOUR = (Timeframe.parse(t) for t in ("1w", "1mo", "2h"))
WINDOWS = ["sum", "highest", "lowest", "sma", "stdev", "wma", "percent_rank", "highest_ago", "hull"]


def _wider(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    lengths = st.sampled_from(["1", "2", "3", "7", "n", "n + 4"])
    return st.one_of(
        st.tuples(st.sampled_from(WINDOWS), inner, lengths).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
        st.tuples(inner, lengths).map(lambda t: f"({t[0]})[{t[1]}]"),
        st.tuples(inner, st.sampled_from("+-*/"), inner).map(lambda t: f"({t[0]} {t[1]} {t[2]})"),
        st.tuples(inner, inner).map(lambda t: f"(if crosses_up({t[0]}, {t[1]}) then {t[0]} else {t[1]})"),
        st.tuples(inner, inner, lengths).map(lambda t: f"count({t[0]} > {t[1]}, {t[2]})"),
        st.tuples(inner, inner).map(lambda t: f"looked({t[0]}, {t[1]})"),
    )


EXPRESSIONS = st.recursive(
    st.sampled_from(["close", "open", "volume", "bar", "weekday", "n", "2.5"]), _wider, max_leaves=5
)
PROLOGUE = """rung 1
setting n = 3 range 1..20
define looked(a, b)
    fresh best = none
    for k in 0..3
        if a[k] > b
            set best = a[k]
    give best else 0
"""


@settings(max_examples=120, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
@given(EXPRESSIONS, st.integers(1, 20), st.integers(0, 99), st.booleans())
def test_a_run_that_begins_later_gives_the_same_bits(expression: str, n: int, more: int, reference: bool) -> None:
    program = compile_script(PROLOGUE + f"let x = {expression}")
    op = program.plan.values["x"]
    back = lookback(program, {"n": n}, [op], ONE_DAY)
    assume(back is not None and not op.fixed)
    assert back is not None
    panel = panel_of([random_bars(more, back + more + 40), random_bars(more + 1, back + 33)])
    late = tail_view(panel, np.maximum(np.diff(panel.offsets) - back - 30, 0))
    whole, part = (
        run(program, p, {"n": n}, outputs=[], extra=[op], reference=reference).number(op) for p in (panel, late)
    )
    for k in range(2):
        a, b = whole[: panel.ends[k]][-30:], part[: late.ends[k]][-30:]
        assert a.tobytes() == b.tobytes() or np.array_equal(a, b, equal_nan=True), expression


KEEPERS = """rung 1
setting n = 5 range 1..500
define counted(a)
    keep total = 0
    if a > 3
        set total = total + 1
    give total
define doubled(a)
    keep last = 1
    set last = last[1] + a
    give last[1]
"""


@pytest.mark.parametrize(
    ("text", "known"),
    [
        ("sma(close, n) - lowest(low, 7)[2]", True),
        ("ema(close, n)", False),
        ("rsi(close, 14)", False),
        ("streak(close > open)", False),
        ("close on 1w", False),
        ("latch(close > open, close)", False),
        ("bar + close", True),
        ("crosses_up(close, sma(close, n))", True),
        ("low < lowest(low, n)[1] and volume > 1.2 * sma(volume, 20)[1]", True),
        ("counted(close)", False),
        ("doubled(close)", False),
    ],
)
def test_what_keeps_from_bar_to_bar_has_no_end(text: str, known: bool) -> None:
    program = compile_script(KEEPERS + f"let x = {text}")
    op = program.plan.values["x"]
    back = lookback(program, {}, [op], ONE_DAY)
    assert (back is not None) == known
    if known and "n" in text.split("(")[-1]:
        further = lookback(program, {"n": 400}, [op], ONE_DAY)
        assert further is not None and back is not None and further > back + 300


def whole_screen(
    condition: Condition, market: BarLibrary, symbols: list[str], frame: Timeframe
) -> screening.ScanResult:
    """The same scan with every bar in sight."""
    with tuned(scan_bars=10**6):
        return run_scan(condition, market, symbols, frame)


SHORT = compile_script(
    """rung 1
setting n = 10 range 1..200
signal up = close > sma(close, n)
signal dip = low < lowest(low, n)[1] and volume > sma(volume, 20)[1]
signal even = bar mod 7 == 3 and close > open
let gap = close / highest(high, n) - 1
"""
)
LONG = compile_script("rung 1\nsignal strong = rsi(close, 14) > 40\nlet strength = rsi(close, 14)")
CONDITIONS: list[Condition] = [
    Rule(SHORT, "up"),
    Rule(SHORT, "dip", fresh=TriggerMode.WITHIN, bars=9),
    Rule(SHORT, "up", fresh=TriggerMode.FIRES, settings={"n": 60}),
    Rule(SHORT, "up", WEEK, fresh=TriggerMode.LASTING, bars=4),
    Rule(SHORT, "even", MONTH),
    Rule(SHORT, "gap", relation=">", number=-0.03),
    Group(
        Join.ALL, (Rule(SHORT, "up"), Rule(SHORT, "up", WEEK), Rule(SHORT, "even", fresh=TriggerMode.WITHIN, bars=12))
    ),
    Group(
        Join.ANY,
        (
            Rule(SHORT, "dip"),
            Rule(LONG, "strong", fresh=TriggerMode.LASTING, bars=6),
            FieldFilter(Field.CHANGE, "<", -0.03),
        ),
    ),
    Group(Join.NONE, (Rule(LONG, "strong"), Group(Join.ALL, (Rule(SHORT, "up", HOUR), Rule(SHORT, "up", MONTH))))),
    Group(
        Join.ALL, (Rule(SHORT, "up", HOUR, extended=True), Rule(SHORT, "even", HOUR, fresh=TriggerMode.WITHIN, bars=9))
    ),
    Group(Join.ALL, (FieldFilter(Field.VOLUME, ">=", 300_000), Rule(SHORT, "up"), FieldFilter(Field.PRICE, ">", 3))),
]


@pytest.mark.parametrize("k", range(len(CONDITIONS)))
@pytest.mark.parametrize("frame", [ONE_DAY, WEEK, HOUR])
def test_the_last_bars_tell_the_same_as_all(market: BarLibrary, k: int, frame: Timeframe, tune: Tune) -> None:
    symbols = list(market.infos)[: 60 if frame is ONE_DAY and k not in (8, 9) else 8]
    expected = whole_screen(CONDITIONS[k], market, symbols, frame)
    for seen in (3, 20):
        tune(scan_bars=seen)
        made = run_scan(CONDITIONS[k], market, symbols, frame)
        assert made.found == expected.found and made.gone == expected.gone


@pytest.fixture(scope="session")
def ragged(market: BarLibrary, tmp_path_factory: pytest.TempPathFactory) -> BarLibrary:
    """A market in which every symbol has days of its own: begun at different times, halted now and then."""
    made = BarLibrary(tmp_path_factory.mktemp("ragged"))
    rng = np.random.default_rng(4)
    names = [*list(market.infos)[:24], *list(market.infos)[-5:]]
    made.add_symbols([market.infos[s] for s in names])
    for symbol in names:
        for base in (ONE_DAY, ONE_MINUTE):
            bars = market.base(symbol, base)
            keep = rng.random(len(bars)) > 0.02
            keep[: rng.integers(0, len(bars) - 40)] = False
            fill = {n: v[keep] for n, v in bars.columns.items()}
            made.write(Bars(symbol, base, bars.calendar, bars.times[keep], fill))
    return made


@pytest.mark.parametrize("k", range(len(CONDITIONS)))
@pytest.mark.parametrize("frame", [ONE_DAY, WEEK])
def test_symbols_with_days_of_their_own_are_scanned_alike(
    ragged: BarLibrary, k: int, frame: Timeframe, tune: Tune
) -> None:
    names = list(ragged.infos)
    assert ragged.panel(names, ONE_DAY).timeline.is_ragged
    expected = [whole_screen(CONDITIONS[k], ragged, [s], frame) for s in names]  # a symbol alone is never ragged
    found = sorted((f for one in expected for f in one.found), key=lambda f: (f.bars_ago, f.symbol))
    for seen in (3, 20, 10**6):
        tune(scan_bars=seen)
        made = run_scan(CONDITIONS[k], ragged, names, frame)
        assert list(made.found) == found and sorted(made.gone) == sorted(s for one in expected for s in one.gone)


def test_days_that_the_calendar_does_not_know_shorten_nothing(tmp_path: Path, tune: Tune) -> None:
    library, calendar = BarLibrary(tmp_path), Calendar()
    rng = np.random.default_rng(6)
    names = [f"S{k}" for k in range(8)]
    library.add_symbols([SymbolInfo(s, s, "", "share", 0.01, calendar) for s in names])
    for symbol in names:  # bars on all seven days of a market that is said to rest at weekends
        close = 50 * np.exp(np.cumsum(rng.normal(0, 0.02, 900)))
        fill = dict.fromkeys(("open", "high", "low", "close", "volume"), close)
        library.write(Bars(symbol, ONE_DAY, calendar, calendar.day_open(np.arange(15_000, 15_900)), fill))
    condition = Group(Join.ANY, (Rule(SHORT, "even", WEEK), Rule(SHORT, "up", WEEK, {"n": 100})))
    for frame in (ONE_DAY, WEEK):
        expected = whole_screen(condition, library, names, frame)
        tune(scan_bars=3)
        assert run_scan(condition, library, names, frame).found == expected.found and expected.found


def test_a_ragged_panel_is_the_panel_of_its_series(ragged: BarLibrary) -> None:
    names = list(ragged.infos)
    for frame in (ONE_DAY, WEEK, MONTH):
        read, laid = ragged.panel(names, frame), panel_of([ragged.bars(s, frame) for s in names])
        same(read, laid)
        np.testing.assert_array_equal(read.timeline.all_closes(), laid.timeline.all_closes())
        skips = np.arange(len(names)) % 9
        same(tail_view(read, skips), tail_view(laid, skips))
        if frame is not MONTH:
            np.testing.assert_array_equal(begins(read.timeline, MONTH), begins(laid.timeline, MONTH))
            np.testing.assert_array_equal(marks(read.timeline, MONTH), marks(laid.timeline, MONTH))
    days = ragged.panel(names, ONE_DAY)
    late = resample_panel(tail_view(days, np.full(len(names), 11)), WEEK)
    whole = resample_panel(days, WEEK)
    assert late.skipped is not None
    np.testing.assert_array_equal(late.skipped + np.diff(late.offsets), np.diff(whole.offsets))


def test_scripts_on_longer_timeframes_run_alike_on_ragged_panels(ragged: BarLibrary) -> None:
    names = list(ragged.infos)
    program = compile_script("rung 1\nlet x = sma(close, 3) on 1w\nlet y = close on 1mo forming\nlet z = weekday + bar")
    ops = list(program.plan.values.values())
    whole = run(program, ragged.panel(names, ONE_DAY), outputs=[], extra=ops)
    for k, symbol in enumerate(names):
        alone = run(program, ragged.panel([symbol], ONE_DAY), outputs=[], extra=ops)
        part = slice(int(whole.panel.offsets[k]), int(whole.panel.offsets[k + 1]))
        for op in ops:
            np.testing.assert_array_equal(whole.number(op)[part], alone.number(op))


def test_only_the_last_bars_are_read(market: BarLibrary, monkeypatch: pytest.MonkeyPatch) -> None:
    symbols, sizes = list(market.infos)[:20], []
    real = FileOffsets.read

    def read(
        self: FileOffsets, path: str, place: object, names: object, into: list[np.ndarray], first: int = 0
    ) -> None:
        sizes.append(len(into[0]))
        real(self, path, place, names, into, first)  # type: ignore[arg-type]

    monkeypatch.setattr(FileOffsets, "read", read)
    assert run_scan(Rule(SHORT, "up"), market, symbols).looked_at == 20
    assert sorted(sizes)[10] < 150  # of six years
    sizes.clear()
    run_scan(Rule(LONG, "strong"), market, symbols)
    assert sorted(sizes)[10] > 1000


@pytest.mark.parametrize("frame", ["1w", "1d", "2h"])
@pytest.mark.parametrize("name", ["up", "dip", "gap", None])
def test_columns_of_the_last_bars_are_the_same_as_of_all(
    market: BarLibrary, frame: str, name: str | None, tune: Tune
) -> None:
    symbols, timeframe = list(market.infos)[:12], Timeframe.parse(frame)
    tune(column_bars=10**6)
    expected = cells(SHORT, name, market, symbols, timeframe)[0]
    tune(column_bars=4)
    made = cells(SHORT, name, market, symbols, timeframe)[0]
    assert {s: str(c) for s, c in made.items()} == {s: str(c) for s, c in expected.items()}


def test_a_panel_read_from_files_is_the_panel_of_its_series(market: BarLibrary) -> None:
    names = ["BRINE", "CROSS", "FLAKE", "GULLW"]
    for frame in (ONE_DAY, WEEK, ONE_MINUTE, HOUR):
        for extended in (False, True):
            read = market.panel(names, frame, extended)
            laid = panel_of([market.bars(s, frame, extended) for s in names])
            same(read, laid)
            skips = np.array([0, 3, 3, 50])
            same(
                tail_view(read, skips),
                panel_of([market.bars(s, frame, extended).part(k, 10**9) for s, k in zip(names, skips, strict=True)]),
            )


def same(a: Panel, b: Panel) -> None:
    np.testing.assert_array_equal(a.offsets, b.offsets)
    np.testing.assert_array_equal(a.times, b.times)
    for name in COLUMNS:
        np.testing.assert_array_equal(a.column(name), b.column(name))


def test_longer_bars_of_a_cut_panel_are_whole_but_for_the_first() -> None:
    panel = panel_of([random_bars(1, 200), random_bars(2, 230)])
    whole = resample_panel(panel, WEEK)
    late = resample_panel(tail_view(panel, np.array([57, 90])), WEEK)
    assert late.skipped is not None
    for k in range(2):
        a, b = late.bars(k), whole.bars(k)
        assert len(a) + late.skipped[k] == len(b)
        for name in COLUMNS:
            np.testing.assert_array_equal(a[name][1:], b[name][int(late.skipped[k]) + 1 :])


def two_symbols(folder: Path) -> BarLibrary:
    library = BarLibrary(folder)
    for name in ("AAA", "BBB"):
        bars = daily_bars(np.arange(1.0, 40), symbol=name)
        library.add_symbols([SymbolInfo(name, name, "", "share", 0.01, bars.calendar)])
        library.write(bars)
    library.settle()
    return library


def test_a_file_that_changes_while_it_is_read_is_read_anew(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    library, program = two_symbols(tmp_path), compile_script("rung 1\nsignal high_up = close > 50")
    assert not run_scan(Rule(program, "high_up"), library, library.infos).found
    real, changed = FileOffsets.read, []

    def read(self: FileOffsets, path: str, place: object, names: object, into: object, first: int = 0) -> None:
        if not changed and path.endswith("BBB.1d.arrow"):
            changed.append(path)  # an import by another copy of the program
            BarLibrary(tmp_path).write(daily_bars(np.arange(1.0, 80), symbol="BBB"))
        real(self, path, place, names, into, first)  # type: ignore[arg-type]

    monkeypatch.setattr(FileOffsets, "read", read)
    found = run_scan(Rule(program, "high_up"), library, library.infos)
    assert changed and [(f.symbol, f.last) for f in found.found] == [("BBB", 79.0)] and not found.skipped


def test_a_file_that_never_stands_still_is_given_up_with_a_word(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    library, program = two_symbols(tmp_path), compile_script("rung 1\nsignal up = close > 1")
    tries = []

    def read(*_: object, **__: object) -> None:
        tries.append(1)
        raise FileChanged("AAA.1d.arrow was changed while it was read. Try again.")

    monkeypatch.setattr(FileOffsets, "read", read)
    with pytest.raises(FileChanged, match="Try again"):
        run_scan(Rule(program, "up"), library, library.infos)
    assert len(tries) == market_walk._TRIES


@pytest.mark.parametrize("error", [PermissionError(13, "Permission denied"), OSError(5, "Input/output error")])
def test_a_file_that_cannot_be_read_spoils_nothing_for_the_others(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, error: OSError
) -> None:
    library, program = two_symbols(tmp_path), compile_script("rung 1\nsignal up = close > 1")
    real = os.open

    def open_(path: str, *rest: object) -> int:
        if str(path).endswith("AAA.1d.arrow"):
            raise error
        return real(path, *rest)  # type: ignore[arg-type]

    monkeypatch.setattr(os, "open", open_)
    found = run_scan(Rule(program, "up"), library, library.infos)
    assert [f.symbol for f in found.found] == ["BBB"] and found.looked_at == 1
    assert [(s.symbol, s.reason) for s in found.skipped] == [("AAA", f"Its file cannot be read: {why(error)}.")]
    made, skipped = cells(program, "up", library, library.infos, ONE_DAY)
    assert list(made) == ["BBB"] and [s.symbol for s in skipped] == ["AAA"]
    assert library.path("AAA", ONE_DAY).exists()


def test_a_symbol_alone_that_cannot_be_read_is_told_too(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    library, program = two_symbols(tmp_path), compile_script("rung 1\nsignal up = close > 1")

    def refuse(*_: object) -> None:
        raise PermissionError(13, "Permission denied")

    monkeypatch.setattr(FileOffsets, "arrays", refuse)
    found = run_scan(Rule(program, "up"), library, ["AAA"])
    assert not found.found and "cannot be read: you have no right" in found.skipped[0].reason
    assert library.path("AAA", ONE_DAY).exists()


def test_a_sound_file_out_of_reach_does_not_pass_for_damaged(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    two_symbols(tmp_path)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "nothing cached"))
    library = BarLibrary(tmp_path)

    def refuse(*_: object) -> None:
        raise OSError(24, "Too many open files")

    monkeypatch.setattr("oakladder.bars.store.offsets.layout_of", refuse)
    with pytest.raises(DataProblem, match="cannot be read: too many files are open"):
        library.bars("AAA", ONE_DAY)
    assert library.path("AAA", ONE_DAY).exists() and not library.notices
    monkeypatch.undo()
    assert len(library.bars("AAA", ONE_DAY)) == 39


def test_a_file_that_goes_between_two_looks_is_told(tmp_path: Path) -> None:
    library, program = two_symbols(tmp_path), compile_script("rung 1\nsignal up = close > 1")
    os.remove(library.path("AAA", ONE_DAY))
    found = run_scan(Rule(program, "up"), library, library.infos)
    assert [f.symbol for f in found.found] == ["BBB"]
    assert [(s.symbol, s.reason) for s in found.skipped] == [("AAA", "There are no 1d bars of AAA in the library.")]
