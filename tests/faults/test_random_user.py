"""A random user on everything: nothing is raised, nothing is held up, nothing piles up."""

from __future__ import annotations

import gc
import json
import os
import random
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QApplication

from helpers import Tune
from oakladder.bars.store.library import BarLibrary
from oakladder.desk.app import make_app, make_window
from oakladder.desk.gc_scheduler import keep_for_good
from oakladder.desk.screenshot import settle
from oakladder.desk.window import Window
from oakladder.user.workspace import Workspace
from windows import put_away

from .random_user import RandomUser, Seen
from .second_user import answer_dialogs, write_table

#: Minutes of the long run; an hour is asked for with this set to 60.
MINUTES = float(os.environ.get("OAK_RANDOM_MINUTES", "10"))
#: One act in so many may hold the window up longer than a hold is; and none longer than so many seconds.
ONE_IN, NEVER = 10_000, 0.15
pytestmark = pytest.mark.qt_no_exception_capture


def opened(workspace: Workspace) -> Window:
    made = make_window(workspace)
    made.show()
    settle(make_app(), made.session)
    keep_for_good()
    return made


@pytest.fixture
def window(
    qapp: QApplication,
    workspace: Workspace,
    market: BarLibrary,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    tune: Tune,
) -> Iterator[Window]:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(Workspace, "library", lambda self: market)
    tune(bar_cache_bytes=60_000_000)  # full soon, so that it can be seen what else grows
    answer_dialogs(tmp_path, write_table(tmp_path / "OWN.csv"), monkeypatch.setattr)
    made = opened(workspace)
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
    assert sum(seen.acts.values()) > 60 and window.session.chart.view is not None


@pytest.mark.nightly
def test_a_random_user_for_long(window: Window, told: Callable[[str], None]) -> None:
    seed = int(os.environ.get("OAK_RANDOM_SEED", "0")) or int.from_bytes(os.urandom(4), sys.byteorder)
    told(f"random user: seed {seed}")
    seen = RandomUser(window, seed).go(MINUTES * 60)
    judged(seen, told)
    held_little(sum(seen.acts.values()), len(seen.holds), seen.longest)
    early, late = seen.low_water()
    assert late[0] < early[0] * 1.15 + 40 and late[1] < early[1] * 1.1 + 20


def held_little(acts: int, holds: int, longest: float) -> None:
    assert holds <= max(acts // ONE_IN, 1) and longest <= NEVER


class Commands(threading.Thread):
    """A command line beside the windows: imports, changes symbols, scans and asks, over and over."""

    def __init__(self, folder: Path, seed: int):
        super().__init__()
        self._folder, self._random = folder, random.Random(seed)
        self.stopped = threading.Event()
        self.codes: dict[int, int] = {}
        self.bad: list[str] = []

    def run(self) -> None:
        scripts = Workspace.default().script_files()
        while not self.stopped.is_set():
            words = self._words(scripts)
            done = subprocess.run(
                [sys.executable, "-m", "oakladder", *words], cwd=self._folder, capture_output=True, text=True
            )
            self.codes[done.returncode] = self.codes.get(done.returncode, 0) + 1
            if done.returncode not in (0, 1) or "Traceback" in done.stderr:
                self.bad.append(f"{words}: {done.returncode}: {done.stderr[-600:]}")
            time.sleep(self._random.uniform(0, 3))

    def _words(self, scripts: list[Path]) -> list[str]:
        k, script = self._random.randrange(8), str(self._random.choice(scripts))
        path = self._folder / f"CMD{k}.csv"
        rows = "".join(
            f"2025-{1 + d // 28:02}-{1 + d % 28:02},20,21,19,{20 + 0.01 * d},100\n"
            for d in range(self._random.randrange(40, 200))
        )
        path.write_text("date,open,high,low,close,volume\n" + rows)
        return self._random.choice(
            [
                ["import", path.name],
                ["symbols", "BRINE", "--sector", self._random.choice(["Ferries", "Boats"])],
                ["symbols"],
                ["check", script],
                ["eval", script, "--symbol", "BRINE", "--out", "out.csv"],
                ["library", "--check"],
            ]
        )


@pytest.mark.nightly
def test_two_random_users_and_a_command_line_on_one_folder(
    qapp: QApplication, market: BarLibrary, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, told: Callable[[str], None]
) -> None:
    for name in ("DATA", "CONFIG"):
        monkeypatch.setenv(f"XDG_{name}_HOME", str(tmp_path / name.lower()))
    workspace = Workspace.default()
    workspace.data.mkdir(parents=True)
    shutil.copytree(market.folder, workspace.data / "bars")
    folder = tmp_path / "first"
    folder.mkdir()
    monkeypatch.chdir(folder)
    answer_dialogs(folder, write_table(folder / "OWN.csv"), monkeypatch.setattr)
    made = opened(workspace)
    seed, seconds = int.from_bytes(os.urandom(3), sys.byteorder), MINUTES * 60
    told(f"two random users: seed {seed}")
    out = tmp_path / "second.json"
    second = subprocess.Popen(
        [sys.executable, str(Path(__file__).parent / "second_user.py"), str(seconds), str(seed + 1), str(out)],
        stderr=subprocess.PIPE,
        text=True,
    )
    witness = tmp_path / "witness.txt"
    machine = subprocess.Popen(
        [sys.executable, str(Path(__file__).parent / "machine_witness.py"), str(seconds), str(witness)]
    )
    commands = Commands(folder, seed)
    commands.start()
    try:
        seen = RandomUser(made, seed).go(seconds)
    finally:
        commands.stopped.set()
        commands.join()
    _, said = second.communicate(timeout=120)
    machine.wait(timeout=120)
    other = json.loads(out.read_text()) if out.exists() else {"errors": [said], "words": "", "holds": []}
    gc.unfreeze()
    put_away(made)
    told(witness.read_text())
    told(f"beside it: {other['words']}")
    told(
        f"the command line: {sum(commands.codes.values())} calls, exit codes {commands.codes}, {len(commands.bad)} bad"
    )
    for held, after in sorted(other["holds"], reverse=True)[:8]:
        told(f"  beside it held {held * 1000:.0f} ms: {after}")
    judged(seen, told)
    assert not other["errors"], "\n".join(other["errors"][:3])
    assert not commands.bad, "\n".join(commands.bad[:5])
    assert BarLibrary(workspace.library_folder).damaged() == []
    held_little(sum(seen.acts.values()), len(seen.holds), seen.longest)
    held_little(other["acts"], len(other["holds"]), other["longest"])
