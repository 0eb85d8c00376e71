"""The user's folders: scripts, their history, what is remembered; nothing typed is lost."""

from __future__ import annotations

import os
from importlib.resources import files
from pathlib import Path

import pytest

from oakladder.workspace import ScriptFileProblem, Workspace, read_script, write_atomic

DEMO = list(files("oakladder").joinpath("demo_scripts").iterdir())


@pytest.fixture
def space(tmp_path: Path) -> Workspace:
    return Workspace(tmp_path / "data", tmp_path / "config")


def test_the_first_look_at_the_scripts_brings_the_demo_scripts(space: Workspace) -> None:
    names = [p.stem for p in space.script_files()]
    assert names == sorted(names) and len(names) == len(DEMO)
    (space.scripts / "tide_turn.rung").unlink()
    assert len(space.script_files()) == len(DEMO) - 1  # what the user took away stays away


def test_saving_keeps_what_it_replaces_up_to_a_number(space: Workspace) -> None:
    path = space.scripts / "mine.rung"
    for k in range(60):
        space.save_script(path, f"rung 1\n-- {k}\n")
    space.save_script(path, "rung 1\n-- 59\n")
    kept = sorted((path.parent / ".history" / "mine").glob("*.rung"))
    assert len(kept) == 50
    assert kept[-1].read_text().endswith("58\n")
    assert path.read_text().endswith("59\n")


def test_a_write_that_fails_leaves_the_old_file(space: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    path = space.scripts / "mine.rung"
    write_atomic(path, "old")

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "replace", full)
    with pytest.raises(OSError, match="No space"):
        write_atomic(path, "new")
    assert path.read_text() == "old"
    assert not [p for p in path.parent.iterdir() if p.name.startswith(".mine")]


def test_the_desk_is_remembered_and_damage_is_forgiven(space: Workspace) -> None:
    assert space.remembered() == {}
    space.remember({"symbol": "BRINE"})
    assert space.remembered() == {"symbol": "BRINE"}
    for text in ("{half", "[1, 2]", ""):
        (space.config / "desk.json").write_text(text)
        assert space.remembered() == {}


@pytest.mark.parametrize(
    ("content", "words"), [(b"\xff\xfe", "not UTF-8"), (b"x" * 1_000_001, "1,000,001 bytes"), (None, "no script")]
)
def test_a_file_that_is_no_script(tmp_path: Path, content: bytes | None, words: str) -> None:
    path = tmp_path / "a.rung"
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(ScriptFileProblem, match=words):
        read_script(path)


def test_the_shelf_is_read_only_for_scripts_that_use_it(space: Workspace) -> None:
    assert space.shelf("rung 1\nline close") == ()
    (space.scripts / "broken.rung").write_bytes(b"\xff")
    titles = [title for title, _ in space.shelf('rung 1\nuse f from "Tide turn"')]
    assert "Tide turn" in titles and len(titles) == len(DEMO)


def test_the_bars_can_be_moved_to_another_folder(space: Workspace, tmp_path: Path) -> None:
    before = len(space.demo_library().infos)
    target = tmp_path / "elsewhere" / "bars"
    space.move_library(target)
    assert space.library_folder == target and not (space.data / "bars").exists()
    assert len(space.demo_library().infos) == before
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "a.txt").write_text("mine")
    with pytest.raises(OSError, match="not empty"):
        space.move_library(tmp_path / "full")
    assert space.library_folder == target
