"""What the controllers know of the colours on the screen: the name of a theme, and which colour a word stands for."""

from __future__ import annotations

from typing import NamedTuple, Protocol


class ColorTheme(Protocol):
    """One set of colours. The window's own themes have more to them: fonts, fills, the style sheet."""

    @property
    def name(self) -> str:
        """``day`` or ``night``."""

    def paint(self, word: str) -> int:
        """A colour word of Rung or ``#rrggbb`` as 0xAARRGGBB."""


class Themes(NamedTuple):
    """The two themes of the window."""

    day: ColorTheme
    night: ColorTheme

    def named(self, name: str) -> ColorTheme:
        """The theme of this name, or the day theme for any other name."""
        return self.night if name == self.night.name else self.day
