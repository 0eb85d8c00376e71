"""Two versions of the program on one folder: the older reads what it knows of, and loses nothing of the newer."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from oakladder.app.jobs import sentence_of
from oakladder.disk import Newer
from oakladder.user.lists import Watchlists
from oakladder.user.scans import SavedScan, SavedScans
from oakladder.user.state import DeskState, read_state, write_state


def test_a_newer_file_of_lists_is_read_and_not_written(tmp_path: Path) -> None:
    path, told = tmp_path / "lists.json", list[str]()
    raw = json.dumps({"version": 2, "lists": [{"name": "Mine", "symbols": ["BRINE"], "colour": "teal"}]})
    path.write_text(raw)
    lists = Watchlists(path, told.append)
    assert lists.user_lists["Mine"].symbols == ["BRINE"] and not told  # nothing about it is damaged
    with pytest.raises(Newer) as error:
        lists.make("Other")
    assert sentence_of(error.value).startswith("lists.json: a newer version of the program has written it")
    assert path.read_text() == raw and list(lists.user_lists) == ["Mine"] and list(tmp_path.glob("lists*")) == [path]
    path.write_text(raw.replace('"version": 2', '"version": 1'))
    lists.make("Other")
    assert list(lists.user_lists) == ["Mine", "Other"]


def test_a_newer_file_of_scans_is_not_written(tmp_path: Path) -> None:
    path = tmp_path / "scans.json"
    path.write_text('{"version": 9, "scans": {"by": "name"}}')
    scans = SavedScans(path, print)
    with pytest.raises(Newer):
        scans.save(SavedScan("Dips"))
    assert path.read_text() == '{"version": 9, "scans": {"by": "name"}}'


def test_a_newer_state_is_read_as_far_as_it_is_known_and_left_alone(tmp_path: Path) -> None:
    path, told = tmp_path / "desk.json", list[str]()
    raw = '{"version": 5, "symbol": "BRINE", "theme": "dusk", "places": [1]}'
    path.write_text(raw)
    assert read_state(path, told.append).symbol == "BRINE" and "newer version" in told[0]
    write_state(path, DeskState("FLAKE"))
    assert path.read_text() == raw
