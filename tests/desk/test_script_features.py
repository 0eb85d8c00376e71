"""The editor's helpers: mends, colours, sizes, the library's source, the gallery, settings of every kind."""

from __future__ import annotations

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QPoint, QPointF, Qt, QTime, QTimer
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QLabel, QTimeEdit, QToolButton

from oakladder.desk.look.theme import DAY, NIGHT
from oakladder.desk.script.editor import ScriptEditor
from oakladder.desk.script.gallery import Gallery
from oakladder.desk.script.source import SourceDialog
from oakladder.desk.widgets.questions import Question
from oakladder.desk.widgets.settings_strip import SettingsStrip
from oakladder.desk.window import Window
from oakladder.rung import analyse, compile_script, library
from oakladder.rung.service import editable_words
from oakladder.rung.values import PALETTE, SHAPES, STYLES
from windows import close_popups, popup_actions

RULE = """rung 1
title "A rule in teal"
setting n = 5 range 1..50 "Length"
setting ground = sand "Ground"
setting how = "plain" choose "plain", "strict"
-- amber is only a remark
signal go = close > sma(close, n) when_missing
line sma(close, n) color teal width 2
mark go below shape dot color #aa3355 size 3
""".replace(" when_missing", "")


@pytest.fixture
def editor(qtbot) -> ScriptEditor:  # type: ignore[no-untyped-def]
    made = ScriptEditor(DAY)
    qtbot.addWidget(made)
    made.resize(500, 300)
    made.show()
    made.load(RULE)
    return made


def cursor_on(editor: ScriptEditor, text: str) -> None:
    at = editor.text().index(text)
    before = editor.text()[:at]
    editor.setCursorPosition(before.count("\n"), len(before.split("\n")[-1]) + 1)


# --- words --------------------------------------------------------------------------------------------


def test_colour_words_are_found_outside_texts_and_remarks() -> None:
    assert [w.text for w in editable_words.colours(RULE)] == ["sand", "teal", "#aa3355"]


@given(st.text(max_size=80))
def test_every_word_that_is_found_stands_where_it_says(text: str) -> None:
    for word in editable_words.colours(text):
        assert text[word.start : word.end] == word.text


@pytest.mark.parametrize(
    ("text", "at", "by", "made"),
    [
        ("line x width 2", 12, 1, "2.5"),
        ("line x width 2", 8, -1, "1.5"),
        ("mark x size 5", 12, 1, "5"),
        ("mark x size 3 -- size 1", 12, -1, "2"),
        ("mark x size 3", 2, 1, None),
        ('note "size 3"', 9, 1, None),
    ],
)
def test_sizes_and_widths_step_within_their_bounds(text: str, at: int, by: int, made: str | None) -> None:
    found = editable_words.stepped(text, at, by)
    assert (found[1] if found else None) == made


def test_a_chosen_colour_rewrites_the_text_and_undo_brings_it_back(editor: ScriptEditor) -> None:
    for place, chosen in (("teal", "plum"), ("#aa3355", "good")):
        cursor_on(editor, f"color {place}"[6:] + (" width" if place == "teal" else ""))
        picker = editor.choose_colour()
        assert picker is not None and set(picker.buttons) == set(PALETTE)
        assert picker.buttons["teal"].isChecked() is (place == "teal")
        picker.buttons[chosen].click()
        assert f"color {chosen}" in editor.text() and f"color {place}" not in editor.text()
        editor.undo()
        assert f"color {place}" in editor.text()
    cursor_on(editor, "rung")
    assert editor.choose_colour() is None


def test_colour_words_carry_their_colour(editor: ScriptEditor) -> None:
    at = len(editor.text()[: editor.text().index("teal width")].encode())
    value = editor.SendScintilla(editor.SCI_INDICATORVALUEAT, 11, at)
    argb = DAY.paint("teal")
    assert value & 0xFFFFFF == (argb & 255) << 16 | (argb >> 8 & 255) << 8 | (argb >> 16 & 255)
    assert not editor.SendScintilla(editor.SCI_INDICATORVALUEAT, 11, RULE.index("amber"))
    editor.set_theme(NIGHT)
    assert editor.SendScintilla(editor.SCI_INDICATORVALUEAT, 11, at) != value


def test_ctrl_and_the_wheel_change_a_size(editor: ScriptEditor) -> None:
    cursor_on(editor, "size 3")
    at = editor.positionFromLineIndex(*editor.getCursorPosition())
    x, y = (editor.SendScintilla(c, 0, at) for c in (editor.SCI_POINTXFROMPOSITION, editor.SCI_POINTYFROMPOSITION))
    point = QPointF(x + 2, y + 4)

    def turn(by: int) -> None:
        event = QWheelEvent(
            point,
            point,
            QPoint(),
            QPoint(0, by),
            Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.ControlModifier,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        editor.wheelEvent(event)

    turn(120)
    assert "size 4" in editor.text()
    turn(-120)
    turn(-120)
    assert "size 2" in editor.text()


def test_the_mend_of_a_problem_is_one_key(editor: ScriptEditor) -> None:
    editor.load("rung 1\nlet Fast = 1\nline Fast\n")
    problems = analyse(editor.text()).problems
    editor.show_problems(problems)
    assert any(p.replacement for p in problems)
    while editor.fix():
        problems = analyse(editor.text()).problems
        editor.show_problems(problems)
    assert not [p for p in analyse(editor.text()).problems if p.is_error]
    assert "let fast = 1" in editor.text()


def test_a_mend_of_several_places_is_one_key_and_one_step_back(editor: ScriptEditor) -> None:
    text = 'rung 1\nlet Fast = sma(close, 9)\nline Fast color "teal"\nif close > open\n    set n = n + Fast\nline n\n'
    editor.load(text)
    editor.show_problems(analyse(text).problems)
    assert editor.fix() and editor.text().count("fast") == 3 and "Fast" not in editor.text()
    editor.undo()
    assert editor.text() == text
    for _ in range(4):
        problems = analyse(editor.text()).problems
        editor.show_problems(problems)
        if not problems:
            break
        assert editor.fix()
    assert editor.text() == (
        "rung 1\nlet fast = sma(close, 9)\nline fast color teal\nkeep n = 0\nif close > open\n"
        "    set n = n + (fast else 0)\nline n\n"
    )


def test_the_name_at_the_cursor_is_renamed_everywhere_and_undone_in_one_step(window: Window, calm, qtbot) -> None:  # type: ignore[no-untyped-def]
    editor = window.bench.script.editor
    before = editor.text()
    cursor_on(editor, "near")
    count = len(re.findall(r"\bnear\b", before))

    def answer() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, Question) and f"in {count} places" in dialog.findChild(QLabel, "head").text()
        QTest.keyClicks(dialog.focusWidget(), "quick")
        QTest.keyClick(dialog.focusWidget(), Qt.Key.Key_Return)

    QTimer.singleShot(0, answer)
    window.action_by_name["rename_name"].trigger()
    assert editor.text() == re.sub(r"\bnear\b", "quick", before)
    calm(window)
    assert not [p for p in window.session.rule.problems if p.is_error]
    editor.undo()
    assert editor.text() == before


def test_the_outline_offers_what_the_script_defines_and_goes_there(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    editor = window.bench.script.editor
    window.action_by_name["show_outline"].trigger()
    offered = popup_actions()
    lines = editor.text().split("\n")
    assert len(offered) == sum(line.startswith(("setting", "let", "signal")) for line in lines)
    (flow,) = (action for words, action in offered.items() if words.startswith("flow   signal, line "))
    flow.trigger()
    close_popups()
    line, column = editor.getCursorPosition()
    assert lines[line].startswith("signal flow") and column == len("signal ")
    editor.replace_all("rung 1\n")
    assert editor.names is None  # those of the text before do not count
    window.action_by_name["show_outline"].trigger()
    calm(window)
    assert "defines nothing yet" in window.status.text()


def test_what_is_no_name_of_the_script_says_why_it_cannot_be_renamed(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    cursor_on(window.bench.script.editor, "close")
    with qtbot.waitSignal(window.session.status) as told:
        window.action_by_name["rename_name"].trigger()
    assert told.args == ["`close` is not a name of this script, so it cannot be renamed."]


def test_the_definition_of_a_name_of_the_script_is_gone_to(window: Window) -> None:
    editor = window.bench.script.editor
    text = editor.text()
    line = next(k for k, row in enumerate(text.split("\n")) if row.startswith("let near"))
    editor.setCursorPosition(*editor.lineIndexFromPosition(text.encode().rindex(b"near")))
    window.action_by_name["go_to_definition"].trigger()
    assert editor.getCursorPosition() == (line, 4)


# --- the library and the gallery ----------------------------------------------------------------------


def test_a_library_function_is_read_and_copied_into_the_script(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    panel = window.bench.script
    cursor_on(panel.editor, "sma(")
    panel.go_to_definition()
    assert isinstance(panel.source, SourceDialog)
    found = library.function("sma")
    assert found is not None and panel.source.text.text() == found.source
    panel.source.new_name.setText("Sma")
    panel.source.copy.click()
    assert "name that the library does not have" in panel.source.word.text()
    panel.source.new_name.setText("my_mean")
    panel.source.copy.click()
    calm(window)
    assert "define my_mean(x, n)" in panel.editor.text()
    assert not [p for p in window.session.rule.problems if p.is_error]
    lines = panel.editor.text().split("\n")
    first_use = next(k for k, line in enumerate(lines) if line.startswith(("let", "signal", "line")))
    assert lines.index("define my_mean(x, n)") < first_use


def test_the_gallery_shows_every_word_and_writes_it(qtbot) -> None:  # type: ignore[no-untyped-def]
    gallery = Gallery(DAY)
    qtbot.addWidget(gallery)
    gallery.resize(gallery.sizeHint())
    gallery.show()
    gallery.grab()
    texts = {text for _, _, text in gallery.cells}
    assert texts >= {f"shape {s}" for s in SHAPES} | {f"style {s}" for s in STYLES} | {f"color {c}" for c in PALETTE}
    for (_, _, text), place in zip(gallery.cells, gallery._places, strict=True):
        assert gallery.text_at(place.center()) == text
        clause = f"rung 1\n{'line close' if text.startswith('style') else 'mark close > open'} {text}"
        assert not [p for p in analyse(clause).problems if p.is_error]


def test_a_word_of_the_gallery_lands_at_the_cursor(window: Window) -> None:
    panel = window.bench.script
    panel.open_gallery()
    line = (
        panel.editor.text().split("\n").index(next(x for x in panel.editor.text().split("\n") if x.startswith("line")))
    )
    panel.editor.setCursorPosition(line, panel.editor.lineLength(line) - 1)
    panel.gallery.gallery.chosen.emit("style dashed")
    assert panel.editor.text().split("\n")[line].endswith(" style dashed")
    panel.gallery.close()


# --- settings -----------------------------------------------------------------------------------------

KINDS = """rung 1
setting opened = 09:30 "Opened"
setting span = 1w
setting tone = teal
setting src = close choose close, hl2
line src on span color tone when clock > opened
"""


def test_clocks_timeframes_and_colours_have_controls_of_their_own(qtbot) -> None:  # type: ignore[no-untyped-def]
    strip = SettingsStrip()
    qtbot.addWidget(strip)
    told: list[tuple[str, object]] = []
    strip.changed.connect(lambda n, v: told.append((n, v)))
    strip.show_settings(compile_script(KINDS).settings, {})
    strip.show()
    clock, span, tone, src = (strip.controls[n] for n in ("opened", "span", "tone", "src"))
    assert isinstance(clock, QTimeEdit) and clock.time() == QTime(9, 30)
    assert isinstance(span, QComboBox) and isinstance(tone, QToolButton) and isinstance(src, QComboBox)
    assert not strip._foot.isVisible()
    clock.setTime(QTime(10, 15))
    span.setCurrentText("90m")
    line = span.lineEdit()
    assert line is not None
    line.editingFinished.emit()
    src.setCurrentText("hl2")
    tone.click()
    picker = QApplication.activePopupWidget()
    assert picker is not None
    picker.buttons["rust"].click()  # type: ignore[attr-defined]
    assert told == [("opened", 615.0), ("span", "90m"), ("src", "hl2"), ("tone", "rust")]
    assert strip._foot.isVisible() and tone.text() == "rust"


def test_settings_are_kept_in_the_script_or_dropped(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    panel = window.bench.script
    panel.editor.selectAll()
    panel.editor.replaceSelectedText(RULE)
    calm(window)
    panel.settings.controls["n"].setValue(9)  # type: ignore[attr-defined]
    panel.settings.controls["how"].setCurrentText("strict")  # type: ignore[attr-defined]
    calm(window)
    assert panel.settings._foot.isVisible()
    panel.settings.drop.click()
    calm(window)
    assert window.session.rule.settings == {} and "setting n = 5" in panel.editor.text()
    assert panel.settings.controls["n"].value() == 5  # type: ignore[attr-defined]
    panel.settings.controls["n"].setValue(12)  # type: ignore[attr-defined]
    panel.settings.controls["how"].setCurrentText("strict")  # type: ignore[attr-defined]
    calm(window)
    panel.settings.keep.click()
    calm(window)
    text = panel.editor.text()
    assert "setting n = 12 range 1..50" in text and 'setting how = "strict" choose' in text
    assert window.session.rule.settings == {} and not panel.settings._foot.isVisible()
    assert not [p for p in window.session.rule.problems if p.is_error]


def test_no_label_of_a_setting_is_cut(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    for wide in (1280, 1000, 1700):
        window.resize(wide, 700)
        calm(window)
        strip = window.bench.script.settings
        labels = [w for w in strip.findChildren(QLabel) if w.isVisible() and w.buddy() is not None]
        assert len(labels) == 3
        for label in labels:
            needed = label.fontMetrics().horizontalAdvance(label.text())
            assert label.wordWrap() or label.width() >= needed, (wide, label.text())
            assert label.height() >= label.heightForWidth(label.width()) or not label.wordWrap()
