"""The colours of Rung's words in the editor."""

from __future__ import annotations

import re

from PyQt6.Qsci import QsciLexerCustom
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QWidget

from oakladder.rung import library as rung_library
from oakladder.rung.layout import CLAUSE_WORDS
from oakladder.rung.parser import RESERVED, STATEMENT_WORDS
from oakladder.rung.registry import BAR_VALUES, PALETTE, PRIMITIVES

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
