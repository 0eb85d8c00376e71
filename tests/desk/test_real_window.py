"""One run in a real window, on a virtual screen."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest


@pytest.mark.skipif(shutil.which("Xvfb") is None, reason="Xvfb is not installed; ./oak test installs it")
def test_a_picture_is_taken_from_a_real_window(tmp_path: Path) -> None:
    number = 90 + os.getpid() % 400
    screen = subprocess.Popen(["Xvfb", f":{number}", "-screen", "0", "1400x900x24"], stderr=subprocess.DEVNULL)
    try:
        environment = {
            **os.environ,
            "DISPLAY": f":{number}",
            "QT_QPA_PLATFORM": "xcb",
            "XDG_DATA_HOME": str(tmp_path),
            "XDG_CONFIG_HOME": str(tmp_path / "config"),
        }
        made = subprocess.run(
            [sys.executable, "-m", "oakladder", "shot", "bench", str(tmp_path / "bench.png")],
            env=environment,
            capture_output=True,
            text=True,
            timeout=120,
        )
        assert made.returncode == 0, made.stderr
        assert (tmp_path / "bench.png").stat().st_size > 50_000
    finally:
        screen.terminate()
        screen.wait()
