"""A real feed and a real `oak watch`: killed at any moment, every minute and every alert is there once."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from oakladder.alerts.store import AlertStore
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_MINUTE, Timeframe
from oakladder.demo.ahead import MarketAhead
from oakladder.engine.scan.run import held_lately
from oakladder.user.workspace import Workspace

SCRIPT = "rung 1\nsignal go = close > ema(close, 8) and close > open\n"
NAMES = ("BRINE", "KELPG", "SALTG")


@pytest.fixture
def home(tmp_path: Path, market_copies: Callable[[Path], None], monkeypatch: pytest.MonkeyPatch) -> Workspace:
    for name in ("DATA", "CONFIG"):
        monkeypatch.setenv(f"XDG_{name}_HOME", str(tmp_path / name.lower()))
    market_copies(Workspace.default().data / "bars")
    (tmp_path / "go.rung").write_text(SCRIPT)
    monkeypatch.chdir(tmp_path)
    return Workspace.default()


def oak(*words: str, code: int = 0) -> str:
    done = subprocess.run([sys.executable, "-m", "oakladder", *words], capture_output=True, text=True, timeout=120)
    assert done.returncode == code, done.stderr
    assert "Traceback" not in done.stderr
    return done.stdout if not code else done.stderr


def begun(*words: str) -> subprocess.Popen[str]:
    return subprocess.Popen(
        [sys.executable, "-m", "oakladder", *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )


@pytest.fixture
def feed(home: Workspace) -> Iterator[str]:
    process = begun("feed", "--port", "0", "--speed", "600")
    assert process.stdout is not None
    yield process.stdout.readline().strip()
    process.kill()
    process.wait()


def watched(url: str, seconds: float, *words: str) -> list[dict[str, Any]]:
    """What a watch of so many seconds prints."""
    return [json.loads(line) for line in oak("watch", "--feed", url, "--for", str(seconds), "--format", "json", *words).splitlines()]  # fmt: skip


def watched_until(url: str, enough: Callable[[list[dict[str, Any]]], bool]) -> list[dict[str, Any]]:
    """What a watch prints until it is enough, and while it ends."""
    process, made = begun("watch", "--feed", url, "--format", "json"), []
    assert process.stdout is not None
    for line in process.stdout:
        made.append(json.loads(line))
        if enough(made):
            process.send_signal(signal.SIGTERM)
            break
    made += [json.loads(line) for line in process.stdout]
    assert process.wait(60) == 0
    return made


def first_live(library: BarLibrary, symbol: str) -> int:
    """The time after the demo market's own minutes."""
    return int(MarketAhead().first(symbol))


def agrees_with_the_market(library: BarLibrary, symbol: str) -> int:
    """Compares live minutes with the generator's, up to those that are sure; gives how many."""
    library.take_in()
    sure, first = library.log.sure()[symbol], first_live(library, symbol)
    bars = library.base(symbol, ONE_MINUTE)
    part = bars.part(*np.searchsorted(bars.times, (first, sure + 1)).tolist())
    expected = MarketAhead().minutes(symbol, first, sure + 1)
    np.testing.assert_array_equal(part.times, expected.times)
    for name in ("open", "high", "low", "close", "volume"):
        np.testing.assert_array_equal(part[name], expected[name])
    return len(part)


def agrees_with_history(home: Workspace, library: BarLibrary) -> int:
    """Compares the log with what a run over history says of the bars that were judged; gives the number of rows."""
    store, count = AlertStore(home.data / "alerts.sqlite"), 0
    for alert in store.alerts():
        judged, rows = store.judged()[alert.id], store.log(alert=alert.id)
        keys = [(r.symbol, r.bar) for r in rows]
        assert len(set(keys)) == len(keys)
        (found,), _ = held_lately([alert.condition(lambda _: NAMES)], library, [alert.symbol], alert.frame, 5000)
        expected = {
            (one.symbol, int(t))
            for one in found
            for t, close, held in zip(one.times, one.closes, one.held, strict=True)
            if held and alert.created < close <= judged.of(one.symbol)
        }
        assert set(keys) == expected
        assert all(r.missed or r.told is not None for r in rows)
        count += len(rows)
    return count


def test_a_watch_writes_the_minutes_and_tells_of_alerts(home: Workspace, feed: str) -> None:
    for frame, once in (("1m", "bar"), ("5m", "bar"), ("1m", "day")):
        said = oak("alert", "add", "go.rung", "--signal", "go", "--list", "Ferries", "--timeframe", frame, "--once", once, "--name", f"{frame} {once}")  # fmt: skip
        assert "Over the last year" in said and "is watched" in said
    events = watched_until(feed, lambda events: len([e for e in events if e["event"] == "alert"]) > 20)
    assert [e["event"] for e in events if e["event"] in ("connected", "lost")] == ["connected"]
    assert all("Desktop notifications" in e["text"] for e in events if e["event"] == "trouble")
    alerts = [e for e in events if e["event"] == "alert"]
    assert alerts and set(alerts[0]) == {"event", "id", "alert", "symbol", "timeframe", "bar", "signal", "price", "text", "told"}  # fmt: skip
    log = json.loads(oak("alert", "log", "--format", "json"))
    assert set(log[0]) == {"id", "alert", "symbol", "timeframe", "bar", "signal", "price", "text", "told", "missed"}
    told = [r["id"] for r in log if r["told"] is not None]
    assert told == [e["id"] for e in alerts] and {r["id"] for r in log if r["missed"]} == {
        e["id"] for e in events if e["event"] == "missed"
    }
    days = [(r["symbol"], r["bar"][:10]) for r in log if r["alert"] == "1m day" and not r["missed"]]
    assert days and len(set(days)) == len(days)
    library = home.library()
    assert sum(agrees_with_the_market(library, name) for name in library.log.sure()) > 1000


@pytest.mark.parametrize("times", [3, pytest.param(60, marks=pytest.mark.nightly)])
def test_a_watch_that_is_killed_again_and_again(
    home: Workspace, feed: str, told: Callable[[str], None], times: int
) -> None:
    rng = random.Random(times)
    for name in NAMES:
        oak("alert", "add", "go.rung", "--signal", "go", "--symbol", name, "--timeframe", rng.choice(["1m", "5m"]), "--name", name)  # fmt: skip
    for _ in range(times):
        process = begun("watch", "--feed", feed, "--format", "json")
        assert process.stdout is not None
        while json.loads(process.stdout.readline())["event"] != "connected":
            pass  # what the one before was killed too early to print comes first
        time.sleep(rng.random() * 2)
        process.send_signal(signal.SIGKILL)
        process.wait()
    watched(feed, 4)
    library = home.library()
    minutes = sum(agrees_with_the_market(library, name) for name in library.log.sure())
    rows = agrees_with_history(home, library)
    assert minutes > 500 and rows > 10 and library.damaged() == []
    told(f"a watch killed {times} times: {minutes:,} minutes as the market's, {rows} alerts, each once")


def test_a_second_watch_says_who_follows_and_takes_its_place(home: Workspace, feed: str) -> None:
    oak("alert", "add", "go.rung", "--signal", "go", "--symbol", "BRINE", "--timeframe", "1m")
    first = begun("watch", "--feed", feed, "--format", "json")
    assert first.stdout is not None and json.loads(first.stdout.readline())["event"] == "connected"
    second = begun("watch", "--feed", feed, "--format", "json")
    assert second.stdout is not None
    said = json.loads(second.stdout.readline())
    assert said["event"] == "trouble" and f"process {first.pid}" in said["text"]
    seen = json.loads(second.stdout.readline())
    assert seen["event"] in ("alert", "missed") and seen["symbol"] == "BRINE"
    first.kill()
    end = time.monotonic()
    while json.loads(second.stdout.readline())["event"] != "connected":
        assert time.monotonic() - end < 20
    first.wait()
    second.send_signal(signal.SIGTERM)
    assert second.wait(30) == 0
    library = home.library()
    assert agrees_with_the_market(library, "BRINE") > 0 and agrees_with_history(home, library) > 0


def test_alerts_are_made_listed_switched_and_removed(home: Workspace) -> None:
    oak("alert", "add", "go.rung", "--signal", "go", "--symbol", "BRINE", "--timeframe", "5m", "--name", "one", "--post", "http://127.0.0.1:9/x")  # fmt: skip
    assert "There is an alert called one" in oak("alert", "add", "go.rung", "--signal", "go", "--name", "one", code=2)
    (one,) = json.loads(oak("alert", "list", "--format", "json"))
    assert (one["name"], one["on"], one["symbol"], one["timeframe"]) == ("one", True, "BRINE", "5m")
    assert "is off" in oak("alert", "off", "ONE") and "off already" in oak("alert", "off", "one")
    assert "is on" in oak("alert", "on", "one")
    assert "would have told" in oak("alert", "estimate", "go.rung", "--signal", "go", "--list", "all")
    assert len(json.loads(oak("alert", "list", "--format", "json"))) == 1
    assert "removed" in oak("alert", "remove", "one") and oak("alert", "log", "--format", "json").strip() == "[]"


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["alert", "add", "go.rung"], "--signal"),
        (["alert", "add"], "needs a script"),
        (["alert", "add", "go.rung", "--signal", "nope"], "nope"),
        (["alert", "add", "go.rung", "--signal", "go", "--symbol", "BRINE", "--list", "all"], "not both"),
        (["alert", "add", "go.rung", "--signal", "go", "--list", "Nowhere"], "no list"),
        (["alert", "add", "go.rung", "--signal", "go", "--post", "ftp://x"], "no address"),
        (["alert", "add", "go.rung", "--signal", "go", "--mail", "x"], "no e-mail"),
        (["alert", "add", "go.rung", "--signal", "go", "--name", " "], "needs a name"),
        (["alert", "on", "nope"], "no alert called nope"),
        (["alert", "on"], "needs the name"),
        (["alert", "list", "x"], "takes no name"),
        (["alert", "list", "--symbol", "BRINE"], "takes no --symbol"),
        (["alert", "off", "x", "--format", "json"], "takes no --format"),
        (["watch", "--feed", "http://x"], "no address of a feed"),
        (["watch", "--for", "0"], "--for"),
    ],
)
def test_calls_that_make_no_sense_get_a_sentence(home: Workspace, words: list[str], told: str) -> None:
    assert told in oak(*words, code=2)


def test_a_feed_that_is_not_there_is_said_and_the_watch_ends_well(home: Workspace) -> None:
    events = watched("ws://127.0.0.1:9", 2)
    assert [e["event"] for e in events] == ["lost"] and "There is no feed at" in events[0]["text"]
    process = begun("watch", "--feed", "ws://127.0.0.1:9")
    time.sleep(2.5)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=20)
    assert process.returncode == 0 and "There is no feed" in out and not err
    assert os.environ["XDG_DATA_HOME"] and Timeframe.parse("1m") == ONE_MINUTE
