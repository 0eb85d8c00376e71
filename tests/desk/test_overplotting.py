"""Many marks, labels and zones on few pixels: quick to paint, none forgotten, and a few look as they always did."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtGui import QImage, QPainter
from PyQt6.QtWidgets import QApplication

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.desk.chart.layer import Sight
from oakladder.desk.chart.marks import MarksAndLabels
from oakladder.desk.chart.overplotting import MANY, newest_in_cells, told_apart
from oakladder.desk.chart.trades import TradePaths
from oakladder.desk.look.theme import DAY
from oakladder.engine.picture.parts import Label, Mark
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script
from oakladder.trial.on_chart import asked_of, chart_trades

places = st.lists(st.tuples(st.floats(0, 300), st.one_of(st.floats(0, 200), st.just(float("nan")))), max_size=80)


@given(places, st.sampled_from([1.0, 4.0, 15.0]))
def test_each_point_is_stood_for_by_the_newest_of_its_cell(points: list[tuple[float, float]], cell: float) -> None:
    xs, ys = (np.array([p[k] for p in points]) for k in (0, 1))
    found = newest_in_cells(xs, ys, cell, cell)
    for k, newest in enumerate(found.tolist()):
        assert newest >= k and found[newest] == newest
        assert newest == k or (abs(xs[newest] - xs[k]) <= cell and abs(ys[newest] - ys[k]) <= cell)
    assert (found[np.isnan(ys)] == np.flatnonzero(np.isnan(ys))).all()


def test_few_points_are_all_painted() -> None:
    same = np.zeros(MANY)
    assert (
        len(told_apart(same, same, 5.0)) == MANY and len(told_apart(np.zeros(MANY + 1), np.zeros(MANY + 1), 5.0)) == 1
    )


def painted(count: int, labelled: int) -> tuple[MarksAndLabels, QImage]:
    bars = daily_bars(100 + 10 * np.sin(np.arange(count) / 40))
    at = np.linspace(0, count - 1, labelled).astype(np.int64)
    colours = np.full(labelled, 0xFF336699, dtype=np.uint32)
    layer = MarksAndLabels()
    label = Label(at, at, "above", None, [f"{k}" for k in range(labelled)], colours)
    mark = Mark("m", at, at, "below", None, "dot", colours, 2, [f"{k}" for k in range(labelled)])
    layer.show_all(bars, (mark,), (label,), DAY)
    image = QImage(600, 400, QImage.Format.Format_ARGB32_Premultiplied)
    image.fill(0)
    sight = Sight(0, count, 600 / count, 0, -10.0, 1300.0)
    sight.box = image.rect().toRectF()
    with QPainter(image) as painter:
        layer.paint(painter, sight)
    return layer, image


def told(layer: MarksAndLabels) -> int:
    """How many labels the hover speaks of."""
    count = 0
    for drawn in layer.drawn:
        lines = drawn.words.splitlines()
        more = lines[-1].startswith("and ")
        count += len(lines) + (int(lines[-1].split()[1].replace(",", "")) - 1 if more else 0)
    return count


def test_every_label_is_counted_however_many_there_are(qapp: QApplication) -> None:
    for labelled in (300, MANY, 4 * MANY, 40_000):
        layer, image = painted(50_000, labelled)
        assert told(layer) == labelled
        assert not any(
            a.box.intersects(b.box) for k, a in enumerate(layer.drawn) for b in layer.drawn[:k]
        )  # none covers another
        assert layer.drawn[0].words.splitlines()[0] == f"{labelled - 1}"  # the newest stands in front
        assert image.pixelColor(300, 400 - 1).alpha() in (0, 255) and not image.isNull()


def test_trades_are_shown_over_all_of_history_however_many_there_are(qapp: QApplication) -> None:
    program = compile_script("rung 1\ntrade ride long\n    enter when close > close[1]\n    at most 3 bars\n")
    bars = daily_bars(100 + 10 * np.sin(np.arange(9000) / 3))
    trades = chart_trades(run(program, panel_of([bars]), extra=asked_of(program)))
    assert trades is not None and len(trades.entered) > 1000
    layer = TradePaths()
    layer.show_trades(trades, DAY)
    image = QImage(600, 400, QImage.Format.Format_ARGB32_Premultiplied)
    image.fill(0)
    sight = Sight(0, 9000, 600 / 9000, 0, -10.0, 1300.0)
    sight.box = image.rect().toRectF()
    with QPainter(image) as painter:
        layer.paint(painter, sight)
    for left in range(0, 600, 60):
        assert any(image.pixelColor(x, y).alpha() for x in range(left, left + 60, 2) for y in range(0, 400, 2)), left
