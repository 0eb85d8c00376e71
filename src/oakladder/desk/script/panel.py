"""The script side of the Bench: which script, its settings, its text, and what is wrong with it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.actions import hinted
from oakladder.app.session import Session
from oakladder.desk.look.spacing import GAP, HAIR, TIGHT
from oakladder.desk.look.theme import theme_of
from oakladder.desk.script.editor import ScriptEditor
from oakladder.desk.script.file_conflict import Standing
from oakladder.desk.script.gallery import GalleryDialog
from oakladder.desk.script.overlay_rows import OverlayRows
from oakladder.desk.script.source import SourceDialog
from oakladder.desk.script.versions import EarlierVersion, TriedText, VersionsDialog
from oakladder.desk.widgets.questions import words_for
from oakladder.desk.widgets.settings_strip import SettingsStrip
from oakladder.desk.widgets.transient import passing_menu, show_for_itself
from oakladder.rung import Problem, Severity, Span
from oakladder.rung.service.fixes import said
from oakladder.rung.service.names import Names, RenameProblem, names_of, renamable, rename
from oakladder.rung.service.reference_docs import functions
from oakladder.rung.texts import count_words
from oakladder.rung.words import Shown

#: So many problems are in sight, and in the list.
_MOST_PROBLEMS_SHOWN, _MOST_PROBLEMS = 5, 100


class ScriptPanel(QWidget):
    """Chooser, settings strip, editor and problems, from top to bottom."""

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        #: The script in the editor.
        self._shown: Path | None = None
        self.chooser = QComboBox(accessibleName="The script")
        self.chooser.activated.connect(self._choose)
        self.new_button = QToolButton(text="New")
        self.new_button.setToolTip(hinted("A new script to start from", "new_script"))
        self.new_button.clicked.connect(self.ask_new)
        self.settings = SettingsStrip()
        self.beside = OverlayRows(session)
        self.editor = ScriptEditor(theme_of(session))
        self.editor.setAccessibleName("The text of the script")
        self.standing = Standing(session)
        self.verdict = QLabel(objectName="quiet")
        self.problems = QListWidget(accessibleName="Problems of the script")
        self.problems.setWordWrap(True)
        self.problems.setSpacing(HAIR)
        self.problems.setViewportMargins(6, 0, 6, 0)
        self.problems.itemActivated.connect(self._go_to)
        self.problems.itemClicked.connect(self._go_to)
        self._lay_out()
        self.settings.changed.connect(session.rule.set_setting)
        self.settings.kept.connect(self.keep_settings)
        self.settings.dropped.connect(self.drop_settings)
        self.editor.typed.connect(session.rule.set_text)
        self.editor.refused.connect(session.status)
        session.script.settled.connect(self._show_saved)
        session.scripts_changed.connect(self._fill_chooser)
        session.script.opened.connect(self._opened)
        session.rule.problems_changed.connect(self._show_problems)
        session.rule.settings_changed.connect(self._show_settings)
        session.chart.rest_due.connect(self._read_words)

    def _read_words(self) -> None:
        """Reads the library's functions in the background after the first chart, so that the first key press is quick."""
        self.session.chart.rest_due.disconnect(self._read_words)
        self.session.jobs.start("words", lambda _: functions(), lambda _: None, slow=True)

    def _lay_out(self) -> None:
        row = QHBoxLayout()
        row.setContentsMargins(GAP, GAP, GAP, HAIR)
        row.addWidget(self.chooser, 1)
        row.addWidget(self.new_button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row)
        layout.addWidget(self.settings)
        layout.addWidget(self.beside)
        layout.addWidget(self.standing)
        layout.addWidget(self.editor, 1)
        self.verdict.setContentsMargins(GAP, TIGHT, GAP, TIGHT)
        layout.addWidget(self.verdict)
        layout.addWidget(self.problems)

    # --- which script -----------------------------------------------------------------------------

    def _fill_chooser(self) -> None:
        files = self.session.workspace.script_files()
        if self.session.script.path is not None and self.session.script.path not in files:
            files.append(self.session.script.path)
        offered = [self.chooser.itemData(k) for k in range(self.chooser.count())]
        if offered == files and self.chooser.currentData() == self.session.script.path:
            return  # every save tells that something has changed here; the list may be open just now
        self.chooser.blockSignals(True)
        self.chooser.clear()
        for path in files:
            self.chooser.addItem(path.stem.replace("_", " ").capitalize(), path)
            if path == self.session.script.path:
                self.chooser.setCurrentIndex(self.chooser.count() - 1)
        self.chooser.blockSignals(False)

    def _choose(self, index: int) -> None:
        path = self.chooser.itemData(index)
        if isinstance(path, Path) and path != self.session.script.path:
            self.session.rule.open(path)

    def ask_new(self) -> None:
        """Asks for a title and makes a script with it."""
        title = words_for(self, "Name of the new script", "Create")
        if title is not None and title.strip():
            self.session.rule.new(title.strip())

    def _opened(self, text: str) -> None:
        if self.session.script.path == self._shown:
            self.editor.reload(text)
        else:
            self.editor.load(text)
            self._show_problems(self.session.rule.problems)  # not those of the script before
        self._shown = self.session.script.path
        self._fill_chooser()

    def _show_settings(self) -> None:
        program = self.session.rule.program
        self.settings.show_settings(program.settings if program is not None else (), self.session.rule.settings)

    def keep_settings(self) -> None:
        """Writes the settings as they are into the script, as its defaults."""
        program = self.session.rule.program
        if program is None or program.text != self.editor.text():
            self.session.status.emit("Fix the script's errors before you save settings into it.")
            return
        changed = [i for i in program.settings if i.name in self.session.rule.settings and i.place is not None]
        for info in sorted(changed, key=lambda i: (-i.place.line, -i.place.column)):  # type: ignore[union-attr]
            assert info.place is not None
            self.editor.replace_at(info.place, info.written(self.session.rule.settings[info.name]))
        self.session.rule.settings.clear()
        self.session.remembered.soon()
        self._show_settings()

    def write_trade(self) -> None:
        """Writes the trade that is composed for the script behind its last line."""
        program, text = self.session.rule.program, self.session.trials.text_with_trade()
        if program is None or program.text != self.editor.text() or text is None:
            has = program is not None and program.plan.trading is not None
            self.session.status.emit(
                "The script already has a trade." if has else "The script needs a signal, and no errors, first."
            )
            return
        rows = program.text.rstrip().split("\n")
        self.editor.replace_at(Span(len(rows), len(rows[-1]) + 1, 0), text[len(program.text.rstrip()) :].rstrip())
        self.session.status.emit("The trade was added at the end of the script.")

    def drop_settings(self) -> None:
        """Brings the script's own values back."""
        self.session.rule.drop_settings()
        self._show_settings()

    def earlier_versions(self) -> None:
        """Shows what the script was before, and brings it back where that is wanted."""
        path = self.session.script.path
        if path is None:
            return

        def read() -> Sequence[EarlierVersion]:
            self.session.script.save()
            return self.session.workspace.versions.of(path.name)

        self.session.jobs.write(read, self._show_texts)

    def show_tried(self, moment: float, text: str) -> None:
        """A text that was put on trial, beside the present one."""
        self._show_texts([TriedText(moment, text)])

    def _show_texts(self, texts: Sequence[EarlierVersion]) -> None:
        self.earlier = VersionsDialog(theme_of(self.session), texts, self.editor.text(), self.editor.replace_all, self)
        show_for_itself(self.earlier)

    # --- the words of the script ------------------------------------------------------------------

    def fix_problem(self) -> None:
        """Applies the fix of the problem at the cursor, or of the first that has one."""
        if not self.editor.fix():
            self.session.status.emit("No automatic fix for the problem here.")

    def choose_colour(self) -> None:
        if self.editor.choose_colour() is None:
            self.session.status.emit("Put the cursor on a colour first.")

    def go_to_definition(self) -> None:
        """Goes to where the name at the cursor is defined: a line of the script, else the library's text."""
        self._with_names(self._go_to_definition)

    def _go_to_definition(self, names: Names) -> None:
        own = names.at(*self.editor.cursor_place())
        if own is not None:
            self.editor.go_to(own.span)
            return
        self.source = SourceDialog(theme_of(self.session), self.editor.word_here(), self._add_function, self)
        show_for_itself(self.source)

    def _add_function(self, text: str) -> None:
        """Puts a function into the script, above the first line that could use it."""
        lines = self.editor.text().split("\n")
        head = ("rung", "title", "about", "setting", "use", "--")
        at = 0
        for k, line in enumerate(lines):
            if line.startswith(head) or (at == k and (not line.strip() or line.startswith(" "))):
                at = k + 1
            elif line.strip():
                break
        self.editor.insertAt(text + "\n", at, 0)

    def show_outline(self) -> None:
        """Offers what the script defines, in the order of its lines, to go to."""
        self._with_names(self._show_outline)

    def _show_outline(self, names: Names) -> None:
        if not names.outline:
            self.session.status.emit("The script defines nothing yet.")
            return
        menu = passing_menu(self)
        for own in names.outline:
            menu.addAction(f"{own.name}   {own.kind.value}, line {own.line}", partial(self.editor.go_to, own.span))
        menu.popup(self.editor.mapToGlobal(QPoint(0, 0)))

    def rename_name(self) -> None:
        """Gives the name at the cursor another one, everywhere in the script."""
        self._with_names(self._rename_name)

    def _rename_name(self, names: Names) -> None:
        text = self.editor.text()
        try:
            own = renamable(text, names, *self.editor.cursor_place())
            count = count_words(len(own.places), "place")
            new = words_for(self, f"New name of {own.name}, in {count}", "Rename", own.name)
            if new is not None and self.editor.text() == text:
                self.editor.apply(rename(names, own, new.strip()))
        except RenameProblem as error:
            self.session.status.emit(str(error))

    def _with_names(self, then: Callable[[Names], object], *, soon: bool = True) -> None:
        """Goes on with the names of the text, found in the background where they are not known, if it is still the same
        then. Without ``soon``, other work goes first."""
        if (known := self.editor.names) is not None:
            then(known)
            return
        text = self.editor.text()

        def found(names: Names) -> None:
            self.editor.know_names(text, names)
            if self.editor.names is not None:
                then(names)

        kind = "names" if soon else "names of the text"
        self.session.jobs.start(kind, lambda _: names_of(text), found, slow=not soon)

    def open_gallery(self) -> None:
        """Shows every shape, style and colour."""
        self.gallery = GalleryDialog(theme_of(self.session), self)
        self.gallery.gallery.chosen.connect(self.write_word)
        show_for_itself(self.gallery)

    def write_word(self, text: str) -> None:
        """Writes something at the cursor, with a space before it where one is missing."""
        line, column = self.editor.getCursorPosition()
        before = self.editor.text(line)[:column]
        self.editor.insert(text if not before or before.endswith(" ") else f" {text}")
        self.editor.setCursorPosition(line, column + len(text) + (not (not before or before.endswith(" "))))

    # --- problems ---------------------------------------------------------------------------------

    def _show_problems(self, problems: tuple[Problem, ...]) -> None:
        self.editor.show_problems(problems)
        self._with_names(lambda names: None, soon=False)  # for what the mouse is over
        if self.session.rule.program is not None and self.session.rule.program.text == self.session.script.text:
            plan = self.session.rule.program.plan
            signals = [o.name for o in plan.outputs if o.what is Shown.SIGNAL]
            self.editor.know(
                [n for n in plan.values if "." not in n]
                + signals
                + [i.name for i in self.session.rule.program.settings]
            )
        errors = [p for p in problems if p.is_error]
        self.problems.clear()
        for problem in sorted(problems, key=lambda p: (not p.is_error, p.span.line))[:_MOST_PROBLEMS]:
            edit = f" [Ctrl+. {said(problem)}]" if problem.edits else ""
            if len(problem.edits) == 1 and f"`{problem.replacement}`" in problem.fix:
                edit = " [Ctrl+.]"  # the fix says already what it writes
            item = QListWidgetItem(f"{problem.span.line}  {problem.message} {problem.fix}{edit}")
            item.setData(Qt.ItemDataRole.UserRole, problem)
            item.setToolTip(f"{problem.code}: {problem.message}\n{problem.fix}")
            role = {Severity.ERROR: "loss", Severity.WARNING: "caution"}.get(problem.severity, "faint")
            item.setForeground(QColor(theme_of(self.session).color(role)))
            self.problems.addItem(item)
        shown = min(len(problems), _MOST_PROBLEMS_SHOWN)
        self.problems.setVisible(bool(problems))
        self.problems.setFixedHeight(40 * shown + 8)
        self._show_saved()
        self.verdict.setObjectName("trouble" if errors else "quiet")
        style = self.verdict.style()
        if style is not None:
            style.polish(self.verdict)

    def _show_saved(self) -> None:
        """Says how the script stands: its errors, and whether it is saved."""
        errors = sum(p.is_error for p in self.session.rule.problems)
        script = self.session.script
        saved = "Saved as you type." if not script.trouble and script.theirs is None else "Not saved yet."
        words = (
            ""
            if not self.session.rule.is_judged
            else "No errors."
            if not errors
            else "1 error."
            if errors == 1
            else f"{errors} errors."
        )
        if errors:
            saved = saved.replace(" as you type", "")
            self.verdict.setText(f"{words} The chart still shows the last valid script. {saved}")
        else:
            self.verdict.setText(f"{saved} {words}".strip())

    def _go_to(self, item: QListWidgetItem) -> None:
        self.editor.go_to(item.data(Qt.ItemDataRole.UserRole).span)

    def refresh_theme(self) -> None:
        self.editor.set_theme(theme_of(self.session))
        self._show_problems(self.session.rule.problems)
