"""The grammar of one line, made ready once, and what it makes of a text."""

from __future__ import annotations

import io
import sys
from functools import lru_cache
from importlib.resources import files
from typing import Any

import lark
from lark import Lark

from oakladder.cache import DiskCache, Section, cache_key
from oakladder.rung.words import grammar

#: A node of lark's own tree, or a token; its stubs tell the two apart nowhere.
Node = Any


_OPTIONS: dict[str, Any] = {
    "parser": "lalr",
    "lexer": "contextual",
    "start": ["start", "expr"],
    "propagate_positions": True,
    "maybe_placeholders": False,
}


@lru_cache(maxsize=1)
def _grammar() -> Lark:
    """The parser; its tables are computed once and cached."""
    source = grammar(files(__package__).joinpath("grammar.lark").read_text(encoding="utf-8"))
    key = cache_key(source, repr(_OPTIONS), lark.__version__, sys.version)
    cache = DiskCache(Section.GRAMMAR)
    tables = cache.take(key)
    if tables is not None:
        return Lark.load(io.BytesIO(tables))
    made = Lark(source, **_OPTIONS)
    written = io.BytesIO()
    made.save(written)
    cache.put(key, written.getvalue())
    return made


@lru_cache(maxsize=4096)
def read(text: str, start: str) -> Node:
    """The tree of a text; what was read before is remembered. Raises `lark.exceptions.UnexpectedInput`."""
    return _grammar().parse(text, start=start)
