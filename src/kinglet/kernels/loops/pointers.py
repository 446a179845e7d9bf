"""Memory by its address, for functions that numba compiles."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from llvmlite import ir
from numba import njit, types
from numba.extending import intrinsic

loop = njit(error_model="numpy")
"""Makes a function one that others may call; a division by zero raises nothing."""


def _pointer(to: Any) -> Any:
    def at(context: Any, address: Any) -> Any:
        def generate(_context: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
            return builder.inttoptr(arguments[0], ir.IntType(to.bitwidth).as_pointer())

        return types.CPointer(to)(types.int64), generate

    return intrinsic(at)


bytes_at = _pointer(types.uint8)
numbers_at = _pointer(types.int64)
small_numbers_at = _pointer(types.int32)


def _mover(count: int) -> Any:
    vector = ir.VectorType(ir.IntType(8), count).as_pointer()

    def move(context: Any, target: Any, source: Any) -> Any:
        def generate(context: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
            to, of = (builder.inttoptr(argument, vector) for argument in arguments)
            builder.store(builder.load(of, align=1), to, align=1)
            return context.get_dummy_value()

        return types.void(types.int64, types.int64), generate

    return intrinsic(move)


move_4, move_8, move_16, move_32 = (_mover(count) for count in (4, 8, 16, 32))
"""Copy so many bytes from one address to another."""


def _masker(count: int, below: int, equal: Sequence[int]) -> Any:
    vector = ir.VectorType(ir.IntType(8), count)

    def mask(context: Any, address: Any) -> Any:
        def generate(_context: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
            loaded = builder.load(builder.inttoptr(arguments[0], vector.as_pointer()), align=1)
            found = builder.icmp_unsigned("<", loaded, ir.Constant(vector, [below] * count))
            for byte in equal:
                found = builder.or_(found, builder.icmp_unsigned("==", loaded, ir.Constant(vector, [byte] * count)))
            bits = builder.bitcast(found, ir.IntType(count))
            return builder.zext(bits, ir.IntType(64))

        return types.int64(types.int64), generate

    return intrinsic(mask)


escapable_8, escapable_16, escapable_32 = (_masker(count, 32, b'"\\\x7f') for count in (8, 16, 32))
"""Which of so many bytes are none that JSON text may hold as they are: bits, that of the first byte the lowest."""


@intrinsic
def first_bit(context: Any, bits: Any) -> Any:
    """The place of the lowest bit that is set; there is one."""

    def generate(_context: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
        return builder.cttz(arguments[0], ir.Constant(ir.IntType(1), 1))

    return types.int64(types.int64), generate


@loop
def copy(target: int, source: int, count: int) -> None:
    """Copies at least eight bytes from one address to another; the two do not overlap.

    Machine code calls no function of C, for whose address it would have to ask.
    """
    if count < 16:
        move_8(target, source)
        move_8(target + count - 8, source + count - 8)
        return
    for i in range(0, count - 16, 16):
        move_16(target + i, source + i)
    move_16(target + count - 16, source + count - 16)
