"""The shape of the house: imports run one way, and only the desk knows of Qt."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "oakladder"
#: Folder → what it may import of ours. ``bench`` measures everything and may see everything.
MAY_IMPORT = {
    "rung": {"rung", "disk"},
    "bars": {"bars", "disk"},
    "demo": {"demo", "bars", "disk"},
    "intake": {"intake", "bars", "disk"},
    "engine": {"engine", "rung", "bars"},
    "trial": {"trial", "engine", "rung", "bars"},
    "user": {"user", "demo", "engine", "rung", "bars", "disk"},
    "desk": {"desk", "user", "trial", "engine", "intake", "demo", "rung", "bars", "disk", "log"},
}


def imports_of(path: Path) -> set[str]:
    """Every module that a file imports, relative ones by their whole names."""
    package = ["oakladder", *path.relative_to(SOURCE).parent.parts]
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            above = package[: len(package) - node.level + 1] if node.level else []
            module = ".".join([*above, *([node.module] if node.module else [])])
            found |= {module} | {f"{module}.{alias.name}" for alias in node.names}
    return found


@pytest.mark.parametrize("folder", MAY_IMPORT)
def test_imports_run_one_way(folder: str) -> None:
    for path in (SOURCE / folder).rglob("*.py"):
        for name in imports_of(path):
            parts = name.split(".")
            if parts[0] == "oakladder" and len(parts) > 1:
                assert parts[1] in MAY_IMPORT[folder], f"{path.name} imports {name}"
            if parts[0] in ("PyQt6", "pyqtgraph"):
                assert folder == "desk", f"{path.name} imports {name}"


def test_the_core_and_the_command_line_run_without_qt() -> None:
    code = "import sys, oakladder.cli; raise SystemExit(any(m.startswith(('PyQt6', 'pyqtgraph')) for m in sys.modules))"
    assert subprocess.run([sys.executable, "-c", code]).returncode == 0


def test_every_action_has_words_a_shortcut_of_its_own_and_a_method() -> None:
    from oakladder.desk.actions import ACTIONS
    from oakladder.desk.bench.chart_actions import Deeds
    from oakladder.desk.script.panel import ScriptPanel
    from oakladder.desk.window import Window

    shortcuts = [a.shortcut for a in ACTIONS if a.shortcut]
    assert len(set(shortcuts)) == len(shortcuts)
    assert len({a.words for a in ACTIONS}) == len(ACTIONS)
    owners = {"window": Window, "chart": Deeds, "script": ScriptPanel}
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
