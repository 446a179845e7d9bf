"""The functions of this package to machine code, which is kept on disk: `python -m kinglet.kernels.compiling`.

Compiling takes numba and some seconds; what comes of it needs neither.
"""

from __future__ import annotations

import contextlib
import hashlib
import importlib
import secrets
import sys
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
        if any((home / object_name(name)).is_file() for home in compiled.homes()):
            good.append(name)
            continue
        with contextlib.suppress(ImportError, OSError):
            keep(name, machine_code(name))
            good.append(name)
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
    return bytes(machine().emit_object(llvm.parse_assembly(text)))


def keep(name: str, code: bytes) -> Path:
    """Writes machine code where it is looked for: beside the package, else among the user's cached files.

    Raises:
        OSError: neither place can be written to.
    """
    problem = OSError("there is no place to keep machine code in")
    for home in compiled.homes():
        try:
            home.mkdir(parents=True, exist_ok=True)
            aside = home / f"{name}.{secrets.token_hex(4)}.part"
            aside.write_bytes(hashlib.sha256(code).digest() + code)
            place = aside.replace(home / object_name(name))
            # those of the same package; the user's cache may be shared by others, and by other machines
            for older in home.glob(f"{name}-*.o") if home == compiled.homes()[0] else ():
                if older != place:
                    older.unlink(missing_ok=True)
            return place
        except OSError as error:
            problem = error
    raise problem


if __name__ == "__main__":
    sys.exit(len(compile_all()) != len(NAMES))
