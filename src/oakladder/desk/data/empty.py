"""The Data place before there is a file: one place to drop files, and what happens then."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from oakladder.desk.look.fonts import LARGE, ui_font
from oakladder.desk.look.spacing import GAP, WIDE

_STEPS = (
    ("Read", "Separator, dates and columns are recognised. You can correct each of them."),
    ("Checked", "Gaps, duplicate rows and odd prices are marked on a chart. You decide what to do about each."),
    ("Imported", "The bars go into your library, ready to chart. Your files stay unchanged."),
)


class EmptyData(QFrame):
    """A large area to drop files on, with buttons to choose them instead."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent, objectName="drop")
        self.choose, self.folder = QPushButton("Choose files …", objectName="go"), QPushButton("Choose a folder …")
        self.word = QLabel(wordWrap=True)
        title = QLabel("Drop files or folders of bars here")
        title.setFont(ui_font(LARGE, strong=True))
        about = QLabel("CSV, TSV or Parquet; a file for each symbol, or many symbols in one", objectName="quiet")
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(self.choose)
        row.addWidget(self.folder)
        row.addStretch(1)
        steps = QHBoxLayout()
        steps.setSpacing(WIDE)
        steps.addStretch(1)
        for k, (head, words) in enumerate(_STEPS):
            text = QLabel(words, objectName="quiet", wordWrap=True)
            number = QLabel(f"{k + 1}  {head}", objectName="head")
            part = QWidget()
            part.setFixedWidth(250)
            column = QVBoxLayout(part)
            column.addWidget(number)
            column.addWidget(text)
            column.addStretch(1)
            steps.addWidget(part)
        steps.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setSpacing(GAP)
        layout.addStretch(2)
        for label in (title, about):
            label.setAlignment(Qt.AlignmentFlag.AlignCenter)
            layout.addWidget(label)
        layout.addLayout(row)
        self.word.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout.addWidget(self.word)
        layout.addStretch(1)
        layout.addLayout(steps)
        layout.addStretch(2)
