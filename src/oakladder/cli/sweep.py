"""Sweeps from the command line: many variants of a rule, below each other or walked forward."""

from __future__ import annotations

import csv
import sys
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Executor
from contextlib import contextmanager
from datetime import UTC, datetime

from oakladder.bars.time_words import iso
from oakladder.cli.argument_types import at_least
from oakladder.cli.common import CALL_WRONG, Argument, Format, arg, fail
from oakladder.cli.streams import json_words
from oakladder.engine.run.context import RunContext
from oakladder.trial.batch.processes import Workers
from oakladder.trial.batch.task import Task, Tried
from oakladder.trial.metrics.metrics import METRICS, metric_words
from oakladder.trial.spans import TUNED_WORDS
from oakladder.trial.sweep.map import SweepMap, map_of
from oakladder.trial.sweep.ranges import Range, drawn_settings, grid_of_settings, point_words, settings_words
from oakladder.trial.sweep.run import swept
from oakladder.trial.sweep.walk_forward import Walk, walk_forward

#: The metrics of a row where several variants stand below each other.
_IN_ROWS = ("trades", "winners", "profit_factor", "average", "growth", "drawdown", "sharpe", "end")
#: The metrics that a sweep can be looked at by.
LOOKED_AT = tuple(name for name, f in METRICS.items() if f.in_sweeps)

SWEEPING: tuple[Argument, ...] = (
    arg(
        "--sweep",
        dest="sweeps",
        action="append",
        help="a setting over a range, as in n=5..60/5 or n=5,8,13; several make a grid",
    ),
    arg("--draw", dest="draw", type=at_least(1), help="only so many combinations of the ranges, drawn at random"),
    arg("--by", dest="by", default="sharpe", help=f"the metric to look at: {', '.join(LOOKED_AT)}"),
    arg("--walk", dest="walk", action="store_true", help="choose on a span, trade the next, and so on"),
    arg("--cluster", dest="cluster", help="do it on a Dask cluster, as in tcp://host:port"),
)


def sweep(
    task: Task,
    sweeps: Sequence[str],
    draw: int | None,
    by: str,
    walk: bool,
    cluster_address: str | None,
    format_: Format,
) -> tuple[list[Range], list[Tried]]:
    """Runs the variants of a rule and prints the results. Raises `RunProblem`."""
    if by not in LOOKED_AT:
        fail(CALL_WRONG, f"--by takes one of {', '.join(LOOKED_AT)}; `{by}` is none.")
    ranges, variants = variants_of(task, sweeps, draw)
    with _executor(cluster_address) as executor:
        rows = list(swept(task, variants, context=RunContext(executor)))
        if walk:
            _print_walk(walk_forward(task, variants, by, context=RunContext(executor)), format_, task.ground.is_tuned)
    if not walk:
        _print_rows(ranges, rows, map_of(ranges, rows, by), format_, task.ground.is_tuned)
    return ranges, rows


def variants_of(task: Task, sweeps: Sequence[str], draw: int | None) -> tuple[list[Range], list[dict[str, object]]]:
    """The ranges of a sweep, and the settings of each of its variants. Raises `RunProblem`."""
    ranges = [Range.parse(text) for text in sweeps]
    _check_names(task, ranges)
    return ranges, drawn_settings(ranges, draw) if draw is not None else grid_of_settings(ranges)


def _check_names(task: Task, ranges: Sequence[Range]) -> None:
    names = [s.name for s in task.program.settings]
    for one in ranges:
        if one.name not in names:
            have = f"It has {', '.join(names)}." if names else "It has none."
            fail(CALL_WRONG, f"The script has no setting `{one.name}`. {have}")


@contextmanager
def _executor(address: str | None) -> Iterator[Executor]:
    if address is None:
        with Workers() as executor:
            yield executor
        return
    from oakladder.trial.batch.cluster import cluster

    with cluster(address) as executor:
        yield executor


def _print_rows(
    ranges: Sequence[Range], rows: Sequence[Tried], made: SweepMap, format_: Format, is_tuned: bool
) -> None:
    around = [None if v != v else float(v) for v in made.around.tolist()]
    if format_ is Format.JSON:
        plain = [
            {"settings": r.settings, "problem": r.problem}
            if r.problem
            else {"settings": r.settings, "figures": r.metrics, "counts": r.counts, "around": a, "lonely": lonely}
            for r, a, lonely in zip(rows, around, made.lonely.tolist(), strict=True)
        ]
        print(
            json_words(
                {
                    "sweep": plain,
                    "by": made.metric,
                    "best": _at(rows, made.best),
                    "broad": _at(rows, made.broad),
                    "edges": made.edges,
                    "tuned": is_tuned,
                }
            )
        )
        return
    if is_tuned:
        print(TUNED_WORDS, file=sys.stderr)
    writer = csv.writer(sys.stdout, delimiter="\t", lineterminator="\n")
    title = METRICS[made.metric].title
    writer.writerow([*(r.name for r in ranges), *(METRICS[n].title for n in _IN_ROWS), f"{title} around", ""])
    for one, beside, lonely in zip(rows, around, made.lonely.tolist(), strict=True):
        shown = [one.problem] if one.problem else [metric_words(one.metrics, name) for name in _IN_ROWS]
        told = (
            [] if one.problem else [metric_words({made.metric: beside}, made.metric), "lonely peak" if lonely else ""]
        )
        writer.writerow([*map(point_words, one.settings.values()), *shown, *told])
    for words, place in (("best", made.best), ("best with its neighbours", made.broad)):
        if place is not None:
            value = metric_words(rows[place].metrics, made.metric)
            print(f"{title} {words}: {settings_words(rows[place].settings)} with {value}", file=sys.stderr)
    if made.edges:
        print(f"The best lies at the end of the range of {' and '.join(made.edges)}: go further.", file=sys.stderr)


def _at(rows: Sequence[Tried], place: int | None) -> Mapping[str, object] | None:
    return None if place is None else rows[place].settings


def _print_walk(made: Walk, format_: Format, is_tuned: bool) -> None:
    if format_ is Format.JSON:
        steps = [
            {
                "first": iso(s.first),
                "last": iso(s.last),
                "settings": dict(s.settings),
                "promised": s.promised,
                "brought": s.brought,
                "trades": s.trades,
            }
            for s in made.steps
        ]
        hindsight = {"settings": dict(made.hindsight_settings), "figures": made.hindsight.metrics}
        equity = [[iso(t), v] for t, v in zip(made.equity.times.tolist(), made.equity.value.tolist(), strict=True)]
        plain = {
            "by": made.metric,
            "steps": steps,
            "figures": dict(made.metrics),
            "hindsight": hindsight,
            "equity": equity,
        }
        print(json_words({"walk": plain, "tuned": is_tuned}))
        return
    writer = csv.writer(sys.stdout, delimiter="\t", lineterminator="\n")
    writer.writerow(["From", "To", "Settings", "Promised", "Brought", "Trades"])
    for step in made.steps:
        told = [metric_words({made.metric: v}, made.metric) for v in (step.promised, step.brought)]
        writer.writerow([_day(step.first), _day(step.last), settings_words(step.settings), *told, step.trades])
    print(made.words())


def _day(time: int) -> str:
    return f"{datetime.fromtimestamp(time, UTC):%Y-%m-%d}"
