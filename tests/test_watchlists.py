"""Watchlists: made, ordered, noted, pasted, written out and read again; nothing is lost between two starts."""

from __future__ import annotations

from pathlib import Path

import pytest

from oakladder.bars.library import BarLibrary
from oakladder.watchlists import ALL, ListProblem, Watchlists, parse_symbols


@pytest.fixture
def lists(tmp_path: Path) -> Watchlists:
    return Watchlists(tmp_path / "lists.json")


def test_a_list_is_made_ordered_and_comes_back(lists: Watchlists, market: BarLibrary, tmp_path: Path) -> None:
    infos = market.infos
    lists.make("Mine", ["FLAKE", "BRINE"])
    added, unknown = lists.add("Mine", "gullw; CROSS\nbrine  nothere, 'HARBR'", infos)
    assert added == ["GULLW", "CROSS", "HARBR"] and unknown == ["NOTHERE"]
    lists.move("Mine", "HARBR", 0)
    lists.remove("Mine", ["CROSS"])
    lists.note("Mine", "BRINE", " waits for the tide ")
    again = Watchlists(tmp_path / "lists.json")
    assert again.symbols("Mine", infos) == ["HARBR", "FLAKE", "BRINE", "GULLW"]
    assert again.own["Mine"].notes == {"BRINE": "waits for the tide"}
    again.note("Mine", "BRINE", "")
    again.rename("Mine", "Ours")
    assert list(Watchlists(tmp_path / "lists.json").own) == ["Ours"]
    again.delete("Ours")
    assert again.names(infos)[0] == ALL and "Salt" in again.names(infos)


def test_every_kind_of_list_has_its_symbols(lists: Watchlists, market: BarLibrary) -> None:
    assert lists.symbols(ALL, market.infos) == list(market.infos)
    assert all(market.infos[s].sector == "Ferries" for s in lists.symbols("Ferries", market.infos))
    lists.make("Old", ["BRINE", "LONGGONE"])
    assert lists.symbols("Old", market.infos) == ["BRINE"]
    with pytest.raises(ListProblem):
        lists.symbols("Nothing", market.infos)


def test_a_scan_keeps_its_list_up_to_date_and_notes_stay(lists: Watchlists) -> None:
    lists.keep("Dips", ["BRINE", "FLAKE"], "Dips")
    lists.note("Dips", "BRINE", "big")
    lists.keep("Dips", ["BRINE", "GULLW"], "Dips")
    assert lists.own["Dips"].symbols == ["BRINE", "GULLW"] and lists.own["Dips"].notes == {"BRINE": "big"}


@pytest.mark.parametrize("as_csv", [False, True])
def test_what_is_written_out_can_be_read(lists: Watchlists, market: BarLibrary, as_csv: bool) -> None:
    lists.make("Mine", ["FLAKE", "BRINE"])
    lists.note("Mine", "FLAKE", 'with "quotes", and commas')
    text = lists.written("Mine", market.infos, as_csv=as_csv)
    assert lists.read("Copy", text + ("NOPE,,,\n" if as_csv else "NOPE\n"), market.infos) == ["NOPE"]
    assert lists.own["Copy"].symbols == ["FLAKE", "BRINE"]
    assert lists.own["Copy"].notes == (lists.own["Mine"].notes if as_csv else {})


def test_what_cannot_be_done_is_said(lists: Watchlists, market: BarLibrary) -> None:
    lists.make("Mine")
    for go in (
        lambda: lists.make("Mine"),
        lambda: lists.make("  "),
        lambda: lists.make(ALL),
        lambda: lists.add("Ferries", "BRINE", market.infos),
        lambda: lists.rename("Mine", ""),
        lambda: lists.delete("Gone"),
    ):
        with pytest.raises(ListProblem):
            go()
    assert list(lists.own) == ["Mine"]


@pytest.mark.parametrize(
    "text", ["", "{", '{"a": 1}', '[1, {"name": 3}, {"name": "x", "symbols": "BRINE", "notes": []}]']
)
def test_a_spoiled_file_loses_nothing_else(tmp_path: Path, text: str) -> None:
    path = tmp_path / "lists.json"
    path.write_text(text)
    lists = Watchlists(path)
    assert all(not w.symbols for w in lists.own.values())
    lists.make("New", ["BRINE"])
    assert Watchlists(path).own["New"].symbols == ["BRINE"]


def test_symbols_are_found_however_they_are_parted(market: BarLibrary) -> None:
    assert parse_symbols('brine,FLAKE;"GULLW"\t| cross\n\nBRINE', market.infos)[0] == [
        "BRINE",
        "FLAKE",
        "GULLW",
        "CROSS",
    ]


def test_two_copies_of_the_program_lose_nothing(tmp_path: Path, market: BarLibrary) -> None:
    one, two = (Watchlists(tmp_path / "lists.json") for _ in range(2))
    one.make("First", ["BRINE"])
    two.make("Second", ["FLAKE"])
    one.add("Second", "GULLW", market.infos)
    assert Watchlists(tmp_path / "lists.json").own.keys() == {"First", "Second"}
    assert two.names(market.infos)[:3] == [ALL, "First", "Second"]
    assert two.symbols("Second", market.infos) == ["FLAKE", "GULLW"]
