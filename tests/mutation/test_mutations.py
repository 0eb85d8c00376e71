"""Sixty random small changes to the core each night: the tests notice at least 95 of 100 that mean something."""

from __future__ import annotations

import datetime
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from mutation.changes import Change, changes_of, chosen, is_sound
from mutation.line_tests import LineTests, statement_lines

ROOT = Path(__file__).parents[2]
CORE = ("rung", "bars", "engine", "trial", "intake", "user")
#: How many changes a night, and with which seed: that of the day unless one is given.
COUNT = int(os.environ.get("OAK_MUTATIONS", "60"))
SEED = int(os.environ.get("OAK_MUTATION_SEED", "0")) or int(f"{datetime.date.today():%Y%m%d}")
#: At least this share is noticed.
NOTICED = 0.95
#: A change that makes the tests hang is noticed too.
PATIENCE = 1200


def core_files() -> dict[str, bytes]:
    source = ROOT / "src" / "oakladder"
    return {str(p.relative_to(source)): p.read_bytes() for name in CORE for p in (source / name).rglob("*.py")}


def equivalents() -> set[str]:
    lines = (Path(__file__).parent / "equivalent.txt").read_text(encoding="utf-8").splitlines()
    return {line.rpartition(" | ")[0] for line in lines if line and line[0] != "#"}


def near_tests(name: str) -> list[str]:
    """The tests that are the likeliest to notice a change of a file: those of the core that import it, or stand in the
    innermost folder of its name."""
    part, *inner = Path(name).parts[:-1]
    module = ".".join(["oakladder", *Path(name).with_suffix("").parts]).removesuffix(".__init__")
    every = (p for folder in CORE for p in (ROOT / "tests" / folder).rglob("test_*.py"))
    near = [p for p in sorted(every) if f"from {module} import" in p.read_text()]
    folders = [Path("tests", part, *inner[:k]) for k in range(len(inner), -1, -1)]
    return [str(p.relative_to(ROOT)) for p in near] or [str(f) for f in folders if (ROOT / f).is_dir()][:1]


def stages(lines: LineTests, name: str, line: int) -> list[list[str]]:
    """What a change of a line runs, one after the other: the tests near it, then all others that run the line; where none
    does, as with tables that are made on import, all of its part of the core."""
    near = near_tests(name)
    others = [test for test in lines.of(name, line) if not test.startswith(tuple(near))]
    if not others:
        whole = [str(Path("tests", Path(name).parts[0]))]
        return [near] if near == whole else [near, whole]
    return [near, others]


def trouble(copy: Path, tests: list[str]) -> str:
    """What tests say in a copy where one fails; empty where they pass. Raises `AssertionError` where they could not be run
    at all."""
    env = os.environ | {"PYTHONPATH": str(copy / "src"), "QT_QPA_PLATFORM": "offscreen", "PYTHONDONTWRITEBYTECODE": "1"}
    (copy / "asked.txt").write_text("\n".join(tests), encoding="utf-8")  # thousands are too many for a command line
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-n", "2", "-p", "no:cacheprovider", "@asked.txt"]
    try:
        done = subprocess.run(command, cwd=copy, env=env, capture_output=True, text=True, timeout=PATIENCE, check=False)
    except subprocess.TimeoutExpired:
        return "they take too long"
    assert done.returncode in (0, 1, 2), done.stdout + done.stderr  # 2: a file cannot be imported with the change
    return done.stdout[-3000:] if done.returncode else ""


def is_noticed(copy: Path, lines: LineTests, name: str, change: Change) -> bool:
    """Whether tests that run a line fail with a change of it."""
    todo = stages(lines, name, change.line)
    path = copy / "src" / "oakladder" / name
    source = path.read_bytes()
    path.write_bytes(change.applied(source))
    try:
        return any(trouble(copy, tests) for tests in todo)
    finally:
        path.write_bytes(source)


@pytest.mark.nightly
def test_the_tests_notice_small_changes(tmp_path: Path, told: Callable[[str], None]) -> None:
    copy = tmp_path / "copy"
    for folder in ("src", "tests", "docs"):
        shutil.copytree(ROOT / folder, copy / folder, ignore=shutil.ignore_patterns("__pycache__"))
    for name in ("pyproject.toml", "README.md", "CONTRIBUTING.md", "oak"):
        shutil.copy(ROOT / name, copy / name)
    sources, known = core_files(), equivalents()
    unnoticed, tried = [], 0
    changes = chosen(sources, COUNT, SEED)
    parts = sorted({str(Path("tests", Path(name).parts[0])) for name, _ in changes})
    lines = LineTests(copy)
    assert not (said := trouble(copy, parts)), f"they fail without any change: {said}"
    for name, change in changes:
        words = f"{name} | {change.words(sources[name])}"
        if words in known:
            continue
        tried += 1
        if not is_noticed(copy, lines, name, change):
            unnoticed.append(f"{words} (line {change.line})")
    told(f"mutations: seed {SEED}, {tried} tried, {tried - len(unnoticed)} noticed")
    for words in unnoticed:
        told(f"  not noticed: {words}")
    assert len(unnoticed) <= (1 - NOTICED) * tried, "\n".join(unnoticed)


def test_changes_are_sound_and_change_one_place() -> None:
    source = b'''def f(a, b):
    """Says nothing."""
    if a < b and not a:
        return (a + 1) * -b
    return a if b == 2 else b  # a == b
'''
    assert all(is_sound(c.applied(source)) for c in changes_of(source))
    found = {c.words(source) for c in changes_of(source)}
    assert found == {
        "if a < b and not a:  =>  if a <= b and not a:",
        "if a < b and not a:  =>  if a < b or not a:",
        "if a < b and not a:  =>  if a < b and a:",
        "return (a + 1) * -b  =>  return (a - 1) * -b",
        "return (a + 1) * -b  =>  return (a + 2) * -b",
        "return (a + 1) * -b  =>  return (a + 1) / -b",
        "return (a + 1) * -b  =>  return (a + 1) * b",
        "return a if b == 2 else b  # a == b  =>  return a if b != 2 else b  # a == b",
        "return a if b == 2 else b  # a == b  =>  return a if b == 3 else b  # a == b",
        "return a if b == 2 else b  # a == b  =>  return (b) if b == 2 else b  # a == b",
    }


def test_a_line_belongs_to_its_innermost_statement() -> None:
    source = "def f(\n    a,\n):\n    if a:\n        return g(\n            a\n        )\n    return 1\n"
    assert [statement_lines(source, k) for k in (2, 4, 6, 8)] == [(1, 3), (4, 4), (5, 7), (8, 8)]


def test_there_are_changes_all_over_the_core() -> None:
    found = chosen(core_files(), 150, 1)
    assert {name.partition("/")[0] for name, _ in found} == set(CORE) and len({name for name, _ in found}) > 70
