"""Colours by the numbers: text and marks can be told from their grounds, and good from bad by colour-blind eyes."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QFontMetricsF
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from oakladder.desk.look.fonts import LARGE, SMALL, TEXT, code_font, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import DAY, NIGHT, Theme, qcolor
from oakladder.desk.window import Window
from oakladder.rung.values import PALETTE

GROUNDS = ("ground", "raised", "sunken")
#: Severity 1.0 of Machado, Oliveira and Fernandes (2009), on linear RGB.
BLIND = {
    "protan": [[0.152286, 1.052583, -0.204868], [0.114503, 0.786281, 0.099216], [-0.003882, -0.048116, 1.051998]],
    "deutan": [[0.367322, 0.860646, -0.227968], [0.280085, 0.672501, 0.047413], [-0.011820, 0.042940, 0.968881]],
    "tritan": [[1.255528, -0.076749, -0.178779], [-0.078411, 0.930809, 0.147602], [0.004733, 0.691367, 0.303900]],
}


def linear(color: QColor) -> np.ndarray:
    raw = np.array([color.red(), color.green(), color.blue()]) / 255
    return np.where(raw <= 0.04045, raw / 12.92, ((raw + 0.055) / 1.055) ** 2.4)


def contrast(one: QColor, other: QColor) -> float:
    weights = np.array([0.2126, 0.7152, 0.0722])
    low, high = sorted(float(weights @ linear(c)) for c in (one, other))
    return (high + 0.05) / (low + 0.05)


def over(fill: QColor, ground: QColor) -> QColor:
    share = fill.alphaF()
    return QColor(
        *(
            round(a * share + b * (1 - share))
            for a, b in zip(
                (fill.red(), fill.green(), fill.blue()), (ground.red(), ground.green(), ground.blue()), strict=True
            )
        )
    )


def lab(rgb: np.ndarray) -> np.ndarray:
    """CIE L*a*b* of linear RGB under D65."""
    xyz = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]]) @ np.clip(rgb, 0, 1)
    t = xyz / np.array([0.9505, 1.0, 1.089])
    f = np.where(t > 0.008856, np.cbrt(t), 7.787 * t + 16 / 116)
    return np.array([116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])])


@pytest.mark.parametrize("theme", [DAY, NIGHT], ids=["day", "night"])
def test_text_can_be_read_on_every_ground(theme: Theme) -> None:
    for ink, ground in itertools.product(("ink", "faint", "gain", "loss", "caution"), (*GROUNDS, "pick")):
        assert contrast(theme.color(ink), theme.color(ground)) >= 4.5, (ink, ground)
    words = (*PALETTE, "good", "bad", "warn", "calm", "mute", "ink")
    for word, strength, ground in itertools.product(words, (0.0, 0.5, 1.0), (*GROUNDS, "pick")):
        assert contrast(theme.color("ink"), over(theme.fill(word, strength), theme.color(ground))) >= 4.5, (
            word,
            ground,
        )


@pytest.mark.parametrize("theme", [DAY, NIGHT], ids=["day", "night"])
def test_marks_can_be_told_from_their_ground(theme: Theme) -> None:
    for mark, ground in itertools.product(("rising", "falling", "warn", "calm", "mute", "pin"), GROUNDS):
        assert contrast(theme.color(mark), theme.color(ground)) >= 3, (mark, ground)
    for word in PALETTE:
        assert contrast(qcolor(theme.paint(word)), theme.color("ground")) >= 3, word
    assert qcolor(theme.paint("#123456")) == QColor("#123456")  # what the user says stays


@pytest.mark.parametrize("theme", [DAY, NIGHT], ids=["day", "night"])
@pytest.mark.parametrize("kind", BLIND)
def test_colour_blind_eyes_tell_good_from_bad(theme: Theme, kind: str) -> None:
    matrix = np.array(BLIND[kind])
    seen = {role: lab(matrix @ linear(theme.color(role))) for role in ("rising", "falling", "gain", "loss", "calm")}
    for one, other in (("rising", "falling"), ("gain", "loss"), ("rising", "calm"), ("falling", "calm")):
        assert np.linalg.norm(seen[one] - seen[other]) >= 15, (one, other)


def test_figures_are_of_one_width_and_letters_of_code_apart(qapp: QApplication) -> None:
    for size, strong in itertools.product((SMALL, TEXT, LARGE), (False, True)):
        metrics = QFontMetricsF(ui_font(size, strong=strong))
        assert len({round(metrics.horizontalAdvance(c), 3) for c in "0123456789"}) == 1
    code = QFontMetricsF(code_font())
    assert len({round(code.horizontalAdvance(c), 3) for c in "l1I0OmW."}) == 1


def test_what_is_painted_is_said_too(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    """A screen reader is told the bar under the cursor, the ages on the ladder, the picture that is chosen."""
    chart = window.bench.chart
    last = len(chart.shown.bars) - 1
    chart.pin(last - 5)
    bars = chart.shown.bars
    assert f"C {bars['close'][last - 5]:,.2f}" in chart.accessibleDescription()
    assert window.session.chart.symbol in chart.accessibleDescription()
    assert "1d: flow: " in window.bench.ladder.accessibleDescription()
    flow = window.bench.strip.events[0]
    assert f"flow: {len(flow.bars)} times" in window.bench.strip.accessibleDescription()
    window.show_scan()
    window.run_scan()
    calm(window)
    sheet, found = window.scan.results.sheet, window.scan.results.model.found
    assert sheet.accessibleDescription().startswith(found[0].symbol)
    QTest.keyClick(sheet, Qt.Key.Key_Right)
    assert sheet.accessibleDescription().startswith(found[1].symbol)
    for show in (window.show_ladder, window.show_trial, window.show_data, window.show_alerts):
        show()
    own = [w for w in window.findChildren(QWidget) if isinstance(w, PaintedWidget)]
    assert len(own) > 8 and {type(w).__name__ for w in own if not w.accessibleName()} == set()
