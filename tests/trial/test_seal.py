"""The seal: what was promised and what came, who had seen it before, and what is tuned on known data."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.engine.sealed import SealedDays
from oakladder.rung import RunProblem, compile_script
from oakladder.trial.broker.money import Account
from oakladder.trial.notebook import Broken, Notebook, Text, Try, What, mark_of, what_of
from oakladder.trial.seal import Seen, is_tuned, others_words, seal_broken, seal_words, seen_by_others
from oakladder.trial.spans import Span, first_sealed_day, seal_of
from oakladder.trial.spec import TrialSpec
from oakladder.trial.trial import run_trial, trial_data_of

RULE = "rung 1\nsetting n = 5 range 1..50\ntrade ride long\n    enter when bar mod 20 == 3\n    at most 5 bars\n"
PANEL = panel_of([daily_bars(50 * np.exp(np.cumsum(np.random.default_rng(5).normal(0, 0.01, 500))), "SALT")])


def what(n: float = 5.0, text: str = RULE, timeframe: str = "1d", list_name: str = "Salt") -> What:
    return what_of(TrialSpec(text, {"n": n}, list_name, timeframe))


def tried(moment: float, what: What) -> Try:
    return Try(moment, what, {"sharpe": 1.0}, True)


def seen(rule: str, moment: float, *symbols: str) -> Seen:
    return Seen(moment, rule, rule, what(), symbols or ("SALT",), 80, 100)


def test_the_last_fifth_of_the_days_is_sealed() -> None:
    assert [first_sealed_day({"A": (0, 3), "B": (2, last)}) for last in (3, 10, 11, 100)] == [3, 8, 9, 80]
    assert first_sealed_day({"A": (5, 5)}) == 5 and first_sealed_day({}) is None


def test_promise_and_sealed_part_are_trials_of_their_own() -> None:
    program, sealed, whole = compile_script(RULE), seal_of(PANEL), trial_data_of(PANEL)
    made = seal_broken(program, whole, sealed, Account(), {}, what(), Notebook(), 9.0)
    promised = run_trial(program, trial_data_of(PANEL, Span(seal=sealed)))
    assert made.promised["growth"] == promised.metrics["growth"] and made.symbols == ("SALT",) and made.tries == 1
    late = PANEL.times[run_trial(program, whole).trades.decided] >= made.sealed_from
    assert made.showed["trades"] == late.sum() > 3
    assert "After 1 try the open part" in seal_words(made)
    with pytest.raises(RunProblem, match="Nothing is sealed"):
        seal_broken(program, whole, SealedDays(), Account(), {}, what(), Notebook(), 9.0)


def test_where_all_is_sealed_nothing_was_promised() -> None:
    sealed = SealedDays({"SALT": 0})
    with pytest.raises(RunProblem, match=r"All 1d bars lie in the sealed part .*--broken-seal"):
        trial_data_of(PANEL, Span(seal=sealed))
    made = seal_broken(compile_script(RULE), trial_data_of(PANEL), sealed, Account(), {}, what(), Notebook(), 9.0)
    assert made.promised == {} and made.showed["trades"] == 25
    assert "nothing was promised" in seal_words(made)


def test_other_rules_that_have_seen_it_are_counted_once_each() -> None:
    log = [seen("b", 3.0), seen("a", 86_400.0), seen("b", 5.0), seen("own", 1.0), seen("c", 2.0, "TIDE")]
    others = seen_by_others(log, ["own"], ["SALT", "GULL"])
    assert [(s.rule, s.moment) for s in others] == [("b", 3.0), ("a", 86_400.0)]
    words = others_words(others)
    assert words.startswith("2 other rules have seen this part of history before: a on ") and ", b on " in words
    assert others_words([]) == "No other rule has seen this part of history before."
    assert others_words(others[:1]).startswith("1 other rule has seen")
    many = others_words([seen(f"r{k}", float(k)) for k in range(6)])
    assert many.startswith("6 other rules") and many.endswith("and before.") and "r5" in many and "r2" not in many


def test_what_is_new_after_the_sealed_part_was_seen_is_tuned_on_known_data() -> None:
    text = Text(1.0, mark_of(RULE), RULE)
    own = Broken(10.0, what(), 80, {}, {}, 3, ("SALT",))
    book = Notebook((text, tried(2.0, what(7.0)), own))
    log = [seen("own", 10.0)]
    assert not is_tuned(book, what(), RULE, log, ["SALT"])  # for which the seal was broken
    assert not is_tuned(book, what(7.0), RULE, log, ["SALT"])  # tried before, on the open part
    assert not is_tuned(book, what(list_name="SALT"), RULE, log, ["SALT"])  # the same rule, another list
    assert is_tuned(book, what(9.0), RULE, log, ["SALT"]) and is_tuned(book, what(timeframe="1w"), RULE, log, ["SALT"])
    other = RULE.replace("at most 5", "at most 6")
    assert is_tuned(book, what(text=other), other, log, ["SALT"])
    # A comment makes no other rule.
    commented = RULE + "-- as before\n"
    known = Notebook((*book.entries, Text(11.0, mark_of(commented), commented)))
    assert not is_tuned(known, what(text=commented), commented, log, ["SALT"])
    # Nobody has seen it, or other symbols; and a rule that comes after others have.
    assert not is_tuned(book, what(9.0), RULE, [], ["SALT"]) and not is_tuned(book, what(9.0), RULE, log, ["TIDE"])
    assert is_tuned(Notebook(), what(), RULE, [seen("another", 1.0)], ["SALT"])


def test_a_combination_of_an_earlier_sweep_is_not_tuned() -> None:
    from oakladder.trial.batch.task import Tried
    from oakladder.trial.notebook import Swept

    swept = Swept(2.0, what(), "sweep.parquet", {"n": [5.0, 7.0]}, 2)
    book = Notebook(
        (Text(1.0, mark_of(RULE), RULE), swept),
        {"sweep.parquet": [Tried({"n": 5.0}, {}, {}), Tried({"n": 7.0}, {}, {})]},
    )
    log = [seen("own", 10.0)]
    assert not is_tuned(book, what(7.0), RULE, log, ["SALT"]) and is_tuned(book, what(8.0), RULE, log, ["SALT"])
