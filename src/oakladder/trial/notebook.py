"""The notebook of a rule: every variant of it that was put on trial, notes of the user's, and when its seal was broken."""

from __future__ import annotations

import contextlib
import hashlib
import math
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import msgspec
import numpy as np

from oakladder.trial.batch.task import Tried
from oakladder.trial.judge.deflated_sharpe import DeflatedSharpe, deflate, returns_of
from oakladder.trial.metrics.metrics import Value
from oakladder.trial.spec import TrialSpec
from oakladder.trial.sweep.ranges import Point, Range
from oakladder.trial.trial import Trial

#: The metrics of a variant that are written down.
KEPT = ("trades", "winners", "profit_factor", "average", "growth", "drawdown", "sharpe", "end", "held_end")


#: A quoted text, which is kept, or a comment.
_COMMENT = re.compile(r'("[^"]*")|--.*')


class What(msgspec.Struct, frozen=True):
    """What was put on trial: the mark of its text, its settings, on which list, timeframe and dates, and with which
    account."""

    text: str
    settings: dict[str, str]
    list_name: str
    timeframe: str
    account: str
    finer: bool = False
    #: The dates from which and up to which it was tried, as they were given; empty for all of history.
    span: str = ""

    def with_settings(self, settings: Mapping[str, object]) -> What:
        """The same with other settings."""
        return msgspec.structs.replace(self, settings=self.settings | _plain(settings))

    @property
    def key(self) -> str:
        """The same for the same variant."""
        told = sorted(self.settings.items())
        return repr((self.text, told, self.list_name, self.timeframe, self.account, self.finer, self.span))

    def words(self) -> str:
        """Where and how, in a few words."""
        settings = ", ".join(f"{name} {value}" for name, value in self.settings.items())
        return ", ".join(part for part in (f"{self.list_name} {self.timeframe}", self.span, settings) if part)


class Try(msgspec.Struct, frozen=True, tag="try", rename={"metrics": "figures"}):
    """A tested variant, and its results."""

    moment: float
    what: What
    metrics: dict[str, float | None]
    #: Whether the last part of history stayed out of it.
    sealed: bool
    #: Equal for equal trades at equal costs, see `trades_mark`; empty where they are not known.
    mark: str = ""
    #: Whether it was first tried after the sealed part had been seen, and on that part too.
    tuned: bool = False

    @property
    def identities(self) -> tuple[object, ...]:
        """The result with the same money and, where they are known, the trades with their costs: two tries with one of these
        in common are the same hypothesis."""
        result = (self.what.account, self.sealed, *(self.metrics.get(name) for name in KEPT))
        return (result, self.mark) if self.mark else (result,)


class Text(msgspec.Struct, frozen=True, tag="text"):
    """A text by its mark, written down once, with the mark of what it compiles to where that is known."""

    moment: float
    mark: str
    text: str
    compiled: str = ""


class Remark(msgspec.Struct, frozen=True, tag="note"):
    """A note of the user's."""

    moment: float
    text: str


class Broken(msgspec.Struct, frozen=True, tag="seal"):
    """The seal was broken: for what, from which moment of history on (UTC seconds), what was promised by the part that
    was open, and what the sealed part then showed."""

    moment: float
    what: What
    sealed_from: int
    promised: dict[str, float | None]
    showed: dict[str, float | None]
    #: How many variants had been tried by then.
    tries: int
    #: The symbols whose sealed days were seen; none for all, as it was once.
    symbols: tuple[str, ...] = ()


class Swept(msgspec.Struct, frozen=True, tag="sweep"):
    """A sweep whose results are kept in a file beside the notebook."""

    moment: float
    what: What
    file: str
    ranges: dict[str, list[Point]]
    count: int
    #: Whether the last part of history stayed out of it, and else whether that had been seen before.
    sealed: bool = True
    tuned: bool = False


class Continued(msgspec.Struct, frozen=True, tag="continued"):
    """The notebook goes on with what was in another folder until then: its script was copied or renamed."""

    moment: float
    folder: str


Entry = Try | Text | Remark | Broken | Swept | Continued


def mark_of(text: str) -> str:
    """The mark of a text: equal for equal texts."""
    return hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=8).hexdigest()


def trades_mark(trial: Trial) -> str:
    """The mark of the trades of a rule, whether or not the account took them, and of what they cost: equal for equal
    trades, however the rule is written and with however much money. Prices are those that were traded: a later dividend
    adjusts all others."""
    trades, panel, costs = trial.trades, trial.ground.panel, trial.account.costs
    left = np.where(trades.closed, panel.times[trades.left], -1)
    parts = (trades.symbol, panel.times[trades.entered], left, trades.side, trades.real_entry, trades.real_exit)
    told = repr((panel.symbols, str(panel.timeframe), costs)).encode()
    return hashlib.blake2b(told + b"".join(part.tobytes() for part in parts), digest_size=8).hexdigest()


def rule_mark(text: str) -> str:
    """The mark of the rule in a text: without comments, blank lines and spacing, without title and description. Equal for
    copies of a script under another title."""
    kept = []
    for line in text.splitlines():
        words = " ".join(_COMMENT.sub(lambda found: found[1] or "", line).split())
        if words and words.split(" ")[0] not in ("title", "about"):
            kept.append(words)
    return mark_of("\n".join(kept))


def what_of(case: TrialSpec, span: str = "") -> What:
    """What a case puts on trial, between the dates of a span in words."""
    account = case.account
    costs = account.costs
    size = "" if account.size is None else str(account.size)
    parts = [account.money, size, account.lot, account.most, account.power, costs.fixed, costs.per_unit, costs.ratio]
    told = " ".join(map(str, [*parts, costs.slippage, account.apart])) + (" through" if account.through else "")
    told += f" holding {costs.financing} {costs.borrow}" if costs.financing or costs.borrow else ""
    told += f" in {account.currency}" if account.currency else ""
    return What(mark_of(case.text), _plain(case.settings), case.list_name, case.timeframe, told, case.finer, span)


def _plain(settings: Mapping[str, object]) -> dict[str, str]:
    """Settings as texts, so that 5 and 5.0 are one."""
    made = {}
    for name, value in settings.items():
        made[name] = str(value)
        with contextlib.suppress(ValueError):
            made[name] = f"{float(made[name]):.12g}"
    return made


def try_of(what: What, trial: Trial, moment: float) -> Try:
    """What is written down of a trial."""
    return Try(
        moment, what, kept(trial.metrics), trial.ground.seal is not None, trades_mark(trial), trial.ground.is_tuned
    )


def kept(metrics: Mapping[str, Value]) -> dict[str, float | None]:
    """The metrics that are written down."""
    return {name: metrics.get(name) for name in KEPT}


@dataclass(frozen=True)
class Notebook:
    """The entries of a rule, oldest first; ``rows`` are those of each sweep, by its file."""

    entries: tuple[Entry, ...] = ()
    rows: Mapping[str, Sequence[Tried]] = field(default_factory=dict)

    @cached_property
    def tries(self) -> dict[str, Try]:
        """Every variant once, by its key, as it was tried last; those of sweeps among them."""
        made: dict[str, Try] = {}
        for entry in self.entries:
            if isinstance(entry, Try):
                made[entry.what.key] = entry
            elif isinstance(entry, Swept):
                for row in self.rows.get(entry.file, ()):
                    if not row.problem:
                        what = entry.what.with_settings(row.settings)
                        made.setdefault(
                            what.key, Try(entry.moment, what, kept(row.metrics), entry.sealed, tuned=entry.tuned)
                        )
        return made

    @cached_property
    def hypotheses(self) -> tuple[Try, ...]:
        """The tries that count: the first of each group that `grouped` makes. A rule that is written otherwise, or tried
        with other money, is no other hypothesis."""
        return tuple(group[0] for group in grouped(self.tries.values()))

    @cached_property
    def _places(self) -> dict[object, int]:
        """The place among the hypotheses of each key, mark and result of a try."""
        made: dict[object, int] = {}
        for k, group in enumerate(grouped(self.tries.values())):
            for one in group:
                made |= dict.fromkeys((one.what.key, *one.identities), k)
        return made

    def prepare(self) -> Notebook:
        """The same with its tries counted, which takes a while for a large sweep."""
        _ = self.hypotheses, self._places, self._first_tried
        return self

    @property
    def breaks(self) -> tuple[Broken, ...]:
        """When, for what and on which symbols the seal was broken."""
        return tuple(e for e in self.entries if isinstance(e, Broken))

    def has_seen(self, symbols: Iterable[str]) -> bool:
        """Whether the seal was broken for this rule on all of some symbols."""
        breaks = self.breaks
        if any(not one.symbols for one in breaks):
            return True
        seen = {symbol for one in breaks for symbol in one.symbols}
        return bool(seen) and seen.issuperset(symbols)

    def broken_for(self, symbols: Iterable[str]) -> Broken | None:
        """The last breaking of the seal for all of some symbols, else the last for any of them."""
        asked = set(symbols)
        whole = [e for e in self.breaks if not e.symbols or asked.issubset(e.symbols)]
        some = whole or [e for e in self.breaks if not asked.isdisjoint(e.symbols)]
        return some[-1] if some else None

    def first_tried(self, what: What, text: str) -> float | None:
        """When a variant, of some text, was first tried, on whichever symbols and part of history; None where it never was."""
        return self._first_tried.get(self._variant(what, rule_mark(text)))

    @cached_property
    def _first_tried(self) -> dict[object, float]:
        made: dict[object, float] = {}
        for entry in self.entries:
            if isinstance(entry, Try | Broken):
                made.setdefault(self._variant(entry.what), entry.moment)
            elif isinstance(entry, Swept):
                for row in self.rows.get(entry.file, ()):
                    made.setdefault(self._variant(entry.what.with_settings(row.settings)), entry.moment)
        return made

    def place_of(self, what: What) -> tuple[object, ...]:
        """What of a variant stays the same when its settings change: the rule, where it is tried, and its account."""
        rule = self._rules.get(what.text, what.text)
        return rule, what.list_name, what.timeframe, what.account, what.finer, what.span

    def _variant(self, what: What, rule: str = "") -> tuple[object, ...]:
        """What makes a variant, wherever it is tried: the rule, however it is commented, its settings, timeframe and
        account."""
        settings = tuple(sorted(what.settings.items()))
        return rule or self._rules.get(what.text, what.text), settings, what.timeframe, what.account, what.finer

    @cached_property
    def _rules(self) -> dict[str, str]:
        """The mark of the rule in each text, by the mark of the text."""
        return {e.mark: rule_mark(e.text) for e in self.entries if isinstance(e, Text)}

    def text(self, mark: str) -> str | None:
        """A text by its mark."""
        return next((e.text for e in self.entries if isinstance(e, Text) and e.mark == mark), None)

    def discount_for(self, what: What, trial: Trial) -> DeflatedSharpe | None:
        """The Sharpe ratio of a trial with the discount for all that was tried; None where it has none."""
        returns = returns_of(trial)
        if returns is None:
            return None
        this = {self._places.get(name) for name in (what.key, *try_of(what, trial, 0.0).identities)}
        others = (one.metrics["sharpe"] for k, one in enumerate(self.hypotheses) if k not in this)
        found = [trial.metrics["sharpe"], *others]
        return deflate(returns, [math.nan if s is None else s for s in found])


def grouped(tries: Iterable[Try]) -> list[list[Try]]:
    """Tries of one hypothesis together, in the order of the first of each: those with the same trades at the same costs, or
    with the same result."""
    groups: list[list[Try]] = []
    known: dict[object, list[Try]] = {}
    for one in tries:
        group = next((known[name] for name in one.identities if name in known), None)
        if group is None:
            group = []
            groups.append(group)
        group.append(one)
        known |= dict.fromkeys(one.identities, group)
    return groups


def change_words(before: What | None, now: What) -> str:
    """What is otherwise in a try than in the one before it, in a few words."""
    if before is None:
        return "first try"
    told = ["the rule was edited"] if before.text != now.text else []
    names = [
        n for n in dict.fromkeys((*before.settings, *now.settings)) if before.settings.get(n) != now.settings.get(n)
    ]
    told += [f"{n} {before.settings.get(n, 'new')} → {now.settings.get(n, 'gone')}" for n in names]
    for was, is_now in ((before.list_name, now.list_name), (before.timeframe, now.timeframe)):
        told += [f"{was} → {is_now}"] if was != is_now else []
    if before.span != now.span:
        told.append(now.span or "all dates")
    told += ["other account or costs"] if before.account != now.account else []
    if before.finer != now.finer:
        told.append("minute by minute" if now.finer else "no longer minute by minute")
    return ", ".join(told) or "the same again"


def ranges_of(entry: Swept) -> list[Range]:
    """The ranges of a sweep that was kept."""
    return [Range(name, tuple(values)) for name, values in entry.ranges.items()]


def in_order(entries: Iterable[Entry]) -> tuple[Entry, ...]:
    """Entries by their moment."""
    return tuple(sorted(entries, key=lambda e: e.moment))
