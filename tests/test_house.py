"""The shape of the house: files that are found by their names and read in one go, and rules that ruff does not know.

Which way imports run is said in `pyproject.toml` and held by import-linter.
"""

from __future__ import annotations

import ast
import os
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src" / "oakladder"
FILES = sorted(SOURCE.rglob("*.py"))
#: A file has one job. Groups of definitions that use nothing of one another are signs of several: so many are borne with,
#: as tables and small helpers of one kind have no need of one another.
MOST_JOBS = 5
#: Beyond so many lines no file is read in one go, whatever its job.
LONGEST = 600


def jobs_of(source: str) -> list[set[str]]:
    """The groups of top-level functions and classes of a file, each with what it uses of the others."""
    made: dict[str, ast.stmt] = {}
    for node in ast.parse(source).body:
        if isinstance(node, ast.FunctionDef | ast.ClassDef):
            made[node.name] = node
        elif isinstance(node, ast.Assign | ast.AnnAssign):
            targets = node.targets if isinstance(node, ast.Assign) else [node.target]
            made.update({t.id: node for t in targets if isinstance(t, ast.Name)})
    groups = {name: {name} for name in made}
    for name, node in made.items():
        for inner in ast.walk(node):
            used = inner.id if isinstance(inner, ast.Name) else inner.value if isinstance(inner, ast.Constant) else None
            if isinstance(used, str) and used in made and groups[used] is not groups[name]:
                groups[name] |= groups[used]
                for member in groups[name]:
                    groups[member] = groups[name]
    real = {n for n, node in made.items() if isinstance(node, ast.FunctionDef | ast.ClassDef)}
    return [set(g) for g in {frozenset(g) for g in groups.values()} if g & real]


def test_a_file_has_one_job_and_is_read_in_one_go() -> None:
    texts = {str(p.relative_to(SOURCE)): p.read_text(encoding="utf-8") for p in FILES}
    assert {n: found for n, t in texts.items() if len(found := jobs_of(t)) > MOST_JOBS} == {}
    assert {n: count for n, t in texts.items() if (count := len(t.splitlines())) > LONGEST} == {}


def test_jobs_are_what_uses_one_another() -> None:
    source = "A = 1\ndef f(): return A\nclass G:\n    x: 'H'\nclass H: pass\ndef alone(): pass\nB = 2\n"
    assert sorted(map(sorted, jobs_of(source))) == [["A", "f"], ["G", "H"], ["alone"]]


def test_a_file_says_what_it_is_for() -> None:
    trees = {path: ast.parse(path.read_text(encoding="utf-8")) for path in FILES}
    assert [str(path) for path, tree in trees.items() if tree.body and not ast.get_docstring(tree)] == []


_DTYPE = re.compile(r"\b(float64|int64|u?int8|uint32|bool|dtype)\b", re.IGNORECASE)


def _public_functions(body: list[ast.stmt]) -> Iterator[ast.FunctionDef]:
    for node in body:
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
            yield from _public_functions(node.body)
        elif isinstance(node, ast.FunctionDef) and not node.name.startswith("_"):
            yield node


def test_public_functions_say_the_shape_and_dtype_of_their_arrays() -> None:
    silent = []
    for path in FILES:
        for function in _public_functions(ast.parse(path.read_text(encoding="utf-8")).body):
            notes = [a.annotation for a in (*function.args.args, *function.args.kwonlyargs)] + [function.returns]
            if any("ndarray" in ast.unparse(note) for note in notes if note is not None):
                told = ast.get_docstring(function) or ""
                if not _DTYPE.search(told) or "shape" not in told.lower():
                    silent.append(f"{path.relative_to(SOURCE)}: {function.name}")
    assert silent == []


#: Words of our own that stood for what the field has names for; see the words of the style guide.
_OLD = re.compile(
    r"Case|Cut|Deeds|Fates|Fold|Fresh|Glance|Ground|Judge|Keeper|Keeping|Kept|Lack|Looking|"
    r"Plain|Relay|Room|Shelf|Sin|States|Sweeper|Work|Workshop|allocator|amend|aside|at_once|"
    r"carry_out|chain|chance|cut|discount|elsewhere|fates|figures|freed|go_through|handing|"
    r"held|impossible|longer|meant|own|pips|put_on_trial|relay|rooms|shelf|shells|slips|"
    r"summing|tame|traps"
)


def test_modules_classes_and_functions_have_the_names_of_the_field() -> None:
    found = {str(p.relative_to(SOURCE)) for p in FILES if _OLD.fullmatch(p.stem)}
    for path in FILES:
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ClassDef | ast.FunctionDef) and _OLD.fullmatch(node.name):
                found.add(f"{path.relative_to(SOURCE)}: {node.name}")
    assert found == set()


#: What starts threads and processes, and the files that may: the service itself, a script that runs by itself, and
#: measurements of whole processes.
_STARTERS = {
    "Thread",
    "ThreadPoolExecutor",
    "ProcessPoolExecutor",
    "Process",
    "Popen",
    "QThread",
    "QProcess",
    "run_in_executor",
}
_MAY_START = {"work.py", "rung/native/objects.py"}


def test_threads_and_processes_are_started_in_one_place() -> None:
    found = set()
    for path in FILES:
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call):
                name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
                module = getattr(getattr(node.func, "value", None), "id", "")
                if name in _STARTERS or (module == "subprocess" and not path.is_relative_to(SOURCE / "speed")):
                    found.add(str(path.relative_to(SOURCE)))
    assert found == _MAY_START


def test_the_core_and_the_command_line_run_without_qt() -> None:
    code = "import sys; from oakladder.cli import command_line; command_line(); raise SystemExit(any(m.startswith('PyQt6') for m in sys.modules))"
    assert subprocess.run([sys.executable, "-c", code]).returncode == 0


def test_the_controllers_know_no_widgets() -> None:
    for path in (SOURCE / "app").rglob("*.py"):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        taken = {n.module for n in ast.walk(tree) if isinstance(n, ast.ImportFrom) and n.module}
        assert {m for m in taken if m.startswith("PyQt6")} <= {"PyQt6.QtCore"}, path.name


def test_the_window_stands_before_what_only_judging_needs_is_loaded() -> None:
    code = "import sys, oakladder.desk.window; raise SystemExit(any(m.partition('.')[0] in ('scipy', 'distributed', 'dask') for m in sys.modules))"
    assert (
        subprocess.run([sys.executable, "-c", code], env={**os.environ, "QT_QPA_PLATFORM": "offscreen"}).returncode == 0
    )


def test_every_action_has_words_a_shortcut_of_its_own_and_a_method() -> None:
    from oakladder.app.actions import ACTIONS
    from oakladder.desk.bench.chart_commands import ChartCommands
    from oakladder.desk.bench.place import Bench
    from oakladder.desk.script.panel import ScriptPanel
    from oakladder.desk.trial.place import TrialPlace
    from oakladder.desk.window import Window

    shortcuts = [a.shortcut for a in ACTIONS if a.shortcut]
    assert len(set(shortcuts)) == len(shortcuts)
    assert len({a.words for a in ACTIONS}) == len(ACTIONS)
    owners = {"window": Window, "bench": Bench, "chart": ChartCommands, "script": ScriptPanel, "trial": TrialPlace}
    for action in ACTIONS:
        assert action.words and callable(getattr(owners[action.by], action.name))


#: Parts of widgets that Qt makes itself. Python keeps nothing of them, so that a lambda which holds one and is
#: connected to it is a circle that Python frees while Qt still calls it.
MADE_BY_QT = {"horizontalHeader", "verticalHeader", "header", "lineEdit", "selectionModel", "viewport", "document"}


def test_no_lambda_holds_a_part_that_qt_made() -> None:
    for path in (SOURCE / "desk").rglob("*.py"):
        for function in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if not isinstance(function, ast.FunctionDef):
                continue
            made: set[str] = set()
            for node in ast.walk(function):
                if isinstance(node, ast.Assign):
                    pairs = zip(
                        *(n.elts if isinstance(n, ast.Tuple) else [n] for n in (node.targets[0], node.value)),
                        strict=False,
                    )
                    for target, value in pairs:
                        call = value.func if isinstance(value, ast.Call) else None
                        if isinstance(target, ast.Name) and isinstance(call, ast.Attribute) and call.attr in MADE_BY_QT:
                            made.add(target.id)
            for node in ast.walk(function):
                if isinstance(node, ast.Lambda):
                    held = {n.id for n in ast.walk(node.body) if isinstance(n, ast.Name)} & made
                    assert not held, f"{path.name}: a lambda in {function.name} holds {held}"
