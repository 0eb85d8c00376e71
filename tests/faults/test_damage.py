"""Every kind of file that the program writes is damaged in every way: it starts, says so, loses nothing else."""

from __future__ import annotations

import copy
import gc
import json
import random
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from helpers import daily_bars
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY
from oakladder.demo import upkeep
from oakladder.desk.app import make_app, make_window
from oakladder.desk.screenshot import settle
from oakladder.trial.batch.task import Tried
from oakladder.trial.notebook import Remark, Swept, what_of
from oakladder.trial.spec import TrialSpec
from oakladder.trial.sweep.ranges import Range
from oakladder.user.scans import SavedScan
from oakladder.user.workspace import Workspace
from windows import put_away

_SYMBOLS = ("AFLOAT", "BUOY", "CABLE")


def _flip(raw: bytes, random_: random.Random) -> bytes:
    made = bytearray(raw or b"\0")
    for _ in range(8):
        made[random_.randrange(len(made))] ^= 1 << random_.randrange(8)
    return bytes(made)


#: What is done to a file's bytes; None takes the file away.
DAMAGES: dict[str, Callable[[bytes, random.Random], bytes | None]] = {
    "missing": lambda raw, r: None,
    "empty": lambda raw, r: b"",
    "cut": lambda raw, r: raw[: len(raw) // 2],
    "flipped": _flip,
    "noise": lambda raw, r: r.randbytes(max(len(raw), 64)),
    "zeros": lambda raw, r: bytes(len(raw)),
    "a list": lambda raw, r: b"[1, [2, {}]]",
    "deep": lambda raw, r: b"[" * 100_000,
    "odd json": lambda raw, r: b'{"version": 99, "symbol": [1], "lists": {"a": 3}, "scans": 7, "theme": null}',
}


def space_at(root: Path) -> Workspace:
    return Workspace(root / "data", root / "config")


@pytest.fixture(scope="module")
def lived(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The folders of somebody who has used everything: bars, lists, scans, scripts, versions, an unsaved text."""
    root = tmp_path_factory.mktemp("lived")
    patch = pytest.MonkeyPatch()
    patch.setattr(upkeep, "prepare", lambda library: None)
    space = space_at(root)
    library = space.library()
    for k, symbol in enumerate(_SYMBOLS):
        info = SymbolInfo(symbol, symbol.title(), "Mine", "share", 0.01, Calendar())
        library.write(daily_bars(10.0 + k + np.sin(np.arange(300.0) / 9), symbol), info)
    library.settle()
    space.lists().make("Mine", _SYMBOLS)
    space.scans().save(SavedScan("Dips"))
    window = make_window(space)
    window.show()
    settle(make_app(), window.session)
    for place in (window.show_ladder, window.show_scan, window.show_data, window.show_alerts, window.show_bench):
        place()
        settle(make_app(), window.session)
    books, rule = space.notebooks(), window.session.notebook.rule
    books.add(rule, Remark(1.0, "a note"))
    books.keep_sweep(
        rule, what_of(TrialSpec("rung 1\n")), [Range("n", (1.0, 2.0))], [Tried({"n": 1.0}, {"sharpe": 1.0})]
    )
    books.add("another", Remark(1.0, "a note"))
    window.bench.script.editor.append("\n-- a first\n")
    window.session.script.save()
    window.bench.script.editor.append("-- a second\n")
    QTest.qWait(120)
    journal = shutil.copytree(root / "data" / "journal", root / "journal")
    put_away(window)
    shutil.rmtree(root / "data" / "journal")
    journal.rename(root / "data" / "journal")  # as if it had been killed
    patch.undo()
    return root


def kinds_of(root: Path) -> dict[str, Path]:
    """One file of each kind, by its folder and ending."""
    made: dict[str, Path] = {}
    for path in sorted(p for p in root.rglob("*") if p.is_file() and not p.is_symlink()):
        at = path.relative_to(root)
        name = at.name if at.suffix not in (".rung", ".arrow") else f"*{at.suffix}"
        made.setdefault(f"{'/'.join(at.parts[:2][:-1] if len(at.parts) == 2 else at.parts[:2])}/{name}", path)
    return made


@pytest.fixture
def still(monkeypatch: pytest.MonkeyPatch, qapp: QApplication) -> Iterator[None]:
    monkeypatch.setattr(upkeep, "prepare", lambda library: None)
    yield
    gc.collect()


def lives_on(root: Path, hit: Path) -> None:
    """Opens the window over damaged folders, uses it, and looks whether all else is as it was."""
    space, app = space_at(root), make_app()
    window = make_window(space)
    window.show()
    settle(app, window.session)
    for place in (window.show_ladder, window.show_scan, window.show_bench):
        place()
        settle(app, window.session)
    window.show_trial()
    for view in (window.trial.show_notebook, window.trial.show_sweep):
        view()
        settle(app, window.session)
    window.show_bench()
    if "notebooks" not in hit.parts:
        book = window.session.notebook.book
        # What was written is there once; a slow machine shows the trial long enough for it to be noted as well.
        assert [type(e) for e in book.entries if isinstance(e, Remark | Swept)] == [Remark, Swept]
        assert sum("('n', '1')" in key for key in book.tries) == 1
    if "another" not in hit.parts:
        assert len(space.notebooks().read("another").entries) == 1
    editor = window.bench.script.editor
    editor.setFocus()
    QTest.keyClicks(editor, "-- on ")
    settle(app, window.session)
    assert window.session.script.save() == [] or window.session.script.theirs is not None
    assert not any("went wrong" in s for s in window.status.said), window.status.said
    library = window.session.library
    whole = [s for s in _SYMBOLS if not hit.name.upper().startswith(s)]
    assert all(len(library.bars(s, ONE_DAY)) == 300 for s in whole)
    if hit.name != "watchlists.json":
        assert window.session.lists.user_lists["Mine"].symbols == list(_SYMBOLS)
    if hit.name != "scans.json":
        assert "Dips" in window.session.scans.scans
    put_away(window)


def test_some_damage_to_some_files(lived: Path, tmp_path: Path, still: None, told: Callable[[str], None]) -> None:
    chosen = random.Random(4)
    kinds = kinds_of(lived)
    assert {"config/watchlists.json", "config/scans.json", "config/desk.json"} <= set(kinds), sorted(kinds)
    tried = [(k, chosen.choice(list(DAMAGES))) for k in chosen.sample(sorted(kinds), 3)]
    hit_all(lived, tmp_path, tried)
    told(f"damaged files: {len(tried)} tries, {len(kinds)} kinds known, 0 failures")


@pytest.mark.nightly
def test_all_damage_to_all_kinds_of_files(
    lived: Path, tmp_path: Path, still: None, told: Callable[[str], None]
) -> None:
    kinds = kinds_of(lived)
    tried = [(kind, damage) for kind in kinds for damage in DAMAGES] * 2
    hit_all(lived, tmp_path, tried)
    told(f"damaged files: {len(tried)} tries on {len(kinds)} kinds ({', '.join(sorted(kinds))}), 0 failures")


def hit_all(lived: Path, tmp_path: Path, tried: list[tuple[str, str]]) -> None:
    for k, (kind, damage) in enumerate(tried):
        root = shutil.copytree(lived, tmp_path / str(k), symlinks=True)
        path = root / kinds_of(lived)[kind].relative_to(lived)
        made = DAMAGES[damage](path.read_bytes(), random.Random(k))
        if made is None:
            path.unlink()
        else:
            path.write_bytes(made)
        try:
            lives_on(root, path)
        except BaseException:
            print(f"{kind}: {damage} ({k})")
            raise
        shutil.rmtree(root)


_ODD: tuple[object, ...] = (
    None,
    True,
    -1,
    0,
    1e308,
    2**70,
    "",
    "x" * 5000,
    "\u202e\x00",
    [],
    [[]],
    {},
    {"a": [1]},
    "1d",
    "-5m",
)


def _disturbed(value: object, chosen: random.Random, share: float) -> object:
    """The same with some of its parts replaced by anything."""
    if chosen.random() < share:
        return copy.deepcopy(chosen.choice(_ODD))
    if isinstance(value, dict):
        made = {k: _disturbed(v, chosen, share) for k, v in value.items()}
        return made | ({str(chosen.choice(_ODD)): 1} if chosen.random() < share else {})
    if isinstance(value, list):
        return [_disturbed(v, chosen, share) for v in value] * chosen.choice((1, 1, 1, 30))
    return value


@pytest.mark.parametrize(
    "times", [pytest.param(2, id="short"), pytest.param(120, id="long", marks=pytest.mark.nightly)]
)
def test_any_remembered_state_opens_every_place(
    lived: Path, tmp_path: Path, still: None, told: Callable[[str], None], times: int
) -> None:
    for k in range(times):
        root, chosen = shutil.copytree(lived, tmp_path / str(k), symlinks=True), random.Random(k)
        for name in ("desk.json", "watchlists.json", "scans.json"):
            path = root / "config" / name
            state = json.loads(path.read_text())
            kept = [x for x in state.get("lists", state.get("scans", [])) if isinstance(x, dict)]
            made = _disturbed(state, chosen, 0.12)
            if kept and not isinstance(made, dict):
                made = state
            if isinstance(made, dict) and kept:  # one entry stays whole, so that it must still be there
                made["version"], made["lists" if "lists" in state else "scans"] = (
                    1,
                    [*kept, copy.deepcopy(chosen.choice(_ODD))],
                )
            path.write_text(json.dumps(made))
        lives_on(root, root / "config" / "desk.json")
        shutil.rmtree(root)
    told(f"odd states: {times} tries, 0 failures")
