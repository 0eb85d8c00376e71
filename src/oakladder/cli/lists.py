"""Lists of symbols as they are named in a call."""

from __future__ import annotations

from oakladder.bars.store.library import BarLibrary
from oakladder.cli.common import CALL_WRONG, fail
from oakladder.rung.problems import did_you_mean
from oakladder.user.workspace import Workspace


def symbols_of(library: BarLibrary, name: str) -> list[str]:
    """The symbols of a list by any name that the window shows: all symbols, a list of the user's, a sector."""
    if name == "all":
        return list(library.infos)
    own = Workspace.default().lists()
    names = own.names(library.infos)
    found = name if name in names else next((n for n in names if n.casefold() == name.strip().casefold()), None)
    if found is None:
        hint = did_you_mean(name, ["all", *names]) or f"There are all, {', '.join(names)}."
        fail(CALL_WRONG, f"There is no list `{name}`. {hint}")
    return own.symbols(found, library.infos)
