"""A script of each kind of sin, and that none of the demo scripts sins unknowingly."""

from __future__ import annotations

from dataclasses import replace
from importlib.resources import files

import numpy as np
import pytest

from helpers import DEMO_SCRIPTS, daily_bars, random_bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.run.context import RunContext
from oakladder.rung import compile_script
from oakladder.rung.other_scripts import OtherScripts
from oakladder.rung.problems import Cancelled, RunProblem
from oakladder.trial.best_values import best_values
from oakladder.trial.broker.money import Account, Size
from oakladder.trial.judge.look_ahead.check import OF_TRADES, check_look_ahead
from oakladder.trial.judge.look_ahead.finding import Finding, FindingKind
from oakladder.trial.notebook import Notebook, Try, What, what_of
from oakladder.trial.spans import Span, before, seal_of
from oakladder.trial.spec import TrialSpec
from oakladder.trial.trial import TrialData, trial_data_of
from oakladder.trial.universe import trial_data_in

PLAIN = """rung 1
let f = ema(close, 8)
signal go = crosses_up(close, f) and close on 1w > sma(close, 3) on 1w
line f
mark go below
zone low to high when go lasting 5 bars
trade ride long
    enter when go
    leave when close < f
    stop 2 * atr(10)
"""


def ground(symbols: int = 2, count: int = 300) -> TrialData:
    series = []
    for k in range(symbols):
        bars = random_bars(k, count, holes=False)
        series.append(replace(bars, symbol=f"S{k}", columns={**bars.columns, "volume": np.full(count, 1e7)}))
    return trial_data_of(panel_of(series))


def check(text: str, where: TrialData | None = None, **how) -> list[Finding]:  # type: ignore[no-untyped-def]
    return list(check_look_ahead(compile_script(text), where or ground(), **how).findings)


def test_an_honest_script_is_found_honest() -> None:
    assert [f for f in check(PLAIN) if f.kind is not FindingKind.UNDECIDED] == []
    made = check_look_ahead(compile_script("rung 1\nline sma(close, 9)\n"), ground())
    assert made.words().startswith("Nothing found: cut at 40 moments of history, on 2 symbols")
    short = check_look_ahead(compile_script("rung 1\nline sma(close, 9)\n"), ground(1, 12))
    assert short.cuts < 12 and f"cut at {short.cuts} moments of history, on 1 symbol" in short.words()


def test_only_the_bars_of_the_span_are_checked() -> None:
    panel = ground(1).panel
    text = "rung 1\nmark close > close[1] ago 2\n"
    whole = check(text, trial_data_of(panel))
    late = check(text, trial_data_of(panel, Span(first=int(panel.times[200]))))
    assert 0 < late[0].count < whole[0].count / 2
    with pytest.raises(RunProblem, match=r"no bars in this span. The bars run from \d{4}-\d\d-\d\d to"):
        trial_data_of(panel, Span(first=int(panel.times[-1]) + 86_400))
    with pytest.raises(RunProblem, match="--broken-seal"):
        trial_data_of(panel, Span(first=int(panel.times[-2]), seal=seal_of(panel)))


def test_values_that_are_otherwise_later_are_found() -> None:
    # The bars themselves are revised: as history was on the day, its last closes were a little higher.
    def revised(panel: Panel, time: int) -> Panel:
        there = before(panel, time)
        series = []
        for k in range(len(there)):
            bars = there.bars(k)
            close = bars["close"].copy()
            close[-3:] *= 1.02
            series.append(replace(bars, columns={**bars.columns, "close": close}))
        return panel_of(series, panel.timeframe)

    found = [f for f in check(PLAIN, cut=revised) if f.kind is FindingKind.CHANGED]
    assert {"`line f`"} <= {f.words.split(" was")[0] for f in found} or any("line" in f.words for f in found)
    told = next(f for f in found if "line" in f.words)
    assert told.line == 4 and told.symbol in ("S0", "S1") and told.count >= 40
    assert all(f.time in ground().panel.times for f in found)


def test_drawings_that_stand_before_they_were_known_are_found() -> None:
    text = (
        "rung 1\nlet top = swing_high(3, 3)\nmark known(top) above ago 3 shape dot\n"
        'label "top" above at top ago 3 when known(top)\nmark close > open above\n'
    )
    where = ground(1)
    found = check(text, where)
    assert [(f.kind, f.line) for f in found] == [(FindingKind.BEFORE_KNOWN, 3), (FindingKind.BEFORE_KNOWN, 4)]
    assert "up to 3 bars" in found[0].words
    # It names the bar that the latest one stands on: a swing, three bars before it was known.
    high, at = where.panel.column("high"), int(np.flatnonzero(where.panel.times == found[0].time)[0])
    assert high[at] > high[at - 3 : at].max() and high[at] >= high[at + 1 : at + 4].max()


def test_signals_of_a_bar_that_still_forms_are_found() -> None:
    text = "rung 1\nsignal go = close on 1w forming > open on 1w forming\nsignal still = close > open\n"
    where = ground(1)
    found = check(text, where)
    assert [f.kind for f in found] == [FindingKind.FORMING] and "`go`" in found[0].words and "1w" in found[0].words
    # Every occurrence but those on the last bar of a week counts.
    panel = where.panel
    week = panel.calendars[0].periods(panel.times, Timeframe.parse("1w"))
    opens, closes = panel.column("open"), panel.column("close")
    count = 0
    for k in range(panel.size - 1):
        first = int(np.flatnonzero(week == week[k])[0])
        count += week[k] == week[k + 1] and closes[k] > opens[first]
    assert found[0].count == count


def test_a_read_of_a_forming_bar_that_decides_nothing_is_told_all_the_same() -> None:
    found = check("rung 1\nline close on 1w forming\nsignal go = close > open\n")
    assert [f.kind for f in found] == [FindingKind.FORMING] and found[0].line == 2 and "no signal" in found[0].words
    assert check("rung 1\nsignal go = close on 1w > open on 1w\n") == []


def test_undecided_fills_are_found() -> None:
    close = np.full(60, 100.0)
    high, low = close.copy(), close.copy()
    high[30], low[30] = 120.0, 80.0
    text = "rung 1\ntrade ride long\n    enter when bar == 20\n    stop 10%\n    target 10%\n"
    where = trial_data_of(panel_of([daily_bars(close, high=high, low=low, volume=np.full(60, 1e7))]))
    found = check(text, where)
    (told,) = (f for f in found if f.kind is not FindingKind.OWN_HISTORY)
    assert told.kind is FindingKind.UNDECIDED and told.time == where.panel.times[30]


def test_entries_that_are_too_large_for_their_bar_are_found() -> None:
    volume = np.full(60, 1_000_000.0)
    volume[21], volume[41] = 400.0, 0.0
    text = "rung 1\ntrade ride long\n    enter when bar mod 20 == 0\n    at most 5 bars\n"
    where = trial_data_of(panel_of([daily_bars(np.full(60, 100.0), volume=volume)]))
    found = check(text, where, account=Account(size=Size.parse("50u")))
    assert [(f.kind, f.count) for f in found] == [(FindingKind.THIN, 2)] and found[0].time == where.panel.times[41]
    # The account's size is what counts.
    assert [f.count for f in check(text, where, account=Account(size=Size.parse("30u")))] == [1]
    # Where no volume is known at all (a currency pair) that is said.
    none = trial_data_of(panel_of([daily_bars(np.full(60, 100.0), volume=np.zeros(60))]))
    assert [(f.kind, f.count) for f in check(text, none)] == [(FindingKind.NO_VOLUME, 3)]


def test_fills_at_the_very_extreme_of_a_bar_are_found() -> None:
    # The limit at 98 is the low of its bar, and the target at 104 the high of the bar that reaches it.
    close = np.array([100.0, 100, 99, 102, 103, 103])
    high, low = np.array([100.0, 100, 100, 102, 104, 103]), np.array([100.0, 100, 98, 99, 102, 103])
    volume = np.full(6, 1e7)
    text = "rung 1\ntrade ride long\n    enter at 98 when bar == 1\n    target at 104\n"

    def found(high: np.ndarray, low: np.ndarray) -> list[tuple[FindingKind, int]]:
        bars = daily_bars(close, open=np.append(100.0, close[:-1]), high=high, low=low, volume=volume)
        all_found = check(text, trial_data_of(panel_of([bars])))
        return [(f.kind, f.count) for f in all_found if f.kind is not FindingKind.OWN_HISTORY]

    assert found(high, low) == [(FindingKind.THROUGH, 2)]
    assert found(high, low - 0.01) == [(FindingKind.THROUGH, 1)]
    assert found(high + 0.01, low - 0.01) == []


FORMING = {
    "kept": "keep last = 0\nset last = close on 1w forming\nsignal go = close < last\n",
    "in a branch": (
        "keep hot = 0\nif close on 1w forming > open on 1w forming\n    set hot = 1\nelse\n    set hot = 0\n"
        "signal go = hot > 0 and close > open\n"
    ),
    "in a function": "define up(x)\n    give x on 1w forming > sma(x, 3)\nsignal go = up(close)\n",
    "in an entry": "trade ride long\n    enter when close on 1w forming > open on 1w forming\n    at most 3 bars\n",
    "in a stop": "trade ride long\n    enter when close > open\n    stop at low on 1w forming\n    at most 3 bars\n",
}


@pytest.mark.parametrize("name", FORMING)
def test_what_a_forming_bar_decides_is_found_however_it_gets_there(name: str) -> None:
    text = "rung 1\n" + FORMING[name]
    found = [f for f in check(text) if f.kind is FindingKind.FORMING]
    assert len(found) == 1 and found[0].count > 10 and "no signal" not in found[0].words
    assert [f for f in check(text.replace(" forming", "")) if f.kind is FindingKind.FORMING] == []


def test_a_signal_that_a_forming_bar_keeps_from_firing_is_found() -> None:
    # While a week forms its close is that of the day, so this never fires; on complete weeks it does.
    (found,) = check("rung 1\nsignal go = close on 1w forming != close\n")
    assert found.kind is FindingKind.FORMING and "`go` is otherwise" in found.words and found.count > 100


def test_a_forming_bar_of_another_symbol_or_in_a_function_of_another_script_is_found(market: BarLibrary) -> None:
    where, _ = trial_data_in(market, ["BRINE", "OAKUM"], BarSelection(ONE_DAY), Span())
    text = 'rung 1\nsignal go = (close on 1w forming) of "BRINE" > (open on 1w forming) of "BRINE"\n'
    found = check_look_ahead(compile_script(text), where, cuts=5).findings
    assert [f.kind for f in found] == [FindingKind.FORMING] and "`go`" in found[0].words
    others = OtherScripts((("Weeks", 'rung 1\ntitle "Weeks"\ndefine up(x)\n    give x on 1w forming > x[1] on 1w\n'),))
    using = compile_script('rung 1\nuse up from "Weeks"\nkeep hot = no\nset hot = up(close)\nsignal go = hot\n', others)
    (told,) = check_look_ahead(using, ground()).findings
    assert told.kind is FindingKind.FORMING and "`go`" in told.words and told.count > 10


@pytest.mark.parametrize(
    ("condition", "is_found"),
    [
        ("bar == 250", True),
        ("250 > bar", True),
        ("bar between 100 and 200", True),
        ("bar > 250", False),
        ("250 <= bar", False),
        ("bar mod 20 == 0", False),
        ("year == 2021", True),
        ("year >= 2021 and close > open", True),
        ("2021 == year", True),
        ("month == 12 and weekday == 5", False),
        ("year != year[1]", False),
        ("close > 250", False),
    ],
)
def test_a_rule_that_names_its_own_history_is_found(condition: str, is_found: bool) -> None:
    found = [f for f in check(f"rung 1\nsignal go = {condition}\n") if f.kind is FindingKind.OWN_HISTORY]
    assert bool(found) == is_found and all(f.line == 2 for f in found)


def test_every_kind_is_told_with_a_verdict() -> None:
    made = check_look_ahead(compile_script("rung 1\nsignal go = close on 1w forming > open\n"), ground())
    rows = made.rows()
    assert [row.kind for row in rows] == list(FindingKind)
    told = {row.kind: row.words for row in rows}
    assert told[FindingKind.CHANGED] == "nothing found: cut at 40 moments"
    assert told[FindingKind.BEFORE_KNOWN] == "nothing found on 2 symbols"
    assert told[FindingKind.THIN] == "not checked: the script has no trade"
    assert made.findings == (rows[2],)


@pytest.mark.parametrize("name", DEMO_SCRIPTS)
def test_no_demo_script_sins_unknowingly(name: str, market: BarLibrary) -> None:
    program = compile_script(files("oakladder.demo").joinpath("scripts", name).read_text("utf-8"))
    intraday = name == "first_half_hour.rung"
    frame = BarSelection(Timeframe.parse("15m") if intraday else ONE_DAY)
    where, _ = trial_data_in(market, list(market.infos)[:12], frame, Span())
    found = check_look_ahead(program, where, cuts=15).findings
    # How a bar fills an order is the market's and the account's, not the script's.
    assert [f for f in found if f.kind not in OF_TRADES] == []


def test_it_can_be_stopped() -> None:
    with pytest.raises(Cancelled):
        check(PLAIN, context=RunContext(cancelled=lambda: True))


def test_a_setting_that_is_the_best_of_what_was_tried_here_is_found() -> None:
    text = "rung 1\nsetting n = 5 range 1..9\nsetting m = 2 range 1..9\ntrade a long\n    enter when close > sma(close, n)\n"

    def what(list_name: str = "Salt", **settings: float) -> What:
        return what_of(TrialSpec(text, settings, list_name, "1d"))

    def tried(sharpe: float | None, **settings: float) -> Try:
        return Try(1.0, what(**settings), {"sharpe": sharpe}, True)

    sharpes = {3.0: 0.2, 4.0: None, 5.0: 0.9, 6.0: 0.9}
    book = Notebook((*(tried(s, n=n, m=2.0) for n, s in sharpes.items()), tried(9.0, n=7.0, m=3.0)))
    (best,) = best_values(book, what(n=5.0, m=2.0))
    assert best == ("n", "5", 4, "sharpe")
    made = check(text, best=[best])
    (found,) = [f for f in made if f.kind is FindingKind.OWN_HISTORY]
    assert found.words == "`n` = 5 is the best of 4 values that were tried here, by Sharpe ratio" and found.line == 2
    # Neither one that is not the best, nor of too few, nor elsewhere, nor where all came to the same.
    assert best_values(book, what(n=3.0, m=2.0)) == [] and best_values(book, what("Gulls", n=5.0, m=2.0)) == []
    assert best_values(Notebook(book.entries[:2]), what(n=3.0, m=2.0)) == []
    assert best_values(Notebook(tuple(tried(1.0, n=float(n), m=2.0) for n in range(5))), what(n=3.0, m=2.0)) == []
    assert not [f for f in check(text) if f.kind is FindingKind.OWN_HISTORY]
