"""What a sweep says: its best, whether that can be trusted, and how it compares with the sweep before."""

from __future__ import annotations

import pytest

from oakladder.trial.batch.task import Tried
from oakladder.trial.sweep.map import map_of
from oakladder.trial.sweep.ranges import Range
from oakladder.trial.sweep.words import beside_words, by_settings, map_words


def rows_of(values: list[list[float | None]], metric: str = "sharpe") -> tuple[list[Range], list[Tried]]:
    ranges = [Range("n", tuple(map(float, range(len(values))))), Range("far", tuple(map(float, range(len(values[0])))))]
    rows = [
        Tried({"n": float(y), "far": float(x)}, {metric: value})
        for y, row in enumerate(values)
        for x, value in enumerate(row)
    ]
    return ranges, rows


def words(values: list[list[float | None]], metric: str = "sharpe") -> str:
    ranges, rows = rows_of(values, metric)
    return map_words(map_of(ranges, rows, metric), ranges, rows)


def grid(size: int, **points: float) -> list[list[float | None]]:
    made: list[list[float | None]] = [[0.0] * size for _ in range(size)]
    for name, value in points.items():
        _, y, x = name.split("_")
        made[int(y)][int(x)] = value
    return made


def test_a_lonely_peak_and_a_broad_top_are_told_apart() -> None:
    hills = grid(7, p_1_1=10.0)
    for y in range(3, 6):
        for x in range(3, 6):
            hills[y][x] = 8.0
    told = words(hills)
    assert told.startswith(
        "49 combinations. The best, n 1, far 1, has Sharpe ratio 10.00: a lonely peak, most likely luck."
    )
    assert "With its neighbours n 4, far 4 is the best (8.00)." in told and "end of the range" not in told
    hills[1][1], hills[4][4] = 0.0, 9.0
    told = words(hills)
    assert "n 4, far 4, has Sharpe ratio 9.00; with its neighbours it is the best too." in told and "lonely" not in told


@pytest.mark.parametrize(
    ("point", "names"), [("p_0_3", "n"), ("p_3_6", "far"), ("p_0_0", "n and far"), ("p_6_6", "n and far")]
)
def test_a_best_at_the_edge_is_told_with_its_setting(point: str, names: str) -> None:
    assert f"It lies at the end of the range of {names}: go further." in words(grid(7, **{point: 5.0}))


def test_two_values_have_no_edge_and_less_is_better_where_it_is() -> None:
    assert "end of the range" not in words([[0.0, 1.0], [0.0, 0.5]])
    assert "The best, n 1, far 1, has Max drawdown" in words([[0.3, 0.2], [0.4, 0.1]], "drawdown")


def test_without_a_metric_the_reason_is_told() -> None:
    assert words([[None, None], [None, None]]) == "No combination has the metric Sharpe ratio: too few trades."
    ranges, rows = rows_of([[None, None], [None, None]])
    failed = [Tried(row.settings, {}, problem="The script reads OAKUM.") for row in rows]
    assert map_words(map_of(ranges, failed, "sharpe"), ranges, failed) == "The script reads OAKUM."


@pytest.mark.parametrize(("metric", "better"), [("sharpe", 2), ("drawdown", 1)])
def test_a_sweep_is_compared_with_the_one_before(metric: str, better: int) -> None:
    _, before = rows_of([[1.0, 2.0], [3.0, None]], metric)
    _, after = rows_of([[1.5, 2.5], [2.5, 9.0]], metric)
    told = beside_words(metric, after, by_settings(before))
    assert told == f" Beside the sweep that was shown before: better in {better} of 3 combinations."
    assert beside_words(metric, before, by_settings(before)) == ""
    assert beside_words(metric, [Tried({"other": 1.0}, {metric: 1.0})], by_settings(before)) == ""
