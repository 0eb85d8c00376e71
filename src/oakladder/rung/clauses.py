"""What each output statement takes: the kinds of its operands and its clauses."""

from __future__ import annotations

from . import registry
from .kinds import Kind

#: Output statement → the kinds its operands may have.
OPERANDS: dict[str, tuple[tuple[Kind, ...], ...]] = {
    "line": ((Kind.NUMBER,),),
    "histogram": ((Kind.NUMBER,),),
    "band": ((Kind.NUMBER,), (Kind.NUMBER,)),
    "level": ((Kind.NUMBER,),),
    "mark": ((Kind.FLAG,),),
    "label": ((Kind.TEXT, Kind.NUMBER),),
    "paint": (),
    "lane": ((Kind.TEXT,),),
    "zone": ((Kind.NUMBER,), (Kind.NUMBER,)),
    "link": ((Kind.NUMBER,), (Kind.NUMBER,)),
    "note": ((Kind.TEXT, Kind.NUMBER),),
    "column": ((Kind.TEXT, Kind.NUMBER, Kind.FLAG),),
}
ALWAYS = {"color", "when", "named"}
#: Output statement → the clauses it takes besides ``color``, ``when`` and ``named``.
CLAUSES: dict[str, frozenset[str]] = {
    "line": frozenset({"width", "style", "in"}),
    "histogram": frozenset({"base", "in"}),
    "band": frozenset({"in"}),
    "level": frozenset({"style", "width", "in"}),
    "mark": frozenset({"side", "at", "shape", "size", "text", "ago", "in"}),
    "label": frozenset({"side", "at", "size", "ago", "in"}),
    "paint": frozenset({"painted"}),
    "lane": frozenset(),
    "zone": frozenset({"lasting", "until"}),
    "link": frozenset({"width", "style", "ago", "ago_start", "in"}),
    "note": frozenset({"corner"}),
    "column": frozenset({"fill", "order"}),
}
CLAUSE_KINDS: dict[str, Kind] = {
    "color": Kind.COLOUR,
    "fill": Kind.COLOUR,
    "when": Kind.FLAG,
    "until": Kind.FLAG,
    "width": Kind.NUMBER,
    "at": Kind.NUMBER,
    "size": Kind.NUMBER,
    "ago": Kind.NUMBER,
    "ago_start": Kind.NUMBER,
    "lasting": Kind.NUMBER,
    "order": Kind.NUMBER,
    "base": Kind.NUMBER,
    "text": Kind.TEXT,
}
CLAUSE_WORDS: dict[str, tuple[str, ...]] = {"shape": registry.SHAPES, "style": registry.STYLES}
