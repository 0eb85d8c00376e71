"""A real server and a real client over a socket of this machine: whatever goes wrong between them, the minutes are the market's."""

from __future__ import annotations

import asyncio
import contextlib
import json
import signal
import subprocess
import sys
from collections.abc import Awaitable, Callable, Sequence
from pathlib import Path
from typing import Any

import pytest
from websockets.asyncio.client import connect
from websockets.asyncio.server import ServerConnection, serve
from websockets.exceptions import ConnectionClosed

from oakladder.demo.ahead import MarketAhead
from oakladder.feeds import client as client_module
from oakladder.feeds.asyncapi import document
from oakladder.feeds.client import FeedClient, check_address
from oakladder.feeds.follower import Follower, Minute
from oakladder.feeds.messages import Described, ServerHello, encoded, moment
from oakladder.feeds.simulator import FeedServer

START = 1_782_900_000
SYMBOLS = ("KELP", "SALT", "TIDE")


class Steady:
    """A market in which three symbols trade in most minutes."""

    def described(self) -> list[Described]:
        return [Described(s, s.title()) for s in SYMBOLS]

    def minutes(self, symbol: str, start: int, end: int) -> Sequence[Minute]:
        first = -(-start // 60) * 60
        made = []
        for time in range(first, end, 60):
            k = time // 60 * 7 + SYMBOLS.index(symbol)
            if k % 11:
                close = 20 + k % 13 / 4
                made.append(
                    Minute(symbol, time, 21.0, max(close, 21.0) + 1, min(close, 21.0) - 1, close, float(k % 500))
                )
        return made

    def next_trade(self, after: int) -> int:
        return after // 60 * 60 + 60


class Kept:
    """What a client told."""

    def __init__(self) -> None:
        self.finals: dict[tuple[str, int], Minute] = {}
        self.forms = 0
        self.told: list[str] = []
        self.losses: list[str] = []
        self.connections = 0
        self.now = 0
        self.symbols: list[str] = []

    def connected(self, name: str) -> None:
        self.connections += 1

    def lost(self, why: str) -> None:
        self.losses.append(why)

    def said(self, sentence: str) -> None:
        self.told.append(sentence)

    def described(self, symbols: list[Described]) -> None:
        self.symbols = [s.symbol for s in symbols]

    def final(self, minute: Minute) -> None:
        self.finals[minute.symbol, minute.time] = minute

    def forming(self, minute: Minute) -> None:
        self.forms += 1

    def whole(self, symbols: list[str]) -> None:
        pass

    def market_time(self, now: int) -> None:
        self.now = now

    def pause(self, follower: Follower) -> None:
        pass


@pytest.fixture
def hasty(monkeypatch: pytest.MonkeyPatch) -> None:
    """Pauses of the client that a test need not wait for."""
    for name, value in (("FIRST_PAUSE", 0.05), ("LONGEST_PAUSE", 0.2), ("SILENCE", 3.0), ("_PATIENCE", 0.3)):
        monkeypatch.setattr(client_module, name, value)


async def until(what: Callable[[], bool], seconds: float = 20.0) -> None:
    async with asyncio.timeout(seconds):
        while not what():
            await asyncio.sleep(0.02)


@contextlib.asynccontextmanager
async def following(client: FeedClient) -> Any:
    task = asyncio.ensure_future(client.run())
    try:
        yield
    finally:
        client.stop()
        await asyncio.wait_for(task, 5)


@contextlib.asynccontextmanager
async def served(**options: Any) -> Any:
    server = FeedServer(Steady(), START, **({"speed": 6000.0} | options))
    address = await server.open(port=0)
    task = asyncio.ensure_future(server.run())
    try:
        yield server, address
    finally:
        task.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await task


def as_traded(kept: Kept, client: FeedClient, first: int = START) -> int:
    """Checks that all minutes up to those that are sure are the market's, none more and none less; gives how many."""
    count = 0
    for symbol, sure in client.follower.sure().items():
        expected = Steady().minutes(symbol, first, sure + 1)
        got = [m for (s, t), m in sorted(kept.finals.items()) if s == symbol and first <= t <= sure]
        assert got == list(expected)
        count += len(expected)
    return count


def test_a_client_gets_the_markets_minutes(hasty: None) -> None:
    async def go() -> None:
        async with served() as (server, address):
            kept = Kept()
            client = FeedClient(address, kept, sure=dict.fromkeys(SYMBOLS, START - 7200))
            async with following(client):
                await until(lambda: len(kept.finals) > 1200)
            assert as_traded(kept, client, START - 7200) > 800
            assert kept.connections == 1 and kept.symbols == list(SYMBOLS) and not kept.told and kept.forms > 20
            assert abs(kept.now - server.now()) < 600 and not client.follower.counts

    asyncio.run(go())


@pytest.mark.parametrize("seed", range(4))
def test_whatever_goes_wrong_on_the_way_the_minutes_are_the_markets(hasty: None, seed: int) -> None:
    async def go() -> None:
        async with served(faults=seed, speed=3000.0) as (_, address):
            kept = Kept()
            client = FeedClient(address, kept, sure=dict.fromkeys(SYMBOLS, START))
            async with following(client):
                await until(lambda: len(kept.finals) > 900, 40)
                await until(lambda: not client.follower.lacking)
            assert as_traded(kept, client, START + 60) > 300
            assert (
                client.follower.counts["gap"]
                and client.follower.counts["no message"]
                and client.follower.counts["repeat"]
            )

    asyncio.run(go())


def test_a_client_goes_on_after_the_server_was_gone(hasty: None) -> None:
    async def go() -> None:
        kept = Kept()
        async with served() as (first, address):
            client = FeedClient(address, kept, ["KELP"], sure={"KELP": START})
            task = asyncio.ensure_future(client.run())
            await until(lambda: len(kept.finals) > 100)
        await until(lambda: bool(kept.losses) and "There is no feed at" in kept.losses[-1])
        said = len(kept.losses)
        await asyncio.sleep(0.6)
        assert len(kept.losses) == said  # the same reason is told once
        again = FeedServer(Steady(), first.now() + 3600, speed=6000.0)
        await again.open(port=int(address.rpartition(":")[2]))
        serving = asyncio.ensure_future(again.run())
        await until(lambda: kept.connections == 2 and not client.follower.lacking)
        client.stop()
        await task
        serving.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await serving
        assert as_traded(kept, client, START + 60) > 100

    asyncio.run(go())


Answer = Callable[[ServerConnection], Awaitable[None]]


def told_by(answer: Answer, enough: Callable[[Kept], bool]) -> Kept:
    """What a client tells of a server that answers in some way."""
    kept = Kept()

    async def go() -> None:
        async def each(connection: ServerConnection) -> None:
            with contextlib.suppress(ConnectionClosed):
                await connection.recv()
                await answer(connection)

        async with serve(each, "127.0.0.1", 0) as server:
            port = next(iter(server.sockets)).getsockname()[1]
            async with following(FeedClient(f"ws://127.0.0.1:{port}", kept)):
                await until(lambda: enough(kept))

    asyncio.run(go())
    return kept


def test_a_client_can_be_cancelled_whatever_it_does(hasty: None) -> None:
    async def go() -> None:
        async with served() as (_, address):
            for url, patience in ((address, 0.0), (address, 0.4), ("ws://127.0.0.1:9", 0.4)):
                task = asyncio.ensure_future(FeedClient(url, Kept()).run())
                await asyncio.sleep(patience)
                task.cancel()
                done, _ = await asyncio.wait({task}, timeout=5)
                assert done and task.cancelled()

    asyncio.run(go())


def test_a_server_that_falls_silent_is_lost_and_tried_again(hasty: None) -> None:
    async def silent(connection: ServerConnection) -> None:
        await connection.send(encoded(ServerHello(1, "silent", moment(START))))
        await connection.wait_closed()

    kept = told_by(silent, lambda kept: kept.connections > 1)
    assert "has been silent" in kept.losses[0]


def test_another_version_gets_a_sentence(hasty: None) -> None:
    async def later(connection: ServerConnection) -> None:
        await connection.send(encoded(ServerHello(9, "later", moment(START))))
        await connection.wait_closed()

    kept = told_by(later, lambda kept: bool(kept.losses))
    assert "speaks version 9 of the protocol" in kept.losses[0] and kept.connections == 0


def test_garbage_and_long_frames_are_counted_and_the_rest_goes_on(hasty: None) -> None:
    async def odd(connection: ServerConnection) -> None:
        await connection.send(encoded(ServerHello(1, "odd\x1b[31m", moment(START))))
        await connection.send(b"\x00\x01")
        await connection.send("x" * 1_200_000)
        await connection.send('{"kind": "trouble", "code": "x", "text": "Fog\\u0007 over <b>Saltmere</b>."}')
        for minute in Steady().minutes("KELP", START - 600, START):
            body = dict(zip(("open", "high", "low", "close", "volume"), minute[2:], strict=True))
            seq = (minute.time - START) // 60 + 100
            await connection.send(
                json.dumps(
                    {"kind": "bar", "symbol": "KELP", "seq": seq, "time": f"{moment(minute.time):%Y-%m-%dT%H:%M:%SZ}"}
                    | body
                    | {"final": True}
                )
            )
        await connection.wait_closed()

    kept = told_by(odd, lambda kept: len(kept.finals) >= 8)
    assert any("binary" in words for words in kept.told) and any(
        "longer than 1,000,000" in words for words in kept.told
    )
    assert "The feed says: Fog over <b>Saltmere</b>." in kept.told
    assert kept.connections == 1


def test_what_is_no_websocket_is_said(hasty: None) -> None:
    async def go() -> Kept:
        async def page(_: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nhi")
            await writer.drain()
            writer.close()

        kept = Kept()
        async with await asyncio.start_server(page, "127.0.0.1", 0) as server:
            port = server.sockets[0].getsockname()[1]
            async with following(FeedClient(f"ws://127.0.0.1:{port}", kept)):
                await until(lambda: bool(kept.losses))
        return kept

    assert "is no feed" in asyncio.run(go()).losses[0]


@pytest.mark.parametrize("url", ["", "localhost:8777", "http://localhost:8777", "ws://"])
def test_what_is_no_address_gets_a_sentence(url: str) -> None:
    with pytest.raises(ValueError, match="is no address of a feed"):
        check_address(url)


def test_the_server_follows_the_protocol(hasty: None) -> None:
    async def go() -> None:
        async with served(token="sesame") as (_, address):
            for first in (
                '{"kind": "want", "symbols": "all"}',
                "nonsense",
                '{"kind": "hello", "version": 1}',
                '{"kind": "hello", "version": 7, "token": "sesame"}',
            ):
                async with connect(address) as connection:
                    await connection.send(first)
                    assert json.loads(await connection.recv())["kind"] == "trouble"
                    with pytest.raises(ConnectionClosed):
                        await connection.recv()
            async with connect(address) as connection:
                await connection.send('{"kind": "hello", "version": 1, "token": "sesame"}')
                hello, symbols = json.loads(await connection.recv()), json.loads(await connection.recv())
                assert (hello["kind"], hello["version"], symbols["kind"]) == ("hello", 1, "symbols")
                since = f"{moment(START - 1200):%Y-%m-%dT%H:%M:%SZ}"
                await connection.send(
                    json.dumps({"kind": "want", "symbols": ["KELP", "NONE"], "since": {"KELP": since}})
                )
                said: list[dict[str, Any]] = []
                while not said or said[-1]["kind"] != "caught-up":
                    said.append(json.loads(await connection.recv()))
                assert any(m["kind"] == "trouble" and "NONE" in m["text"] for m in said)
                bars = [m for m in said if m["kind"] == "bar" and m["final"]]
                upto = said[-1]["upto"]
                assert [m["time"] for m in bars] == sorted(m["time"] for m in bars) and bars[0]["time"] > since
                numbers = [m["seq"] for m in said if m["kind"] == "bar"]
                assert numbers == list(range(1, len(numbers) + 1)) and bars[-1]["time"] <= upto
                # What has not been asked for since a time gets no history; numbers go on.
                await connection.send(json.dumps({"kind": "want", "symbols": ["SALT", "KELP"]}))
                later = [json.loads(await connection.recv()) for _ in range(300)]
                assert not [m for m in later if m["kind"] == "caught-up"]
                assert {m["symbol"] for m in later if m["kind"] == "bar"} == {"KELP", "SALT"}
                more = [m["seq"] for m in later if m["kind"] == "bar" and m["symbol"] == "KELP"]
                assert more == list(range(numbers[-1] + 1, numbers[-1] + 1 + len(more)))
                beats = [m["now"] for m in later if m["kind"] == "beat"]
                assert beats == sorted(beats)

    asyncio.run(go())


def test_the_description_for_programs_is_that_of_the_messages() -> None:
    root = Path(__file__).parents[2]
    assert json.loads((root / "docs" / "feed.asyncapi.json").read_text(encoding="utf-8")) == document()


def test_the_command_prints_its_address_first_and_ends_when_it_is_asked_to(tmp_path: Path) -> None:
    command = [sys.executable, "-m", "oakladder", "feed", "--port", "0", "--speed", "600", "--library", str(tmp_path)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        address = process.stdout.readline().strip()
        assert address.startswith("ws://127.0.0.1:")

        async def go() -> Kept:
            kept = Kept()
            async with following(FeedClient(address, kept, ["BRINE"])):
                await until(lambda: kept.now > 0 and bool(kept.finals), 30)
            return kept

        kept = asyncio.run(go())
        process.send_signal(signal.SIGTERM)
        _, said = process.communicate(timeout=20)
    assert process.returncode == 0 and said == ""
    (minute, *_) = kept.finals.values()
    bars = MarketAhead().minutes("BRINE", minute.time, minute.time + 60)
    assert minute == Minute(
        "BRINE", int(bars.times[0]), *(float(bars[n][0]) for n in ("open", "high", "low", "close", "volume"))
    )


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["--speed", "0"], "--speed"),
        (["--port", "99999"], "--port"),
        (["--from", "soon"], "is no time"),
        (["--from", "2020-01-01"], "after the last stored day"),
        (["--library", "/nowhere/at/all"], "no library"),
    ],
)
def test_calls_that_make_no_sense_get_a_sentence(words: list[str], told: str) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "oakladder", "feed", *words], capture_output=True, text=True, timeout=60
    )
    assert done.returncode in (2, 3) and told in done.stderr and "Traceback" not in done.stderr and not done.stdout
