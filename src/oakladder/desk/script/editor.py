"""The script editor: colours the words of Rung, underlines problems as they are typed, completes names."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from PyQt6.Qsci import QsciScintilla
from PyQt6.QtCore import QPoint, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QHideEvent, QKeyEvent, QMouseEvent, QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import QWidget

from oakladder.desk.look.theme import Theme
from oakladder.desk.script.help_at_cursor import Helper
from oakladder.desk.script.lexer import RungLexer
from oakladder.desk.widgets.colour_picker import ColourPicker
from oakladder.rung import Problem, Severity
from oakladder.rung.problems import Span
from oakladder.rung.service import editable_words
from oakladder.rung.service.fixes import said
from oakladder.rung.service.names import Names, hover
from oakladder.rung.values import PALETTE
from oakladder.user.scripts import MAX_SCRIPT_BYTES, fits_in_a_file

#: The indicator that underlines a colour word in its own colour.
_SWATCH = 11
#: So many colour words and problems are underlined at most; a script that anybody reads has far fewer.
_MOST_SWATCHES, _MOST_UNDERLINED = 500, 300
_SWATCH_PAUSE_MS = 60
_INDICATORS = {Severity.ERROR: 8, Severity.WARNING: 9, Severity.HINT: 10}


class ScriptEditor(QsciScintilla):
    """A text editor for one script. ``typed`` is emitted on every change by the user, ``refused`` with a reason if one is rejected."""

    typed = pyqtSignal(str)
    refused = pyqtSignal(str)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self._theme = theme
        self._problems: tuple[Problem, ...] = ()
        #: The names of a text, and which text that was.
        self._names: tuple[str, Names] | None = None
        self._loading = False
        self._taken = ""
        self.helper = Helper(self, theme)
        self._swatching = QTimer(self, singleShot=True, interval=_SWATCH_PAUSE_MS)
        self._swatching.timeout.connect(self._show_swatches)
        self.setUtf8(True)
        self.setEolMode(QsciScintilla.EolMode.EolUnix)
        self.setIndentationsUseTabs(False)
        self.setTabWidth(4)
        self.setAutoIndent(True)
        self.setBackspaceUnindents(True)
        self.setWrapMode(QsciScintilla.WrapMode.WrapWord)
        self.setWrapIndentMode(QsciScintilla.WrapIndentMode.WrapIndentIndented)
        self.setBraceMatching(QsciScintilla.BraceMatch.SloppyBraceMatch)
        self.setScrollWidth(1)
        self.setScrollWidthTracking(True)
        self.setMarginType(0, QsciScintilla.MarginType.NumberMargin)
        self.setMarginWidth(0, "000")
        self.setMarginWidth(1, 0)
        self.setFrameShape(self.Shape.NoFrame)
        self.setExtraAscent(1)
        self.setExtraDescent(1)
        self.setCaretLineVisible(True)
        self._lexer = RungLexer(self, theme)
        self.setLexer(self._lexer)
        # The library's own popups ask the screen that the cursor is on, and there may be none.
        self.setAutoCompletionSource(QsciScintilla.AutoCompletionSource.AcsNone)
        self.setCallTipsStyle(QsciScintilla.CallTipsStyle.CallTipsNone)
        for number in _INDICATORS.values():
            self.indicatorDefine(QsciScintilla.IndicatorStyle.SquiggleIndicator, number)
        self.indicatorDefine(QsciScintilla.IndicatorStyle.ThickCompositionIndicator, _SWATCH)
        self.SendScintilla(QsciScintilla.SCI_INDICSETFLAGS, _SWATCH, QsciScintilla.SC_INDICFLAG_VALUEBEFORE)
        self.indicatorReleased.connect(self._released)
        self.SendScintilla(QsciScintilla.SCI_SETMOUSEDWELLTIME, 350)
        self.SCN_DWELLSTART.connect(self._dwell)
        self.SCN_DWELLEND.connect(lambda *_: self.helper.end_hover())
        self.textChanged.connect(self._changed)
        self.set_theme(theme)

    def _changed(self) -> None:
        if self._loading:
            return
        text = self.text()
        if not fits_in_a_file(text):
            QTimer.singleShot(0, self._put_back)  # the text cannot be changed within its change signal
            return
        self._taken = text
        self._swatching.start()
        self.typed.emit(text)

    def _put_back(self) -> None:
        """Takes back a change that would make the script longer than a script may be."""
        if fits_in_a_file(self.text()):
            return
        line, column = self.getCursorPosition()
        self._loading = True
        self._put(self._taken)
        self.setCursorPosition(min(line, self.lines() - 1), column)
        self._loading = False
        self.refused.emit(f"A script has at most {MAX_SCRIPT_BYTES:,} bytes, so the text was not inserted.")

    def load(self, text: str) -> None:
        """Puts another script in, without telling that it was typed."""
        self._loading = True
        self.setText(text)
        self.setCursorPosition(0, 0)
        self._loading = False
        self._taken = self.text()
        self.helper.close()
        self._show_swatches()

    def reload(self, text: str) -> None:
        """Puts another text of the same script in, where the cursor is, without telling; undo brings the old one back."""
        line, column = self.getCursorPosition()
        first = self.firstVisibleLine()
        self._loading = True
        self._put(text)
        self.setCursorPosition(min(line, self.lines() - 1), column)
        self.setFirstVisibleLine(first)
        self._loading = False
        self._taken = self.text()
        self.helper.close()
        self._show_swatches()

    def replace_all(self, text: str) -> None:
        """Puts another text in the place of this one, as if it had been typed."""
        self._put(text)

    def _put(self, text: str) -> None:
        raw = text.encode("utf-8", "replace")
        self.beginUndoAction()
        self.SendScintilla(QsciScintilla.SCI_SETTARGETRANGE, 0, self.length())
        self.SendScintilla(QsciScintilla.SCI_REPLACETARGET, len(raw), raw)
        self.endUndoAction()

    def know(self, names: Sequence[str]) -> None:
        """Offers a script's own names too."""
        self.helper.know(names)

    # --- what helps at the cursor -----------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Keys that are meant for the word list go there; after any other the helper looks at what was typed."""
        if event is None or self.helper.takes(event):
            return
        super().keyPressEvent(event)
        self.helper.after(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self.helper.close()
        super().mousePressEvent(event)

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        self.helper.close()
        super().focusOutEvent(event)

    def hideEvent(self, event: QHideEvent | None) -> None:
        self.helper.close()
        super().hideEvent(event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """The cursor stays in sight, and what is shown at it goes with it: problems come and go below while one types."""
        super().resizeEvent(event)
        if self.hasFocus():
            self.SendScintilla(QsciScintilla.SCI_SCROLLCARET)
        self.helper.follow()

    def show_problems(self, problems: tuple[Problem, ...]) -> None:
        """Underlines the problems where they stand."""
        self._problems = problems
        last_line = self.lines() - 1
        for number in _INDICATORS.values():
            self.clearIndicatorRange(0, 0, last_line, self.lineLength(last_line), number)
        for problem in problems[:_MOST_UNDERLINED]:
            line, column = problem.span.line - 1, problem.span.column - 1
            self.fillIndicatorRange(line, column, line, column + problem.span.length, _INDICATORS[problem.severity])

    def problem_at(self, line: int, column: int) -> Problem | None:
        """The problem under a place of the text, counted from 0."""
        here = [p for p in self._problems if p.span.line == line + 1]
        inside = [p for p in here if p.span.column - 1 <= column <= p.span.column - 1 + p.span.length]
        return inside[0] if inside else None

    def _dwell(self, position: int, *_: int) -> None:
        if position < 0:
            return
        line, column = self.lineIndexFromPosition(position)
        problem = self.problem_at(line, column)
        text = ""
        if problem is not None:
            text = f"{problem.code}: {problem.message}\n{problem.fix}"
            if problem.edits:
                text += f"\nCtrl+. {said(problem)}."
        else:
            text = hover(self.text(), self.names, line + 1, column + 1)
            word = self.wordAtLineIndex(line, column)
            if not text and word in PALETTE:
                text = f"{word}: a colour. Ctrl and a click choose another."
        if text:
            self.helper.hover(text, position)

    # --- words that are changed where they stand --------------------------------------------------

    def _show_swatches(self) -> None:
        """Underlines every colour word in its colour."""
        text = self.text()
        send = self.SendScintilla
        send(QsciScintilla.SCI_SETINDICATORCURRENT, _SWATCH)
        send(QsciScintilla.SCI_INDICATORCLEARRANGE, 0, len(text.encode()))
        start = done = 0
        for word in editable_words.colours(text)[:_MOST_SWATCHES]:
            argb = self._theme.paint(word.text.lower())
            bgr = (argb & 0xFF) << 16 | (argb & 0xFF00) | (argb >> 16 & 0xFF)
            send(QsciScintilla.SCI_SETINDICATORVALUE, bgr | QsciScintilla.SC_INDICVALUEBIT)
            start += len(text[done : word.start].encode())
            done = word.start
            send(QsciScintilla.SCI_INDICATORFILLRANGE, start, len(word.text.encode()))

    def _place(self) -> int:
        """Where the cursor is, in characters from the start."""
        line, column = self.getCursorPosition()
        return self._characters(self.positionFromLineIndex(line, column))

    def _characters(self, position: int) -> int:
        return len(self.text().encode()[:position].decode(errors="ignore"))

    def colour_here(self) -> editable_words.Word | None:
        """The colour word at the cursor."""
        at = self._place()
        return next((w for w in editable_words.colours(self.text()) if w.start <= at <= w.end), None)

    def rewrite(self, word: editable_words.Word, text: str) -> None:
        """Puts another word in the place of one, as if it had been typed; undo brings it back."""
        start, end = (len(self.text()[:k].encode()) for k in (word.start, word.end))
        self.beginUndoAction()
        self.SendScintilla(QsciScintilla.SCI_SETTARGETRANGE, start, end)
        self.SendScintilla(QsciScintilla.SCI_REPLACETARGET, len(text.encode()), text.encode())
        self.endUndoAction()

    def replace_at(self, place: Span, text: str) -> None:
        """Puts a text in a place of the script."""
        start = self._characters(self.positionFromLineIndex(place.line - 1, place.column - 1))
        self.rewrite(editable_words.Word(start, start + place.length, ""), text)

    def choose_colour(self) -> ColourPicker | None:
        """Opens the picker for the colour word at the cursor; None without one."""
        word = self.colour_here()
        if word is None:
            return None
        picker = ColourPicker(self._theme, word.text.lower(), lambda made: self.rewrite(word, made), self)
        line, column = self.getCursorPosition()
        at = self.positionFromLineIndex(line, column)
        x = self.SendScintilla(QsciScintilla.SCI_POINTXFROMPOSITION, 0, at)
        y = self.SendScintilla(QsciScintilla.SCI_POINTYFROMPOSITION, 0, at)
        picker.open_at(self.mapToGlobal(QPoint(int(x), int(y) + 20)))
        return picker

    def _released(self, line: int, index: int, modifiers: Qt.KeyboardModifier) -> None:
        if modifiers & Qt.KeyboardModifier.ControlModifier:
            self.setCursorPosition(line, index)
            self.choose_colour()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Ctrl and the wheel over a size or width changes it."""
        self.helper.close()
        if event is None or not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            super().wheelEvent(event)
            return
        point = event.position().toPoint()
        at = self.SendScintilla(QsciScintilla.SCI_POSITIONFROMPOINT, point.x(), point.y())
        found = editable_words.stepped(self.text(), self._characters(int(at)), 1 if event.angleDelta().y() > 0 else -1)
        if found is not None:
            self.rewrite(*found)
        event.accept()

    def fix(self) -> bool:
        """Fixes the problem at the cursor, else the first that can be fixed; False without any."""
        line, column = self.getCursorPosition()
        here = self.problem_at(line, column)
        known = [p for p in ([here] if here is not None else []) + list(self._problems) if p.edits]
        if not known:
            return False
        self.apply(known[0].edits)
        return True

    def apply(self, edits: Iterable[tuple[Span, str]]) -> None:
        """Makes several edits as one that can be undone."""
        self.beginUndoAction()
        for place, text in sorted(edits, key=lambda e: (e[0].line, e[0].column), reverse=True):
            self.replace_at(place, text)
        self.endUndoAction()

    def know_names(self, text: str, names: Names) -> None:
        """Takes the names of a text, which was this one when they were asked for."""
        self._names = text, names

    @property
    def names(self) -> Names | None:
        """The names of the text as it is now; None while they are not known."""
        return self._names[1] if self._names is not None and self._names[0] == self.text() else None

    def cursor_place(self) -> tuple[int, int]:
        """Line and column of the cursor, counted from 1."""
        line, column = self.getCursorPosition()
        return line + 1, column + 1

    def word_here(self) -> str:
        """The word at the cursor."""
        return str(self.wordAtLineIndex(*self.getCursorPosition()))

    def go_to(self, place: Span) -> None:
        """Puts the cursor to a place."""
        self.setCursorPosition(place.line - 1, place.column - 1)
        self.ensureLineVisible(place.line - 1)
        self.setFocus()

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self._lexer.set_theme(theme)
        self.setPaper(theme.color("raised"))
        self.setMarginsBackgroundColor(theme.color("ground"))
        self.setMarginsForegroundColor(theme.color("faint"))
        self.setCaretForegroundColor(theme.color("ink"))
        self.setCaretLineBackgroundColor(theme.color("ground"))
        self.setSelectionBackgroundColor(theme.color("pick"))
        self.setSelectionForegroundColor(theme.color("ink"))
        self.setMatchedBraceBackgroundColor(theme.color("pick"))
        self.setMatchedBraceForegroundColor(theme.color("ink"))
        self.helper.set_theme(theme)
        for severity, role in ((Severity.ERROR, "falling"), (Severity.WARNING, "warn"), (Severity.HINT, "mute")):
            self.setIndicatorForegroundColor(theme.color(role), _INDICATORS[severity])
        self.recolor()
        self._show_swatches()
