"""The grammar of one line, made ready once, and what it makes of a text."""

from __future__ import annotations

from functools import lru_cache
from importlib.resources import files
from pathlib import Path
from typing import Any

import platformdirs
from lark import Lark

from oakladder.rung.words import grammar

#: A node of lark's own tree, or a token; its stubs tell the two apart nowhere.
Node = Any


@lru_cache(maxsize=1)
def _grammar() -> Lark:
    source = grammar(files(__package__).joinpath("grammar.lark").read_text(encoding="utf-8"))
    folder = Path(platformdirs.user_cache_dir("oakladder"))
    try:
        folder.mkdir(parents=True, exist_ok=True)
        cache: str | bool = str(folder / "grammar.tables")  # lark checks that it fits the grammar
    except OSError:
        cache = False
    return Lark(
        source,
        parser="lalr",
        lexer="contextual",
        start=["start", "expr"],
        propagate_positions=True,
        maybe_placeholders=False,
        cache=cache,
    )


@lru_cache(maxsize=4096)
def read(text: str, start: str) -> Node:
    """The tree of a text; what was read before is remembered. Raises `lark.exceptions.UnexpectedInput`."""
    return _grammar().parse(text, start=start)
