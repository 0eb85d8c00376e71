"""What can still be read of a JSON file that is damaged."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from typing import TypeVar

T = TypeVar("T")
#: So many brackets may open nothing, and so many too much: a file of brackets alone must not take for ever.
_MOST_FAILURES, _MOST_DEEP = 20_000, 50


def objects_in(text: str) -> Iterator[object]:
    """Every whole object of a text, outermost first, whatever stands between them; what is inside one that is whole
    is not given again."""
    decoder = json.JSONDecoder()
    failures = deep = 0
    at = text.find("{")
    while at >= 0 and failures < _MOST_FAILURES and deep < _MOST_DEEP:
        try:
            made, end = decoder.raw_decode(text, at)
        except ValueError:
            failures, end = failures + 1, at + 1
        except RecursionError:
            # Real files are never this deeply nested; valid entries follow.
            deep, end = deep + 1, _past_the_brackets(text, at)
        else:
            yield made
        at = text.find("{", end)


def _past_the_brackets(text: str, at: int) -> int:
    """Behind a run in which brackets only open."""
    closing = min((k for k in (text.find("}", at), text.find("]", at)) if k >= 0), default=len(text))
    return max(text.rfind("{", at + 1, closing), at + 1)


def salvaged(text: str, read: Callable[[object], T | None]) -> list[T]:
    """What ``read`` makes of the objects of a damaged text; objects for which it returns None are skipped."""
    return [made for found in objects_in(text) if (made := read(found)) is not None]
