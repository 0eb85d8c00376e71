"""The user's folders: scripts, the demo scripts, where the bars are, what is remembered."""

from __future__ import annotations

import errno
import json
import shutil
from importlib.resources import files
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oakladder.disk import write_atomic
from oakladder.user.scripts import ScriptFileProblem, read_script
from oakladder.user.state import DeskState
from oakladder.user.workspace import Workspace

DEMO = [p for p in files("oakladder").joinpath("demo", "scripts").iterdir() if p.name.endswith(".rung")]


@pytest.fixture
def space(tmp_path: Path) -> Workspace:
    return Workspace(tmp_path / "data", tmp_path / "config")


def test_the_first_look_at_the_scripts_brings_the_demo_scripts(space: Workspace) -> None:
    names = [p.stem for p in space.script_files()]
    assert names == sorted(names) and len(names) == len(DEMO)
    (space.scripts / "tide_turn.rung").unlink()
    assert len(space.script_files()) == len(DEMO) - 1  # what the user took away stays away


@pytest.mark.parametrize("after", range(0, 14, 3))
def test_a_first_start_that_is_killed_goes_on_the_next_time(
    space: Workspace, monkeypatch: pytest.MonkeyPatch, after: int
) -> None:
    class Killed(BaseException):
        pass

    left = [after]

    def dies(*args: object, **kind: object) -> None:
        if not left[0]:
            raise Killed
        left[0] -= 1
        write_atomic(*args, **kind)  # type: ignore[arg-type]

    monkeypatch.setattr("oakladder.user.scripts.write_atomic", dies)
    with pytest.raises(Killed):
        _ = space.scripts
        raise Killed  # where all could be written
    monkeypatch.undo()
    assert len(space.script_files()) == len(DEMO)
    (space.scripts / "tide_turn.rung").unlink()
    assert len(space.script_files()) == len(DEMO) - 1


def test_a_folder_that_is_taken_away_comes_back_as_at_the_first_start(space: Workspace) -> None:
    shutil.rmtree(space.scripts)
    assert len(space.script_files()) == len(DEMO)


def test_a_folder_of_the_users_own_is_left_as_it_is(space: Workspace) -> None:
    write_atomic(space.data / "scripts" / "mine.rung", "rung 1\n")
    assert [p.name for p in space.script_files()] == ["mine.rung"]


def test_the_desk_is_remembered(space: Workspace) -> None:
    assert space.remembered() == DeskState()
    state = DeskState(symbol="BRINE", settings={"fast": 3, "style": "dots"}, scan={"lines": []})
    space.remember(state)
    assert space.remembered() == state
    assert space.notices == []


@pytest.mark.parametrize(
    ("text", "symbol"),
    [
        ("{half", ""),
        ("[1, 2]", ""),
        ("", ""),
        ('{"symbol": [1], "timeframe": "1h"}', ""),
        ('{"symbol": "BRINE", "settings": {"a": [1]}, "timeframe": 3}', "BRINE"),
        ('{"symbol": "BRINE", "theme": "night", }', ""),
        ('{"scan": ' + '{"a":' * 100_000, ""),
        ("[" * 200_000, ""),
        ("\x00\xff", ""),
    ],
)
def test_odd_and_damaged_state_is_forgiven_said_and_kept_aside(space: Workspace, text: str, symbol: str) -> None:
    path = space.config / "desk.json"
    write_atomic(path, text)
    found = space.remembered()
    assert found.symbol == symbol and found.settings == {}
    assert len(space.notices) == 1 and "desk.json" in space.notices[0]
    kept = list(space.config.glob("desk.damaged-*.json"))
    assert len(kept) == 1 and kept[0].read_bytes() == path.read_bytes()


_json = st.recursive(
    st.none() | st.booleans() | st.integers(-5, 5) | st.floats(allow_nan=False) | st.text(max_size=4),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=4), inner, max_size=3),
    max_leaves=8,
)


@settings(max_examples=60, deadline=None)
@given(st.dictionaries(st.sampled_from(["symbol", "timeframe", "settings", "beside", "scan", "list", "x"]), _json))
def test_any_json_in_the_state_gives_a_state(
    tmp_path_factory: pytest.TempPathFactory, plain: dict[str, object]
) -> None:
    folder = tmp_path_factory.mktemp("state")
    space = Workspace(folder, folder)
    write_atomic(folder / "desk.json", json.dumps(plain))
    found = space.remembered()
    assert isinstance(found.symbol, str) and isinstance(found.beside, list)
    assert all(isinstance(b, dict) for b in found.beside)
    assert isinstance(found.list_name, str) and isinstance(found.scan, dict)


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
    assert space.other_scripts("rung 1\nline close").scripts == ()
    (space.scripts / "broken.rung").write_bytes(b"\xff")
    titles = [title for title, _ in space.other_scripts('rung 1\nuse f from "Tide turn"').scripts]
    assert "Tide turn" in titles and "tide_turn" in titles and "broken" not in titles


def test_a_script_takes_from_a_file_beside_it(space: Workspace, tmp_path: Path) -> None:
    (tmp_path / "helpers.rung").write_text("rung 1\ndefine half(x)\n    give x / 2\n")
    text = 'rung 1\nuse half from "helpers"\nline half(close)'
    found = dict(space.other_scripts(text, tmp_path / "mine.rung").scripts)
    assert {"helpers", "helpers.rung", "Tide turn"} <= set(found) and "mine" not in found
    assert "helpers" not in dict(space.other_scripts(text).scripts)


def test_the_bars_can_be_moved_to_another_folder(space: Workspace, tmp_path: Path) -> None:
    before = len(space.library().infos)
    target = tmp_path / "elsewhere" / "bars"
    space.move_library(target)
    assert space.library_folder == target and not list((space.data / "bars").glob("*.arrow"))
    assert str(target) in (space.data / "bars" / "moved-to.txt").read_text()
    assert len(space.library().infos) == before
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "a.txt").write_text("mine")
    with pytest.raises(OSError, match="not empty"):
        space.move_library(tmp_path / "full")
    assert space.library_folder == target


def test_a_move_of_the_bars_that_fails_leaves_them_where_they_were(
    space: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = set(space.library().infos)

    def full(*_: object) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr("os.rename", full)
    with pytest.raises(OSError):
        space.move_library(tmp_path / "other")
    monkeypatch.undo()
    assert space.library_folder == space.data / "bars" and set(space.library().infos) == before


def test_bars_on_a_disk_that_is_not_there_are_said_and_found_again(space: Workspace, tmp_path: Path) -> None:
    target = tmp_path / "stick" / "bars"
    space.library()
    space.move_library(target)
    target.parent.rename(tmp_path / "pulled out")
    assert space.missing_library == target and space.library_folder == space.data / "bars-meanwhile"
    assert any(str(target) in n for n in space.notices)
    (tmp_path / "pulled out").rename(target.parent)
    assert space.missing_library is None and space.library_folder == target
