"""Prints a report into a PDF file, in a separate process: layout takes seconds, and only a program's
first thread may do it."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path

from PyQt6.QtCore import QMarginsF, QSizeF, Qt, QUrl
from PyQt6.QtGui import QGuiApplication, QImage, QPageLayout, QPageSize, QPainter, QTextDocument
from PyQt6.QtPrintSupport import QPrinter
from PyQt6.QtSvg import QSvgRenderer

from oakladder.disk import replacing
from oakladder.work import ChildProcess

#: The name by which a page shows the drawing that comes with it, and its size.
PICTURE = "curve"
_WIDE, _HIGH = 1800, 664
_PATIENCE = 300.0


def print_page(html: str, drawing: str, path: Path) -> None:
    """Writes a page with its drawing (SVG) as a PDF file, whole or not at all. Raises `OSError`."""
    with replacing(path) as place:
        asked = json.dumps({"html": html, "drawing": drawing, "path": str(place)})
        env = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
        with ChildProcess("printing", [sys.executable, "-m", __name__], env=env) as child:
            done = child.answer(asked.encode(), _PATIENCE)
        if done is None or not place.exists() or not place.stat().st_size:
            raise OSError(5, "nothing could be printed", str(path))


def _print(html: str, drawing: str, path: str) -> None:
    """Prints, in the separate process."""
    app = QGuiApplication(["oak"])
    printer = QPrinter(QPrinter.PrinterMode.HighResolution)
    printer.setOutputFormat(QPrinter.OutputFormat.PdfFormat)
    printer.setOutputFileName(path)
    margins = QMarginsF(12, 12, 12, 12)
    printer.setPageLayout(QPageLayout(QPageSize(QPageSize.PageSizeId.A4), QPageLayout.Orientation.Landscape, margins))
    picture = QImage(_WIDE, _HIGH, QImage.Format.Format_ARGB32)
    picture.fill(Qt.GlobalColor.transparent)
    with QPainter(picture) as painter:
        QSvgRenderer(drawing.encode()).render(painter)
    document = QTextDocument()
    document.setPageSize(QSizeF(printer.pageRect(QPrinter.Unit.Point).size()))
    document.addResource(QTextDocument.ResourceType.ImageResource.value, QUrl(PICTURE), picture)
    document.setHtml(html)
    document.print(printer)
    del app


if __name__ == "__main__":
    _print(**json.loads(sys.stdin.read()))
