"""LLVM: what this processor has, and a module's text compiled to an object.

It needs nothing else of the program: run by itself it compiles the text that it is given, so that a long compilation
can be done in a process aside. Within a process all calls of LLVM wait for one another.
"""

from __future__ import annotations

import os
import select
import signal
import subprocess
import sys
import threading
from enum import StrEnum
from functools import lru_cache

import llvmlite
import llvmlite.binding as llvm


class Form(StrEnum):
    """How code is compiled: to be there at once, to run fast, or to run fast on wide vectors."""

    QUICK = "quick"
    THOROUGH = "thorough"
    WIDE = "wide"


@lru_cache(maxsize=1)
def host() -> dict[str, bool]:
    """Makes LLVM ready, once; gives what this processor has."""
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    return dict(llvm.get_host_cpu_features())


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
    cpu = llvm.get_host_cpu_name()
    return llvm.Target.from_default_triple().create_target_machine(
        cpu=cpu, features=features, opt=level, reloc="pic", codemodel="small"
    )


def maker() -> str:
    """What, besides its text, decides what becomes of a module: the compiler and the processor."""
    return f"{llvmlite.__version__} {llvm.llvm_version_info} {llvm.get_host_cpu_name()} {_features(Form.WIDE)}"


def object_code(text: str, form: Form) -> bytes:
    """What the compiler makes of a module."""
    thorough = form is not Form.QUICK
    machine = target(form, 2 if thorough else 0)
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


def made_aside(text: str, form: Form) -> bytes:
    """The same in a separate process, which ends with this one.

    Raises `OSError` or `subprocess.SubprocessError` where there cannot be one, `RuntimeError` with its last words where it
    fails.
    """
    command = [sys.executable, "-P", __file__, form.value]
    done = subprocess.run(command, input=text.encode(), capture_output=True, timeout=_PATIENCE)
    if done.returncode:
        raise RuntimeError(f"exit code {done.returncode}: {done.stderr.decode(errors='replace')[-2000:]}")
    return done.stdout


#: After so many seconds a compilation is given up; symbols are then run one by one.
_PATIENCE = 120


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
