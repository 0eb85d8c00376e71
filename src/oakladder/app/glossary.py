"""The glossary: every term of the window in a sentence. Tooltips read it, and ``docs/glossary.md`` is made from it."""

from __future__ import annotations

from dataclasses import dataclass

from oakladder.trial.metrics.metrics import METRICS


@dataclass(frozen=True, slots=True)
class Term:
    """A term, and what it means: a phrase that can follow a colon, without a full stop."""

    name: str
    meaning: str


GROUPS: dict[str, tuple[Term, ...]] = {
    "The window": (
        Term("Bench", "the place with one chart, its script, the watchlist and the timeframe ladder"),
        Term("Ladder", "the place with a watchlist, script columns over many timeframes, and filters"),
        Term("Timeframe ladder", "the column left of the chart: a rung for each timeframe with its newest signal"),
        Term("Lane", "a row of squares under the price, one for each bar"),
        Term("Overlay", "a script that is drawn on the chart beside the open one"),
        Term("Side chart", "a chart beside the main one: another timeframe, or another symbol"),
        Term("Replay", "the chart as it was known at an earlier moment, stepped or played forward"),
        Term("Live prices", "minutes that a feed sends as they form, in the chart, the watchlist and the library"),
        Term("Feed", "a server that sends minutes over WebSocket; the invented market has one, `./oak feed`"),
        Term("Market time", "the time of the market that a feed serves; a simulated one runs faster than the clock"),
        Term("Alert", "a condition that is watched over symbols; it reports each bar on which it holds"),
        Term("Missed", "an alert's bar that closed while no program followed the feed: listed, not reported elsewhere"),
        Term("Extended hours", "trading before and after the regular session"),
        Term("Linear scale", "equal price differences have equal heights; the logarithmic scale does that for ratios"),
    ),
    "Rules": (
        Term("Rung", "the script language"),
        Term("Signal", "a condition with a name; it is bullish, bearish or neutral"),
        Term("Setting", "a number, colour or choice of a script that can be changed without editing it"),
        Term("Why", "a signal's condition taken apart on one bar: every part with its values and verdict"),
        Term("Near miss", "a bar on which a signal failed by little"),
        Term("Scan", "the symbols on which conditions of any scripts hold now"),
        Term("Funnel", "how many symbols remain after each condition of a scan"),
        Term("Look back", "the past occurrences of a scan, with what followed"),
    ),
    "Trades": (
        Term("Symbol", "the instrument of the trade"),
        Term("Side", "long or short"),
        Term("In", "entry date"),
        Term("Out", "exit date"),
        Term("Bars", "number of bars from entry to exit"),
        Term("Entry", "entry price, before slippage"),
        Term("Exit", "exit price, before slippage"),
        Term("Result", "return on the entry value, after costs"),
        Term("Money", "net profit, after costs and slippage"),
        Term("R", "R multiple: profit divided by the risk at the first stop"),
        Term("MAE", "max adverse excursion: the largest open loss, as a share of the entry price"),
        Term("MFE", "max favourable excursion: the largest open profit, as a share of the entry price"),
        Term("Exit reason", "what closed the trade: a stop, a target, a time limit, a signal"),
        Term("Skipped entry", "an entry that the account could not take, with the reason"),
        Term("Slippage", "how much worse market and stop fills are than the price of the bar"),
        Term("Commission", "what each fill costs, as a share of its value, per fill or per unit"),
        Term("Position size", "how much an entry buys: a share of equity, a sum, units, or a share of equity at risk"),
        Term("Buying power", "the largest value of all positions, in multiples of equity"),
        Term("Max open positions", "how many positions the account holds at once"),
    ),
    "Evidence": (
        Term("Bars", "horizon: bars after the signal"),
        Term("Times", "occurrences with enough bars after them"),
        Term("Days", "number of different days on which they occurred"),
        Term("Mean", "mean change from the next open to the close of that bar"),
        Term("Median", "median of those changes"),
        Term("Up", "share of changes above zero"),
        Term("Usual", "mean change after any bar of the same symbols and period"),
        Term("More", "mean minus the usual mean"),
        Term("Chance", "share of shifts in time that did at least as well, measured in standard errors"),
    ),
    "Judging": (
        Term("Trial", "a test of a rule over history, with an account, costs and fills at prices that could be traded"),
        Term("Variant", "the rule with one change: a setting, timeframe, list, cost or stop"),
        Term(
            "Try",
            "a variant whose result was visible for a moment, or a combination of a sweep; equal trades count once",
        ),
        Term(
            "Deflated Sharpe ratio", "the Sharpe ratio after a deduction for what the best of all tries reaches by luck"
        ),
        Term("Sweep", "a search over combinations of settings"),
        Term("Lonely peak", "a combination whose neighbours are much worse, so that it is most likely luck"),
        Term("Walk forward", "settings are chosen on one span and traded on the next, and so on"),
        Term("Seal", "the last fifth of a list's days is held out until a rule breaks the seal, on every timeframe"),
        Term("Tuned on known data", "first tried after the sealed part had been seen, by whichever rule"),
        Term(
            "Look-ahead check", "a search for values that were not known on their bar, and fills that are not certain"
        ),
        Term("Buy and hold", "the same money put into the symbols in equal parts at their first opens"),
    ),
    "Data": (
        Term("Tick size", "the smallest step of a price"),
        Term("24-hour session", "a market that trades around the clock"),
        Term("Coverage", "which bars of a symbol the library has"),
        Term("Duplicate row", "a second row of a file with the same time"),
        Term("Closed day", "a day without trading, or with an early close"),
    ),
}


def meaning(group: str, name: str) -> str:
    """What a term of a group means. Raises `KeyError` for an unknown one."""
    return {term.name: term.meaning for term in GROUPS[group]}[name]


def glossary_page() -> str:
    """The page ``docs/glossary.md``."""
    lines = ["# Glossary", "", "Every term of the window, in one sentence. Tooltips show the same words.", ""]
    for group, terms in GROUPS.items():
        lines += [f"## {group}", "", *(f"* **{t.name}**: {t.meaning}" for t in terms), ""]
        if group == "Trades":
            metrics = sorted(METRICS.values(), key=lambda f: f.title)
            lines += ["## Metrics", "", *(f"* **{f.title}** (`{f.name}`): {f.about}" for f in metrics), ""]
    return "\n".join(lines)
