"""What helps while one types: words that fit, the parameters of the call at hand, and what a word under the mouse means."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from PyQt6.Qsci import QsciScintilla
from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QListWidgetItem

from oakladder.desk.look.theme import Theme
from oakladder.desk.script.popups import Hint, WordList
from oakladder.rung.service.completion import CallHere, Completion, call_here, everything, fitting, word_before

#: Max number of characters before the cursor that are searched for a call.
_LOOK_BACK = 600
_PAGE = 8
_STEPS = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: _PAGE, Qt.Key.Key_PageUp: -_PAGE}
_ENTER = (Qt.Key.Key_Return, Qt.Key.Key_Enter)
#: Keys that only go with others; what is shown stays while one is held.
_HELD = (Qt.Key.Key_Shift, Qt.Key.Key_Control, Qt.Key.Key_Alt, Qt.Key.Key_AltGr, Qt.Key.Key_Meta)


class Helper:
    """The popups of one editor, made when they are first needed."""

    def __init__(self, editor: QsciScintilla, theme: Theme):
        self._editor, self._theme = editor, theme
        self._own: tuple[str, ...] = ()
        self._made: list[Completion] | None = None
        self._list: WordList | None = None
        self._hint: Hint | None = None
        self._hovers = False

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        for part in (self._list, self._hint):
            if part is not None:
                part.set_theme(theme)

    def know(self, names: Sequence[str]) -> None:
        """Offers a script's own names too."""
        if tuple(names) != self._own:
            self._own, self._made = tuple(names), None

    @property
    def _offers(self) -> list[Completion]:
        """All that can be offered, made when it is first wanted."""
        if self._made is None:
            self._made = everything(self._own)
        return self._made

    # --- the widgets ------------------------------------------------------------------------------

    @property
    def list(self) -> WordList:
        """The word list."""
        window = self._editor.window()
        assert window is not None
        if self._list is None:
            self._list = WordList(self._theme, window)
            self._list.itemClicked.connect(self._clicked)
        elif self._list.parentWidget() is not window:
            self._list.setParent(window)
        return self._list

    @property
    def hint(self) -> Hint:
        """The hint."""
        window = self._editor.window()
        assert window is not None
        if self._hint is None:
            self._hint = Hint(self._theme, window)
        elif self._hint.parentWidget() is not window:
            self._hint.setParent(window)
        return self._hint

    @property
    def listing(self) -> bool:
        """Whether the word list is shown."""
        return self._list is not None and self._list.isVisible()

    @property
    def hinting(self) -> bool:
        """Whether a hint is shown."""
        return self._hint is not None and self._hint.isVisible()

    def close(self) -> None:
        """Puts everything away."""
        if self._list is not None:
            self._list.hide()
        if self._hint is not None:
            self._hint.hide()

    def follow(self) -> None:
        """Puts what is shown at the cursor where the cursor is now."""
        if self._hovers and self._hint is not None:
            self._hint.hide()
        at = int(self._editor.SendScintilla(QsciScintilla.SCI_GETCURRENTPOS))
        if self.listing:
            self.list.place(self._anchor(at - len(word_before(self._before()))), self._room())
        if self.hinting:
            self.hint.place(self._anchor(at), self._room(), above=True)

    def _room(self) -> QRect:
        window = self._editor.window()
        assert window is not None
        return window.rect()

    def _anchor(self, position: int) -> QRect:
        """Where a place of the text (in bytes) is, in the window."""
        send = self._editor.SendScintilla
        x = int(send(QsciScintilla.SCI_POINTXFROMPOSITION, 0, position))
        y = int(send(QsciScintilla.SCI_POINTYFROMPOSITION, 0, position))
        viewport, window = self._editor.viewport(), self._editor.window()
        assert viewport is not None and window is not None
        return QRect(viewport.mapTo(window, QPoint(x, y)), QSize(1, int(send(QsciScintilla.SCI_TEXTHEIGHT, 0))))

    # --- keys -------------------------------------------------------------------------------------

    def takes(self, event: QKeyEvent) -> bool:
        """Whether a key is meant for the word list; if so, it has been done."""
        key = event.key()
        if key == Qt.Key.Key_Escape and (self.listing or self.hinting):
            self.close()
            return True
        if not self.listing or event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier:
            return False
        if key in _STEPS:
            self.list.step(_STEPS[Qt.Key(key)])
            return True
        if key == Qt.Key.Key_Tab or (key in _ENTER and self._means_the_word()):
            self.take()
            return True
        return False

    def _means_the_word(self) -> bool:
        """Whether Enter takes the chosen word: not where what was typed is a word already and nothing was chosen."""
        typed = word_before(self._before())
        return self.list.moved or all(offer.word != typed for offer in self._offers)

    def after(self, event: QKeyEvent) -> None:
        """Looks at what stands before the cursor after a key."""
        if event.key() in _HELD:
            return
        text = event.text()
        erased = event.key() == Qt.Key.Key_Backspace and self.listing
        if self._editor.isReadOnly():
            return
        if (text.isidentifier() or text.isdigit()) or erased:
            self._offer()
        elif self._list is not None:
            self._list.hide()
        if not self.listing and ((text.isprintable() and text) or self.hinting):
            self._show_call()
        elif self.listing and self._hint is not None:
            self._hint.hide()

    def _before(self) -> str:
        line, column = self._editor.getCursorPosition()
        return str(self._editor.text(line)[:column])

    def _offer(self) -> None:
        typed = word_before(self._before())
        found = fitting(self._offers, typed)
        if not found:
            if self._list is not None:
                self._list.hide()
            return
        at = int(self._editor.SendScintilla(QsciScintilla.SCI_GETCURRENTPOS)) - len(typed)
        self.list.show_offers(found, self._anchor(at), self._room())

    def _clicked(self, item: QListWidgetItem) -> None:
        self.list.setCurrentItem(item)
        self.take()

    def take(self) -> None:
        """Writes the chosen word in the place of what was typed of it."""
        chosen = self.list.chosen
        self.list.hide()
        if chosen is None:
            return
        send = self._editor.SendScintilla
        end = int(send(QsciScintilla.SCI_GETCURRENTPOS))
        start = end - len(word_before(self._before()))
        word = chosen.word.encode()
        self._editor.beginUndoAction()
        send(QsciScintilla.SCI_SETTARGETRANGE, start, end)
        send(QsciScintilla.SCI_REPLACETARGET, len(word), word)
        send(QsciScintilla.SCI_GOTOPOS, start + len(word))
        self._editor.endUndoAction()

    # --- hints ------------------------------------------------------------------------------------

    def _show_call(self) -> None:
        end = int(self._editor.SendScintilla(QsciScintilla.SCI_GETCURRENTPOS))
        line, _ = self._editor.getCursorPosition()
        before = "".join(self._editor.text(k) for k in range(max(line - 6, 0), line)) + self._before()
        call = call_here(before[-_LOOK_BACK:])
        if call is None:
            if self._hint is not None:
                self._hint.hide()
            return
        self._hovers = False
        self.hint.say(_said(call), self._anchor(end), self._room(), above=True, rich=True)

    def hover(self, text: str, position: int) -> None:
        """Says something about a place of the text under the mouse."""
        if not self.listing:
            self._hovers = True
            self.hint.say(text, self._anchor(position), self._room())

    def end_hover(self) -> None:
        """The mouse has moved on."""
        if self._hovers and self._hint is not None:
            self._hint.hide()


def _said(call: CallHere) -> str:
    parts = [f"<b>{escape(p)}</b>" if k == call.at else escape(p) for k, p in enumerate(call.parameters)]
    return f"{escape(call.name)}({', '.join(parts)})<br>{escape(call.about)}"
