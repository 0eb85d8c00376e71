"""Packs: the same bars as from the files, whatever happens to either."""

from __future__ import annotations

import multiprocessing
import os
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest

from helpers import Tune, daily_bars, random_bars
from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of, resample_panel
from oakladder.bars.sessions import Calendar
from oakladder.bars.store import batched_io, pack, packing
from oakladder.bars.store.batched_io import gather, states
from oakladder.bars.store.edit_metadata import Change, edit_symbols
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.offsets import FileOffsets
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.tail_view import tail_view
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.engine.scan.conditions import Rule
from oakladder.engine.scan.run import ScanResult, run_scan
from oakladder.rung import compile_script

WEEK, MONTH, HOUR = (Timeframe.parse(t) for t in ("1w", "1mo", "1h"))
NAMES = [f"P{k:02d}" for k in range(12)]
UP = compile_script("rung 1\nsignal up = close > sma(close, 5)")


@pytest.fixture(autouse=True)
def few_are_enough(tune: Tune) -> None:
    tune(packed_symbols=2)
    tune(settled_seconds=0.0)


def make_library(folder: Path, *, ragged: bool) -> BarLibrary:
    """Days and minutes of a dozen symbols, with holes; in a ragged one each has days of its own."""
    library = BarLibrary(folder)
    rng = np.random.default_rng(4)
    calendar = Calendar(start=540, end=900, early=480, late=960)
    opens = calendar.day_open(np.arange(18_000, 18_010, dtype=np.int64))
    minutes = (opens[:, None] + 60 * np.arange(-60, 420, 3)).ravel()
    infos = []
    for k, name in enumerate(NAMES):
        infos.append(SymbolInfo(name, name, "", "share", 0.01, calendar if k % 3 else Calendar()))
    library.add_symbols(infos)
    for k, info in enumerate(infos):
        days = random_bars(k, 300)
        kept = np.sort(rng.permutation(300)[: 200 + 5 * k]) if ragged else np.arange(300 - 7 * (k % 3))
        times = info.calendar.day_open(Calendar().days(days.times[kept]))
        library.write(Bars(info.symbol, ONE_DAY, info.calendar, times, {n: v[kept] for n, v in days.columns.items()}))
        if k % 3:
            some = minutes[rng.random(len(minutes)) < 0.9] if ragged else minutes
            made = random_bars(50 + k, len(some)).columns
            library.write(Bars(info.symbol, ONE_MINUTE, calendar, some, made))
    library.settle()
    return library


@pytest.fixture(params=[False, True], ids=["shared", "ragged"])
def library(request: pytest.FixtureRequest, tmp_path: Path) -> BarLibrary:
    return make_library(tmp_path / "bars", ragged=request.param)


def refuse(monkeypatch: pytest.MonkeyPatch) -> None:
    """From now on no symbol's own file can be read."""

    def no(*_: object) -> None:
        raise AssertionError("a symbol's own file was read")

    monkeypatch.setattr(FileOffsets, "read", no)


def same(a: Panel, b: Panel) -> None:
    np.testing.assert_array_equal(a.offsets, b.offsets)
    np.testing.assert_array_equal(a.times, b.times)
    for name in COLUMNS:
        np.testing.assert_array_equal(a.column(name), b.column(name))


def found(library: BarLibrary) -> list[tuple[str, float, int]]:
    made: ScanResult = run_scan(Rule(UP, "up"), library, NAMES)
    assert not made.skipped
    return [(f.symbol, f.last, f.bars_ago) for f in made.found]


@pytest.mark.parametrize("frame", [ONE_DAY, WEEK, MONTH, ONE_MINUTE, HOUR])
@pytest.mark.parametrize("extended", [False, True])
def test_a_packed_panel_is_that_of_the_files(
    library: BarLibrary, frame: Timeframe, extended: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    names = [n for k, n in enumerate(NAMES) if k % 3 or not frame.intraday][::-1]
    series = [library.bars(s, frame, extended) for s in names]
    assert library.pack() == 12 + 8 and library.pack() == 0
    opened = BarLibrary(library.folder)
    refuse(monkeypatch)
    same(opened.panel(names, frame, extended), panel_of(series))
    for seed in range(3):
        skips = np.random.default_rng(seed).integers(0, 9, len(names))
        skips[-1] = len(series[-1])
        same(
            tail_view(opened.panel(names, frame, extended), skips),
            panel_of([b.part(k, len(b)) for b, k in zip(series, skips.tolist(), strict=True)]),
        )


def test_a_scan_of_packed_bars_reads_no_other_file(library: BarLibrary, monkeypatch: pytest.MonkeyPatch) -> None:
    expected = found(library)
    library.pack()
    opened = BarLibrary(library.folder)
    refuse(monkeypatch)
    assert len(expected) > 2 and found(opened) == expected


@pytest.mark.parametrize("frame", [WEEK, MONTH])
def test_longer_bars_left_out_are_counted_by_the_calendar_of_today(library: BarLibrary, frame: Timeframe) -> None:
    """A calendar is changed after the bars were packed, and put back: what was counted by it counts no more."""
    library.pack()
    for hours in ((0, 1440), (540, 930)):
        edit_symbols(library, NAMES[:5], Change(zone="Pacific/Auckland", hours=hours))
        library.pack()
        opened = BarLibrary(library.folder)
        whole = opened.panel(NAMES, ONE_DAY)
        late = resample_panel(tail_view(whole, np.full(len(NAMES), 83)), frame)
        assert late.skipped is not None
        for k, symbol in enumerate(NAMES):
            assert len(late.bars(k)) + late.skipped[k] == len(opened.bars(symbol, frame))


def test_what_is_imported_later_is_read_at_once_and_packed_at_the_next_time(
    library: BarLibrary, monkeypatch: pytest.MonkeyPatch
) -> None:
    library.pack()
    size = (library.folder / ".pack.1d.arrow").stat().st_size
    BarLibrary(library.folder).write(daily_bars([500.0] * 30 + [900.0], symbol="P03"))  # by another copy of the program
    assert ("P03", 900.0, 0) in found(library)
    assert library.pack() == 1
    assert size < (library.folder / ".pack.1d.arrow").stat().st_size < 2 * size  # put behind what is there
    refuse(monkeypatch)
    assert ("P03", 900.0, 0) in found(library) and ("P03", 900.0, 0) in found(BarLibrary(library.folder))


def test_a_pack_does_not_grow_for_ever(library: BarLibrary) -> None:
    for k in range(12):
        for name in NAMES[:4]:
            library.write(daily_bars(np.arange(1.0, 290) + k, symbol=name))
        library.pack()
    bars = sum(len(library.bars(n, ONE_DAY)) for n in NAMES)
    assert (library.folder / ".pack.1d.arrow").stat().st_size < 4 * 48 * bars


def test_a_pack_is_an_arrow_stream(library: BarLibrary) -> None:
    library.pack()
    with pa.OSFile(str(library.folder / ".pack.1d.arrow")) as file:
        batches = list(pa.ipc.open_stream(file))
    assert [len(b) for b in batches] == [len(library.bars(n, ONE_DAY)) for n in NAMES]
    np.testing.assert_array_equal(batches[3]["close"].to_numpy(), library.base("P03", ONE_DAY)["close"])


def cut_short(path: Path) -> None:
    os.truncate(path, path.stat().st_size // 2)


def emptied(path: Path) -> None:
    path.write_bytes(b"")


def scrambled(path: Path) -> None:
    raw = bytearray(path.read_bytes())
    for at in range(len(raw) // 3, len(raw), 7):
        raw[at] ^= 0xA5
    path.write_bytes(raw)


def made_a_folder(path: Path) -> None:
    path.unlink()
    path.mkdir()


def lengthened(path: Path) -> None:
    with path.open("ab") as file:
        file.write(b"more" * 50)


DAMAGE = [cut_short, emptied, scrambled, made_a_folder, lengthened, Path.unlink]


@pytest.mark.parametrize("library", [False], indirect=True)
@pytest.mark.parametrize("damage", DAMAGE, ids=lambda d: d.__name__)
@pytest.mark.parametrize("name", [".pack.1d.arrow", ".pack.1d.arrow.index"])
@pytest.mark.parametrize("when", [pytest.param("before", marks=pytest.mark.nightly), "while open", "after a look"])
def test_a_damaged_pack_costs_nothing_but_time(
    library: BarLibrary, damage: Callable[[Path], None], name: str, when: str
) -> None:
    expected = found(library)
    library.pack()
    opened = BarLibrary(library.folder)
    if when == "while open":
        assert found(opened) == expected
    panel = opened.panel(NAMES, ONE_DAY) if when == "after a look" else None  # no column of it is read yet
    damage(library.folder / name)
    if panel is not None:
        same(panel, panel_of([library.base(n, ONE_DAY) for n in NAMES]))
    assert found(opened) == expected and not opened.notices
    if (library.folder / name).is_dir():
        (library.folder / name).rmdir()
    assert opened.pack() in (0, 12)
    assert found(opened) == expected == found(BarLibrary(library.folder))


def test_a_symbols_damaged_file_is_told_though_it_is_packed(library: BarLibrary) -> None:
    """What is damaged does not go on unseen because a copy of it is sound: it is the copy that is derived."""
    library.pack()
    scrambled(library.path("P05", ONE_DAY))
    made = run_scan(Rule(UP, "up"), library, NAMES)
    assert [s.symbol for s in made.skipped] == ["P05"]
    assert len(library.notices) == 1 and "P05" in library.notices[0]


def test_a_file_that_has_gone_is_gone_though_it_is_packed(library: BarLibrary) -> None:
    library.pack()
    library.remove("P05", ONE_DAY)
    made = run_scan(Rule(UP, "up"), library, NAMES)
    assert [(s.symbol, s.code) for s in made.skipped] == [("P05", "no bars")]


def test_a_file_replaced_while_columns_wait_is_as_it_was_looked_at(library: BarLibrary) -> None:
    """A panel is one state of the market, not some columns of this and some of that."""
    before = panel_of([library.base(n, ONE_DAY) for n in NAMES])
    library.pack()
    panel = library.panel(NAMES, ONE_DAY)
    panel.fetch(["close"])
    library.write(daily_bars(np.arange(1.0, 290), symbol="P04"))
    same(panel, before)


def test_nothing_is_packed_where_the_disk_is_nearly_full(library: BarLibrary, monkeypatch: pytest.MonkeyPatch) -> None:
    usage = shutil.disk_usage(library.folder)
    monkeypatch.setattr(shutil, "disk_usage", lambda _: usage._replace(free=400_000_000))
    assert library.pack() == 0 and not (library.folder / ".pack.1d.arrow").exists()


def test_packing_that_is_broken_off_leaves_what_was_done(library: BarLibrary) -> None:
    expected, asked = found(library), []

    def cancelled() -> bool:
        asked.append(1)
        return len(asked) > 40

    some = library.pack(cancelled)
    assert 0 < some < 20 and found(library) == expected == found(BarLibrary(library.folder))
    assert library.pack() == 20 - some


def test_what_was_just_changed_is_not_copied_yet(library: BarLibrary, tune: Tune) -> None:
    """Where times are kept in whole seconds, one more change of the same size could not be told from the last."""
    expected = found(library)
    tune(settled_seconds=60.0)
    for name in NAMES[4:]:
        for path in (library.path(name, ONE_DAY), library.path(name, ONE_MINUTE)):
            if path.exists():
                os.utime(path, (1e9, 1e9))  # changed long ago, says the one time, and just now, says the other
    assert library.pack() == 0
    tune(settled_seconds=0.0)
    assert library.pack() == 20 and found(library) == expected


def test_few_symbols_and_long_ones_stay_in_their_files(library: BarLibrary, tune: Tune) -> None:
    tune(packed_symbols=13)
    assert library.pack() == 0
    tune(packed_symbols=2)
    days = [len(library.base(n, ONE_DAY)) for n in NAMES]
    minutes = [len(library.base(n, ONE_MINUTE)) for k, n in enumerate(NAMES) if k % 3]
    most = sorted(days)[6]
    tune(packed_bars=most)
    expected = found(library)
    assert 0 < library.pack() == sum(count <= most for count in days + minutes) < 20
    assert found(BarLibrary(library.folder)) == expected


def _pack(folder: Path, go: object) -> None:
    packing.LEAST_SYMBOLS, pack.SETTLED = 2, 0.0
    go.wait()  # type: ignore[attr-defined]
    library = BarLibrary(folder)
    for k in range(4):
        library.write(daily_bars(np.arange(1.0, 290) + k, symbol=NAMES[k]))
        library.pack()


@pytest.mark.parametrize("library", [True], indirect=True)
def test_two_copies_of_the_program_may_pack_at_once(library: BarLibrary) -> None:
    context = multiprocessing.get_context("spawn")
    go = context.Event()
    copies = [context.Process(target=_pack, args=(library.folder, go)) for _ in range(2)]
    for one in copies:
        one.start()
    go.set()
    while any(one.is_alive() for one in copies):
        opened = BarLibrary(library.folder)
        panel = opened.panel(NAMES[6:], ONE_DAY)
        same(panel, panel_of([opened.base(n, ONE_DAY) for n in NAMES[6:]]))
    for one in copies:
        one.join()
        assert one.exitcode == 0
    library.pack()
    opened = BarLibrary(library.folder)
    same(opened.panel(NAMES, ONE_DAY), panel_of([opened.base(n, ONE_DAY) for n in NAMES]))


def test_a_system_without_such_calls_reads_the_files(library: BarLibrary, monkeypatch: pytest.MonkeyPatch) -> None:
    expected = found(library)
    library.pack()

    def no() -> None:
        raise RuntimeError("Symbols not found: [ statx ]")

    monkeypatch.setattr(batched_io, "_made", no)
    assert found(library) == expected == found(BarLibrary(library.folder)) and not library.notices


def test_many_states_and_ranges_in_one_call(tmp_path: Path) -> None:
    for k, name in enumerate(("a", "zwei", "größe")):
        (tmp_path / name).write_bytes(bytes(range(10 * (k + 1))))
    facts = [os.stat(tmp_path / n) for n in ("größe", "a")]
    told = states(str(tmp_path), ["größe", "none", "a"])
    assert told[[0, 2]].tolist() == [[f.st_mtime_ns, f.st_ctime_ns, f.st_size] for f in facts]
    assert told[1].tolist() == [-1, -1, -1]
    into = np.zeros(8, dtype=np.uint8)
    with (tmp_path / "größe").open("rb") as file:
        assert gather(file.fileno(), np.array([20, 3]), np.array([2, 3]), np.array([5, 0]), into)
        assert into.tolist() == [3, 4, 5, 0, 0, 20, 21, 0]
        assert not gather(file.fileno(), np.array([29]), np.array([2]), np.array([0]), into)
        with pytest.raises(ValueError, match="outside"):
            gather(file.fileno(), np.array([0]), np.array([4]), np.array([5]), into)
    with pytest.raises(FileNotFoundError):
        states(str(tmp_path / "nowhere"), ["a"])
