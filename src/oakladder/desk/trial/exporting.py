"""A trial as files: its trades and curve as CSV, the report as one page or as PDF."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QMarginsF, QSizeF
from PyQt6.QtGui import QPageLayout, QPageSize, QTextDocument
from PyQt6.QtPrintSupport import QPrinter
from PyQt6.QtWidgets import QFileDialog, QWidget

from oakladder.desk.jobs import Jobs
from oakladder.disk import replacing, safe_name, write_atomic, write_rows
from oakladder.trial.page import html_page
from oakladder.trial.report import equity_table, trades_table
from oakladder.trial.trial import Trial

#: A printed report lists so many trades at most.
_MOST_PRINTED = 400


def write_pdf(trial: Trial, path: Path) -> None:
    """Prints the report into a PDF file. Raises `OSError`."""
    with replacing(path) as place:
        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        printer.setOutputFormat(QPrinter.OutputFormat.PdfFormat)
        printer.setOutputFileName(str(place))
        printer.setPageLayout(
            QPageLayout(
                QPageSize(QPageSize.PageSizeId.A4), QPageLayout.Orientation.Landscape, QMarginsF(12, 12, 12, 12)
            )
        )
        document = QTextDocument()
        document.setPageSize(QSizeF(printer.pageRect(QPrinter.Unit.Point).size()))
        document.setHtml(html_page(trial, most_trades=_MOST_PRINTED))
        document.print(printer)
        if not place.exists() or not place.stat().st_size:
            raise OSError(5, "nothing was printed", str(path))


#: What can be saved: the words of the menu, the ending, and what writes it.
EXPORTS: tuple[tuple[str, str, Callable[[Trial, Path], None]], ...] = (
    ("Trades as CSV …", ".csv", lambda trial, path: write_rows(path, trades_table(trial))),
    ("Curve as CSV …", ".csv", lambda trial, path: write_rows(path, equity_table(trial))),
    ("Report as HTML …", ".html", lambda trial, path: write_atomic(path, html_page(trial))),
    ("Report as PDF …", ".pdf", write_pdf),
)


def export(trial: Trial, k: int, parent: QWidget, jobs: Jobs, tell: Callable[[str], None]) -> None:
    """Asks for a file and writes it: aside, but for PDF, which only the window's thread may print."""
    words, ending, _ = EXPORTS[k]
    stem = safe_name(f"{trial.program.title or 'trial'} {words.split()[0].lower()}")
    name, _ = QFileDialog.getSaveFileName(parent, words.removesuffix(" …"), f"{stem}{ending}", f"*{ending}")
    if not name:
        return
    path = Path(name) if Path(name).suffix else Path(name + ending)
    save(trial, k, path, jobs, tell)


def save(trial: Trial, k: int, path: Path, jobs: Jobs, tell: Callable[[str], None]) -> None:
    """Writes one of the `EXPORTS` to a file."""
    _, ending, write = EXPORTS[k]
    if ending == ".pdf":
        jobs.start("export trial", lambda _: None, lambda _: _printed(trial, path, tell), owed=True)
        return
    jobs.start(
        "export trial", lambda _: write(trial, path), lambda _: tell(f"{path} is written."), slow=True, owed=True
    )


def _printed(trial: Trial, path: Path, tell: Callable[[str], None]) -> None:
    try:
        write_pdf(trial, path)
    except OSError as error:
        tell(f"{path.name} cannot be written: {error.strerror or error}.")
    else:
        tell(f"{path} is written.")
