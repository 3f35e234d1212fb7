"""Compiled code that is kept as object code, and met again without the compiler.

To load Numba, and then one function from its cache, takes more than a second, which is most of what a command takes
that makes one still. The function that every point chain runs is kept by itself, therefore, and LLVM's loader alone
brings it in. It is compiled by a process of its own, so that it may have vectors of another width than all else.
"""

from __future__ import annotations

import contextlib
import ctypes
import hashlib
import os
import platform
import subprocess
import sys
import threading
from collections.abc import Callable, Sequence
from functools import cache
from importlib.metadata import version
from pathlib import Path
from typing import Any

from llvmlite import binding

from nexal.code_version import version_of
from nexal.files import written_whole

Call = Callable[..., Any]

_KINDS = {"i": ("int64", ctypes.c_int64), "d": ("float64", ctypes.c_double)}
_lock = threading.Lock()
_held: list[Any] = []
"""What owns the memory of loaded code."""


@cache
def features() -> str:
    """What this machine's processor knows, as LLVM lists it, with vectors as wide as it has them.

    By itself LLVM keeps to half the width that processors with AVX-512 have. For rows of a point chain all of it is
    better (powers take 0.65 of their time, nothing takes longer); other kernels gain nothing, some lose a quarter.
    """
    try:
        known = str(binding.get_host_cpu_features().flatten())
    except RuntimeError:
        return ""
    return f"{known},-prefer-256-bit" if platform.machine() == "x86_64" else known


@cache
def loaded(module: str, name: str, kinds: str) -> Call:
    """The function `name` of a module of kernels, from what was kept of it; else compiled by Numba, and kept.

    `kinds` has a letter for each argument: i for int64, d for float64; an address is an int64. The function returns
    nothing, raises nothing and takes no memory of its own. It is called without the interpreter's lock.
    """
    path, mark = _place(module, name, kinds)
    with _lock:
        code = _kept(path, mark)
        if code is None:
            code = _compiled(module, name, kinds)
            # Kept where that is possible: elsewhere it is compiled by each process.
            with contextlib.suppress(OSError):
                _keep(path, mark, code)
        return _linked(code, kinds)


def met(module: str, name: str, kinds: str) -> Call | None:
    """As `loaded`, but None where it would have to be compiled first."""
    path, mark = _place(module, name, kinds)
    return None if _kept(path, mark) is None else loaded(module, name, kinds)


def _place(module: str, name: str, kinds: str) -> tuple[Path, bytes]:
    """Where code is kept, and by what it is known to be the very same."""
    parts = [version_of(module), version("numba"), version("llvmlite"), _processor(), features(), kinds]
    processor = hashlib.sha256(_processor().encode()).hexdigest()[:8]
    return _folder() / f"{module}.{name}-{processor}.o", hashlib.sha256("\0".join(parts).encode()).digest()


def _processor() -> str:
    return f"{platform.machine()} {binding.get_host_cpu_name()}"


def _folder() -> Path:
    own = os.environ.get("NUMBA_CACHE_DIR")
    return Path(own) if own else Path(__file__).resolve().parent / "__pycache__"


def _kept(path: Path, mark: bytes) -> bytes | None:
    """What was kept of this very code for this very machine, whole; else None."""
    try:
        content = path.read_bytes()
    except OSError:
        return None
    size = len(mark)
    told, digest, code = content[:size], content[size : 2 * size], content[2 * size :]
    return code if told == mark and digest == hashlib.sha256(code).digest() else None


def _keep(path: Path, mark: bytes, code: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with written_whole(path) as part:
        part.write_bytes(mark + hashlib.sha256(code).digest() + code)


def _compiled(module: str, name: str, kinds: str) -> bytes:
    """Object code, made by a process of its own. Raises RuntimeError with what that said."""
    paths = [str(Path(__file__).resolve().parents[2]), os.environ.get("PYTHONPATH", "")]
    told = {
        "PYTHONPATH": os.pathsep.join(filter(None, paths)),
        "NUMBA_CPU_NAME": binding.get_host_cpu_name(),
        "NUMBA_CPU_FEATURES": features(),
    }
    done = subprocess.run(
        [sys.executable, "-m", __name__, module, name, kinds], env=os.environ | told, capture_output=True, check=False
    )
    if done.returncode:
        raise RuntimeError(f"{module}.{name} could not be compiled: {done.stderr.decode(errors='replace')[-2000:]}")
    return done.stdout


def compiled(module: str, name: str, kinds: str) -> bytes:
    """Object code of the function alone, compiled here. Raises ValueError where it needs more than itself."""
    import importlib

    import numba

    function = getattr(importlib.import_module(module), name)
    function.compile(numba.void(*(getattr(numba, _KINDS[kind][0]) for kind in kinds)))
    (signature,) = function.signatures
    symbol = function.overloads[signature].fndesc.llvm_func_name
    whole = binding.parse_assembly(function.inspect_llvm(signature))
    # What lets Python call it belongs to Numba, and is not there without it.
    for other in (*whole.functions, *whole.global_variables):
        if other.name == symbol:
            other.name = _SYMBOL
        elif not other.is_declaration:
            other.linkage = "internal"
    passes = binding.create_new_module_pass_manager()
    passes.add_global_dead_code_eliminate_pass()
    passes.run(whole, binding.create_pass_builder(_machine(), binding.create_pipeline_tuning_options()))
    foreign = [each.name for each in whole.functions if each.is_declaration and not each.name.startswith("llvm.")]
    if foreign:
        raise ValueError(f"it calls {', '.join(foreign)}")
    return bytes(_machine().emit_object(whole))


_SYMBOL = "nexal_kept"


@cache
def _machine() -> Any:
    for name in ("initialize_native_target", "initialize_native_asmprinter"):
        getattr(binding, name)()
    target = binding.Target.from_default_triple()
    return target.create_target_machine(
        cpu=binding.get_host_cpu_name(), features=features(), opt=3, codemodel="jitdefault", jit=True
    )


def _linked(code: bytes, kinds: str) -> Call:
    engine = binding.create_mcjit_compiler(binding.parse_assembly(""), _machine())
    engine.add_object_file(binding.object_file.ObjectFileRef.from_data(code))
    engine.finalize_object()
    _held.append(engine)
    # Numba's functions return a status, and take places for a result and for what was raised: there is neither.
    nothing = ctypes.create_string_buffer(16)
    _held.append(nothing)
    place = ctypes.addressof(nothing)
    arguments: Sequence[Any] = [ctypes.c_void_p] * 2 + [_KINDS[kind][1] for kind in kinds]
    function = ctypes.CFUNCTYPE(ctypes.c_int32, *arguments)(engine.get_function_address(_SYMBOL))

    def call(*values: Any) -> None:
        function(place, place, *values)

    return call


if __name__ == "__main__":
    sys.stdout.buffer.write(compiled(*sys.argv[1:]))
