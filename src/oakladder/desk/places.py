"""The places of the window. The Bench is there at once, each of the others when it is first asked for or there is time:
who opens the program waits for a chart, not for what may never be looked at."""

from __future__ import annotations

import importlib
from functools import cached_property
from typing import TYPE_CHECKING

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QStackedWidget, QWidget

from oakladder.app.session import Session
from oakladder.desk.bench.place import Bench
from oakladder.desk.widgets.transient import discard

if TYPE_CHECKING:  # each is loaded when it is made
    from oakladder.desk.alerts.place import AlertsPlace
    from oakladder.desk.data.place import DataPlace
    from oakladder.desk.ladder.place import LadderPlace
    from oakladder.desk.scan.place import ScanPlace
    from oakladder.desk.trial.place import TrialPlace

#: The places by the order of their buttons.
BENCH, LADDER, SCAN, TRIAL, DATA, ALERTS = range(6)
_NAMES = ("bench", "ladder", "scan", "trial", "data", "alerts")
#: How long after the code of the others is loaded the first of them is made, and how long after it the next.
_AFTER_LOAD_MS, _BETWEEN_MS = 400, 60


def _load_modules() -> None:
    """Loads the code of all places, in the background: on the window's thread it takes some 100 ms."""
    for name in _NAMES:
        importlib.import_module(f"oakladder.desk.{name}.place")


class Places(QStackedWidget):
    """``picked`` says what to show on the Bench, ``scanned`` the conditions of a scan that has run, ``taken`` that
    the library is otherwise, ``built`` a place that has been made, ``complete`` that all have."""

    picked = pyqtSignal(object)
    scanned = pyqtSignal(object)
    taken = pyqtSignal()
    built = pyqtSignal(object)
    complete = pyqtSignal()

    def __init__(self, session: Session):
        super().__init__()
        self._session = session
        self.bench = Bench(session)
        self.addWidget(self.bench)
        for _ in _NAMES[1:]:
            self.addWidget(QWidget())
        self._pause = QTimer(self, singleShot=True)
        self._pause.timeout.connect(self._make_next)
        self._is_loaded = self._is_complete = False

    @cached_property
    def ladder(self) -> LadderPlace:
        """The Ladder."""
        from oakladder.desk.ladder.place import LadderPlace

        made = LadderPlace(self._session)
        made.picked.connect(self.picked)
        self._stand(LADDER, made)
        return made

    @cached_property
    def scan(self) -> ScanPlace:
        """The Scan."""
        from oakladder.desk.scan.place import ScanPlace

        made = ScanPlace(self._session)
        made.picked.connect(self.picked)
        made.ran.connect(self.scanned)
        self._stand(SCAN, made)
        return made

    @cached_property
    def trial(self) -> TrialPlace:
        """The Trial."""
        from oakladder.desk.trial.place import TrialPlace

        made = TrialPlace(self._session)
        made.picked.connect(self.picked)
        made.write_asked.connect(self.bench.script.write_trade)
        made.text_asked.connect(self.bench.script.show_tried)
        self._stand(TRIAL, made)
        return made

    @cached_property
    def data(self) -> DataPlace:
        """The Data place."""
        from oakladder.desk.data.place import DataPlace

        made = DataPlace(self._session)
        made.taken.connect(self.taken)
        self._stand(DATA, made)
        return made

    @cached_property
    def alerts(self) -> AlertsPlace:
        """The Alerts place."""
        from oakladder.desk.alerts.place import AlertsPlace

        made = AlertsPlace(self._session)
        made.picked.connect(self.picked)
        self._stand(ALERTS, made)
        return made

    def _stand(self, k: int, place: QWidget) -> None:
        room = self.widget(k)
        self.insertWidget(k, place)
        if room is not None:
            self.removeWidget(room)
            discard(room)
        self.built.emit(place)

    def _is_there(self, k: int) -> bool:
        return k == BENCH or _NAMES[k] in vars(self)

    def there(self) -> list[QWidget]:
        """The places that have been made."""
        return [self.place(k) for k in range(len(_NAMES)) if self._is_there(k)]

    def place(self, k: int) -> QWidget:
        """A place by the order of the buttons."""
        made: QWidget = getattr(self, _NAMES[k])
        return made

    def go_to(self, k: int) -> None:
        """Shows a place."""
        if self._is_there(TRIAL) and k != TRIAL:
            self.trial.leave()
        self.setCurrentWidget(self.place(k))

    # --- the others, when there is time -------------------------------------------------------------

    def make_the_rest(self) -> None:
        """Makes the other places one by one, once the chart has been painted."""
        if not self._is_complete:
            self._pause.start(_BETWEEN_MS)

    def make_no_more(self) -> None:
        """Leaves unmade what is not made yet: the program ends."""
        self._pause.stop()

    def _make_next(self) -> None:
        missing = [k for k in range(len(_NAMES)) if not self._is_there(k)]
        if not missing:
            self._is_complete = True
            self.complete.emit()
        elif any(self._session.jobs.busy_with(kind) for kind in ("compile", "chart")):
            self._pause.start(_BETWEEN_MS)
        elif not self._is_loaded:
            self._is_loaded = True
            self._session.jobs.start(
                "places", lambda _: _load_modules(), lambda _: self._pause.start(_AFTER_LOAD_MS), slow=True
            )
        else:
            self.place(missing[0])
            self._pause.start(_BETWEEN_MS)
