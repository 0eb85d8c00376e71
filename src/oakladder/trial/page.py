"""The report of a trial as one page that opens anywhere: metrics, curves, months, trades; nothing is fetched for it."""

from __future__ import annotations

from datetime import UTC, datetime
from html import escape

import numpy as np

from oakladder.rung.texts import count_words
from oakladder.trial.breakdowns import by_reason, by_side, months
from oakladder.trial.metrics.metrics import METRICS, metric_words
from oakladder.trial.report import TRADE_COLUMNS, trade_rows
from oakladder.trial.spans import TUNED_WORDS
from oakladder.trial.trial import Trial

_WIDE, _HIGH, _WATER = 900, 260, 60
#: Max number of points of a curve; more would not be visible.
_MOST_POINTS = 900
_STYLE = """
body{font:15px/1.45 "Noto Sans","DejaVu Sans",sans-serif;background:#f7f3ea;color:#2b2622;max-width:960px;margin:2em auto;padding:0 1em}
h1{font-size:1.5em;margin:0}h2{font-size:1.05em;border-bottom:1px solid #b08d57;margin-top:2em}
p.quiet{color:#756b5f}table{border-collapse:collapse;font-variant-numeric:tabular-nums;font-size:.86em}
td,th{padding:.2em .6em;text-align:right;white-space:nowrap}td.w,th.w{text-align:left}th{color:#756b5f;font-weight:normal;border-bottom:1px solid #ddd3bf}
tr:nth-child(even) td{background:#fdfbf5}.good{color:#3d6a9e}.bad{color:#b5532d}
table.big td{background:none;text-align:left;padding:.2em 1.6em .2em 0;color:#756b5f}table.big b{font-size:1.7em;color:#2b2622}pre{background:#fdfbf5;padding:1em;overflow:auto}
@media print{body{background:#fff;margin:0}}
"""


def html_page(trial: Trial, title: str, *, most_trades: int | None = None, curve: str | None = None) -> str:
    """The report as HTML, headed by the rule's own title, or by this one where it has none. With ``most_trades`` only so many of the newest trades are listed; ``curve`` replaces the
    drawing, for printers that cannot draw it."""
    title = escape(trial.program.title or title)
    parts = [
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{title}</title>',
        f"<style>{_STYLE}</style></head><body><h1>{title}</h1>",
        f'<p class="quiet">{escape(where_words(trial))}</p>',
        _figures(trial),
        "<h2>Curve</h2>",
        curve if curve is not None else curve_drawing(trial),
        _curve_words(trial),
        "<h2>Months</h2>",
        _months(trial),
        "<h2>By side and exit reason</h2>",
        _groups(trial),
        "<h2>All metrics</h2>",
        _all_figures(trial),
        "<h2>Trades</h2>",
        _trades(trial, most_trades),
        "<h2>The rule</h2>",
        f"<pre>{escape(trial.program.text)}</pre></body></html>",
    ]
    return "\n".join(parts)


def where_words(trial: Trial) -> str:
    """On what a rule was tried and with which account, in a sentence or two."""
    panel, account = trial.ground.panel, trial.account
    symbols = panel.symbols
    where = symbols[0] if len(symbols) == 1 else f"{len(symbols)} symbols"
    times = trial.equity.times
    span = f", {_day(times[0])} to {_day(times[-1])}" if len(times) else ""
    costs = account.costs
    terms = f"{account.money:,.0f} to begin with, {account.size_for(len(symbols))} an entry"
    terms += f", {costs.ratio * 100:g}% and {costs.slippage} a fill"
    seal = trial.ground.seal
    sealed = f" The rest of history, from {_day(seal)} on, is sealed." if seal is not None else ""
    sealed += f" {TUNED_WORDS}" if trial.ground.is_tuned else ""
    return f"{where}, {panel.timeframe}{span}. {terms}. Fills are on real prices.{sealed}"


def _day(time: int) -> str:
    return f"{datetime.fromtimestamp(int(time), UTC):%d %b %Y}"


def _figures(trial: Trial) -> str:
    made = []
    for name in ("growth", "held_growth", "drawdown", "trades", "winners", "profit_factor", "average", "sharpe"):
        metric = METRICS[name]
        words = escape(metric_words(trial.metrics, name))
        made.append(f'<td title="{escape(metric.about)}">{metric.title}<br><b>{words}</b></td>')
    return f'<table class="big"><tr>{"".join(made[:4])}</tr><tr>{"".join(made[4:])}</tr></table>'


def _thinned(values: np.ndarray) -> np.ndarray:
    """Indices of as many points as are visible, the last among them."""
    step = max(len(values) // _MOST_POINTS, 1)
    return np.unique(np.append(np.arange(0, len(values), step), len(values) - 1))


def _points(times: np.ndarray, values: np.ndarray, low: float, high: float, height: float) -> str:
    at = _thinned(values)
    span = max(float(times[-1] - times[0]), 1.0)
    xs = _WIDE * (times[at] - times[0]) / span
    ys = height * (high - values[at]) / ((high - low) or 1.0)
    return " ".join(f"{x:.1f},{y:.1f}" for x, y in zip(xs.tolist(), ys.tolist(), strict=True) if y == y)


def curve_drawing(trial: Trial) -> str:
    """The curve over the held money and under water as SVG; empty without bars."""
    equity = trial.equity
    if not len(equity.times):
        return ""
    both = np.concatenate([equity.value, equity.held])
    low, high = float(np.nanmin(both)), float(np.nanmax(both))
    under = equity.under_water
    deepest = min(float(under.min()), -1e-9)
    held = _points(equity.times, equity.held, low, high, _HIGH)
    value = _points(equity.times, equity.value, low, high, _HIGH)
    water = _points(equity.times, under, deepest, 0.0, _WATER)
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {_WIDE} {_HIGH + _WATER + 12}" width="100%" role="img" '
        'aria-label="Equity and drawdown">'
        f'<polyline points="{held}" fill="none" stroke="#8d857a" stroke-width="1.4" stroke-dasharray="2 3"/>'
        f'<polyline points="{value}" fill="none" stroke="#2b2622" stroke-width="2"/>'
        f'<g transform="translate(0 {_HIGH + 12})"><polygon points="0,0 {water} {_WIDE},0" fill="#b5532d" '
        'fill-opacity=".4"/></g></svg>'
    )


def _curve_words(trial: Trial) -> str:
    equity = trial.equity
    if not len(equity.times):
        return "<p>There are no bars.</p>"
    deepest = float(equity.under_water.min())
    beside = f"; dotted: buy and hold, {equity.held[-1]:,.2f}" if np.isfinite(equity.held[-1]) else ""
    return (
        f'<p class="quiet">From {equity.start:,.2f} to {equity.value[-1]:,.2f}{beside}. '
        f"Below: drawdown, max {-deepest:.1%}.</p>"
    )


def _months(trial: Trial) -> str:
    years: dict[int, dict[int, float]] = {}
    for month in months(trial):
        years.setdefault(month.year, {})[month.month] = month.change
    names = "".join(
        f"<th>{n}</th>"
        for n in ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec", "Year"]
    )
    rows = []
    for year, row in years.items():
        whole = float(np.prod([1 + c for c in row.values()])) - 1
        cells = "".join(_signed(row.get(m)) for m in range(1, 13)) + _signed(whole)
        rows.append(f"<tr><td>{year}</td>{cells}</tr>")
    return f"<table><tr><th></th>{names}</tr>{''.join(rows)}</table>"


def _signed(change: float | None) -> str:
    if change is None:
        return "<td></td>"
    return f'<td class="{"good" if change > 0 else "bad"}">{change:+.1%}</td>'


def _groups(trial: Trial) -> str:
    head = "".join(f"<th>{METRICS[n].title}</th>" for n in ("trades", "winners", "average", "net"))
    rows = []
    for group in (*by_side(trial), *by_reason(trial)):
        cells = "".join(
            f"<td>{escape(metric_words(group.metrics, n))}</td>" for n in ("trades", "winners", "average", "net")
        )
        rows.append(f'<tr><td class="w">{escape(group.name)}</td>{cells}</tr>')
    return f"<table><tr><th></th>{head}</tr>{''.join(rows)}</table>"


def _all_figures(trial: Trial) -> str:
    rows = [
        f'<tr><td class="w">{f.title}</td><td>{escape(metric_words(trial.metrics, name))}</td>'
        f'<td class="w">{escape(f.about)}</td></tr>'
        for name, f in METRICS.items()
    ]
    counts = ", ".join(f"{count} {name}" for name, count in trial.counts.items())
    return f"<table>{''.join(rows)}</table><p>{escape(counts)}; {count_words(int((trial.book.taken != 0).sum()), 'entry')} skipped.</p>"


def _trades(trial: Trial, most: int | None) -> str:
    rows = list(trade_rows(trial, trial.book.done | trial.book.open))
    rows.sort(key=lambda row: str(row["entered"]), reverse=True)
    left = len(rows) - most if most is not None and len(rows) > most else 0
    head = "".join(f"<th>{name}</th>" for name in TRADE_COLUMNS)
    made = []
    for row in rows[:most]:
        cells = "".join(f"<td>{escape(_field(name, row[name]))}</td>" for name in TRADE_COLUMNS)
        made.append(f"<tr>{cells}</tr>")
    more = f"<p>{left} older trades are not listed here.</p>" if left else ""
    return f"<table><tr>{head}</tr>{''.join(made)}</table>{more}"


def _field(name: str, value: object) -> str:
    if value is None:
        return "–"
    if name in ("ratio", "worst", "best"):
        return f"{value:+.2%}"
    if name in ("decided", "entered", "left"):
        return str(value).replace("T", " ")[:16]
    return f"{value:,.2f}" if isinstance(value, float) else str(value)
