"""What a sweep says, in plain sentences."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from oakladder.trial.batch.task import Tried
from oakladder.trial.metrics.metrics import METRICS, metric_words
from oakladder.trial.sweep.map import SweepMap
from oakladder.trial.sweep.ranges import Range, settings_words


def map_words(made: SweepMap, ranges: Sequence[Range], rows: Sequence[Tried]) -> str:
    """What a map shows: its best, whether that is lonely or at an end, and what is the best with its neighbours."""
    title = METRICS[made.metric].title
    if made.best is None or made.broad is None:
        return (
            rows[0].problem if rows and rows[0].problem else f"No combination has the metric {title}: too few trades."
        )
    best, broad = rows[made.best], rows[made.broad]
    told = [
        f"{len(rows):,} combinations. The best, {settings_words(best.settings)}, has {title} "
        f"{metric_words(best.metrics, made.metric)}"
    ]
    if made.lonely[made.best]:
        told[-1] += ": a lonely peak, most likely luck"
    elif made.broad == made.best and len(rows) > 1:
        told[-1] += "; with its neighbours it is the best too"
    if made.edges:
        told.append(f"It lies at the end of the range of {' and '.join(made.edges)}: go further")
    if made.broad != made.best:
        around = metric_words(broad.metrics, made.metric)
        told.append(f"With its neighbours {settings_words(broad.settings)} is the best ({around})")
    if len(ranges) > 2:
        others = ", ".join(r.name for r in ranges[2:])
        told.append(f"Of several that share a square ({others}) the median one is shown")
    return ". ".join(told) + "."


def by_settings(rows: Sequence[Tried]) -> dict[str, Tried]:
    """Variants by their settings in words."""
    return {settings_words(row.settings): row for row in rows}


def beside_words(metric: str, rows: Sequence[Tried], before: Mapping[str, Tried]) -> str:
    """Compares a sweep with another one of the same settings; empty if the settings differ."""
    sign = -1 if METRICS[metric].good < 0 else 1
    pairs = []
    for row in rows:
        other = before.get(settings_words(row.settings))
        now, then = row.value(metric), other.value(metric) if other is not None else None
        if now is not None and then is not None:
            pairs.append((sign * now, sign * then))
    if not pairs or all(a == b for a, b in pairs):
        return ""
    better = sum(a > b for a, b in pairs)
    return f" Beside the sweep that was shown before: better in {better:,} of {len(pairs):,} combinations."
