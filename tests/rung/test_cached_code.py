"""Code for lanes is made aside, kept from one start to the next, and never trusted when it is damaged."""

from __future__ import annotations

import difflib
import os
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import DEMO_SCRIPTS, demo_text, random_bars
from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.cache import DiskCache, Section
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import Result, run
from oakladder.rung import Program, compile_script
from oakladder.rung.native import compile as native
from oakladder.rung.native import objects
from oakladder.rung.native.objects import Form, object_code

PANEL = [random_bars(k, 80) for k in range(16)]


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """An empty place for code, and nothing remembered; what other tests have asked for is made by now."""
    for thread in threading.enumerate():
        if thread.name == "code for lanes":
            thread.join(60)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    monkeypatch.setattr(native, "_MACHINES", type(native._MACHINES)())
    yield tmp_path / "oakladder"


def a_panel() -> Panel:
    return panel_of([Bars(f"S{k}", b.timeframe, b.calendar, b.times, b.columns) for k, b in enumerate(PANEL)])


def a_run(what: str, **options: object) -> tuple[Program, Result, np.ndarray]:
    program = compile_script(f"rung 1\nlet x = ema(close, 5) {what}")
    op = program.plan.values["x"]
    result = run(program, a_panel(), outputs=[], extra=[op], context=RunContext(**options))  # type: ignore[arg-type]
    return program, result, result.number(op)


def forget() -> None:
    native._MACHINES.clear()


def test_what_is_large_begins_at_once_and_code_for_lanes_follows_aside(folder: Path) -> None:
    _, _, plain = a_run("+ open", lanes=0)
    _, _, first = a_run("+ open", thorough=True)
    deadline = time.monotonic() + 60
    while not list(folder.glob("code-*.cache")) and time.monotonic() < deadline:
        time.sleep(0.05)
    (kept,) = folder.glob("code-*.cache")
    code = DiskCache(Section.CODE).take(bytes.fromhex(kept.stem.partition("-")[2]))
    assert code is not None and len(code) > 1000
    _, _, later = a_run("+ open", thorough=True)
    assert plain.tobytes() == first.tobytes() == later.tobytes()


def test_kept_code_is_used_instead_of_compiling(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    _, _, before = a_run("- high", lanes=4)
    assert len(list(folder.glob("code-*.cache"))) == 1
    forget()

    def never(text: str, form: Form) -> bytes:
        assert form is not Form.WIDE, "it was compiled again"
        return object_code(text, form)

    monkeypatch.setattr(native, "object_code", never)
    _, _, after = a_run("- high", lanes=4)
    assert before.tobytes() == after.tobytes()
    with pytest.raises(AssertionError, match="compiled again"):
        a_run("* low", lanes=4)


@pytest.mark.parametrize("damage", ["cut", "changed", "empty", "other", "folder"])
def test_damaged_code_is_made_anew(folder: Path, damage: str) -> None:
    _, _, before = a_run("/ volume", lanes=4)
    (kept,) = folder.glob("code-*.cache")
    content = kept.read_bytes()
    kept.unlink()
    if damage == "folder":
        kept.mkdir()
    else:
        middle = len(content) // 2
        kept.write_bytes(
            {
                "cut": content[:-1],
                "changed": content[:middle] + bytes([content[middle] ^ 1]) + content[middle + 1 :],
                "empty": b"",
                "other": b"something else altogether",
            }[damage]
        )
    forget()
    _, _, after = a_run("/ volume", lanes=4)
    assert before.tobytes() == after.tobytes()
    assert damage == "folder" or kept.read_bytes() == content


def test_where_nothing_can_be_kept_it_still_runs(folder: Path) -> None:
    folder.write_text("a file stands where the folder would be")
    _, _, beside = a_run("+ close", lanes=4)
    _, _, alone = a_run("+ close", lanes=0)
    assert beside.tobytes() == alone.tobytes()


@pytest.mark.parametrize("damage", [None, "cut", "scrambled"])
def test_what_cannot_stand_side_by_side_is_kept_too(
    folder: Path, monkeypatch: pytest.MonkeyPatch, damage: str | None
) -> None:
    """Code that was compiled thoroughly for a market is there at the next start; what is quick never is."""
    what = "+ percent_rank(close, 9)"
    _, _, quick = a_run(what, lanes=0)
    assert not list(folder.glob("code-*.cache"))
    _, _, before = a_run(what, thorough=True)
    (kept,) = folder.glob("code-*.cache")
    raw = kept.read_bytes()
    if damage is not None:
        kept.write_bytes(raw[:-9] if damage == "cut" else raw[:-9] + bytes(b ^ 3 for b in raw[-9:]))
    forget()
    made: list[Form] = []

    def told(text: str, form: Form) -> bytes:
        made.append(form)
        return object_code(text, form)

    monkeypatch.setattr(native, "object_code", told)
    _, _, after = a_run(what, thorough=True)
    assert quick.tobytes() == before.tobytes() == after.tobytes()
    assert made == ([] if damage is None else [Form.THOROUGH])


def test_the_name_of_kept_code_holds_all_that_decides_what_it_is(monkeypatch: pytest.MonkeyPatch) -> None:
    names = {form: objects.maker(form) for form in objects.Form}
    assert len(set(names.values())) == len(names)
    changed = dict(objects.PASSES)
    changed[objects.Form.THOROUGH] = replace(changed[objects.Form.THOROUGH], unroll=True)
    monkeypatch.setattr(objects, "PASSES", changed)
    assert objects.maker(objects.Form.THOROUGH) != names[objects.Form.THOROUGH]


#: A processor that cannot say what it is.
NAMELESS = """
import llvmlite.binding as llvm
def fails():
    raise RuntimeError("failed to get host cpu features")
llvm.get_host_cpu_features = llvm.get_host_cpu_name = fails
import numpy as np
from helpers import DEMO_SCRIPTS, daily_bars, values
print(values("let x = sma(close, 2) + high", daily_bars([1.0, 2.0, 4.0]))["x"].tolist()[1:])
from oakladder.rung.native.compile import simd_width_here as lanes_here
print(lanes_here())
"""


def test_a_processor_that_cannot_be_asked_runs_plain_code(tmp_path: Path) -> None:
    tests = Path(__file__).parents[1]
    env = {**os.environ, "XDG_CACHE_HOME": str(tmp_path), "PYTHONPATH": str(tests)}
    done = subprocess.run([sys.executable, "-c", NAMELESS], env=env, capture_output=True, text=True)
    assert done.stdout.split("\n")[:2] == ["[3.5, 7.0]", "2"], done.stderr


#: Many threads ask for the same code at once: all but one of the machines made are dropped while their code runs.
AT_ONCE = """
import ctypes, gc, threading
from oakladder.rung.native.compile import written_by_hand
text = '''
define void @run(i64 %count, ptr %out) {
entry:
  br label %loop
loop:
  %k = phi i64 [ 0, %entry ], [ %next, %loop ]
  store volatile i64 %k, ptr %out
  %next = add i64 %k, 1
  %again = icmp slt i64 %next, %count
  br i1 %again, label %loop, label %end
end:
  ret void
}
'''
signature = ctypes.CFUNCTYPE(None, ctypes.c_int64, ctypes.c_void_p)
def work():
    out = ctypes.c_int64(0)
    written_by_hand(text, signature).call(30_000_000, ctypes.addressof(out))
    done.append(out.value)
done = []
threads = [threading.Thread(target=work) for _ in range(4)]
for thread in threads: thread.start()
for thread in threads: thread.join()
print(done)
"""


def test_code_stays_loaded_while_it_runs() -> None:
    done = subprocess.run([sys.executable, "-c", AT_ONCE], capture_output=True, text=True)
    assert done.returncode == 0 and done.stdout.strip() == str([29_999_999] * 4), done.stderr[-2000:]


@pytest.mark.parametrize("name", DEMO_SCRIPTS)
def test_a_script_has_the_same_code_each_time_or_it_would_not_be_found_again(name: str) -> None:
    script, found, held = demo_text(name), [], []
    for k in range(5):
        program = compile_script(script + "\n" * (k + 7))  # not one that another test has asked for more
        roots = [op for op in program.plan.values.values() if not op.is_shell]
        variant = program.variant([*roots, *(op for o in program.outputs for op in o.roles.values())])
        lanes = variant.lanes(8)
        found.append([*variant.code.text.split("\n"), *(lanes.text.split("\n") if lanes is not None else [])])
        held.append((program, [object() for _ in range(37 * k)]))  # the next one lies elsewhere in memory
    assert not [line for other in found[1:] for line in difflib.unified_diff(found[0], other)][:40]
