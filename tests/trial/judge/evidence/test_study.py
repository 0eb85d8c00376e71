"""Evidence against shifts that are drawn one by one, and against what is known of chance and of planted edges."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.rung import RunProblem, compile_script
from oakladder.rung.words import Tone
from oakladder.trial.judge.evidence.breakdowns import by_group, by_hour, by_weekday, by_year
from oakladder.trial.judge.evidence.study import HORIZONS, Evidence, evidence_of, judged_flags
from oakladder.trial.judge.evidence.words import sentence, warnings
from oakladder.trial.trial import TrialData, trial_data_of
from trial.judge.evidence.grounds import walk, walks

RULE = "rung 1\nsignal go = volume > 950 bullish\n"


def plain_statistics(opens, closes, flags, horizon: int):  # type: ignore[no-untyped-def]
    """The statistic of each shift by loops over shifts, symbols, bars and lags, as the contract words it; the number of
    occurrences, their mean and the usual one. Lists of arrays, a place for each symbol, which begin on the same day."""
    longest = max((len(c) - horizon for c in closes), default=0)
    moments = max((len(c) for c in closes), default=0)
    changes = [
        [c[t + horizon] / o[t + 1] - 1 for t in range(max(len(c) - horizon, 0))]
        for o, c in zip(opens, closes, strict=True)
    ]
    everything = [x for own in changes for x in own if x == x]
    usual = sum(everything) / len(everything) if everything else 0.0
    found, days, statistics = [], set(), []
    for shift in range(max(longest, 0)):
        sums, counts = [0.0] * moments, [0] * moments
        for own, f in zip(changes, flags, strict=True):
            for t in range(len(own)):
                x = own[(t + shift) % len(own)]
                if f[t] and x == x:
                    sums[t] += x - usual
                    counts[t] += 1
                    if not shift:
                        found.append(x)
                        days.add(t)
        if not sum(counts):
            statistics.append(0.0)
            continue
        m = sum(sums) / sum(counts)
        e = [s - m * c for s, c in zip(sums, counts, strict=True)]
        v = sum(x * x for x in e)
        for q in range(1, horizon + 1):
            v += 2 * (1 - q / (horizon + 1)) * sum(e[d] * e[d - q] for d in range(q, moments))
        statistics.append(m * sum(counts) / v**0.5 if v >= 1e-20 * sum(s * s for s in sums) and v > 0 else 0.0)
    return statistics, found, days, usual


def plain_good(statistics: list[float], tone: Tone) -> list[float]:
    return [{Tone.BULLISH: t, Tone.BEARISH: -t}.get(tone, abs(t)) for t in statistics]


def plain_share(good: list[float]) -> float:
    return (1 + sum(g >= good[0] - 1e-9 for g in good[1:])) / len(good)


def plain_overall(all_good: list[list[float]]) -> float | None:
    if not all_good:
        return None
    standardised = []
    for good in all_good:
        mean = sum(good) / len(good)
        spread = (sum((g - mean) ** 2 for g in good) / len(good)) ** 0.5
        standardised.append([(g - mean) / spread if spread > 0 else 0.0 for g in good])
    return plain_share([max(some) for some in zip(*standardised, strict=False)])


@given(
    st.integers(0, 2**32 - 1),
    st.lists(st.integers(0, 48), min_size=1, max_size=4).filter(any),
    st.sampled_from(list(Tone)),
    st.sampled_from([0.02, 0.2, 0.9]),
    st.booleans(),
)
@settings(max_examples=60, deadline=None)
def test_every_shift_agrees_with_drawing_them_one_by_one(seed, sizes, tone, density, holes) -> None:  # type: ignore[no-untyped-def]
    rng = np.random.default_rng(seed)
    series, opens, closes, flags = [], [], [], []
    for k, size in enumerate(sizes):
        close = np.round(50 + np.cumsum(rng.normal(0, 1, size)), 1)
        open_ = np.round(close + rng.normal(0, 0.3, size), 1)
        if holes:
            open_[rng.random(size) < 0.1] = np.nan
            close[rng.random(size) < 0.1] = np.nan
        series.append(daily_bars(close, f"S{k}", open=open_))
        opens.append(open_)
        closes.append(close)
        flags.append(rng.random(size) < density)
    ground = trial_data_of(panel_of(series))
    made = judged_flags(compile_script(RULE), ground, "go", tone, np.concatenate(flags))
    every = []
    for one, followed in zip(made.horizons, made.followed, strict=True):
        statistics, found, days, usual = plain_statistics(opens, closes, flags, one.bars)
        assert one.count == len(found)
        assert one.shifts == max(len(statistics) - 1, 0)
        if not found:
            assert one.chance is None and one.mean is None
            continue
        assert one.mean == pytest.approx(sum(found) / len(found), rel=1e-9, abs=1e-12)
        assert one.usual == pytest.approx(usual, rel=1e-9, abs=1e-12)
        assert followed.statistics == pytest.approx(statistics, rel=1e-7, abs=1e-9)
        good = plain_good(followed.statistics.tolist(), tone)
        assert one.chance == (None if len(days) < 5 else pytest.approx(plain_share(good), abs=1e-12))
        if len(days) >= 5:
            every.append(good)
    overall = plain_overall(every)
    assert made.overall == (None if overall is None else pytest.approx(overall, abs=1e-12))


@pytest.mark.parametrize("holes", [False, True])
@pytest.mark.parametrize("density", [0.03, 0.6])
def test_few_flags_and_many_are_summed_alike(density: float, holes: bool) -> None:
    """Flag by flag where symbols begin on different days, at once where they do not."""
    rng = np.random.default_rng(7)
    bars = [walk(rng, 700, f"S{k}") for k in range(3)]
    if holes:
        bars[1].columns["close"][rng.random(700) < 0.05] = np.nan
    flags = rng.random((3, 700)) < density
    made = judged_flags(compile_script(RULE), trial_data_of(panel_of(bars)), "go", Tone.BULLISH, flags.ravel())
    for one in (made.followed[0], made.followed[4]):
        usable = 700 - one.horizon
        changes = np.array([b["close"][one.horizon :] / b["open"][1 : usable + 1] - 1 for b in bars])
        changes -= np.nanmean(changes)
        for at in (0, 1, 511, 512, 640):
            moved = np.where(flags[:, :usable], np.roll(changes, -at, axis=1), np.nan)
            sums, counts = np.nansum(moved, axis=0), (~np.isnan(moved)).sum(axis=0)
            m = sums.sum() / counts.sum()
            e = sums - m * counts
            v = e @ e + sum(2 * (1 - q / (one.horizon + 1)) * e[q:] @ e[:-q] for q in range(1, one.horizon + 1))
            assert one.statistics[at] == pytest.approx(m * counts.sum() / np.sqrt(v), rel=1e-7)


def test_of_a_long_history_the_same_thousand_shifts_are_looked_at() -> None:
    ground = walks(4, 2, 3_600)
    made = evidence_of(compile_script(RULE), ground)
    panel = ground.panel
    flags = [panel.bars(k)["volume"] > 950 for k in range(2)]
    for one in made.followed:
        assert len(one.shifts) == 1_001 and one.shifts[0] == 0 and len(set(one.shifts.tolist())) == 1_001
        assert (one.shifts == made.followed[0].shifts).all() and one.shifts[-1] < 3_600 - HORIZONS[-1]
        usable = 3_600 - one.horizon
        changes = [panel.bars(k)["close"][one.horizon :] / panel.bars(k)["open"][1 : usable + 1] - 1 for k in range(2)]
        usual = np.mean(changes)
        for at in (0, 1, 500, 1_000):
            sums = sum(
                np.where(f[:usable], np.roll(c, -one.shifts[at]) - usual, 0.0)
                for f, c in zip(flags, changes, strict=True)
            )
            counts = sum(f[:usable].astype(float) for f in flags)
            m = sums.sum() / counts.sum()
            e = sums - m * counts
            v = e @ e + sum(2 * (1 - q / (one.horizon + 1)) * e[q:] @ e[:-q] for q in range(1, one.horizon + 1))
            assert one.statistics[at] == pytest.approx(m * counts.sum() / np.sqrt(v), rel=1e-7)


def test_pure_chance_gets_every_chance_equally_often() -> None:
    program = compile_script(RULE)
    found = {h: [] for h in (1, 10)}
    for seed in range(300):
        made = evidence_of(program, walks(seed, 2, 150))
        for bars, kept in found.items():
            kept.append(made.at(bars).chance)
    for kept in found.values():
        # A chance is one of about 150 steps; drawn within its step it is spread evenly.
        spread = np.array(kept) - np.random.default_rng(1).uniform(0, 1 / 149, len(kept))
        assert stats.kstest(spread, "uniform").pvalue > 1e-3


def test_a_planted_edge_is_found_in_its_size() -> None:
    program = compile_script(RULE)
    made = evidence_of(program, walks(5, 20, 600, edge=0.004))
    five = made.at(5)
    assert five.difference == pytest.approx(5 * 0.004, abs=0.004)
    assert five.chance is not None and five.chance <= 0.005
    nothing = evidence_of(program, walks(5, 20, 600)).at(5)
    assert abs(nothing.difference or 0) < 0.004 and (nothing.chance or 0) > 0.01


def test_a_bearish_signal_is_good_where_prices_fall() -> None:
    ground = walks(5, 10, 400, edge=-0.004)
    up = evidence_of(compile_script(RULE), ground).at(5)
    down = evidence_of(compile_script(RULE.replace("bullish", "bearish")), ground).at(5)
    either = evidence_of(compile_script(RULE.replace("bullish", "neutral")), ground).at(5)
    assert up.chance > 0.99 and down.chance < 0.01 and either.chance < 0.01


def numbers_of(made: Evidence) -> list[object]:
    return [(h.count, h.days, h.mean, h.median, h.up, h.usual) for h in made.horizons]


def test_days_medians_and_shares_by_hand() -> None:
    closes = np.array([10.0, 11, 12, 11, 10, 12, 14, 13])
    opens = np.array([10.0, 10, 11, 12, 11, 10, 12, 14])
    volume = np.array([960.0, 0, 960, 0, 960, 0, 0, 960])
    bars = [daily_bars(closes, s, open=opens, volume=volume) for s in ("ONE", "TWO")]
    made = evidence_of(compile_script(RULE), trial_data_of(panel_of(bars)))
    one = made.at(1)
    # From the next open to the next close, after the bars 0, 2 and 4 of both symbols; bar 7 has none behind it.
    changes = [11 / 10 - 1, 11 / 12 - 1, 12 / 10 - 1]
    assert (one.count, one.days, len(made.places)) == (6, 3, 8)
    assert one.mean == pytest.approx(np.mean(changes)) and one.median == pytest.approx(np.median(changes))
    assert one.up == pytest.approx(2 / 3)
    assert one.usual == pytest.approx(np.mean([c / o - 1 for c, o in zip(closes[1:], opens[1:], strict=True)]))
    assert made.at(20).count == 0 and made.at(20).chance is None


def test_what_comes_before_the_first_day_does_not_count() -> None:
    whole = walks(3, 3, 200)
    at = int(whole.panel.times[80])
    late = [whole.panel.bars(k).part(80, 200) for k in range(3)]
    from_there = evidence_of(compile_script(RULE), TrialData(whole.panel, whole.grid, at))
    alone = evidence_of(compile_script(RULE), trial_data_of(panel_of(late)))
    assert numbers_of(from_there) == numbers_of(alone)
    assert [h.chance for h in from_there.horizons] == [h.chance for h in alone.horizons]


def test_parts_add_up_to_the_whole() -> None:
    made = evidence_of(compile_script(RULE), walks(3, 4, 700))
    whole = made.at(10)
    for parts in (by_year(made), by_weekday(made), by_group(made, {"S0": "Ferries", "S1": "Salt"})):
        assert sum(p.count for p in parts) == whole.count
        assert sum(p.mean * p.count for p in parts) / whole.count == pytest.approx(whole.mean)
    panel = made.ground.panel
    changes = [panel.bars(k)["close"][10:] / panel.bars(k)["open"][1:-9] - 1 for k in range(4)]
    years = [panel.column("year").reshape(4, -1)[k, :-10] for k in range(4)]
    for part in by_year(made):
        usual = np.concatenate([c[y == int(part.name)] for c, y in zip(changes, years, strict=True)]).mean()
        assert part.usual == pytest.approx(usual) and part.difference == pytest.approx(part.mean - usual)
    for part, rows in zip(by_group(made, {"S0": "Ferries", "S1": "Salt"}), ([2, 3], [0], [1]), strict=True):
        assert part.usual == pytest.approx(np.mean([changes[k] for k in rows]))
    assert [p.name for p in by_group(made, {"S0": "Ferries", "S1": "Salt"})] == ["no group", "Ferries", "Salt"]
    assert by_hour(made) == []


def test_a_symbol_with_prices_below_zero_adds_nothing() -> None:
    rng = np.random.default_rng(9)
    plain = [walk(rng, 300, f"S{k}") for k in range(2)]
    spread = walk(rng, 300, "SPREAD")
    for name in ("open", "high", "low", "close"):
        spread.columns[name] = spread.columns[name] - 100
    program = compile_script(RULE)
    alone, mixed = (evidence_of(program, trial_data_of(panel_of(bars))) for bars in (plain, [*plain, spread]))
    assert [h.chance for h in mixed.horizons] == [h.chance for h in alone.horizons] and mixed.overall == alone.overall
    assert [h.mean for h in mixed.horizons] == pytest.approx([h.mean for h in alone.horizons])
    assert mixed.fan.lines == pytest.approx(alone.fan.lines) and mixed.usual_fan.lines == pytest.approx(
        alone.usual_fan.lines
    )
    assert [p.usual for p in by_year(mixed)] == pytest.approx([p.usual for p in by_year(alone)])
    with pytest.raises(RunProblem, match="prices of 0 and below"):
        evidence_of(program, trial_data_of(panel_of([spread])))


def test_the_fan_is_made_of_the_paths() -> None:
    ground = walks(3, 2, 300)
    made = evidence_of(compile_script(RULE), ground)
    panel = ground.panel
    for horizon in HORIZONS:
        paths = []
        for place in made.places.tolist():
            end = int(panel.ends[0] if place < panel.ends[0] else panel.ends[1])
            if place + horizon < end:
                paths.append(panel.column("close")[place + horizon] / panel.column("open")[place + 1] - 1)
        told = made.fan.lines[:, horizon - 1]
        assert told == pytest.approx(np.quantile(paths, [0.1, 0.25, 0.5, 0.75, 0.9]))
    assert made.usual_fan.paths == panel.size


def test_sentences_say_what_is_weak_about_it() -> None:
    program = compile_script(RULE)
    few = evidence_of(program, walks(1, 1, 120))
    assert any("Only" in w for w in warnings(few)) and "later" in sentence(few)
    assert sentence(evidence_of(compile_script("rung 1\nsignal go = volume > 5000\n"), walks(1, 1, 60))) == (
        "`go` never occurred here."
    )
    crowd = evidence_of(compile_script("rung 1\nsignal go = day mod 10 == 5\n"), walks(1, 40, 700))
    assert any("one day" in w for w in warnings(crowd))
    always = evidence_of(compile_script("rung 1\nsignal go = close > 0\n"), walks(1, 1, 300))
    assert any("counted again" in w for w in warnings(always)) and always.at(10).chance == 1.0


def test_a_script_without_the_signal_gets_a_sentence() -> None:
    with pytest.raises(RunProblem, match="no signal"):
        evidence_of(compile_script("rung 1\nline close\n"), walks(1, 1, 60))
    with pytest.raises(RunProblem, match="several"):
        evidence_of(compile_script(RULE + "signal stay = volume < 10\n"), walks(1, 1, 60))
    with pytest.raises(RunProblem, match="no signal gone"):
        evidence_of(compile_script(RULE), walks(1, 1, 60), "gone")


@pytest.mark.parametrize("count", [1, 2, 3])
def test_hardly_any_bars(count: int) -> None:
    made = evidence_of(compile_script("rung 1\nsignal go = close > 0\n"), walks(1, 1, count))
    assert made.at(1).count == count - 1
    assert made.at(1).chance in (None, 1.0)
