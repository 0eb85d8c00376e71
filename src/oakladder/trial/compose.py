"""A trade composed from the signals of a script without a `trade`, ready to be written into it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from oakladder.rung.plan.ops import Output
from oakladder.rung.problems import RunProblem
from oakladder.rung.program import Program
from oakladder.rung.trade_words import Side
from oakladder.rung.words import Tone

#: What a composed trade is called, unless the script has something of that name.
_NAMES = ("ride", "haul", "voyage")
_MOST_BARS = 20


@dataclass(frozen=True, slots=True)
class Draft:
    """A composed trade: the entry signal, the exit signal, and the other clauses as written."""

    enter: str
    side: Side = Side.LONG
    leave: str = ""
    stop: str = "2 * atr(14)"
    trail: str = ""
    target: str = ""
    most: int | None = None

    def lines(self, name: str) -> list[str]:
        """The trade as lines of a script."""
        made = [f"trade {name} {self.side.word}", f"    enter when {self.enter}"]
        if self.leave:
            made.append(f"    leave when {self.leave}")
        for word in ("stop", "trail", "target"):
            if text := getattr(self, word):
                made.append(f"    {word} {text}")
        if self.most is not None:
            made.append(f"    at most {self.most} bars")
        return made

    def words(self) -> str:
        """The trade in a sentence."""
        out = [f"out at `{self.leave}`"] if self.leave else []
        if self.stop:
            out.append("2 average ranges against you" if self.stop == "2 * atr(14)" else f"{self.stop} against you")
        if self.most is not None:
            out.append(f"after {self.most} bars")
        return f"{self.side.word} at `{self.enter}`, " + " or ".join(out)


def draft_of(program: Program) -> Draft:
    """The trade that the signals of a script suggest. Raises `RunProblem` where it has none."""
    signals = program.signals
    if not signals:
        raise RunProblem("The script has neither a `trade` nor a `signal` to compose one of. Add `signal go = …`, say.")
    up, down = _first(signals, Tone.BULLISH), _first(signals, Tone.BEARISH)
    if up is not None:
        return Draft(up.name, Side.LONG, down.name if down else "", most=None if down else _MOST_BARS)
    if down is not None:
        return Draft(down.name, Side.SHORT, most=_MOST_BARS)
    return Draft(signals[0].name, most=_MOST_BARS)


def _first(signals: Sequence[Output], tone: Tone) -> Output | None:
    return next((s for s in signals if s.tone is tone), None)


def with_trade(program: Program, draft: Draft) -> str:
    """The text of a script with a composed trade at its end."""
    taken = {*program.plan.values, *(s.name for s in program.signals), *(s.name for s in program.settings)}
    name = next((n for n in _NAMES if n not in taken), "ride_of_signals")
    return program.text.rstrip() + "\n\n" + "\n".join(draft.lines(name)) + "\n"
