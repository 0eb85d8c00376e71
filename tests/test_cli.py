"""The command line, as a user calls it: output, sentences, exit codes."""

from __future__ import annotations

import csv
import json
import re
from pathlib import Path

import numpy as np
import pytest

from helpers import random_bars
from oakladder.bars.time_words import iso
from oakladder.cli import COMMANDS
from oakladder.rung import analyse, library

RULE = """rung 1
setting n = 3 range 1..50
let mean = sma(close, n)
signal go = close > mean
line mean named "Mean"
"""


def rule(text: str = RULE) -> str:
    Path("rule.rung").write_text(text, encoding="utf-8")
    return "rule.rung"


def bars_file() -> Path:
    bars = random_bars(2, 40, holes=False)
    path = Path("bars.csv")
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(["time", *bars.columns])
        for k, t in enumerate(bars.times):
            writer.writerow([iso(t), *(repr(float(v[k])) for v in bars.columns.values())])
    return path


def test_check_lists_every_error_with_its_place(call) -> None:  # type: ignore[no-untyped-def]
    code, out, err = call("check", rule("rung 1\nlet a = clsoe\nlet b = sma(close, bar)\nline a + b\n"))
    assert code == 1
    assert [line.split(" ")[:2] for line in err.splitlines()] == [
        ["rule.rung:2:9:", "R201"],
        ["rule.rung:3:20:", "R302"],
    ]
    assert out == ""
    code, _, err = call("check", "rule.rung", "--json")
    assert code == 1
    assert [p["code"] for p in json.loads(err)] == ["R201", "R302"]


def test_check_of_a_sound_script_and_of_a_code(call) -> None:  # type: ignore[no-untyped-def]
    assert call("check", rule()) == (0, "rule.rung: no errors\n", "")
    code, out, _ = call("check", "--explain", "r501")
    assert code == 0 and "close[-1]" in out and "close[1]" in out
    assert call("check", "--explain", "R999")[0] == 2


@pytest.mark.parametrize(
    ("content", "words", "code"), [(b"\xff\xfe\x00", "not UTF-8", 1), (b"-- x\n" * 2_000_000, "10,000,000 bytes", 1)]
)
def test_a_file_that_is_no_script_gets_a_sentence(call, content: bytes, words: str, code: int) -> None:  # type: ignore[no-untyped-def]
    Path("rule.rung").write_bytes(content)
    got, _, err = call("check", "rule.rung")
    assert got == code and words in err and len(err.splitlines()) == 1


def test_eval_writes_full_numbers_and_empty_nones(call) -> None:  # type: ignore[no-untyped-def]
    bars_file()
    assert call("eval", rule(), "--csv", "bars.csv", "--set", "n=5", "--all", "--out", "out.csv")[0] == 0
    rows = list(csv.DictReader(Path("out.csv").read_text().splitlines()))
    closes = random_bars(2, 40, holes=False)["close"]
    assert list(rows[0]) == ["time", "go", "Mean", "mean"]
    assert [r["Mean"] for r in rows[:4]] == [""] * 4 and rows[0]["go"] == ""
    means = np.array([closes[k - 4 : k + 1].mean() for k in range(4, 40)])
    np.testing.assert_allclose([float(r["Mean"]) for r in rows[4:]], means, rtol=1e-12)
    assert [r["go"] for r in rows[4:]] == ["1" if c > m else "0" for c, m in zip(closes[4:], means, strict=True)]
    assert rows[10]["Mean"] == repr(float(rows[10]["Mean"]))


CELLS = """rung 1
let mean = sma(close, 3)
column "{mean:.1}" fill good when close > mean order mean named "mean"
column clock
"""


def test_eval_writes_what_columns_show_with_everything(call) -> None:  # type: ignore[no-untyped-def]
    bars_file()
    code, out, _ = call("eval", rule(CELLS), "--csv", "bars.csv", "--all", "--json", "--out", "out.csv")
    rows = list(csv.DictReader(Path("out.csv").read_text().splitlines()))
    assert code == 0 and list(rows[0]) == ["time", "mean", "mean text", "mean fill", "clock", "clock fill"]
    closes = random_bars(2, 40, holes=False)["close"]
    for k in range(2, 40):
        mean = closes[k - 2 : k + 1].mean()
        assert (rows[k]["mean text"], rows[k]["mean fill"]) == (f"{mean:.1f}", "good" if closes[k] > mean else "")
    assert rows[0]["mean text"] == "–" and rows[5]["clock"] == "00:00"
    told = json.loads(out)["columns"]
    assert [c["name"] for c in told] == ["mean", "clock"] and told[0]["text"] == [r["mean text"] for r in rows]
    assert told[0]["fill"] == [r["mean fill"] or None for r in rows]
    assert call("eval", rule(CELLS), "--csv", "bars.csv", "--out", "out.csv")[0] == 0
    assert Path("out.csv").read_text().startswith("time\n")


def test_eval_with_the_hours_outside_the_session(call) -> None:  # type: ignore[no-untyped-def]
    text = "rung 1\nsignal outside = extended\n"
    sizes = []
    for words in ([], ["--extended"]):
        code, _, err = call("eval", rule(text), "--symbol", "BRINE", "--timeframe", "15m", *words, "--out", "out.csv")
        assert code == 0, err
        rows = list(csv.DictReader(Path("out.csv").read_text().splitlines()))
        sizes.append((len(rows), sum(r["outside"] == "1" for r in rows)))
    (regular, none), (every, outside) = sizes
    assert none == 0 and outside > 0 and every == regular + outside


def test_a_script_is_checked_with_the_file_beside_it(call) -> None:  # type: ignore[no-untyped-def]
    Path("tools.rung").write_text("rung 1\ndefine twice(x)\n    give x * 2\ndefine half(x)\n    give twice(x) / 4\n")
    assert call("check", rule('rung 1\nuse half from "tools"\nline half(close)\n')) == (0, "rule.rung: no errors\n", "")
    code, _, err = call("check", rule('rung 1\nuse half from "tool"\nline half(close)\n'))
    assert code == 1 and '"tools"' in err and len(err.splitlines()) == 1


@pytest.mark.parametrize(
    ("words", "code", "sentence"),
    [
        (["--symbol", "BRINNE"], 2, "There is no symbol BRINNE. Did you mean BRINE"),
        (["--symbol", "BRINE", "--timeframe", "7y"], 2, "`7y` is no timeframe"),
        (["--symbol", "BRINE", "--set", "n=99"], 2, "goes from 1 to 50"),
        (["--symbol", "BRINE", "--set", "m=9"], 2, "no setting `m`"),
        (["--csv", "nowhere.csv"], 3, "There is no file nowhere.csv"),
        ([], 2, "either --csv FILE or --symbol SYMBOL"),
        (["--symbol", "BRINE", "--csv", "bars.csv"], 2, "either --csv FILE or --symbol SYMBOL"),
    ],
)
def test_eval_that_cannot_be_done_says_why_and_writes_nothing(call, words: list[str], code: int, sentence: str) -> None:  # type: ignore[no-untyped-def]
    got, _, err = call("eval", rule(), *words, "--out", "out.csv")
    assert (got, len(err.splitlines())) == (code, 1)
    assert sentence in err
    assert not Path("out.csv").exists()


def test_bad_data_are_refused_with_their_line(call) -> None:  # type: ignore[no-untyped-def]
    Path("bars.csv").write_text("time,open,high,low,close,volume\n2026-01-05,1,1,2,1,1\n")
    got, _, err = call("eval", rule(), "--csv", "bars.csv", "--out", "out.csv")
    assert got == 3 and "line 2: the high 1 is below the low 2" in err


def test_eval_prints_the_drawings(call) -> None:  # type: ignore[no-untyped-def]
    bars_file()
    code, out, _ = call(
        "eval", rule(RULE + 'lane "Up" color good when go\n'), "--csv", "bars.csv", "--out", "out.csv", "--json"
    )
    drawn = json.loads(out)
    assert code == 0 and drawn["lines"][0]["values"][:2] == [None, None]
    fired = drawn["events"][0]["bars"]
    assert [k for k, c in enumerate(drawn["lanes"][0]["colours"]) if c] == fired and fired


def test_brief_adds_the_script_and_its_problems(call) -> None:  # type: ignore[no-untyped-def]
    code, out, _ = call("brief", rule("rung 1\nline clsoe\n"))
    assert code == 0 and out.startswith("RUNG") and "line clsoe" in out and "R201" in out


def test_scan_prints_a_table_csv_or_json(call) -> None:  # type: ignore[no-untyped-def]
    code, out, _ = call("scan", rule(), "--signal", "go", "--within", "3", "--format", "json")
    found = json.loads(out)
    assert code == 0 and found["looked_at"] == 77 and found["hits"]
    assert all(h["bars_ago"] < 3 for h in found["hits"])
    _, out, _ = call("scan", "rule.rung", "--signal", "go", "--within", "3", "--format", "csv", "--list", "salt")
    rows = list(csv.DictReader(out.splitlines()))
    assert {r["symbol"] for r in rows} < {h["symbol"] for h in found["hits"]} and len(rows) <= 12
    _, out, _ = call("scan", "rule.rung", "--signal", "go", "--within", "3")
    assert f"{len(found['hits'])} of 77 symbols" in out


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        (["--signal", "goo"], "no signal `goo`. Did you mean `go`?"),
        (["--signal", "go", "--list", "sallt"], "no list `sallt`. Did you mean `Salt`"),
        (["--signal", "go", "--timeframe", "1x"], "no timeframe"),
    ],
)
def test_a_scan_with_a_wrong_name_offers_the_nearest(call, words: list[str], sentence: str) -> None:  # type: ignore[no-untyped-def]
    got, _, err = call("scan", rule(), *words)
    assert got == 2 and sentence in err


@pytest.mark.parametrize("name", sorted(library.names()))
def test_a_copy_of_a_library_function_is_a_function_of_ones_own(name: str) -> None:
    found = library.function(name)
    assert found is not None
    own = re.sub(rf"\b{name}\b", "my_own", found.example)
    assert not [p for p in analyse(f"rung 1\n{library.copy_of(name, 'my_own')}{own}\n").problems if p.is_error]


def test_the_source_of_a_library_function_is_shown(call) -> None:  # type: ignore[no-untyped-def]
    code, out, _ = call("source", "rsi")
    assert code == 0 and "define rsi(x, n)" in out
    assert "define my_rsi(x, n)" in call("source", "rsi", "--as", "my_rsi")[1]
    for words, said in (
        (("rsy",), "Did you mean"),
        (("sum",), "built into the compiler"),
        (("rsi", "--as", "My"), "no name"),
    ):
        code, _, err = call("source", *words)
        assert code == 2 and said in err


def test_files_are_imported_and_what_was_found_is_reported(call, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    bars_file()
    code, out, err = call("import", "bars.csv", "--library", "mine", "--dry-run")
    assert code == 0 and "BARS 1d, 40 bars, 40 new" in out and "Nothing was written" in out
    code, out, _ = call("import", "bars.csv", "--library", "mine")
    assert code == 0 and (tmp_path / "mine" / "BARS.1d.arrow").exists()
    assert "0 new" in call("import", "bars.csv", "--library", "mine")[1]
    Path("bad.csv").write_text("")
    code, out, err = call("import", "bars.csv", "bad.csv", "--library", "mine")
    assert code == 3 and "bad.csv is empty" in err and "BARS" in out
    for words, said in (
        (("--mend", "storm=drop"), "no finding"),
        (("--mend", "spike=fold"), "can be done"),
        (("--zone", "Nowhere"), "not a time zone"),
        (("--session", "nine to five"), "no hours"),
    ):
        code, _, err = call("import", "bars.csv", "--library", "mine", *words)
        assert code == 2 and said in err


def test_what_is_known_of_symbols_is_shown_and_changed(call, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    folder = tmp_path / "bars"
    bars_file()
    Path("bars.csv").rename("KELPY.csv")
    assert call("import", "KELPY.csv", "--library", str(folder), "--kind", "fund")[0] == 0
    code, out, _ = call("symbols", "--library", str(folder))
    assert code == 0 and out.strip().split("\t")[:4] == ["KELPY", "KELPY", "My data", "fund"]
    assert call(
        "symbols", "KELPY", "--library", str(folder), "--session", "09:00-15:30", "--sector", "Kelp", "--tick", "0.5"
    ) == (
        0,
        "1 changed.\n",
        "",
    )
    line = call("symbols", "--of", "Kelp", "--library", str(folder))[1].strip().split("\t")
    assert line[2] == "Kelp" and line[4] == "0.5" and line[-2:] == ["09:00-15:30", "none known"]
    terms = ("--multiplier", "50", "--currency", "SHELL", "--margin", "10%")
    assert call("symbols", "KELPY", "--library", str(folder), *terms)[:2] == (0, "1 changed.\n")
    line = call("symbols", "--library", str(folder))[1].strip().split("\t")
    assert line[-1] == "× 50, in SHELL, margin 10%"


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        (["--session", "9-15"], "Write them as 09:00-15:30"),
        (["--zone", "Nowhere/Much"], "is not a time zone"),
        (["--tick", "0"], "a number above 0"),
        (["--multiplier", "0"], "A multiplier is a number above 0"),
        (["--margin", "much"], "Write a margin as 10%"),
        (["NOPE", "--kind", "fund"], "There is no symbol NOPE"),
    ],
)
def test_a_change_that_makes_no_sense_is_refused(call, tmp_path: Path, words: list[str], sentence: str) -> None:  # type: ignore[no-untyped-def]
    folder = tmp_path / "bars"
    bars_file()
    Path("bars.csv").rename("KELPY.csv")
    call("import", "KELPY.csv", "--library", str(folder))
    before = call("symbols", "--library", str(folder))[1]
    code, out, err = call("symbols", *words, "--library", str(folder))
    assert code == 2 and sentence in err and not out
    assert call("symbols", "--library", str(folder))[1] == before


@pytest.mark.parametrize("form", ["table", "csv", "json"])
def test_a_scan_says_how_long_ago_and_when(call, form: str) -> None:  # type: ignore[no-untyped-def]
    text = 'rung 1\nsignal up = close > close[1] bullish "up"\n'
    code, out, err = call("scan", rule(text), "--signal", "up", "--within", "3", "--list", "Salt", "--format", form)
    assert code == 0 and not err
    if form == "json":
        found = json.loads(out)
        assert found["looked_at"] > 3 and all(
            h["bars_ago"] < 3 and h["time"].startswith("2026-06") for h in found["hits"]
        )
        assert [h["bars_ago"] for h in found["hits"]] == sorted(h["bars_ago"] for h in found["hits"])
    elif form == "csv":
        rows = list(csv.DictReader(out.splitlines()))
        assert rows and all(int(r["bars_ago"]) < 3 for r in rows)
    else:
        assert "Bars ago" in out


def test_a_scan_for_what_is_no_signal_is_refused(call) -> None:  # type: ignore[no-untyped-def]
    text = "rung 1\nlet x = close > 1\nsignal up = x\n"
    code, _, err = call("scan", rule(text), "--signal", "x")
    assert code == 2 and "no signal `x`" in err


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["speed", "--symbols", "x"], "x is not a whole number of at least 10"),
        (["speed", "--symbols", "3"], "3 is not a whole number of at least 10"),
        (["scan", "r.rung", "--signal", "go", "--format", "yaml"], "'table', 'csv', 'json'"),
        (["symbols", "BRINE", "--tick", "abc"], "abc is not a number"),
        (["eval", "r.rung"], "--out"),
        (["chekc"], "'check'"),
    ],
)
def test_a_call_that_cannot_be_read_says_what_can_be(call, words: list[str], said: str) -> None:  # type: ignore[no-untyped-def]
    code, out, err = call(*words)
    assert code == 2 and said in err and not out


def test_every_command_has_its_help(call) -> None:  # type: ignore[no-untyped-def]
    for name in COMMANDS:
        code, out, _ = call(name, "--help")
        assert code == 0 and f"oak {name}" in out


TRADED = """rung 1
setting n = 3 range 1..50
let mean = sma(close, n)
trade ride long
    enter when close > mean
    leave when close < mean
    stop 5%
"""


def test_trial_tells_every_trade_as_json(call) -> None:  # type: ignore[no-untyped-def]
    bars_file()
    code, out, err = call(
        "trial", rule(TRADED), "--csv", "bars.csv", "--format", "json", "--slip", "0t", "--cost", "0%"
    )
    assert code == 0 and err == ""
    made = json.loads(out)
    assert {"trades", "open", "skipped", "counts", "figures", "equity"} <= set(made)
    first = made["trades"][0]
    assert first["symbol"] == "BARS" and first["trade"] == "ride" and first["side"] == "long"
    assert first["decided"] < first["entered"] <= first["left"] and first["reason"] in ("leave", "stop")
    net = first["units"] * (first["exit"] - first["entry"])
    assert first["net"] == pytest.approx(net) and first["ratio"] == pytest.approx(net / first["units"] / first["entry"])
    assert made["figures"]["trades"] == len(made["trades"])
    assert made["equity"][-1][1] == pytest.approx(made["figures"]["end"])
    assert set(made["counts"]) == {"undecided", "contradictions", "touched"}


def test_trial_writes_trades_and_curve(call) -> None:  # type: ignore[no-untyped-def]
    code, out, _ = call("trial", rule(TRADED), "--symbol", "brine", "--trades", "t.csv", "--equity", "e.csv")
    assert code == 0 and "Annual return" in out and "sealed from" in out
    rows = list(csv.DictReader(Path("t.csv").read_text().splitlines()))
    assert len(rows) > 20 and rows[0]["symbol"] == "BRINE"
    curve = list(csv.DictReader(Path("e.csv").read_text().splitlines()))
    assert list(curve[0]) == ["time", "value", "held"]


def test_the_seal_hides_the_last_fifth_until_it_is_broken(call) -> None:  # type: ignore[no-untyped-def]
    made = {}
    for words in ((), ("--broken-seal",), ("--from", "2022-01-01", "--to", "2022-12-31")):
        code, out, _ = call("trial", rule(TRADED), "--symbol", "BRINE", "--format", "json", *words)
        assert code == 0
        made[words] = json.loads(out)
    sealed, whole, year = made.values()
    share = len(sealed["equity"]) / len(whole["equity"])
    assert 0.78 < share < 0.82 and sealed["sealed_from"] and whole["sealed_from"] is None
    assert sealed["trades"] == whole["trades"][: len(sealed["trades"])]
    assert {t["decided"][:4] for t in year["trades"]} == {"2022"} and len(year["equity"]) < 265


def test_trial_of_a_list_with_the_account_that_is_asked_for(call) -> None:  # type: ignore[no-untyped-def]
    words = ("trial", rule(TRADED), "--list", "Ferries", "--format", "json", "--money", "50000")
    _, out, _ = call(*words, "--most", "1", "--size", "1%r")
    one = json.loads(out)
    assert {s["reason"].split(":")[0] for s in one["skipped"]} == {"max open positions reached"}
    _, out, _ = call(*words, "--apart", "--size", "5000m")
    apart = json.loads(out)
    assert not [s for s in apart["skipped"] if "room" in s["reason"]]
    assert apart["equity"][0][1] > 4 * 50_000  # each symbol has its own


def test_a_sweep_is_a_row_for_each_setting(call) -> None:  # type: ignore[no-untyped-def]
    code, out, _ = call("trial", rule(TRADED), "--symbol", "BRINE", "--sweep", "n=5..20/5", "--format", "json")
    rows = json.loads(out)["sweep"]
    assert code == 0 and [r["settings"]["n"] for r in rows] == [5, 10, 15, 20]
    _, plain, _ = call("trial", rule(TRADED), "--symbol", "BRINE", "--set", "n=10", "--format", "json")
    figures = json.loads(plain)["figures"]
    assert rows[1]["figures"] == {n: v for n, v in figures.items() if not n.startswith("drawdown_within")}
    code, out, _ = call("trial", rule(TRADED), "--symbol", "BRINE", "--sweep", "n=40..60/10")
    assert code == 0 and "goes from 1 to 50" in out and "Profit factor" in out


def test_a_script_without_a_trade_is_composed_and_said(call) -> None:  # type: ignore[no-untyped-def]
    text = RULE.replace("close > mean", "close > mean bearish")
    code, out, err = call("trial", rule(text), "--symbol", "BRINE", "--format", "json")
    assert code == 0 and "short at `go`" in err and json.loads(out)["trades"][0]["side"] == "short"


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        (("--symbol", "BRINE", "--list", "all"), "Say one of --symbol, --list and --csv"),
        (("--symbol", "BRINE", "--size", "lots"), "Write a position size as 100%"),
        (("--symbol", "BRINE", "--slip", "3"), "Write slippage as 1t"),
        (("--symbol", "BRINE", "--cost", "5"), "Write a commission as a share"),
        (("--symbol", "BRINE", "--money", "0"), "Starting money must be above 0"),
        (("--symbol", "BRINE", "--sweep", "n=9"), "A range is written"),
        (("--symbol", "BRINE", "--sweep", "n=9..3"), "must rise"),
        (("--symbol", "BRINE", "--from", "soon"), "is no day"),
        (("--symbol", "BRINE", "--tick", "0.1"), "--tick goes with --csv"),
        (("--csv", "nowhere.csv"), "nowhere.csv"),
        (("--list", "Nowhere"), "There is no list"),
    ],
)
def test_a_wrong_call_of_trial_gets_a_sentence(call, words: tuple[str, ...], sentence: str) -> None:  # type: ignore[no-untyped-def]
    code, _, err = call("trial", rule(TRADED), *words)
    assert code in (2, 3) and sentence in err and "Traceback" not in err


@pytest.mark.parametrize("text", ["rung 1\nline close\n", TRADED + "    flat at session end\n"])
def test_a_script_that_cannot_be_tried_gets_a_sentence(call, text: str) -> None:  # type: ignore[no-untyped-def]
    code, _, err = call("trial", rule(text), "--symbol", "BRINE")
    assert code == 2 and ("neither a `trade` nor a `signal`" in err or "makes no sense on 1d bars" in err)


def test_finer_bars_settle_what_days_leave_open(call) -> None:  # type: ignore[no-untyped-def]
    text = TRADED.replace("stop 5%", "stop 0.4%\n    target 0.4%")
    counts = []
    for words in ((), ("--finer",)):
        where = "--list", "all", "--timeframe", "1h", "--broken-seal"
        code, out, _ = call("trial", rule(text), *where, "--format", "json", *words)
        assert code == 0
        counts.append(json.loads(out)["counts"]["undecided"])
    assert counts[0] > 50 and counts[1] < counts[0] / 3
