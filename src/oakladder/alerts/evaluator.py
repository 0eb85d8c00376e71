"""Judges alerts on the bars that have closed, and on those in progress where an alert asks for it: each bar once.

Every bar is judged by what a run over history gives for it, so an alert says what a scan and a chart say. What was judged
and what came of it are written together (see `store`), before anything is told.
"""

from __future__ import annotations

import contextlib
import time
from collections import Counter
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import msgspec
import numpy as np

from oakladder.alerts.alert import Alert, AlertProblem, Once, Watched
from oakladder.alerts.closing import OpenBars, SymbolTimes, ends_of
from oakladder.alerts.delivery import deliveries_of
from oakladder.alerts.store import AlertStore, JudgedUntil, LogRow, new_id
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.append_log import Tail, tail_of
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.live_edge import LiveEdge
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_MINUTE
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.run.setup import laid_out
from oakladder.engine.scan.conditions import rules_of
from oakladder.engine.scan.run import HeldBars, held_lately
from oakladder.engine.universe.map import SkipReason
from oakladder.feeds.follower import Minute
from oakladder.feeds.recorder import News
from oakladder.rung.plan.inputs import OtherSymbol
from oakladder.rung.problems import RunProblem, ScriptError

#: After a reconnect, bars that closed more than so many seconds of the market before are listed as missed.
STILL_TOLD = 5 * 60
#: Seconds of the machine between two looks at the bars in progress of an alert.
BETWEEN_LOOKS = 1.0
#: Seconds of the machine after which bars that could not be read are tried again.
READ_AGAIN = 5.0
#: Bars are looked for so many days before the end of what was judged: a month's bar began then.
_LONGEST_BAR = 35 * 86_400


#: The ends of bars that have closed, by symbol, in order (UTC seconds).
Ends = Mapping[str, Sequence[int]]


@dataclass(slots=True)
class Evaluated:
    """The outcome of some news: rows that are new, rows of which what they told is no longer true, and sentences."""

    rows: list[LogRow] = field(default_factory=list)
    gone: list[LogRow] = field(default_factory=list)
    said: list[str] = field(default_factory=list)


@dataclass(slots=True)
class _State:
    """An alert that is being judged."""

    watched: Watched
    open: OpenBars
    judged: JudgedUntil
    #: The symbols that its scripts read besides the one of the bar.
    others: tuple[str, ...]
    #: Of each symbol the bar of its latest row that is not missed or muted.
    last: dict[str, int]
    #: The symbols of ``watched``, to find one quickly.
    names: frozenset[str]
    #: Rows of the bars in progress, by symbol.
    forming: dict[str, LogRow] = field(default_factory=dict)
    #: Symbols whose bars could not be read, and when to try again (monotonic seconds).
    unread: dict[str, float] = field(default_factory=dict)
    looked: float = 0.0
    #: Symbols whose bar in progress has changed since the last look.
    moved: set[str] = field(default_factory=set)


class AlertEvaluator:
    """Judges the alerts of a store over a library. ``list_symbols`` gives the symbols of a list of the user's,
    ``lists_stamp`` something that is another one once a list has changed.

    `look` belongs to one thread. One program at a time judges: the follower of the feed.
    """

    def __init__(
        self,
        library: BarLibrary,
        store: AlertStore,
        list_symbols: Callable[[str], Sequence[str]],
        lists_stamp: Callable[[], object] = lambda: None,
        clock: Callable[[], float] = time.time,
    ):
        self._library, self._store, self._clock = library, store, clock
        self._list_symbols, self._lists_stamp = list_symbols, lists_stamp
        self._times = SymbolTimes()
        self._states: dict[str, _State] = {}
        self._stamp: object = None
        #: Bars that closed at this time of the market or before are missed; None before the first hello.
        self._missed_upto: int | None = None
        self._is_reconnected = False
        self._told: set[str] = set()

    def connected(self) -> None:
        """A server has said hello; its time comes with the next news."""
        self._is_reconnected = True

    def look(self, news: News) -> Evaluated:
        """Judges what came. What the store cannot take is judged again next time. Raises `AlertProblem` where it cannot be
        read."""
        made = Evaluated()
        if news.now is None:
            return made
        if self._is_reconnected:
            first = self._missed_upto is None
            self._missed_upto = news.now if first else max(self._missed_upto or 0, news.now - STILL_TOLD)
            self._is_reconnected = False
        self._refresh(made)
        self._times.update(news.last, news.latest, news.lacking, news.now, time.monotonic())
        self._open(news)
        self._closed(news, made)
        for state in [s for s in self._states.values() if s.watched.alert.forming]:
            state.moved |= set(news.forming)
            with self._later(state, made):
                self._in_progress(state, news, made)
        return made

    def _open(self, news: News) -> None:
        """Opens the bars that new minutes belong to; the bars of a frame are found once for all alerts on it."""
        infos = self._library.infos
        for symbol, minutes in news.appended.new.items():
            ends: dict[BarSelection, list[int]] = {}
            for state in self._states.values():
                frame = state.watched.frame
                if symbol in state.names and symbol in infos:
                    if frame not in ends:
                        ends[frame] = ends_of(frame, infos[symbol].calendar, minutes)
                    state.open.add(symbol, ends[frame])
                    state.moved.add(symbol)

    @contextlib.contextmanager
    def _later(self, state: _State, made: Evaluated) -> Iterator[None]:
        """What the store cannot take is judged again next time; what others have written is reported all the same."""
        try:
            yield
        except AlertProblem as error:
            self._say(f"The alert {state.watched.alert.name} is judged again in a moment: {error}", made)

    # --- which alerts there are -----------------------------------------------------------------------

    def _refresh(self, made: Evaluated) -> None:
        """Takes in alerts that were added, changed, switched or removed."""
        self._library.take_in()
        stamp = self._store.stamp(), self._lists_stamp(), len(self._library.infos)
        if stamp == self._stamp:
            return
        alerts = {a.id: a for a in self._store.alerts() if a.is_on}
        judged = self._store.judged()
        self._states = {i: s for i, s in self._states.items() if self._is_same(s.watched, alerts.get(i))}
        for alert_id, alert in alerts.items():
            if alert_id not in self._states:
                try:
                    self._states[alert_id] = self._state(alert, judged.get(alert_id, JudgedUntil(alert.created)))
                except (AlertProblem, ScriptError, RunProblem, ValueError) as error:
                    self._say(f"The alert {alert.name} cannot be watched: {error}", made)
        self._stamp = stamp

    def _is_same(self, watched: Watched, alert: Alert | None) -> bool:
        return alert == watched.alert and self._symbols(alert) == watched.symbols

    def _symbols(self, alert: Alert) -> list[str]:
        return [alert.symbol] if alert.symbol else list(self._list_symbols(alert.saved.list_name))

    def _state(self, alert: Alert, judged: JudgedUntil) -> _State:
        condition = alert.condition(self._list_symbols)
        symbols = self._symbols(alert)
        watched = Watched(alert, condition, alert.frame, symbols)
        last, names = self._store.last_rows(alert.id), frozenset(symbols)
        state = _State(watched, OpenBars(alert.frame), judged, _others(watched), last, names)
        infos = self._library.infos
        for symbol in symbols:
            if symbol in infos:
                self._open_stored(state, infos[symbol])
        if alert.forming:
            rows = self._store.log(alert=alert.id, newest=200)
            state.forming = {
                r.symbol: r for r in rows if r.gone is None and not r.missed and state.last.get(r.symbol) == r.bar
            }
        return state

    def _open_stored(self, state: _State, info: SymbolInfo) -> None:
        """Opens the bars that are in the library and were not judged."""
        until = state.judged.of(info.symbol)
        try:
            last = self._library.last_stored(info.symbol, ONE_MINUTE)
            live = self._library.log.tail(info.symbol, ONE_MINUTE)
            last = int(live.times[-1]) if len(live) else last
            if last is None or last < until:
                return
            times = self._library.base(info.symbol, ONE_MINUTE).times
        except DataProblem:
            return
        recent = times[np.searchsorted(times, until - _LONGEST_BAR) :]
        state.open.add(info.symbol, ends_of(state.watched.frame, info.calendar, recent))

    def _say(self, sentence: str, made: Evaluated) -> None:
        """Something is said once."""
        if sentence not in self._told:
            self._told.add(sentence)
            made.said.append(sentence)

    # --- closed bars ----------------------------------------------------------------------------------

    def _closed(self, news: News, made: Evaluated) -> None:
        """Judges the bars that have closed; alerts that look at the same bars together."""
        groups: dict[Hashable, list[_State]] = {}
        closed: dict[Hashable, Ends] = {}
        for state in self._states.values():
            ends = self._ends(state, news)
            if ends:
                key = state.watched.frame, tuple((symbol, tuple(times)) for symbol, times in ends.items())
                groups.setdefault(key, []).append(state)
                closed[key] = ends
        for group, states in groups.items():
            ends, waiting = closed[group], list(states)
            try:
                found = self._held(states, ends, made)
                for state in states:
                    with self._later(state, made):
                        self._settle(state, found[state.watched.alert.id], ends, made)
                        waiting.remove(state)
            finally:
                for state in waiting:  # they are judged the next time
                    self._open_again(state, ends)

    def _ends(self, state: _State, news: News) -> Ends:
        """The ends of the bars that have closed and were not judged, by symbol."""
        assert news.now is not None
        made, clock = {}, time.monotonic()
        for symbol in state.watched.symbols:
            if state.open.is_open(symbol) and state.unread.get(symbol, 0.0) <= clock:
                upto = self._times.with_others(symbol, state.others)
                ends = state.open.closed(symbol, upto, now=news.now)
                ends = [end for end in ends if end > state.judged.of(symbol)]
                if ends:
                    made[symbol] = ends
        return made

    @staticmethod
    def _open_again(state: _State, ends: Ends) -> None:
        for symbol, some in ends.items():
            state.open.add(symbol, some)

    def _settle(self, state: _State, held: Sequence[HeldBars], ends: Ends, made: Evaluated) -> None:
        """Writes the rows of the closed bars of an alert."""
        unread = {symbol: some for symbol, some in ends.items() if symbol in state.unread}
        self._open_again(state, unread)
        rows, before = [], dict(state.last)
        for one in held:
            for end in ends[one.symbol]:
                at = int(np.searchsorted(one.closes, end))
                if at < len(one.closes) and one.closes[at] == end:
                    rows.append(self._settled(state, one, at, end, made))
        judged = state.judged.with_symbols({s: times[-1] for s, times in ends.items() if s not in unread})
        try:
            self._write(state, rows, _most_common(judged, state.watched.symbols), made)
        except BaseException:
            state.last = before
            raise

    def _held(self, states: Sequence[_State], ends: Ends, made: Evaluated) -> dict[str, list[HeldBars]]:
        """Whether the conditions of alerts on the same bars held there, by the alerts' ids. Symbols whose bars cannot be
        read just now are noted as ``unread``."""
        frame, bars = states[0].watched.frame, max(len(e) for e in ends.values()) + 2
        for state in states:
            state.unread = {s: again for s, again in state.unread.items() if s not in ends}
        found: dict[str, list[HeldBars]] = {s.watched.alert.id: [] for s in states}
        waiting = list(ends)
        while waiting:
            try:
                conditions = [s.watched.condition for s in states]
                some, skipped = held_lately(conditions, self._library, waiting, frame, bars)
            except DataProblem as error:  # a file is being replaced, or the library moved
                self._put_off(states, waiting)
                self._say(f"Alerts wait for bars that cannot be read: {error}", made)
                return found
            except RunProblem as error:
                if len(states) > 1:  # one of them: the others are judged all the same
                    return {i: held for s in states for i, held in self._held([s], ends, made).items()}
                self._say(f"The alert {states[0].watched.alert.name} cannot be judged: {error}", made)
                return found
            self._put_off(states, [one.symbol for one in skipped if one.code is SkipReason.NOT_READ])
            for state, one in ((state, one) for state in states for one in skipped):
                self._say(f"The alert {state.watched.alert.name} leaves out {one.symbol}: {one.reason}", made)
            short = {h.symbol for h in some[0] if len(h.closes) == bars and h.closes[0] > ends[h.symbol][0]}
            for state, held in zip(states, some, strict=True):
                found[state.watched.alert.id] += [h for h in held if h.symbol not in short]
            waiting, bars = sorted(short), bars * 8
        return found

    @staticmethod
    def _put_off(states: Sequence[_State], symbols: Iterable[str]) -> None:
        again = time.monotonic() + READ_AGAIN
        for state in states:
            state.unread |= dict.fromkeys(symbols, again)

    def _settled(self, state: _State, one: HeldBars, at: int, end: int, made: Evaluated) -> LogRow | None:
        """The row of a closed bar, if there is one to write. A row that was written while it formed is settled."""
        forming = state.forming.get(one.symbol)
        if forming is not None and forming.bar == int(one.times[at]):
            state.forming.pop(one.symbol)
            if not one.held[at]:
                self._tell_gone(forming, state.watched.alert, made)
            return None
        if not one.held[at]:
            return None
        return self._row(state, one.symbol, int(one.times[at]), end, float(one.prices[at]))

    def _row(self, state: _State, symbol: str, bar: int, end: int, price: float) -> LogRow | None:
        alert, info = state.watched.alert, self._library.infos[symbol]
        missed = self._missed_upto is not None and end <= self._missed_upto
        if not _is_within(alert, info, end):
            return None
        last = state.last.get(symbol)
        if alert.once is Once.DAY and not missed and last is not None:
            days = info.calendar.days(np.array([last, bar], dtype=np.int64))
            if days[0] == days[1]:
                return None
        muted = not missed and alert.snoozed_until is not None and end <= alert.snoozed_until
        frame = str(state.watched.frame.timeframe)
        text = f"{alert.signal} on {symbol} {frame}, {price:,.{info.decimals}f}"
        if not missed and not muted:
            state.last[symbol] = bar
        return LogRow(
            new_id(), alert.id, alert.name, symbol, frame, bar, alert.signal, price, text,
            missed=missed, muted=muted, written=self._clock(), script=alert.script,
        )  # fmt: skip

    def _write(self, state: _State, made_rows: Sequence[LogRow | None], judged: JudgedUntil, made: Evaluated) -> None:
        """Writes rows and how far was judged. An alert that tells once only has done its work with the first."""
        alert, rows, off = state.watched.alert, [row for row in made_rows if row is not None], []
        if alert.once is Once.EVER:
            told = next((k for k, row in enumerate(rows) if not row.missed and not row.muted), None)
            if told is not None:
                rows, off = rows[: told + 1], [msgspec.structs.replace(alert, is_on=False)]
        sent = [d for row in rows if not row.missed and not row.muted for d in deliveries_of(alert, row, self._clock())]
        new = self._store.write(rows, {alert.id: judged}, sent, off)
        if off:
            del self._states[alert.id]
        state.judged = judged
        made.rows += new

    # --- bars in progress -----------------------------------------------------------------------------

    def _in_progress(self, state: _State, news: News, made: Evaluated) -> None:
        """Looks at the bars that form, a symbol once a second at most."""
        moved = [s for s in state.watched.symbols if s in state.moved]
        if not moved or time.monotonic() - state.looked < BETWEEN_LOOKS:
            return
        state.looked = time.monotonic()
        state.moved.clear()
        edge = LiveEdge(self._library, {s: _one(news.forming[s]) for s in news.forming if s in self._library.infos})
        rows: list[LogRow] = []
        for one in self._last(state, edge, moved, made):
            if not len(one.times) or one.closes[-1] <= state.judged.of(one.symbol):
                continue
            bar = int(one.times[-1])
            known = state.forming.get(one.symbol)
            if known is not None and known.bar == bar:
                if not one.held[-1]:
                    self._tell_gone(known, state.watched.alert, made)
            elif one.held[-1]:
                row = self._row(state, one.symbol, bar, int(one.closes[-1]), float(one.prices[-1]))
                if row is not None:
                    rows.append(row)
        if rows:
            self._write(state, rows, state.judged, made)
            state.forming |= {row.symbol: row for row in rows}

    def _last(self, state: _State, edge: LiveEdge, symbols: Iterable[str], made: Evaluated) -> list[HeldBars]:
        try:
            return held_lately([state.watched.condition], edge, symbols, state.watched.frame, 1)[0][0]
        except (RunProblem, DataProblem) as error:
            self._say(f"The alert {state.watched.alert.name} cannot be judged: {error}", made)
            return []

    def _tell_gone(self, row: LogRow, alert: Alert, made: Evaluated) -> None:
        """What a row told of a bar in progress is no longer true: told once."""
        now = self._clock()
        sent = [] if row.muted else deliveries_of(alert, row, now, gone=True)
        if self._store.tell_gone({row.id: now}, sent) and not row.muted:
            made.gone.append(replace(row, gone=now))


def _one(minute: Minute) -> Tail:
    return tail_of([(minute.time, *minute[2:])])


def _others(watched: Watched) -> tuple[str, ...]:
    """The symbols that the scripts of an alert read besides the one of the bar."""
    made = []
    for rule in rules_of(watched.condition):
        variant, fixed, _ = laid_out(rule.program, rule.settings, [rule.op()], rule.timeframe)
        for what in variant.code.inputs:
            if isinstance(what, OtherSymbol):
                made.append(str(fixed.get(what.fixed[0], "")))
    return tuple(dict.fromkeys(name for name in made if name))


def _is_within(alert: Alert, info: SymbolInfo, end: int) -> bool:
    """Whether an alert reports a bar that ended at a time."""
    if alert.until is not None and end > alert.until:
        return False
    if alert.hours is None:
        return True
    first, last = alert.hours
    minute = int(info.calendar.local(np.array([end], dtype=np.int64))[0] // 60 % 1440)
    return first <= minute < last if first <= last else minute >= first or minute < last


def _most_common(judged: JudgedUntil, symbols: Sequence[str]) -> JudgedUntil:
    """The same, told in fewer words: what holds of most symbols once."""
    until = {s: judged.of(s) for s in symbols}
    if not until:
        return judged
    most = Counter(until.values()).most_common(1)[0][0]
    return JudgedUntil(most, {s: t for s, t in until.items() if t != most})
