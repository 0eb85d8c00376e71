"""Watchlists: made, ordered, noted, pasted, written out and read again; nothing is lost between two starts."""

from __future__ import annotations

import multiprocessing
from pathlib import Path

import pytest

from oakladder.bars.store.library import BarLibrary
from oakladder.user.lists import ALL, ListProblem, Watchlists, parse_symbols


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
    assert again.user_lists["Mine"].notes == {"BRINE": "waits for the tide"}
    again.note("Mine", "BRINE", "")
    again.rename("Mine", "Ours")
    assert list(Watchlists(tmp_path / "lists.json").user_lists) == ["Ours"]
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
    assert lists.user_lists["Dips"].symbols == ["BRINE", "GULLW"] and lists.user_lists["Dips"].notes == {"BRINE": "big"}


@pytest.mark.parametrize("as_csv", [False, True])
def test_what_is_written_out_can_be_read(lists: Watchlists, market: BarLibrary, as_csv: bool) -> None:
    lists.make("Mine", ["FLAKE", "BRINE"])
    lists.note("Mine", "FLAKE", 'with "quotes", and commas')
    text = lists.written("Mine", market.infos, as_csv=as_csv)
    assert lists.read("Copy", text + ("NOPE,,,\n" if as_csv else "NOPE\n"), market.infos) == ["NOPE"]
    assert lists.user_lists["Copy"].symbols == ["FLAKE", "BRINE"]
    assert lists.user_lists["Copy"].notes == (lists.user_lists["Mine"].notes if as_csv else {})


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
    assert list(lists.user_lists) == ["Mine"]


GOOD = '{"name": "Good", "symbols": ["BRINE"], "notes": {"BRINE": "a } bracket"}}'


@pytest.mark.parametrize(
    ("text", "names"),
    [
        ("{", []),
        ('{"a": 1}', []),
        ("\x00\x01", []),
        (f"[{GOOD},", ["Good"]),
        (f'{{"version": 1, "lists": [{GOOD} {GOOD.replace("Good", "Second")}]}}', ["Good", "Second"]),
        (f'[1, {{"name": 3}}, {GOOD}, {{"name": "x", "symbols": "BRINE", "notes": []}}]', ["Good", "x"]),
        (f"[{GOOD}, {GOOD}]", ["Good", "Good 2"]),
        ("[" * 100_000 + GOOD, ["Good"]),
        ('{"lists": ' * 50_000, []),
    ],
)
def test_of_a_damaged_file_what_can_be_read_is_used_and_all_of_it_kept(
    tmp_path: Path, text: str, names: list[str]
) -> None:
    path = tmp_path / "lists.json"
    path.write_text(text)
    told: list[str] = []
    lists = Watchlists(path, told.append)
    assert list(lists.user_lists) == names
    lists.make("New", ["BRINE"])
    assert list(Watchlists(path).user_lists) == [*names, "New"]
    kept = list(tmp_path.glob("lists.damaged-*.json"))
    assert [p.read_text() for p in kept] == [text]
    assert kept[0].name in told[0]


def test_a_file_that_cannot_be_read_is_not_written_over(tmp_path: Path) -> None:
    path = tmp_path / "lists.json"
    path.mkdir()
    told: list[str] = []
    lists = Watchlists(path, told.append)
    with pytest.raises(OSError):
        lists.make("New")
    assert path.is_dir() and "cannot be read" in told[0]


def test_a_change_that_cannot_be_written_is_not_made(lists: Watchlists, monkeypatch: pytest.MonkeyPatch) -> None:
    lists.make("Mine", ["BRINE"])

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.replace", full)
    with pytest.raises(OSError):
        lists.remove("Mine", ["BRINE"])
    assert lists.user_lists["Mine"].symbols == ["BRINE"]


def test_a_scan_leaves_a_list_alone_that_it_does_not_keep(lists: Watchlists) -> None:
    lists.make("Dips", ["BRINE"])
    for scan in ("Dips", ""):
        with pytest.raises(ListProblem, match="created by you"):
            lists.keep("Dips", ["FLAKE"], scan)
    lists.keep("Dips found", ["FLAKE"], "Dips")
    with pytest.raises(ListProblem, match="belongs to the scan Dips"):
        lists.keep("Dips found", [], "Other")
    assert lists.user_lists["Dips"].symbols == ["BRINE"] and lists.user_lists["Dips found"].symbols == ["FLAKE"]


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
    assert Watchlists(tmp_path / "lists.json").user_lists.keys() == {"First", "Second"}
    assert two.fresh() and not two.fresh()
    assert two.names(market.infos)[:3] == [ALL, "First", "Second"]
    assert two.symbols("Second", market.infos) == ["FLAKE", "GULLW"]


def _makes_lists(path: Path, name: str, count: int) -> None:
    lists = Watchlists(path)
    for k in range(count):
        lists.make(f"{name} {k}", ["BRINE"])
        lists.note(f"{name} {k}", "BRINE", name)


def test_two_copies_that_make_lists_in_a_loop_lose_none(tmp_path: Path) -> None:
    path = tmp_path / "lists.json"
    context = multiprocessing.get_context("fork")
    copies = [context.Process(target=_makes_lists, args=(path, name, 40)) for name in ("one", "two")]
    for copy in copies:
        copy.start()
    for copy in copies:
        copy.join()
    own = Watchlists(path).user_lists
    assert len(own) == 80 and all(w.notes for w in own.values())


def test_odd_names_and_large_cells_are_no_trouble(lists: Watchlists, market: BarLibrary) -> None:
    lists.make("two\nlines \u202e back", ["BRINE"])
    assert list(lists.user_lists) == ["two lines back"]
    assert lists.read("huge", "BRINE," + "x" * 200_000, market.infos) == ["X" * 200_000]
    lists.note("huge", "BRINE", "half \ud800")
    assert lists.user_lists["huge"].symbols == ["BRINE"]


def test_symbols_with_spaces_and_slashes_are_found() -> None:
    infos = {"BRK A": None, "EUR/USD": None, "BRINE": None}
    assert parse_symbols("brk a\nEUR/USD brine, 'BRK A'", infos) == (["BRK A", "EUR/USD", "BRINE"], [])  # type: ignore[arg-type]
