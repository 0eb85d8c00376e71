"""Saved scans: kept, read as far as they make sense, turned round; damage loses nothing."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oakladder.user.scans import GROUP, SCRIPT, SavedScan, SavedScans, ScanLine, ScanProblem, as_plain, read_scan

LINE = ScanLine(SCRIPT, script="tide_turn.rung", name="flow", settings={"fast": 3}, bars=2)
SCAN = SavedScan(
    "Dips", lines=[LINE, ScanLine(GROUP, join="any", lines=(LINE, ScanLine("price", relation=">", number=3.0)))]
)


def test_a_scan_comes_back_as_it_was_saved(tmp_path: Path) -> None:
    SavedScans(tmp_path / "scans.json").save(SCAN)
    assert SavedScans(tmp_path / "scans.json").scans == {"Dips": SCAN}


def test_one_line_that_makes_no_sense_costs_no_other_and_the_file_is_kept(tmp_path: Path) -> None:
    path, plain = tmp_path / "scans.json", as_plain(SCAN)
    plain["lines"] = [*plain["lines"], {"kind": "script", "bars": "many"}]  # type: ignore[misc]
    path.write_text(json.dumps({"version": 1, "scans": [plain, {"name": "", "lines": []}]}))
    told: list[str] = []
    scans = SavedScans(path, told.append)
    assert scans.scans == {"Dips": SCAN} and len(told) == 1
    scans.save(SavedScan("Other"))
    assert list(SavedScans(path).scans) == ["Dips", "Other"]
    assert len(list(tmp_path.glob("scans.damaged-*.json"))) == 1


def test_a_syntax_error_in_the_file_costs_the_one_scan_that_it_stands_in(tmp_path: Path) -> None:
    path = tmp_path / "scans.json"
    scans = SavedScans(path)
    for name in ("First", "Second", "Third"):
        scans.save(SavedScan(name, lines=[LINE]))
    text = path.read_text().replace('"Second",', '"Second"')
    path.write_text(text)
    assert list(SavedScans(path).scans) == ["First", "Third"]


def test_what_is_gone_cannot_be_copied(tmp_path: Path) -> None:
    scans = SavedScans(tmp_path / "scans.json")
    with pytest.raises(ScanProblem):
        scans.copy("Dips")


_json = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats()
    | st.text(max_size=3)
    | st.sampled_from(["script", "group"]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(sorted(as_plain(SCAN))), inner),
    max_leaves=10,
)


@settings(max_examples=200, deadline=None)
@given(st.dictionaries(st.sampled_from(sorted(as_plain(SCAN))), _json))
def test_whatever_is_written_down_a_scan_comes_of_it(entry: dict[str, object]) -> None:
    made = read_scan(entry)
    if made is not None:
        assert read_scan(as_plain(made)) == made
