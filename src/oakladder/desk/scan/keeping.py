"""Keeping what a scan finds as a watchlist."""

from __future__ import annotations

from oakladder.desk.jobs import sentence_of
from oakladder.desk.session import Desk
from oakladder.user.entries import free_name
from oakladder.user.lists import ListProblem
from oakladder.user.scans import SavedScan


def keep_found(desk: Desk, scan: SavedScan, symbols: list[str]) -> str | None:
    """Makes or renews the list of what was found, and says so; its name, or None where it could not be written."""
    lists = desk.lists
    lists.fresh()
    name = scan.name or "Found by a scan"
    mine = scan.name and name in lists.own and lists.own[name].scan == scan.name
    if not mine:
        name = free_name(name, [*lists.names(desk.library.infos)])
    try:
        if scan.name:
            lists.keep(name, symbols, scan.name)
        else:
            lists.make(name, symbols)
    except (ListProblem, OSError) as error:
        desk.status.emit(sentence_of(error))
        return None
    desk.status.emit(f"Kept as the list {name}.")
    return name


def renew_kept(desk: Desk, scan: SavedScan, symbols: list[str]) -> None:
    """Writes what was found now into the list that a scan keeps."""
    try:
        desk.lists.keep(scan.keeps, symbols, scan.name)
    except (ListProblem, OSError) as error:
        desk.status.emit(f"The list {scan.keeps} stays as it was: {sentence_of(error)}")
