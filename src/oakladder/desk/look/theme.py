"""The colours, fonts and style sheet of the desk: warm paper by day, bark by night."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from PyQt6.QtGui import QColor, QPalette

from oakladder.app.color_theme import Themes
from oakladder.app.session import Session
from oakladder.desk.look.contrast import MARK, TEXT, told_from
from oakladder.rung.colours import resolve
from oakladder.rung.values import PALETTE, THEMED

_LEAST_FILL = 16


@dataclass(frozen=True, slots=True)
class Theme:
    """One set of colours, as #rrggbb."""

    name: str
    ground: str
    raised: str
    sunken: str
    ink: str
    faint: str
    line: str
    oak: str
    rising: str
    falling: str
    warn: str
    calm: str
    mute: str
    pick: str
    #: Inks of words and metrics that are good, bad or a warning; what points at something.
    gain: str
    loss: str
    caution: str
    pin: str
    #: Opacity of the strongest fill of a cell, 0 to 255: ink must be readable on it.
    most_fill: int

    def paint(self, word: str) -> int:
        """A colour word or #rrggbb as 0xAARRGGBB; the themed words follow the theme."""
        return resolve(word, self._plain)

    def _plain(self, word: str) -> int:
        if word.startswith("#"):
            return 0xFF000000 | int(word[1:7], 16)
        themed = dict(zip(THEMED, (self.rising, self.falling, self.calm, self.warn, self.mute), strict=True))
        if word in themed:
            return 0xFF000000 | int(themed[word][1:], 16)
        if word == "ink":
            return 0xFF000000 | int(self.ink[1:], 16)
        return _standing_out(PALETTE.get(word, self.mute), self.ground)

    def fill(self, word: str, strength: float = 1.0) -> QColor:
        """A colour word as the ground of a cell, weaker to the eye below 1, and light enough for text."""
        color = qcolor(self.paint(word))
        color.setAlpha(int(_LEAST_FILL + (self.most_fill - _LEAST_FILL) * strength))
        return color

    def color(self, role: str) -> QColor:
        """A colour of the theme by the name of its field."""
        return QColor.fromRgba(_color(getattr(self, role)))


@lru_cache(maxsize=64)
def _color(written: str) -> int:
    """A colour as it is written, read once: painters ask dozens of times for a picture."""
    return QColor(written).rgba()


@lru_cache(maxsize=256)
def _standing_out(color: str, ground: str) -> int:
    """A palette colour with enough contrast to the ground, as 0xAARRGGBB."""
    least = MARK if QColor(ground).lightnessF() > 0.5 else TEXT  # by night the eye sees less of a dark line
    return int(told_from(QColor(color), QColor(ground), least).rgba())


DAY = Theme(
    "day",
    "#f7f3ea",
    "#fdfbf5",
    "#ede6d6",
    "#2b2622",
    "#645b50",
    "#ddd3bf",
    "#b08d57",
    "#3d6a9e",
    "#b5532d",
    "#a9700c",
    "#66805f",
    "#80776c",
    "#eadfc6",
    "#315a8a",
    "#97401f",
    "#7a5300",
    "#927034",
    100,
)
NIGHT = Theme(
    "night",
    "#1e1a17",
    "#27221e",
    "#171411",
    "#e8e0d2",
    "#aea397",
    "#3a332d",
    "#b08d57",
    "#6f9fd6",
    "#d9784f",
    "#dca53f",
    "#94b08f",
    "#918a80",
    "#3b3226",
    "#7fabde",
    "#e68a62",
    "#dca53f",
    "#b08d57",
    72,
)
THEMES = Themes(DAY, NIGHT)


def theme_of(session: Session) -> Theme:
    """The theme that a session's window has now."""
    return NIGHT if session.chart.theme.name == NIGHT.name else DAY


def qcolor(argb: int) -> QColor:
    """0xAARRGGBB as a colour."""
    return QColor.fromRgba(int(argb))


def palette(t: Theme) -> QPalette:
    """The colours of widgets that draw themselves: spin boxes, combo boxes, the caret."""
    made = QPalette()
    roles = {
        QPalette.ColorRole.Window: t.ground,
        QPalette.ColorRole.WindowText: t.ink,
        QPalette.ColorRole.Base: t.raised,
        QPalette.ColorRole.AlternateBase: t.ground,
        QPalette.ColorRole.Text: t.ink,
        QPalette.ColorRole.Button: t.ground,
        QPalette.ColorRole.ButtonText: t.ink,
        QPalette.ColorRole.Highlight: t.pick,
        QPalette.ColorRole.HighlightedText: t.ink,
        QPalette.ColorRole.ToolTipBase: t.raised,
        QPalette.ColorRole.ToolTipText: t.ink,
        QPalette.ColorRole.PlaceholderText: t.faint,
        QPalette.ColorRole.Light: t.raised,
        QPalette.ColorRole.Mid: t.line,
        QPalette.ColorRole.Dark: t.line,
        QPalette.ColorRole.Shadow: t.line,
    }
    for role, color in roles.items():
        made.setColor(role, QColor(color))
    made.setColor(QPalette.ColorGroup.Disabled, QPalette.ColorRole.ButtonText, QColor(t.mute))
    return made


def popup_sheet(t: Theme) -> str:
    """The style of what stands over the window for a moment."""
    return f"""QLabel, QListView {{ background: {t.raised}; color: {t.ink}; border: 1px solid {t.oak}; outline: 0; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; }}
    QScrollBar::handle {{ background: {t.line}; border-radius: 4px; min-height: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; }}"""


def style_sheet(t: Theme) -> str:
    """The style of every plain widget. Labels and hovers show texts as they are, markup included, since most of what they
    tell comes from scripts and files; one that is called ``rich`` takes markup, and escapes what is not its own."""
    return f"""
    QLabel, QToolTip {{ qproperty-textFormat: PlainText; }}
    QLabel#rich {{ qproperty-textFormat: RichText; }}
    * {{ color: {t.ink}; }}
    QMainWindow, QDialog, QWidget#place {{ background: {t.ground}; }}
    QToolTip {{ background: {t.raised}; color: {t.ink}; border: 1px solid {t.oak}; padding: 3px; }}
    QDialogButtonBox {{ dialogbuttonbox-buttons-have-icons: 0; }}
    QWidget#top {{ background: {t.raised}; border-bottom: 1px solid {t.oak}; }}
    QPushButton#sentence {{ text-align: left; padding: 4px 8px; }}
    QFrame#card QPushButton#sentence {{ border: none; background: transparent; }}
    QFrame#card QPushButton#sentence:focus, QFrame#card QPushButton#sentence:hover {{ background: {t.pick}; }}
    QToolButton#quiet {{ border: none; background: transparent; color: {t.faint}; padding: 3px 6px; }}
    QToolButton#quiet:hover, QToolButton#quiet:focus {{ color: {t.ink}; background: {t.pick}; }}
    QFrame#steps {{ background: {t.pick}; border-bottom: 1px solid {t.oak}; }}
    QToolButton#step {{ background: transparent; border: none; color: {t.faint}; padding: 2px 8px; }}
    QToolButton#step[now="true"] {{ background: {t.raised}; color: {t.ink}; font-weight: 600; border: 1px solid {t.pin}; }}
    QToolButton#step:hover, QToolButton#step:focus {{ color: {t.ink}; background: {t.raised}; }}
    QFrame#drop {{ background: {t.raised}; border: 2px dashed {t.oak}; border-radius: 6px; }}
    QFrame#group {{ border: none; border-left: 2px solid {t.oak}; }}
    QCheckBox::indicator {{ width: 12px; height: 12px; border: 1px solid {t.faint}; border-radius: 2px; background: {t.raised}; }}
    QCheckBox::indicator:checked {{ background: {t.oak}; border: 1px solid {t.ink}; }}
    QCheckBox::indicator:focus {{ border-color: {t.pin}; }}
    QFrame#standing {{ background: {t.pick}; border-left: 3px solid {t.warn}; }}
    QLabel#brand {{ font-weight: 600; padding: 0 10px; }}
    QLabel#quiet, QLabel#status {{ color: {t.faint}; }}
    QLabel#status:disabled {{ color: {t.mute}; }}
    QLabel#head {{ font-weight: 600; }}
    QLabel#trouble {{ color: {t.loss}; }}
    QPushButton, QToolButton {{ background: {t.raised}; border: 1px solid {t.line}; border-radius: 3px; padding: 3px 9px; }}
    QPushButton:hover, QToolButton:hover {{ border-color: {t.oak}; }}
    QPushButton:focus, QToolButton:focus {{ border-color: {t.pin}; }}
    QPushButton:disabled, QToolButton:disabled {{ color: {t.mute}; }}
    QToolButton#place {{ border: none; border-radius: 0; padding: 6px 12px; background: transparent; }}
    QToolButton#place:checked {{ border-bottom: 2px solid {t.oak}; font-weight: 600; }}
    QToolButton#live {{ border: none; background: transparent; color: {t.faint}; }}
    QToolButton#live:hover, QToolButton#live:focus {{ color: {t.ink}; background: {t.pick}; }}
    QToolButton#live:checked {{ color: {t.gain}; font-weight: 600; }}
    QToolButton#live[trouble="true"] {{ color: {t.warn}; }}
    QPushButton#go {{ background: {t.oak}; color: #201a14; border-color: {t.oak}; font-weight: 600; }}
    QPushButton#go:disabled {{ background: {t.sunken}; color: {t.mute}; border-color: {t.line}; }}
    QLineEdit {{ background: {t.raised}; border: 1px solid {t.line}; border-radius: 3px;
        padding: 2px 4px; selection-background-color: {t.pick}; selection-color: {t.ink}; }}
    QLineEdit:focus {{ border-color: {t.pin}; }}
    QAbstractSpinBox QLineEdit {{ border: none; padding: 0 2px; background: transparent; }}
    QComboBox QAbstractItemView {{ background: {t.raised}; border: 1px solid {t.oak}; selection-background-color: {t.pick};
        selection-color: {t.ink}; outline: 0; }}
    QTableView, QListView {{ background: {t.raised}; alternate-background-color: {t.ground}; border: none; outline: 0;
        gridline-color: {t.line}; selection-background-color: {t.pick}; selection-color: {t.ink}; }}
    QHeaderView {{ background: {t.ground}; }}
    QHeaderView::section {{ background: {t.ground}; color: {t.faint}; border: none; border-bottom: 1px solid {t.line}; padding: 3px 4px; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; }} QScrollBar:horizontal {{ background: transparent; height: 9px; }}
    QScrollBar::handle {{ background: {t.line}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    QProgressBar {{ background: {t.sunken}; border: none; border-radius: 3px; height: 8px; text-align: center; }}
    QProgressBar::chunk {{ background: {t.oak}; border-radius: 3px; }}
    QTabWidget::pane {{ border: none; border-top: 1px solid {t.line}; }}
    QTabBar::tab {{ background: transparent; color: {t.faint}; padding: 4px 14px; border: none; }}
    QTabBar::tab:selected {{ color: {t.ink}; border-bottom: 2px solid {t.oak}; }}
    QMenu {{ background: {t.raised}; border: 1px solid {t.oak}; }} QMenu::item:selected {{ background: {t.pick}; }}
    """
