"""Mistakes in the lines of trades: a trader's words for what Rung calls otherwise."""

from __future__ import annotations

from oakladder.rung.read.mistake import NAME, Mistake, mistake

TRADES: tuple[Mistake, ...] = (
    mistake(
        rf"^\s*trade\s+(?P<at>(?P<side>long|short)\s+(?P<name>{NAME}))\s*:?\s*$",
        "The name of a trade stands before its side.",
        "Write `{new}`.",
        lambda of: f"{of('name')} {of('side')}",
    ),
    mistake(
        rf"^\s*(?P<at>(?P<side>long|short)\s+trade\s+(?P<name>{NAME}))\s*:?\s*$",
        "A trade begins with `trade`, its name and its side.",
        "Write `{new}`.",
        lambda of: f"trade {of('name')} {of('side')}",
        "R101",
    ),
    mistake(
        rf"^\s*trade\s+{NAME}\s+(?P<at>buy|sell)\s*:?\s*$",
        "The sides of a trade are `long` and `short`.",
        "Write `{new}`.",
        lambda of: {"buy": "long"}.get(of("at"), "short"),
    ),
    mistake(
        rf"^\s*trade\s+{NAME}\s+(?:long|short)(?P<at>\s*[:{{])\s*$",
        "What belongs to a trade is indented under it.",
        "Take the sign out.",
        "",
    ),
    mistake(
        r"^\s+(?P<at>(?:exit|close|cover)\s+(?:when|if))\b",
        "A trade is left with `leave when`.",
        "Write `leave when`.",
        "leave when",
        "R101",
    ),
    mistake(
        r"^\s+(?P<at>(?:entry|go)\s+(?:when|if))\b",
        "A trade is entered with `enter when`.",
        "Write `enter when`.",
        "enter when",
        "R101",
    ),
    mistake(
        r"^\s+(?:enter|leave)\s+(?P<at>if)\b", "The condition of a trade stands behind `when`.", "Write `when`.", "when"
    ),
    mistake(r"^\s+(?P<at>stop[\s_-]*loss|stoploss)\b", "It is called `stop` here.", "Write `stop`.", "stop", "R101"),
    mistake(
        r"^\s+(?P<at>take[\s_-]*profit|profit[\s_-]*target)\b",
        "It is called `target` here.",
        "Write `target`.",
        "target",
        "R101",
    ),
    mistake(
        r"^\s+(?P<at>trailing(?:[\s_-]*stop)?|trail[\s_-]*stop)\b",
        "It is called `trail` here.",
        "Write `trail`.",
        "trail",
        "R101",
    ),
    mistake(
        r"^\s+(?P<at>break[\s_-]*even(?:\s+(?:after|at))?)\b",
        "It is called `protect after` here.",
        "Write `protect after`.",
        "protect after",
        "R101",
    ),
    mistake(
        r"^\s+at\s+most\s+[\w.]+(?P<at>)\s*$",
        "What is counted is said: bars.",
        "Write `bars` behind the number.",
        " bars",
    ),
    mistake(
        r"^\s+pause\s+[\w.]+(?P<at>)\s*$", "What is counted is said: bars.", "Write `bars` behind the number.", " bars"
    ),
    mistake(
        r"^\s+(?:target|protect\s+after)\s+[\w.]+(?P<at>\s*(?:risk|R|r))\s*$",
        "A distance in risks is written with the word `risks`, also for one.",
        "Write `risks`.",
        " risks",
    ),
    mistake(r"^\s+flat\s+(?P<at>at)\s+\d", "A time of day stands behind `by`.", "Write `by`.", "by"),
)
