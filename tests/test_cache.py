"""The disk cache: whole or not at all, one bound for all sections, shown and cleared by a command."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from oakladder import cache
from oakladder.cache import DiskCache, Section, cache_key
from oakladder.cli import call


@pytest.fixture(autouse=True)
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    return tmp_path / "oakladder"


def test_sections_do_not_see_each_other() -> None:
    DiskCache(Section.CODE).put(cache_key("a"), b"code")
    assert DiskCache(Section.GRAMMAR).take(cache_key("a")) is None
    assert DiskCache(Section.CODE).take(cache_key("a")) == b"code"


def test_inputs_that_run_together_have_other_keys() -> None:
    assert len({cache_key("ab", "c"), cache_key("a", "bc"), cache_key("abc"), cache_key("abc", "")}) == 4
    assert cache_key("a") == cache_key(b"a")


@pytest.mark.parametrize("limits", [(7000, 100), (10**9, 3)], ids=["bytes", "files"])
def test_the_least_recently_used_of_all_sections_go_first(folder: Path, limits: tuple[int, int]) -> None:
    sections = [Section.CODE, Section.CHECKPOINTS]
    for k in range(6):
        DiskCache(sections[k % 2], *limits).put(cache_key(str(k)), bytes([k]) * 2000)
        if k == 3:
            assert DiskCache(sections[1], *limits).take(cache_key("1")) is not None  # used again: it stays
        time.sleep(0.01)
    found = [DiskCache(sections[k % 2]).take(cache_key(str(k))) for k in range(6)]
    assert [k for k, content in enumerate(found) if content is not None] == [1, 4, 5]


@pytest.mark.parametrize("damage", ["cut", "changed", "empty", "of another version"])
def test_a_damaged_entry_is_none_and_goes(folder: Path, damage: str) -> None:
    DiskCache(Section.CODE).put(cache_key("a"), b"machine code" * 9)
    (path,) = folder.iterdir()
    raw = path.read_bytes()
    made = {
        "cut": raw[:-3],
        "changed": raw[:-1] + b"?",
        "empty": b"",
        "of another version": b"oak cache 0\n" + raw[12:],
    }
    path.write_bytes(made[damage])
    assert DiskCache(Section.CODE).take(cache_key("a")) is None and not path.exists()


def test_where_nothing_can_be_written_nothing_is_cached(folder: Path) -> None:
    folder.write_text("a file where the folder would be")
    DiskCache(Section.CODE).put(cache_key("a"), b"code")
    assert DiskCache(Section.CODE).take(cache_key("a")) is None


def test_two_programs_share_the_folder(folder: Path) -> None:
    script = (
        "from oakladder.cache import DiskCache, Section\n"
        "cache = DiskCache(Section.CODE, 90_000)\n"
        "for k in range(150):\n"
        "    content = bytes([k % 7]) * 20000\n"
        "    assert cache.take(bytes([k % 7])) in (None, content), k\n"
        "    cache.put(bytes([k % 7]), content)\n"
    )
    command, env = [sys.executable, "-c", script], dict(os.environ)
    with ThreadPoolExecutor(2) as pool:
        ended = list(pool.map(lambda _: subprocess.run(command, capture_output=True, text=True, env=env), range(2)))
    assert [e.returncode for e in ended] == [0, 0], ended[0].stderr + ended[1].stderr
    assert 1 <= len(list(folder.iterdir())) <= 5


def test_the_command_shows_and_clears_it(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert call(["cache", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["bytes"] == 0
    DiskCache(Section.CODE).put(cache_key("a"), b"x" * 2_000_000)
    DiskCache(Section.GRAMMAR).put(cache_key("a"), b"x" * 1_000_000)
    (folder / "not ours.txt").write_text("stays")
    assert call(["cache"]) == 0
    told = capsys.readouterr().out
    assert "2.0 MB" in told and "3.0 MB of at most 1,000.0 MB" in told and str(folder) in told.replace("\n", "")
    assert call(["cache", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    by_name = {s["name"]: s for s in told["sections"]}
    assert set(by_name) == {s.value for s in Section} and by_name["code"]["files"] == 1
    assert by_name["code"]["last_used"] and by_name["offsets"]["last_used"] is None
    assert call(["cache", "--clear"]) == 0
    assert capsys.readouterr().out == "2 files deleted, 3.0 MB.\n"
    assert cache.usage()[Section.CODE].files == 0 and [p.name for p in folder.iterdir()] == ["not ours.txt"]
