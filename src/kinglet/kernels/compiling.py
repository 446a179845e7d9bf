"""The functions of this package to machine code, which is kept on disk: `python -m kinglet.kernels.compiling`.

Compiling takes numba and some seconds; what comes of it needs neither.
"""

from __future__ import annotations

import contextlib
import hashlib
import importlib
import re
import secrets
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from kinglet.kernels import compiled
from kinglet.kernels.compiled import NAMES, machine, object_name

_EXPORTED = "kinglet_"


def compile_all() -> list[str]:
    """Compiles what is not kept yet; returns the names of what can be used now.

    Without numba that is what was kept before.
    """
    good = []
    for name in NAMES:
        if compiled.kept_library(name) is not None:
            good.append(name)
            continue
        with contextlib.suppress(ImportError, OSError):
            code = compiled.kept(name)
            if code is None:
                code = machine_code(name)
                keep(name, code)
            good.append(name)
            link(name, code)
    return good


def machine_code(name: str) -> bytes:
    """A function as an object file of this machine's kind.

    Raises:
        ImportError: numba is not here.
    """
    import llvmlite.binding as llvm
    from numba import cfunc, types

    function = importlib.import_module(f"kinglet.kernels.loops.{name}").run
    signature = types.int64(types.CPointer(types.int64))
    compiled = cfunc(signature, nopython=True, error_model="numpy")(function)
    text = compiled.inspect_llvm().replace(compiled.native_name, _EXPORTED + name)
    # what numba would raise with, which these functions never do: there need be nothing of that name
    text = re.sub(r"(?m)^declare (?=.*@(?:numba_|NRT_|Py))", "declare extern_weak ", text)
    text = re.sub(r"(?m)^(@Py\w+ = )external ", r"\1extern_weak ", text)
    return bytes(machine().emit_object(llvm.parse_assembly(text)))


def link(name: str, code: bytes) -> Path | None:
    """Makes a shared library of an object file, where the system has a linker, and keeps it."""
    linker = shutil.which("cc")
    file = compiled.library_name(name)
    if linker is None or file is None:
        return None
    with tempfile.TemporaryDirectory() as folder:
        given, made = Path(folder) / f"{name}.o", Path(folder) / f"{name}.so"
        given.write_bytes(code)
        done = subprocess.run([linker, "-shared", "-o", made, given], capture_output=True)
        if done.returncode:
            return None
        linked = made.read_bytes()
    return _kept(name, file, linked + hashlib.sha256(linked).digest())


def keep(name: str, code: bytes) -> Path:
    """Writes an object file where it is looked for: beside the package, else among the user's cached files.

    Raises:
        OSError: neither place can be written to.
    """
    return _kept(name, object_name(name), hashlib.sha256(code).digest() + code)


def _kept(name: str, file: str, whole: bytes) -> Path:
    problem = OSError("there is no place to keep machine code in")
    for home in compiled.homes():
        try:
            home.mkdir(parents=True, exist_ok=True)
            aside = home / f"{name}.{secrets.token_hex(4)}.part"
            aside.write_bytes(whole)
            place = aside.replace(home / file)
            # those of the same package; the user's cache may be shared by others, and by other machines
            for older in home.glob(f"{name}-*{place.suffix}") if home == compiled.homes()[0] else ():
                if older != place:
                    older.unlink(missing_ok=True)
            return place
        except OSError as error:
            problem = error
    raise problem


if __name__ == "__main__":
    sys.exit(len(compile_all()) != len(NAMES))
