"""Evidence, chance, sweeps, notebooks and the look-ahead check from the command line."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import numpy as np
import pytest

from oakladder.bars.time_words import iso
from oakladder.user.workspace import Workspace
from trial.judge.evidence.grounds import walk

RULE = """rung 1
setting most = 950 range 0..1000
signal go = volume > most bullish
trade ride long
    enter when go
    at most 5 bars
"""


def rule(text: str = RULE) -> str:
    Path("rule.rung").write_text(text, encoding="utf-8")
    return "rule.rung"


def bars(edge: float = 0.0) -> tuple[str, ...]:
    made = walk(np.random.default_rng(4), 400, edge=edge)
    rows = [["time", *made.columns]]
    rows += [[iso(int(t)), *(repr(float(made[n][k])) for n in made.columns)] for k, t in enumerate(made.times)]
    with Path("walk.csv").open("w", newline="") as file:
        csv.writer(file).writerows(rows)
    return "--csv", "walk.csv"


def told(call, *words: str) -> dict:  # type: ignore[no-untyped-def, type-arg]
    code, out, err = call(*words, "--format", "json")
    assert code == 0, err
    return json.loads(out, parse_constant=no_number)


def no_number(words: str) -> None:
    raise AssertionError(f"{words} is no JSON")


def test_evidence_tells_every_horizon(call) -> None:  # type: ignore[no-untyped-def]
    made = told(call, "evidence", rule(), "--signal", "go", *bars(edge=0.004))
    assert [h["bars"] for h in made["horizons"]] == [1, 2, 3, 5, 10, 20, 40]
    five = made["horizons"][3]
    assert {"bars", "count", "days", "mean", "median", "up", "usual", "difference", "chance"} <= set(five)
    assert five["difference"] == pytest.approx(five["mean"] - five["usual"]) and five["chance"] < 0.05
    assert 0 < made["overall"] < 0.05
    code, out, _ = call("evidence", rule(), *bars())
    assert code == 0 and "10 bars later" in out and "Chance" in out


def test_evidence_keeps_out_of_the_sealed_part(call) -> None:  # type: ignore[no-untyped-def]
    sealed = told(call, "evidence", rule(), "--symbol", "BRINE", "--set", "most=0")
    whole = told(call, "evidence", rule(), "--symbol", "BRINE", "--set", "most=0", "--broken-seal")
    assert 0.78 < sealed["count"] / whole["count"] < 0.82 and sealed["sealed_from"]


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        (("evidence", "--signal", "gone"), "There is no signal gone"),
        (("trial", "--sweep", "far=1..3"), "no setting `far`"),
        (("trial", "--sweep", "most=1..3", "--by", "luck"), "--by takes one of"),
        (("trial", "--sweep", "most=1..3", "--sweep", "most=4..5"), "two ranges"),
        (("trial", "--walk"), "go with --sweep"),
        (("trial", "--sweep", "most=1..3", "--walk", "--to", "2000-02-01"), "bars"),
        (("trial", "--sweep", "most=1..3", "--cluster", "tcp://127.0.0.1:9"), "No scheduler answers"),
        (("honest", "--symbol", "NOWHERE"), "There is no symbol"),
    ],
)
def test_a_wrong_call_gets_a_sentence(call, words: tuple[str, ...], sentence: str) -> None:  # type: ignore[no-untyped-def]
    where = () if "--symbol" in words else ("--symbol", "BRINE")
    code, _, err = call(words[0], rule(), *where, *words[1:])
    assert code in (2, 3) and sentence in err and "Traceback" not in err


def test_a_trial_beside_chance(call) -> None:  # type: ignore[no-untyped-def]
    made = told(call, "trial", rule(), *bars(edge=0.006), "--chance")
    assert made["chance"]["share"] < 0.05 and made["bootstrap"]["average_low"] < made["chance"]["real"]
    code, out, _ = call("trial", rule(), *bars(), "--chance")
    assert code == 0 and "shifted through time together" in out and "90 % of resampled runs" in out


def test_prices_far_below_the_tick_are_refused_with_a_guess(call, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "SMALL.csv"
    rows = "".join(
        f"2025-{1 + d // 28:02}-{1 + d % 28:02},{p},{p},{p},{p},960\n" for d in range(80) for p in [f"0.000{12 + d}"]
    )
    path.write_text("date,open,high,low,close,volume\n" + rows)
    code, _, err = call("trial", rule(), "--csv", str(path))
    assert code == 3 and "far below a tick of 0.01" in err and "--tick 0.00001" in err
    code, out, _ = call("trial", rule(), "--csv", str(path), "--tick", "0.00001", "--format", "json")
    assert code == 0 and json.loads(out)["figures"]["trades"] > 0


def test_the_tick_is_that_of_real_prices_where_a_file_has_adjusted_ones(call, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "OLD.csv"  # its adjusted prices are about a tick; the real ones were traded at 50
    days = [f"2025-{1 + d // 28:02}-{1 + d % 28:02}" for d in range(80)]
    rows = (
        f"{day},{p},{p},{p},{p},{p / 1000 if d < 79 else p:.5f},960\n"
        for d, day in enumerate(days)
        for p in [50 + d % 7]
    )
    path.write_text("date,open,high,low,close,adj close,volume\n" + "".join(rows))
    code, out, _ = call("trial", rule(), "--csv", str(path), "--format", "json")
    made = json.loads(out)
    assert code == 0 and made["trades"] and all(50 <= t["entry"] <= 57 and t["units"] >= 1 for t in made["trades"])


def spread(folder: Path) -> Path:
    """The difference of two prices: it comes down from 2 and goes on below 0."""
    closes = np.round(2 + np.cumsum(np.random.default_rng(3).normal(-0.01, 0.3, 300)), 2)
    opens = np.append(2.0, closes[:-1])
    rows = (
        f"{np.datetime64('2023-01-01') + k},{o:.2f},{max(o, c) + 0.1:.2f},{min(o, c) - 0.1:.2f},{c:.2f},{(k * 37) % 1000}\n"
        for k, (o, c) in enumerate(zip(opens, closes, strict=True))
    )
    path = folder / "SPREAD.csv"
    path.write_text("date,open,high,low,close,volume\n" + "".join(rows))
    return path


def test_prices_below_zero_have_results_in_money_alone(call, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    text, where = rule(RULE + "    stop 0.5\n"), ("--csv", str(spread(tmp_path)))
    code, _, err = call("trial", text, *where)
    assert code == 2 and "SPREAD has prices of 0 and below" in err and "100u, 1%r" in err
    code, _, err = call("evidence", text, *where)
    assert code == 2 and "SPREAD has prices of 0 and below" in err and "per cent" in err
    code, _, err = call("honest", text, *where)
    assert code == 2 and "100u" in err
    assert told(call, "honest", text, *where, "--size", "100u")["checks"][0]["findings"] == 0
    equity = tmp_path / "equity.csv"
    made = told(call, "trial", text, *where, "--size", "100u", "--cost", "0", "--chance", "--equity", str(equity))
    figures, trades = made["figures"], made["trades"]
    assert figures["trades"] == len(trades) > 5
    assert [figures[n] for n in ("average", "held_end", "held_growth", "zero_cost")] == [None] * 4
    assert all(t["ratio"] is None and t["worst"] is None and t["best"] is None for t in trades)
    # Money and risks have a meaning: one tick of slippage where it leaves at the market or a stop, and where it enters.
    for trade in trades:
        assert trade["net"] == pytest.approx(100 * (trade["exit"] - trade["entry"] - 0.02))
    assert figures["average_money"] == pytest.approx(np.mean([t["net"] for t in trades]))
    assert made["chance"]["real"] == pytest.approx(figures["average_money"] / 100)
    assert 0 < made["chance"]["share"] <= 1 and made["bootstrap"]["ranges"]["average"] is None
    assert "nan" not in equity.read_text()
    code, out, _ = call("trial", text, *where, "--size", "100u", "--cost", "0", "--chance")
    assert code == 0 and "a unit" in out and "nan" not in out


def test_without_a_trade_there_is_nothing_beside_chance(call) -> None:  # type: ignore[no-untyped-def]
    never = rule(RULE.replace("enter when go", "enter when go and volume < 0"))
    made = told(call, "trial", never, *bars(), "--chance")
    assert made["figures"]["trades"] == 0 and made["chance"] is None and made["bootstrap"] is None
    code, out, _ = call("trial", never, *bars(), "--chance")
    assert code == 0 and "no closed trade" in out and "-0.00%" not in out


def test_a_try_is_another_hypothesis_not_another_way_to_write_it(call, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    script, where = rule(), bars()

    def count(*words: str) -> int:
        made: int = told(call, "trial", script, *where, *words)["tries"]["tries"]
        return made

    assert count() == 1
    # The same trades: with other money, apart, minute by minute where there are none, or written otherwise.
    assert count("--money", "20000") == 1 and count("--apart") == 1
    Path(script).write_text(Path(script).read_text() + "-- a remark\nline close\n")
    assert count() == 1
    # Other dates, costs and settings are others.
    assert count("--from", "2011-06-01") == 2 and count("--from", "2011-06-01") == 2
    assert count("--cost", "0.2%") == 3 and count("--set", "most=960") == 4
    assert count("--from", "2011-06-01", "--to", "2012-03-01") == 5
    # A sweep counts its rows once where they come to the same.
    assert call("trial", script, *where, "--sweep", "most=970..980/10")[0] == 0
    assert count() == 7
    # A copy goes on where its original was.
    Path("copy.rung").write_text(f"-- mine now\n{Path(script).read_text()}")
    assert told(call, "trial", "copy.rung", *where)["tries"]["tries"] == 7


def test_tries_are_counted_over_calls(call) -> None:  # type: ignore[no-untyped-def]
    where = bars()
    counts = [
        told(call, "trial", rule(), *where, "--set", f"most={most}")["tries"]["tries"] for most in (900, 950, 950, 960)
    ]
    assert counts == [1, 2, 2, 3]
    told(call, "trial", rule(), *where, "--sweep", "most=900..990/10")
    made = told(call, "trial", rule(), *where, "--set", "most=950")["tries"]
    assert made["tries"] == 10 and made["luck"] > 0 and made["probability"] < 1
    # Another rule is another try.
    assert told(call, "trial", rule(RULE.replace("most 5", "most 6")), *where)["tries"]["tries"] == 11


def test_the_notebook_keeps_when_the_seal_was_broken(call, workspace: Workspace) -> None:  # type: ignore[no-untyped-def]
    text = "rung 1\ntrade ride long\n    enter when crosses_up(close, sma(close, 20))\n    at most 10 bars\n"
    call("trial", rule(text), "--list", "Ferries")
    code, _, err = call("trial", rule(text), "--list", "Ferries", "--broken-seal")
    assert code == 0 and "the sealed part then had" in err
    _, _, err = call("trial", rule(text), "--list", "Ferries", "--broken-seal")
    assert "sealed" not in err
    books = workspace.notebooks()
    (seal,) = books.read(books.rule_name(Path("rule.rung"))).breaks
    assert seal.tries == 1
    plain = told(call, "trial", rule(text), "--list", "Ferries")
    assert seal.promised["growth"] == pytest.approx(plain["figures"]["growth"])


def test_evidence_that_looks_behind_the_seal_breaks_it(call, workspace: Workspace) -> None:  # type: ignore[no-untyped-def]
    text = "rung 1\nsignal go = crosses_up(close, sma(close, 20)) bullish\n"
    code, _, _ = call("evidence", rule(text), "--list", "Ferries")
    books = workspace.notebooks()
    name = books.rule_name(Path("rule.rung"))
    assert code == 0 and books.read(name).breaks == ()
    code, _, err = call("evidence", rule(text), "--list", "Ferries", "--broken-seal")
    assert code == 0 and "the sealed part then had" in err
    assert len(workspace.notebooks().read(name).breaks) == 1


def test_a_notebook_that_cannot_be_written_keeps_no_trial_back(call, workspace: Workspace) -> None:  # type: ignore[no-untyped-def]
    (workspace.data / "notebooks").write_text("in the way")
    code, out, err = call("trial", rule(), *bars())
    assert code == 0 and "Annual return" in out and "notebook cannot be written" in err


def test_a_sweep_says_which_peaks_are_lonely(call) -> None:  # type: ignore[no-untyped-def]
    made = told(call, "trial", rule(), *bars(), "--sweep", "most=900..990/10", "--by", "net")
    assert len(made["sweep"]) == 10 and made["best"] in [r["settings"] for r in made["sweep"]]
    values = [r["figures"]["net"] for r in made["sweep"]]
    assert made["sweep"][0]["around"] == values[1]
    assert made["sweep"][4]["around"] == pytest.approx((values[3] + values[5]) / 2)
    some = told(call, "trial", rule(), *bars(), "--sweep", "most=900..990/10", "--draw", "4")
    assert len(some["sweep"]) == 4


def test_a_walk_forward(call) -> None:  # type: ignore[no-untyped-def]
    made = told(call, "trial", rule(), *bars(), "--sweep", "most=900..990/30", "--by", "net", "--walk")["walk"]
    assert len(made["steps"]) == 5 and made["steps"][0]["last"] == made["steps"][1]["first"]
    assert made["equity"][-1][1] == pytest.approx(made["figures"]["end"])
    code, out, _ = call("trial", rule(), *bars(), "--sweep", "most=900..990/30", "--by", "net", "--walk")
    assert code == 0 and "hindsight" in out and len(out.splitlines()) == 7


def test_honest_lists_what_it_found(call) -> None:  # type: ignore[no-untyped-def]
    text = "rung 1\nlet top = swing_high(3, 3)\nmark known(top) above ago 3 shape dot\n"
    made = told(call, "honest", rule(text), "--symbol", "BRINE")
    assert [(f["sin"], f["line"], f["symbol"]) for f in made["findings"]] == [("before known", 3, "BRINE")]
    assert {c["check"]: c["findings"] for c in made["checks"]}["before known"] == 1
    assert len(made["checks"]) == 8 and made["checks"][0] == {
        "check": "changed",
        "findings": 0,
        "words": "nothing found: cut at 40 moments",
    }
    code, out, _ = call("honest", rule(text), "--symbol", "BRINE")
    assert code == 0 and "thin: not checked: the script has no trade." in out
    assert code == 0 and "line 3" in out and "BRINE" in out
    code, out, _ = call("honest", rule("rung 1\nsignal go = close > open\n"), "--symbol", "BRINE")
    assert code == 0 and out.startswith("Nothing found")


def test_a_rule_without_a_title_goes_by_the_name_of_its_file(call) -> None:  # type: ignore[no-untyped-def]
    call_bars = bars()
    Path("my_first_dip.rung").write_text("\n".join(x for x in RULE.splitlines() if not x.startswith("title")) + "\n")
    code, out, _ = call("trial", "my_first_dip.rung", *call_bars)
    assert code == 0 and out.lstrip().startswith("My first dip on ")
