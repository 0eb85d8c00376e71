"""The symbols of the library as the window shows them."""

from __future__ import annotations

from collections.abc import Mapping

from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo


class Symbols:
    """What was known of the symbols when the window was last told of a change: the library itself may be changed by any
    thread and by other programs, between two lines of what is being shown."""

    def __init__(self, library: BarLibrary):
        self._library = library
        self.infos: Mapping[str, SymbolInfo] = library.infos

    def take(self) -> None:
        """Shows the library as it is now."""
        self.infos = self._library.infos
