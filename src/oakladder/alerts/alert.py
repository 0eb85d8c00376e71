"""Alerts: a condition that is watched over some symbols, when it tells, and how."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from urllib.parse import urlsplit

import msgspec

from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.scan.conditions import Condition, check
from oakladder.rung import Program, compile_script
from oakladder.rung.other_scripts import OtherScripts
from oakladder.user.scans import SavedScan, ScanLine, as_plain, flat, read_scan

#: The longest name of an alert.
MOST_NAME = 80
_ADDRESS = re.compile(r"[^@\s,;<>\"]+@[^@\s,;<>\"]+\.[^@\s,;<>\"]+")


class AlertProblem(Exception):
    """Something about an alert that cannot be done; the text says why."""


class Once(StrEnum):
    """How often an alert tells, of each symbol."""

    BAR = "bar"
    DAY = "day"
    EVER = "ever"


class ScriptCopy(msgspec.Struct, frozen=True):
    """A script as it was when the alert was made: its file's name, its text, and the scripts that it uses."""

    name: str
    text: str
    #: Title and text of each.
    uses: tuple[tuple[str, str], ...] = ()

    def program(self) -> Program:
        """The compiled script. Raises `ScriptError`."""
        return _compiled(self)


@lru_cache(maxsize=256)
def _compiled(copy: ScriptCopy) -> Program:
    return compile_script(copy.text, OtherScripts(copy.uses))


class Alert(msgspec.Struct, frozen=True, kw_only=True):
    """What is watched, and how it tells. Times are UTC seconds of the market."""

    id: str
    name: str
    #: The scan's lines, join and list; its timeframe is that of the bars on which the alert tells.
    scan: dict[str, object]
    scripts: tuple[ScriptCopy, ...] = ()
    #: A single symbol, in the place of the scan's list.
    symbol: str = ""
    extended: bool = False
    forming: bool = False
    once: Once = Once.BAR
    is_on: bool = True
    #: Minutes of the day in the symbol's zone, from and to; None for all day.
    hours: tuple[int, int] | None = None
    until: int | None = None
    snoozed_until: int | None = None
    sound: bool = False
    post: str = ""
    mail: str = ""
    created: int = 0

    @property
    def saved(self) -> SavedScan:
        """What is watched, as a scan."""
        made = read_scan(self.scan)
        if made is None or not made.lines:
            raise AlertProblem(f"The alert {self.name} holds no condition. Remove it and make it again.")
        return made

    @property
    def frame(self) -> BarSelection:
        """The bars on which it tells."""
        return BarSelection(Timeframe.parse(self.saved.timeframe), self.extended)

    @property
    def signal(self) -> str:
        """The signal that is reported, or several."""
        names = [line.name for line in flat(self.saved.lines) if line.name]
        return ", ".join(dict.fromkeys(names)) or self.name

    @property
    def script(self) -> str:
        """The file's name of the script of the first signal; empty without one."""
        return next((line.script for line in flat(self.saved.lines) if line.script), "")

    def condition(self, symbols_of: Callable[[str], Iterable[str]]) -> Condition:
        """What the engine runs, with the texts that the alert was made with. Raises `AlertProblem`, `ScriptError`,
        `RunProblem`."""
        copies = {copy.name: copy for copy in self.scripts}

        def program_of(name: str) -> Program:
            if name not in copies:
                raise AlertProblem(f"The alert {self.name} has lost its script {name}. Remove it and make it again.")
            return copies[name].program()

        made = self.saved.condition(program_of, symbols_of)
        check(made)
        return made


def of_signal(
    alert_id: str,
    name: str,
    copy: ScriptCopy,
    signal: str,
    timeframe: Timeframe = ONE_DAY,
    *,
    list_name: str = "",
    settings: Mapping[str, object] | None = None,
    **others: object,
) -> Alert:
    """An alert for a signal of one script. Raises `AlertProblem`."""
    extended = bool(others.get("extended"))
    line = ScanLine(
        script=copy.name, name=signal, timeframe=str(timeframe), settings=dict(settings or {}), extended=extended
    )
    scan = SavedScan(name, lines=[line], timeframe=str(timeframe))
    if list_name:
        scan.list_name = list_name
    made = msgspec.convert(
        {"id": alert_id, "name": checked_name(name), "scan": as_plain(scan), "scripts": [msgspec.to_builtins(copy)]}
        | others,
        Alert,
    )
    return checked(made)


def checked_name(name: str) -> str:
    """A name as it is kept. Raises `AlertProblem`."""
    made = " ".join("".join(c for c in name if c.isprintable()).split())
    if not made:
        raise AlertProblem("An alert needs a name.")
    if len(made) > MOST_NAME:
        raise AlertProblem(f"The name of an alert has at most {MOST_NAME} characters.")
    return made


def checked(alert: Alert) -> Alert:
    """The alert, if its addresses make sense. Raises `AlertProblem`."""
    if alert.post:
        try:
            parts = urlsplit(alert.post)
            fine = parts.scheme in ("http", "https") and bool(parts.hostname) and (parts.port is None or parts.port > 0)
        except ValueError:
            fine = False
        if not fine or not alert.post.isprintable() or " " in alert.post:
            raise AlertProblem(f"`{alert.post}` is no address to post to. Write one such as https://example.org/hook.")
    if alert.mail and not _ADDRESS.fullmatch(alert.mail):
        raise AlertProblem(f"`{alert.mail}` is no e-mail address.")
    return alert


@dataclass(frozen=True, slots=True)
class Watched:
    """An alert made ready: its condition, the bars it tells on and the symbols it watches."""

    alert: Alert
    condition: Condition
    frame: BarSelection
    symbols: Sequence[str]
