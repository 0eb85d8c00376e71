"""The notebooks of rules: nothing that was tried is forgotten, and nothing damaged takes the rest with it."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import msgspec
import pytest

from helpers import taken
from oakladder.rung import compile_script
from oakladder.trial.batch.task import Task
from oakladder.trial.broker.money import Account
from oakladder.trial.notebook import Broken, Continued, Remark, Try, change_words, ranges_of, rule_mark, try_of, what_of
from oakladder.trial.rule_identity import compiled_mark, marks_of
from oakladder.trial.spec import TrialSpec
from oakladder.trial.sweep.ranges import Range, grid_of_settings
from oakladder.trial.sweep.run import swept
from oakladder.trial.trial import run_trial
from oakladder.user.notebooks import Notebooks
from trial.judge.evidence.grounds import walks

RULE = """rung 1
setting n = 5 range 2..100
trade ride long
    enter when crosses_up(close, sma(close, n))
    at most 5 bars
"""
NS = Range("n", (3.0, 5.0, 8.0))


@pytest.fixture
def books(tmp_path: Path) -> Notebooks:
    return Notebooks(tmp_path / "notebooks", tmp_path / "scripts")


def what(**settings: object):  # type: ignore[no-untyped-def]
    return what_of(TrialSpec(RULE, settings, "all", "1d"))


def tried(moment: float = 1.0, **settings: object) -> Try:
    trial = run_trial(compile_script(RULE), walks(3, 1, 300), Account(), settings)
    return try_of(what(**settings), trial, moment)


def test_tries_are_counted_once_however_often_they_are_made(books: Notebooks) -> None:
    assert books.read("dip").tries == {}
    books.add("dip", tried(1.0, n=5.0), tried(2.0, n=8.0))
    books.add("dip", tried(3.0, n="5"))
    book = books.read("dip")
    assert len(book.entries) == 3 and len(book.tries) == 2
    assert books.read("another").tries == {}
    # Another program sees the same.
    assert Notebooks(books.folder, Path("scripts")).read("dip").entries == book.entries


def test_sweeps_are_kept_and_count_as_tries(books: Notebooks) -> None:
    task = Task(compile_script(RULE), walks(3, 1, 300))
    rows = list(swept(task, grid_of_settings([NS])))
    entry = books.keep_sweep("dip", what(n=5.0), [NS], rows)
    books.add("dip", tried(n=5.0))
    again = Notebooks(books.folder, Path("scripts")).read("dip")
    assert list(again.rows[entry.file]) == rows and ranges_of(entry) == [NS]
    assert len(again.tries) == 3  # the plain rule is one of the sweep's
    trial = task.trial({})
    told = again.discount_for(what(n=5.0), trial)
    assert told is not None and told.tries == 3 and told.luck > 0
    # The others beside it are those of other settings; what was tried as it is now counts as it is now.
    sharpes = sorted(t.metrics["sharpe"] for t in again.tries.values())
    assert sorted(told.others.tolist()) == pytest.approx(sharpes) and told.others[0] == trial.metrics["sharpe"]


def test_a_damaged_line_costs_itself_alone(books: Notebooks, tmp_path: Path) -> None:
    books.add("dip", Remark(1.0, "first"), Remark(2.0, "second"))
    path = books.place("dip") / "log.jsonl"
    path.write_bytes(path.read_bytes().replace(b"second", b'sec"ond') + b'{"type":"note","mom')
    said: list[str] = []
    fresh = Notebooks(books.folder, tmp_path / "scripts", said.append)
    fresh.add("dip", Remark(3.0, "third"))  # half a line stands at the end
    texts = [e.text for e in fresh.read("dip").entries if isinstance(e, Remark)]
    assert texts == ["first", "third"]
    assert "2 lines" in said[0] and len(list(books.place("dip").glob("*log*"))) == 2


def test_a_damaged_sweep_costs_its_rows_alone(books: Notebooks) -> None:
    rows = list(swept(Task(compile_script(RULE), walks(3, 1, 300)), grid_of_settings([NS])))
    entry = books.keep_sweep("dip", what(), [NS], rows)
    (books.place("dip") / entry.file).write_bytes(b"PAR1 nothing of ours")
    books.add("dip", Remark(1.0, "still here"))
    again = Notebooks(books.folder, Path("scripts")).read("dip")
    assert again.tries == {} and any(isinstance(e, Remark) for e in again.entries)


def test_two_programs_write_at_once(books: Notebooks) -> None:
    others = [Notebooks(books.folder, Path("scripts")) for _ in range(4)]

    def write(k: int) -> None:
        for n in range(25):
            others[k].add("dip", Remark(float(n), f"{k} {n}" * 50))

    threads = [threading.Thread(target=write, args=(k,)) for k in range(4)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert len(books.read("dip").entries) == 100


def test_the_seal_is_broken_symbol_by_symbol(books: Notebooks) -> None:
    first, second = (
        Broken(m, what(), 5, {"growth": 0.2}, {"growth": 0.1}, 7, symbols)
        for m, symbols in ((1.0, ("SALT", "TIDE")), (2.0, ("GULL",)))
    )
    books.add("dip", second, first)
    book = books.read("dip")
    assert book.has_seen(["TIDE"]) and book.has_seen(["SALT", "GULL"]) and not book.has_seen(["SALT", "OTTER"])
    assert book.broken_for(["SALT"]) == first and book.broken_for(["GULL"]) == second
    assert book.broken_for(["SALT", "GULL"]) == second and book.broken_for(["OTTER"]) is None
    assert not books.read("other").has_seen(["SALT"]) and not books.read("other").has_seen([])
    # Once it was broken for a rule as a whole.
    books.add("older", Broken(1.0, what(), 5, {}, {}, 7))
    assert books.read("older").has_seen(["SALT", "OTTER"]) and books.read("older").broken_for(["OTTER"]) is not None


def test_where_nothing_can_be_written_an_error_says_so(tmp_path: Path) -> None:
    books = Notebooks(taken(tmp_path) / "notebooks", tmp_path / "scripts")
    with pytest.raises(OSError):
        books.add("dip", Remark(1.0, "lost"))


def test_rules_of_one_name_in_two_folders_have_two_notebooks(books: Notebooks, tmp_path: Path) -> None:
    own = books.rule_name(tmp_path / "scripts" / "dip.rung")
    other = books.rule_name(tmp_path / "elsewhere" / "dip.rung")
    assert own == "dip" and books.place(own) != books.place(other)
    assert len(books.place(books.rule_name(tmp_path / "scripts" / f"{'ü' * 200}.rung")).name) < 200


def test_a_copied_or_renamed_rule_goes_on_with_its_notebook(books: Notebooks) -> None:
    books.keep_text("dip", RULE)
    books.add("dip", tried(1.0, n=5.0), tried(2.0, n=8.0), Remark(3.0, "mine"))
    # Another title, comments and spacing make no other rule; another number does.
    copy = RULE.replace("rung 1\n", 'rung 1\ntitle "Mine"  -- a copy\n\n').replace(
        "crosses_up(close, ", "crosses_up(close,  "
    )
    books.go_on("other", marks_of([], [RULE.replace("5 bars", "6 bars")]))
    assert books.read("other").entries == ()
    books.go_on("renamed", marks_of([], [copy]))
    again = Notebooks(books.folder, Path("scripts"))
    assert len(again.read("renamed").tries) == 2 and again.read("renamed").breaks == ()
    # Nor do other names; what it compiles to tells.
    books.keep_text("named", RULE.replace("ride", "named"), compiled_mark(compile_script(RULE)))
    books.add("named", tried(4.0, n=2.0))
    written = RULE.replace("    enter when crosses_up(close, sma(close, n))", "    enter when crosses_up(close, base)")
    written = written.replace("trade ride", "let base = sma(close, n)\ntrade other")
    books.go_on("written", marks_of([compile_script(written)], [written]))
    assert books.folders("written") == ["written", "named"]
    # What is tried from then on is of each alone, and goes along with the next copy.
    later = time.time() + 100
    books.add("dip", tried(later, n=11.0))
    books.add("renamed", tried(later, n=14.0), tried(later, n=17.0))
    books.keep_text("renamed", copy)
    assert [len(again.read(r).tries) for r in ("dip", "renamed")] == [3, 4]
    books.go_on("dip", marks_of([], [copy]))  # it has a notebook
    assert len(again.read("dip").tries) == 3


def test_what_lies_about_among_notebooks_is_no_obstacle(books: Notebooks) -> None:
    books.keep_text("dip", RULE)
    books.add("dip", tried(1.0, n=5.0))
    (books.folder / "a stray file").write_text("x")
    (books.folder / "broken" / "log.jsonl").mkdir(parents=True)
    books.go_on("renamed", marks_of([], [RULE]))
    assert len(books.read("renamed").tries) == 1


def test_other_ways_to_a_result_do_not_count_beside_it(books: Notebooks) -> None:
    """Whichever of them is put beside the other hypotheses."""
    one = tried(1.0, n=5.0)
    other_text = msgspec.structs.replace(one, what=msgspec.structs.replace(one.what, text="other"))
    books.add("dip", one, other_text, tried(2.0, n=8.0))
    book, trial = books.read("dip"), run_trial(compile_script(RULE), walks(3, 1, 300), Account(), {"n": 5.0})
    for way in (one.what, other_text.what, msgspec.structs.replace(one.what, text="a third")):
        told = book.discount_for(way, trial)
        assert told is not None and told.tries == 2
    assert len(book.hypotheses) == 2


def test_a_rule_that_goes_on_with_itself_ends(books: Notebooks) -> None:
    now = time.time()
    books.add("one", Continued(now, "two"), Remark(1.0, "first"))
    books.add("two", Continued(now, "one"), Remark(2.0, "second"))
    assert [e.text for e in books.read("one").entries if isinstance(e, Remark)] == ["first", "second"]


def test_quotes_keep_their_dashes_in_the_mark_of_a_rule() -> None:
    text = 'rung 1\nsignal go = close > open "a -- b"\n'
    assert rule_mark(text) != rule_mark(text.replace("b", "c")) and rule_mark(text) == rule_mark(text + "-- end\n\n")
    assert rule_mark("") == rule_mark('title "x"\nabout "y"\n')


def test_a_try_says_what_changed_against_the_one_before() -> None:
    first = what(n=5.0, far=20.0)
    replaced = msgspec.structs.replace
    cases = [
        (what(n=8.0, far=20.0), "n 5 → 8"),
        (what(n=8.0), "n 5 → 8, far 20 → gone"),
        (replaced(first, text="other"), "the rule was edited"),
        (replaced(first, list_name="Ferries", timeframe="1w"), "all → Ferries, 1d → 1w"),
        (replaced(first, span="from 2021-01-01"), "from 2021-01-01"),
        (replaced(first, account="other"), "other account or costs"),
        (replaced(first, finer=True), "minute by minute"),
        (first, "the same again"),
    ]
    assert [change_words(first, now) for now, _ in cases] == [words for _, words in cases]
    assert change_words(None, first) == "first try"
    assert change_words(replaced(first, span="from 2021-01-01"), first) == "all dates"
