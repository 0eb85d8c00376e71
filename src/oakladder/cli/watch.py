"""The command that follows the feed and watches the alerts without a window."""

from __future__ import annotations

import signal
import sys
import threading
from collections.abc import Callable, Sequence
from pathlib import Path

from oakladder.alerts.alert import AlertProblem
from oakladder.alerts.store import ALERTS, AlertStore
from oakladder.alerts.watching import FEED_LOCK, Event, Watcher
from oakladder.bars.store.library import BarLibrary
from oakladder.cli.argument_types import a_number, a_path
from oakladder.cli.common import ATTACHED, CALL_WRONG, DATA_WRONG, arg, command, fail, library_of, when_input_closes
from oakladder.cli.streams import json_words
from oakladder.user.feed_address import FeedAddress
from oakladder.user.lists import ListProblem, Watchlists
from oakladder.user.workspace import Workspace
from oakladder.work import outliving

#: Where the simulator listens unless told otherwise.
USUAL_FEED = "ws://localhost:8777"


def alert_store(workspace: Workspace | None = None) -> AlertStore:
    """The user's alerts. What is wrong with them is reported."""
    try:
        made = AlertStore((workspace or Workspace.default()).data / ALERTS)
    except AlertProblem as error:
        fail(DATA_WRONG, str(error))
    for notice in made.notices:
        print(notice, file=sys.stderr)
    return made


def list_reader(library: BarLibrary, lists: Watchlists) -> Callable[[str], Sequence[str]]:
    """Gives the symbols of a list; none of one that is gone."""

    def symbols(name: str) -> Sequence[str]:
        lists.fresh()
        try:
            return lists.symbols(name, library.infos)
        except ListProblem:
            return []

    return symbols


@command(
    "watch",
    arg("--feed", help=f"the address of a feed; without, the one in feed.json, or {USUAL_FEED}"),
    arg("--token", help="what the feed asks for"),
    arg("--for", dest="seconds", type=a_number, help="end after so many seconds"),
    arg("--format", dest="format_", choices=["text", "json"], default="text"),
    arg("--forming", action="store_true", help="print the minutes in progress too, as JSON (for the window)"),
    arg("--folders", nargs=2, type=a_path, metavar=("DATA", "SETTINGS"), help="other folders than the user's"),
    ATTACHED,
)
def watch(
    feed: str | None,
    token: str | None,
    seconds: float | None,
    format_: str,
    forming: bool,
    folders: list[Path] | None,
    attached: bool,
) -> None:
    """Follow a feed into the library and watch the alerts, until it is interrupted."""
    if seconds is not None and not seconds > 0:
        fail(CALL_WRONG, "`--for` is a number of seconds above 0.")
    if forming and format_ != "json":
        fail(CALL_WRONG, "`--forming` prints JSON: give --format json too.")
    workspace = Workspace(folders[0], folders[1]) if folders else Workspace.default()
    try:
        usual = FeedAddress.configured(workspace)
    except ValueError as error:
        fail(CALL_WRONG, str(error))
    feed, token = (feed, token) if feed is not None else (usual.url or USUAL_FEED, token or usual.token or None)
    library = library_of(workspace.library_folder if folders else None)
    store = alert_store(workspace)
    lists = workspace.lists()
    ending, failed = threading.Event(), []

    def tell(event: Event) -> None:
        try:
            print(json_words(event) if format_ == "json" else line_of(event), flush=True)
        except OSError as error:  # its reader has gone
            failed.append(error)
            ending.set()

    try:
        watcher = Watcher(
            library,
            store,
            list_reader(library, lists),
            feed,
            tell,
            token=token,
            lock=workspace.data / FEED_LOCK,
            clicked=open_chart,
            forming=forming,
            lists_stamp=lambda: (lists.fresh(), lists.revision)[1],
        )
    except ValueError as error:
        fail(CALL_WRONG, str(error))
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: ending.set())
    if attached:
        when_input_closes(ending.set)
    watcher.start()
    ending.wait(seconds)
    watcher.stop()
    if failed:
        raise failed[0]


def line_of(event: Event) -> str:
    """An event as a line for people."""
    match event["event"]:
        case "connected":
            return f"connected to {event['name']} ({event['feed']})"
        case "lost" | "trouble":
            return str(event["text"])
        case "gone":
            return f"{event['bar']}  {event['alert']}: no longer true: {event['text']}"
        case "missed":
            return f"{event['bar']}  {event['alert']}: missed: {event['text']}"
    return f"{event['bar']}  {event['alert']}: {event['text']}"


def open_chart(row: str) -> None:
    """Opens the window with the bar of a row."""
    outliving([sys.executable, "-m", "oakladder", "start", "--alert", row])
