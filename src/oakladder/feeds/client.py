"""A client of a feed: connects, follows and reports; connects again after a pause where the connection was lost."""

from __future__ import annotations

import asyncio
import contextlib
import os
import random
import time
from collections.abc import Coroutine, Iterable
from dataclasses import dataclass, field
from typing import Protocol
from urllib.parse import urlsplit

from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import ConnectionClosed, InvalidHandshake, InvalidURI, WebSocketException

from oakladder.feeds.follower import Follower, Merged, Minute, Taken
from oakladder.feeds.messages import (
    MOST_BYTES,
    SILENCE,
    Bar,
    Described,
    FromServer,
    NotUnderstood,
    encoded,
    from_server,
)

#: Seconds between two tries to connect: the first and the longest.
FIRST_PAUSE, LONGEST_PAUSE = 1.0, 30.0
#: A frame that is longer than this ends the connection; one of over `MOST_BYTES` is refused alone.
_HARD_LIMIT = 16 * MOST_BYTES
#: Messages that wait: where there are more, those of minutes in progress are merged.
MOST_WAITING = 200_000
#: Seconds after which what did not come is requested again, the first time and at most.
_PATIENCE, _LONGEST_PATIENCE = 5.0, 60.0
#: How many messages are looked at before others get a turn.
_AT_ONCE = 500


class Sink(Protocol):
    """Takes what a client receives. All of it is called in the client's thread, and must not wait."""

    def connected(self, name: str) -> None:
        """The server, which calls itself so, has said hello."""

    def lost(self, why: str) -> None:
        """There is no connection, or no longer; a sentence."""

    def said(self, sentence: str) -> None:
        """Something to show."""

    def described(self, symbols: list[Described]) -> None:
        """What the server has."""

    def final(self, minute: Minute) -> None:
        """A final minute, which may be known already."""

    def forming(self, minute: Minute) -> None:
        """A minute in progress."""

    def whole(self, symbols: list[str]) -> None:
        """Nothing is missing of these symbols any longer, or it is not to be had."""

    def market_time(self, now: int) -> None:
        """The market's time, UTC seconds."""

    def pause(self, follower: Follower) -> None:
        """Some messages have been looked at; at least twice a second. What ``follower`` holds agrees with what was reported."""


@dataclass(slots=True)
class Waiting:
    """Messages that were read and not looked at yet. Where too many wait, a minute in progress takes the place of the earlier
    ones of its symbol; final minutes are never merged."""

    most: int = MOST_WAITING
    messages: list[FromServer | NotUnderstood | Merged] = field(default_factory=list)
    merged: int = 0

    def add(self, message: FromServer | NotUnderstood) -> None:
        """Takes one in."""
        self.messages.append(message)
        if len(self.messages) > self.most:
            self._merge()

    def _merge(self) -> None:
        latest = {m.symbol: k for k, m in enumerate(self.messages) if isinstance(m, Bar) and not m.final}
        kept: list[FromServer | NotUnderstood | Merged] = []
        runs: dict[str, Merged] = {}
        for k, message in enumerate(self.messages):
            if isinstance(message, Merged):
                runs[message.symbol] = message
            elif isinstance(message, Bar) and not message.final and latest[message.symbol] != k:
                self.merged += 1
                run = runs.get(message.symbol)
                if run is not None and run.last + 1 == message.seq:
                    run.last = message.seq
                    continue
                message = runs[message.symbol] = Merged(message.symbol, message.seq, message.seq)
            kept.append(message)
        self.messages = kept

    def take(self, count: int) -> list[FromServer | NotUnderstood | Merged]:
        """The oldest so many, which wait no longer."""
        made, self.messages = self.messages[:count], self.messages[count:]
        return made


def check_address(url: str) -> None:
    """Raises `ValueError` with a sentence for what is no address of a feed."""
    parts = urlsplit(url)
    if parts.scheme not in ("ws", "wss") or not parts.hostname:
        raise ValueError(f"`{url}` is no address of a feed. Write one such as ws://localhost:8777.")


class FeedClient:
    """Follows some symbols of a feed, or all of them, until it is stopped. ``sure`` is what was kept of them (see `Follower`).

    Raises `ValueError` for an address that is none.
    """

    def __init__(
        self,
        url: str,
        sink: Sink,
        symbols: Iterable[str] | None = None,
        token: str | None = None,
        sure: dict[str, int] | None = None,
    ):
        check_address(url)
        self._url, self._sink = url, sink
        self.follower = Follower(symbols, token)
        self.follower.hold(sure or {})
        self.waiting = Waiting()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._stopped: asyncio.Event | None = None
        self._heard = self._asked = 0.0
        self._patience = _PATIENCE
        self._told = ""

    def stop(self) -> None:
        """Ends it soon; from any thread."""
        if self._loop is not None and self._stopped is not None:
            with contextlib.suppress(RuntimeError):  # it has ended
                self._loop.call_soon_threadsafe(self._stopped.set)

    async def run(self) -> None:
        """Connects and follows, over and over."""
        self._loop, self._stopped = asyncio.get_running_loop(), asyncio.Event()
        pause = FIRST_PAUSE
        while not self._stopped.is_set():
            begun = time.monotonic()
            await self._until_stopped(self._one_connection())
            if self.follower.greeted and time.monotonic() - begun > LONGEST_PAUSE / 2:
                pause = FIRST_PAUSE
            if not self._stopped.is_set():
                # Jittered, so that the clients of a server that was down do not all come back at once.
                await _set_within(self._stopped, pause * random.uniform(0.7, 1.3))
            pause = FIRST_PAUSE if self.follower.greeted else min(pause * 2, LONGEST_PAUSE)

    async def _until_stopped(self, work: Coroutine[None, None, None]) -> None:
        """Does some work until it ends or the client is stopped."""
        assert self._stopped is not None
        task = asyncio.ensure_future(work)
        stop = asyncio.ensure_future(self._stopped.wait())
        try:
            await asyncio.wait({task, stop}, return_when=asyncio.FIRST_COMPLETED)
        finally:  # also where the client itself is cancelled, which must not be swallowed with what ends here
            for one in (task, stop):
                one.cancel()
            await asyncio.gather(task, stop, return_exceptions=True)
        if not task.cancelled():
            task.result()

    async def _one_connection(self) -> None:
        hello = self.follower.connected()
        try:
            async with connect(
                self._url, max_size=_HARD_LIMIT, open_timeout=10, close_timeout=2, ping_interval=None, compression=None
            ) as connection:
                await connection.send(encoded(hello))
                why = await self._follow(connection)
        except (InvalidHandshake, InvalidURI) as error:
            why = f"What answers at {self._url} is no feed ({error})."
        except TimeoutError:
            why = f"The feed at {self._url} does not answer."
        except ConnectionClosed as error:
            why = f"The feed at {self._url} has closed the connection{_reason(error)}."
        except (OSError, WebSocketException) as error:
            why = f"There is no feed at {self._url}: {_plain(error)}."
        self.waiting.messages.clear()
        self._lost(why)

    def _lost(self, why: str) -> None:
        if why != self._told:  # the same reason again and again is reported once
            self._told = why
            self._sink.lost(why)

    async def _follow(self, connection: ClientConnection) -> str:
        """Takes what comes until nothing comes any more; gives why."""
        self._heard = self._asked = time.monotonic()
        self._patience = _PATIENCE
        there = asyncio.Event()
        reader = asyncio.ensure_future(self._read(connection, there))
        try:
            while True:
                await _set_within(there, 0.5)
                there.clear()
                while self.waiting.messages:
                    for message in self.waiting.take(_AT_ONCE):
                        if await self._take(connection, message):
                            return self._told or "The feed cannot be followed."
                    self._sink.pause(self.follower)
                    await asyncio.sleep(0)
                self._sink.pause(self.follower)
                if reader.done():
                    reader.result()  # says why
                if time.monotonic() - self._heard > SILENCE:
                    return f"The feed at {self._url} has been silent for {SILENCE:.0f} s."
                await self._ask_again(connection)
        finally:
            reader.cancel()

    async def _read(self, connection: ClientConnection, there: asyncio.Event) -> None:
        while True:
            frame = await connection.recv()
            self._heard = time.monotonic()
            try:
                self.waiting.add(from_server(frame))
            except NotUnderstood as error:
                self.waiting.add(error)
            there.set()

    async def _take(self, connection: ClientConnection, message: FromServer | NotUnderstood | Merged) -> bool:
        """Looks at a message; whether the connection is of no use."""
        greeted, now = self.follower.greeted, self.follower.now
        if isinstance(message, NotUnderstood):
            taken = self.follower.refused(message)
        elif isinstance(message, Merged):
            taken = self.follower.merged(message)
        else:
            taken = self.follower.take(message)
        self._hand_on(taken)
        if self.follower.greeted and not greeted:
            self._told = ""
            self._sink.connected(self.follower.name)
        if self.follower.now != now and self.follower.now is not None:
            self._sink.market_time(self.follower.now)
        if taken.want is not None:
            self._asked = time.monotonic()
            await connection.send(encoded(taken.want))
        if taken.give_up:
            self._lost(taken.said[-1])
        return taken.give_up

    def _hand_on(self, taken: Taken) -> None:
        for sentence in taken.said:
            self._sink.said(sentence)
        if taken.described:
            self._sink.described(taken.described)
        if taken.final is not None:
            self._sink.final(taken.final)
        if taken.forming is not None:
            self._sink.forming(taken.forming)
        if taken.whole:
            self._patience = _PATIENCE
            self._sink.whole(taken.whole)

    async def _ask_again(self, connection: ClientConnection) -> None:
        """Requests again what did not come, each time after a longer wait."""
        if time.monotonic() - max(self._asked, 0.0) < self._patience:
            return
        want = self.follower.waited()
        if want is not None:
            self._asked, self._patience = time.monotonic(), min(self._patience * 2, _LONGEST_PATIENCE)
            await connection.send(encoded(want))


async def _set_within(event: asyncio.Event, patience: float) -> None:
    """Waits for an event, so many seconds at most. `asyncio.wait_for` of Python 3.11 loses a cancellation that comes at the
    moment of the event."""
    with contextlib.suppress(TimeoutError):
        async with asyncio.timeout(patience):
            await event.wait()


def _plain(error: Exception) -> str:
    """An error of the network as the end of a sentence."""
    if isinstance(error, OSError) and error.errno is not None and error.errno > 0:
        words = os.strerror(error.errno)  # asyncio's own words hold addresses of the machine's
        return words[:1].lower() + words[1:]
    return " ".join(str(error).split())[:200] or type(error).__name__


def _reason(error: ConnectionClosed) -> str:
    if error.rcvd is None:
        return " without a word"
    said = "".join(c for c in error.rcvd.reason if c.isprintable())[:120]
    return f" ({said})" if said else ""
