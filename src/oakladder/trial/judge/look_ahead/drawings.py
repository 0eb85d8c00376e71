"""Drawings that stand before the bar on which they were known."""

from __future__ import annotations

import numpy as np

from oakladder.engine.run.execute import Result
from oakladder.rung.words import Shown
from oakladder.trial.judge.look_ahead.finding import Finding, FindingKind, finding

_BACK = ("ago", "ago_start")


def before_known(result: Result, counted: np.ndarray) -> list[Finding]:
    """Marks, labels and links of a result that stand before the bar on which they became known. ``counted`` says which
    bars of the panel are checked; bool. Shape (bars,)."""
    made = []
    for output in result.outputs:
        roles = [output.roles[name] for name in _BACK if name in output.roles]
        if not roles:
            continue
        shown = result.is_true(output.roles.get("when"))
        if output.what is Shown.MARK:
            shown = shown & result.is_true(output.roles.get("value"))
        back = np.max([np.nan_to_num(result.number(op)) for op in roles], axis=0)
        places = np.flatnonzero(shown & (back > 0) & counted)
        if not len(places):
            continue
        most = int(back[places].max())
        known = "1 bar" if most == 1 else f"up to {most} bars"
        words = f"`{output.what.value}` stands {known} before the bar on which it was known"
        place = int(places[-1])
        start = int(result.panel.starts[np.searchsorted(result.panel.offsets, place, "right") - 1])
        stands = max(place - int(back[place]), start)
        made.append(finding(FindingKind.BEFORE_KNOWN, words, len(places), result.panel, stands, output.line))
    return made
