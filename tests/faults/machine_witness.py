"""A bit of fixed work over and over, in a process of its own: ``python machine_witness.py SECONDS OUT``.

What it writes tells a window that is held up from a machine that is: the same bit of work has no reason to take longer one
time than another.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np

#: Additions in plain Python, and bytes of memory that are asked for, written and given back.
_ADDITIONS, _BYTES = 20_000, 2_000_000
_PAUSE = 0.03


def main() -> None:
    sys.path.insert(0, str(Path(__file__).parent.parent))
    from faults.random_user import HOLD, taken_away

    seconds, out = float(sys.argv[1]), Path(sys.argv[2])
    begun, took = time.monotonic(), []
    while time.monotonic() - begun < seconds:
        before, total = (time.thread_time(), taken_away()), 0
        for k in range(_ADDITIONS):
            total += k
        np.zeros(_BYTES, np.uint8)[::4096] = total & 1
        after = time.thread_time(), taken_away()
        took.append(after[0] - before[0] - (after[1] - before[1]))
        time.sleep(_PAUSE)
    turns = np.array(took)
    out.write_text(
        f"a bit of fixed work beside it: {turns.size:,} times, {np.median(turns) * 1000:.1f} ms of processor time as a rule, "
        f"{np.count_nonzero(turns > HOLD)} times above {HOLD * 1000:.0f} ms, {turns.max() * 1000:.0f} ms at the longest"
    )


if __name__ == "__main__":
    main()
