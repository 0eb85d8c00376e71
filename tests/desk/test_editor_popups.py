"""Typing into the editor with real keys: what is offered, what is hinted, what is refused; and where popups stand."""

from __future__ import annotations

import threading

import pytest
from PyQt6.QtCore import QPoint, QRect, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from oakladder.bars.store.library import BarLibrary
from oakladder.desk.app import make_app, make_window
from oakladder.desk.screenshot import settle
from oakladder.desk.script.editor import ScriptEditor
from oakladder.desk.script.popups import placed
from oakladder.desk.window import Window
from oakladder.rung.service import reference_docs
from oakladder.rung.service.completion import call_here, everything, fitting, word_before
from oakladder.user.scripts import MAX_SCRIPT_BYTES
from oakladder.user.workspace import Workspace
from windows import put_away


@pytest.fixture
def editor(window: Window) -> ScriptEditor:
    made = window.bench.script.editor
    made.load("rung 1\n")
    made.setCursorPosition(1, 0)
    made.setFocus()
    return made


def shown_within(editor: ScriptEditor) -> QRect:
    """The word list, which must be a part of the window and lie within it."""
    words = editor.helper.list
    assert editor.helper.listing and words.window() is editor.window() and not words.isWindow()
    assert words.parentWidget() is not None and words.parentWidget().rect().contains(words.geometry())
    return words.geometry()


def test_words_are_offered_and_taken_with_the_keys(editor: ScriptEditor) -> None:
    QTest.keyClicks(editor, "let a = s")
    assert not editor.helper.listing
    QTest.keyClicks(editor, "m")
    shown_within(editor)
    words = [editor.helper.list.item(k).text() for k in range(editor.helper.list.count())]
    assert "sma" in words and words.index("sma") < words.index("ema") if "ema" in words else "sma" in words
    QTest.keyClick(editor, Qt.Key.Key_Down)
    QTest.keyClick(editor, Qt.Key.Key_Up)
    while editor.helper.list.chosen.word != "sma":  # type: ignore[union-attr]
        QTest.keyClick(editor, Qt.Key.Key_Down)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    assert editor.text() == "rung 1\nlet a = sma" and not editor.helper.listing
    QTest.keyClicks(editor, "(close, 2")
    assert editor.helper.hinting and "<b>" in editor.helper.hint.text() and "sma(" in editor.helper.hint.text()
    QTest.keyClicks(editor, ")")
    assert not editor.helper.hinting
    QTest.keyClick(editor, Qt.Key.Key_Return)
    QTest.keyClicks(editor, "li")
    QTest.keyClick(editor, Qt.Key.Key_Escape)
    assert not editor.helper.listing
    QTest.keyClicks(editor, "ne clo")
    QTest.keyClick(editor, Qt.Key.Key_Tab)
    assert editor.text().endswith("line close")


def test_the_first_key_waits_for_no_function_to_be_read(
    qapp: QApplication, workspace: Workspace, market: BarLibrary, monkeypatch: pytest.MonkeyPatch
) -> None:
    """At a first start nothing of the library is known; what can be offered is read aside, once the chart is there."""
    monkeypatch.setattr(Workspace, "library", lambda self: market)
    readers: list[bool] = []
    real = reference_docs.library.function

    def function(name: str) -> object:
        readers.append(threading.current_thread() is threading.main_thread())
        return real(name)

    reference_docs.functions.cache_clear()
    monkeypatch.setattr(reference_docs.library, "function", function)
    window = make_window(workspace)
    window.show()
    settle(make_app(), window.session)
    assert len(readers) >= 70 and not any(readers)
    readers.clear()
    editor = window.bench.script.editor
    editor.load("rung 1\n")
    editor.setCursorPosition(1, 0)
    QTest.keyClicks(editor, "let a = sm")
    assert editor.helper.listing and not readers
    put_away(window)


def test_enter_after_a_whole_word_is_a_new_line(editor: ScriptEditor) -> None:
    QTest.keyClicks(editor, "line low")
    QTest.keyClick(editor, Qt.Key.Key_Return)
    assert editor.text() == "rung 1\nline low\n"


def test_nothing_is_offered_in_remarks_and_texts_and_everything_goes_with_the_place(
    window: Window, editor: ScriptEditor
) -> None:
    QTest.keyClicks(editor, "-- clo")
    assert not editor.helper.listing
    QTest.keyClick(editor, Qt.Key.Key_Return)
    QTest.keyClicks(editor, 'title "clo')
    assert not editor.helper.listing
    QTest.keyClicks(editor, '" clo')
    assert editor.helper.listing
    window.show_ladder()
    assert not editor.helper.listing
    window.show_bench()
    editor.setFocus()
    QTest.keyClicks(editor, "s")
    assert editor.helper.listing
    QTest.mouseClick(editor.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(60, 40))
    assert not editor.helper.listing


@pytest.mark.parametrize("size", [(1280, 800), (800, 520)])
def test_popups_stay_within_the_window(window: Window, editor: ScriptEditor, size: tuple[int, int]) -> None:
    window.resize(*size)
    window.move(5000, 3000)  # on no screen at all
    QApplication.processEvents()
    for _ in range(30):
        QTest.keyClick(editor, Qt.Key.Key_Return)
    QTest.keyClicks(editor, "line close + " + "high + " * 9 + "vol")
    assert shown_within(editor).width() > 100
    QTest.keyClick(editor, Qt.Key.Key_Escape)
    QTest.keyClicks(editor, " + sma(")
    hint = editor.helper.hint
    assert editor.helper.hinting and hint.parentWidget().rect().contains(hint.geometry())  # type: ignore[union-attr]


def test_a_text_that_is_too_long_is_refused_in_words_and_what_was_there_stays(
    window: Window, calm, editor: ScriptEditor
) -> None:  # type: ignore[no-untyped-def]
    QTest.keyClicks(editor, "-- mine")
    board = QApplication.clipboard()
    assert board is not None
    board.setText("x" * (MAX_SCRIPT_BYTES + 1))
    editor.paste()
    calm(window)
    assert editor.text() == "rung 1\n-- mine" and f"{MAX_SCRIPT_BYTES:,} bytes" in window.status.text()
    QTest.keyClicks(editor, " too")
    board.setText("fine\r\nhere\r")
    editor.paste()
    calm(window)
    assert editor.text() == "rung 1\n-- mine toofine\nhere\n" and window.session.script.text == editor.text()


def test_a_call_is_known_by_what_stands_before_the_cursor() -> None:
    found = call_here('line sma(close, ema(close, 3), "a, b(", ')
    assert found is not None and (found.name, found.at) == ("sma", 3)
    inner = call_here("line sma(close, ema(close, ")
    assert inner is not None and (inner.name, inner.at) == ("ema", 1)
    assert call_here("line (close + ") is None and call_here("sma(close)") is None
    assert call_here("-- sma(") is None and call_here("") is None


def test_what_fits_begins_with_what_is_typed_and_then_has_it_inside() -> None:
    offers = everything(["smooth_own"])
    words = [o.word for o in fitting(offers, "sm")]
    assert "smooth_own" in words and words[0].startswith("sm")
    heads = [w.startswith("sm") for w in words]
    assert heads == sorted(heads, reverse=True)
    assert fitting(offers, "s") == [] and fitting(offers, "zzzz") == []
    assert word_before("line clo") == "clo" and word_before("-- clo") == "" and word_before('"clo') == ""


def test_a_popup_goes_where_there_is_room() -> None:
    room, size = QRect(0, 0, 400, 300), QRect(0, 0, 200, 100)
    assert placed(size, QRect(50, 50, 1, 14), room).y() > 60
    assert placed(size, QRect(50, 280, 1, 14), room).y() + 100 < 282
    assert placed(size, QRect(390, 50, 1, 14), room).x() == 200
    assert placed(QRect(0, 0, 900, 900), QRect(390, 50, 1, 14), room) == QPoint(0, 0)
