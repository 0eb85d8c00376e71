"""The command that shows and clears the disk cache."""

from __future__ import annotations

import json
from datetime import datetime

from rich.table import Table

from oakladder import cache
from oakladder.cli.common import arg, command
from oakladder.cli.streams import console
from oakladder.rung.texts import count_words


@command(
    "cache",
    arg("--clear", action="store_true", help="delete all of it; it is computed again when it is needed"),
    arg("--json", dest="as_json", action="store_true", help="as JSON"),
)
def show_cache(clear: bool, as_json: bool) -> None:
    """Show what is cached on disk, or clear it: nothing is lost but time."""
    if clear:
        gone = cache.clear()
        if not as_json:
            print(f"{count_words(gone.files, 'file')} deleted, {_megabytes(gone.bytes)}.")
            return
    held = cache.usage()
    total = sum(its.bytes for its in held.values())
    if as_json:
        sections = [
            {
                "name": section.value,
                "about": section.about,
                "files": its.files,
                "bytes": its.bytes,
                "last_used": _moment(its.last_used) or None,
            }
            for section, its in held.items()
        ]
        content = {"folder": str(cache.cache_folder()), "bytes": total, "most_bytes": cache.MOST_BYTES}
        print(json.dumps(content | {"sections": sections}, indent=2))
        return
    table = Table("Section", "Holds")
    for head in ("Files", "Size"):
        table.add_column(head, justify="right")
    table.add_column("Last used")
    for section, its in held.items():
        table.add_row(
            section.value,
            section.about,
            f"{its.files:,}",
            _megabytes(its.bytes),
            _moment(its.last_used).replace("T", " "),
        )
    console().print(table)
    print(f"{_megabytes(total)} of at most {_megabytes(cache.MOST_BYTES)} in {cache.cache_folder()}")


def _megabytes(count: int) -> str:
    return f"{count / 1e6:,.1f} MB"


def _moment(seconds: float) -> str:
    """A time as this machine tells it; empty for never."""
    return f"{datetime.fromtimestamp(seconds):%Y-%m-%dT%H:%M:%S}" if seconds else ""
