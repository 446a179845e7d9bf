"""Finds and loads the machine code of this package's functions.

It is an object file for each function, beside the package or among the user's cached files, under a name that tells
what it was made of and for which processor. Where there is none it is made by a process of its own, while this one
goes on with the column engine.
"""

from __future__ import annotations

import contextlib
import ctypes
import functools
import hashlib
import importlib.util
import os
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
        if not _may_be_used():
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
def object_name(name: str) -> str:
    """The name of an object file: that of the function, and a digest of all that its machine code depends on."""
    import llvmlite
    import llvmlite.binding as llvm

    made_of = [llvmlite.__version__, llvm.get_default_triple(), llvm.get_host_cpu_name(), _features()]
    digest = hashlib.sha256("\n".join(made_of).encode())
    for path in sorted([*(_HERE / "loops").glob("*.py"), _HERE / "compiling.py"]):
        digest.update(path.read_bytes())
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


def _may_be_used() -> bool:
    return os.environ.get(SETTING, "") != "off" and importlib.util.find_spec("llvmlite") is not None


def _start_compiler() -> None:
    global _compiler
    if _compiler is None and importlib.util.find_spec("numba") is not None:
        command = [sys.executable, "-m", "kinglet.kernels.compiling"]
        nothing = subprocess.DEVNULL
        _compiler = subprocess.Popen(command, stdin=nothing, stdout=nothing, stderr=nothing)
