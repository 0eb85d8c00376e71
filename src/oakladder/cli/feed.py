"""The command that serves a feed of the invented market."""

from __future__ import annotations

import asyncio
import contextlib
import signal
from collections.abc import Sequence
from datetime import UTC, datetime
from functools import partial
from pathlib import Path

import numpy as np

from oakladder.bars.bars import COLUMNS
from oakladder.bars.calendar_words import hours_words
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE
from oakladder.cli.argument_types import a_number, a_path
from oakladder.cli.common import ATTACHED, CALL_WRONG, arg, command, fail, library_of, when_input_closes
from oakladder.demo.ahead import MarketAhead
from oakladder.demo.companies import EXCHANGE, LAST_DAY
from oakladder.feeds.follower import MINUTE, Minute
from oakladder.feeds.messages import Described, moment
from oakladder.feeds.simulator import FeedServer
from oakladder.rung.problems import RunProblem

#: Market minutes a real minute, at most.
_MOST_SPEED = 100_000
#: How long before the session's opening the feed begins, in seconds.
_BEFORE_OPENING = 5 * MINUTE


class SimulatedMarket:
    """The demo market as a feed serves it."""

    def __init__(self, ahead: MarketAhead):
        self._ahead = ahead

    def described(self) -> list[Described]:
        """Its symbols."""
        return [
            Described(
                i.symbol,
                i.name,
                i.kind,
                i.tick,
                i.calendar.zone,
                hours_words(i.calendar),
                moment(self._ahead.first(i.symbol)),
            )
            for i in self._ahead.infos.values()
        ]

    def minutes(self, symbol: str, start: int, end: int) -> Sequence[Minute]:
        """The minutes of a symbol that begin from ``start`` on and before ``end``, oldest first."""
        bars = self._ahead.minutes(symbol, start, end)
        rows = zip(bars.times.tolist(), *(bars[n].tolist() for n in COLUMNS), strict=True)
        return [Minute(symbol, *row) for row in rows]

    def next_trade(self, after: int) -> int:
        """The time of the next minute after a time in which anything trades."""
        return self._ahead.next_trade(after)


@command(
    "feed",
    arg("--host", default="127.0.0.1", help="where to listen; only this machine unless another address is given"),
    arg("--port", type=int, default=8777, help="the port; 0 takes any that is free (8777)"),
    arg("--speed", type=a_number, default=60.0, help="market minutes a real minute (60)"),
    arg(
        "--from", dest="first", help="the market's time to begin at, as in 2026-07-01T09:00Z; without, the next opening"
    ),
    arg("--seed", type=int, default=0, help="another number makes another market (0)"),
    arg(
        "--faults",
        action="store_true",
        help="drop connections; lose, repeat, reorder, delay, correct and corrupt messages",
    ),
    arg("--token", help="serve only clients that say this"),
    ATTACHED,
    arg("--library", type=a_path, help="go on from the last bar of another library"),
)
def serve_feed(
    host: str,
    port: int,
    speed: float,
    first: str | None,
    seed: int,
    faults: bool,
    token: str | None,
    attached: bool,
    library: Path | None,
) -> None:
    """Serve a feed of the invented market, for `oak watch`, the window and programs of your own. It prints its address first."""
    if not 0 < speed <= _MOST_SPEED:
        fail(CALL_WRONG, f"`--speed` is above 0 and at most {_MOST_SPEED:,}.")
    if not 0 <= port <= 65_535:
        fail(CALL_WRONG, "`--port` is a number from 0 to 65535.")
    ahead = MarketAhead(seed)
    start = _time(first) if first else first_time(ahead, library_of(library))
    if start <= LAST_DAY * 86_400:
        fail(
            CALL_WRONG,
            f"`--from` lies after the last stored day, {datetime.fromtimestamp(LAST_DAY * 86_400, UTC):%Y-%m-%d}.",
        )
    server = FeedServer(SimulatedMarket(ahead), start, speed=speed, token=token, faults=seed if faults else None)
    try:
        asyncio.run(_run(server, host, port, attached))
    except OSError as error:
        fail(CALL_WRONG, f"The feed cannot listen on {host}:{port}: {error.strerror or error}.")


async def _run(server: FeedServer, host: str, port: int, attached: bool) -> None:
    """Serves until the program is asked to end."""
    print(await server.open(host, port), flush=True)
    task = asyncio.ensure_future(server.run())
    for number in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(number, task.cancel)
    if attached:
        when_input_closes(partial(asyncio.get_running_loop().call_soon_threadsafe, task.cancel))
    with contextlib.suppress(asyncio.CancelledError):
        await task


def _time(text: str) -> int:
    """A moment that was written down, UTC unless it says otherwise."""
    try:
        made = datetime.fromisoformat(text)
    except ValueError:
        fail(CALL_WRONG, f"`--from {text}` is no time. Write one such as 2026-07-01T09:00Z.")
    return int((made if made.tzinfo else made.replace(tzinfo=UTC)).timestamp())


def first_time(ahead: MarketAhead, library: BarLibrary) -> int:
    """When a feed begins that goes on from a library's last bar: right after it within a session, else shortly before the
    exchange's next one opens. UTC seconds."""
    last = int(EXCHANGE.closes(EXCHANGE.day_open(np.array([LAST_DAY])), ONE_DAY)[0])
    for symbol in ahead.infos:
        if symbol in library.infos and library.path(symbol, ONE_MINUTE).exists():
            with contextlib.suppress(DataProblem, RunProblem):
                times = library.base(symbol, ONE_MINUTE).times
                last = max(last, int(times[-1]) if len(times) else 0)
    upcoming = last + MINUTE
    day = EXCHANGE.days(np.array([upcoming]))
    if bool(EXCHANGE.trades_on(day)[0]) and bool(EXCHANGE.is_regular(np.array([upcoming]))[0]):
        return upcoming
    return ahead.next_opening(upcoming) - _BEFORE_OPENING
