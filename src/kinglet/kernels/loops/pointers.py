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
short_numbers_at = _pointer(types.int16)


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


json_signs_32 = _masker(32, 0, b'"\\\n[]{}')
"""Which of 32 bytes are brackets, quotes, backslashes or line ends: bits, that of the first byte the lowest."""
escapable_8, escapable_32 = (_masker(count, 32, b'"\\\x7f') for count in (8, 32))
"""Which of so many bytes are none that JSON text may hold as they are: bits, that of the first byte the lowest."""


@intrinsic
def equal_32(context: Any, address: Any, byte: Any) -> Any:
    """Which of 32 bytes are a certain one."""
    vector = ir.VectorType(ir.IntType(8), 32)

    def generate(_context: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
        loaded = builder.load(builder.inttoptr(arguments[0], vector.as_pointer()), align=1)
        small = builder.trunc(arguments[1], ir.IntType(8))
        one = builder.insert_element(ir.Constant(vector, ir.Undefined), small, ir.Constant(ir.IntType(32), 0))
        every = builder.shuffle_vector(one, one, ir.Constant(ir.VectorType(ir.IntType(32), 32), [0] * 32))
        bits = builder.bitcast(builder.icmp_unsigned("==", loaded, every), ir.IntType(32))
        return builder.zext(bits, ir.IntType(64))

    return types.int64(types.int64, types.int64), generate


@intrinsic
def first_bit(context: Any, bits: Any) -> Any:
    """The place of the lowest bit that is set; there is one."""

    def generate(_context: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
        return builder.cttz(arguments[0], ir.Constant(ir.IntType(1), 1))

    return types.int64(types.int64), generate


@loop
def find(at: int, end: int, byte: int) -> int:
    """The address of the first such byte, or the end."""
    while end - at >= 32:
        found = equal_32(at, byte)
        if found != 0:
            return at + first_bit(found)
        at += 32
    while at < end and bytes_at(at)[0] != byte:
        at += 1
    return at
