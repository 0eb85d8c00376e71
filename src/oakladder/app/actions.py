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
    #: Which object runs it: the window, the Bench, the chart commands, the script panel, or the Trial place.
    by: str = "window"


_KEYS_HEAD = """# Keys

Everything the desk can do, as the command palette (Ctrl+K) has it; what has no key of its own is found there.

On the chart itself the arrow keys pan and zoom, Home and End go to the first and last bar, a click pins a bar and
Escape lets go of it, the wheel zooms and dragging pans, Shift and dragging measures. Letters and digits typed on
the chart look for a symbol, a timeframe of any length (`90m`) or a date (`2026-03-12`). The edge between two panes
can be dragged, a click on a legend hides what it names, the right button asks what can be done with a pane. In the
script, Ctrl and a click on a colour choose another, Ctrl and the wheel change a size or width. Enter on a hit of
the Scan opens it on the Bench.
"""

ACTIONS: tuple[Action, ...] = (
    Action("show_bench", "Go to the Bench", "Alt+1", "Places"),
    Action("show_ladder", "Go to the Ladder", "Alt+2", "Places"),
    Action("show_scan", "Go to the Scan", "Alt+3", "Places"),
    Action("show_trial", "Go to the Trial", "Alt+4", "Places"),
    Action("show_data", "Go to the Data", "Alt+5", "Places"),
    Action("show_alerts", "Go to the Alerts", "Alt+6", "Places"),
    Action("watch_signal", "Watch a signal: make an alert of it", "Ctrl+Shift+W", "Bench"),
    Action("toggle_live", "Live prices on or off", "F5", "Places"),
    Action("open_palette", "Find an action, symbol, timeframe or script", "Ctrl+K", "Places"),
    Action("focus_list", "Go to the watchlist", "Ctrl+L", "Bench"),
    Action("choose_columns", "Columns of the watchlist", "Ctrl+Shift+L", "Bench"),
    Action("focus_chart", "Go to the chart", "Ctrl+G", "Bench"),
    Action("focus_script", "Go to the script", "Ctrl+E", "Bench"),
    Action("next_symbol", "Next symbol of the watchlist", "Alt+Down", "Bench"),
    Action("previous_symbol", "Previous symbol of the watchlist", "Alt+Up", "Bench"),
    Action("longer_timeframe", "Longer timeframe", "Alt+PgUp", "Bench"),
    Action("shorter_timeframe", "Shorter timeframe", "Alt+PgDown", "Bench"),
    Action("next_signal", "Next signal", "Alt+Right", "Bench"),
    Action("previous_signal", "Previous signal", "Alt+Left", "Bench"),
    Action("next_trade", "Next trade of the script", "Alt+Shift+Right", "Bench"),
    Action("previous_trade", "Previous trade of the script", "Alt+Shift+Left", "Bench"),
    Action("show_candles", "Bars as candles", "", "Chart", "chart"),
    Action("show_bars", "Bars as plain bars", "", "Chart", "chart"),
    Action("show_line", "Bars as a line", "", "Chart", "chart"),
    Action("show_averaged", "Bars as averaged candles", "", "Chart", "chart"),
    Action("scale_plain", "Linear scale", "", "Chart", "chart"),
    Action("scale_log", "Logarithmic scale", "Ctrl+Alt+L", "Chart", "chart"),
    Action("scale_percent", "Percent scale", "Ctrl+Alt+P", "Chart", "chart"),
    Action("toggle_extended", "Extended hours", "Ctrl+Alt+H", "Chart", "chart"),
    Action("toggle_as_known", "Drawings where they became known", "Ctrl+Alt+K", "Chart", "chart"),
    Action("go_to_date", "Jump to a date", "Ctrl+D", "Chart"),
    Action("measure_pinned", "Measure from the pinned bar", "Ctrl+M", "Chart", "chart"),
    Action("add_line", "Add a line to the chart", "Ctrl+Alt+A", "Chart", "chart"),
    Action("add_beside", "Add a script to the chart", "Ctrl+Alt+B", "Chart", "chart"),
    Action("copy_beside", "Add a copy of the open script, as it is set", "", "Chart", "chart"),
    Action("copy_picture", "Copy the chart as a picture", "Ctrl+Shift+C", "Chart", "chart"),
    Action("save_chart", "Save the chart as PNG or SVG", "Ctrl+Shift+S", "Chart", "chart"),
    Action("save_chart_data", "Save the chart's data as CSV", "", "Chart", "chart"),
    Action("start_replay", "Replay from the pinned bar", "Ctrl+Y", "Replay", "chart"),
    Action("replay_forward", "Replay: one step forward", "Ctrl+Right", "Replay", "chart"),
    Action("replay_back", "Replay: one step back", "Ctrl+Left", "Replay", "chart"),
    Action("replay_play", "Replay: play or pause", "Ctrl+Space", "Replay", "chart"),
    Action("leave_replay", "End the replay", "Ctrl+Shift+Y", "Replay", "chart"),
    Action("more_charts", "Add a side chart (up to four, then one again)", "F10", "Bench", "bench"),
    Action("turn_charts", "Side charts: other symbols or other timeframes", "Ctrl+F10", "Bench", "bench"),
    Action("one_chart", "Back to one chart", "Shift+F10", "Bench", "bench"),
    Action("read_evidence", "The signal's evidence below the script", "Ctrl+Shift+T", "Bench", "bench"),
    Action("read_trial", "The rule's trial below the script", "Ctrl+T", "Bench", "bench"),
    Action("fold_why", "Collapse or expand Why", "F6", "Bench"),
    Action("fold_list", "Collapse or expand the watchlist", "F7", "Bench"),
    Action("fold_script", "Collapse or expand the script", "F8", "Bench"),
    Action("new_script", "New script", "Ctrl+Shift+E", "Script"),
    Action("fix_problem", "Fix the problem at the cursor", "Ctrl+.", "Script", "script"),
    Action("choose_colour", "Choose the colour at the cursor", "Ctrl+Shift+K", "Script", "script"),
    Action("go_to_definition", "Go to the definition of the name at the cursor", "F2", "Script", "script"),
    Action(
        "show_outline",
        "Outline: settings, values, signals and functions of the script",
        "Ctrl+Shift+O",
        "Script",
        "script",
    ),
    Action("rename_name", "Rename the name at the cursor everywhere", "Shift+F2", "Script", "script"),
    Action("open_gallery", "Shapes, styles and colours", "Ctrl+Shift+G", "Script", "script"),
    Action("earlier_versions", "Earlier versions of the script", "Ctrl+Shift+H", "Script", "script"),
    Action("keep_settings", "Save the settings into the script", "", "Script", "script"),
    Action("drop_settings", "Reset to the script's settings", "", "Script", "script"),
    Action("write_trade", "Write the composed trade into the script", "", "Script", "script"),
    Action("stop_trial", "Stop the running trial", "", "Trial", "trial"),
    Action("save_trial", "Save the trial: trades, equity, report", "Ctrl+Alt+S", "Trial", "trial"),
    Action("add_variant", "Add a variant of the rule", "Ctrl+Alt+V", "Trial", "trial"),
    Action("edit_account", "Account and costs of the trial", "Ctrl+Alt+T", "Trial", "trial"),
    Action("show_evidence", "Evidence of the rule's signals", "Ctrl+Alt+E", "Trial", "trial"),
    Action("show_chance", "Chance: is the trial better than luck?", "Ctrl+Alt+C", "Trial", "trial"),
    Action("show_sweep", "Sweep settings, walk forward", "Ctrl+Alt+W", "Trial", "trial"),
    Action("show_notebook", "The rule's notebook and its seal", "Ctrl+Alt+N", "Trial", "trial"),
    Action("check_look_ahead", "Look-ahead check of the rule", "Ctrl+Alt+O", "Trial", "trial"),
    Action("add_column", "Add a column to the Ladder", "Ctrl+Shift+A", "Ladder"),
    Action("run_scan", "Run the scan", "Ctrl+R", "Scan"),
    Action("stop_waiting", "Stop waiting for another program", "", "Places"),
    Action("show_first_steps", "Show the first steps", "", "Look"),
    Action("open_log", "Open the log of what went wrong", "", "Look"),
    Action("toggle_night", "Day or night theme", "F9", "Look"),
    Action("quit", "Save everything and quit", "Ctrl+Q", "Places"),
)


def hinted(words: str, name: str) -> str:
    """What a button's hover says: the words, and the key of the action that it stands for."""
    key = next(a.shortcut for a in ACTIONS if a.name == name)
    return f"{words} ({key})" if key else words


def keys_page() -> str:
    """The page ``docs/keys.md``: every action with its key."""
    parts = [_KEYS_HEAD]
    for group in dict.fromkeys(a.group for a in ACTIONS):
        parts += [f"## {group}", "", "| key | what it does |", "|---|---|"]
        parts += [f"| {a.shortcut} | {a.words} |" for a in ACTIONS if a.group == group]
        parts.append("")
    return "\n".join(parts).rstrip() + "\n"
