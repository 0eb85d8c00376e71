"""What follows from the messages of a feed: what is lost is asked for, what cannot be is refused, what is repeated is left."""

from __future__ import annotations

import json
import math
from typing import Any

import pytest

from oakladder.feeds.client import Waiting
from oakladder.feeds.follower import Follower, Merged, Minute, Taken
from oakladder.feeds.messages import (
    Bar,
    Beat,
    CaughtUp,
    Described,
    NotUnderstood,
    ServerHello,
    Symbols,
    Trade,
    Trouble,
    Want,
    encoded,
    from_client,
    from_server,
    moment,
)

#: A moment of the market, on a whole minute.
NOW = 1_782_900_000


def bar(
    seq: int, minute: int, *, final: bool = True, symbol: str = "KELP", close: float = 10.0, **others: float
) -> Bar:
    """The bar of a minute, counted from `NOW`."""
    made = {"open": 10.0, "high": max(11.0, close), "low": min(9.0, close), "volume": 5.0} | others
    return Bar(
        symbol, seq, moment(NOW + 60 * minute), made["open"], made["high"], made["low"], close, made["volume"], final
    )


def greeted(sure: dict[str, int] | None = None, symbols: list[str] | None = None) -> tuple[Follower, Taken]:
    """A follower that a server has greeted, an hour after `NOW`, and what followed from that."""
    follower = Follower(symbols)
    follower.hold(sure or {})
    follower.connected()
    return follower, follower.take(ServerHello(1, "test", moment(NOW + 3600)))


def minutes(want: Want | None) -> dict[str, int]:
    """What is asked for, in minutes from `NOW`."""
    assert want is not None
    return {name: (int(time.timestamp()) - NOW) // 60 for name, time in want.since.items()}


def test_a_new_connection_asks_from_an_hour_before_the_last_sure_minute() -> None:
    _, made = greeted({"KELP": NOW + 600})
    assert made.want is not None and made.want.symbols == "all" and minutes(made.want) == {"KELP": 10 - 60}
    _, made = greeted({"KELP": NOW, "SALT": NOW}, ["SALT"])
    assert made.want is not None and made.want.symbols == ["SALT"] and minutes(made.want) == {"SALT": -60}


def test_a_gap_is_asked_for_once_and_again_if_more_was_lost() -> None:
    follower, _ = greeted()
    for seq in (1, 2, 3):
        assert follower.take(bar(seq, seq)).want is None
    made = follower.take(bar(5, 5))
    assert minutes(made.want) == {"KELP": 3} and made.final is not None and follower.lacking == ["KELP"]
    assert follower.take(bar(7, 7)).want is None  # still waiting for the first
    assert minutes(follower.take(CaughtUp("KELP", moment(NOW + 300))).want) == {"KELP": 3}
    for seq, minute in ((8, 4), (9, 5), (10, 6), (11, 7)):
        assert follower.take(bar(seq, minute)).want is None
    assert follower.take(CaughtUp("KELP", moment(NOW + 420))).whole == ["KELP"]
    assert follower.lacking == [] and follower.sure() == {"KELP": NOW + 420}


def test_what_was_lost_just_before_a_caught_up_is_asked_for_once_the_gap_shows() -> None:
    follower, _ = greeted({"KELP": NOW})
    follower.take(bar(1, 1))
    follower.take(bar(2, 2))  # the minutes 3 and 4 follow, and are lost
    assert follower.take(CaughtUp("KELP", moment(NOW + 240))).whole == ["KELP"]
    assert follower.sure() == {"KELP": NOW + 240}
    made = follower.take(bar(5, 5))
    assert minutes(made.want) == {"KELP": 2} and follower.lacking == ["KELP"]


def test_a_gap_asks_for_all_that_is_still_awaited() -> None:
    follower, _ = greeted()
    for symbol in ("KELP", "SALT"):
        follower.take(bar(1, 1, symbol=symbol))
    assert minutes(follower.take(bar(3, 3)).want) == {"KELP": 1}
    assert minutes(follower.take(bar(4, 4, symbol="SALT")).want) == {"KELP": 1, "SALT": 1}
    follower.take(CaughtUp("KELP", moment(NOW + 180)))
    assert follower.lacking == ["SALT"] and minutes(follower.waited()) == {"SALT": 1}


def test_what_was_lost_at_the_very_beginning_is_asked_for_from_the_connection_on() -> None:
    follower, _ = greeted()
    assert minutes(follower.take(bar(4, 60)).want) == {"KELP": 59}


def test_a_jump_in_time_is_said_and_the_largest_time_counts() -> None:
    follower, _ = greeted()
    made = follower.take(Beat(moment(NOW + 40 * 86_400)))
    assert "jumps by 39 days" in made.said[0] and follower.counts["jump"] == 1
    assert not follower.take(Beat(moment(NOW))).said and follower.now == NOW + 40 * 86_400


def test_symbols_that_the_server_does_not_have_lack_nothing() -> None:
    follower, _ = greeted({"KELP": NOW, "OWN": NOW})
    assert follower.lacking == ["KELP", "OWN"]
    assert follower.take(Symbols([Described("KELP", "Kelp")])).whole == ["OWN"] and follower.lacking == ["KELP"]


def test_repeats_are_left_and_a_late_one_cannot_undo_a_correction() -> None:
    follower, _ = greeted()
    first = bar(1, 1)
    assert follower.take(first).final == Minute("KELP", NOW + 60, 10, 11, 9, 10, 5)
    corrected = follower.take(bar(2, 1, close=10.5))
    assert corrected.final is not None and corrected.final.close == 10.5
    for again in (first, bar(2, 1)):
        made = follower.take(again)
        assert made.final is None and made.want is None
    assert follower.counts["repeat"] == 2


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        ({"close": math.inf}, "no number"),
        ({"open": math.nan}, "no number"),
        ({"low": -9.0}, "not above 0"),
        ({"close": 0.0}, "not above 0"),
        ({"high": 8.0, "low": 9.0}, "high is below its low"),
        ({"high": 9.5}, "do not hold"),
        ({"volume": -1.0}, "volume"),
        ({"volume": 1e300}, "volume"),
    ],
)
def test_what_cannot_be_is_refused_said_and_asked_for_once_more(wrong: dict[str, float], words: str) -> None:
    follower, _ = greeted()
    follower.take(bar(1, 1))
    message = bar(2, 2)
    for name, value in wrong.items():
        setattr(message, name, value)
    made = follower.take(message)
    assert made.final is None and words in made.said[0] and minutes(made.want) == {"KELP": 1}
    # It uses its number up; the same once more is not asked for a second time.
    message.seq = 3
    assert follower.take(message).want is None and follower.counts["refused bar"] == 2
    follower.take(CaughtUp("KELP", moment(NOW + 120)))
    assert follower.take(bar(4, 3)).want is None and follower.lacking == []


def test_times_within_a_minute_and_ahead_of_the_market_are_refused() -> None:
    follower, _ = greeted()
    message = bar(1, 1)
    message.time = moment(NOW + 75)
    assert "begins within a minute" in follower.take(message).said[0]
    assert "ahead of the market" in follower.take(bar(2, 62)).said[0]
    assert follower.take(bar(3, 61)).final is not None
    follower.take(Beat(moment(NOW + 90 * 60)))
    assert follower.take(bar(4, 62)).final is not None
    follower.take(Beat(moment(NOW)))  # the market's time does not go back
    assert follower.now == NOW + 90 * 60


def test_prices_below_zero_are_for_symbols_that_may_have_them() -> None:
    follower, _ = greeted()
    follower.take(Symbols([Described("KELP", "Kelp", "spread"), Described("SALT", "Salt", "share")]))
    assert follower.take(bar(1, 1, close=-2.0)).final is not None
    assert follower.take(bar(1, 1, symbol="SALT", close=-2.0)).final is None


def test_a_minute_in_progress_never_replaces_a_final_one() -> None:
    follower, _ = greeted()
    assert follower.take(bar(1, 1, final=False)).forming is not None
    assert follower.take(bar(2, 1)).final is not None
    assert follower.take(bar(3, 1, final=False)).forming is None
    assert follower.take(bar(4, 2, final=False)).forming is not None
    assert follower.take(bar(5, 1, final=False)).forming is None


def test_trades_make_a_minute_where_the_server_tells_none() -> None:
    follower, _ = greeted()

    def trade(seq: int, second: int, price: float, size: float) -> Minute | None:
        return follower.take(Trade("KELP", seq, moment(NOW + second), price, size)).forming

    assert trade(1, 61, 10.0, 5) == Minute("KELP", NOW + 60, 10, 10, 10, 10, 5)
    assert trade(2, 75, 12.0, 1) == Minute("KELP", NOW + 60, 10, 12, 10, 12, 6)
    assert trade(3, 90, 11.0, 1) == Minute("KELP", NOW + 60, 10, 12, 10, 11, 7)
    assert trade(4, 121, 11.5, 2) == Minute("KELP", NOW + 120, 11.5, 11.5, 11.5, 11.5, 2)
    follower.take(bar(5, 2, final=False))
    assert trade(6, 130, 20.0, 1) is None  # it is in the bars already
    assert trade(7, 181, -1.0, 1) is None and follower.counts["refused trade"] == 1


def test_a_server_without_history_is_followed_from_now_on() -> None:
    follower, _ = greeted({"KELP": NOW})
    follower.take(bar(1, 58))
    made = follower.take(Trouble("no-history", "We keep nothing."))
    assert made.whole == ["KELP"] and "We keep nothing." in made.said[0] and follower.sure() == {"KELP": NOW + 58 * 60}


def test_another_version_is_said_and_given_up() -> None:
    follower = Follower()
    follower.connected()
    made = follower.take(ServerHello(2, "later", moment(NOW)))
    assert made.give_up and "version 2" in made.said[0] and not follower.greeted


def test_nothing_counts_before_the_server_has_said_hello() -> None:
    follower = Follower()
    follower.connected()
    assert follower.take(bar(1, 1)).final is None and follower.counts["before hello"] == 1


def test_numbers_begin_anew_with_each_connection() -> None:
    follower, _ = greeted()
    follower.take(bar(1, 1))
    follower.connected()
    made = follower.take(ServerHello(1, "test", moment(NOW + 3600)))
    assert minutes(made.want) == {"KELP": 1 - 60}
    assert follower.take(bar(1, 2)).final is not None


def test_symbols_that_nobody_asked_for_are_counted_and_left() -> None:
    follower, _ = greeted(symbols=["SALT"])
    assert follower.take(bar(1, 1)).final is None and follower.counts["not asked for"] == 1
    assert follower.want(["KELP"]).symbols == ["KELP"]
    assert follower.take(bar(2, 1)).final is not None


@pytest.mark.parametrize(
    "frame", ["", "{", "[1, 2]", '"bar"', '{"kind": 3}', '{"kind": "bar"}', "[" * 100_000, "\ud800"]
)
def test_a_frame_that_is_no_message_is_counted(frame: str) -> None:
    follower, _ = greeted()
    with pytest.raises(NotUnderstood) as raised:
        from_server(frame)
    made = follower.refused(raised.value)
    assert len(made.said) == 1 and follower.counts["no message"] == 1


def test_a_garbled_message_about_a_symbol_uses_its_number_up() -> None:
    follower, _ = greeted()
    follower.take(bar(1, 1))
    with pytest.raises(NotUnderstood) as raised:
        from_server('{"kind": "bar", "symbol": "KELP", "seq": 2, "time": "yesterday"}')
    assert follower.refused(raised.value).want is None
    assert follower.take(bar(3, 2)).want is None


def test_frames_that_are_too_long_or_binary_are_refused() -> None:
    with pytest.raises(NotUnderstood, match="longer than 1,000,000 bytes"):
        from_server(" " * 1_000_001)
    with pytest.raises(NotUnderstood, match="binary"):
        from_server(b"{}")


def test_an_unknown_kind_is_passed_over_without_a_word() -> None:
    follower, _ = greeted()
    with pytest.raises(NotUnderstood) as raised:
        from_server('{"kind": "weather", "text": "fog"}')
    assert follower.refused(raised.value).said == [] and follower.counts["unknown kind"] == 1


def test_messages_are_written_as_the_contract_says() -> None:
    told = json.loads(encoded(bar(7, 1)))
    assert told == {
        "kind": "bar",
        "symbol": "KELP",
        "seq": 7,
        "time": "2026-07-01T10:01:00Z",
        "open": 10.0,
        "high": 11.0,
        "low": 9.0,
        "close": 10.0,
        "volume": 5.0,
        "final": True,
    }
    assert json.loads(encoded(Want("all"))) == {"kind": "want", "symbols": "all"}
    want: dict[str, Any] = {"kind": "want", "symbols": ["KELP"], "since": {"KELP": "2026-07-01T10:01:00Z"}}
    assert json.loads(encoded(from_client(json.dumps(want | {"later": 1})))) == want
    described = Described("KELP", "Kelp", first=moment(NOW))
    assert json.loads(encoded(Symbols([described])))["symbols"][0]["from"] == "2026-07-01T10:00:00Z"
    assert json.loads(encoded(CaughtUp("KELP", moment(NOW))))["kind"] == "caught-up"


def test_where_too_many_wait_minutes_in_progress_are_merged_and_final_ones_never() -> None:
    waiting, plain = Waiting(most=100), []
    for k in range(1, 2001):
        message = bar(k, k // 40, final=k % 40 == 39, close=9 + (k % 7) / 5)
        plain.append(message)
        waiting.add(message)
        assert len(waiting.messages) <= 250
    follower, straight = greeted()[0], greeted()[0]
    got: list[Minute] = []
    while waiting.messages:
        for message in waiting.take(7):
            taken = follower.merged(message) if isinstance(message, Merged) else follower.take(message)  # type: ignore[arg-type]
            assert taken.want is None
            got += [taken.final] if taken.final is not None else []
    expected = [t.final for t in map(straight.take, plain) if t.final is not None]
    assert got == expected and len(got) == 50 and waiting.merged > 1500 and follower.counts["gap"] == 0
