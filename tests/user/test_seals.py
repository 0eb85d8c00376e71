"""The seal on disk: fixed once for each symbol, whoever asks, and never forgotten."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from pathlib import Path

import pytest

from helpers import taken
from oakladder.trial.notebook import What
from oakladder.trial.seal import Seen
from oakladder.trial.spans import Days
from oakladder.user.seals import Seals

WHAT = What("mark", {"n": "5"}, "Salt", "1d", "10000")


@pytest.fixture
def path(tmp_path: Path) -> Path:
    return tmp_path / "seals" / "log.jsonl"


def days(first: int, last: int):  # type: ignore[no-untyped-def]
    return lambda symbols: dict.fromkeys(symbols, (first, last))


def never(symbols: Sequence[str]) -> Days:
    raise AssertionError("the days are fixed")


def seen(rule: str, moment: float, *symbols: str) -> Seen:
    return Seen(moment, rule, rule, WHAT, symbols, 80, 100)


def test_the_day_is_fixed_when_a_list_is_first_judged(path: Path) -> None:
    seals = Seals(path)
    assert seals.sealed("Salt", ["TIDE", "OTTER"], days(0, 100)).days == {"TIDE": 80, "OTTER": 80}
    # More days come in, other lists and other programs ask: it stays.
    for again in (seals, Seals(path)):
        assert again.sealed("Salt", ["TIDE", "OTTER"], never).days == {"TIDE": 80, "OTTER": 80}
        assert again.sealed("TIDE", ["TIDE"], never).days == {"TIDE": 80}
        # A symbol that joins the list has its day.
        assert again.sealed("salt", ["TIDE", "LATE"], days(90, 95)).days["LATE"] == 80
    # What is sealed in one list is sealed in all; what is new has the day of the list that it is judged in.
    assert seals.sealed("All", ["TIDE", "GULL"], days(0, 200)).days == {"TIDE": 80, "GULL": 160}


def test_symbols_without_bars_have_no_day_until_they_have_some(path: Path) -> None:
    seals = Seals(path)
    assert seals.sealed("Salt", ["TIDE"], lambda symbols: {}).days == {}
    assert seals.sealed("Salt", ["TIDE", "OTTER"], lambda symbols: {"TIDE": (0, 10)}).days == {"TIDE": 8}
    assert seals.known(["TIDE", "OTTER"]).days == {"TIDE": 8} and seals.known(["GULL"]).days == {}


def test_two_programs_fix_one_day(path: Path) -> None:
    found: list[int] = []

    def judge(k: int) -> None:
        found.append(Seals(path).sealed("Salt", ["TIDE"], days(0, 100 + k)).days["TIDE"])

    threads = [threading.Thread(target=judge, args=(k,)) for k in range(8)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    final = Seals(path).sealed("Salt", ["TIDE"], never).days["TIDE"]
    assert final in {80 + k for k in range(8)} and final in found


def test_who_has_seen_is_kept_for_all(path: Path) -> None:
    one, other = Seals(path), Seals(path)
    one.note(seen("b", 2.0, "TIDE"))
    other.note(seen("a", 1.0, "GULL"))
    assert [s.rule for s in one.seen] == ["a", "b"] == [s.rule for s in other.seen]
    assert one.seen[1] == seen("b", 2.0, "TIDE")


def test_a_damaged_line_costs_itself_alone(path: Path) -> None:
    said: list[str] = []
    Seals(path).sealed("Salt", ["TIDE"], days(0, 100))
    path.write_bytes(path.read_bytes() + b"{half a li\n")
    seals = Seals(path, said.append)
    assert seals.sealed("Salt", ["TIDE"], never).days == {"TIDE": 80}
    assert len(said) == 1 and "1 line of log.jsonl" in said[0] and len(list(path.parent.glob("log*"))) == 2
    seals.note(seen("a", 1.0, "TIDE"))
    assert len(Seals(path).seen) == 1


def test_where_nothing_can_be_written_the_day_holds_all_the_same(tmp_path: Path) -> None:
    seals = Seals(taken(tmp_path) / "seals" / "log.jsonl")
    assert seals.sealed("Salt", ["TIDE"], days(0, 100)).days == {"TIDE": 80}
    assert seals.sealed("Salt", ["TIDE"], never).days == {"TIDE": 80}
    seals.note(seen("a", 1.0, "TIDE"))
    assert len(seals.seen) == 1
