"""Writing files: whole or not at all, through links, with their rights; and names that are safe as file names."""

from __future__ import annotations

import errno
import multiprocessing
import os
import stat
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oakladder.disk import aside_name, copy_aside, replacing, set_aside, sweep, why, write_atomic
from oakladder.file_names import plain_name, safe_name
from oakladder.locks import locked


def test_a_write_that_fails_leaves_the_old_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "mine.rung"
    write_atomic(path, "old")

    def full(*_: object) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(os, "replace", full)
    with pytest.raises(OSError, match="No space"):
        write_atomic(path, "new")
    assert path.read_text() == "old" and list(tmp_path.iterdir()) == [path]


def test_a_link_stays_a_link_and_rights_stay(tmp_path: Path) -> None:
    real, link = tmp_path / "real" / "a.rung", tmp_path / "a.rung"
    write_atomic(real, "one")
    real.chmod(0o640)
    link.symlink_to(real)
    write_atomic(link, "two")
    assert link.is_symlink() and real.read_text() == "two"
    assert stat.S_IMODE(real.stat().st_mode) == 0o640


def test_a_new_file_has_the_rights_of_new_files(tmp_path: Path) -> None:
    plain = tmp_path / "plain"
    plain.write_text("")
    write_atomic(tmp_path / "a", "x")
    assert (tmp_path / "a").stat().st_mode == plain.stat().st_mode


def test_a_text_that_no_file_can_hold_leaves_no_stray(tmp_path: Path) -> None:
    write_atomic(tmp_path / "a", "half a sign: \ud800.")
    assert (tmp_path / "a").read_text() == "half a sign: ?."
    assert len(list(tmp_path.iterdir())) == 1


def test_what_a_killed_process_has_left_half_written_is_swept_away(tmp_path: Path) -> None:
    write_atomic(tmp_path / "a", "x")
    child = multiprocessing.get_context("fork").Process(target=_dies_writing, args=(tmp_path / "b",))
    child.start()
    child.join()
    assert len(list(tmp_path.iterdir())) == 2
    with replacing(tmp_path / "c") as partial:
        sweep(tmp_path)
        assert partial.exists()  # this process is still at it
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a", "c"]


def _dies_writing(path: Path) -> None:
    with replacing(path) as partial:
        partial.write_text("half")
        os._exit(9)


def test_what_is_set_aside_has_a_dated_name_of_its_own(tmp_path: Path) -> None:
    path = tmp_path / "lists.json"
    names = set()
    for k in range(3):
        path.write_text(str(k))
        names.add(set_aside(path))
    assert len(names) == 3 and all(p.name.startswith("lists.damaged-20") and p.suffix == ".json" for p in names)
    path.write_text("again")
    assert copy_aside(path) == copy_aside(path) and path.exists()
    assert aside_name(path, moment=0.0).name.startswith("lists.damaged-19")


def test_errors_of_the_system_are_put_in_words() -> None:
    assert why(OSError(errno.ENOSPC, "No space left on device")) == "the disk is full"
    assert "Errno" not in why(OSError(errno.EACCES, "Permission denied"))
    assert why(OSError(9999, "Odd Thing")) == "odd thing"


def test_a_lock_keeps_others_out(tmp_path: Path) -> None:
    with locked(tmp_path / "l"), pytest.raises(BlockingIOError), locked(tmp_path / "l", patience=0.05):
        pass
    with locked(tmp_path / "l", patience=0.05):
        pass


@given(st.text(min_size=1, max_size=40))
def test_a_safe_name_can_be_turned_back_and_is_safe(text: str) -> None:
    name = safe_name(text)
    assert plain_name(name) == text
    assert "/" not in name and "\0" not in name and not name.startswith(".") and name.isascii()


@given(st.text(max_size=12), st.text(max_size=12))
def test_safe_names_differ_even_where_a_disk_takes_small_letters_for_large_ones(a: str, b: str) -> None:
    assert (safe_name(a).lower() == safe_name(b).lower()) == (a == b)


@pytest.mark.parametrize("name", ["../x", "a", "%", "%4", "%41", "Ä", "%zz"])
def test_a_name_that_is_none_of_ours_is_refused(name: str) -> None:
    with pytest.raises(ValueError):
        plain_name(name)
