"""A small chart as it is painted: hollow and filled bars, marks at their side, the bar that it is about."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QImage, QPainter
from PyQt6.QtWidgets import QApplication

from oakladder.desk.look.theme import DAY, NIGHT, Theme
from oakladder.desk.widgets.small_bars import draw_thumbnail
from oakladder.engine.picture.thumbnail import Thumbnail
from oakladder.rung.words import Tone

WIDE, HIGH = 200, 100


def made(opens: list[float], closes: list[float], marks: tuple[tuple[int, Tone], ...] = ()) -> Thumbnail:
    o, c = np.array(opens, dtype=float), np.array(closes, dtype=float)
    return Thumbnail("REED", "1d", o, np.fmax(o, c) + 1, np.fmin(o, c) - 1, c, marks, "some bars")


def painted(shown: Thumbnail, theme: Theme = DAY) -> QImage:
    image = QImage(WIDE, HIGH, QImage.Format.Format_RGB32)
    image.fill(theme.color("ground"))
    painter = QPainter(image)
    draw_thumbnail(painter, shown, QRectF(0, 0, WIDE, HIGH), theme, words=False)
    painter.end()
    return image


def colours(image: QImage, left: float = 0, right: float = 1) -> Counter[str]:
    columns = range(int(WIDE * left), int(WIDE * right))
    return Counter(image.pixelColor(x, y).name() for x in columns for y in range(HIGH))


@pytest.mark.parametrize("theme", [DAY, NIGHT], ids=["day", "night"])
def test_a_risen_bar_is_hollow_and_a_fallen_one_filled(qapp: QApplication, theme: Theme) -> None:
    image = painted(made([10, 30], [30, 10]), theme)
    risen, fallen = colours(image, 0, 0.5), colours(image, 0.5, 1)
    assert theme.falling not in risen and theme.rising not in fallen
    assert fallen[theme.falling] > 8 * risen[theme.rising] > 0  # an outline against a filled body


def test_marks_stand_below_or_above_their_bars(qapp: QApplication) -> None:
    flat = made([20, 20, 20], [21, 21, 21])
    before = painted(flat)
    for tone, role, below in ((Tone.BULLISH, DAY.rising, True), (Tone.BEARISH, DAY.falling, False)):
        image = painted(replace(flat, marks=((1, tone),)))
        changed = [y for y in range(HIGH) if image.pixelColor(WIDE // 2, y) != before.pixelColor(WIDE // 2, y)]
        assert changed and all((y > HIGH // 2) is below for y in changed)
        assert role in {image.pixelColor(WIDE // 2, y).name() for y in changed}


def test_the_bar_it_is_about_is_pointed_at(qapp: QApplication) -> None:
    shown = made([20, 20, 20, 20], [21, 21, 21, 21])
    assert DAY.pin not in colours(painted(shown))
    assert DAY.pin in colours(painted(replace(shown, here=2)), 0.5, 0.75)


def test_bars_without_prices_are_left_out(qapp: QApplication) -> None:
    nan = float("nan")
    holes = made([10, nan, 30], [30, nan, 10], ((1, Tone.BULLISH),))
    assert set(colours(painted(holes), 0.36, 0.64)) == {DAY.ground}
    for nothing in (made([nan], [nan]), made([], [])):
        assert set(colours(painted(nothing))) == {DAY.ground}


def test_prices_beside_those_of_the_bars_find_room(qapp: QApplication) -> None:
    shown = made([20, 21, 22], [21, 22, 23])
    image = QImage(WIDE, HIGH, QImage.Format.Format_RGB32)
    painter = QPainter(image)
    plot = draw_thumbnail(painter, shown, QRectF(0, 0, WIDE, HIGH), DAY, words=False, also=(10.0, 40.0))
    nowhere = draw_thumbnail(painter, made([np.nan], [np.nan]), QRectF(0, 0, WIDE, HIGH), DAY)
    painter.end()
    assert plot is not None and nowhere is None
    into, out = plot.point(0, 10.0), plot.point(2, 40.0)
    assert 0 < into.x() < out.x() < WIDE and HIGH > into.y() > out.y() > 0
    assert plot.point(1, 25.0).y() == pytest.approx((into.y() + out.y()) / 2)
