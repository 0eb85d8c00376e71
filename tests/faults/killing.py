"""Processes that are killed at a random moment."""

from __future__ import annotations

import random
import signal
import subprocess
import sys
import time
from pathlib import Path


def killed(code: str, *arguments: object, longest: float, seed: int) -> bool:
    """Runs some code, which prints a line when it begins, and kills it at a random moment up to ``longest`` seconds
    after; False where it had come to its end before."""
    process = subprocess.Popen(
        [sys.executable, "-c", code, *map(str, arguments)], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    assert process.stdout is not None and process.stderr is not None
    begun = process.stdout.readline()
    time.sleep(random.Random(seed).random() * longest)
    process.send_signal(signal.SIGKILL)
    said = process.stderr.read()
    ended = process.wait()
    assert begun and (ended == -signal.SIGKILL or not said), said
    return ended == -signal.SIGKILL


def run(code: str, *arguments: object) -> str:
    """Runs some code to its end; gives what it printed."""
    made = subprocess.run(
        [sys.executable, "-c", code, *map(str, arguments)], capture_output=True, text=True, timeout=120, check=False
    )
    assert made.returncode == 0, made.stderr
    return made.stdout


def write_days(path: Path, first: int, count: int, close: float) -> None:
    """A CSV file of daily bars, all alike but for their days."""
    rows = "".join(f"{_day(first + k)},{close},{close + 1},{close - 1},{close},{100 + k}\n" for k in range(count))
    path.write_text("date,open,high,low,close,volume\n" + rows)


def _day(k: int) -> str:
    from datetime import date, timedelta

    return str(date(2015, 1, 1) + timedelta(days=k))
