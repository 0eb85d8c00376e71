"""Measurements are kept as JSON and compared with those of another run; a file that is none of ours is refused."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from oakladder import speed


@pytest.fixture
def measured(monkeypatch: pytest.MonkeyPatch) -> dict[str, str]:
    """What the only part measures."""
    given = {"a run": "30 ms", "against a loop": "2.00 ×", "a start": "1.20 s"}
    monkeypatch.setattr(
        speed,
        "PARTS",
        {"engine": lambda symbols: [(work, m, f"{symbols} symbols", "≤ 1 s") for work, m in given.items()]},
    )
    return given


def test_what_was_measured_is_kept_and_compared(call, measured: dict[str, str], tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    kept = tmp_path / "first.json"
    code, _, _ = call("speed", "engine", "--symbols", "12", "--json", str(kept))
    assert code == 0
    plain = json.loads(kept.read_text(encoding="utf-8"))
    assert plain["machine"].endswith(" ms") and plain["rows"][0] == {
        "work": "a run",
        "measured": "30 ms",
        "beside": "12 symbols",
        "reach": "≤ 1 s",
    }
    measured |= {"a run": "0.06 s", "against a loop": "3.00 ×", "a start": "none"}
    code, out, _ = call("speed", "engine", "--symbols", "12", "--against", str(kept))
    rows = {line.split("│")[1].strip(): line for line in out.splitlines() if line.startswith("│")}
    assert code == 0 and rows["a run"].rstrip(" │").endswith("2.00 ×") and "30 ms" in rows["a run"]
    assert rows["against a loop"].rstrip(" │").endswith("1.50 ×")
    assert rows["a start"].rstrip(" │").endswith("1.20 s")  # nothing to compare


def test_rows_of_the_same_words_are_compared_with_their_own(call, monkeypatch, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    kept, factor = tmp_path / "first.json", [1.0]

    def rows(_: int) -> list[speed.Row]:
        return [
            row
            for work, value in (("a mean", 2.0), ("a loop", 6.0))
            for row in ((work, "30 ms", "", ""), ("  against numba", f"{value * factor[0]:.2f} ×", "", ""))
        ]

    monkeypatch.setattr(speed, "PARTS", {"engine": rows})
    call("speed", "engine", "--json", str(kept))
    factor[0] = 1.5
    _, out, _ = call("speed", "engine", "--against", str(kept))
    against = [line.rstrip(" │") for line in out.splitlines() if "against numba" in line]
    assert len(against) == 2 and all(line.endswith("1.50 ×") for line in against)


@pytest.mark.parametrize("content", ["", "[]", '{"rows": 3}', '{"rows": [{"work": 1}]}', "# a page", None])
def test_another_file_is_refused_before_anything_is_measured(  # type: ignore[no-untyped-def]
    call, measured: dict[str, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch, content: str | None
) -> None:
    def never(symbols: int) -> list[speed.Row]:
        raise AssertionError("it was measured")

    monkeypatch.setattr(speed, "PARTS", {"engine": never})
    path = tmp_path / "other.json"
    if content is not None:
        path.write_text(content, encoding="utf-8")
    code, _, err = call("speed", "engine", "--against", str(path))
    assert code == 2 and "other.json" in err and "Traceback" not in err and "Errno" not in err
