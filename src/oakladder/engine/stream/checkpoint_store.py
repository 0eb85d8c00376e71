"""Saved states: values that never forget, as they stood some way back, so that a scan runs only the last bars.

An exponential average depends on every bar of history. What a run holds after a bar some way back is kept, and the next
run goes on from there, with the same bits. A state is derived: it counts only for the same code and settings, and for
stored bars that are unchanged; otherwise all bars are run, and it is made again.
"""

from __future__ import annotations

import threading
from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, field

import msgspec
import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.store.pack import settled
from oakladder.cache import DiskCache, Section, cache_key
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.run.checkpoint import Checkpoint, CheckpointRecorder
from oakladder.engine.run.setup import laid_out
from oakladder.engine.stream.lookback import lookback
from oakladder.rung.native.compiled_kernel import CompiledKernel, fixed_array
from oakladder.rung.plan.inputs import BarColumn
from oakladder.rung.plan.layout import StateLayout
from oakladder.rung.plan.ops import LOG_ROWS, Op
from oakladder.rung.program import Program
from oakladder.rung.values import PER_SYMBOL

_VERSION = 1
#: So many times the bars that a scan looks at lie behind a state: another scan may look at more.
_SPARE = 2
#: Checkpoints of one script that take more bytes are not kept on disk.
_MOST_BYTES = 64_000_000


@dataclass(frozen=True, slots=True)
class SavedCheckpoint:
    """States of some symbols: how many bars lie before and how many there are in all; what told that the stored bars
    are as they were, shape (symbols, 4)."""

    names: list[str]
    versions: np.ndarray
    bars: np.ndarray
    counts: np.ndarray
    rows: np.ndarray


class _Kept(msgspec.Struct, array_like=True):
    version: int
    names: list[str]
    numbers: bytes
    rows: bytes


@dataclass(frozen=True, slots=True)
class SavedValues:
    """Some values of a program on a timeframe."""

    program: Program
    frame: BarSelection
    settings: Mapping[str, object]
    ops: list[Op]

    @property
    def name(self) -> Hashable:
        """What tells them from others, as long as the program is there."""
        return id(self.program), self.frame, tuple(sorted(self.settings.items())), tuple(map(id, self.ops))


@dataclass(frozen=True, slots=True)
class _Past:
    """How far back values look (None without an end), the name of their saved states (None where they cannot be saved)
    and the size of one."""

    lookback: int | None
    key: bytes | None
    cells: int


def _past(values: SavedValues) -> _Past:
    back = lookback(values.program, values.settings, values.ops, values.frame.timeframe)
    variant, fixed, layout = laid_out(values.program, values.settings, values.ops, values.frame.timeframe)
    key = key_of(variant, layout, fixed, values.frame) if back is None and can_be_saved(variant) else None
    return _Past(back, key, len(layout.template))


def can_be_saved(variant: CompiledKernel) -> bool:
    """Whether all that a run holds after a bar is its state: nothing is read but the symbol's own bars on one timeframe."""
    inputs = variant.code.inputs
    plain = all(isinstance(i, BarColumn) and i.name not in PER_SYMBOL for i in inputs)
    return plain and len(variant.live.domains) == 1 and all(op.code != LOG_ROWS for op in variant.leaves)


def key_of(variant: CompiledKernel, layout: StateLayout, fixed: Mapping[Op, object], frame: BarSelection) -> bytes:
    """What tells the states of one program, with its settings and on one timeframe, from those of others."""
    arrays = (fixed_array(variant.code, fixed), layout.table, layout.template)
    return cache_key(str(_VERSION), variant.code.digest, *(array.tobytes() for array in arrays), str(frame))


@dataclass(slots=True)
class CheckpointStore:
    """The checkpoints that a visit of a market starts from, and the ones it makes; thread-safe.

    ``versions`` tell that the stored bars of symbols are as they were (see `Panel.versions`); None where nothing does.
    """

    _disk_cache: DiskCache = field(default_factory=lambda: DiskCache(Section.CHECKPOINTS))
    _known: dict[bytes, tuple[SavedCheckpoint, dict[str, int]] | None] = field(default_factory=dict)
    _made: dict[bytes, list[SavedCheckpoint]] = field(default_factory=dict)
    _pasts: dict[Hashable, _Past] = field(default_factory=dict)
    #: How many of the last bars were asked for at most, by the values.
    _asked: dict[Hashable, int] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def _past(self, values: SavedValues) -> _Past:
        name = values.name
        if name not in self._pasts:
            self._pasts[name] = _past(values)
        return self._pasts[name]

    def needed(
        self, values: SavedValues, bars: np.ndarray, symbols: Sequence[str], versions: np.ndarray | None
    ) -> np.ndarray | None:
        """How many of the last bars of each symbol must be there, so that values are as on all of them on the last
        ``bars``; None where that takes all of them. Bars: shape (symbols,), int64, so is the result; versions: shape
        (symbols, 4), int64."""
        past = self._past(values)
        if past.lookback is not None:
            return bars + past.lookback
        self._asked[values.name] = max(int(bars.max(initial=0)), self._asked.get(values.name, 0))
        found = self._found(past.key, symbols, versions)
        if found is None:
            return None
        saved, at = found
        behind = saved.counts[at] - saved.bars[at]
        if ((behind < bars) & (saved.bars[at] > 0)).any():
            return None
        return np.asarray(behind + 1)  # what compares with the bar before sees it

    def start(self, values: SavedValues, symbols: Sequence[str], versions: np.ndarray | None) -> Checkpoint | None:
        """Where a run goes on over the bars that `needed` has asked for; None where it begins with the first of them.
        Versions: shape (symbols, 4), int64."""
        found = self._found(self._past(values).key, symbols, versions)
        return None if found is None else Checkpoint(found[0].bars[found[1]], found[0].rows[found[1]])

    def keeping(
        self, values: SavedValues, symbols: Sequence[str], versions: np.ndarray | None
    ) -> CheckpointRecorder | None:
        """What takes the states of a run over all bars; None where none is to be kept. Versions: shape (symbols, 4),
        int64."""
        past = self._past(values)
        if past.key is None or versions is None:
            return None
        return CheckpointRecorder.of(len(symbols), past.cells, _SPARE * self._asked.get(values.name, 0))

    def keep(self, values: SavedValues, keeping: CheckpointRecorder, panel: Panel, versions: np.ndarray) -> None:
        """Takes what a run over all bars has left. Versions: shape (symbols, 4), int64."""
        key = self._past(values).key
        assert key is not None
        whole = SavedCheckpoint(list(panel.symbols), versions, keeping.bars, panel.timeline.sizes, keeping.rows)
        made = _some(whole, np.flatnonzero(settled(versions)))
        with self._lock:
            self._made.setdefault(key, []).append(made)

    def _found(
        self, key: bytes | None, symbols: Sequence[str], versions: np.ndarray | None
    ) -> tuple[SavedCheckpoint, np.ndarray] | None:
        """The saved states and the places of some symbols in them; None where one has none that counts."""
        known = self._loaded(key) if key is not None else None
        if known is None or versions is None:
            return None
        saved, places = known
        at = np.array([places.get(s, -1) for s in symbols], dtype=np.int64)
        if not len(at) or at.min() < 0 or not np.array_equal(saved.versions[at], versions):
            return None
        return saved, at

    def _loaded(self, key: bytes) -> tuple[SavedCheckpoint, dict[str, int]] | None:
        with self._lock:
            if key not in self._known:
                saved = _read(self._disk_cache.take(key))
                self._known[key] = None if saved is None else (saved, {n: k for k, n in enumerate(saved.names)})
            return self._known[key]

    def settle(self) -> None:
        """Keeps what was made, with what is known of other symbols."""
        with self._lock:
            made, self._made = self._made, {}
        for key, parts in made.items():
            known = self._loaded(key)
            new = {name for part in parts for name in part.names}
            if known is not None and (rest := [k for k, n in enumerate(known[0].names) if n not in new]):
                parts.append(_some(known[0], np.array(rest)))
            whole = _joined(parts)
            if whole.names and whole.rows.nbytes <= _MOST_BYTES:
                numbers = np.column_stack([whole.versions, whole.bars, whole.counts]).astype(np.int64)
                kept = _Kept(_VERSION, whole.names, numbers.tobytes(), whole.rows.tobytes())
                self._disk_cache.put(key, msgspec.msgpack.encode(kept))


def _some(saved: SavedCheckpoint, at: np.ndarray) -> SavedCheckpoint:
    names = [saved.names[k] for k in at.tolist()]
    return SavedCheckpoint(names, saved.versions[at], saved.bars[at], saved.counts[at], saved.rows[at])


def _joined(parts: Sequence[SavedCheckpoint]) -> SavedCheckpoint:
    names = [n for part in parts for n in part.names]
    return SavedCheckpoint(
        names,
        np.concatenate([p.versions for p in parts]),
        np.concatenate([p.bars for p in parts]),
        np.concatenate([p.counts for p in parts]),
        np.concatenate([p.rows for p in parts]),
    )


def _read(raw: bytes | None) -> SavedCheckpoint | None:
    """The content of the disk cache; None if it is not valid."""
    try:
        kept = msgspec.msgpack.decode(raw or b"", type=_Kept)
    except msgspec.MsgspecError:
        return None
    count = len(kept.names)
    if kept.version != _VERSION or not count or len(kept.numbers) != 8 * 6 * count or len(kept.rows) % (8 * count):
        return None
    numbers = np.frombuffer(kept.numbers, dtype=np.int64).reshape(count, 6)
    rows = np.frombuffer(kept.rows).reshape(count, -1)
    return SavedCheckpoint(kept.names, numbers[:, :4], numbers[:, 4], numbers[:, 5], rows)
