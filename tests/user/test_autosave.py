"""What is typed is kept: in the journal at once, in the file after a pause, in memory while the disk says no."""

from __future__ import annotations

import errno
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from oakladder import disk
from oakladder.user.autosave import AutosaveWorker
from oakladder.user.draft import LONGEST
from oakladder.user.journal import Journal
from oakladder.user.save_events import Both, Changed, Event, NotSaved, Saved, Told
from oakladder.user.scripts import ScriptFolder
from oakladder.user.versions import Version, Versions, thinned


class Desk:
    """A folder with a keeper, and what it has told."""

    def __init__(self, root: Path):
        self.root, self.told = root, list[Event]()
        self.folder = ScriptFolder(root / "scripts")
        self.versions = Versions(root / "versions")
        self.path = self.folder.folder / "mine.rung"
        self.keeper = self.again()

    def again(self) -> AutosaveWorker:
        """Another start of the program."""
        self.keeper = AutosaveWorker(self.folder, self.versions, Journal(self.root / "journal"), self.told.append)
        return self.keeper

    def has_told(self, kind: type, seconds: float = 3.0) -> Event:
        return wait(lambda: next((e for e in self.told if isinstance(e, kind)), None), seconds)


def wait(test: Callable[[], object], seconds: float = 3.0):  # type: ignore[no-untyped-def]
    """What a test gives once it gives something."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if found := test():
            return found
        time.sleep(0.005)
    raise AssertionError("it never came")


@pytest.fixture
def desk(tmp_path: Path) -> Iterator[Desk]:
    made = Desk(tmp_path)
    made.path.write_text("rung 1\n")
    made.keeper.start()
    yield made
    made.keeper.close()


def full_disk(monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(disk.os, "replace", full)


def test_a_text_is_saved_after_a_pause_and_the_old_one_is_a_version(desk: Desk) -> None:
    assert desk.keeper.open(desk.path) == "rung 1\n"
    desk.keeper.typed(desk.path, "rung 1\nlet a = 1\n")
    desk.has_told(Saved)
    assert desk.path.read_text() == "rung 1\nlet a = 1\n"
    assert [v.text() for v in desk.versions.of("mine.rung")] == ["rung 1\n"]
    assert desk.keeper.unsaved() == []


def test_steady_typing_is_in_the_journal_at_once_and_saved_before_long(desk: Desk) -> None:
    desk.keeper.open(desk.path)
    begun = time.monotonic()
    text = "rung 1\n"
    while not any(isinstance(e, Saved) for e in desk.told) and time.monotonic() < begun + 2 * LONGEST:
        text += "x"
        desk.keeper.typed(desk.path, text)
        time.sleep(0.02)
    assert time.monotonic() - begun < LONGEST + 1
    assert len(desk.path.read_text()) > 20


def test_an_empty_text_is_saved_too(desk: Desk) -> None:
    desk.keeper.open(desk.path)
    desk.keeper.typed(desk.path, "")
    assert desk.keeper.save() == [] and desk.path.read_text() == ""


_TYPIST = """
import sys, time
from pathlib import Path
from oakladder.user.journal import Journal
from oakladder.user.autosave import AutosaveWorker as Keeper
from oakladder.user.scripts import ScriptFolder
from oakladder.user.versions import Versions
root = Path(sys.argv[1])
folder = ScriptFolder(root / "scripts")
keeper = Keeper(folder, Versions(root / "versions"), Journal(root / "journal"), lambda e: None)
keeper.start()
path = folder.folder / "mine.rung"
text = keeper.open(path)
k = len(text)
while True:
    k += 1
    keeper.typed(path, "x" * k)
    print(k, time.monotonic(), flush=True)
    time.sleep(0.004)
"""


def killed_while_typing(root: Path, after: float) -> tuple[int, int]:
    """Types in another process until it is killed; how many letters are kept, and how many were typed 200 ms before."""
    process = subprocess.Popen([sys.executable, "-c", _TYPIST, str(root)], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    first = process.stdout.readline()
    time.sleep(after)
    killed = time.monotonic()
    process.send_signal(signal.SIGKILL)
    lines = (first + process.stdout.read()).splitlines(keepends=True)
    typed = [line.split() for line in lines if line.endswith("\n") and len(line.split()) == 2]  # the last may be cut
    process.wait()
    owed = max((int(k) for k, moment in typed if float(moment) < killed - 0.2), default=0)
    desk = Desk(root)
    desk.keeper.start()
    kept = len(desk.keeper.open(desk.path))
    desk.keeper.close()
    return kept, owed


@pytest.mark.parametrize("after", [0.1, 0.35, 0.8])
def test_a_program_that_is_killed_while_typing_loses_nothing_older_than_a_blink(tmp_path: Path, after: float) -> None:
    Desk(tmp_path).path.write_text("")
    kept, owed = killed_while_typing(tmp_path, after)
    assert kept >= owed and kept > 0


@pytest.mark.nightly
def test_many_kills_while_typing_lose_nothing_older_than_a_blink(
    tmp_path: Path, record_property: Callable[[str, object], None]
) -> None:
    Desk(tmp_path).path.write_text("")
    most = 0
    for k in range(1000):
        kept, owed = killed_while_typing(tmp_path, 0.02 + 0.013 * (k % 50))
        assert kept >= owed, f"kill {k}"
        most = max(most, owed)
    record_property(
        "faults", f"kills while typing: 1,000 tries, 0 lost anything older than 200 ms ({most:,} letters at most)"
    )


def test_what_an_earlier_program_left_is_back_and_saved(desk: Desk) -> None:
    desk.keeper.open(desk.path)
    desk.keeper.typed(desk.path, "rung 1\nlet kept = 1\n")
    wait(lambda: list((desk.root / "journal").rglob("*.json")))
    dead = shutil.copytree(desk.root / "journal", desk.root / "left")  # its lock is nobody's
    desk.keeper.close()
    desk.path.write_text("rung 1\n")
    shutil.rmtree(desk.root / "journal")
    dead.rename(desk.root / "journal")
    again = desk.again()
    assert again.start() == [desk.path]
    assert again.open(desk.path) == "rung 1\nlet kept = 1\n"
    assert again.save() == [] and "kept" in desk.path.read_text()
    again.close()
    assert not list((desk.root / "journal").rglob("*.json"))


def test_a_damaged_entry_of_the_journal_costs_no_other(desk: Desk) -> None:
    folder = desk.root / "journal" / "1-1"
    folder.mkdir(parents=True)
    (folder / "x.json").write_text("{")
    (folder / "y.json").write_text(f'{{"path": "{desk.root}/scripts/new.rung", "base": "", "text": "rung 1\\n"}}')
    again = Desk(desk.root).keeper
    assert [p.name for p in again.start()] == ["new.rung"]
    assert again.save() == []
    again.close()
    assert (desk.root / "scripts" / "new.rung").exists()
    assert list(folder.glob("x.damaged-*"))


def test_two_programs_keep_their_journals_apart(desk: Desk) -> None:
    desk.keeper.open(desk.path)
    desk.keeper.typed(desk.path, "rung 1\n-- mine")
    wait(lambda: list((desk.root / "journal").rglob("*.json")))
    other = Desk(desk.root).keeper
    assert other.start() == []
    other.close()


def test_on_a_full_disk_it_is_held_said_and_saved_when_there_is_room(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk.keeper.open(desk.path)
    full_disk(monkeypatch)
    desk.keeper.typed(desk.path, "rung 1\n-- held\n")
    told = desk.has_told(NotSaved)
    assert isinstance(told, NotSaved) and told.reason == "the disk is full" and not told.noted
    other = desk.folder.folder / "tide_turn.rung"
    desk.keeper.open(other)  # another script is opened meanwhile
    assert desk.keeper.unsaved() == [desk.path] and desk.keeper.save(0.2) == [desk.path]
    assert desk.keeper.open(desk.path) == "rung 1\n-- held\n"
    monkeypatch.undo()
    saved = desk.has_told(Saved, 6)
    assert isinstance(saved, Saved) and saved.again and desk.path.read_text() == "rung 1\n-- held\n"


def test_an_unsaved_text_can_be_put_elsewhere(desk: Desk, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    desk.keeper.open(desk.path)
    full_disk(monkeypatch)
    desk.keeper.typed(desk.path, "rung 1\n-- held\n")
    desk.has_told(NotSaved)
    monkeypatch.undo()
    desk.keeper.save_elsewhere(desk.path, tmp_path / "stick" / "mine.rung")
    assert (tmp_path / "stick" / "mine.rung").read_text() == "rung 1\n-- held\n"


def test_a_file_that_another_program_changes_is_read_again_where_it_is_untouched_here(desk: Desk) -> None:
    desk.keeper.open(desk.path)
    desk.path.write_text("rung 1\n-- theirs\n")
    desk.keeper.look()
    told = desk.has_told(Changed)
    assert isinstance(told, Changed) and told.text == "rung 1\n-- theirs\n"
    assert desk.keeper.save() == [] and desk.path.read_text() == "rung 1\n-- theirs\n"
    assert [v.text() for v in desk.versions.of("mine.rung")] == ["rung 1\n"]


@pytest.mark.parametrize("mine", [True, False])
def test_a_file_that_both_change_is_not_written_until_that_is_decided(desk: Desk, mine: bool) -> None:
    desk.keeper.open(desk.path)
    desk.path.write_text("rung 1\n-- theirs\n")
    desk.keeper.typed(desk.path, "rung 1\n-- mine\n")
    assert desk.keeper.save() == [desk.path]
    assert desk.path.read_text() == "rung 1\n-- theirs\n"
    told = desk.has_told(Both)
    assert isinstance(told, Both) and told.theirs == desk.keeper.theirs(desk.path) == "rung 1\n-- theirs\n"
    text = desk.keeper.decide(desk.path, mine=mine)
    assert desk.keeper.save() == []
    assert desk.path.read_text() == text == f"rung 1\n-- {'mine' if mine else 'theirs'}\n"
    other = f"rung 1\n-- {'theirs' if mine else 'mine'}\n"
    desk.keeper.close()  # which ends what was decided first
    assert other in [v.text() for v in desk.versions.of("mine.rung")]


def test_both_changed_outlives_the_program(desk: Desk) -> None:
    desk.keeper.open(desk.path)
    desk.path.write_text("rung 1\n-- theirs\n")
    desk.keeper.typed(desk.path, "rung 1\n-- mine\n")
    desk.keeper.save()
    desk.keeper.close()
    again = desk.again()
    again.start()
    assert again.open(desk.path) == "rung 1\n-- mine\n" and again.theirs(desk.path) == "rung 1\n-- theirs\n"


def test_a_deleted_script_stays_away_until_it_is_changed(desk: Desk) -> None:
    desk.keeper.open(desk.path)
    desk.path.unlink()
    desk.keeper.look()
    desk.has_told(Told)
    assert desk.keeper.save() == [] and not desk.path.exists()
    desk.keeper.typed(desk.path, "rung 1\n-- more\n")
    assert desk.keeper.save() == [] and desk.path.exists()


def test_a_deleted_folder_comes_back_with_the_demo_scripts(desk: Desk) -> None:
    count = len(desk.folder.files())
    desk.keeper.open(desk.path)
    shutil.rmtree(desk.folder.place)
    desk.keeper.typed(desk.path, "rung 1\n-- more\n")
    assert desk.keeper.save() == []
    assert len(desk.folder.files()) == count


@pytest.mark.parametrize("raw", [b"rung 1\r\n-- a\r\n", b"\xef\xbb\xbfrung 1\n", b"rung 1\r\n-- a\n", b"rung 1"])
def test_a_file_keeps_its_line_ends_and_is_not_written_for_a_mere_look(desk: Desk, raw: bytes) -> None:
    desk.path.write_bytes(raw)
    text = desk.keeper.open(desk.path)
    desk.keeper.typed(desk.path, text)
    assert desk.keeper.save() == []
    assert desk.path.read_bytes() == raw and desk.versions.of("mine.rung") == []
    desk.keeper.typed(desk.path, text + "\n-- b\n")
    assert desk.keeper.save() == []
    ends = b"\r\n" if raw.count(b"\r\n") == raw.count(b"\n") > 0 else b"\n"
    assert desk.path.read_bytes() == raw + ends + b"-- b" + ends


def test_a_linked_script_stays_a_link_with_its_rights(desk: Desk, tmp_path: Path) -> None:
    real = tmp_path / "under version control.rung"
    real.write_text("rung 1\n")
    real.chmod(0o644)
    link = desk.folder.folder / "linked.rung"
    link.symlink_to(real)
    desk.keeper.open(link)
    desk.keeper.typed(link, "rung 1\n-- more\n")
    assert desk.keeper.save() == []
    assert link.is_symlink() and real.read_text() == "rung 1\n-- more\n"
    assert real.stat().st_mode & 0o777 == 0o644


def test_a_file_that_is_no_text_any_more_is_not_written_over(desk: Desk) -> None:
    desk.keeper.open(desk.path)
    desk.path.write_bytes(b"\xff\xfe\x00")
    desk.keeper.typed(desk.path, "rung 1\n-- mine\n")
    assert desk.keeper.save() == [desk.path] and desk.path.read_bytes() == b"\xff\xfe\x00"
    desk.keeper.decide(desk.path, mine=True)
    assert desk.keeper.save() == [] and desk.path.read_text() == "rung 1\n-- mine\n"
    assert any(v.path.read_bytes() == b"\xff\xfe\x00" for v in desk.versions.of("mine.rung"))


def test_versions_are_thinned_by_age_and_never_to_nothing() -> None:
    now, day = 1e9, 86_400.0
    moments = [now - day * 400 + k * 600 for k in range(int(400 * day / 600))]
    versions = [Version(m, Path(str(m))) for m in moments]
    gone = {v.moment for v in thinned(versions, now)}
    kept = [m for m in moments if m not in gone]
    assert kept[0] == moments[0] and kept[-20:] == moments[-20:]
    assert len([m for m in kept if m > now - day]) > 100
    assert 25 * 24 < len([m for m in kept if now - 30 * day < m < now - day]) < 31 * 24
    assert 300 < len([m for m in kept if m < now - 30 * day]) < 360
    assert thinned([v for v in versions if v.moment not in gone], now) == []


def test_versions_from_where_they_were_kept_before_are_taken_over(tmp_path: Path) -> None:
    old = tmp_path / "scripts" / ".history" / "mine"
    old.mkdir(parents=True)
    (old / "1700000000000000000.rung").write_text("old")
    versions = Versions(tmp_path / "versions")
    versions.take_over(old.parent)
    assert [v.text() for v in versions.of("mine.rung")] == ["old"] and not old.parent.exists()


def test_watching_tells_what_other_programs_write(tmp_path: Path) -> None:
    from oakladder.user.folder_watch import Watch

    folder = tmp_path / "scripts"
    folder.mkdir()
    seen: set[Path] = set()
    watch = Watch([folder], seen.update)
    try:
        time.sleep(0.3)
        (folder / "a.rung").write_text("x")
        wait(lambda: folder / "a.rung" in seen)
        os.replace(folder / "a.rung", folder / "b.rung")
        wait(lambda: folder / "b.rung" in seen)
        shutil.rmtree(folder)
        time.sleep(0.2)
        folder.mkdir()
        (folder / "c.rung").write_text("x")
        wait(lambda: folder in seen or folder / "c.rung" in seen, 6)
    finally:
        watch.close()
