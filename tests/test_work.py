"""Threads and processes: in order, bounded, named, and gone with the program."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from concurrent.futures import CancelledError

import pytest

from oakladder import work
from oakladder.work import ChildProcess, WorkQueue, parallel, running


def wait_until(true: Callable[[], bool], seconds: float = 20) -> None:
    deadline = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < deadline
        time.sleep(0.002)


@pytest.fixture
def gate() -> threading.Event:
    return threading.Event()


def blocked(queue: WorkQueue, gate: threading.Event) -> None:
    """Keeps a queue of one thread at its first piece until the gate opens."""
    begun = threading.Event()
    queue.submit(lambda: (begun.set(), gate.wait(20)))
    assert begun.wait(20)


def test_a_queue_works_in_order_one_at_a_time(gate: threading.Event) -> None:
    queue, done, at_once = WorkQueue("test"), [], [0, 0]
    blocked(queue, gate)

    def piece(k: int) -> None:
        at_once[0] += 1
        at_once[1] = max(at_once)
        time.sleep(0.001)
        done.append(k)
        at_once[0] -= 1

    futures = [queue.submit(lambda k=k: piece(k)) for k in range(20)]  # type: ignore[misc]
    gate.set()
    assert [f.result(20) for f in futures] == [None] * 20 and done == list(range(20)) and at_once[1] == 1
    queue.close()


def test_the_newest_goes_first_and_what_nobody_needs_is_dropped(gate: threading.Event) -> None:
    """Who types asks for each text; a processor each would leave none for the window."""
    queue, done = WorkQueue("test", newest_first=True, most_waiting=4), []
    blocked(queue, gate)
    futures = [queue.submit(lambda k=k: done.append(k), key=k) for k in range(10)]  # type: ignore[misc]
    assert queue.submit(lambda: done.append(-7), key=7) is futures[7]  # it waits already, and is the newest now
    gate.set()
    wait_until(lambda: len(done) == 4)
    assert done == [7, 9, 8, 6]
    for dropped in futures[:6]:
        with pytest.raises(CancelledError):
            dropped.result(1)
    assert queue.submit(lambda: done.append(3), key=3).result(20) is None and done[-1] == 3
    queue.close()


def test_a_queue_goes_on_after_an_error_and_tells_it_to_who_asked() -> None:
    queue = WorkQueue("test")
    with pytest.raises(ZeroDivisionError):
        queue.submit(lambda: 1 // 0).result(20)
    assert queue.submit(lambda: 5).result(20) == 5
    queue.close()


def test_a_closed_queue_drops_what_waits_and_ends_its_threads(gate: threading.Event) -> None:
    queue = WorkQueue("to be closed")
    blocked(queue, gate)
    waiting = queue.submit(lambda: 5)
    queue.close()
    with pytest.raises(CancelledError):
        waiting.result(1)
    with pytest.raises(RuntimeError):
        queue.submit(lambda: 6)
    gate.set()
    wait_until(lambda: not any(t.name == "to be closed" for t in threading.enumerate()))


def test_no_more_threads_than_allowed_and_no_fewer(gate: threading.Event) -> None:
    queue, together = WorkQueue("test", 3), threading.Barrier(4)
    for _ in range(3):
        queue.submit(lambda: (together.wait(20), gate.wait(20)))
    later = queue.submit(lambda: 1)
    together.wait(20)  # all three are at work
    assert [r.name for r in running()].count("test") == 3 and not later.done()
    gate.set()
    assert later.result(20) == 1
    queue.close()


def test_a_service_is_named_as_long_as_it_goes_on(gate: threading.Event) -> None:
    thread = work.service_thread("a service", lambda: gate.wait(20))
    wait_until(lambda: "a service" in [r.name for r in running()])
    gate.set()
    thread.join(20)
    assert "a service" not in [r.name for r in running()]


def test_many_threads_may_ask_at_once() -> None:
    queue, made = WorkQueue("test", 2), []
    askers = [
        threading.Thread(target=lambda: made.extend(queue.submit(lambda: 1).result(20) for _ in range(200)))
        for _ in range(8)
    ]
    for asker in askers:
        asker.start()
    for asker in askers:
        asker.join(30)
    assert sum(made) == 1600
    queue.close()


def test_parts_are_over_when_parallel_work_ends_early() -> None:
    begun, ended = [], []

    def part(k: int) -> None:
        begun.append(k)
        time.sleep(0.02)
        ended.append(k)

    with pytest.raises(KeyError), parallel(2) as executor:
        futures = [executor.submit(part, k) for k in range(50)]
        futures[0].result(20)
        raise KeyError
    assert sorted(begun) == sorted(ended) and len(ended) < 50
    with parallel(2) as executor:
        assert list(executor.map(lambda k: k * k, range(9))) == [k * k for k in range(9)]


def test_two_pieces_of_work_share_the_threads_and_wait_only_for_their_own(gate: threading.Event) -> None:
    with parallel(2) as one:
        one.submit(gate.wait, 20)
        with parallel(2) as other:
            assert other.submit(lambda: 4).result(20) == 4
        assert not gate.is_set()
        gate.set()


ECHO = [sys.executable, "-c", "import sys; sys.stdout.write(sys.stdin.read().upper())"]


def test_a_child_process_answers_is_named_and_ends() -> None:
    with ChildProcess("echo", ECHO) as child:
        assert "echo" in [r.name for r in running()]
        assert child.answer(b"salt", 20) == b"SALT"
    assert "echo" not in [r.name for r in running()]
    with ChildProcess("fails", [sys.executable, "-c", "raise SystemExit(3)"]) as child:
        assert child.answer(b"", 20) is None


def test_a_child_that_takes_too_long_is_killed() -> None:
    with pytest.raises(subprocess.TimeoutExpired), ChildProcess("sleeps", ["sleep", "60"]) as child:
        child.answer(b"", 0.1)
    assert not child.is_alive


def test_one_child_too_many_waits_for_another_to_end() -> None:
    there = [ChildProcess("sleeps", ["sleep", "60"]) for _ in range(work.MOST_CHILDREN - len(children()))]
    made: list[ChildProcess] = []
    asker = threading.Thread(target=lambda: made.append(ChildProcess("sleeps", ["sleep", "60"])))
    asker.start()
    time.sleep(0.2)
    assert not made
    there.pop().end()
    asker.join(20)
    for child in there + made:
        child.end()
        child.end()  # which changes nothing
    assert made and not any(c.is_alive for c in there + made)


def children() -> list[str]:
    return [r.name for r in running() if r.name in ("table reader", "compiler", "printing")]


LEAVES = """
import sys, threading
from oakladder.work import ChildProcess, WorkQueue, parallel
child = ChildProcess("sleeps", ["sleep", "60"])
print(child.process.pid, flush=True)
WorkQueue("never ends").submit(lambda: threading.Event().wait(60))
if sys.argv[1:]:
    raise ValueError
"""


@pytest.mark.parametrize("words", [[], ["fails"]])
def test_nothing_outlives_the_program_or_holds_it_up(words: list[str]) -> None:
    begin = time.monotonic()
    done = subprocess.run([sys.executable, "-c", LEAVES, *words], capture_output=True, text=True, timeout=50)
    assert done.returncode == len(words) and time.monotonic() - begin < 30
    with pytest.raises(ProcessLookupError):
        os.kill(int(done.stdout), 0)
