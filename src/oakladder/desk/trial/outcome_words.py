"""The summary of the Trial place, in a sentence or two; or the reason why it is empty."""

from __future__ import annotations

from datetime import UTC, datetime

from oakladder.app.trials import Outcome
from oakladder.rung.texts import agree, count_words
from oakladder.trial.compose import Draft
from oakladder.trial.spans import TUNED_WORDS


def outcome_words(outcome: Outcome | None, draft: Draft | None, *, mistaken: bool, seen: bool) -> str:
    """The words above a trial. ``draft`` is the trade that is composed for a script without one, ``mistaken`` says that
    the script as it is typed has a mistake, ``seen`` that the rule has seen the sealed part of the list."""
    if outcome is None:
        return "Open a script without errors on the Bench to test it here."
    if outcome.trial is None:
        return outcome.trouble
    trial = outcome.trial
    panel, times = trial.ground.panel, trial.equity.times
    symbols = panel.symbols
    where = symbols[0] if len(symbols) == 1 else f"{len(symbols)} symbols"
    span = f", {_day(times[0])} to {_day(times[-1])}" if len(times) else ""
    made = [f"{where}{span}, fills on real prices."]
    if mistaken:
        made.insert(0, "The script has errors, so this is its last valid text. Fix it on the Bench.")
    if trial.ground.seal is not None:
        made.append(f"From {_day(trial.ground.seal)} on, history is sealed.")
    elif trial.ground.is_tuned:
        made.append(TUNED_WORDS)
    elif seen:
        made.append("Its seal is broken.")
    if draft is not None:
        made.append(f"Composed from its signals: {draft.words()}.")
    if outcome.through:
        made.append(outcome.through)
    if not len(trial.trades):
        made.append("No trades here.")
    if outcome.skipped:
        made.append(
            f"{count_words(len(outcome.skipped), 'symbol')} {agree(len(outcome.skipped), 'is', 'are')} left out."
        )
    return " ".join(made)


def _day(time: int) -> str:
    return f"{datetime.fromtimestamp(int(time), UTC):%d %b %Y}"
