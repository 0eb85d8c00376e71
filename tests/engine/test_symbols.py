"""Other symbols in a script: as of their last complete bar, on every timeframe, and never a later one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pytest

from helpers import random_bars, values
from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.resample import resample
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.run.execute import run
from oakladder.engine.run.setup import BoundKernel
from oakladder.engine.stream.live import LiveRun
from oakladder.rung import RunProblem, compile_script
from oakladder.rung.problems import ScriptError

SCRIPT = """
setting span = 3 range 1..40
setting other = "REED"
define ahead(x, who)
    let there = sma(x, span) of who
    give x - there, x > there
let plain = close of "REED"
let up = (close > open) of other
let cross = crosses_up(close, sma(close, span)) of "REED"
let week = close on 1w of "REED"
let weekly = (close of other) on 1w
let far = sma(close - close of "SALT", span) of "REED"
let lead, is_ahead = ahead(close, other)
let bars_there = bar of other
let back = plain[2]
"""


def other(seed: int, symbol: str, skip: int) -> Bars:
    """A series with a bar missing now and then."""
    bars = random_bars(seed, 160)
    kept = np.arange(len(bars)) % skip != skip - 1
    return Bars(symbol, ONE_DAY, bars.calendar, bars.times[kept], {k: v[kept] for k, v in bars.columns.items()})


REED, SALT = other(5, "REED", 7), other(6, "SALT", 11)


@dataclass(frozen=True)
class OtherSeries:
    """Other symbols for a panel whose bars are all there are."""

    known: dict[str, Bars]

    def other(self, symbol: str, timeframe: Timeframe) -> Panel:
        return panel_of([resample(self.known[symbol], timeframe)])

    def earlier(self, panel: Panel, timeframe: Timeframe) -> None:
        return None


def with_others(bars: Bars, *others: Bars) -> Panel:
    panel = panel_of([bars])
    panel.background = OtherSeries({b.symbol: b for b in others})
    return panel


def as_of(bars: Bars, there: Bars, seen: np.ndarray) -> np.ndarray:
    """An independent alignment: the value at the last bar of the other series that closed by each bar's close."""
    ends = there.calendar.closes(there.times, there.timeframe)
    made = []
    for close in bars.calendar.closes(bars.times, bars.timeframe):
        done = [k for k in range(len(there)) if ends[k] <= close]
        made.append(seen[done[-1]] if done else np.nan)
    return np.array(made)


def test_values_are_those_of_the_other_symbols_own_chart() -> None:
    bars = random_bars(11, 130)
    made = values(SCRIPT, with_others(bars, REED, SALT), {"span": 4})
    own = values(
        "let up = close > open\nlet cross = crosses_up(close, sma(close, 4))\nlet mean = sma(close, 4)\nlet bars = bar\n"
        "let week = close on 1w",
        REED,
    )
    np.testing.assert_array_equal(made["plain"], as_of(bars, REED, REED["close"]))
    np.testing.assert_array_equal(made["up"], as_of(bars, REED, own["up"]))
    np.testing.assert_array_equal(made["cross"], as_of(bars, REED, own["cross"]))
    np.testing.assert_array_equal(made["bars_there"], as_of(bars, REED, own["bars"]))
    np.testing.assert_array_equal(made["lead"], bars["close"] - as_of(bars, REED, own["mean"]))
    np.testing.assert_array_equal(made["week"], as_of(bars, REED, own["week"]))
    there, here = (resample(b, Timeframe.parse("1w")) for b in (REED, bars))
    np.testing.assert_array_equal(made["weekly"], as_of(bars, here, as_of(here, there, there["close"])))
    np.testing.assert_array_equal(made["back"][2:], made["plain"][:-2])


def test_a_symbol_seen_from_another_symbol() -> None:
    bars = random_bars(11, 130)
    made = values(SCRIPT, with_others(bars, REED, SALT), {"span": 4})
    gap = REED["close"] - as_of(REED, SALT, SALT["close"])
    mean = np.array([gap[max(k - 3, 0) : k + 1].mean() if k > 2 else np.nan for k in range(len(gap))])
    np.testing.assert_allclose(made["far"], as_of(bars, REED, mean), rtol=1e-12)


@pytest.mark.parametrize(
    ("named", "plain"),
    [
        ('let b = close * 2\nlet x = (b of "REED") on 1w', '((close * 2) of "REED") on 1w'),
        ('let b = close * 2\nlet x = (b on 1w) of "REED"', '((close * 2) on 1w) of "REED"'),
        (
            "keep k = 0\nif close > open\n    set k = k + 1\nlet x = (k on 1w) on 1mo",
            "(sum_since(bar == 0, if close > open then 1 else 0) on 1w) on 1mo",
        ),
        (
            "let w = (weekday on 1w forming) on 1mo\nlet b = w + close\nlet x = (b on 1mo) + (b on 1w forming)",
            "((((weekday on 1w forming) on 1mo) + close) on 1mo) + ((((weekday on 1w forming) on 1mo) + close) on 1w forming)",
        ),
    ],
)
def test_names_are_the_same_however_deep_they_are_asked_for_elsewhere(named: str, plain: str) -> None:
    made = values(f"{named}\nlet y = {plain}", with_others(random_bars(2, 150), REED))
    np.testing.assert_array_equal(made["x"], made["y"])
    assert not np.isnan(made["x"]).all()


@pytest.mark.parametrize("cut_others", [True, False])
def test_later_bars_of_any_symbol_change_nothing_before(cut_others: bool) -> None:
    bars = random_bars(11, 130)
    whole = values(SCRIPT, with_others(bars, REED, SALT), {"span": 4})
    for end in range(1, len(bars), 3):
        last = bars.times[end - 1]
        others = [b.part(0, int((b.times <= last).sum())) if cut_others else b for b in (REED, SALT)]
        cut = values(SCRIPT, with_others(bars.part(0, end), *others), {"span": 4})
        for name in whole:
            np.testing.assert_array_equal(cut[name], whole[name][:end], err_msg=f"{name} at {end}")


def test_both_runners_agree_on_other_symbols() -> None:
    panel = with_others(random_bars(3, 60), REED, SALT)
    native, plain = values(SCRIPT, panel), values(SCRIPT, panel, reference=True)
    for name in native:
        np.testing.assert_array_equal(native[name], plain[name], err_msg=name)


def test_a_setting_chooses_the_symbol() -> None:
    bars = random_bars(3, 60)
    panel = with_others(bars, REED, SALT)
    script = 'setting other = "REED"\nlet x = close of other'
    np.testing.assert_array_equal(values(script, panel, {"other": "SALT"})["x"], as_of(bars, SALT, SALT["close"]))


def test_a_symbol_that_trades_round_the_clock_beside_one_with_sessions(market: BarLibrary) -> None:
    hour = Timeframe.parse("1h")
    pair = next(s for s, info in market.infos.items() if info.kind == "currency")
    panel = market.panel(["BRINE", "GULLW"], hour)
    made = values(f'let x = close of "{pair}"\nlet d = close on 1d of "{pair}"', panel)
    for k in (0, 1):
        bars = panel.bars(k)
        part = slice(int(panel.offsets[k]), int(panel.offsets[k + 1]))
        there = market.bars(pair, hour)
        ends, mine = (b.calendar.closes(b.times, hour) for b in (there, bars))
        at = np.searchsorted(ends, mine, "right") - 1
        expected = np.where(at >= 0, there["close"][at], np.nan)
        np.testing.assert_array_equal(made["x"][part], expected)
        np.testing.assert_array_equal(np.isfinite(made["d"][part]), at >= 0)


def test_going_on_bar_by_bar_is_all_at_once() -> None:
    bars = random_bars(9, 80)
    program = compile_script("rung 1" + SCRIPT)
    extra = list(program.plan.values.values())
    whole = run(program, with_others(bars, REED, SALT), outputs=[], extra=extra)
    live = LiveRun(program, with_others(bars.part(0, 50), REED, SALT), None, [], extra)
    parts = [live.advance(panel_of([bars.part(k, k + 1)])) for k in range(50, 80)]
    for op in extra:
        got = np.concatenate([live.history.number(op), *(p.number(op) for p in parts)])
        np.testing.assert_array_equal(got, whole.number(op))


def test_another_symbol_goes_on_instead_of_being_run_again(monkeypatch: pytest.MonkeyPatch) -> None:
    """Its bars may come later than those of the chart, or be there already: what was complete by then counts."""
    bars = random_bars(9, 80)
    program = compile_script('rung 1\nlet x = ema(close, 5) of "SALT"\nlet y = close > sma(close, 3) on 1w of "SALT"')
    extra = list(program.plan.values.values())
    whole = run(program, with_others(bars, REED, SALT), outputs=[], extra=extra)
    live = LiveRun(program, with_others(bars.part(0, 50), REED, SALT.part(0, 55)), None, [], extra)
    sizes: list[int] = []
    real = BoundKernel.__call__

    def counted(self: BoundKernel, *arguments: object) -> None:
        sizes.append(self.job.panel.size)
        real(self, *arguments)  # type: ignore[arg-type]

    monkeypatch.setattr(BoundKernel, "__call__", counted)
    parts = []
    for k in range(50, 80, 2):
        panel = with_others(bars.part(k, k + 2), REED, SALT.part(0, k + 9))
        live.peek(with_others(bars.part(k, k + 1), REED, SALT.part(0, k + 9)))
        parts.append(live.advance(panel))
    for op in extra:
        got = np.concatenate([live.history.number(op), *(p.number(op) for p in parts)])
        np.testing.assert_array_equal(got, whole.number(op))
    assert max(sizes) <= 4


def test_what_cannot_be_read_is_said_in_words() -> None:
    bars = random_bars(3, 60)
    program = compile_script('rung 1\nline close of "NOWHERE"')
    with pytest.raises(RunProblem, match="no such symbol"):
        run(program, with_others(bars, REED))
    with pytest.raises(RunProblem, match="without other symbols"):
        run(program, panel_of([bars]))


@pytest.mark.parametrize(
    ("line", "code"),
    [
        ('let x = close of (if close > 3 then "A" else "B")', "R302"),
        ("let x = close of symbol", "R302"),
        ("let x = close of (3)", "R301"),
        ('let x = "a {close}" of "REED"', "R301"),
        ('if close > 3\n    fresh x = close of "REED"', "R304"),
    ],
)
def test_slips_around_of_are_found(line: str, code: str) -> None:
    with pytest.raises(ScriptError) as caught:
        compile_script(f"rung 1\n{line}\nline close\n")
    assert code in [p.code for p in caught.value.problems]
