"""Rewrites the trades of a script: the other side, the inverted entry, an added stop."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from oakladder.rung import tree as t
from oakladder.rung.read.blocks import parse
from oakladder.rung.service.unparse import unparse
from oakladder.rung.trade_words import FORMS, Side, TradeWord

_W = TradeWord
#: The line of each clause, by its values.
_LINES: dict[TradeWord, str] = {
    _W.ENTER: "enter when {0}",
    _W.ENTER_AT: "enter at {0} when {1}",
    _W.LEAVE: "leave when {0}",
    _W.STOP: "stop {0}",
    _W.STOP_AT: "stop at {0}",
    _W.TRAIL: "trail {0}",
    _W.PROTECT: "protect after {0}",
    _W.PROTECT_RISKS: "protect after {0} risks",
    _W.TARGET: "target {0}",
    _W.TARGET_AT: "target at {0}",
    _W.TARGET_RISKS: "target {0} risks",
    _W.MOST: "at most {0} bars",
    _W.FLAT_BY: "flat by {0}",
    _W.FLAT_AT_END: "flat at session end",
    _W.PAUSE: "pause {0} bars",
    _W.RANK: "rank {0}",
}


def clause_line(clause: t.TradeClause) -> str:
    """A clause as a script would say it."""
    made = _LINES[clause.what].format(*map(unparse, clause.values))
    if clause.what is _W.ENTER_AT and len(clause.values) > 2:
        made += f" for {unparse(clause.values[2])} bars"
    return made


def trade_lines(trade: t.Trade) -> list[str]:
    """A trade as a script would say it."""
    clauses = [line for line in trade.body if isinstance(line, t.TradeClause)]
    return [f"trade {trade.name.name} {trade.side.word}", *(f"    {clause_line(c)}" for c in clauses)]


def swapped(trade: t.Trade) -> t.Trade:
    """A trade on the other side."""
    return replace(trade, side=Side(-trade.side))


def turned_round(trade: t.Trade) -> t.Trade:
    """A trade that is entered where it was not."""
    return replace(trade, body=tuple(map(_turned, trade.body)))


def _turned(line: t.Statement) -> t.Statement:
    if not isinstance(line, t.TradeClause) or FORMS[line.what].word != "enter":
        return line
    at = 1 if line.what is _W.ENTER_AT else 0
    flag = line.values[at]
    turned = t.Unary("not", flag, flag.span)
    return replace(line, values=(*line.values[:at], turned, *line.values[at + 1 :]))


def with_stop(distance: str) -> Callable[[t.Trade], t.Trade]:
    """What gives a trade a stop at a distance, in place of the one it has."""
    made = parse(f"rung 1\ntrade x long\n    stop {distance}\n")[0].statements
    stop = made[0].body[0] if made and isinstance(made[0], t.Trade) and made[0].body else None

    def change(trade: t.Trade) -> t.Trade:
        if not isinstance(stop, t.TradeClause):
            return trade
        kept = tuple(x for x in trade.body if not (isinstance(x, t.TradeClause) and x.what is _W.STOP))
        return replace(trade, body=(*kept, stop))

    return change


def with_trades(text: str, change: Callable[[t.Trade], t.Trade]) -> str:
    """A script with each of its trades changed; the rest of its text stays as it is."""
    lines = text.splitlines()
    trades = [s for s in parse(text)[0].statements if isinstance(s, t.Trade)]
    for trade in reversed(trades):
        first = trade.span.line - 1
        end = first + 1
        while end < len(lines) and (not lines[end].strip() or lines[end][:1] in " \t"):
            end += 1
        while end > first + 1 and not lines[end - 1].strip():
            end -= 1
        lines[first:end] = trade_lines(change(trade))
    return "\n".join(lines) + "\n"
