"""What the tests share: an offscreen screen and a demo market."""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_CACHE_HOME"] = str(Path(tempfile.gettempdir()) / "oakladder-test-cache")
os.environ["XDG_STATE_HOME"] = str(Path(tempfile.gettempdir()) / "oakladder-test-state")

import pytest

from helpers import Tune
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_MINUTE
from oakladder.cli import call as call_program
from oakladder.demo import upkeep
from oakladder.locks import locked
from oakladder.tuning import tuned
from oakladder.user.workspace import Workspace


@pytest.fixture(scope="session")
def market(tmp_path_factory: pytest.TempPathFactory, worker_id: str) -> BarLibrary:
    """The demo market, made once for all workers; tests only read it."""
    base = tmp_path_factory.getbasetemp()
    folder = (base if worker_id == "master" else base.parent) / "market"
    with locked(folder.with_name("market.lock")):
        library = BarLibrary(folder)
        upkeep.prepare(library)
    return library


@pytest.fixture(scope="session")
def market_copies(market: BarLibrary) -> Callable[[Path], None]:
    """Copies the demo market, with its minutes, for tests that write into it."""
    with locked(market.folder.with_name("minutes.lock")):
        for symbol in market.infos:
            market.last_stored(symbol, ONE_MINUTE)

    def copy(source: str, target: str) -> object:
        with contextlib.suppress(FileNotFoundError):  # what another worker is just writing
            return shutil.copy2(source, target)
        return target

    ignored = shutil.ignore_patterns("*.partial", "*.lock", "*-journal")
    return lambda folder: shutil.copytree(market.folder, folder, ignore=ignored, copy_function=copy)


@pytest.fixture
def workspace(tmp_path: Path, market: BarLibrary) -> Workspace:
    """Fresh folders whose bar library is the shared demo market."""
    made = Workspace(tmp_path / "data", tmp_path / "config")
    made.data.mkdir()
    (made.data / "bars").symlink_to(market.folder)
    return made


@pytest.fixture
def call(workspace: Workspace, market: BarLibrary, monkeypatch: pytest.MonkeyPatch, tmp_path: Path, capsys):  # type: ignore[no-untyped-def]
    """Calls the program as a user would; gives its exit code and what it said."""
    monkeypatch.setattr(Workspace, "library", lambda self: market)
    monkeypatch.setattr(Workspace, "default", classmethod(lambda cls: workspace))
    monkeypatch.chdir(tmp_path)

    def go(*words: str) -> tuple[int, str, str]:
        try:
            code = call_program(words)
        except SystemExit as left:  # argparse leaves by itself where it cannot read the call
            code = int(left.code or 0)
        said = capsys.readouterr()
        return code, said.out, said.err

    return go


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Prints what the fault suite has tried and measured."""
    reports = [r for kind in ("passed", "failed") for r in terminalreporter.stats.get(kind, [])]
    sentences = [text for r in reports for key, text in getattr(r, "user_properties", []) if key == "faults"]
    if sentences:
        terminalreporter.section("faults")
        for sentence in sentences:
            terminalreporter.write_line(str(sentence))


@pytest.fixture
def tune() -> Iterator[Tune]:
    """Sets values of `oakladder.tuning` until the test ends."""
    with contextlib.ExitStack() as until_the_end:

        def use(**values: float) -> None:
            until_the_end.enter_context(tuned(**values))

        yield use


@pytest.fixture
def told(record_property: Callable[[str, object], None]) -> Callable[[str], None]:
    """Takes a sentence with numbers for the end of the run."""
    return lambda sentence: record_property("faults", sentence)
