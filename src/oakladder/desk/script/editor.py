"""The script editor: colours the words of Rung, underlines problems as they are typed, completes names."""

from __future__ import annotations

import re
import textwrap
from collections.abc import Sequence

from PyQt6.Qsci import QsciAPIs, QsciLexerCustom, QsciScintilla
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QWidget

from oakladder.rung import Problem, Severity
from oakladder.rung import library as rung_library
from oakladder.rung.describe import functions, word_help
from oakladder.rung.layout import CLAUSE_WORDS
from oakladder.rung.parser import RESERVED, STATEMENT_WORDS
from oakladder.rung.registry import BAR_VALUES, PALETTE, PRIMITIVES, SHAPES, STYLES

from ..look.theme import Theme, code_font

PLAIN, COMMENT, STATEMENT, CLAUSE, NUMBER, TEXT, NAME, FUNCTION, COLOUR = range(9)
_TOKEN = re.compile(
    r"--[^\n]*|\"(?:\\.|[^\"\\\n])*\"?|#[0-9a-fA-F]{6}\b|[0-9][0-9_.]*(?:[eE][+-]?[0-9]+)?(?:mo|[mhdw%])?|[A-Za-z_]\w*|\s+|."
)


class RungLexer(QsciLexerCustom):
    """Gives each word its style."""

    def __init__(self, parent: QWidget, theme: Theme):
        super().__init__(parent)
        self._functions = frozenset(PRIMITIVES) | frozenset(rung_library.names())
        self.set_theme(theme)

    def set_theme(self, theme: Theme) -> None:
        colors = {
            PLAIN: theme.ink,
            COMMENT: theme.faint,
            STATEMENT: theme.oak,
            CLAUSE: theme.faint,
            NUMBER: theme.falling,
            TEXT: theme.calm,
            NAME: theme.rising,
            FUNCTION: theme.rising,
            COLOUR: theme.warn,
        }
        if theme.name == "day":
            colors |= {STATEMENT: "#8a6528", TEXT: "#56744f", COLOUR: "#9a680d"}
        self.setDefaultPaper(theme.color("raised"))
        self.setDefaultColor(theme.color("ink"))
        for style, color in colors.items():
            font = code_font(9)
            font.setBold(style == STATEMENT)
            font.setItalic(style == COMMENT)
            self.setFont(font, style)
            self.setColor(QColor(color), style)
            self.setPaper(theme.color("raised"), style)

    def language(self) -> str:
        return "Rung"

    def description(self, style: int) -> str:
        return {
            PLAIN: "plain",
            COMMENT: "comment",
            STATEMENT: "statement",
            CLAUSE: "clause",
            NUMBER: "number",
            TEXT: "text",
            NAME: "bar value",
            FUNCTION: "function",
            COLOUR: "colour",
        }.get(style, "")

    def wordCharacters(self) -> str:
        return "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_"

    def styleText(self, start: int, end: int) -> None:
        editor = self.editor()
        text = editor.text()
        data = text.encode()
        start = data.rfind(b"\n", 0, start) + 1
        piece = data[start:end].decode(errors="replace")
        self.startStyling(start)
        first = True
        for found in _TOKEN.finditer(piece):
            word = found.group()
            style = self._style(word, first)
            if word.strip():
                first = False
            if "\n" in word:
                first = True
            self.setStyling(len(word.encode()), style)

    def _style(self, word: str, first: bool) -> int:
        if word.startswith("--"):
            return COMMENT
        if word.startswith('"'):
            return TEXT
        if word[0].isdigit():
            return NUMBER
        if first and word in STATEMENT_WORDS:
            return STATEMENT
        if word in RESERVED or word in ("on", "of", "forming", "if", "else"):
            return STATEMENT
        if word in BAR_VALUES:
            return NAME
        if word in self._functions:
            return FUNCTION
        if word in PALETTE or word.startswith("#"):
            return COLOUR
        return CLAUSE if word in CLAUSE_WORDS or word in ("bars",) else PLAIN


_INDICATORS = {Severity.ERROR: 8, Severity.WARNING: 9, Severity.HINT: 10}


class ScriptEditor(QsciScintilla):
    """A text editor for one script. ``typed`` comes with every change by hand."""

    typed = pyqtSignal(str)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self._problems: tuple[Problem, ...] = ()
        self._loading = False
        self.setUtf8(True)
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
        self._complete_from(())
        self.setAutoCompletionSource(QsciScintilla.AutoCompletionSource.AcsAPIs)
        self.setAutoCompletionThreshold(2)
        self.setAutoCompletionReplaceWord(True)
        self.setCallTipsStyle(QsciScintilla.CallTipsStyle.CallTipsNoContext)
        for number in _INDICATORS.values():
            self.indicatorDefine(QsciScintilla.IndicatorStyle.SquiggleIndicator, number)
        self.SendScintilla(QsciScintilla.SCI_SETMOUSEDWELLTIME, 350)
        self.SCN_DWELLSTART.connect(self._dwell)
        self.SCN_DWELLEND.connect(lambda *_: self.SendScintilla(QsciScintilla.SCI_CALLTIPCANCEL))
        self.textChanged.connect(self._changed)
        self.set_theme(theme)

    def _changed(self) -> None:
        if not self._loading:
            self.typed.emit(self.text())

    def load(self, text: str) -> None:
        """Puts another script in, without telling that it was typed."""
        self._loading = True
        self.setText(text)
        self.setCursorPosition(0, 0)
        self._loading = False

    def _complete_from(self, names: Sequence[str]) -> None:
        """Everything that can be typed: statements, functions with their parameters, bar values, colours, own names."""
        apis = QsciAPIs(self._lexer)
        for word in sorted(
            STATEMENT_WORDS | RESERVED | set(BAR_VALUES) | set(PALETTE) | set(SHAPES) | set(STYLES) | set(names)
        ):
            apis.add(word)
        for call, about in functions().values():
            apis.add(f"{call} {about}")
        apis.prepare()
        self._apis = apis

    def show_problems(self, problems: tuple[Problem, ...]) -> None:
        """Underlines the problems where they stand."""
        self._problems = problems
        last_line = self.lines() - 1
        for number in _INDICATORS.values():
            self.clearIndicatorRange(0, 0, last_line, self.lineLength(last_line), number)
        for problem in problems:
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
        else:
            word = self.wordAtLineIndex(line, column)
            text = word_help(word)
        if text:
            self.SendScintilla(QsciScintilla.SCI_CALLTIPSHOW, position, _wrapped(text).encode())

    def go_to(self, problem: Problem) -> None:
        """Puts the cursor where a problem is."""
        self.setCursorPosition(problem.span.line - 1, problem.span.column - 1)
        self.ensureLineVisible(problem.span.line - 1)
        self.setFocus()

    def set_theme(self, theme: Theme) -> None:
        self._lexer.set_theme(theme)
        self.setPaper(theme.color("raised"))
        self.setMarginsBackgroundColor(theme.color("ground"))
        self.setMarginsForegroundColor(theme.color("mute"))
        self.setCaretForegroundColor(theme.color("ink"))
        self.setCaretLineBackgroundColor(theme.color("ground"))
        self.setSelectionBackgroundColor(theme.color("pick"))
        self.setSelectionForegroundColor(theme.color("ink"))
        self.setMatchedBraceBackgroundColor(theme.color("pick"))
        self.setMatchedBraceForegroundColor(theme.color("ink"))
        self.setCallTipsBackgroundColor(theme.color("raised"))
        self.setCallTipsForegroundColor(theme.color("ink"))
        for severity, role in ((Severity.ERROR, "falling"), (Severity.WARNING, "warn"), (Severity.HINT, "mute")):
            self.setIndicatorForegroundColor(theme.color(role), _INDICATORS[severity])
        self.recolor()


def _wrapped(text: str, width: int = 64) -> str:
    return "\n".join(line for part in text.split("\n") for line in textwrap.wrap(part, width))
