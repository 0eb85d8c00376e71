"""The lowered form: what is the same is made once, what is not needed is not run, state has known bounds."""

from __future__ import annotations

import pytest

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.engine.run.execute import roots_of, run
from oakladder.engine.run.setup import prepare
from oakladder.rung import Program, RunProblem, compile_script
from oakladder.rung.plan.ops import items_of
from oakladder.rung.plan.sizes import MAX_CELLS


def needed(program: Program, *names: str) -> set[str]:
    """The codes of the operations that run for some outputs."""
    outputs = [program.signal(n) for n in names]
    variant = program.variant([o.roles["value"] for o in outputs])
    return {op.code for op in variant.live.ops if not op.fixed}


def count(program: Program, code: str) -> int:
    return sum(1 for d in program.plan.domains for item in items_of(d.body) if getattr(item, "code", "") == code)


def test_identical_calls_share_their_state() -> None:
    one = compile_script("rung 1\nlet a = rsi(close, 14)\nline a")
    three = compile_script(
        "rung 1\nlet a = rsi(close, 14)\nlet b = rsi(close, 14) + 1\nline a + b\nline rsi(close, 14)"
    )
    assert count(three, "get") == count(one, "get")
    folds = compile_script(
        "rung 1\nlet n = 20\nlet a = bollinger(close, 20, 2).upper\nline a + sma(close, n) + stdev(close, 20)"
    )
    assert count(folds, "fold") == 1


def test_different_calls_do_not_share_their_state() -> None:
    program = compile_script("rung 1\ndefine f(x)\n    keep n = 0\n    set n = n + x\n    give n\nline f(1) + f(2)")
    result = run(program, panel_of([daily_bars([1, 2, 3])]))
    assert result.number(program.outputs[0].roles["value"]).tolist() == [3, 6, 9]


def test_only_what_a_signal_needs_is_run() -> None:
    program = compile_script(
        "rung 1\nsignal plain = close > open\nsignal costly = sma(close, 9) > exp(log(close)) on 1w\nline rsi(close, 3)"
    )
    assert needed(program, "plain") == {"gt", "input"}
    assert {"fold", "export"} <= needed(program, "costly")
    assert len(program.variant([program.signal("plain").roles["value"]]).live.domains) == 1


def test_a_loop_nobody_reads_is_not_run() -> None:
    program = compile_script(
        "rung 1\nfresh x = 0\nfor k in 0..99\n    if k > 3\n        stop\n    set x = x + k\nsignal go = close > open\nline x"
    )
    variant = program.variant([program.signal("go").roles["value"]])
    assert not any(variant.live.needs(item) for item in program.plan.domains[0].body if type(item).__name__ == "Loop")


def test_settings_are_arguments_and_conditions_on_them_too() -> None:
    program = compile_script(
        'rung 1\nsetting how = "a" choose "a", "b"\nlet x = if how == "a" then 1 else 2\nline x + close'
    )
    panel = panel_of([daily_bars([10.0])])
    value = program.plan.values["x"]
    made = [run(program, panel, {"how": h}, extra=[value]).number(value)[0] for h in ("a", "b")]
    assert made == [1, 2]
    assert len(program._variants) == 1


@pytest.mark.parametrize(("length", "fine"), [(1000, True), (100_000, True)])
def test_state_grows_with_the_longest_window(length: int, fine: bool) -> None:
    program = compile_script("rung 1\nsetting n = 5 range 1..100000\nline sma(close, n)")
    job = prepare(program, panel_of([daily_bars([1, 2])]), {"n": length}, roots_of(program.outputs))
    assert length <= len(job.layout.template) <= length + 30


def test_too_much_state_is_refused_before_anything_runs() -> None:
    lines = "\n".join(f"line sma(close + {k}, n)" for k in range(25))
    program = compile_script(f"rung 1\nsetting n = 5 range 1..100000\n{lines}")
    with pytest.raises(RunProblem, match=f"{MAX_CELLS:,}"):
        prepare(program, panel_of([daily_bars([1, 2])]), {"n": 100_000}, roots_of(program.outputs))


def test_a_program_is_shared_between_texts_that_are_the_same() -> None:
    text = "rung 1\nline close * 3"
    assert compile_script(text) is compile_script(text)


def test_an_operation_is_written_out_shortly_however_often_its_parts_are_shared() -> None:
    lines = "".join(f"let a{k} = a{k - 1} * a{k - 1} - a{k - 1}\n" for k in range(1, 60))
    program = compile_script(f"rung 1\nlet a0 = close\n{lines}line a59\n")
    for op in program.plan.values.values():
        assert len(repr(op)) < 200 and len(str(KeyError(op))) < 200
