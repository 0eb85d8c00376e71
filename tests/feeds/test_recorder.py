"""What a feed tells is written into a library: known symbols and described ones, again after a failure, and no absurd ones."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from bars.store.test_append_log import OPENS, market_of
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.appending import Appender
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_MINUTE
from oakladder.feeds.follower import Follower, Minute
from oakladder.feeds.messages import Bar, Described, FromServer, ServerHello, Symbols, moment
from oakladder.feeds.recorder import News, Recorder, info_of

BEGIN = int(OPENS[0])


class Told:
    """A recorder over a library, and a follower that is told messages by hand."""

    def __init__(self, folder: Path):
        self.library = market_of(folder)
        self.news: list[News] = []
        self.said: list[str] = []
        self.recorder = Recorder(self.library, self.news.append, self.said.append)
        self.follower = Follower()
        self.follower.hold(self.recorder.last_minutes())
        self.follower.connected()
        self._numbers: dict[str, int] = {}
        self.take(ServerHello(1, "by hand", moment(BEGIN)))

    def take(self, message: FromServer) -> None:
        made = self.follower.take(message)
        if made.described:
            self.recorder.described(made.described)
        if made.final is not None:
            self.recorder.final(made.final)
        if made.forming is not None:
            self.recorder.forming(made.forming)
        self.recorder.market_time(self.follower.now or 0)
        self.recorder.pause(self.follower)

    def minute(self, symbol: str, k: int, close: float = 12.0, *, final: bool = True) -> None:
        self._numbers[symbol] = seq = self._numbers.get(symbol, 0) + 1
        self.take(ServerHello(1, "by hand", moment(BEGIN)))
        self.follower.now = BEGIN + 60 * k + 60
        self.take(Bar(symbol, seq, moment(BEGIN + 60 * k), 12.0, max(close, 12.0), min(close, 12.0), close, 5.0, final))


@pytest.fixture
def told(tmp_path: Path) -> Told:
    return Told(tmp_path / "bars")


def test_a_symbol_that_is_described_is_taken_in_and_another_is_left_out_with_a_sentence(told: Told) -> None:
    told.take(
        Symbols(
            [Described("FOG", "Fog futures", "future", 0.25, "WET", "10:00-12:00"), Described("L0", "Another name")]
        )
    )
    for k in range(3):
        for name in ("FOG", "L0", "WHAT"):
            told.minute(name, k)
    told.recorder.write()
    fog = told.library.infos["FOG"]
    assert (fog.name, fog.kind, fog.tick, fog.calendar.zone, fog.calendar.start, fog.calendar.end) == ("Fog futures", "future", 0.25, "WET", 600, 720)  # fmt: skip
    assert told.library.infos["L0"].name == "L0" and "WHAT" not in told.library.infos
    assert len(told.library.bars("FOG", ONE_MINUTE, True)) == 3
    assert len(told.said) == 1 and "WHAT" in told.said[0]
    assert len(BarLibrary(told.library.folder).bars("L0", ONE_MINUTE)) == 203


def test_how_far_it_is_sure_is_written_with_the_minutes(told: Told) -> None:
    told.take(Symbols([]))
    for k in range(2):
        told.minute("L0", k)
    told.minute("L0", 2, final=False)
    told.recorder.write()
    assert told.library.log.sure()["L0"] == BEGIN + 60 and told.library.log.now() == BEGIN + 180
    (news,) = told.news
    np.testing.assert_array_equal(news.appended.new["L0"], [BEGIN, BEGIN + 60])
    assert news.forming["L0"].time == BEGIN + 120 and news.latest["L0"] == BEGIN + 120 and news.last["L0"] == BEGIN + 60
    told.minute("L0", 2)
    told.recorder.write()
    assert not told.news[-1].forming
    again = Recorder(told.library, lambda _: None, lambda _: None)
    assert again.last_minutes()["L0"] == BEGIN + 120


def test_what_cannot_be_written_is_kept_and_said_once(told: Told, monkeypatch: pytest.MonkeyPatch) -> None:
    real: Callable[..., object] = Appender.append

    def full(*_: object) -> None:
        raise DataProblem("The disk is full.")

    told.take(Symbols([]))
    monkeypatch.setattr(Appender, "append", full)
    for k in range(4):
        told.minute("L1", k)
        told.recorder.write()
    assert told.said == ["Live minutes cannot be written, and are kept until they can: The disk is full."]
    assert not told.news and len(told.library.bars("L1", ONE_MINUTE)) == 200
    monkeypatch.setattr(Appender, "append", real)
    told.minute("L1", 4)
    told.recorder.write()
    assert len(told.library.bars("L1", ONE_MINUTE)) == 205 and len(told.news[-1].appended.new["L1"]) == 5
    assert told.library.log.sure()["L1"] == BEGIN + 240


def test_news_that_was_not_looked_at_is_joined() -> None:
    first, second = News(now=60), News(now=120, latest={"A": 60})
    first.appended.new["A"], second.appended.new["A"], second.appended.new["B"] = (np.array([k]) for k in (0, 60, 60))
    both = first.followed_by(second)
    assert both.now == 120 and both.latest == {"A": 60}
    assert {name: times.tolist() for name, times in both.appended.new.items()} == {"A": [0, 60], "B": [60]}


@pytest.mark.parametrize(("zone", "session", "hours"), [("UTC", "09:00-15:30", (540, 930)), ("Nowhere", "x", (0, 1440)), ("WET", "18:00-17:00", (-360, 1020)), ("UTC", "", (0, 1440))])  # fmt: skip
def test_what_makes_no_sense_in_a_description_is_as_usual(zone: str, session: str, hours: tuple[int, int]) -> None:
    made = info_of(Described("X", "Fog\u202e\x07", "", -1.0, zone, session))
    assert (made.calendar.start, made.calendar.end) == hours and made.tick == 0.01
    assert made.name == "Fog" and made.kind == "share" and Minute("X", 0, 1, 1, 1, 1, 1).symbol == made.symbol
