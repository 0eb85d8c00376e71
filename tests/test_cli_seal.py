"""The seal from the command line: one day for all timeframes and lists, and what is said when it is broken."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

RULE = """rung 1
setting n = 5 range 1..50
signal go = close > highest(high, n)[1] bullish
trade ride long
    enter when go
    at most 8 bars
"""


def rule(name: str = "rule.rung", text: str = RULE) -> str:
    Path(name).write_text(text, encoding="utf-8")
    return name


def told(call, *words: str) -> tuple[dict, str]:  # type: ignore[no-untyped-def, type-arg]
    code, out, err = call(*words, "--format", "json")
    assert code == 0, err
    return json.loads(out), err


def test_one_date_holds_for_every_timeframe_symbol_and_rule(call) -> None:  # type: ignore[no-untyped-def]
    daily, _ = told(call, "trial", rule(), "--list", "all")
    for words in (("--symbol", "BRINE"), ("--list", "Ferries"), ("--list", "all", "--timeframe", "1w")):
        made, _ = told(call, "trial", rule("other.rung", RULE.replace("8", "9")), *words)
        assert made["sealed_from"] == daily["sealed_from"]
        assert max(t["left"] for t in made["trades"]) < daily["sealed_from"]
    evidence, _ = told(call, "evidence", rule(), "--list", "all")
    assert evidence["sealed_from"] == daily["sealed_from"]


@pytest.mark.parametrize("frame", ["1h", "5m"])
@pytest.mark.parametrize("command", ["trial", "evidence"])
def test_a_timeframe_that_is_sealed_as_a_whole_is_refused(call, command: str, frame: str) -> None:  # type: ignore[no-untyped-def]
    code, _, err = call(command, rule(), "--symbol", "BRINE", "--timeframe", frame)
    assert code == 2 and f"All {frame} bars lie in the sealed part of history" in err and "--broken-seal" in err
    code, out, err = call(command, rule(), "--symbol", "BRINE", "--timeframe", frame, "--broken-seal")
    assert code == 0 and "nothing was promised" in err and out


def test_breaking_it_says_who_has_seen_that_part_before(call) -> None:  # type: ignore[no-untyped-def]
    where = ("--symbol", "BRINE", "--broken-seal")
    made, err = told(call, "trial", rule("first.rung"), *where)
    assert "After 1 try the open part" in err and "No other rule has seen this part" in err and made["tuned"] is False
    # The same again says nothing more; another timeframe of the same days neither.
    made, err = told(call, "trial", rule("first.rung"), *where)
    assert err == "" and made["tuned"] is False
    made, err = told(call, "trial", "first.rung", *where, "--timeframe", "5m")
    assert err == "" and made["tuned"] is True
    # A change of the rule, or of a setting, is tuned on known data; what is tried on the open part is not.
    assert told(call, "trial", "first.rung", *where, "--set", "n=9")[0]["tuned"] is True
    assert told(call, "trial", "first.rung", "--symbol", "BRINE", "--set", "n=9")[0]["tuned"] is False
    code, out, _ = call("trial", "first.rung", *where, "--set", "n=9")
    assert code == 0 and "Tuned on known data" in out
    # Another rule, days of other symbols, and a rule that comes after it.
    made, err = told(call, "trial", rule("second.rung", RULE.replace("8", "9")), "--symbol", "FLAKE", "--broken-seal")
    assert "No other rule" in err and made["tuned"] is False
    made, err = told(call, "evidence", rule("third.rung", RULE.replace("8", "7")), "--list", "all", "--broken-seal")
    assert "2 other rules have seen this part of history before" in err and "first" in err and "second" in err
    assert made["tuned"] is True and made["words"].startswith("Tuned on known data")


def test_a_rule_that_was_tried_before_anybody_looked_is_not_tuned(call) -> None:  # type: ignore[no-untyped-def]
    told(call, "trial", rule("early.rung"), "--symbol", "BRINE")
    told(call, "trial", rule("late.rung", RULE.replace("8", "9")), "--symbol", "BRINE", "--broken-seal")
    made, err = told(call, "trial", "early.rung", "--symbol", "BRINE", "--broken-seal")
    assert made["tuned"] is False and "1 other rule has seen this part of history before: late on" in err


def test_a_copy_has_seen_what_its_original_has(call) -> None:  # type: ignore[no-untyped-def]
    told(call, "trial", rule("one.rung"), "--symbol", "BRINE", "--broken-seal")
    made, err = told(call, "trial", rule("copy.rung", RULE + "-- mine\n"), "--symbol", "BRINE", "--broken-seal")
    assert err == "" and made["tuned"] is False


def test_a_sweep_on_known_data_says_so(call) -> None:  # type: ignore[no-untyped-def]
    sweep = ("trial", rule(), "--symbol", "BRINE", "--sweep", "n=3..9/2")
    assert told(call, *sweep)[0]["tuned"] is False
    # These combinations were tried before anybody had looked; others were not.
    assert told(call, *sweep, "--broken-seal")[0]["tuned"] is False
    code, out, err = call(*sweep[:-1], "n=4..10/2", "--broken-seal")
    assert code == 0 and "Tuned on known data" in err and out
    walk, _ = told(call, *sweep[:-1], "n=4..10/2", "--broken-seal", "--walk")
    assert walk["tuned"] is True


def test_a_file_is_not_sealed(call, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    rows = "".join(f"2024-{1 + d // 28:02}-{1 + d % 28:02},20,30,19,{20 + d % 7},100\n" for d in range(200))
    (tmp_path / "OWN.csv").write_text("date,open,high,low,close,volume\n" + rows)
    made, err = told(call, "trial", rule(), "--csv", str(tmp_path / "OWN.csv"), "--broken-seal")
    assert made["sealed_from"] is None and made["tuned"] is False and err == ""
