"""Beside the table of the Ladder: why the current cell says what it says, and a small chart of its symbol on each timeframe."""

from __future__ import annotations

import contextlib
from collections.abc import Callable

from PyQt6.QtCore import QModelIndex, QObject, QPoint, Qt
from PyQt6.QtWidgets import QToolTip

from oakladder.app.columns import ScriptColumn, ask_of, with_seal
from oakladder.app.jobs import Ticket, sentence_of
from oakladder.app.session import Session
from oakladder.bars.errors import DataProblem
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.desk.ladder.table import LadderTable
from oakladder.desk.widgets.small_charts import Minis
from oakladder.engine.columns.cell_why import explain
from oakladder.engine.picture.thumbnail import Marking, Thumbnail, thumbnail
from oakladder.rung import RunProblem, ScriptError
from oakladder.user.scripts import ScriptFileProblem

_MINI_BARS = 70


class CellExplanation(QObject):
    """Computes it in the background."""

    def __init__(self, session: Session, table: LadderTable, minis: Minis, parent: QObject):
        super().__init__(parent)
        self._session, self._table, self._minis = session, table, minis

    def clear(self) -> None:
        """Shows nothing: there is no row."""
        for job in ("why here", "small_charts"):
            self._session.jobs.stop(job)
        self._minis.show_why("", ())
        self._minis.show_series("", [])

    def explain(self, index: QModelIndex) -> None:
        """Tells beside the table why the current cell says what it says."""
        self._minis.show_why("", ())
        self._ask_why("why here", index, lambda head, lines: self._minis.show_why(head, lines))

    def hover(self, index: QModelIndex, at: QPoint) -> None:
        """What the hover says at once, and a moment later with the reasons."""
        viewport = self._table.viewport()

        def show(head: str, lines: tuple[str, ...]) -> None:
            if viewport is not None and viewport.underMouse():
                QToolTip.showText(at, "\n".join([head, *lines, "Enter opens it on the Bench."]), viewport)

        hint = self._table.rows.data(index, Qt.ItemDataRole.ToolTipRole)
        if hint:
            QToolTip.showText(at, str(hint), viewport)
        self._ask_why("why hover", index, show)

    def _ask_why(self, job: str, index: QModelIndex, then: Callable[[str, tuple[str, ...]], None]) -> None:
        self._session.jobs.stop(job)
        cell = self._table.cell_at(index) if index.isValid() else None
        if cell is None:
            return
        place, symbol = self._table.place_of(self._table.rows.mapToSource(index)), self._table.symbol_at(index.row())
        column, source = self._table.source.columns[place.column], self._session.replay.source
        frame = Timeframe.parse(place.timeframe)
        head = f"{symbol}  {column.caption} on {frame}: {cell.text}"

        def work(ticket: Ticket) -> tuple[str, ...]:
            ask = ask_of(self._session.workspace, column, frame)
            path = self._session.workspace.scripts / column.script
            return explain(with_seal(ask, self._session.seals, path, (symbol,)), source, symbol).lines

        def failed(error: Exception) -> None:
            then(head, (sentence_of(error),))

        self._session.jobs.start(job, work, lambda lines: then(head, lines), failed)

    def show_charts(self, index: QModelIndex) -> None:
        if not index.isValid():
            return
        symbol, source = self._table.symbol_at(index.row()), self._session.replay.source
        frames = list(dict.fromkeys(t for c in self._table.source.columns for t in c.timeframes)) or [str(ONE_DAY)]
        frames = sorted(frames, key=lambda t: -Timeframe.parse(t).order)[:6]

        columns = sorted(
            self._table.source.columns, key=lambda c: c is not self._column_at(index)
        )  # the current one's marks go first

        def work(ticket: Ticket) -> list[Thumbnail]:
            marking = next(filter(None, (self._marking(c, ticket.cancelled) for c in columns)), None)
            made = []
            for text in frames:
                with contextlib.suppress(DataProblem, KeyError, RunProblem):
                    made.append(thumbnail(source, symbol, Timeframe.parse(text), marking, bars=_MINI_BARS))
            return made

        self._session.jobs.start("small_charts", work, lambda made: self._minis.show_series(symbol, made), slow=True)

    def _column_at(self, index: QModelIndex) -> ScriptColumn | None:
        place = self._table.place_of(index)
        return self._table.source.columns[place.column] if 0 <= place.column < len(self._table.source.columns) else None

    def _marking(self, column: ScriptColumn, cancelled: Callable[[], bool]) -> Marking | None:
        """The signal that a column shows; None where it shows something else, or cannot be read."""
        with contextlib.suppress(ScriptError, ScriptFileProblem, RunProblem):
            ask = ask_of(self._session.workspace, column, ONE_DAY, cancelled)
            if any(s.name == ask.name for s in ask.program.signals):
                return Marking(ask.program, (str(ask.name),), ask.settings)
        return None
