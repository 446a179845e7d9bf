"""Finds and loads the machine code of this package's functions.

It is a shared library for each function, or an object file where nothing could link one, beside the package or among
the user's cached files, under a name that tells what it was made of and for which processor. Where there is none it is
made by a process of its own, while this one goes on with the column engine. A library needs no compiler to be loaded,
which saves 40 MB of memory.
"""

from __future__ import annotations

import contextlib
import ctypes
import functools
import hashlib
import importlib.util
import os
import platform
import subprocess
import sys
import threading
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

NAMES = (
    "json_rows",
    "json_objects",
    "json_brackets",
    "pairs",
    "delimited",
    "blocks",
    "xml_elements",
    "offsets",
    "matcher",
    "positions",
    "blank_lines",
    "tags",
)
"""The modules of `loops`."""
SETTING = "KINGLET_KERNELS"
"""The environment variable that keeps machine code from being used, by the word `off`, or has it used from the first
event on, by the word `always`."""
ENOUGH = 5_000
"""So many events in all pay for loading what is kept."""
ENOUGH_TO_COMPILE = 200_000

_HERE = Path(__file__).parent
_HASH_BYTES = 32
_lock = threading.Lock()
_loaded: dict[str, Callable[[int], int] | None] = {}
_alive: list[Any] = []
_seen: Counter[str] = Counter()
_compiler: subprocess.Popen[bytes] | None = None


def kernel(name: str, events: int) -> Callable[[int], int] | None:
    """A function, once it pays: the events of all calls for it say so. None while the column engine should work."""
    if name in _loaded:
        return _loaded[name]
    with _lock:
        if name in _loaded:
            return _loaded[name]
        _seen[name] += events
        if _seen[name] < ENOUGH and not is_eager():
            return None
        if os.environ.get(SETTING, "") == "off":
            _loaded[name] = None
            return None
        if (run := _linked(name)) is not None:
            _loaded[name] = run
            return run
        if importlib.util.find_spec("llvmlite") is None:
            _loaded[name] = None
            return None
        code = kept(name)
        if code is not None:
            _loaded[name] = _function(name, code)
            return _loaded[name]
        if _seen[name] >= ENOUGH_TO_COMPILE:
            _start_compiler()
        return None


def is_eager() -> bool:
    """Whether machine code is to be used however few the events are."""
    return os.environ.get(SETTING, "") == "always"


def forget() -> None:
    """Makes the next call look anew."""
    with _lock:
        _loaded.clear()
        _seen.clear()


def homes() -> list[Path]:
    """The folders in which machine code is looked for, and kept, the first first."""
    found = [_HERE / "__pycache__"]
    with contextlib.suppress(RuntimeError):  # a user without a home
        found.append(Path(os.environ.get("XDG_CACHE_HOME") or "~/.cache").expanduser() / "kinglet")
    return found


@functools.cache
def _sources() -> bytes:
    """A digest of what machine code is made of."""
    digest = hashlib.sha256()
    for path in sorted([*(_HERE / "loops").glob("*.py"), _HERE / "compiling.py"]):
        digest.update(path.read_bytes())
    return digest.digest()


@functools.cache
def library_name(name: str) -> str | None:
    """The name of a shared library: as that of an object file, but told without a compiler.

    None where the system does not say what its processor can do.
    """
    try:
        processor = Path("/proc/cpuinfo").read_text(encoding="utf-8", errors="replace").partition("\n\n")[0]
    except OSError:
        return None
    kinds = ("vendor_id", "model name", "flags", "Features", "CPU implementer", "CPU part")
    made_of = [sys.platform, platform.machine(), *(line for line in processor.splitlines() if line.startswith(kinds))]
    digest = hashlib.sha256("\n".join(made_of).encode() + _sources())
    return f"{name}-{digest.hexdigest()[:20]}.so"


def kept_library(name: str) -> Path | None:
    """A shared library that was kept, whole: a digest of what stands before it is its end."""
    file = library_name(name)
    if file is None:
        return None
    for home in homes():
        try:
            whole = (home / file).read_bytes()
        except OSError:
            continue
        if hashlib.sha256(whole[:-_HASH_BYTES]).digest() == whole[-_HASH_BYTES:]:
            return home / file
    return None


def _linked(name: str) -> Callable[[int], int] | None:
    path = kept_library(name)
    try:
        library = ctypes.CDLL(str(path)) if path is not None else None
    except OSError:  # of a folder from which nothing may be run
        return None
    if library is None:
        return None
    _alive.append(library)
    return ctypes.CFUNCTYPE(ctypes.c_int64, ctypes.c_void_p)((f"kinglet_{name}", library))


@functools.cache
def object_name(name: str) -> str:
    """The name of an object file: that of the function, and a digest of all that its machine code depends on."""
    import llvmlite
    import llvmlite.binding as llvm

    made_of = [llvmlite.__version__, llvm.get_default_triple(), llvm.get_host_cpu_name(), _features()]
    digest = hashlib.sha256("\n".join(made_of).encode() + _sources())
    return f"{name}-{digest.hexdigest()[:20]}.o"


def machine() -> Any:
    """This machine, for the compiler."""
    import llvmlite.binding as llvm

    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    target = llvm.Target.from_default_triple()
    return target.create_target_machine(
        cpu=llvm.get_host_cpu_name(), features=_features(), opt=3, jit=True, reloc="pic", codemodel="jitdefault"
    )


def kept(name: str) -> bytes | None:
    """Machine code that was kept, whole."""
    for home in homes():
        try:
            whole = (home / object_name(name)).read_bytes()
        except OSError:
            continue
        if hashlib.sha256(whole[_HASH_BYTES:]).digest() == whole[:_HASH_BYTES]:
            return whole[_HASH_BYTES:]
    return None


def _function(name: str, code: bytes) -> Callable[[int], int]:
    import llvmlite.binding as llvm

    engine = llvm.create_mcjit_compiler(llvm.parse_assembly(""), machine())
    engine.add_object_file(llvm.ObjectFileRef.from_data(code))
    engine.finalize_object()
    _alive.append(engine)
    return ctypes.CFUNCTYPE(ctypes.c_int64, ctypes.c_void_p)(engine.get_function_address(f"kinglet_{name}"))


def _features() -> str:
    import llvmlite.binding as llvm

    return str(llvm.get_host_cpu_features().flatten())


def _start_compiler() -> None:
    global _compiler
    if _compiler is None and importlib.util.find_spec("numba") is not None:
        command = [sys.executable, "-m", "kinglet.kernels.compiling"]
        nothing = subprocess.DEVNULL
        _compiler = subprocess.Popen(command, stdin=nothing, stdout=nothing, stderr=nothing)
