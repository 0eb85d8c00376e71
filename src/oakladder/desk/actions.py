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
    #: Who does it: the window, the chart's deeds, or the script's panel.
    by: str = "window"


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
    Action("show_candles", "Bars as candles", "", "Chart", "chart"),
    Action("show_bars", "Bars as plain bars", "", "Chart", "chart"),
    Action("show_line", "Bars as a line", "", "Chart", "chart"),
    Action("show_averaged", "Bars as averaged candles", "", "Chart", "chart"),
    Action("scale_plain", "Plain scale", "", "Chart", "chart"),
    Action("scale_log", "Logarithmic scale", "Ctrl+Alt+L", "Chart", "chart"),
    Action("scale_percent", "Percent scale", "Ctrl+Alt+P", "Chart", "chart"),
    Action("toggle_extended", "Early and late hours", "Ctrl+Alt+H", "Chart", "chart"),
    Action("toggle_as_known", "Drawings where they became known", "Ctrl+Alt+K", "Chart", "chart"),
    Action("go_to_date", "Jump to a date", "Ctrl+D", "Chart"),
    Action("measure_pinned", "Measure from the pinned bar", "Ctrl+M", "Chart", "chart"),
    Action("add_line", "Add a line beside the script", "Ctrl+Alt+A", "Chart", "chart"),
    Action("add_beside", "Put a script beside the open one", "Ctrl+Alt+B", "Chart", "chart"),
    Action("copy_beside", "Put the open script beside itself, as it is set", "", "Chart", "chart"),
    Action("copy_picture", "Copy the chart as a picture", "Ctrl+Shift+C", "Chart", "chart"),
    Action("save_chart", "Save the chart as PNG or SVG", "Ctrl+Shift+S", "Chart", "chart"),
    Action("save_chart_data", "Save the chart's data as CSV", "", "Chart", "chart"),
    Action("start_replay", "Replay from the pinned bar", "Ctrl+Y", "Replay", "chart"),
    Action("replay_forward", "Replay: one step forward", "Ctrl+Right", "Replay", "chart"),
    Action("replay_back", "Replay: one step back", "Ctrl+Left", "Replay", "chart"),
    Action("replay_play", "Replay: play or pause", "Ctrl+Space", "Replay", "chart"),
    Action("leave_replay", "Leave the replay", "Ctrl+Shift+Y", "Replay", "chart"),
    Action("fold_why", "Fold Why away", "F6", "Bench"),
    Action("fold_list", "Fold the watchlist away", "F7", "Bench"),
    Action("fold_script", "Fold the script away", "F8", "Bench"),
    Action("new_script", "New script", "Ctrl+Shift+E", "Script"),
    Action("run_scan", "Run the scan", "Ctrl+R", "Scan"),
    Action("toggle_night", "Day or night theme", "F9", "Look"),
    Action("quit", "Save everything and leave", "Ctrl+Q", "Places"),
)
