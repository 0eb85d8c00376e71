"""Every action of the desk, declared once: the menus, the palette, the shortcuts and the docs read this list."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Action:
    """Something the user can do: its words, its shortcut, where it works, and the method of the window that does it."""

    name: str
    words: str
    shortcut: str
    group: str


ACTIONS: tuple[Action, ...] = (
    Action("show_bench", "Go to the Bench", "Alt+1", "Places"),
    Action("show_scan", "Go to the Scan", "Alt+2", "Places"),
    Action("open_palette", "Find an action, symbol, timeframe or script", "Ctrl+K", "Places"),
    Action("focus_list", "Go to the watchlist", "Ctrl+L", "Bench"),
    Action("focus_chart", "Go to the chart", "Ctrl+G", "Bench"),
    Action("focus_script", "Go to the script", "Ctrl+E", "Bench"),
    Action("next_symbol", "Next symbol of the watchlist", "Alt+Down", "Bench"),
    Action("previous_symbol", "Previous symbol of the watchlist", "Alt+Up", "Bench"),
    Action("longer", "Longer timeframe", "Alt+PgUp", "Bench"),
    Action("shorter", "Shorter timeframe", "Alt+PgDown", "Bench"),
    Action("next_signal", "Next signal", "Alt+Right", "Bench"),
    Action("previous_signal", "Previous signal", "Alt+Left", "Bench"),
    Action("fold_list", "Fold the watchlist away", "F7", "Bench"),
    Action("fold_script", "Fold the script away", "F8", "Bench"),
    Action("new_script", "New script", "Ctrl+Shift+E", "Script"),
    Action("run_scan", "Run the scan", "Ctrl+R", "Scan"),
    Action("toggle_night", "Day or night theme", "F9", "Look"),
    Action("quit", "Save everything and leave", "Ctrl+Q", "Places"),
)
