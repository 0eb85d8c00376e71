"""The seal of history: who has seen what it keeps apart, what the open part promised, and what the rest then shows."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path

import msgspec

from oakladder.bars.panel import Panel
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.sealed import SealedDays
from oakladder.rung.problems import RunProblem
from oakladder.rung.program import Program
from oakladder.rung.texts import count_words
from oakladder.trial.broker.money import Account
from oakladder.trial.metrics.metrics import metric_words
from oakladder.trial.notebook import Broken, Notebook, What, kept
from oakladder.trial.spans import Span, days_of
from oakladder.trial.trial import TrialData, run_trial, trial_data_of

#: The metrics in which promise and sealed part are compared.
COMPARED = ("growth", "drawdown", "trades", "winners", "average", "profit_factor", "sharpe")
#: So many other rules are named.
_NAMED = 3


class Seen(msgspec.Struct, frozen=True, tag="seen"):
    """A rule has seen sealed days of some symbols: from which day on up to which (days since 1970), and as what it was
    tried then."""

    moment: float
    #: What the rule goes by, and the folder of its notebook.
    rule: str
    folder: str
    what: What
    symbols: tuple[str, ...]
    first: int
    last: int


def seal_broken(
    program: Program,
    whole: TrialData,
    sealed: SealedDays,
    account: Account,
    settings: Mapping[str, object],
    what: What,
    notebook: Notebook,
    moment: float,
    context: RunContext = PLAIN,
) -> Broken:
    """What the seal kept apart for a rule: a trial of each part, the sealed one with what came before it as its past.

    ``whole`` is the ground with nothing left out. Where all its bars are sealed nothing was promised. Raises `RunProblem`
    where nothing is sealed, and `Cancelled`.
    """
    span, panel = Span(whole.first, seal=sealed), whole.panel
    time = span.seal_time(panel)
    if time is None:
        raise RunProblem("Nothing is sealed here.")
    opened = sealed.opened(panel)
    promised: dict[str, float | None] = {}
    if opened.any():
        open_part = replace(trial_data_of(span.truncate(panel)), first=whole.first)
        promised = kept(run_trial(program, open_part, account, settings, context=context).metrics)
    each = panel.timeline.each
    begin = min(int(times[count]) for times, count in zip(each, opened.tolist(), strict=True) if count < len(times))
    rest = TrialData(panel, whole.grid, max(begin, whole.first or begin))
    showed = run_trial(program, rest, account, settings, context=context)
    tries = len(notebook.hypotheses) + (what.key not in notebook.tries)
    return Broken(moment, what, time, promised, kept(showed.metrics), tries, panel.symbols)


def seen_of(broken: Broken, rule: str, folder: str, panel: Panel, sealed: SealedDays) -> Seen:
    """Who has seen what when the seal was broken. ``panel`` is the whole of the bars."""
    first, last = min(sealed.days.values()), max(day for _, day in days_of(panel).values())
    return Seen(broken.moment, rule, folder, broken.what, broken.symbols, first, last)


def seal_words(broken: Broken) -> str:
    """What was promised and what came, in a sentence."""
    came = "{} and a max drawdown of {}".format(*(metric_words(broken.showed, n) for n in ("growth", "drawdown")))
    if not broken.promised:
        return f"No bar lay before the sealed part, so nothing was promised; it had an annual return of {came}."
    growth, fall = (metric_words(broken.promised, n) for n in ("growth", "drawdown"))
    return (
        f"After {count_words(broken.tries, 'try')} the open part of history had an annual return of {growth} and a "
        f"max drawdown of {fall}; the sealed part then had {came}."
    )


def seen_by_others(
    seen: Iterable[Seen], own: Iterable[str], symbols: Iterable[str], before: float | None = None
) -> list[Seen]:
    """The first time that each other rule saw sealed days of some symbols, oldest first. ``own`` are the folders of the
    rule itself, and of what it was copied from."""
    folders, asked = set(own), set(symbols)
    made: dict[str, Seen] = {}
    for one in sorted(seen, key=lambda s: s.moment):
        if one.folder in folders or asked.isdisjoint(one.symbols) or (before is not None and one.moment >= before):
            continue
        made.setdefault(one.folder, one)
    return list(made.values())


def others_words(others: Sequence[Seen]) -> str:
    """How many other rules had seen the sealed part, and when; the newest are named."""
    if not others:
        return "No other rule has seen this part of history before."
    named = [
        f"{Path(one.rule).name.removesuffix('.rung')} on {datetime.fromtimestamp(one.moment):%d %b %Y}"
        for one in others[::-1][:_NAMED]
    ]
    told = ", ".join(named) + (" and before" if len(others) > _NAMED else "")
    if len(others) == 1:
        return f"1 other rule has seen this part of history before: {told}."
    return f"{count_words(len(others), 'other rule')} have seen this part of history before: {told}."


def is_tuned(book: Notebook, what: What, text: str, seen: Iterable[Seen], symbols: Iterable[str]) -> bool:
    """Whether a variant, with its text, was first tried after sealed days of some symbols had been seen, by whichever rule."""
    asked = set(symbols)
    first = min((s for s in seen if not asked.isdisjoint(s.symbols)), key=lambda s: s.moment, default=None)
    if first is None:
        return False
    tried = book.first_tried(what, text)
    return tried is None or tried > first.moment
