"""LLVM: what this processor has, and a module's text compiled to an object.

It needs nothing else of the program: run as a script it compiles the text it receives, so that a long compilation
can run in a separate process. Within a process all calls of LLVM wait for one another.
"""

from __future__ import annotations

import hashlib
import logging
import os
import select
import signal
import sys
import threading
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from pathlib import Path

import llvmlite
import llvmlite.binding as llvm

_log = logging.getLogger(__name__)


class Form(StrEnum):
    """How code is compiled: to be there at once, to run fast, or to run fast on wide vectors."""

    QUICK = "quick"
    THOROUGH = "thorough"
    WIDE = "wide"


@dataclass(frozen=True, slots=True)
class Passes:
    """How the optimiser treats a module: the level of the code generator, and of the passes where there are any."""

    level: int
    speed_level: int
    vectorize: bool = False
    unroll: bool = False


#: Neither may reorder arithmetic or contract it, so that every form gives the same bits.
PASSES = {Form.QUICK: Passes(0, 1), Form.THOROUGH: Passes(2, 2), Form.WIDE: Passes(2, 2)}
#: Of loops that are written in LLVM's own language, which know no such bits to keep.
OWN_LOOPS = Passes(3, 3, vectorize=True, unroll=True)


@lru_cache(maxsize=1)
def host() -> dict[str, bool]:
    """Prepares LLVM, once; gives the features of this processor, none where it cannot say them."""
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    try:
        return dict(llvm.get_host_cpu_features())
    except (RuntimeError, ValueError) as error:
        _log.warning("the features of this processor are not known, so code is compiled for any: %s", error)
        return {}


@lru_cache(maxsize=1)
def _processor() -> str:
    """The name of this processor; empty for any."""
    try:
        return str(llvm.get_host_cpu_name()) if host() else ""
    except (RuntimeError, ValueError):
        return ""


def _features(form: Form) -> str:
    features = dict(host())
    if form is not Form.WIDE:
        # One number at a time is compared and chosen; the wide mask registers only slow that down.
        features.update({name: False for name in features if name.startswith("avx512") or name == "evex512"})
    return ",".join(f"{'+' if on else '-'}{name}" for name, on in features.items())


@lru_cache(maxsize=4)
def target(form: Form, level: int) -> llvm.TargetMachine:
    """What code is made for."""
    features = _features(form)
    return llvm.Target.from_default_triple().create_target_machine(
        cpu=_processor(), features=features, opt=level, reloc="pic", codemodel="small"
    )


def maker(form: Form) -> str:
    """Everything that decides, besides its text, what code a module becomes: compiler, processor, passes, this file."""
    compiler = f"{llvmlite.__version__} {llvm.llvm_version_info} {target(form, PASSES[form].level).triple}"
    return f"{compiler} {_processor()} {_features(form)} {PASSES[form]} {_this_file()}"


@lru_cache(maxsize=1)
def _this_file() -> str:
    """Identifies how this file drives the compiler."""
    try:
        return hashlib.sha256(Path(__file__).read_bytes()).hexdigest()
    except OSError:
        return ""


def object_code(text: str, form: Form) -> bytes:
    """What the compiler makes of a module."""
    passes = PASSES[form]
    module, builder, machine = prepared(text, form, passes)
    if form is not Form.QUICK:
        builder.getModulePassManager().run(module, builder)
    else:
        manager = llvm.create_new_function_pass_manager()
        manager.add_sroa_pass()
        for function in module.functions:
            if not function.is_declaration:
                manager.run(function, builder)
    return bytes(machine.emit_object(module))


def prepared(text: str, form: Form, passes: Passes) -> tuple[llvm.ModuleRef, llvm.PassBuilder, llvm.TargetMachine]:
    """A module with the passes that are to be run over it, and the machine that it is for."""
    machine = target(form, passes.level)
    module = llvm.parse_assembly(text)
    module.triple = machine.triple
    module.data_layout = str(machine.target_data)
    options = llvm.create_pipeline_tuning_options(speed_level=passes.speed_level)
    options.loop_vectorization, options.loop_unrolling = passes.vectorize, passes.unroll
    options.slp_vectorization = False
    return module, llvm.create_pass_builder(machine, options), machine


def _end_with_reader() -> None:
    """Ends this process once nothing reads its output any more: the program that asked has ended."""
    reader = select.poll()
    reader.register(sys.stdout.fileno(), 0)
    reader.poll()
    os._exit(0)


if __name__ == "__main__":
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl+C is for the program that asked
    threading.Thread(target=_end_with_reader, daemon=True).start()
    sys.stdout.buffer.write(object_code(sys.stdin.buffer.read().decode(), Form(sys.argv[1])))
    sys.stdout.buffer.flush()
    os._exit(0)
