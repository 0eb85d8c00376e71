"""What scripts, files and lists are called is shown as it is: markup is no markup, an ampersand no key."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel, QMenu, QToolTip, QWidget

from oakladder.app.columns import ScriptColumn
from oakladder.desk.window import Window
from windows import close_popups, opened, popup_actions

Calm = Callable[[Window], None]

LOUD = '<h1>Loud</h1> & <img src="x">'
SCRIPT = (
    'rung 1\ntitle "<h1>Loud</h1> & <b>bold</b>"\nsetting n = 20 range 2..60 "<i>n</i> & more"\n'
    'let a = sma(close, n)\nline a named "<u>a</u>"\nsignal go = close > a bullish "<b>go</b>"\n'
    'column a named "<s>x</s> & y"\nlabel "<h1>{close}</h1>" at high when go\n'
)


def hover(widget: QWidget, text: str) -> QLabel:
    QToolTip.showText(widget.mapToGlobal(QPoint(2, 2)), text, widget)
    QApplication.processEvents()
    return next(
        w
        for w in QApplication.topLevelWidgets()
        if w.metaObject().className() == "QTipLabel" and w.isVisible()  # type: ignore[union-attr,return-value]
    )


def test_every_label_and_hover_shows_markup_as_text(window: Window, calm: Calm) -> None:
    opened(window, calm, SCRIPT, "loud")
    window.session.watchlist.show_columns([ScriptColumn("loud.rung", "<s>x</s> & y", ["1d"])])
    window.session.lists.make("<h1>List</h1>", ["BRINE"])
    for show in (
        window.show_trial,
        window.show_scan,
        window.show_ladder,
        window.show_data,
        window.show_alerts,
        window.show_bench,
    ):
        show()
        calm(window)
        window.ensurePolished()
        labels = [label for label in window.findChildren(QLabel) if label.isVisible()]
        rich = [label for label in labels if label.textFormat() != Qt.TextFormat.PlainText]
        assert len(labels) > 5 and not rich, [label.text() for label in rich]
    hovered = [w for w in window.findChildren(QWidget) if w.toolTip() and w.isVisible()]
    tables = (window.bench.watchlist.table, window.ladder.table, window.trial.table, window.scan.results.table)
    assert len(hovered) > 20
    for part in (*hovered, *(t.viewport() for t in tables)):
        tip = hover(part, LOUD)
        assert tip.textFormat() == Qt.TextFormat.PlainText and tip.text() == LOUD
        assert tip.height() >= tip.heightForWidth(tip.width())  # nothing of it is cut off
        QToolTip.hideText()
    assert "<h1>Loud</h1>" in window.trial.sentence.text()


def test_dialogs_and_menus_show_names_as_they_are(window: Window, calm: Calm) -> None:
    window.show_ladder()
    calm(window)
    window.ladder.commands.make("Salt & <b>Tide</b>", ["BRINE", "FLAKE"])
    window.ladder.commands.make("Other", ["BRINE", "FLAKE"])
    calm(window)
    window.ladder.table.selectRow(0)
    point = window.ladder.table.visualRect(window.ladder.table.rows.index(0, 0)).center()
    window.ladder.table.customContextMenuRequested.emit(point)
    menu = QApplication.activePopupWidget()
    assert isinstance(menu, QMenu)
    assert "Add to Salt && <b>Tide</b>" in popup_actions()  # which a menu shows with one ampersand
    close_popups()


def test_a_hint_in_the_editor_shows_the_texts_of_the_script_as_they_are(window: Window, calm: Calm) -> None:
    opened(window, calm, SCRIPT, "loud")
    editor = window.bench.script.editor
    hint = editor.helper.hint
    hint.say("a < b & <h1>c</h1>\n  twice", editor.rect(), editor.rect())
    QTest.qWait(10)
    assert "&lt;h1&gt;c&lt;/h1&gt;" in hint.text() and "a &lt; b &amp;" in hint.text()
    assert hint.height() < 4 * hint.fontMetrics().height()  # no heading of a page
    hint.hide()
