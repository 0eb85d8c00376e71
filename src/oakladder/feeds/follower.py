"""What a client of a feed knows and asks for, without a connection: messages go in, and what follows from them comes out.

The rules are those of `docs/feed.md`. Nothing here waits, sends or writes: `client` does.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from oakladder.feeds.messages import (
    VERSION,
    Bar,
    Beat,
    CaughtUp,
    ClientHello,
    Described,
    FromServer,
    NotUnderstood,
    ServerHello,
    Symbols,
    Trade,
    Trouble,
    Want,
    moment,
    seconds,
)

MINUTE, HOUR = 60, 3600
#: Seconds of the market: how far ahead of its time a message may be, and how far back a new connection asks for corrections.
_AHEAD, _BACK = MINUTE, HOUR
#: A market closes for some days at most: where its time goes on by more, it is said.
_JUMP = 14 * 24 * HOUR
#: Kinds of symbols whose prices may be 0 and below.
_ANY_PRICE = frozenset({"spread", "future", "rate"})
#: No size and no price is as large as this.
_MOST = 1e15


class Minute(NamedTuple):
    """A minute of a symbol: its opening in UTC seconds, and its numbers."""

    symbol: str
    time: int
    open: float
    high: float
    low: float
    close: float
    volume: float


@dataclass(slots=True)
class Merged:
    """Messages of minutes in progress, from one number to another, of which the later ones are enough."""

    symbol: str
    first: int
    last: int


@dataclass(slots=True)
class Taken:
    """What a message brought: a final minute, which may be known already, or a minute in progress; what to ask the server
    for; sentences that a user should see."""

    final: Minute | None = None
    forming: Minute | None = None
    #: Symbols of which all that was missing has come, or is not to be had.
    whole: list[str] = field(default_factory=list)
    described: list[Described] = field(default_factory=list)
    want: Want | None = None
    said: list[str] = field(default_factory=list)
    #: Whether the connection is of no use.
    give_up: bool = False


@dataclass(slots=True)
class _Symbol:
    """One symbol of the feed."""

    #: The last number that was seen on this connection.
    seq: int = 0
    #: The last final minute before the first that may be missing; None where nothing is known.
    sure: int | None = None
    #: What `sure` was when the last message came that had the number that was due: what was lost since lies after it.
    #: A `caught-up` has no number, so what it says may count on messages that were lost just before it.
    proven: int | None = None
    #: The latest final minute that came.
    last: int | None = None
    #: Whether something may be missing, and whether more was lost since it was last asked for.
    lacks: bool = False
    again: bool = False
    #: Minutes that were refused and asked for once more.
    asked: set[int] = field(default_factory=set)
    forming: Minute | None = None
    #: The last minute in progress that came as a bar: trades add nothing to it.
    told_as_bar: int | None = None


class Follower:
    """Follows some symbols of a feed, or all of them, over any number of connections."""

    def __init__(self, symbols: Iterable[str] | None = None, token: str | None = None):
        self._wanted = None if symbols is None else list(dict.fromkeys(symbols))
        self._token = token
        self._symbols: dict[str, _Symbol] = {}
        self._described: dict[str, Described] = {}
        self._greeted = False
        #: The market's time when this connection began: nothing before it is missed of a symbol that was not followed before.
        self._began: int | None = None
        #: The largest time that the server told, UTC seconds; None before its first.
        self.now: int | None = None
        self.name = ""
        #: How often something was refused or skipped, by what it was.
        self.counts: Counter[str] = Counter()

    # --- what is known --------------------------------------------------------------------------------

    @property
    def greeted(self) -> bool:
        """Whether the server has said hello on this connection."""
        return self._greeted

    @property
    def lacking(self) -> list[str]:
        """Symbols of which something may be missing."""
        return [name for name, symbol in self._symbols.items() if symbol.lacks]

    def sure(self) -> dict[str, int]:
        """Of each symbol the last final minute before the first that may be missing: to be kept with the minutes."""
        return {name: symbol.sure for name, symbol in self._symbols.items() if symbol.sure is not None}

    def hold(self, sure: Mapping[str, int]) -> None:
        """Takes what was kept before (see `sure`)."""
        for name, time in sure.items():
            symbol = self._symbol(name)
            symbol.sure = symbol.proven = symbol.last = time

    def want(self, symbols: Iterable[str] | None) -> Want:
        """Follows other symbols from now on; None for all of them."""
        self._wanted = None if symbols is None else list(dict.fromkeys(symbols))
        return self._want()

    def _symbol(self, name: str) -> _Symbol:
        return self._symbols.setdefault(name, _Symbol())

    def _follows(self, name: str) -> bool:
        return self._wanted is None or name in self._wanted

    # --- connections ----------------------------------------------------------------------------------

    def connected(self) -> ClientHello:
        """A new connection; gives what is said first."""
        self._greeted = False
        for symbol in self._symbols.values():
            symbol.seq, symbol.again, symbol.lacks, symbol.forming = 0, False, symbol.sure is not None, None
            symbol.asked.clear()
        return ClientHello(VERSION, self._token)

    def _want(self, back: int = 0) -> Want:
        """All that is followed, and the time from which each symbol that lacks something is requested."""
        since = {}
        for name, symbol in self._symbols.items():
            if symbol.lacks and symbol.sure is not None and self._follows(name):
                since[name] = moment(symbol.sure - back)
                symbol.again = False
        return Want("all" if self._wanted is None else self._wanted, since)

    def waited(self) -> Want | None:
        """Asks once more for what was asked for and did not come; None where nothing is missing."""
        return self._want() if self._greeted and any(s.sure is not None for s in self._lacking()) else None

    def _lacking(self) -> list[_Symbol]:
        return [s for s in self._symbols.values() if s.lacks]

    # --- messages -------------------------------------------------------------------------------------

    def take(self, message: FromServer) -> Taken:
        """What follows from a message."""
        made = Taken()
        if not self._greeted and not isinstance(message, ServerHello | Trouble):
            self.counts["before hello"] += 1
            return made
        if isinstance(message, Bar):
            self._bar(message, made)
        elif isinstance(message, Trade):
            self._trade(message, made)
        elif isinstance(message, Beat):
            self._tell(seconds(message.now), made)
        elif isinstance(message, ServerHello):
            self._hello(message, made)
        elif isinstance(message, Symbols):
            self._described |= {d.symbol: d for d in message.symbols}
            made.described = message.symbols
            self._leave_unknown(made)
        elif isinstance(message, CaughtUp):
            self._caught_up(message, made)
        elif isinstance(message, Trouble):
            self._trouble(message, made)
        return made

    def refused(self, error: NotUnderstood) -> Taken:
        """What follows from a frame that holds no message."""
        made = Taken()
        if error.unknown:
            self.counts["unknown kind"] += 1
            return made
        self._refuse("no message", f"A message of the feed was not understood: {error}.", made)
        if error.symbol and error.seq > 0 and self._follows(error.symbol):
            self._number(error.symbol, error.seq, made)
        return made

    def merged(self, run: Merged) -> Taken:
        """What follows from messages that were left out since later ones wait."""
        made = Taken()
        if self._greeted and self._follows(run.symbol):
            self._number(run.symbol, run.first, made)
            symbol = self._symbol(run.symbol)
            symbol.seq = max(symbol.seq, run.last)
        return made

    def _tell(self, now: int, made: Taken) -> None:
        if self.now is not None and now > self.now + _JUMP:
            self.counts["jump"] += 1
            made.said.append(
                f"The feed's time jumps by {(now - self.now) // (24 * HOUR):,} days, to {moment(now):%Y-%m-%d %H:%M} UTC."
            )
        self.now = now if self.now is None else max(self.now, now)

    def _hello(self, message: ServerHello, made: Taken) -> None:
        if message.version != VERSION:
            made.said.append(
                f"The feed speaks version {message.version} of the protocol, and this program version {VERSION}. Bring both up to date."
            )
            made.give_up = True
            return
        if self._greeted:
            return
        self._greeted, self.name = True, "".join(c for c in message.name if c.isprintable())[:80]
        self._tell(seconds(message.now), made)
        self._began = seconds(message.now)
        made.want = self._want(_BACK)

    def _leave_unknown(self, made: Taken) -> None:
        """Nothing is missing of symbols that the server does not have: nothing of them will come."""
        for name, symbol in self._symbols.items():
            if symbol.lacks and name not in self._described and not symbol.seq:
                symbol.lacks = symbol.again = False
                made.whole.append(name)

    def _caught_up(self, message: CaughtUp, made: Taken) -> None:
        symbol = self._symbol(message.symbol)
        if not symbol.lacks:
            return
        if symbol.again:  # more was lost while this came
            made.want = self._want()
            return
        symbol.lacks = False
        symbol.proven = max((t for t in (symbol.sure, symbol.last) if t is not None), default=None)
        upto = seconds(message.upto) // MINUTE * MINUTE
        known = [symbol.sure, symbol.last, upto if self.now is None or upto <= self.now - MINUTE else None]
        symbol.sure = max((t for t in known if t is not None), default=None)
        made.whole.append(message.symbol)

    def _trouble(self, message: Trouble, made: Taken) -> None:
        text = "".join(c for c in message.text if c.isprintable())[:400]
        code = "".join(c for c in message.code if c.isprintable())[:40]
        made.said.append(f"The feed says: {text or code}")
        if message.code == "no-history":
            made.whole = self.give_up_gaps()

    def give_up_gaps(self) -> list[str]:
        """Takes what is missing as not to be had; gives the symbols of which something was."""
        names = self.lacking
        for name in names:
            symbol = self._symbols[name]
            symbol.lacks = symbol.again = False
            symbol.sure = symbol.proven = symbol.last if symbol.last is not None else symbol.sure
        return names

    # --- numbers --------------------------------------------------------------------------------------

    def _number(self, name: str, seq: int, made: Taken) -> bool:
        """Counts a message of a symbol; whether it is to be looked at. What was lost before it is requested."""
        symbol = self._symbol(name)
        if seq <= 0:
            self._refuse("no number", f"A message about {name} has no number.", made)
            return False
        if seq <= symbol.seq:
            self.counts["repeat"] += 1
            return False
        if seq > symbol.seq + 1:
            self.counts["gap"] += 1
            if symbol.sure is not None and symbol.proven is not None:
                symbol.sure = min(symbol.sure, symbol.proven)
            self._lost(name, symbol, made)
        symbol.seq, symbol.proven = seq, symbol.sure
        return True

    def _lost(self, name: str, symbol: _Symbol, made: Taken) -> None:
        self._be_sure(symbol)
        if symbol.lacks:
            symbol.again = True
            return
        symbol.lacks = True
        made.want = self._want()

    def _be_sure(self, symbol: _Symbol) -> None:
        """A symbol of which nothing was held: what came before this connection is not missed."""
        if symbol.sure is None and self._began is not None:
            symbol.sure = symbol.proven = self._began // MINUTE * MINUTE - MINUTE

    def _refuse(self, what: str, sentence: str, made: Taken) -> None:
        self.counts[what] += 1
        made.said.append(sentence)

    # --- bars and trades --------------------------------------------------------------------------------

    def _bar(self, bar: Bar, made: Taken) -> None:
        if not self._follows(bar.symbol):
            self.counts["not asked for"] += 1
            return
        if not self._number(bar.symbol, bar.seq, made):
            return
        time, name = seconds(bar.time), bar.symbol
        minute = Minute(name, time, bar.open, bar.high, bar.low, bar.close, bar.volume)
        symbol = self._symbol(name)
        if why := self._wrong(minute):
            self._refuse("refused bar", f"A minute of {name} was refused: {why}.", made)
            if bar.final and time % MINUTE == 0 and time not in symbol.asked and self._is_near(time):
                symbol.asked.add(time)
                self._be_sure(symbol)
                symbol.sure = min(symbol.sure if symbol.sure is not None else time, time - MINUTE)
                self._lost(name, symbol, made)
            return
        if not bar.final:
            symbol.told_as_bar = time
            self._forming(symbol, minute, made)
            return
        symbol.last = time if symbol.last is None else max(symbol.last, time)
        if not symbol.lacks:
            symbol.sure = symbol.last if symbol.sure is None else max(symbol.sure, symbol.last)
            symbol.proven = symbol.sure
        if symbol.forming is not None and symbol.forming.time <= time:
            symbol.forming = None
        made.final = minute

    def _is_near(self, time: int) -> bool:
        """Whether a minute lies in the week before the market's time: an absurd one is not asked for."""
        return self.now is not None and self.now - 7 * 24 * HOUR <= time <= self.now

    @staticmethod
    def _forming(symbol: _Symbol, minute: Minute, made: Taken) -> None:
        late = symbol.last is not None and minute.time <= symbol.last
        if late or (symbol.forming is not None and minute.time < symbol.forming.time):
            return  # what is final stays, and so does a later minute
        symbol.forming = made.forming = minute

    def _trade(self, trade: Trade, made: Taken) -> None:
        if not self._follows(trade.symbol):
            self.counts["not asked for"] += 1
            return
        if not self._number(trade.symbol, trade.seq, made):
            return
        time, price, size = seconds(trade.time), trade.price, trade.size
        start = time // MINUTE * MINUTE
        if why := self._wrong(Minute(trade.symbol, start, price, price, price, price, size)):
            self._refuse("refused trade", f"A trade of {trade.symbol} was refused: {why}.", made)
            return
        symbol = self._symbol(trade.symbol)
        held = symbol.forming
        if symbol.told_as_bar is not None and start <= symbol.told_as_bar:
            return
        if held is None or held.time < start:
            self._forming(symbol, Minute(trade.symbol, start, price, price, price, price, size), made)
        elif held.time == start:
            high, low = max(held.high, price), min(held.low, price)
            self._forming(symbol, held._replace(high=high, low=low, close=price, volume=held.volume + size), made)

    def _wrong(self, minute: Minute) -> str:
        """Why a minute cannot be; empty where it can."""
        prices = (minute.open, minute.high, minute.low, minute.close)
        if not all(math.isfinite(p) and abs(p) < _MOST for p in prices):
            return "a price is no number"
        described = self._described.get(minute.symbol)
        if min(prices) <= 0 and not (described is not None and described.kind in _ANY_PRICE):
            return "a price is not above 0"
        if minute.high < max(minute.open, minute.close) or minute.low > min(minute.open, minute.close):
            return (
                "its high and low do not hold its open and close"
                if minute.high >= minute.low
                else "its high is below its low"
            )
        if not (math.isfinite(minute.volume) and 0 <= minute.volume < _MOST):
            return "its volume makes no sense"
        if minute.time % MINUTE:
            return "it begins within a minute"
        if self.now is not None and minute.time > self.now + _AHEAD:
            return "it is more than a minute ahead of the market's time"
        return ""
