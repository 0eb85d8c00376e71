"""A trial as files: its trades and curve as CSV, the report as one page or as PDF."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from oakladder.app.jobs import Jobs
from oakladder.desk.trial.printing import PICTURE, print_page
from oakladder.disk import write_atomic, write_rows
from oakladder.file_names import safe_name
from oakladder.trial.page import curve_drawing, html_page
from oakladder.trial.report import equity_table, trades_table
from oakladder.trial.trial import Trial

#: A printed report lists so many trades at most.
_MOST_PRINTED = 400


def write_pdf(trial: Trial, path: Path, title: str) -> None:
    """Prints the report into a PDF file. Raises `OSError`."""
    page = html_page(trial, title, most_trades=_MOST_PRINTED, curve=f'<img src="{PICTURE}" width="720">')
    print_page(page, curve_drawing(trial), path)


#: What can be saved: the words of the menu, the ending, and what writes it.
EXPORTS: tuple[tuple[str, str, Callable[[Trial, Path, str], None]], ...] = (
    ("Trades as CSV …", ".csv", lambda trial, path, _: write_rows(path, trades_table(trial))),
    ("Equity as CSV …", ".csv", lambda trial, path, _: write_rows(path, equity_table(trial))),
    ("Report as HTML …", ".html", lambda trial, path, title: write_atomic(path, html_page(trial, title))),
    ("Report as PDF …", ".pdf", write_pdf),
)


def export(trial: Trial, k: int, title: str, parent: QWidget, jobs: Jobs, tell: Callable[[str], None]) -> None:
    """Asks for a file and writes it in the background; ``title`` names a rule without a title."""
    words, ending, write = EXPORTS[k]
    stem = safe_name(f"{trial.program.title or title} {words.split()[0].lower()}")
    name, _ = QFileDialog.getSaveFileName(parent, words.removesuffix(" …"), f"{stem}{ending}", f"*{ending}")
    if name:
        path = Path(name) if Path(name).suffix else Path(name + ending)
        done = f"{path} is written."
        jobs.start("export trial", lambda _: write(trial, path, title), lambda _: tell(done), owed=True)
