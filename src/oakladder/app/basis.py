"""What the things in sight are derived from: one account of it for the whole window, and what follows when it changes.

A job remembers the basis on which it was asked for, and whatever is shown of its result carries that basis. A view says
which parts of a basis its content rests on. Once one of these is another than when the content was asked for, the content
is stale: it is greyed, or taken away, until newer content comes.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping, Set
from enum import Enum

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.timers import single_shot

#: What is on its way is waited for so long before what is still shown is greyed (ms).
SOON_MS = 700


class Part(Enum):
    """A part of what something may be derived from."""

    #: The open script: its file and its last sound text.
    RULE = "script"
    #: Its settings, by name.
    SETTINGS = "settings"
    #: Where the chart looks: the symbol; the timeframe with its hours, and the scripts beside.
    SYMBOL = "symbol"
    FRAME = "timeframe"
    #: The watchlist.
    LIST = "list"
    #: What trials run on: list, timeframe, seal; money and costs.
    GROUND = "list and timeframe of the trial"
    ACCOUNT = "account"
    #: Bars and symbols of the library.
    DATA = "data"
    #: The moment of a replay.
    REPLAY = "replay"


#: The values of all parts at one moment.
Basis = Mapping[Part, object]
CHART = (Part.RULE, Part.SETTINGS, Part.SYMBOL, Part.FRAME, Part.DATA, Part.REPLAY)
RULE_ON_SYMBOL = (Part.RULE, Part.SETTINGS, Part.SYMBOL, Part.DATA, Part.REPLAY)
RULE_ON_LIST = (Part.RULE, Part.SETTINGS, Part.LIST, Part.DATA, Part.REPLAY)
EVIDENCE = (Part.RULE, Part.SETTINGS, Part.GROUND, Part.DATA, Part.REPLAY)
TRIAL = (*EVIDENCE, Part.ACCOUNT)


class BasisTracker(QObject):
    """Knows the current basis. ``changed`` tells, once between two events, that a part of it may be another."""

    changed = pyqtSignal()

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self._readers: dict[Part, Callable[[], object]] = {part: lambda: None for part in Part}
        self._arriving: dict[Part, object] | None = None
        self._soon = single_shot(self, 0)
        self._soon.timeout.connect(self.changed)

    def read(self, part: Part, reader: Callable[[], object]) -> None:
        """Says how the current value of a part is read."""
        self._readers[part] = reader

    def note(self, *_: object) -> None:
        """Notes that a part may have changed; connect the signals of that part to it."""
        self._soon.start()

    def value(self, part: Part) -> object:
        """The current value of a part."""
        return self._readers[part]()

    def now(self) -> Basis:
        """The current basis."""
        return {part: reader() for part, reader in self._readers.items()}

    @contextlib.contextmanager
    def arriving(self, asked: Basis) -> Iterator[None]:
        """While a result is taken: what is shown of it was derived from what held when it was asked for."""
        before, self._arriving = self._arriving, dict(asked)
        try:
            yield
        finally:
            self._arriving = before

    def settle(self, *parts: Part) -> None:
        """Says that parts of a result that is taken are as they are now: the result itself has changed them."""
        if self._arriving is not None:
            self._arriving |= {part: self.value(part) for part in parts}

    @property
    def shown(self) -> Basis:
        """The basis of what is being shown: of the result that is taken, else the current one."""
        return self._arriving if self._arriving is not None else self.now()


class Freshness(QObject):
    """Whether the content of a view is current. ``turned`` tells that it has become stale, or current again;
    ``expired`` tells the same once newer content has had time to come.

    ``own`` reads what the content is derived from besides the ``parts``, such as the fields of a form.
    """

    turned = pyqtSignal(bool)
    expired = pyqtSignal(bool)

    def __init__(
        self,
        tracker: BasisTracker,
        parts: tuple[Part, ...],
        own: Callable[[], object] = lambda: None,
        parent: QObject | None = None,
        wait: int = SOON_MS,
    ):
        super().__init__(parent)
        self._tracker, self._parts, self._own = tracker, parts, own
        self._basis: Basis | None = None
        self._own_value: object = None
        self._apart: Set[str] = frozenset()
        self.is_stale = self.has_expired = False
        self._pause = single_shot(self, wait)
        self._pause.timeout.connect(self._waited)
        tracker.changed.connect(self.look)

    def took(self, own: object = None, *, apart: Set[str] = frozenset()) -> None:
        """The view shows new content. ``own`` is what it was derived from besides the parts, now where it is not given;
        settings ``apart`` do not count for it."""
        shown = self._tracker.shown
        self._basis = {part: shown[part] for part in self._parts}
        self._own_value, self._apart = self._own() if own is None else own, apart
        self.look()

    def cleared(self) -> None:
        """The view shows nothing any more that could be stale."""
        self._basis = None
        self.look()

    @property
    def is_current(self) -> bool:
        """Whether what is shown, if anything, was derived from what holds now."""
        if self._basis is None:
            return True
        return self._own() == self._own_value and all(
            self._same(self._tracker.value(part), value) for part, value in self._basis.items()
        )

    def _same(self, now: object, before: object) -> bool:
        if self._apart and isinstance(now, dict) and isinstance(before, dict):
            return all(now.get(k) == before.get(k) for k in {*now, *before} - self._apart)
        return now == before

    def look(self) -> None:
        """Looks whether the content is still current."""
        stale = not self.is_current
        if stale != self.is_stale:
            self.is_stale = stale
            if stale:
                self._pause.start()
            self.turned.emit(stale)
        if not stale:
            self._pause.stop()
            self._expire(False)

    def _waited(self) -> None:
        self._expire(True)

    def _expire(self, on: bool) -> None:
        if on != self.has_expired:
            self.has_expired = on
            self.expired.emit(on)
