"""A disk that is full in earnest: a small one of its own, filled to the brim, and given room again."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from helpers import DEMO_SCRIPTS
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.library import BarLibrary
from oakladder.demo import upkeep
from oakladder.desk.app import make_app, make_window
from oakladder.desk.screenshot import settle
from oakladder.intake.importing import import_files
from oakladder.user.workspace import Workspace
from windows import put_away

from .killing import write_days

_MEGABYTES = 4


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[Path]:
    """A disk of a few megabytes."""
    place = tmp_path / "disk"
    place.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={_MEGABYTES}m", "tmpfs", str(place)], capture_output=True, check=False
    )
    if mounted.returncode:
        pytest.skip("no disk can be mounted here; the disk that says no is tried in tests/user and tests/desk too")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=True)


class Ballast:
    """Takes all the room there is, and gives it back."""

    def __init__(self, disk: Path):
        self._path = disk / "ballast"

    def fill(self) -> None:
        with self._path.open("ab", buffering=0) as file:
            for size in (65_536, 4096, 512, 64, 1):
                while True:
                    try:
                        file.write(b"x" * size)
                    except OSError:
                        break

    def drop(self) -> None:
        self._path.unlink(missing_ok=True)


def test_a_first_start_on_a_full_disk_is_a_sentence_and_goes_on_with_room(
    disk: Path, told: Callable[[str], None]
) -> None:
    ballast, space = Ballast(disk), Workspace(disk / "data", disk / "config")
    for _ in range(2):
        ballast.fill()
        with pytest.raises(DataProblem, match="the disk is full"):
            space.library()
        assert space.script_files() == [] or all(p.stat().st_size for p in space.script_files())
        ballast.drop()
    assert len(space.script_files()) == len(DEMO_SCRIPTS) and all(p.stat().st_size for p in space.script_files())
    with pytest.raises(DataProblem, match="the disk is full"):  # the demo market needs more than this disk has
        space.library()
    assert not [p for p in disk.rglob("*") if p.name.endswith(".partial")]
    told("a full disk at the first start: 3 tries, a sentence each, 0 half files")


def test_a_disk_that_fills_up_while_everything_is_used_loses_nothing(
    disk: Path, tmp_path: Path, told: Callable[[str], None], monkeypatch: pytest.MonkeyPatch, qapp: QApplication
) -> None:
    monkeypatch.setattr(upkeep, "prepare", lambda library: None)
    space, ballast, app = Workspace(disk / "data", disk / "config"), Ballast(disk), make_app()
    files = tmp_path / "files"
    files.mkdir()
    for symbol in ("AFLOAT", "BUOY"):
        write_days(files / f"{symbol}.csv", 0, 300, 20)
    assert not any(i.trouble for i in import_files([files], space.library()))
    window = make_window(space)
    window.show()
    settle(app, window.session)
    session, path = window.session, window.session.script.path
    assert path is not None
    session.lists.make("Mine", ["BUOY"])
    before = session.library.bars("BUOY", window.session.chart.timeframe).times.size
    ballast.fill()
    editor = window.bench.script.editor
    editor.setFocus()
    QTest.keyClicks(editor, "-- typed on a full disk ")
    session.script.save()
    settle(app, session)
    assert window.bench.script.standing.isVisible() and "disk is full" in window.bench.script.standing.words.text()
    window.ladder.commands.make("Theirs", ["BUOY", "AFLOAT"])
    settle(app, session)
    assert "the disk is full" in window.status.text() and "Theirs" not in session.lists.user_lists
    write_days(files / "BUOY.csv", 0, 3000, 21)
    made = import_files([files / "BUOY.csv"], BarLibrary(space.library_folder))
    assert "the disk is full" in made[0].trouble
    assert len(BarLibrary(space.library_folder).bars("BUOY", session.chart.timeframe)) == before
    window.bench.commands.write_chart(disk / "chart.png")
    settle(app, session)
    assert "disk is full" in window.status.text() and not (disk / "chart.png").exists()
    ballast.drop()
    assert session.script.save() == [] and "typed on a full disk" in path.read_text()
    window.ladder.commands.make("Theirs", ["BUOY", "AFLOAT"])
    settle(app, session)
    again = Workspace(space.data, space.config)
    assert list(again.lists().user_lists) == ["Mine", "Theirs"] and BarLibrary(space.library_folder).damaged() == []
    assert not [p for p in disk.rglob("*") if p.name.endswith(".partial")]
    put_away(window)
    told("a disk that fills up: script, list, import, export and state refused in words, 0 lost, all saved with room")


def test_a_home_that_can_only_be_read_is_a_sentence(disk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    space = Workspace(disk / "data", disk / "config")
    assert len(space.script_files()) == len(DEMO_SCRIPTS)
    subprocess.run(["mount", "-o", "remount,ro", str(disk)], check=True)
    with pytest.raises(DataProblem, match="can only be read"):
        space.library()
    assert len(space.script_files()) == len(DEMO_SCRIPTS)
    assert os.access(disk, os.R_OK)
