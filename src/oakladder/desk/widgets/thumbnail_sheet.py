"""A sheet of small charts that are read when their page is turned to."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TypeVar

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.sheet import Sheet
from oakladder.desk.widgets.small_bars import draw_thumbnail
from oakladder.engine.picture.thumbnail import Thumbnail

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Caption:
    """What stands over a small chart: what it is of, something beside it, and a value with its ink."""

    title: str
    about: str
    value: str
    ink: str = "ink"


class Captions:
    """The captions of many charts, computed for the visible ones."""

    def __init__(self, rows: Sequence[T], caption: Callable[[T], Caption]):
        self._rows, self._caption = list(rows), caption

    def __len__(self) -> int:
        return len(self._rows)

    def __getitem__(self, k: int) -> Caption:
        return self._caption(self._rows[k])


class ThumbnailSheet(Sheet):
    """``wanted`` tells the numbers of the charts that are in sight and not there yet."""

    wanted = pyqtSignal(object)

    least = (226.0, 138.0)

    def __init__(self, theme: Theme, name: str, parent: QWidget | None = None):
        super().__init__(theme, name, parent)
        self.captions = Captions((), lambda caption: caption)
        self.glances: dict[int, Thumbnail | None] = {}
        self._asked: set[int] = set()

    def show_captions(self, captions: Captions) -> None:
        """Shows other charts; they come later."""
        self.captions, self.glances, self._asked = captions, {}, set()
        self.first()

    def show_glances(self, made: Mapping[int, Thumbnail | None]) -> None:
        """Puts charts in; None where one cannot be shown."""
        self.glances.update(made)
        self.update()

    def count(self) -> int:
        return len(self.captions)

    def hint(self, k: int) -> str:
        one, shown = self.captions[k], self.glances.get(k)
        return f"{one.title}  {one.about}  {one.value}" + (f"\n{shown.timeframe}, {shown.span}" if shown else "")

    def draw(self, painter: QPainter, k: int, box: QRectF) -> None:
        one = self.captions[k]
        line = painter.fontMetrics().height()
        head = QRectF(box.left(), box.top(), box.width(), line + 2)
        painter.setFont(ui_font(SMALL))
        painter.setPen(self.theme.color(one.ink))
        painter.drawText(head, Qt.AlignmentFlag.AlignRight, one.value)
        room = box.width() - painter.fontMetrics().horizontalAdvance(one.value) - 8
        painter.setFont(ui_font(SMALL, strong=True))
        painter.setPen(self.theme.color("ink"))
        painter.drawText(head, Qt.AlignmentFlag.AlignLeft, one.title)
        taken = painter.fontMetrics().horizontalAdvance(one.title) + 6
        painter.setFont(ui_font(SMALL))
        painter.setPen(self.theme.color("faint"))
        about = painter.fontMetrics().elidedText(one.about, Qt.TextElideMode.ElideRight, int(room - taken))
        painter.drawText(head.adjusted(taken, 0, 0, 0), Qt.AlignmentFlag.AlignLeft, about)
        plot = box.adjusted(0, line + 3, 0, 0)
        shown = self.glances.get(k)
        if shown is not None:
            draw_thumbnail(painter, shown, plot, self.theme)
        elif k in self.glances:
            painter.drawText(plot, Qt.AlignmentFlag.AlignCenter, "no bars to show")

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        missing = [k for k in self.page() if k not in self._asked]
        if missing:
            self._asked.update(missing)
            self.wanted.emit(missing)
