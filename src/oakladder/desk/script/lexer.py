"""The colours of Rung's words in the editor."""

from __future__ import annotations

import re
from functools import cache

from PyQt6.Qsci import QsciLexerCustom
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QWidget

from oakladder.desk.look.fonts import code_font
from oakladder.desk.look.theme import Theme
from oakladder.rung import library as rung_library
from oakladder.rung.trade_words import POSITION, TRADE_INNER_WORDS
from oakladder.rung.values import BAR_VALUES, PALETTE, PRIMITIVES
from oakladder.rung.words import JOINING_WORDS, LINE_WORDS, RESERVED

PLAIN, COMMENT, STATEMENT, CLAUSE, NUMBER, TEXT, NAME, FUNCTION, COLOUR = range(9)
_TOKEN = re.compile(
    r"--[^\n]*|\"(?:\\.|[^\"\\\n])*\"?|#[0-9a-fA-F]{6}\b|[0-9][0-9_.]*(?:[eE][+-]?[0-9]+)?(?:mo|[mhdw%])?|[A-Za-z_]\w*|\s+|."
)


class RungLexer(QsciLexerCustom):
    """Gives each word its style."""

    def __init__(self, parent: QWidget, theme: Theme):
        super().__init__(parent)
        self._words = _styles()
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
            font = code_font()
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
        data = editor.text().encode()
        start = data.rfind(b"\n", 0, start) + 1
        piece = data[start:end].decode(errors="replace")
        self.startStyling(start)
        style, length = PLAIN, 0  # runs of one style are set together: setting takes longer than finding
        first = True
        for found in _TOKEN.finditer(piece):
            word = found.group()
            if word.isspace():
                first = first or "\n" in word
            elif (found_style := self._style(word, first)) != style:
                if length:
                    self.setStyling(length, style)
                style, length, first = found_style, 0, False
            else:
                first = False
            length += len(word) if word.isascii() else len(word.encode())
        self.setStyling(length, style)

    def _style(self, word: str, first: bool) -> int:
        if first and word in LINE_WORDS:
            return STATEMENT
        known = self._words.get(word)
        if known is not None:
            return known
        if word.startswith("--"):
            return COMMENT
        if word.startswith('"'):
            return TEXT
        if word[0].isdigit():
            return NUMBER
        return COLOUR if word.startswith("#") else PLAIN


@cache
def _styles() -> dict[str, int]:
    """The style of every word of the language; the last table wins for words in several tables."""
    kinds = (
        (CLAUSE, (*JOINING_WORDS, *TRADE_INNER_WORDS, "bars")),
        (COLOUR, PALETTE),
        (FUNCTION, (*PRIMITIVES, *rung_library.names())),
        (NAME, (*BAR_VALUES, POSITION)),
        (STATEMENT, (*RESERVED, "on", "of", "forming", "if", "else")),
    )
    return {word: style for style, words in kinds for word in words}
