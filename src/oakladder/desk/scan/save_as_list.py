"""Keeping what a scan finds as a watchlist."""

from __future__ import annotations

from collections.abc import Callable

from oakladder.app.jobs import sentence_of
from oakladder.app.session import Session
from oakladder.user.entries import free_name
from oakladder.user.scans import SavedScan


def keep_found(session: Session, scan: SavedScan, symbols: list[str], then: Callable[[str], None]) -> None:
    """Saves the matches as a list in the background and reports it; ``then`` receives its name."""
    lists, infos = session.lists, session.symbols.infos

    def keep() -> str:
        lists.fresh()
        name = scan.name or "Found by a scan"
        mine = scan.name and name in lists.user_lists and lists.user_lists[name].scan == scan.name
        if not mine:
            name = free_name(name, lists.names(infos))
        if scan.name:
            lists.keep(name, symbols, scan.name)
        else:
            lists.make(name, symbols)
        return name

    def done(name: str) -> None:
        session.status.emit(f"Saved as the list {name}.")
        then(name)

    session.change_lists(keep, done)


def renew_kept(session: Session, scan: SavedScan, symbols: list[str]) -> None:
    """Writes the current matches into the scan's list, in the background."""
    session.change_lists(
        lambda: session.lists.keep(scan.keeps, symbols, scan.name),
        failed=lambda error: session.status.emit(f"The list {scan.keeps} stays as it was: {sentence_of(error)}"),
    )
