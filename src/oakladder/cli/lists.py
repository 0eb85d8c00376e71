"""Lists of symbols as they are named in a call."""

from __future__ import annotations

from oakladder.bars.store.library import BarLibrary
from oakladder.cli.common import CALL_WRONG, fail
from oakladder.rung.problems import did_you_mean
from oakladder.user.lists import Watchlists
from oakladder.user.workspace import Workspace


def symbols_of(library: BarLibrary, name: str) -> list[str]:
    """The symbols of a list of the user's, of a sector, or of all the library."""
    if name == "all":
        return list(library.infos)
    own = Watchlists(Workspace.default().config / "watchlists.json")
    if name in own.own:
        return own.symbols(name, library.infos)
    sectors = sorted({i.sector for i in library.infos.values()})
    chosen = [s for s, i in library.infos.items() if i.sector.lower() == name.lower()]
    if not chosen:
        fail(
            CALL_WRONG,
            f"There is no list `{name}`. {did_you_mean(name, ['all', *sectors]) or 'There are all, ' + ', '.join(sectors) + '.'}",
        )
    return chosen
