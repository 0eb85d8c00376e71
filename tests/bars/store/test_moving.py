"""Libraries that are moved while programs have them open: nothing is lost, nothing goes to a folder that nothing reads."""

from __future__ import annotations

import contextlib
import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.errors import DataProblem, Stopped
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.moving import move
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY
from oakladder.locks import Waiting, locked

MOVER = """
import sys
from pathlib import Path
from oakladder.user.workspace import Workspace
data, config, target = map(Path, sys.argv[1:])
print("begun", flush=True)
Workspace(data, config).move_library(target)
"""


def info(symbol: str) -> SymbolInfo:
    return SymbolInfo(symbol, symbol, "My data", "share", 0.01, Calendar())


def put(library: BarLibrary, symbol: str, count: int = 30) -> None:
    library.write(daily_bars(np.arange(1.0, count + 1), symbol=symbol), info(symbol))


def closes(library: BarLibrary, symbol: str) -> list[float]:
    return library.bars(symbol, ONE_DAY)["close"].tolist()


@pytest.fixture(params=["the same disk", "another disk"])
def target(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Path]:
    """A place for a library, on the same disk or on another."""
    if request.param == "the same disk":
        yield tmp_path / "elsewhere" / "bars"
        return
    if not os.access("/dev/shm", os.W_OK) or os.stat("/dev/shm").st_dev == tmp_path.stat().st_dev:
        pytest.skip("there is no second disk")
    with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
        yield Path(folder, "bars")


def moved(library: BarLibrary, target: Path) -> list[list[Path]]:
    pointed: list[list[Path]] = []
    move(library, target, lambda places: pointed.append(list(places)))
    return pointed


def test_open_libraries_follow_a_move(tmp_path: Path, target: Path) -> None:
    old = tmp_path / "bars"
    one, two = BarLibrary(old), BarLibrary(old)
    for k in range(4):
        put(one, f"S{k}")
    assert closes(two, "S1") == list(range(1, 31)) and two.fresh()
    pointed = moved(BarLibrary(old), target)
    assert pointed[-1] == [target] and target.is_dir()
    # Reading, writing and looking for changes all lead to the new place, whichever comes first.
    assert closes(two, "S2") == list(range(1, 31))
    put(one, "S4")
    assert one.folder == two.folder == target and closes(two, "S4") == list(range(1, 31))
    assert two.fresh() and not two.fresh()
    assert sorted(p.name for p in target.glob("*.arrow")) == [f"S{k}.1d.arrow" for k in range(5)]
    assert sorted(p.name for p in old.iterdir() if not p.name.startswith(".")) == ["moved-to.txt"]
    again = BarLibrary(old)
    assert again.folder == target and len(again.infos) == 5 and again.damaged() == []


def test_a_library_can_go_on_and_come_back(tmp_path: Path, target: Path) -> None:
    old, third = tmp_path / "bars", tmp_path / "third"
    library = BarLibrary(old)
    put(library, "S0")
    behind = BarLibrary(old)
    moved(library, target)
    moved(BarLibrary(old), third)
    assert closes(behind, "S0") == list(range(1, 31)) and behind.folder == third
    moved(library, old)
    assert BarLibrary(target).folder == old and closes(behind, "S0") == list(range(1, 31))
    assert behind.folder == old and not (old / "moved-to.txt").exists()


def test_what_is_written_meanwhile_arrives(tmp_path: Path, target: Path) -> None:
    old = tmp_path / "bars"
    library, writer = BarLibrary(old), BarLibrary(old)
    for k in range(20):
        put(library, f"A{k:02}")
    errors: list[Exception] = []

    def write() -> None:
        try:
            for k in range(40):
                put(writer, f"B{k:02}")
        except Exception as error:
            errors.append(error)

    thread = threading.Thread(target=write)
    thread.start()
    time.sleep(0.05)
    moved(library, target)
    thread.join()
    assert not errors
    there = BarLibrary(old)
    assert there.folder == target and len(there.infos) == 60 and there.damaged() == []
    assert not list(old.glob("*.arrow")) and all(closes(there, s) == list(range(1, 31)) for s in there.infos)


def test_what_is_left_behind_never_passes_for_a_library(tmp_path: Path) -> None:
    """A folder without catalogue and note would be written into."""
    places = [tmp_path / f"place {k}" for k in range(40)]
    library = BarLibrary(places[0])
    put(library, "S0")
    bare, left, over = [], [places[0]], threading.Event()

    def watch() -> None:
        while not over.is_set():
            with contextlib.suppress(OSError):
                if not os.listdir(left[-1]):
                    bare.append(left[-1])

    thread = threading.Thread(target=watch)
    thread.start()
    for place in places[1:]:
        moved(library, place)
        left.append(place)
    over.set()
    thread.join()
    assert bare == [] and closes(BarLibrary(places[0]), "S0") == list(range(1, 31))


def test_only_an_empty_folder_takes_a_library(tmp_path: Path) -> None:
    library = BarLibrary(tmp_path / "bars")
    put(library, "S0")
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "mine.txt").write_text("mine")
    (tmp_path / "file").write_text("mine")
    for place in (tmp_path / "full", tmp_path / "file", tmp_path / "bars", tmp_path / "file" / "below"):
        with pytest.raises(OSError):
            moved(library, place)
    assert closes(BarLibrary(tmp_path / "bars"), "S0") == list(range(1, 31))


def test_a_move_can_be_stopped_and_waits_for_who_writes(tmp_path: Path, target: Path) -> None:
    library = BarLibrary(tmp_path / "bars")
    put(library, "S0")
    with locked(tmp_path / "bars" / ".changing.lock"), pytest.raises(DataProblem, match=r"process \d+"):
        move(library, target, lambda _: None, cancelled=lambda: True)
    if target.parts[1] == "dev":
        with pytest.raises(Stopped):
            move(library, target, lambda _: None, cancelled=lambda: True)
    assert not target.exists() and closes(library, "S0") == list(range(1, 31))


def test_a_lock_that_is_held_says_by_whom(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    library = BarLibrary(tmp_path / "bars")
    held = subprocess.Popen(
        [sys.executable, "-c", HOLDER, str(tmp_path / "bars" / ".changing.lock")],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert held.stdin is not None and held.stdout is not None and held.stdout.readline() == "held\n"
    said: list[tuple[float, str]] = []
    begun = time.monotonic()

    def report(words: str) -> None:
        said.append((time.monotonic(), words))
        if len(said) == 2:
            held.communicate("go on\n")

    monkeypatch.setattr(Waiting, "report", report)
    put(library, "S0")
    # Told twice and no more, a second or so apart however slow the machine is.
    assert len(said) == 2 and said[0][0] - begun >= 0.5 and said[1][0] - said[0][0] >= 0.5
    assert f"oak import (process {held.pid})" in said[0][1]


HOLDER = """
import sys
from pathlib import Path
from oakladder.locks import Waiting, locked
Waiting.role = "oak import"
with locked(Path(sys.argv[1])):
    print("held", flush=True)
    sys.stdin.readline()
"""


def test_a_folder_that_goes_away_is_not_made_again(tmp_path: Path) -> None:
    library = BarLibrary(tmp_path / "bars")
    put(library, "S0")
    (tmp_path / "bars").rename(tmp_path / "unplugged")
    with pytest.raises(DataProblem, match="not there any more"):
        put(library, "S1")
    with pytest.raises(DataProblem):
        closes(library, "S0")
    assert not (tmp_path / "bars").exists()
    (tmp_path / "unplugged").rename(tmp_path / "bars")
    put(library, "S1")
    assert len(BarLibrary(tmp_path / "bars").infos) == 2


def test_a_catalogue_that_goes_away_is_made_again(tmp_path: Path) -> None:
    library = BarLibrary(tmp_path)
    put(library, "S0")
    library.add_symbols([replace(info("S1"), name="One")])
    library.settle()
    (tmp_path / "catalogue.sqlite").unlink()
    assert library.fresh() and set(library.infos) == {"S0", "S1"} and library.infos["S1"].name == "One"


def test_a_symbol_whose_files_are_gone_is_named(tmp_path: Path) -> None:
    library = BarLibrary(tmp_path)
    put(library, "S0")
    put(library, "S1")
    library.path("S0", ONE_DAY).unlink()
    assert library.damaged() == ["S0 has no bars: its files are missing. Import them again."]


def kill_moves(tmp_path: Path, record_property, target: Path, rounds: int) -> None:  # type: ignore[no-untyped-def]
    """Kills a program while it moves a library, at random moments; everything is found afterwards."""
    data, config = tmp_path / "data", tmp_path / "config"
    library = BarLibrary(data / "bars")
    for k in range(150):
        put(library, f"S{k:03}", 200)
    from oakladder.user.workspace import Workspace

    chance, place, other = random.Random(7), target, target.with_name("other")
    half = 0
    for _ in range(rounds):
        mover = subprocess.Popen(
            [sys.executable, "-c", MOVER, str(data), str(config), str(place)], stdout=subprocess.PIPE, text=True
        )
        assert mover.stdout is not None and mover.stdout.readline() == "begun\n"
        time.sleep(chance.random() * 0.5 + 0.25)
        half += mover.poll() is None
        mover.send_signal(signal.SIGKILL)
        mover.wait()
        space = Workspace(data, config)
        found = space.library()
        assert found.damaged() == [] and sum(s.startswith("S") and len(s) == 4 for s in found.infos) >= 150
        assert closes(library, "S077") == list(range(1, 201)) and library.folder == found.folder
        if found.folder == place:
            place, other = other, place
    record_property("faults", f"killed while a library is moved: {rounds} ({half} in the middle), no bar lost")


@pytest.mark.nightly
def test_moves_that_are_killed_lose_nothing(tmp_path: Path, target: Path, record_property) -> None:  # type: ignore[no-untyped-def]
    kill_moves(tmp_path, record_property, target, 40)


def test_a_move_that_is_killed_loses_nothing(tmp_path: Path, target: Path, record_property) -> None:  # type: ignore[no-untyped-def]
    kill_moves(tmp_path, record_property, target, 2)
