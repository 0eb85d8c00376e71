"""Pictures of the application as it looks on the screen, for the docs and for review."""

from __future__ import annotations

import time
from pathlib import Path

from PyQt6.QtCore import QEventLoop, QSize
from PyQt6.QtWidgets import QApplication, QWidget

from oakladder.app.session import Session
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.app import make_app, make_window
from oakladder.desk.look.theme import NIGHT
from oakladder.user.workspace import Workspace

#: Views of the Trial place by name, and what brings them into sight.
_VIEWS = {
    "evidence": "show_evidence",
    "chance": "show_chance",
    "sweep": "show_sweep",
    "notebook": "show_notebook",
    "honesty": "check_look_ahead",
}
PLACES = ("bench", "ladder", "scan", "trial", "trial-tab", *_VIEWS, "data", "symbols", "replay", "gallery", "alerts")
#: How many bars before the last a picture of the replay stands.
_REPLAYED = 60
_PATIENCE = 60.0


def settle(app: QApplication, session: Session, patience: float = _PATIENCE) -> None:
    """Lets the application work until nothing is awaited."""
    end = time.monotonic() + patience
    calm = 0
    while calm < 3 and time.monotonic() < end:
        app.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 20)
        time.sleep(0.005)
        calm = calm + 1 if session.idle() else 0


def take(
    workspace: Workspace,
    place: str,
    out: Path,
    size: tuple[int, int],
    symbol: str | None,
    timeframe: Timeframe,
    script: Path | None,
    night: bool,
) -> None:
    """Saves a picture of a place as PNG, of a window over ``workspace``, into which it writes. Raises `OSError`."""
    app = make_app()
    window = make_window(workspace)
    window.resize(QSize(*size))
    if night:
        window.session.chart.set_theme(NIGHT)
    if script is not None:
        window.session.rule.open(script)
    window.show()
    window.session.chart.go_to(symbol, timeframe)
    settle(app, window.session)
    if place == "data":
        window.show_data()
    if place == "alerts":
        window.show_alerts()
        settle(app, window.session)
    if place == "symbols":
        window.show_data()
        window.data.tabs.setCurrentWidget(window.data.symbols)
        settle(app, window.session)
    if place == "ladder":
        window.show_ladder()
        settle(app, window.session)
        window.ladder.table.setCurrentIndex(window.ladder.table.rows.index(1, window.ladder.table.first_script + 1))
        settle(app, window.session)
    if place == "scan":
        window.show_scan()
        window.run_scan()
        settle(app, window.session)
    if place == "trial":
        window.show_trial()
        settle(app, window.session)
    if place in _VIEWS:
        window.show_trial()
        settle(app, window.session)
        getattr(window.trial, _VIEWS[place])()
        settle(app, window.session)
    if place == "sweep":
        window.trial.sweep.form.sweep_button.click()
        settle(app, window.session)
    if place == "trial-tab":
        window.bench.read_trial()
        settle(app, window.session)
    if place == "replay":
        shown = window.bench.chart.shown
        window.bench.chart.pin(max(len(shown.bars) - _REPLAYED, 0) if shown is not None else None)
        window.bench.commands.start_replay()
        settle(app, window.session)
    if place == "gallery":
        window.bench.script.open_gallery()
        save(window.bench.script.gallery, app, out)
    else:
        save(window, app, out)
    window.session.close()


def save(window: QWidget, app: QApplication, out: Path) -> None:
    """Writes the window as it is now."""
    app.processEvents()
    if not window.grab().save(str(out), "PNG"):
        raise OSError(f"{out} cannot be written")
