"""Alerts tell of each bar on which their condition holds, once, whatever comes late, again or never, and whoever is killed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import msgspec
import numpy as np
import pytest

from bars.store.test_append_log import CALENDAR, NAMES, OPENS, market_of, minutes
from oakladder.alerts.alert import Alert, AlertProblem, Once, ScriptCopy, of_signal
from oakladder.alerts.closing import GRACE, WAIT
from oakladder.alerts.evaluator import AlertEvaluator, Evaluated
from oakladder.alerts.store import AlertStore, JudgedUntil, LogRow, new_id
from oakladder.bars.store.append_log import Tail
from oakladder.bars.store.appending import Appended, Appender
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.offsets import Unreadable
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.scan.run import held_lately
from oakladder.feeds.follower import Minute
from oakladder.feeds.recorder import News

SCRIPT = """rung 1
setting least = 12.0 range 0..30
signal go = close > least and close > ema(close, 4)
signal with_other = close > close of "L0"
signal longer = close > sma(close, 3) on 15m
"""
BEGIN = int(OPENS[0])


def alert(name: str, signal: str, timeframe: str, **others: object) -> Alert:
    copy = ScriptCopy("rule.rung", SCRIPT)
    made = {"created": BEGIN} | others
    return of_signal(new_id(), name, copy, signal, Timeframe.parse(timeframe), list_name="All symbols", **made)


@dataclass
class Desk:
    """A library, alerts and a judge, and a feed that is played by hand."""

    folder: Path
    library: BarLibrary = field(init=False)
    store: AlertStore = field(init=False)
    told: list[LogRow] = field(default_factory=list)
    gone: list[LogRow] = field(default_factory=list)
    said: list[str] = field(default_factory=list)
    news: News = field(default_factory=News)

    def __post_init__(self) -> None:
        self.library = market_of(self.folder / "bars")
        self.store = AlertStore(self.folder / "alerts.sqlite")
        self.restart()

    def restart(self, now: int = BEGIN) -> None:
        """The program begins anew."""
        self.library = BarLibrary(self.folder / "bars")
        self.appender = Appender(self.library)
        self.evaluator = AlertEvaluator(self.library, self.store, lambda name: NAMES)
        self.evaluator.connected()
        self.news = News(now=now)
        self.look()

    def add(self, made: Alert) -> Alert:
        self.store.add(made, JudgedUntil(made.created))
        return made

    def come(self, some: dict[str, Tail], now: int, *, look: bool = True) -> None:
        """Final minutes come, and are looked at."""
        self.news.appended = self.appender.append(some, {}, now)
        self.news.now = now
        for name, tail in some.items():
            if len(tail):
                last = int(tail.times[-1])
                self.news.last[name] = max(last, self.news.last.get(name, 0))
                self.news.latest[name] = max(last, self.news.latest.get(name, 0))
        if look:
            self.look()

    def look(self) -> Evaluated:
        made = self.evaluator.look(self.news)
        self.news.appended = Appended()
        self.told += made.rows
        self.gone += made.gone
        self.said += made.said
        return made

    def held(self, made: Alert, *, after: int = BEGIN, upto: int = 10**12) -> set[tuple[str, int]]:
        """On which bars a run over history says that the condition holds."""
        (found,), _ = held_lately([made.condition(lambda _: NAMES)], self.library, NAMES, made.frame, 10_000)
        return {
            (one.symbol, int(time))
            for one in found
            for time, close, held in zip(one.times, one.closes, one.held, strict=True)
            if held and after < close <= upto
        }

    def rows(self, made: Alert) -> list[tuple[str, int]]:
        return [(r.symbol, r.bar) for r in self.store.log(alert=made.id)]


@pytest.fixture
def desk(tmp_path: Path) -> Desk:
    return Desk(tmp_path)


@pytest.mark.parametrize("seed", [0, 1, *(pytest.param(k, marks=pytest.mark.nightly) for k in range(2, 12))])
def test_each_bar_on_which_history_says_it_holds_is_told_once(
    desk: Desk, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Minutes come in any portions, some again and some late behind a gap; the program begins anew now and then, and its
    store fails now and then."""
    rng = np.random.default_rng(seed)
    frames = ["1m", "5m", "15m", "1d"]
    alerts = [desk.add(alert(f"a{k}", "go" if k else "longer", f)) for k, f in enumerate(frames)]
    alerts.append(desk.add(alert("other", "with_other", "5m")))
    alerts.append(desk.add(alert("extended", "go", "5m", extended=True)))
    whole = {n: minutes(np.concatenate([OPENS[d] + 60 * np.arange(-20, 365)[:: 3 if d == 0 else 1][:300] for d in range(2)]), 31 * seed + k) for k, n in enumerate(NAMES)}  # fmt: skip
    at, late = dict.fromkeys(NAMES, 0), {n: set[int]() for n in NAMES}
    real = AlertStore.write
    failures: list[int] = []

    def failing(self: AlertStore, *arguments: object) -> list[LogRow]:
        if rng.random() < 0.1:
            failures.append(1)
            raise AlertProblem("the disk is full")
        return real(self, *arguments)  # type: ignore[arg-type]

    monkeypatch.setattr(AlertStore, "write", failing)
    now = BEGIN - 1200
    while any(at[n] < len(whole[n]) for n in NAMES):
        behind = int(rng.integers(1, 15))
        now = max(int(whole[NAMES[0]].times[min(at[NAMES[0]] + behind, len(whole[NAMES[0]]) - 1)]) + 60, now)
        some = {}
        for name in NAMES:
            end = int(np.searchsorted(whole[name].times, now - 60, "right"))
            times = set(range(at[name], end)) | late[name]
            if (
                name != NAMES[0] and rng.random() < 0.15
            ):  # some is lost, and comes later; of the one that others read none
                lost = {k for k in times if rng.random() < 0.5}
                desk.news.lacking[name] = np.inf
            else:
                lost = set()
                desk.news.lacking.pop(name, None)
            late[name], at[name] = lost, end
            if rng.random() < 0.3:  # repeats
                times |= {k for k in range(max(end - 9, 0), end) if k not in lost}
            picked = np.array(sorted(times - lost), dtype=np.int64)
            if len(picked):
                some[name] = whole[name].some(picked)
        failures.clear()
        desk.come(some, now)
        if rng.random() < (0.5 if failures else 0.05):  # killed before what it judged was written
            desk.restart(BEGIN)
    desk.news.lacking.clear()
    monkeypatch.setattr(AlertStore, "write", real)
    desk.come({n: whole[n].some(np.array(sorted(late[n]), dtype=np.int64)) for n in NAMES if late[n]}, now + 600)
    for made in alerts:
        rows = desk.rows(made)
        assert len(set(rows)) == len(rows)
        assert set(rows) == desk.held(made, upto=now + 600 - GRACE) and rows, made.name
        assert all(not r.missed for r in desk.store.log(alert=made.id))
    assert all("the disk is full" in words for words in desk.said)
    assert len({r.id for r in desk.told}) == len(desk.told) == len(desk.store.log())


def test_a_bar_closes_with_its_last_minute_a_later_one_or_a_little_time(desk: Desk) -> None:
    made = desk.add(alert("five", "go", "5m"))
    whole = minutes(OPENS[0] + 60 * np.arange(30), 3)
    whole.columns["close"][:] = np.arange(30) + 20.0
    desk.come({"L0": whole.some(slice(0, 4))}, BEGIN + 250)
    assert not desk.told
    desk.come({"L0": whole.some(slice(4, 5))}, BEGIN + 299)  # its last minute is final, before its end by the clock
    assert [r.bar for r in desk.told] == [BEGIN] and desk.told[0].price == 24.0
    assert desk.told[0].text == "go on L0 5m, 24.00" and desk.told[0].written > 0
    desk.come({"L0": whole.some(slice(5, 7))}, BEGIN + 420)
    desk.news.latest["L0"] = BEGIN + 600  # a later minute is in progress
    desk.look()
    assert [r.bar for r in desk.told] == [BEGIN, BEGIN + 300] and desk.told[1].price == 26.0
    desk.come({"L0": whole.some(slice(10, 12))}, BEGIN + 720)
    desk.come({}, BEGIN + 900 + GRACE - 1)
    assert len(desk.told) == 2
    desk.come({}, BEGIN + 900 + GRACE)
    assert [r.bar for r in desk.told][2:] == [BEGIN + 600] and set(desk.rows(made)) == desk.held(made)


def test_no_bar_of_a_symbol_closes_while_it_has_a_gap_that_is_young(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk.add(alert("one", "go", "1m"))
    clock = [1000.0]
    monkeypatch.setattr("oakladder.alerts.evaluator.time.monotonic", lambda: clock[0])
    whole = minutes(OPENS[0] + 60 * np.arange(9), 3)
    whole.columns["close"][:] = np.arange(9) + 20.0
    desk.news.lacking["L0"] = 1000.0
    desk.come({"L0": whole.some(slice(3, 6)), "L1": whole.some(slice(0, 6))}, BEGIN + 400)
    assert {r.symbol for r in desk.told} == {"L1"}
    desk.come({"L0": whole.some(slice(0, 3))}, BEGIN + 410)
    assert {r.symbol for r in desk.told} == {"L1"}
    clock[0] += 5.0
    desk.look()
    assert [r.bar for r in desk.told if r.symbol == "L0"] == [int(t) for t in whole.times[:6]]


def test_another_symbol_that_is_read_is_waited_for_but_not_for_long(desk: Desk) -> None:
    desk.add(alert("other", "with_other", "5m"))
    high = minutes(OPENS[0] + 60 * np.arange(20), 3)
    high.columns["close"][:] = 900.0
    low = minutes(OPENS[0] + 60 * np.arange(20), 4)
    desk.come({"L0": low.some(slice(0, 5)), "L1": high.some(slice(0, 5))}, BEGIN + 300)
    assert [r.symbol for r in desk.told] == ["L1"]
    desk.come({"L1": high.some(slice(5, 10))}, BEGIN + 600)
    assert len(desk.told) == 1
    desk.come({"L0": low.some(slice(5, 10))}, BEGIN + 601)
    assert len(desk.told) == 2
    desk.come({"L1": high.some(slice(10, 15))}, BEGIN + 900 + GRACE + WAIT - 1)
    assert len(desk.told) == 3  # L0 has nothing more, and three seconds after its end its bar is closed as well


def test_how_often_it_tells(desk: Desk) -> None:
    whole = minutes(np.concatenate([OPENS[d] + 60 * np.arange(5) for d in range(2)]), 3)
    whole.columns["close"][:] = np.arange(10) + 20.0
    made = {once: desk.add(alert(once.value, "go", "1m", once=once)) for once in Once}
    for k in range(10):
        desk.come({n: whole.some(slice(k, k + 1)) for n in ("L0", "L1")}, int(whole.times[k]) + 60)
    assert len(desk.rows(made[Once.BAR])) == 20
    assert sorted(desk.rows(made[Once.DAY])) == sorted((n, int(OPENS[d])) for d in range(2) for n in ("L0", "L1"))
    assert len(desk.rows(made[Once.EVER])) == 1 and not desk.store.named("ever").is_on


def test_once_a_day_holds_for_bars_that_come_together(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    whole = minutes(np.concatenate([OPENS[d] + 60 * np.arange(5) for d in range(2)]), 3)
    whole.columns["close"][:] = np.arange(10) + 20.0
    made = desk.add(alert("day", "go", "1m", once=Once.DAY))
    real = AlertStore.write
    monkeypatch.setattr(AlertStore, "write", lambda *_: _full())
    desk.come({"L0": whole}, int(whole.times[-1]) + 60)
    assert not desk.rows(made)
    monkeypatch.setattr(AlertStore, "write", real)
    desk.look()
    assert desk.rows(made) == [("L0", int(OPENS[0])), ("L0", int(OPENS[1]))]


def _full() -> list[LogRow]:
    raise AlertProblem("the disk is full")


def test_hours_an_end_and_a_pause(desk: Desk) -> None:
    whole = minutes(OPENS[0] + 60 * np.arange(9), 3)
    whole.columns["close"][:] = 29.0 + np.arange(9)
    hours = desk.add(alert("hours", "go", "1m", hours=(543, 545)))
    until = desk.add(alert("until", "go", "1m", until=BEGIN + 180))
    paused = desk.add(alert("paused", "go", "1m", snoozed_until=BEGIN + 240))
    desk.come({"L0": whole}, BEGIN + 540)
    assert [b for _, b in desk.rows(hours)] == [BEGIN + 120, BEGIN + 180]  # they end at 09:03 and 09:04
    assert len(desk.rows(until)) == 3
    rows = desk.store.log(alert=paused.id)
    assert [r.muted for r in rows] == [True] * 4 + [False] * 5 and not any(r.told for r in rows)


def test_what_closed_while_no_program_followed_is_missed(desk: Desk) -> None:
    made = desk.add(alert("one", "go", "1m"))
    whole = minutes(OPENS[0] + 60 * np.arange(60), 3)
    whole.columns["close"][:] = 20.0 + np.arange(60)
    desk.come({"L0": whole.some(slice(0, 10))}, BEGIN + 600)
    assert not any(r.missed for r in desk.told) and len(desk.told) == 10
    desk.restart(BEGIN + 1800)
    desk.come({"L0": whole.some(slice(10, 32))}, BEGIN + 1920)
    rows = desk.store.log(alert=made.id)
    assert [r.missed for r in rows] == [False] * 10 + [True] * 20 + [False] * 2
    desk.evaluator.connected()  # the connection was lost for twenty minutes
    desk.news.now = BEGIN + 3120
    desk.come({"L0": whole.some(slice(32, 52))}, BEGIN + 3120)
    rows = desk.store.log(alert=made.id)[32:]
    assert [r.missed for r in rows] == [True] * 15 + [False] * 5


def test_bars_that_were_in_the_library_and_not_judged_when_the_program_was_killed(desk: Desk) -> None:
    made = desk.add(alert("five", "go", "5m"))
    whole = minutes(OPENS[0] + 60 * np.arange(20), 3)
    whole.columns["close"][:] = 20.0 + np.arange(20)
    desk.come({"L0": whole.some(slice(0, 10))}, BEGIN + 600, look=False)
    desk.restart(BEGIN + 600)
    desk.news.now = BEGIN + 620
    desk.look()
    rows = desk.store.log(alert=made.id)
    assert [(r.bar, r.missed) for r in rows] == [(BEGIN, True), (BEGIN + 300, True)]


def test_a_correction_is_not_judged_again(desk: Desk) -> None:
    desk.add(alert("one", "go", "1m"))
    whole = minutes(OPENS[0] + 60 * np.arange(5), 3)
    whole.columns["close"][:] = 11.0
    desk.come({"L0": whole}, BEGIN + 300)
    assert not desk.told
    whole.columns["close"][:], whole.columns["high"][:] = 30.0, 31.0
    desk.come({"L0": whole}, BEGIN + 301)
    assert not desk.told and desk.library.bars("L0", Timeframe.parse("1m"))["close"][-1] == 30.0


def test_as_it_forms_it_tells_once_a_bar_and_once_that_it_is_no_longer_true(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = desk.add(alert("forms", "go", "5m", forming=True))
    monkeypatch.setattr("oakladder.alerts.evaluator.BETWEEN_LOOKS", 0.0)
    low = minutes(OPENS[0] + 60 * np.arange(10), 3)
    low.columns["close"][:] = 11.0
    desk.come({"L0": low.some(slice(0, 1))}, BEGIN + 61)

    def forms(minute: int, close: float) -> None:
        time = BEGIN + 60 * minute
        desk.news.forming["L0"] = Minute("L0", time, 11.0, max(close, 11.0), min(close, 11.0), close, 5.0)
        desk.news.latest["L0"], desk.news.now = time, time + 30
        desk.look()

    forms(1, 11.5)
    assert not desk.told
    forms(1, 25.0)
    forms(1, 26.0)
    assert [(r.bar, r.price) for r in desk.told] == [(BEGIN, 25.0)] and not desk.gone
    forms(1, 11.0)
    forms(1, 27.0)
    forms(1, 11.0)
    assert len(desk.told) == 1 and [r.bar for r in desk.gone] == [BEGIN]
    desk.news.forming.clear()
    desk.come({"L0": low.some(slice(1, 5))}, BEGIN + 300)
    assert len(desk.told) == 1 and len(desk.gone) == 1
    forms(5, 30.0)
    assert [r.bar for r in desk.told] == [BEGIN, BEGIN + 300]
    desk.restart(BEGIN)  # and what it told is no longer true when the bar closes
    desk.news.now, desk.news.last = BEGIN + 400, {"L0": BEGIN + 240}
    desk.come({"L0": low.some(slice(5, 10))}, BEGIN + 600)
    assert [r.bar for r in desk.gone] == [BEGIN, BEGIN + 300]
    assert [r.bar for r in desk.store.log(alert=made.id)] == [BEGIN, BEGIN + 300]


def test_alerts_that_are_added_changed_and_removed_are_seen_at_once(desk: Desk) -> None:
    whole = minutes(OPENS[0] + 60 * np.arange(9), 3)
    whole.columns["close"][:] = 20.0 + np.arange(9)
    desk.come({"L0": whole.some(slice(0, 2))}, BEGIN + 120)
    made = desk.add(alert("late", "go", "1m", created=BEGIN + 120))
    desk.come({"L0": whole.some(slice(2, 4))}, BEGIN + 240)
    assert len(desk.rows(made)) == 2
    desk.store.change(msgspec.structs.replace(made, is_on=False))
    desk.come({"L0": whole.some(slice(4, 6))}, BEGIN + 360)
    assert len(desk.rows(made)) == 2
    desk.store.change(msgspec.structs.replace(made, is_on=True), JudgedUntil(BEGIN + 360))
    desk.come({"L0": whole.some(slice(6, 7))}, BEGIN + 420)
    assert len(desk.rows(made)) == 3
    desk.store.remove(made.id)
    desk.come({"L0": whole.some(slice(7, 9))}, BEGIN + 540)
    assert len(desk.rows(made)) == 3 and not desk.store.judged()


def test_an_alert_that_cannot_be_judged_is_said_once_and_the_others_go_on(desk: Desk) -> None:
    copy = ScriptCopy("rule.rung", 'rung 1\nsignal go = close > close of "NOWHERE"')
    broken = of_signal(new_id(), "broken", copy, "go", Timeframe.parse("1m"), list_name="All symbols", created=BEGIN)
    desk.add(broken)
    made = desk.add(alert("fine", "go", "1m"))
    whole = minutes(OPENS[0] + 60 * np.arange(4), 3)
    whole.columns["close"][:] = 20.0 + np.arange(4)
    for k in range(4):
        desk.come({"L0": whole.some(slice(k, k + 1))}, BEGIN + 60 * k + 60)
    assert len(desk.rows(made)) == 4 and len(desk.said) == 1 and "broken" in desk.said[0]


def test_bars_that_cannot_be_read_just_now_are_judged_once_they_can(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An import replaces files meanwhile, or the library is moved: nothing that closed then is passed over."""
    made, clock = desk.add(alert("one", "go", "1m")), [1000.0]
    monkeypatch.setattr("oakladder.alerts.evaluator.time.monotonic", lambda: clock[0])
    whole = minutes(OPENS[0] + 60 * np.arange(6), 3)
    whole.columns["close"][:] = 20.0 + np.arange(6)
    real = BarLibrary.stored_panel

    def replaced(self: BarLibrary, names: list[str], *others: object) -> object:
        if "L0" in names:
            raise Unreadable("L0", "Its file cannot be read: it is being replaced.")
        return real(self, names, *others)  # type: ignore[arg-type]

    monkeypatch.setattr(BarLibrary, "stored_panel", replaced)
    desk.come({n: whole.some(slice(0, 3)) for n in ("L0", "L1")}, BEGIN + 180)
    assert {s for s, _ in desk.rows(made)} == {"L1"} and len(desk.said) == 1 and "L0" in desk.said[0]
    desk.come({n: whole.some(slice(3, 4)) for n in ("L0", "L1")}, BEGIN + 240)
    monkeypatch.setattr(BarLibrary, "stored_panel", real)
    clock[0] += 6.0
    desk.come({n: whole.some(slice(4, 6)) for n in ("L0", "L1")}, BEGIN + 360)
    assert set(desk.rows(made)) == desk.held(made) and len(desk.rows(made)) == 12


def test_the_frame_of_an_alert() -> None:
    assert alert("x", "go", "5m", extended=True).frame == BarSelection(Timeframe.parse("5m"), True)
    names: Sequence[str] = [a.name for a in (alert("  two\u200b  words ", "go", "1d"),)]
    assert names == ["two words"] and CALENDAR.start == 540
    for wrong in ("", "ftp://x", "http://", "https://a b"):
        if wrong:
            with pytest.raises(AlertProblem, match="no address"):
                alert("x", "go", "1d", post=wrong)
    with pytest.raises(AlertProblem, match="e-mail"):
        alert("x", "go", "1d", mail="someone")
