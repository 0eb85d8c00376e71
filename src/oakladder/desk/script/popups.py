"""The editor's own popups: a list of words and a hint.

They are plain children of the editor's window. They ask no screen where it is, so they cannot be astray on one that
is not there; they stay within the window and go with it.
"""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from PyQt6.QtCore import QModelIndex, QPoint, QRect, Qt
from PyQt6.QtGui import QColor, QPainter
from PyQt6.QtWidgets import QLabel, QListWidget, QListWidgetItem, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from oakladder.desk.look.fonts import code_font, ui_font
from oakladder.desk.look.spacing import GAP, TIGHT
from oakladder.desk.look.theme import Theme, popup_sheet
from oakladder.rung.service.completion import Completion

_ROWS, _WIDTH, _GAP = 9, 380, 3


def placed(size: QRect, anchor: QRect, room: QRect, *, above: bool = False) -> QPoint:
    """Where a popup of a size goes: below an anchor, or above it if it does not fit below, within ``room``."""
    below_y, above_y = anchor.bottom() + _GAP, anchor.top() - _GAP - size.height()
    order = (above_y, below_y) if above else (below_y, above_y)
    fits = [y for y in order if room.top() <= y and y + size.height() <= room.bottom() + 1]
    y = fits[0] if fits else min(max(order[0], room.top()), max(room.bottom() + 1 - size.height(), room.top()))
    x = min(max(anchor.left(), room.left()), max(room.right() + 1 - size.width(), room.left()))
    return QPoint(x, y)


class _Rows(QStyledItemDelegate):
    """The word, and its hint, fainter."""

    def __init__(self, theme: Theme, parent: QWidget):
        super().__init__(parent)
        self.theme = theme

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        offer = index.data(Qt.ItemDataRole.UserRole)
        if painter is None or not isinstance(offer, Completion):
            return
        view = option.widget
        chosen = isinstance(view, QListWidget) and view.currentRow() == index.row()
        painter.save()
        painter.fillRect(option.rect, QColor(self.theme.color("pick" if chosen else "raised")))
        place = option.rect.adjusted(6, 0, -6, 0)
        painter.setFont(code_font())
        painter.setPen(QColor(self.theme.color("ink")))
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, offer.word)
        place.setLeft(
            place.left() + painter.fontMetrics().horizontalAdvance(offer.word) + (0 if offer.beside[:1] == "(" else 8)
        )
        painter.setPen(QColor(self.theme.color("faint")))
        words = painter.fontMetrics().elidedText(offer.beside, Qt.TextElideMode.ElideRight, max(place.width(), 0))
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, words)
        painter.restore()


class WordList(QListWidget):
    """Words to choose from. It never takes the keyboard focus: the editor forwards the keys it needs."""

    def __init__(self, theme: Theme, parent: QWidget):
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setUniformItemSizes(True)
        self._rows = _Rows(theme, self)
        self.setItemDelegate(self._rows)
        #: Whether the user has moved within it, so that Enter means the chosen word.
        self.moved = False
        self.set_theme(theme)
        self.hide()

    def set_theme(self, theme: Theme) -> None:
        self._rows.theme = theme
        self.setStyleSheet(popup_sheet(theme))

    def place(self, anchor: QRect, room: QRect) -> None:
        """Puts it below a place, both in coordinates of the window."""
        self.move(placed(self.geometry(), anchor, room))

    def show_offers(self, offers: Sequence[Completion], anchor: QRect, room: QRect) -> None:
        """Shows words below a place; the first is chosen. Both rectangles in coordinates of the window."""
        self.clear()
        for offer in offers:
            item = QListWidgetItem(offer.word)
            item.setData(Qt.ItemDataRole.UserRole, offer)
            self.addItem(item)
        self.setCurrentRow(0)
        self.moved = False
        height = max(self.sizeHintForRow(0), 18) * min(len(offers), _ROWS) + 4
        self.resize(min(_WIDTH, room.width()), min(height, room.height()))
        self.place(anchor, room)
        self.show()
        self.raise_()

    def step(self, by: int) -> None:
        """Chooses another word, round and round."""
        self.moved = True
        self.setCurrentRow((self.currentRow() + by) % max(self.count(), 1))

    @property
    def chosen(self) -> Completion | None:
        item = self.currentItem()
        return item.data(Qt.ItemDataRole.UserRole) if item is not None else None


class Hint(QLabel):
    """A few lines about what is under the cursor or the mouse."""

    def __init__(self, theme: Theme, parent: QWidget):
        super().__init__(parent, objectName="rich", textFormat=Qt.TextFormat.RichText)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setWordWrap(True)
        self.setFont(ui_font())
        self.setContentsMargins(GAP, TIGHT, GAP, TIGHT)
        self.set_theme(theme)
        self.hide()

    def set_theme(self, theme: Theme) -> None:
        self.setStyleSheet(popup_sheet(theme))

    def place(self, anchor: QRect, room: QRect, *, above: bool = False) -> None:
        """Puts it below or above a place, both in coordinates of the window."""
        self.move(placed(self.geometry(), anchor, room, above=above))

    def say(self, text: str, anchor: QRect, room: QRect, *, above: bool = False, rich: bool = False) -> None:
        """Shows a text at a place; ``rich`` says that it has markup, and that all else in it is escaped."""
        self.setText(text if rich else f'<span style="white-space: pre-wrap">{escape(text)}</span>')
        width = min(420, room.width())
        self.setFixedWidth(width)
        wanted = self.sizeHint()
        height = max(self.heightForWidth(width), 20)
        self.resize(min(width, max(wanted.width(), 60)), min(height, room.height()))
        self.place(anchor, room, above=above)
        self.show()
        self.raise_()
