"""A feed of an invented market: a server that speaks the protocol of `docs/feed.md`, with faults where they are asked for."""

from __future__ import annotations

import asyncio
import contextlib
import random
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from websockets.asyncio.server import Server, ServerConnection, serve
from websockets.exceptions import ConnectionClosed

from oakladder.feeds.follower import MINUTE, Minute
from oakladder.feeds.messages import (
    AHEAD,
    BEAT,
    FIRST_MESSAGE,
    MOST_BYTES,
    VERSION,
    Bar,
    Beat,
    CaughtUp,
    ClientHello,
    Described,
    FromServer,
    NotUnderstood,
    ServerHello,
    Symbols,
    Trouble,
    Want,
    encoded,
    from_client,
    moment,
    seconds,
)

#: A minute in progress is sent so many times before it is final.
STEPS = 4
#: The most real seconds between two looks at the clock.
_LONGEST_STEP = 1.0


class Market(Protocol):
    """What is traded. Times are UTC seconds."""

    def described(self) -> list[Described]:
        """Its symbols."""

    def minutes(self, symbol: str, start: int, end: int) -> Sequence[Minute]:
        """The minutes of a symbol that begin from ``start`` on and before ``end``, oldest first."""

    def next_trade(self, after: int) -> int:
        """The time of the next minute after a time in which anything trades."""


class Faults:
    """What goes wrong with the messages of one connection, by chance but the same for the same seed."""

    def __init__(self, seed: int):
        self._random = random.Random(seed)
        self._held: str | None = None

    def drops(self) -> bool:
        """Whether the connection is dropped now."""
        return self._random.random() < 0.0005

    def frames(self, message: FromServer) -> list[str]:
        """What is sent in the place of a message: nothing, the message, twice, after the next one, or garbage."""
        chance, frame = self._random.random(), encoded(message)
        held, self._held = self._held, None
        behind = [] if held is None else [held]
        if not isinstance(message, Bar):
            return [frame, *behind]
        if chance < 0.004:
            return behind  # lost
        if chance < 0.012:
            return [frame, frame, *behind]
        if chance < 0.020 and held is None:
            self._held = frame
            return []
        if chance < 0.023:
            return [
                self._random.choice(["", "{", "[1, 2]", '{"kind": "bar"}', '{"kind": "weather"}', frame[:-9]]),
                *behind,
            ]
        if chance < 0.026:
            return [frame.replace('"high":', '"high":-'), *behind]
        return [frame, *behind]

    def delay(self) -> float:
        """Real seconds that the next messages are late."""
        return self._random.uniform(0.05, 0.4) if self._random.random() < 0.01 else 0.0

    def wrong(self, minute: Minute) -> Minute | None:
        """Another minute that is sent as final first, and corrected later; None mostly."""
        if self._random.random() >= 0.01:
            return None
        return minute._replace(close=minute.low, volume=minute.volume + 1)


@dataclass(slots=True)
class MarketClock:
    """The market's time: ``speed`` of its seconds in a real one; where nothing trades it goes on at the next trade."""

    market: Market
    now: float
    speed: float
    _real: float = field(default_factory=time.monotonic)
    _upcoming: int = 0

    def go_on(self) -> None:
        """Lets the time pass that has passed."""
        real = time.monotonic()
        before, self.now = self.now, self.now + (real - self._real) * self.speed
        self._real = real
        if self._upcoming < before:
            self._upcoming = self.market.next_trade(int(before))
        if self._upcoming > self.now + 2 * MINUTE:
            self.now = float(self._upcoming - MINUTE)

    @property
    def step(self) -> float:
        """Real seconds until something may happen."""
        return min(MINUTE / STEPS / self.speed, _LONGEST_STEP)


class FeedServer:
    """Serves a market to any number of clients."""

    def __init__(
        self,
        market: Market,
        start: int,
        *,
        name: str = "Saltmere simulator",
        speed: float = 60.0,
        token: str | None = None,
        faults: int | None = None,
        told: Callable[[str], None] = lambda _: None,
    ):
        self.market, self.name, self._token = market, name, token
        self.clock = MarketClock(market, float(start), speed)
        self.described = market.described()
        self._known = {d.symbol for d in self.described}
        self._faults, self._told = faults, told
        self._connections = 0
        self._server: Server | None = None

    async def open(self, host: str = "127.0.0.1", port: int = 8777) -> str:
        """Begins to listen; gives its address. Raises `OSError`."""
        self._server = await serve(self._serve, host, port, max_size=MOST_BYTES, ping_interval=None, compression=None)
        port = next(iter(self._server.sockets)).getsockname()[1]
        return f"ws://{f'[{host}]' if ':' in host else host}:{port}"

    async def run(self) -> None:
        """Goes on until it is cancelled."""
        assert self._server is not None
        try:
            while True:
                self.clock.go_on()
                await asyncio.sleep(self.clock.step)
        finally:
            self._server.close()
            await self._server.wait_closed()

    async def _serve(self, connection: ServerConnection) -> None:
        self._connections += 1
        faults = None if self._faults is None else Faults(self._faults + self._connections)
        with contextlib.suppress(ConnectionClosed, _Drop):
            await _Client(self, connection, faults).serve()

    def now(self) -> int:
        """The market's time, UTC seconds."""
        return int(self.clock.now)

    def wanted(self, want: Want) -> list[str]:
        """The symbols of a want that there are."""
        return (
            [d.symbol for d in self.described]
            if want.symbols == "all"
            else [s for s in want.symbols if s in self._known]
        )

    def refuses(self, hello: ClientHello) -> Trouble | None:
        """Why a client is not served."""
        if hello.version != VERSION:
            return Trouble("version", f"This feed speaks version {VERSION} of the protocol.")
        if self._token is not None and hello.token != self._token:
            return Trouble("token", "The token is not known.")
        return None


class _Drop(Exception):
    """The connection is dropped on purpose."""


class _Client:
    """One connection: what its client wants, and the last minute that was sent."""

    def __init__(self, server: FeedServer, connection: ServerConnection, faults: Faults | None):
        self._server, self._connection, self._faults = server, connection, faults
        self._numbers: dict[str, int] = {}
        #: Of each symbol that is wanted the last final minute that was sent; and which ones are owed a `caught-up`.
        self._sent: dict[str, int] = {}
        self._owed: set[str] = set()
        #: How many wants have come.
        self._wants = 0
        self._wrong: list[Minute] = []
        self._told = 0
        self._beaten = 0.0

    async def serve(self) -> None:
        try:
            async with asyncio.timeout(FIRST_MESSAGE):
                hello = from_client(await self._connection.recv())
        except (TimeoutError, NotUnderstood):
            await self._leave(Trouble("hello", f"The first message is a hello, within {FIRST_MESSAGE:.0f} s."))
            return
        if not isinstance(hello, ClientHello):
            await self._leave(Trouble("hello", "The first message is a hello."))
            return
        if (trouble := self._server.refuses(hello)) is not None:
            await self._leave(trouble)
            return
        now = self._server.now()
        self._told, self._beaten = now, time.monotonic()
        await self._connection.send(encoded(ServerHello(VERSION, self._server.name, moment(now))))
        await self._connection.send(encoded(Symbols(self._server.described)))
        reader = asyncio.ensure_future(self._read())
        try:
            while not reader.done():
                await self._send_news()
                await asyncio.wait({reader}, timeout=self._server.clock.step)
            reader.result()
        finally:
            reader.cancel()

    async def _leave(self, trouble: Trouble) -> None:
        await self._connection.send(encoded(trouble))
        await self._connection.close(1008, trouble.code)

    async def _read(self) -> None:
        while True:
            frame = await self._connection.recv()
            try:
                message = from_client(frame)
            except NotUnderstood as error:
                if not error.unknown:
                    await self._connection.send(
                        encoded(Trouble("not-understood", f"A message was not understood: {error}."))
                    )
                continue
            if isinstance(message, Want):
                await self._want(message)

    async def _want(self, want: Want) -> None:
        latest = self._server.now() // MINUTE * MINUTE - MINUTE  # the last minute that is complete
        unknown = [] if want.symbols == "all" else sorted(set(want.symbols) - set(self._server.wanted(want)))
        sent = {symbol: self._sent.get(symbol, latest) for symbol in self._server.wanted(want)}
        since = {symbol: seconds(time) for symbol, time in want.since.items() if symbol in sent}
        self._wants += 1
        self._sent = sent | since
        self._owed = set(since)
        if unknown:
            told = ", ".join(unknown[:5]) + (" …" if len(unknown) > 5 else "")
            await self._connection.send(encoded(Trouble("unknown-symbols", f"This feed does not have {told}.")))

    async def _send_news(self) -> None:
        """Sends every minute that has become final, and how the present one is going."""
        now = self._server.now()
        if self._faults is not None:
            if self._faults.drops():
                self._connection.transport.abort()
                raise _Drop
            await asyncio.sleep(self._faults.delay())
        present = now // MINUTE * MINUTE
        step = (now - present) * STEPS // MINUTE
        await self._beat(now)
        asked = self._wants
        for symbol in list(self._sent):
            await self._send_minutes(symbol, present, step)
            if asked != self._wants:
                return  # another want came meanwhile
            self._sent[symbol] = max(self._sent[symbol], present - MINUTE)
            if symbol in self._owed:
                self._owed.discard(symbol)
                await self._connection.send(encoded(CaughtUp(symbol, moment(present - MINUTE))))
        wrong, self._wrong = self._wrong, []
        for minute in wrong:  # nothing would tell a client that a correction was lost
            await self._send_bar(minute, final=True, faultless=True)

    async def _send_minutes(self, symbol: str, present: int, step: int) -> None:
        """Sends the final minutes of a symbol that its client does not have, and the present one as it is after so many steps."""
        is_live = symbol not in self._owed
        for minute in self._server.market.minutes(symbol, self._sent[symbol] + 1, present + MINUTE):
            if minute.time < present:
                await self._final(minute, is_live)
            elif step:
                await self._send_bar(_so_far(minute, step), final=False)

    async def _final(self, minute: Minute, is_live: bool) -> None:
        wrong = self._faults.wrong(minute) if self._faults is not None and is_live else None
        if wrong is not None:
            self._wrong.append(minute)
        await self._send_bar(wrong or minute, final=True)

    async def _beat(self, now: int) -> None:
        if now - self._told > AHEAD or now != self._told or time.monotonic() - self._beaten > BEAT / 2:
            self._told, self._beaten = now, time.monotonic()
            await self._connection.send(encoded(Beat(moment(now))))

    async def _send_bar(self, minute: Minute, *, final: bool, faultless: bool = False) -> None:
        self._numbers[minute.symbol] = seq = self._numbers.get(minute.symbol, 0) + 1
        message = Bar(minute.symbol, seq, moment(minute.time), *minute[2:], final)
        faults = None if faultless else self._faults
        for frame in [encoded(message)] if faults is None else faults.frames(message):
            await self._connection.send(frame)


def _so_far(minute: Minute, step: int) -> Minute:
    """A minute after so many of its steps: it has opened, then reached one end, then the other."""
    ends = (minute.high, minute.low) if (minute.time // MINUTE) % 2 else (minute.low, minute.high)
    path = [minute.open, *ends, minute.close][: step + 1]
    share = step / STEPS
    return minute._replace(high=max(path), low=min(path), close=path[-1], volume=float(int(minute.volume * share)))
