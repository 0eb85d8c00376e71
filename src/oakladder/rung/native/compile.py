"""Machine code: compiles what `main` writes, caches it, and unloads code that is no longer referenced."""

from __future__ import annotations

import ctypes
import ctypes.util
import hashlib
import itertools
import logging
import sys
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import llvmlite.binding as llvm

from oakladder.cache import DiskCache, Section, cache_key
from oakladder.rung.native import objects
from oakladder.rung.native.main import module_text
from oakladder.rung.native.objects import OWN_LOOPS, Form, host, maker, object_code, prepared
from oakladder.rung.native.registers import SharedCode
from oakladder.rung.native.simd.eligibility import width_of
from oakladder.rung.native.simd.main import module_text as lanes_text
from oakladder.rung.native.simd.main import tiles_needed
from oakladder.rung.plan.inputs import Input, IntrabarColumn
from oakladder.rung.plan.liveness import Live
from oakladder.rung.plan.ops import Op
from oakladder.rung.plan.state import StateMap
from oakladder.tuning import TUNING
from oakladder.work import ChildProcess, ProgramEnds, WorkQueue

#: Bits of the ``mode`` of a run.
FRESH, COMMIT = 1, 2
_LOCK = threading.Lock()
_NAMES = itertools.count()


def simd_width_here() -> int:
    """How many symbols this processor runs side by side."""
    return width_of(host())


@lru_cache(maxsize=1)
def _linker() -> llvm.LLJIT:
    """The linker session; each program is a separate library in it."""
    host()
    # The other linker maps the sections of a program one by one, and ends the process where two of them come to lie too far
    # apart: seen with hundreds of programs. This one keeps them together.
    return llvm.create_lljit_compiler(use_jit_link=True)


@lru_cache(maxsize=1)
def _mathematics() -> dict[str, int]:
    """The addresses of the functions that code calls: those of the system, so that every runner gives the same bits."""
    libm = ctypes.CDLL(ctypes.util.find_library("m") or "libm.so.6")
    made = {}
    for name in ("pow", "fmod", "exp", "log"):
        address = ctypes.cast(getattr(libm, name), ctypes.c_void_p).value
        assert address is not None
        made[f"oak_{name}"] = address
    return made


def _disk_cache() -> DiskCache:
    """Where code for markets is kept from one start to the next."""
    return DiskCache(Section.CODE)


def _key(digest: bytes, form: Form) -> bytes:
    """The cache key of code: everything that determines it."""
    return cache_key(digest, form, maker(form))


_POINTER, _COUNT = ctypes.c_void_p, ctypes.c_int64
#: See `main`.
_SIGNATURE = ctypes.CFUNCTYPE(None, _COUNT, *[_POINTER] * 8, _COUNT, _POINTER, _COUNT, _COUNT, _POINTER)
#: See `lanes.main`.
_LANES_SIGNATURE = ctypes.CFUNCTYPE(None, _COUNT, *[_POINTER] * 12, _COUNT, _COUNT, _POINTER, _COUNT, _COUNT)


@dataclass(frozen=True, slots=True)
class Machine:
    """Callable machine code. It is unloaded once neither it nor its ``call`` is referenced."""

    call: Callable[..., None]
    tracker: object


#: Machine code by text and form, the most recent last.
_MACHINES: OrderedDict[tuple[bytes, Form], Machine] = OrderedDict()


def _known(key: tuple[bytes, Form]) -> Machine | None:
    """Machine code that is remembered. Call with the lock held."""
    if key in _MACHINES:
        _MACHINES.move_to_end(key)
    return _MACHINES.get(key)


def _linked(key: tuple[bytes, Form], code: bytes) -> Machine:
    """Links code and remembers it. Call with the lock held."""
    made = _MACHINES[key] = _link(code, _LANES_SIGNATURE if key[1] is Form.WIDE else _SIGNATURE)
    while len(_MACHINES) > TUNING.loaded_machines:
        _MACHINES.popitem(last=False)
    return made


def _link(code: bytes, signature: Callable[[int], Callable[..., None]]) -> Machine:
    library = llvm.JITLibraryBuilder().add_object_img(code).add_current_process().export_symbol("run")
    for name, address in _mathematics().items():
        library.import_symbol(name, address)
    tracker = library.link(_linker(), f"program {next(_NAMES)}")
    call = signature(tracker["run"])
    vars(call)["tracker"] = tracker  # code that runs stays loaded, also where its machine is dropped meanwhile
    return Machine(call, tracker)


def written_by_hand(text: str, signature: Callable[[int], Callable[..., None]]) -> Machine:
    """Machine code for a hand-written module with a function ``run``; its loops are vectorised."""
    with _LOCK:
        module, builder, machine = prepared(text, Form.THOROUGH, OWN_LOOPS)
        builder.getModulePassManager().run(module, builder)
        return _link(bytes(machine.emit_object(module)), signature)


@dataclass(frozen=True, slots=True)
class Compiled:
    """The code of a part of a plan. Two forms of the same text: one that is there at once, one that runs faster.

    Neither may reorder arithmetic, so both give the same bits.
    """

    text: str
    #: What tells texts apart.
    digest: bytes
    fixed: tuple[Op, ...]
    #: What it reads, in the order of its table of columns.
    inputs: tuple[Input | IntrabarColumn, ...]

    def machine(self, thorough: bool) -> Machine:
        """Machine code, compiled on first use."""
        key = (self.digest, Form.THOROUGH if thorough else Form.QUICK)
        with _LOCK:
            return _known(key) or _linked(key, self._kept() if thorough else object_code(self.text, Form.QUICK))

    def _kept(self) -> bytes:
        """Code that was compiled thoroughly, from one start to the next: markets are run with it. What is there at once
        is not kept: a chart has another with every key."""
        key = _key(self.digest, Form.THOROUGH)
        code = _disk_cache().take(key)
        if code is None:
            code = object_code(self.text, Form.THOROUGH)
            _disk_cache().put(key, code)
        return code


def build(live: Live, state: StateMap, leaves: Sequence[Op], *, adjusted: bool = False) -> Compiled:
    """Code for the live part of a plan that writes out the given numbers and flags, over real prices or ``adjusted``
    ones."""
    code = SharedCode(live, state, adjusted=adjusted)
    text = module_text(code, leaves)
    return Compiled(text, hashlib.sha256(text.encode()).digest(), tuple(code.fixed), tuple(code.inputs))


# --- lanes --------------------------------------------------------------------------------------------

#: One at a time and the newest first: typing asks for each text, and only the last ones are still needed. Who still needs
#: one that was dropped asks for it again.
_BACKGROUND = WorkQueue("compiler", newest_first=True, most_waiting=4)
#: What could not be compiled is not tried again.
_FAILED: set[bytes] = set()
#: After so many seconds a compilation is given up; symbols are then run one by one.
_PATIENCE = 120
_log = logging.getLogger(__name__)


def compile_in_process(text: str, form: Form) -> bytes:
    """What the compiler makes of a module, in a separate process that ends with this one.

    Raises `OSError` where there cannot be one, `subprocess.TimeoutExpired` where it takes too long, `RuntimeError` where it
    fails.
    """
    with ChildProcess("compiler", [sys.executable, "-P", objects.__file__, form.value]) as child:
        code = child.answer(text.encode(), _PATIENCE)
    if not code:
        raise RuntimeError(f"the compiler ended with code {child.process.returncode}")
    return code


@dataclass(frozen=True, slots=True)
class SimdCode:
    """The code of a part of a plan that runs several symbols side by side, with the same bits as one by one."""

    text: str
    digest: bytes
    fixed: tuple[Op, ...]
    lanes: int
    #: How many tiles of bars it needs.
    tiles: int

    def machine(self) -> Machine:
        """Machine code; compiled now where it is not remembered."""
        return self._there() or self._take(object_code(self.text, Form.WIDE))

    def ready(self) -> Machine | None:
        """Machine code from the cache; if missing, it is compiled in the background and available later."""
        made = self._there()
        if made is None and self.digest not in _FAILED:
            _BACKGROUND.submit(self._compile, self.digest)
        return made

    def _compile(self) -> None:
        try:
            self._take(compile_in_process(self.text, Form.WIDE))
        except ProgramEnds:
            pass
        except Exception:  # whatever it is, the next one is made
            _log.exception("SIMD code could not be compiled; symbols are run one by one")
            _FAILED.add(self.digest)

    def _there(self) -> Machine | None:
        with _LOCK:
            found = _known((self.digest, Form.WIDE))
        if found is not None:
            return found
        code = _disk_cache().take(_key(self.digest, Form.WIDE))
        return self._linked(code) if code is not None else None

    def _linked(self, code: bytes) -> Machine:
        with _LOCK:
            key = (self.digest, Form.WIDE)
            return _known(key) or _linked(key, code)

    def _take(self, code: bytes) -> Machine:
        _disk_cache().put(_key(self.digest, Form.WIDE), code)
        return self._linked(code)


def build_simd(live: Live, state: StateMap, leaves: Sequence[Op], lanes: int, *, adjusted: bool = False) -> SimdCode:
    """The same for so many symbols side by side; see `lanes.fitting.why_not`."""
    code = SharedCode(live, state, adjusted=adjusted)
    text = lanes_text(code, leaves, lanes)
    digest = hashlib.sha256(text.encode()).digest()
    return SimdCode(text, digest, tuple(code.fixed), lanes, tiles_needed(code, leaves))
