"""Which side panels are shown beside the chart: as many of the wanted ones as fit."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QSplitter, QWidget


class Folding:
    """Hides the sides of a splitter that do not fit beside its middle, and shows them again when they fit.

    Where not all fit, the side that was asked for last stays. Every side keeps its least width.
    """

    def __init__(self, splitter: QSplitter, middle: QWidget, sides: Sequence[QWidget]):
        """``sides`` are wanted all, the last of them most."""
        self._splitter, self._middle, self._sides = splitter, middle, tuple(sides)
        self._wanted = list(sides)

    def show(self, side: QWidget) -> None:
        """Shows a side, replacing the other one if both do not fit."""
        self._wanted = [*(s for s in self._wanted if s is not side), side]
        self.fit()

    def turn(self, side: QWidget) -> None:
        """Shows a side, or folds it away where it is shown."""
        if side.isHidden():
            self.show(side)
        else:
            self._wanted.remove(side)
            self.fit()

    def fit(self) -> None:
        """Shows the sides that fit now."""
        room = self._splitter.width() - self._middle.minimumWidth()
        shown: list[QWidget] = []
        for side in reversed(self._wanted):
            room -= side.minimumWidth() + self._splitter.handleWidth()
            if room < 0:
                break
            shown.append(side)
        for side in self._sides:
            if side.isHidden() == (side in shown):
                side.setVisible(side in shown)
