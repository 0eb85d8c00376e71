"""The commands that make, list, switch and remove alerts, and show their log."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path

import msgspec
from rich.table import Table

from oakladder.alerts.alert import Alert, AlertProblem, Once, ScriptCopy, of_signal
from oakladder.alerts.closing import market_time
from oakladder.alerts.estimate import estimate
from oakladder.alerts.events import moment_words, plain_of
from oakladder.alerts.store import AlertStore, JudgedUntil, new_id
from oakladder.bars.timeframes import ONE_DAY
from oakladder.cli.argument_types import a_path
from oakladder.cli.common import (
    CALL_WRONG,
    arg,
    command,
    fail,
    known_symbol,
    library_of,
    load,
    settings_of,
    timeframe_of,
)
from oakladder.cli.lists import symbols_of
from oakladder.cli.streams import console, json_words, visible
from oakladder.cli.watch import alert_store, list_reader
from oakladder.rung import RunProblem, ScriptError
from oakladder.user.lists import ALL
from oakladder.user.scripts import read_script
from oakladder.user.workspace import Workspace

_MAKING, _NAMED = ("add", "estimate"), ("on", "off", "remove")


@command(
    "alert",
    arg("action", choices=[*_MAKING, "list", *_NAMED, "log"], help="what to do"),
    arg("what", nargs="?", help="add, estimate: a .rung file; on, off, remove: the name of an alert"),
    arg("--signal", help="the name of a signal"),
    arg("--list", dest="list_name", help="all, one of your lists, or a sector (all)"),
    arg("--symbol", help="a single symbol"),
    arg("--timeframe", help="1m … 4h, 1d, 1w, 1mo (1d)"),
    arg("--set", dest="settings", action="append", help="a setting, as in --set fast=12"),
    arg("--forming", action="store_true", help="tell as the bar forms, and when it is no longer true"),
    arg("--extended", action="store_true", help="with the hours outside the session"),
    arg(
        "--once",
        choices=[o.value for o in Once],
        help="tell once a bar, once a day, or once until switched on again (bar)",
    ),
    arg("--name", help="what the alert is called"),
    arg("--post", metavar="URL", help="post each alert there as JSON"),
    arg("--mail", metavar="ADDRESS", help="send each alert there by e-mail"),
    arg("--sound", action="store_true", help="with a sound"),
    arg("--format", dest="format_", choices=["table", "json"]),
)
def alert(
    action: str,
    what: str | None,
    signal: str | None,
    list_name: str | None,
    symbol: str | None,
    timeframe: str | None,
    settings: list[str] | None,
    forming: bool,
    extended: bool,
    once: str | None,
    name: str | None,
    post: str | None,
    mail: str | None,
    sound: bool,
    format_: str | None,
) -> None:
    """Make, list, switch and remove alerts, see what they told, and how often one would have told."""
    given = {
        "--signal": signal, "--list": list_name, "--symbol": symbol, "--timeframe": timeframe,
        "--forming": forming, "--set": settings, "--extended": extended, "--once": once, "--name": name, "--post": post, "--mail": mail,
        "--sound": sound,
    }  # fmt: skip
    if action not in _MAKING and (wrong := next((option for option, value in given.items() if value), None)):
        fail(CALL_WRONG, f"`alert {action}` takes no {wrong}.")
    if action not in ("list", "log") and format_ is not None:
        fail(CALL_WRONG, f"`alert {action}` takes no --format.")
    if action in ("list", "log") and what is not None:
        fail(CALL_WRONG, f"`alert {action}` takes no name.")
    if action not in ("list", "log") and not what:
        fail(CALL_WRONG, f"`alert {action}` needs {'a script' if action in _MAKING else 'the name of an alert'}.")
    store = alert_store()
    try:
        if action in _MAKING:
            made = _made(a_path(what or ""), signal, list_name, symbol, timeframe, settings, name, given)
            _add(store, made, only_estimate=action == "estimate")
        elif action == "list":
            _print_alerts(store, as_json=format_ == "json")
        elif action == "log":
            _print_log(store, as_json=format_ == "json")
        else:
            _switch(store, store.named(what or ""), action)
    except AlertProblem as error:
        fail(CALL_WRONG, str(error))


def _made(
    script: Path,
    signal: str | None,
    list_name: str | None,
    symbol: str | None,
    timeframe: str | None,
    settings: list[str] | None,
    name: str | None,
    given: Mapping[str, object],
) -> Alert:
    """The alert that a call describes. Raises `AlertProblem`."""
    if not signal:
        fail(CALL_WRONG, "An alert needs --signal, the name of a signal of the script.")
    if symbol is not None and list_name is not None:
        fail(CALL_WRONG, "An alert has --symbol or --list, not both.")
    program, text = load(script), read_script(script)
    frame = timeframe_of(timeframe) if timeframe is not None else ONE_DAY
    values = settings_of(program, settings)
    try:
        program.signal(signal)
    except RunProblem as error:
        fail(CALL_WRONG, str(error))
    library = library_of()
    others = Workspace.default().other_scripts(text, script.absolute())
    symbol = known_symbol(library, symbol) if symbol is not None else ""
    if list_name is not None:
        symbols_of(library, list_name)  # a list that there is
    own = Workspace.default().lists()
    lists = {n.casefold(): n for n in own.names(library.infos)}
    listed = ALL if list_name in (None, "all") else lists[str(list_name).strip().casefold()]
    options = {key: given[f"--{key}"] for key in ("forming", "extended", "sound")}
    options |= {"post": given["--post"] or "", "mail": given["--mail"] or "", "once": given["--once"] or Once.BAR.value}
    return of_signal(
        new_id(),
        name or f"{signal} of {script.stem}",
        ScriptCopy(script.name, text, tuple(others.scripts)),
        signal,
        frame,
        list_name=listed,
        settings=values,
        symbol=symbol,
        created=market_time(library),
        **options,
    )


def _add(store: AlertStore, made: Alert, *, only_estimate: bool) -> None:
    library, lists = library_of(), Workspace.default().lists()
    if not only_estimate:
        store.add(made, JudgedUntil(made.created))
    try:
        print(visible(estimate(made, library, list_reader(library, lists)).words()))
    except (RunProblem, ScriptError) as error:
        if not only_estimate:
            store.remove(made.id)
        fail(CALL_WRONG, str(error))
    if not only_estimate:
        print(visible(f"{made.name} is watched from now on."))


def _switch(store: AlertStore, found: Alert, action: str) -> None:
    if action == "remove":
        store.remove(found.id)
        print(visible(f"{found.name} is removed; what it told stays in the log."))
        return
    if (action == "on") == found.is_on:
        print(visible(f"{found.name} is {action} already."))
        return
    judged = None
    if action == "on":  # what happened meanwhile is not told now
        judged = JudgedUntil(market_time(library_of()))
    store.change(msgspec.structs.replace(store.current(found), is_on=action == "on"), judged)
    print(visible(f"{found.name} is {action}."))


def _print_alerts(store: AlertStore, *, as_json: bool) -> None:
    told: dict[str, float] = {}
    for row in store.log():
        if row.told is not None:
            told[row.alert] = max(row.told, told.get(row.alert, 0.0))
    alerts = store.alerts()
    if as_json:
        rows = [
            {
                "name": a.name, "on": a.is_on, "signal": a.signal, "symbol": a.symbol or None,
                "list": None if a.symbol else a.saved.list_name, "timeframe": str(a.frame.timeframe), "forming": a.forming,
                "extended": a.extended, "once": a.once.value, "post": a.post or None, "mail": a.mail or None,
                "told": moment_words(told[a.id]) if a.id in told else None,
            }
            for a in alerts
        ]  # fmt: skip
        print(json_words(rows, indent=2))
        return
    table = Table()
    for head in ("Alert", "", "Signal", "Over", "Timeframe", "Tells", "Last told"):
        table.add_column(head)
    for a in alerts:
        tells = "as it forms" if a.forming else "on close"
        last = f"{datetime.fromtimestamp(told[a.id], UTC):%Y-%m-%d %H:%M}" if a.id in told else ""
        words = [a.name, "on" if a.is_on else "off", a.signal, a.symbol or a.saved.list_name, str(a.frame.timeframe)]
        table.add_row(
            *map(
                visible,
                [*words, f"{tells}, once a {a.once.value}" if a.once is not Once.EVER else f"{tells}, once", last],
            )
        )
    console().print(table)


def _print_log(store: AlertStore, *, as_json: bool) -> None:
    rows = store.log()
    if as_json:
        print(json_words([plain_of(row) for row in rows], indent=2))
        return
    table = Table()
    for head in ("Bar", "Alert", "Symbol", "Timeframe", "What", "Told"):
        table.add_column(head)
    for row in rows:
        told = "missed" if row.missed else "muted" if row.muted else moment_words(row.told) if row.told else ""
        table.add_row(*map(visible, [moment_words(row.bar), row.name, row.symbol, row.timeframe, row.text, told]))
    console().print(table)
