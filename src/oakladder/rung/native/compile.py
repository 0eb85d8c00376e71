"""Machine code: compiles what `main` writes, remembers it, and lets the linker free what nobody holds any more."""

from __future__ import annotations

import ctypes
import ctypes.util
import hashlib
import itertools
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import llvmlite.binding as llvm

from oakladder.rung.native.main import module_text
from oakladder.rung.native.registers import SharedCode
from oakladder.rung.plan.inputs import FineColumn, Input
from oakladder.rung.plan.live import Live
from oakladder.rung.plan.ops import Op
from oakladder.rung.plan.state import StateMap

#: Bits of the ``mode`` of a run.
FRESH, COMMIT = 1, 2
_LOCK = threading.Lock()
_NAMES = itertools.count()


@lru_cache(maxsize=1)
def _features() -> str:
    """Makes LLVM ready, once; gives the features of this machine that we use."""
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    features = dict(llvm.get_host_cpu_features())
    # One number at a time is compared and chosen; the wide mask registers only slow that down.
    features.update({name: False for name in features if name.startswith("avx512") or name == "evex512"})
    return ",".join(f"{'+' if on else '-'}{name}" for name, on in features.items())


@lru_cache(maxsize=3)
def _target(level: int) -> llvm.TargetMachine:
    features = _features()
    target = llvm.Target.from_default_triple()
    cpu = llvm.get_host_cpu_name()
    return target.create_target_machine(cpu=cpu, features=features, opt=level, reloc="pic", codemodel="small")


@lru_cache(maxsize=1)
def _linker() -> llvm.LLJIT:
    """What code is linked into; each program is a library of its own in it."""
    _features()
    return llvm.create_lljit_compiler()


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
    """Machine code that can be called. It is unloaded when nobody holds its ``tracker`` any more."""

    call: Callable[..., None]
    tracker: object


#: Machine code by text and form, the most recent last.
_MACHINES: OrderedDict[tuple[bytes, bool], Machine] = OrderedDict()
_MOST_MACHINES = 256


def _machine(text: str, digest: bytes, thorough: bool) -> Machine:
    """Machine code for a module; the same text is compiled once. Call with the lock held."""
    key = (digest, thorough)
    if key in _MACHINES:
        _MACHINES.move_to_end(key)
        return _MACHINES[key]
    made = _MACHINES[key] = _link(_object_code(text, thorough))
    while len(_MACHINES) > _MOST_MACHINES:
        _MACHINES.popitem(last=False)
    return made


def _object_code(text: str, thorough: bool) -> bytes:
    """What the compiler makes of a module."""
    machine = _target(2 if thorough else 0)
    module = llvm.parse_assembly(text)
    module.triple = machine.triple
    module.data_layout = str(machine.target_data)
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
    return bytes(machine.emit_object(module))


def _link(code: bytes, signature: Callable[[int], Callable[..., None]] = _SIGNATURE) -> Machine:
    library = llvm.JITLibraryBuilder().add_object_img(code).add_current_process().export_symbol("run")
    for name, address in _mathematics().items():
        library.import_symbol(name, address)
    tracker = library.link(_linker(), f"program {next(_NAMES)}")
    return Machine(signature(tracker["run"]), tracker)


def written_by_hand(text: str, signature: Callable[[int], Callable[..., None]]) -> Machine:
    """Machine code for a module of our own whose function is called ``run``; its loops go on vectors."""
    with _LOCK:
        machine = _target(3)
        module = llvm.parse_assembly(text)
        module.triple = machine.triple
        module.data_layout = str(machine.target_data)
        options = llvm.create_pipeline_tuning_options(speed_level=3)
        options.loop_vectorization = options.loop_unrolling = True
        builder = llvm.create_pass_builder(machine, options)
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
    inputs: tuple[Input | FineColumn, ...]

    def machine(self, thorough: bool) -> Machine:
        """Machine code, compiled on first use."""
        with _LOCK:
            return _machine(self.text, self.digest, thorough)


def build(live: Live, state: StateMap, leaves: Sequence[Op]) -> Compiled:
    """Code for the live part of a plan that writes out the given numbers and flags."""
    code = SharedCode(live, state)
    text = module_text(code, leaves)
    return Compiled(text, hashlib.sha256(text.encode()).digest(), tuple(code.fixed), tuple(code.inputs))
