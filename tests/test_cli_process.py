"""The command as a process: closed and full outputs, odd encodings and names, interruptions, children that outlive nothing."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from test_cli import RULE, bars_file

OAK = [sys.executable, "-m", "oakladder"]


@pytest.fixture(autouse=True)
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A user without anything yet."""
    for name in ("DATA", "CONFIG", "STATE"):
        monkeypatch.setenv(f"XDG_{name}_HOME", str(tmp_path / name.lower()))
    monkeypatch.chdir(tmp_path)
    Path("rule.rung").write_text(RULE)
    return tmp_path


def oak(*words: str | bytes, **how) -> subprocess.CompletedProcess[bytes]:  # type: ignore[no-untyped-def]
    return subprocess.run([*OAK, *words], capture_output="stdout" not in how, **how)  # type: ignore[list-item]


def test_a_closed_output_harms_no_file(home: Path) -> None:
    bars_file()
    line = f"exec {' '.join(OAK)} import bars.csv --library mine >&-"
    done = subprocess.run(["bash", "-c", line], capture_output=True, text=True)
    assert (done.returncode, done.stderr) == (0, "")
    again = oak("symbols", "--library", "mine")
    assert again.returncode == 0 and b"BARS" in again.stdout


def test_texts_that_an_output_cannot_encode_are_escaped() -> None:
    done = oak("brief", env={**os.environ, "PYTHONIOENCODING": "ascii", "PYTHONUTF8": "0"})
    assert done.returncode == 0 and done.stdout.isascii() and len(done.stdout) > 1000


def test_a_full_disk_is_said() -> None:
    with open("/dev/full", "wb") as full:
        done = subprocess.run([*OAK, "brief"], stdout=full, stderr=subprocess.PIPE, text=True)
    assert done.returncode == 2 and "the disk is full" in done.stderr and len(done.stderr.splitlines()) == 1


@pytest.mark.parametrize("command", ["brief", "scan rule.rung --signal go --format csv", "symbols", "cache"])
def test_a_reader_that_goes_away_ends_the_command_quietly(command: str) -> None:
    reading, writing = os.pipe()
    os.close(reading)
    done = subprocess.run([*OAK, *command.split()], stdout=writing, stderr=subprocess.PIPE)
    os.close(writing)
    assert (done.returncode, done.stderr) == (141, b"")


def test_names_that_are_no_text_work() -> None:
    bars_file()
    name = b"r\xff.rung"
    os.rename(b"rule.rung", name)
    os.rename(b"bars.csv", b"b\xff.csv")
    done = oak("eval", name, "--csv", b"b\xff.csv", "--out", b"o\xff.csv")
    assert done.returncode == 0, done.stderr
    assert b"o\xff.csv" in os.listdir(b".")
    assert oak("check", name).stdout == b"r\\udcff.rung: no errors\n"
    done = oak("import", b"b\xff.csv", "--library", "mine")
    assert done.returncode == 0 and b"B_" in done.stdout, done.stderr


def test_control_characters_never_reach_the_terminal() -> None:
    name = "a\x1b[31mb\u202ec\r.rung"
    Path(name).write_text("rung 1\nlet x = clsoe\n")
    done = oak("check", name)
    said = (done.stdout + done.stderr).decode()
    assert done.returncode == 1 and "a\\x1b[31mb\\u202ec\\x0d.rung:2:9: R201" in said
    assert "\x1b" not in said and "\u202e" not in said and "\r" not in said


def once_loading(process: subprocess.Popen[bytes]) -> None:
    """Waits until our code has taken Ctrl+C from Python, whose start nothing of ours can guard."""
    caught, deadline = False, time.monotonic() + 30
    while time.monotonic() < deadline and process.poll() is None:
        lines = Path(f"/proc/{process.pid}/status").read_text().splitlines()
        mask = int(next(line.split()[1] for line in lines if line.startswith("SigCgt:")), 16)
        if caught and not mask >> signal.SIGINT - 1 & 1:
            return
        caught = caught or bool(mask >> signal.SIGINT - 1 & 1)
        time.sleep(0.001)


@pytest.mark.parametrize("pause", [0.0, 0.2, 0.8, 1.6])
def test_an_interrupted_picture_ends_without_a_traceback(pause: float) -> None:
    made = subprocess.Popen(
        [*OAK, "shot", "bench", "a.png"],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
        # What starts the tests in the background may have told them to ignore it.
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )
    once_loading(made)
    time.sleep(pause)
    made.send_signal(signal.SIGINT)
    _, err = made.communicate(timeout=30)
    assert made.returncode in (130, -signal.SIGINT) and b"Traceback" not in err and b"Abort" not in err, err


def children_of_nobody(mark: str) -> list[str]:
    """Processes of this environment that still run."""
    made = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdecimal() and int(entry.name) != os.getpid():
            try:
                words = (entry / "environ").read_bytes()
            except OSError:
                continue
            if mark.encode() in words:
                made.append((entry / "cmdline").read_bytes().replace(b"\0", b" ").decode(errors="replace"))
    return made


COMPILES = """
import sys, time
from oakladder.rung import compile_script
lines = "".join(f"let m{k} = sma(close, {k + 3}) + stdev(high, {k + 5}) - linear(low, {k + 7})\\n" for k in range(30))
program = compile_script("rung 1\\n" + lines + "signal go = close > " + " + ".join(f"m{k}" for k in range(30)) + "\\n")
program.variant([program.signal("go").roles["value"]]).lanes(4).ready()
time.sleep(float(sys.argv[1]))
"""


@pytest.mark.parametrize("pause", [0.1, 0.4, 0.8])
def test_a_compilation_in_the_background_ends_with_the_command(home: Path, pause: float) -> None:
    env = {**os.environ, "OAK_TEST": str(home)}
    with open("said.txt", "wb") as said:  # no pipe: who still holds it would keep us waiting
        subprocess.run([sys.executable, "-c", COMPILES, str(pause)], stderr=said, env=env, check=True)
    deadline = time.monotonic() + 1.5  # the compilation itself takes several times as long
    while children_of_nobody(f"OAK_TEST={home}") and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not children_of_nobody(f"OAK_TEST={home}") and Path("said.txt").read_bytes() == b""


SLOWLY = """
import time
from oakladder.cli import main
from oakladder.desk import screenshot as shot

def save(window, app, out, save=shot.save):
    end = time.monotonic() + 2.5
    while time.monotonic() < end:
        app.processEvents()
    save(window, app, out)

shot.save = save
main()
"""


def files_below(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


def test_a_picture_leaves_what_the_window_remembers_as_it_was(home: Path) -> None:
    """However long it takes: what a window writes a moment after it opens is written beside the user's own."""
    window = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    assert oak("shot", "bench", "first.png", env=window).returncode == 0  # the demo market is made here
    bars = home / "data/oakladder/bars"
    (home / "config/oakladder").mkdir(parents=True)
    state = home / "config/oakladder/desk.json"
    state.write_text('{"version": 1, "symbol": "BRINE", "theme": "day", "script": "tide_turn.rung"}')
    before = {k: v for k, v in files_below(home).items() if not (home / k).is_relative_to(bars)}
    call = ["shot", "trial", "-", "--night", "--symbol", "keels", "--script", "quiet_water", "--size", "700x500"]
    done = subprocess.run([sys.executable, "-c", SLOWLY, *call], env=window, capture_output=True)
    assert done.returncode == 0, done.stderr
    assert done.stdout.startswith(b"\x89PNG")
    assert before == {k: v for k, v in files_below(home).items() if not (home / k).is_relative_to(bars)}


def a_checkout(folder: Path, stamp: Path) -> Path:
    """A checkout whose Python says how it is called, made ready for the one at ``stamp``; gives that Python."""
    (folder / ".venv/bin").mkdir(parents=True)
    shutil.copy(Path(__file__).parents[1] / "oak", folder / "oak")
    for name in ("requirements.lock", "pyproject.toml"):
        (folder / name).touch()
    python = folder / ".venv/bin/python"
    python.write_text('#!/bin/sh\necho "$0 $*"\n')
    python.chmod(0o755)
    (folder / ".venv/.ready-app").write_text(f"{stamp}\n")
    return python


def test_called_through_a_link_it_finds_its_environment(tmp_path: Path) -> None:
    checkout, links = tmp_path / "checkout", tmp_path / "bin"
    python = a_checkout(checkout, checkout)
    links.mkdir()
    (links / "middle").symlink_to(checkout / "oak")
    (links / "oak").symlink_to("middle")
    done = subprocess.run([str(links / "oak"), "symbols"], capture_output=True, text=True)
    assert (done.stdout, done.stderr) == (f"{python} -m oakladder symbols\n", "")
    assert sorted(p.name for p in links.iterdir()) == ["middle", "oak"]


def test_a_checkout_that_was_moved_runs_its_own_program(tmp_path: Path) -> None:
    """What was installed points to the folder in which it stood."""
    python = a_checkout(tmp_path / "new", tmp_path / "old")
    calls = [subprocess.run([str(tmp_path / "new/oak"), "symbols"], capture_output=True, text=True) for _ in range(2)]
    assert f"-e {tmp_path / 'new'}" in calls[0].stdout and calls[0].returncode == 0
    assert calls[1].stdout == f"{python} -m oakladder symbols\n"  # and only once
