"""What goes wrong while a widget paints itself is told, and brings nothing down."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import oakladder.desk

#: Widgets whose painting fails, one after the other, each gone before the next.
TORN = """
import sys
from PyQt6 import sip
from PyQt6.QtGui import QPainter
from oakladder.desk.app import make_app
from oakladder.desk.look.painted_widget import PaintedWidget as Painted

class Torn(Painted):
    def paint(self, painter: QPainter) -> None:
        painter.drawLine(0, 0, 9, 9)
        raise ValueError(f"torn {self.objectName()}")

app = make_app()
sys.excepthook = lambda kind, error, trace: print(error)
for k in range(3):
    torn = Torn(objectName=str(k))
    torn.resize(40, 40)
    torn.show()
    app.processEvents()
    sip.delete(torn)
    del torn
print("alive", flush=True)
"""


def test_an_error_while_painting_is_told_and_brings_nothing_down() -> None:
    made = subprocess.run(
        [sys.executable, "-c", TORN],
        capture_output=True,
        text=True,
        env=os.environ | {"QT_QPA_PLATFORM": "offscreen", "PYTHONPATH": os.pathsep.join(filter(None, sys.path))},
        timeout=60,
    )
    assert made.stdout.split("\n")[-2] == "alive" and made.returncode == 0, made.stderr
    assert all(f"torn {k}" in made.stdout for k in range(3)) and "active painter" not in made.stderr


def test_every_painter_is_ended_where_it_was_made() -> None:
    for path in Path(*oakladder.desk.__path__).rglob("*.py"):
        for line in path.read_text().splitlines():
            if re.search(r"\bQPainter\(\w", line):
                assert line.strip().startswith("with QPainter("), f"{path.name}: {line.strip()}"
