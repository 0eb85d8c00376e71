"""The first five steps of a new user, and which of them are done."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class Step:
    """A step: what it is, and how it is done in the window."""

    name: str
    words: str
    how: str


STEPS = (
    Step(
        "hour",
        "Flip to one hour",
        "Click 1h on the ladder of timeframes left of the chart. The numbers on it say how many bars ago the rule spoke.",
    ),
    Step(
        "signal",
        "Go to its last signal",
        "Alt+Left goes to the signal before, Alt+Right to the next. Why, below the script, says what made it.",
    ),
    Step(
        "setting",
        "Change a setting",
        "The boxes over the script are its settings. Chart, ladder and watchlist follow at once.",
    ),
    Step(
        "rule",
        "Write a rule of your own",
        "Ctrl+Shift+E begins a script that runs; change what stands behind `signal`. It saves itself.",
    ),
    Step(
        "scan",
        "Scan for your rule",
        "Alt+3 opens the Scan. Choose your script in a condition, and press Ctrl+R.",
    ),
)
_NAMES = frozenset(s.name for s in STEPS)


@dataclass(slots=True)
class FirstSteps:
    """What is done, and whether the strip was put away."""

    done: set[str] = field(default_factory=set)
    away: bool = False

    @classmethod
    def read(cls, state: Mapping[str, object], *, known: bool) -> FirstSteps:
        """From what was written down; who was there before without them (``known``) is not taught."""
        said = state.get("done")
        done = {str(name) for name in said} & _NAMES if isinstance(said, list) else set()
        return cls(done, state.get("away") is True or (known and not state))

    def as_plain(self) -> dict[str, object]:
        """To be written down."""
        return {"done": sorted(self.done), "away": self.away}

    def next(self) -> Step | None:
        """The first step that is not done; None when all are."""
        return next((s for s in STEPS if s.name not in self.done), None)
