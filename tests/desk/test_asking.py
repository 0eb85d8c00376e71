"""Questions carry a verb on each button, and what is under way stands in the top line."""

from __future__ import annotations

import re
import threading
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QPushButton

from oakladder.app.jobs import Ticket
from oakladder.desk.app import make_app
from oakladder.desk.widgets import activity
from oakladder.desk.widgets.column_chooser import ColumnChooser
from oakladder.desk.widgets.questions import Question, agreed, one_of, words_for
from oakladder.desk.widgets.transient import answered
from oakladder.desk.window import Window
from oakladder.rung import compile_script
from windows import once_asked


def test_a_question_is_answered_by_its_verb_or_left_by_escape(qapp: QApplication, window: Window) -> None:
    seen: list[list[str]] = []

    def press(key: Qt.Key | None) -> None:
        question = QApplication.activeModalWidget()
        assert isinstance(question, Question)
        seen.append([b.text() for b in question.findChildren(QPushButton)])
        if key is None:
            go = next(b for b in question.findChildren(QPushButton) if b.text() == "Delete")
            QTest.mouseClick(go, Qt.MouseButton.LeftButton)
        else:
            QTest.keyClick(question, key)

    for key, answer in ((None, True), (Qt.Key.Key_Escape, False)):
        once_asked(lambda key=key: press(key))
        assert agreed(window, "Delete the list Mine?", "This cannot be undone.", "Delete") is answer
    assert [sorted(words) for words in seen] == [["Cancel", "Delete"]] * 2


@pytest.mark.parametrize(
    ("keys", "answer"),
    [
        (["Ours", Qt.Key.Key_Return], "Ours"),
        (["Ours", Qt.Key.Key_Tab, Qt.Key.Key_Tab, Qt.Key.Key_Space], "Ours"),
        (["Ours", Qt.Key.Key_Escape], None),
        ([Qt.Key.Key_Return], "Mine"),
    ],
)
def test_words_are_answered_by_enter_and_left_by_escape(
    qapp: QApplication, window: Window, keys: list[str | Qt.Key], answer: str | None
) -> None:
    def press() -> None:
        for key in keys:
            at = QApplication.focusWidget()
            QTest.keyClicks(at, key) if isinstance(key, str) else QTest.keyClick(at, key)

    once_asked(press)
    assert words_for(window, "What shall it be called?", "Rename", "Mine") == answer


def test_enter_does_nothing_that_cannot_be_undone(qapp: QApplication, window: Window) -> None:
    once_asked(lambda: QTest.keyClick(QApplication.activeModalWidget(), Qt.Key.Key_Return))
    assert not agreed(window, "Delete the list Mine?", "This cannot be undone.", "Delete")


def test_enter_in_a_form_takes_what_was_filled_in(qapp: QApplication, window: Window) -> None:
    """And does not throw it away, in the columns' form as in every other with a verb below it."""
    chooser = ColumnChooser({"rule.rung": compile_script("rung 1\nsignal up = close > open")}, None, window)

    def press() -> None:
        QTest.keyClicks(chooser.other, "90m")
        QTest.keyClick(chooser.other, Qt.Key.Key_Return)

    once_asked(press)
    assert answered(chooser)


def test_one_of_several_is_chosen_with_the_keys(qapp: QApplication, window: Window) -> None:
    def press() -> None:
        QTest.keyClicks(QApplication.focusWidget(), "th")
        QTest.keyClick(QApplication.activeModalWidget(), Qt.Key.Key_Return)

    once_asked(press)
    assert one_of(window, "Which one?", "Take it", ["one", "two", "three"]) == 2


def test_long_work_is_told_with_how_far_it_is(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    go, told = threading.Event(), threading.Event()

    def work(ticket: Ticket) -> None:
        ticket.report(0.42)
        told.set()
        go.wait(20)

    window.session.jobs.start("scan", work, lambda _: None, slow=True)
    assert told.wait(20)
    window.activity.look()
    assert not window.activity.text()  # it has only begun
    deadline = 200
    while not window.activity.text() and deadline:
        QTest.qWait(20)
        make_app().processEvents()
        deadline -= 1
    assert "scan 42%" in window.activity.text() and "scan 42%" in window.activity.toolTip()
    go.set()
    calm(window)
    window.activity.look()
    assert not window.activity.text()


def test_every_kind_of_work_has_words() -> None:
    source = Path(activity.__file__).parents[2]
    texts = [path.read_text(encoding="utf-8") for path in source.rglob("*.py")]
    found = {
        kind
        for text in texts
        for kind in re.findall(r'(?:jobs\.start\(\s*f?|column_jobs\(|ColumnJobs\([\w, ]*)"([a-z_]+)', text)
    }
    assert len(found) > 15 and found <= set(activity.WORDS)
