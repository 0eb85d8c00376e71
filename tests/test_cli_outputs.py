"""What commands write: an output never replaces an input, options that do not go together are refused."""

from __future__ import annotations

import csv
import os
import threading
from pathlib import Path

import pytest

from oakladder.bars.store.library import BarLibrary
from test_cli import bars_file, rule
from test_cli_judging import RULE as TRADED

EVAL = ("eval", "rule.rung", "--csv", "bars.csv", "--out")


def kept(*paths: str) -> dict[str, bytes]:
    return {p: Path(p).read_bytes() for p in paths}


def test_an_output_never_replaces_a_file_that_is_read(call, workspace) -> None:  # type: ignore[no-untyped-def]
    rule(), bars_file()
    Path("other.rung").write_text("rung 1\nline close\n")
    Path("link.csv").symlink_to("bars.csv")
    os.link("bars.csv", "hard.csv")
    before = kept("rule.rung", "bars.csv", "other.rung")
    inside = workspace.library_folder / "BRINE.1d.arrow"
    library = inside.read_bytes()
    for out in ("rule.rung", "./rule.rung", "bars.csv", "link.csv", "hard.csv", "other.rung", ".", str(inside)):
        code, _, err = call(*EVAL, out)
        assert (code, len(err.splitlines())) == (2, 1), (out, err)
    for path in (workspace.config / "watchlists.json", workspace.data / "scripts" / "new.csv"):
        assert call(*EVAL, str(path))[0] == 2 and not path.exists()
    assert kept(*before) == before and inside.read_bytes() == library
    code, _, err = call("trial", rule(TRADED), "--csv", "bars.csv", "--trades", "t.csv", "--equity", "./t.csv")
    assert code == 2 and "--trades and --equity name the same file" in err and not Path("t.csv").exists()
    assert call("trial", "rule.rung", "--csv", "bars.csv", "--trades", "bars.csv")[0] == 2
    assert call("speed", "engine", "--json", "a.json", "--against", "a.json")[0] == 2


def test_an_older_output_is_replaced_and_a_link_stays(call) -> None:  # type: ignore[no-untyped-def]
    rule(), bars_file()
    Path("real.csv").write_text("old")
    Path("out.csv").symlink_to("real.csv")
    assert call(*EVAL, "out.csv")[0] == 0
    assert Path("out.csv").is_symlink() and Path("real.csv").read_text().startswith("time,go")


def test_standard_output_takes_one_output(call) -> None:  # type: ignore[no-untyped-def]
    rule(), bars_file()
    code, out, err = call(*EVAL, "-")
    assert code == 0 and out.startswith("time,go") and len(out.splitlines()) == 41 and err == ""
    assert call(*EVAL, "-", "--json")[0] == 2
    rule(TRADED)
    code, out, err = call("trial", "rule.rung", "--csv", "bars.csv", "--trades", "-")
    assert code == 0 and out.startswith("symbol,") and "Max" not in out and "Profit factor" in err
    for words in (["--trades", "-", "--equity", "-"], ["--trades", "-", "--format", "json"]):
        code, out, err = call("trial", "rule.rung", "--csv", "bars.csv", *words)
        assert code == 2 and not out and len(err.splitlines()) == 1


def test_pipes_and_devices_are_written_to_and_stay(call) -> None:  # type: ignore[no-untyped-def]
    rule(), bars_file()
    os.mkfifo("pipe")
    read: list[str] = []
    reader = threading.Thread(target=lambda: read.append(Path("pipe").read_text()))
    reader.start()
    assert call(*EVAL, "pipe")[0] == 0
    reader.join(10)
    assert Path("pipe").is_fifo() and len(list(csv.DictReader(read[0].splitlines()))) == 40
    assert call(*EVAL, "/dev/null")[0] == 0 and Path("/dev/null").is_char_device()
    code, _, err = call(*EVAL, "/dev/full")
    assert code == 2 and "the disk is full" in err and Path("/dev/full").is_char_device()


def test_special_files_are_no_inputs(call) -> None:  # type: ignore[no-untyped-def]
    rule(), bars_file()
    os.mkfifo("pipe.rung")
    os.mkfifo("pipe.csv")
    Path("folder.rung").mkdir()
    for script in ("/dev/zero", "pipe.rung", "folder.rung"):
        code, _, err = call("check", script)
        assert code in (1, 2) and len(err.splitlines()) == 1, err
    for data in ("/dev/zero", "pipe.csv", "."):
        code, _, err = call("eval", "rule.rung", "--csv", data, "--out", "out.csv")
        assert code == 3 and len(err.splitlines()) == 1, err
    code, out, err = call("import", "pipe.csv", "/dev/zero", "bars.csv", "--library", "mine")
    assert code == 3 and "BARS" in out and len(err.splitlines()) == 2
    Path("uses.rung").write_text('rung 1\nuse twice from "tools"\nline twice(close)\n')
    os.mkfifo("tools.rung")
    code, _, err = call("check", "uses.rung")
    assert code == 1 and "tools" in err


#: Calls that make no sense, with a part of what is said; `rule.rung` and `bars.csv` are sound.
WRONG = [
    ("eval rule.rung --csv bars.csv --out=", "empty"),
    ("eval rule.rung --csv= --out out.csv", "empty"),
    ("eval rule.rung --symbol BRINE --timeframe 7y --out out.csv", "no timeframe"),
    ("eval rule.rung --csv bars.csv --out nowhere/../bars.csv", "would replace"),
    ("trial rule.rung --sweep n=1..3 --chance", "--chance cannot be combined with --sweep"),
    ("trial rule.rung --sweep n=1..3 --trades t.csv --equity e.csv", "--trades and --equity cannot be combined"),
    ("trial rule.rung --walk", "go with --sweep"),
    ("trial rule.rung --draw 3", "go with --sweep"),
    ("trial rule.rung --csv bars.csv --from 2026-05-01 --to 2026-04-01", "is later than --to"),
    ("trial rule.rung --csv bars.csv --from 2035-01-01", "The bars run from 2011-01-26 to 2011-03-22"),
    ("trial rule.rung --csv bars.csv --to 1999-01-01", "The bars run from 2011-01-26 to 2011-03-22"),
    ("honest rule.rung --csv bars.csv --from 2035-01-01", "The bars run from"),
    ("evidence rule.rung --csv bars.csv --to 1999-01-01", "The bars run from"),
    ("trial rule.rung --symbol BRINE --from 2035-01-01", "The bars run from"),
    ("trial rule.rung --symbol BRINE --cost 5", "0.05%"),
    ("trial rule.rung --list Nowhere", "There is no list"),
    ("scan rule.rung --signal og", "It has go"),
    ("scan rule.rung --signal go --list Nowhere", "There is no list"),
    ("symbols --library nope", "There is no library in nope"),
    ("symbols BRINE --of Salt", "not both"),
    ("symbols BRINE --tick nan", "above 0"),
    ("library --move a --check", "one after the other"),
    ("import bars.csv --same", "--same goes with --as"),
    ("import bars.csv --as -- --library mine", "--as"),
    ("import bars.csv --as =1+1 --library mine", "no symbol"),
    ("import bars.csv --tick 0 --library mine", "above 0"),
    ("import bars.csv --zone Nowhere --library mine", "not a time zone"),
    ("import --library mine", "required"),
    ("source rsi --as close", "taken"),
    ("source rsi --as if", "word of the language"),
    ("source rsii", "Did you mean"),
    ("shot bench picture.jpg", "must end in .png"),
    ("shot nowhere picture.png", "There is no place"),
    ("shot bench picture.png --size 9x9", "no size"),
    ("speed nothing", "There is no part"),
    ("check", "Name a script"),
    ("check --explain R9", "There is no problem code"),
    ("brief nowhere.rung", "There is no script"),
    ("nothing", "invalid choice"),
]


@pytest.mark.parametrize(("words", "said"), WRONG, ids=[w for w, _ in WRONG])
def test_a_wrong_call_is_refused_in_a_sentence_and_writes_nothing(call, words: str, said: str) -> None:  # type: ignore[no-untyped-def]
    rule(), bars_file()
    before = sorted(p.name for p in Path().iterdir())
    code, out, err = call(*words.split())
    assert code == 2 and said in err and "Traceback" not in err and not out.strip(), (code, out, err)
    assert sorted(p.name for p in Path().iterdir()) == before


def test_names_and_literals_as_the_window_and_scripts_have_them(call) -> None:  # type: ignore[no-untyped-def]
    text = TRADED.replace("signal", 'setting least = 1%\nsetting style = "arrows" choose "arrows", "labels"\nsignal', 1)
    rule(text)
    for words in (
        ["--list", "All symbols"],
        ["--list", "all"],
        ["--list", "salt"],
        ["--symbol", "brine", "--cost", "0", "--slip", "0"],
        ["--symbol", "BRINE", "--set", "least=0.5%", "--set", 'style="labels"'],
        ["--symbol", "BRINE", "--set", "least=1e-3"],
        ["--symbol", "BRINE", "--sweep", "least=0.5%..1.5%/0.5%"],
    ):
        code, _, err = call("trial", "rule.rung", *words)
        assert code == 0, (words, err)
    assert call("scan", "rule.rung", "--signal", "go", "--list", "All symbols")[0] == 0


def test_folders_that_cannot_be_read_are_said(call, monkeypatch: pytest.MonkeyPatch) -> None:  # type: ignore[no-untyped-def]
    bars_file()
    Path("in/closed").mkdir(parents=True)
    Path("bars.csv").rename("in/KELPY.csv")
    scandir = os.scandir

    def refused(path: str) -> object:
        if str(path).endswith("closed"):
            raise PermissionError(13, "Permission denied", str(path))
        return scandir(path)

    monkeypatch.setattr(os, "scandir", refused)
    code, out, err = call("import", "in", "--library", "mine")
    assert code == 3 and "KELPY" in out and "closed cannot be read: you have no right" in err
    assert list(BarLibrary(Path("mine")).infos) == ["KELPY"]
