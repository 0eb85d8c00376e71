"""The script and its file: changed by another program, not to be saved, left, and brought back."""

from __future__ import annotations

import errno
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QWidget

from oakladder.desk.quit_dialogs import UnsavedDialog
from oakladder.desk.script.difference import DifferenceView
from oakladder.desk.window import Window
from oakladder.user import autosave

LEFT = Qt.MouseButton.LeftButton


def typed(window: Window, text: str) -> None:
    editor = window.bench.script.editor
    editor.setFocus()
    editor.setCursorPosition(editor.lines() - 1, 0)
    QTest.keyClicks(editor, text)
    QTest.keyClick(editor, Qt.Key.Key_Escape)


def until(test) -> None:  # type: ignore[no-untyped-def]
    """Lets the application work until something is so."""
    for _ in range(500):
        QApplication.processEvents()
        if test():
            return
        QTest.qWait(10)
    raise AssertionError("it never came")


def answer(kind: type[QWidget], go) -> None:  # type: ignore[no-untyped-def]
    """Does something with the dialog of a kind once it is shown."""

    def look() -> None:
        shown = next((w for w in QApplication.topLevelWidgets() if isinstance(w, kind) and w.isVisible()), None)
        if shown is None:
            QTimer.singleShot(20, look)
        else:
            go(shown)

    QTimer.singleShot(0, look)


def test_a_script_that_another_program_changes_is_read_again_where_the_cursor_is(window: Window) -> None:
    path, editor = window.session.script.path, window.bench.script.editor
    assert path is not None
    editor.setCursorPosition(2, 2)
    path.write_text(path.read_text() + "\n-- by another program\n")
    until(lambda: "by another program" in editor.text())
    assert editor.getCursorPosition() == (2, 2) and not window.bench.script.standing.isVisible()
    assert "reloaded" in " ".join(window.status.said)
    (path.parent / "brand_new.rung").write_text("rung 1\n")
    chooser = window.bench.script.chooser
    until(lambda: chooser.findText("Brand new") >= 0)
    editor.undo()
    assert "by another program" not in editor.text()


@pytest.mark.parametrize("mine", [True, False])
def test_where_both_changed_it_the_user_says_which_text_counts(window: Window, mine: bool) -> None:
    path, standing = window.session.script.path, window.bench.script.standing
    assert path is not None
    window.session.script.save()
    typed(window, "-- mine")
    path.write_text("rung 1\n-- theirs\n")
    until(standing.isVisible)
    assert standing.mine.isVisible() and not standing.again.isVisible() and "Another program" in standing.words.text()
    assert path.read_text() == "rung 1\n-- theirs\n"
    seen: list[str] = []

    def read(dialog: QWidget) -> None:
        view = dialog.findChild(DifferenceView)
        assert view is not None
        seen.append(view.toPlainText())
        dialog.close()

    from PyQt6.QtWidgets import QDialog

    answer(QDialog, read)
    QTest.mouseClick(standing.difference, LEFT)
    assert "+ -- theirs" in seen[0] and "- -- mine" in seen[0]
    QTest.mouseClick(standing.mine if mine else standing.theirs, LEFT)
    window.session.script.save()
    until(lambda: not standing.isVisible())
    assert ("-- mine" in path.read_text()) is mine and window.bench.script.editor.text() == path.read_text()
    other, versions = "-- theirs" if mine else "-- mine", window.session.workspace.versions
    until(lambda: any(other in v.text() for v in versions.of(path.name)))  # kept in the background


class FullDisk:
    """Lets no script be written while it is full."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch):
        self.full = True
        real = autosave.write_atomic

        def write(path: Path, content: bytes, **more: object) -> None:
            if self.full:
                raise OSError(errno.ENOSPC, "No space left on device", str(path))
            real(path, content, **more)  # type: ignore[arg-type]

        monkeypatch.setattr(autosave, "write_atomic", write)


def test_a_full_disk_is_said_until_there_is_room_and_never_left_over_without_asking(
    window: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    disk, path, standing = FullDisk(monkeypatch), window.session.script.path, window.bench.script.standing
    assert path is not None
    typed(window, "-- kept")
    until(standing.isVisible)
    assert "disk is full" in standing.words.text() and "Not saved yet" in window.bench.script.verdict.text()
    window.session.rule.open(next(p for p in window.session.workspace.script_files() if p != path))
    window.session.rule.open(path)
    assert "-- kept" in window.bench.script.editor.text()  # what was typed outlives another script
    answer(UnsavedDialog, lambda d: QTest.mouseClick(d.stay, LEFT))
    assert not window.close() and window.isVisible()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(tmp_path / "copy.rung"), ""))
    disk.full = False
    window.session.script.save_elsewhere(path, tmp_path / "copy.rung")
    assert "-- kept" in (tmp_path / "copy.rung").read_text()
    window.session.script.save()
    until(lambda: not standing.isVisible())
    assert "-- kept" in path.read_text()


def test_leaving_over_a_full_disk_saves_elsewhere_or_leaves_as_it_is_said(
    window: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    disk = FullDisk(monkeypatch)
    path = window.session.script.path
    assert path is not None
    typed(window, "-- kept")
    seen: list[str] = []

    def try_again(dialog: UnsavedDialog) -> None:
        seen.append(dialog.words.text())
        answer(UnsavedDialog, leave)
        QTest.mouseClick(dialog.again, LEFT)

    def leave(dialog: UnsavedDialog) -> None:
        QTest.mouseClick(dialog.go, LEFT)

    answer(UnsavedDialog, try_again)
    assert window.close()
    assert "comes back at the next start" in seen[0] and "disk is full" in seen[0]
    disk.full = False


def test_an_earlier_version_is_looked_at_and_brought_back(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    path, panel = window.session.script.path, window.bench.script
    assert path is not None
    first = panel.editor.text()
    typed(window, "-- the second")
    window.session.script.save()
    window.action_by_name["earlier_versions"].trigger()
    calm(window)
    dialog = panel.earlier
    assert dialog.list.count() == 1 and "- -- the second" in dialog.view.toPlainText()
    QTest.mouseClick(dialog.back, LEFT)
    assert panel.editor.text() == first
    panel.editor.undo()
    assert "-- the second" in panel.editor.text()
