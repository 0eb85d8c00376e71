"""Which tests run a line: found by running all of them once, each as a context of its own."""

from __future__ import annotations

import ast
import os
import subprocess
import sys
from pathlib import Path

from coverage import CoverageData

#: What says nothing of single lines: runs of whole programs for long, checks of texts, and these tests themselves.
_LEFT_OUT = ("tests/mutation", "tests/faults", "tests/test_house.py", "tests/test_speed.py", "tests/test_docs.py")


class LineTests:
    """The tests that run each line of a copy of the project, by one run of all tests."""

    def __init__(self, copy: Path):
        self._source = copy / "src" / "oakladder"
        env = os.environ | {"PYTHONPATH": str(copy / "src"), "QT_QPA_PLATFORM": "offscreen"}
        command = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-n", "2"]
        command += ["--cov=oakladder", "--cov-context=test", "--cov-report="]
        command += [f"--ignore={name}" for name in _LEFT_OUT]
        # A test that fails since it is slower so still tells which lines it ran.
        done = subprocess.run(command, cwd=copy, env=env, capture_output=True, text=True, check=False)
        self._data = CoverageData(str(copy / ".coverage"))
        self._data.read()
        assert self._data.measured_files(), done.stdout[-3000:] + done.stderr[-3000:]

    def of(self, name: str, line: int) -> list[str]:
        """The tests that run the statement of a file (by its path below the source) that a line belongs to, in order."""
        path = self._source / name
        first, last = statement_lines(path.read_text(encoding="utf-8"), line)
        contexts = self._data.contexts_by_lineno(str(path))
        found = {c.partition("|")[0] for k in range(first, last + 1) for c in contexts.get(k, ())}
        return sorted(found - {""})


def statement_lines(source: str, line: int) -> tuple[int, int]:
    """The lines of the innermost statement that a line belongs to; of a block its head alone."""
    found = []
    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.stmt):
            body = getattr(node, "body", None)
            last = max(body[0].lineno - 1, node.lineno) if body else node.end_lineno or node.lineno
            if node.lineno <= line <= last:
                found.append((node.lineno, last))
    return max(found, default=(line, line))  # the innermost begins last
