"""Composed scans equal running every script symbol by symbol, on every timeframe, today and on every day before."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import Tune, daily_bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import Cancelled, run
from oakladder.engine.scan.conditions import (
    Condition,
    Field,
    FieldFilter,
    Group,
    Join,
    Relation,
    Rule,
    TriggerMode,
    named_values,
)
from oakladder.engine.scan.run import occurrences, run_scan
from oakladder.engine.scan.why_not import why_not
from oakladder.rung import Program, RunProblem, compile_script
from oakladder.rung.problems import UnknownName

SCRIPT = """rung 1
setting n = 10 range 1..200
let strength = rsi(close, 14)
signal up = close > sma(close, n)
signal cross = crosses_up(close, sma(close, n))
line strength named "Strength"
column age(cross) named "Since"
"""
PROGRAM: Program = compile_script(SCRIPT)
WEEK, HOUR = Timeframe.parse("1w"), Timeframe.parse("2h")


def slow_flags(rule: Rule, market: BarLibrary, symbol: str) -> list[bool]:
    """A rule on its own bars, bar by bar, as the words say it."""
    program = rule.program
    op = named_values(program)[rule.name]
    result = run(program, market.panel([symbol], rule.timeframe, rule.extended), rule.settings, outputs=[], extra=[op])
    if rule.relation:
        compare = {">": float.__gt__, ">=": float.__ge__, "<": float.__lt__, "<=": float.__le__}[rule.relation]
        raw = [bool(v == v and compare(float(v), rule.number)) for v in result.number(op)]
    else:
        raw = [v == 1 for v in result.flag(op)]
    made = []
    for k in range(len(raw)):
        made.append(
            {
                TriggerMode.TRUE: raw[k],
                TriggerMode.FIRES: raw[k] and k > 0 and not raw[k - 1],
                TriggerMode.WITHIN: any(raw[max(k - rule.bars + 1, 0) : k + 1]),
                TriggerMode.LASTING: k + 1 >= rule.bars and all(raw[k - rule.bars + 1 : k + 1]),
            }[rule.fresh]
        )
    return made


def slow(condition: Condition, market: BarLibrary, symbol: str, frame: Timeframe) -> list[bool]:
    """A condition on the bars of a timeframe, the slow way."""
    base = market.bars(symbol, frame)
    closes = base.calendar.closes(base.times, frame)
    if isinstance(condition, Group):
        parts = [slow(p, market, symbol, frame) for p in condition.parts]
        how = {Join.ALL: all, Join.ANY: any, Join.NONE: lambda held: not any(held)}[condition.how]
        return [bool(how(held)) for held in zip(*parts, strict=True)]
    if isinstance(condition, FieldFilter):
        return [_plain(condition, market, symbol, frame, k) for k in range(len(base))]
    flags = slow_flags(condition, market, symbol)
    there = market.bars(symbol, condition.timeframe, condition.extended)
    ends = there.calendar.closes(there.times, condition.timeframe, condition.extended)
    made = []
    for close in closes:
        done = np.flatnonzero(ends <= close)
        made.append(bool(len(done)) and flags[done[-1]])
    return made


def _plain(condition: FieldFilter, market: BarLibrary, symbol: str, frame: Timeframe, k: int) -> bool:
    base = market.bars(symbol, frame)
    match condition.field:
        case Field.SECTOR:
            return market.infos[symbol].sector in condition.words
        case Field.SYMBOLS:
            return symbol in condition.words
        case Field.PRICE:
            value = base["close"][k]
        case Field.CHANGE:
            value = base["close"][k] / base["close"][k - 1] - 1 if k else np.nan
        case Field.VOLUME:
            days = market.bars(symbol, ONE_DAY)
            close = base.calendar.closes(base.times[k : k + 1], frame)[0]
            done = int((days.calendar.closes(days.times, ONE_DAY) <= close).sum())
            value = days["volume"][done - 20 : done].mean() if done >= 20 else np.nan
    return bool(
        {">": value > condition.number, ">=": value >= condition.number, "<": value < condition.number}[
            condition.relation
        ]
    )


CONDITIONS: list[Condition] = [
    Rule(PROGRAM, "up"),
    Rule(PROGRAM, "cross", fresh=TriggerMode.WITHIN, bars=6),
    Rule(PROGRAM, "up", fresh=TriggerMode.FIRES, settings={"n": 40}),
    Rule(PROGRAM, "up", WEEK, fresh=TriggerMode.LASTING, bars=3),
    Rule(PROGRAM, "Strength", relation="<", number=45),
    Rule(PROGRAM, "Since", WEEK, relation="<=", number=4),
    Group(Join.ALL, (Rule(PROGRAM, "up"), Rule(PROGRAM, "up", WEEK), FieldFilter(Field.PRICE, ">", 5))),
    Group(Join.ANY, (Rule(PROGRAM, "cross", fresh=TriggerMode.WITHIN, bars=2), FieldFilter(Field.CHANGE, "<", -0.03))),
    Group(
        Join.NONE,
        (
            FieldFilter(Field.SECTOR, words=frozenset(["Salt", "Ferries"])),
            Group(Join.ALL, (Rule(PROGRAM, "up", HOUR), Rule(PROGRAM, "up"))),
        ),
    ),
    Group(
        Join.ALL,
        (
            FieldFilter(Field.VOLUME, ">=", 400_000),
            FieldFilter(Field.SYMBOLS, words=frozenset(["BRINE", "FLAKE", "GULLW"])),
        ),
    ),
]


@pytest.mark.parametrize("k", range(len(CONDITIONS)))
@pytest.mark.parametrize("frame", [ONE_DAY, pytest.param(WEEK, marks=pytest.mark.nightly)])
def test_a_scan_finds_what_the_words_say(market: BarLibrary, k: int, frame: Timeframe) -> None:
    condition = CONDITIONS[k]
    symbols = list(market.infos)[:14]
    if frame is WEEK:
        symbols = symbols[:6]
    found = run_scan(condition, market, symbols, frame)
    expected = {s: slow(condition, market, s, frame) for s in symbols}
    assert {f.symbol for f in found.found} == {s for s, flags in expected.items() if flags[-1]}
    assert set(found.gone) == {s for s, flags in expected.items() if not flags[-1] and flags[-2]}
    assert found.looked_at == len(symbols) and not found.skipped
    now = {s: flags[-1] for s, flags in expected.items()}
    parts = condition.parts if isinstance(condition, Group) else (condition,)
    held = [{s: slow(p, market, s, frame)[-1] for s in symbols} for p in parts]
    assert [stage.alone for stage in found.stages] == [sum(h.values()) for h in held]
    assert found.stages[-1].after == sum(now.values())
    for symbol in symbols:  # every condition says of every symbol what it says alone
        told = why_not(condition, market, symbol, frame)
        assert told.found == now[symbol] and [a.holds for a in told.answers] == [h[symbol] for h in held]
        assert all(a.words for a in told.answers)
    for one in found.found:
        flags = expected[one.symbol]
        since = len(flags) - 1
        while since and flags[since - 1]:
            since -= 1
        assert one.bars_ago == len(flags) - 1 - since and one.is_new == (since == len(flags) - 1)
        assert one.since == market.bars(one.symbol, frame).times[since]


@pytest.mark.parametrize("k", range(len(CONDITIONS)))
def test_past_occurrences_are_the_days_on_which_it_came_true(market: BarLibrary, k: int) -> None:
    symbols = list(market.infos)[:5]
    found, skipped = occurrences(CONDITIONS[k], market, symbols, last_bars=300)
    expected = set()
    for symbol in symbols:
        flags, times = slow(CONDITIONS[k], market, symbol, ONE_DAY), market.bars(symbol, ONE_DAY).times
        for at in range(max(len(flags) - 300, 1), len(flags)):
            if flags[at] and not flags[at - 1]:
                expected.add((symbol, int(times[at])))
    assert {(o.symbol, o.time) for o in found} == expected and not skipped
    assert [o.time for o in found] == sorted((o.time for o in found), reverse=True)


def test_the_funnel_narrows_from_condition_to_condition(market: BarLibrary) -> None:
    parts = (
        Rule(PROGRAM, "up"),
        FieldFilter(Field.PRICE, Relation.AT_LEAST, 20.0),
        Rule(PROGRAM, "cross", fresh=TriggerMode.WITHIN, bars=9),
    )
    alone = [{f.symbol for f in run_scan(p, market, market.infos).found} for p in parts]
    kept = run_scan(Group(Join.ALL, parts), market, market.infos).stages
    assert [s.after for s in kept] == [len(alone[0]), len(alone[0] & alone[1]), len(alone[0] & alone[1] & alone[2])]
    assert [s.alone for s in kept] == [len(a) for a in alone] and kept[2].after < kept[1].after < kept[0].after
    either = run_scan(Group(Join.ANY, parts), market, market.infos).stages
    assert [s.after for s in either][1:] == [len(alone[0] | alone[1]), len(alone[0] | alone[1] | alone[2])]
    none = run_scan(Group(Join.NONE, parts), market, market.infos).stages
    assert none[1].after == len(market.infos) - len(alone[0] | alone[1])


def test_the_first_condition_that_fails_says_by_how_much(market: BarLibrary) -> None:
    last = float(market.bars("BRINE", ONE_DAY)["close"][-1])
    parts = (FieldFilter(Field.PRICE, Relation.AT_LEAST, 1.0), FieldFilter(Field.PRICE, Relation.AT_LEAST, last + 2.5))
    told = why_not(Group(Join.ALL, parts), market, "BRINE", ONE_DAY)
    assert not told.found and told.first == 1
    assert told.answers[1].words.startswith(f"it is {last:,.2f}, short by 2.5 (")
    rule = Rule(PROGRAM, "Strength", relation=Relation.BELOW, number=1.0)
    words = why_not(rule, market, "BRINE", ONE_DAY).answers[0].words
    strength = run(PROGRAM, market.panel(["BRINE"], ONE_DAY)).number(PROGRAM.plan.values["strength"])[-1]
    assert words.startswith("Strength is ") and f"over by {strength - 1:.4g}" in words
    fired = why_not(Rule(PROGRAM, "cross", fresh=TriggerMode.FIRES), market, "BRINE", ONE_DAY).answers[0].words
    assert "last true" in fired and "ago" in fired
    with pytest.raises(DataProblem, match="no such symbol"):
        why_not(rule, market, "NOWHERE", ONE_DAY)


def a_few_days(folder: Path, closes: list[float]) -> BarLibrary:
    made = BarLibrary(folder)
    made.add_symbols([SymbolInfo("FEW", "Few", "Salt", "share", 0.01, Calendar())])
    made.write(daily_bars(closes, "FEW"))
    return made


def test_why_not_says_which_part_of_a_signal_keeps_it_away(tmp_path: Path) -> None:
    library = a_few_days(tmp_path, [10, 11, 12, 13, 12, 11, 10, 9])
    program = compile_script("rung 1\nlet quiet = range < 5\nsignal go = quiet and close > 10.5")
    told = why_not(Rule(program, "go"), library, "FEW", ONE_DAY).answers[0]
    assert not told.holds and told.words == "last true 2 bars ago; close > 10.5: no, short by 1.5 (14.3%)"
    true = compile_script("rung 1\nsignal go = close < 11.5")
    told = why_not(Rule(true, "go"), library, "FEW", ONE_DAY).answers[0]
    assert told.holds and told.words == "true for 3 bars"
    never = compile_script("rung 1\nsignal go = close > 100")
    assert why_not(Rule(never, "go"), library, "FEW", ONE_DAY).answers[0].words.startswith("never true; close > 100: ")


def test_why_not_says_what_is_not_known(tmp_path: Path) -> None:
    library = a_few_days(tmp_path, [10.0])
    for field, words in ((Field.VOLUME, "there are not enough days for it"), (Field.CHANGE, "it is +nan%")):
        told = why_not(FieldFilter(field, Relation.ABOVE, 5.0), library, "FEW", ONE_DAY).answers[0]
        assert not told.holds and told.words == words
    program = compile_script('rung 1\nline sma(close, 5) named "Mean"')
    told = why_not(Rule(program, "Mean", relation=Relation.ABOVE, number=1.0), library, "FEW", ONE_DAY).answers[0]
    assert not told.holds and told.words == "Mean is –"


def test_parts_and_threads_change_nothing(market: BarLibrary, tune: Tune) -> None:
    condition = CONDITIONS[6]
    whole = run_scan(condition, market, market.infos)
    tune(part_bars=7000)
    shares: list[float] = []
    with ThreadPoolExecutor(3) as pool:
        cut = run_scan(condition, market, market.infos, context=RunContext(pool, progress=shares.append))
    assert (cut.found, cut.gone, cut.looked_at, cut.stages) == (
        whole.found,
        whole.gone,
        whole.looked_at,
        whole.stages,
    )
    assert shares == sorted(shares) and shares[-1] == 1 and len(shares) > 10


def test_a_bad_symbol_is_told_and_spoils_nothing(market: BarLibrary) -> None:
    found = run_scan(CONDITIONS[0], market, ["BRINE", "NOWHERE", "FLAKE"])
    assert [(s.symbol, s.reason) for s in found.skipped] == [("NOWHERE", "There is no such symbol.")]
    assert found.looked_at == 2


def test_a_scan_is_stopped_between_parts(market: BarLibrary, tune: Tune) -> None:
    tune(part_bars=5000)
    calls = []

    def cancelled() -> bool:
        calls.append(1)
        return len(calls) > 3

    with pytest.raises(Cancelled):
        run_scan(CONDITIONS[0], market, market.infos, context=RunContext(cancelled=cancelled))
    assert len(calls) == 4


@pytest.mark.parametrize(
    ("condition", "error", "words"),
    [
        (Rule(PROGRAM, "upp"), UnknownName, "Did you mean"),
        (Rule(PROGRAM, "Strength"), UnknownName, "Compare it"),
        (Rule(PROGRAM, "up", bars=0, fresh=TriggerMode.WITHIN), RunProblem, "1 or more"),
        (Rule(PROGRAM, "up", settings={"n": 900}), RunProblem, "from 1 to 200"),
        (Group(Join.ALL, ()), RunProblem, "no condition yet"),
    ],
)
def test_what_is_wrong_is_said_before_anything_is_read(
    market: BarLibrary, condition: Condition, error: type[Exception], words: str
) -> None:
    with pytest.raises(error, match=words):
        run_scan(condition, market, market.infos)


@settings(max_examples=40, deadline=None)
@given(st.lists(st.booleans(), min_size=1, max_size=40), st.integers(1, 6), st.data())
def test_freshness_counts_within_each_symbol(flags: list[bool], bars: int, data: st.DataObject) -> None:
    from oakladder.bars.panel import Panel
    from oakladder.bars.timeline import Timeline
    from oakladder.engine.scan.condition_flags import _ages_of, last_change
    from oakladder.engine.scan.condition_flags import begins as begins_of

    cut = data.draw(st.integers(0, len(flags)))
    offsets = np.array(sorted({0, cut, len(flags)}), dtype=np.int64)
    panel = Panel(tuple("AB"[: len(offsets) - 1]), Timeline(ONE_DAY, (), offsets, ()))
    array = np.array(flags)
    since, lasting = _ages_of(array, panel), _ages_of(~array, panel, from_start=True)
    begins, changed = begins_of(array, panel), last_change(array, panel)
    for k, (a, b) in enumerate(zip(panel.starts.tolist(), panel.ends.tolist(), strict=True)):
        for at in range(a, b):
            assert (since[at] < bars) == any(flags[max(at - bars + 1, a) : at + 1])
            assert (flags[at] and lasting[at] >= bars) == (at - a + 1 >= bars and all(flags[at - bars + 1 : at + 1]))
            assert begins[at] == (flags[at] and at > a and not flags[at - 1])
        first = b - 1
        while first > a and flags[first - 1] == flags[b - 1]:
            first -= 1
        assert changed[k] == first
