"""Machine code: compiles what `codegen` writes, remembers it, and frees it safely."""

from __future__ import annotations

import ctypes
import ctypes.util
import hashlib
import sys
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import llvmlite.binding as llvm

from oakladder.rung.native.codegen import Unit
from oakladder.rung.plan.ops import Live, Op
from oakladder.rung.plan.state import StateMap

#: Bits of the ``mode`` of a run.
FRESH, COMMIT = 1, 2
_LOCK = threading.Lock()


@lru_cache(maxsize=1)
def _features() -> str:
    """Makes LLVM and the mathematical functions ready, once; gives the features of this machine that we use."""
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    libm = ctypes.CDLL(ctypes.util.find_library("m") or "libm.so.6")
    for name in ("pow", "fmod", "exp", "log"):
        address = ctypes.cast(getattr(libm, name), ctypes.c_void_p).value
        assert address is not None
        llvm.add_symbol(f"oak_{name}", address)
    features = dict(llvm.get_host_cpu_features())
    # One number at a time is compared and chosen; the wide mask registers only slow that down.
    features.update({name: False for name in features if name.startswith("avx512") or name == "evex512"})
    return ",".join(f"{'+' if on else '-'}{name}" for name, on in features.items())


def _target(level: int) -> llvm.TargetMachine:
    """A target machine for one engine: an engine takes its machine with it when it is freed."""
    features = _features()
    target = llvm.Target.from_default_triple()
    return target.create_target_machine(cpu=llvm.get_host_cpu_name(), features=features, opt=level)


_POINTER = ctypes.c_void_p
_SIGNATURE = ctypes.CFUNCTYPE(
    None,
    ctypes.c_int64,
    _POINTER,
    _POINTER,
    _POINTER,
    _POINTER,
    _POINTER,
    _POINTER,
    _POINTER,
    _POINTER,
    ctypes.c_int64,
    _POINTER,
    ctypes.c_int64,
    ctypes.c_int64,
    _POINTER,
)


@dataclass(frozen=True, slots=True)
class Machine:
    """Machine code that can be called; holds its engine, so that the code stays."""

    call: Callable[..., None]
    engine: object


#: Machine code by text and form, the most recent last; and what was put out of it while still in use.
_MACHINES: OrderedDict[tuple[bytes, bool], Machine] = OrderedDict()
_RETIRED: list[Machine] = []
_MOST_MACHINES = 256


def _machine(text: str, thorough: bool) -> Machine:
    """Machine code for a module; the same text is compiled once. Call with the lock held.

    Code is freed only here, with the lock held and when nobody else has it: LLVM does not bear one thread
    freeing while another compiles.
    """
    key = (hashlib.sha256(text.encode()).digest(), thorough)
    if key in _MACHINES:
        _MACHINES.move_to_end(key)
        return _MACHINES[key]
    made = _MACHINES[key] = _compile(text, thorough)
    while len(_MACHINES) > _MOST_MACHINES:
        _RETIRED.append(_MACHINES.popitem(last=False)[1])
    for k in reversed(range(len(_RETIRED))):
        if sys.getrefcount(_RETIRED[k]) <= 2:
            del _RETIRED[k]
    return made


def _compile(text: str, thorough: bool) -> Machine:
    machine = _target(2 if thorough else 0)
    module = llvm.parse_assembly(text)
    module.triple = machine.triple
    options = llvm.create_pipeline_tuning_options(speed_level=2 if thorough else 1)
    options.loop_vectorization = options.slp_vectorization = options.loop_unrolling = False
    builder = llvm.create_pass_builder(machine, options)
    if thorough:
        builder.getModulePassManager().run(module, builder)
    else:
        passes = llvm.create_new_function_pass_manager()
        passes.add_sroa_pass()
        for function in module.functions:
            if not function.is_declaration:
                passes.run(function, builder)
    engine = llvm.create_mcjit_compiler(module, machine)
    engine.finalize_object()
    return Machine(_SIGNATURE(engine.get_function_address("run")), engine)


@dataclass(frozen=True, slots=True)
class Compiled:
    """The code of a part of a plan. Two forms of the same text: one that is there at once, one that runs faster.

    Neither may reorder arithmetic, so both give the same bits.
    """

    text: str
    fixed: tuple[Op, ...]
    columns: tuple[str, ...]

    def machine(self, thorough: bool) -> Machine:
        """Machine code, compiled on first use."""
        with _LOCK:
            return _machine(self.text, thorough)


def build(live: Live, state: StateMap, leaves: Sequence[Op]) -> Compiled:
    """Code for the live part of a plan that writes out the given numbers and flags."""
    unit = Unit(live, state)
    text = unit.text(leaves)
    return Compiled(text, tuple(unit.fixed), tuple(unit.columns))
