"""What the program works on just now, in the top line: long work only, with how far it is."""

from __future__ import annotations

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QLabel, QWidget

from oakladder.app.jobs import Jobs, Working

#: Milliseconds between two looks, and after which work is long.
_LOOK_MS, _LONG_MS = 250, 700
#: Work as people call it, by the first word of the job's kind.
WORDS = {
    "edit_symbols": "changing symbols",
    "alerts": "alerts",
    "estimate": "how often it tells",
    "chance": "chance",
    "chart": "chart",
    "side_chart": "side charts",
    "compile": "reading the script",
    "evidence": "evidence",
    "export": "saving",
    "look_ahead": "look-ahead check",
    "intake": "reading files",
    "ladder": "columns",
    "library": "library",
    "lists": "lists",
    "live": "live prices",
    "map": "map of the sweep",
    "small_charts": "small charts",
    "names": "names of the script",
    "notebook": "notebook",
    "pack": "packing bars",
    "parts": "parts of the evidence",
    "past": "small charts",
    "signal_ages": "timeframes",
    "places": "loading",
    "programs": "reading scripts",
    "quotes": "prices",
    "scan": "scan",
    "seal": "sealed part",
    "sheet": "small charts",
    "closes": "small charts",
    "sweep": "sweep",
    "symbol_curves": "equity by symbol",
    "symbols": "looking at the bars",
    "trial": "trial",
    "variants": "variants",
    "watch": "columns",
    "why": "why",
    "write": "saving",
    "state": "saving",
    "words": "words of the language",
}


class Activity(QLabel):
    """Quiet while nothing takes long; the hover tells everything that is under way."""

    def __init__(self, jobs: Jobs, parent: QWidget | None = None):
        super().__init__(parent, objectName="quiet")
        self._jobs = jobs
        self._timer = QTimer(self, interval=_LOOK_MS)
        self._timer.timeout.connect(self.look)
        self._timer.start()
        jobs.changed.connect(self._look_soon)  # what is done is not told beside its result
        self.setAccessibleName("Running jobs")

    def _look_soon(self) -> None:
        if self.text():
            self.look()

    def look(self) -> None:
        """Shows what takes long just now."""
        long = [w for w in self._jobs.working() if w.milliseconds >= _LONG_MS]
        lines = [_said(w) for w in sorted(long, key=lambda w: -w.milliseconds)]
        self.setText(f"◔ {lines[0]}" + (f" and {len(lines) - 1} more" if len(lines) > 1 else "") if lines else "")
        self.setToolTip("\n".join(lines))


def _said(work: Working) -> str:
    words = WORDS.get(work.kind.split(" ")[0], "working")
    return f"{words} {work.share:.0%}" if work.share is not None else f"{words} …"
