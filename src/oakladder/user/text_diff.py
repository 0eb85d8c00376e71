"""What is different between two texts, line by line."""

from __future__ import annotations

from dataclasses import dataclass
from difflib import SequenceMatcher
from enum import Enum

#: Texts that differ in more lines than this are not compared line by line: it would take too long.
_MOST_COMPARED = 2_000


class LineKind(Enum):
    """How a line stands between two texts."""

    SAME = " "
    GONE = "-"
    NEW = "+"
    #: Lines that are the same and are not shown.
    SKIPPED = "…"


@dataclass(frozen=True, slots=True)
class Row:
    """A line of either text; of skipped ones the text says how many."""

    kind: LineKind
    text: str


def difference(before: str, after: str, around: int = 2) -> list[Row]:
    """The lines that are gone and new, with ``around`` lines that are the same on each side; empty for equal texts."""
    if before == after:
        return []
    a, b = before.split("\n"), after.split("\n")
    head = next((k for k, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
    most = min(len(a), len(b)) - head
    tail = next((k for k in range(most) if a[-1 - k] != b[-1 - k]), most)
    rows = [Row(LineKind.SAME, x) for x in a[:head]]
    rows += _middle(a[head : len(a) - tail], b[head : len(b) - tail])
    rows += [Row(LineKind.SAME, x) for x in a[len(a) - tail :]]
    return _shortened(rows, around)


def _middle(a: list[str], b: list[str]) -> list[Row]:
    if max(len(a), len(b)) > _MOST_COMPARED:
        return [*(Row(LineKind.GONE, x) for x in a), *(Row(LineKind.NEW, x) for x in b)]
    rows: list[Row] = []
    for what, i, k, j, m in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        if what == "equal":
            rows += [Row(LineKind.SAME, x) for x in a[i:k]]
        else:
            rows += [Row(LineKind.GONE, x) for x in a[i:k]]
            rows += [Row(LineKind.NEW, x) for x in b[j:m]]
    return rows


def _shortened(rows: list[Row], around: int) -> list[Row]:
    """Leaves out the lines that are the same and far from any that is not."""
    near = [False] * len(rows)
    for k, row in enumerate(rows):
        if row.kind is not LineKind.SAME:
            for n in range(max(k - around, 0), min(k + around + 1, len(rows))):
                near[n] = True
    made: list[Row] = []
    skipped = 0
    for k in range(len(rows) + 1):
        if k < len(rows) and not near[k]:
            skipped += 1
            continue
        if skipped:
            made.append(Row(LineKind.SKIPPED, "1 line" if skipped == 1 else f"{skipped} lines"))
            skipped = 0
        if k < len(rows):
            made.append(rows[k])
    return made
