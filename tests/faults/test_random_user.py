"""A random user on everything: nothing is raised, nothing is held up, nothing piles up."""

from __future__ import annotations

import gc
import os
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QApplication, QFileDialog

from oakladder.bars.store import bar_cache
from oakladder.bars.store.library import BarLibrary
from oakladder.desk.app import make_app, make_window
from oakladder.desk.collector import keep_for_good
from oakladder.desk.shot import settle
from oakladder.desk.window import Window
from oakladder.user.workspace import Workspace
from windows import put_away

from .random_user import RandomUser, Seen

#: Minutes of the long run; an hour is asked for with this set to 60.
MINUTES = float(os.environ.get("OAK_RANDOM_MINUTES", "10"))
pytestmark = pytest.mark.qt_no_exception_capture


@pytest.fixture
def window(
    qapp: QApplication, workspace: Workspace, market: BarLibrary, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> Iterator[Window]:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(Workspace, "library", lambda self: market)
    monkeypatch.setattr(bar_cache, "MOST_BYTES", 60_000_000)  # full soon, so that it can be seen what else grows
    monkeypatch.setattr(QDesktopServices, "openUrl", lambda *_: True)
    table = tmp_path / "OWN.csv"
    rows = "".join(f"2026-0{1 + k // 28}-{1 + k % 28:02},10,11,9,10.5,{k}\n" for k in range(112))
    table.write_text("date,open,high,low,close,volume\n" + rows)
    for name, answer in (
        ("getSaveFileName", (str(tmp_path / "saved.csv"), "")),
        ("getOpenFileName", (str(table), "")),
        ("getOpenFileNames", ([str(table)], "")),
        ("getExistingDirectory", str(tmp_path)),
    ):
        monkeypatch.setattr(QFileDialog, name, lambda *_, answer=answer, **__: answer)
    made = make_window(workspace)
    made.show()
    settle(make_app(), made.desk)
    keep_for_good()
    yield made
    gc.unfreeze()
    put_away(made)


def judged(seen: Seen, told: Callable[[str], None]) -> None:
    told(seen.words())
    for held, after in sorted(seen.holds, reverse=True)[:12]:
        told(f"  held {held * 1000:.0f} ms: {after}")
    assert not seen.errors, "\n".join({e.strip().splitlines()[-1]: e for e in seen.errors}.values())


def test_a_random_user_for_some_seconds(window: Window, told: Callable[[str], None]) -> None:
    seen = RandomUser(window, 1).go(5)
    judged(seen, told)
    assert sum(seen.acts.values()) > 60 and window.desk.looking.view is not None


@pytest.mark.nightly
def test_a_random_user_for_long(window: Window, told: Callable[[str], None]) -> None:
    seed = int(os.environ.get("OAK_RANDOM_SEED", "0")) or int.from_bytes(os.urandom(4), sys.byteorder)
    told(f"random user: seed {seed}")
    seen = RandomUser(window, seed).go(MINUTES * 60)
    judged(seen, told)
    assert not seen.holds
    early, late = seen.low_water()
    assert late[0] < early[0] * 1.15 + 40 and late[1] < early[1] * 1.1 + 20
