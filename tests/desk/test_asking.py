"""Questions carry a verb on each button, and what is under way stands in the top line."""

from __future__ import annotations

import re
import threading
from pathlib import Path

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QPushButton

from oakladder.desk.app import make_app
from oakladder.desk.jobs import Ticket
from oakladder.desk.widgets import activity
from oakladder.desk.widgets.asking import Question, agreed
from oakladder.desk.window import Window


def test_a_question_is_answered_by_its_verb_or_left_by_escape(qapp: QApplication, window: Window) -> None:
    seen: list[list[str]] = []

    def press(key: Qt.Key | None) -> None:
        question = QApplication.activeModalWidget()
        assert isinstance(question, Question)
        seen.append([b.text() for b in question.findChildren(QPushButton)])
        if key is None:
            go = next(b for b in question.findChildren(QPushButton) if b.text() == "Delete it")
            QTest.mouseClick(go, Qt.MouseButton.LeftButton)
        else:
            QTest.keyClick(question, key)

    for key, answer in ((None, True), (Qt.Key.Key_Escape, False)):
        QTimer.singleShot(50, lambda key=key: press(key))
        assert agreed(window, "Delete the list Mine?", "It is gone for good then.", "Delete it") is answer
    assert [sorted(words) for words in seen] == [["Delete it", "Leave it"]] * 2


def test_long_work_is_told_with_how_far_it_is(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    go, told = threading.Event(), threading.Event()

    def work(ticket: Ticket) -> None:
        ticket.report(0.42)
        told.set()
        go.wait(20)

    window.desk.jobs.start("scan", work, lambda _: None, slow=True)
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
    source = Path(activity.__file__).parents[1]
    texts = [path.read_text(encoding="utf-8") for path in source.rglob("*.py")]
    found = {
        kind
        for text in texts
        for kind in re.findall(r'(?:jobs\.start\(\s*f?|column_jobs\(|ColumnJobs\([\w, ]*)"([a-z]+)', text)
    }
    assert len(found) > 15 and found <= set(activity.WORDS)
