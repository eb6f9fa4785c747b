"""Vectors of doubles for kernels: left and right in two lanes, or eight frames of a filter at a time.

The compiler makes no vectors of two channels or of a few sums by itself, so they are told to it here, by what Numba
offers to those who extend it (see `compiler` for what else leans on its inside). Where that is not as expected, or
`GLUVO_PLAIN` is set, tuples take the place of vectors, with the same results.

All arrays are flat and contiguous: frame ``i`` of left and right lies at ``2 i`` and ``2 i + 1``.
"""

from __future__ import annotations

import functools
import os
from collections.abc import Callable
from typing import Any

from gluvo.dsp.compiler import PLAIN
from gluvo.dsp.lazy_kernels import LazyKernel


def _vectors(lanes: int) -> tuple[Any, ...]:
    """A vector of so many lanes and its load, store, splat, fused multiply-add, multiply, maximum and total."""
    from llvmlite import binding, ir
    from numba.core import cgutils, types
    from numba.core.datamodel import models
    from numba.extending import intrinsic, register_model

    class Vector(types.Type):
        """So many doubles in one register."""

        def __init__(self) -> None:
            super().__init__(name=f"Vector{lanes}")

    low = ir.VectorType(ir.DoubleType(), lanes)

    @register_model(Vector)
    class Model(models.PrimitiveModel):
        def __init__(self, manager: Any, kind: Any) -> None:
            super().__init__(manager, kind, low)  # type: ignore[no-untyped-call]

    vector = Vector()
    features = binding.get_host_cpu_features()
    fuses = bool(features.get("fma") or features.get("neon"))

    def place(context: Any, builder: Any, kind: Any, array: Any, index: Any) -> Any:
        data = context.make_array(kind)(context, builder, array).data
        return builder.bitcast(builder.gep(data, [index]), low.as_pointer())

    @intrinsic
    def load(typing: Any, array: Any, index: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            return builder.load(place(context, builder, signature.args[0], *given), align=8)

        return vector(array, types.int64), make

    @intrinsic
    def store(typing: Any, array: Any, index: Any, value: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            builder.store(given[2], place(context, builder, signature.args[0], *given[:2]), align=8)
            return context.get_dummy_value()

        return types.void(array, types.int64, vector), make

    @intrinsic
    def splat(typing: Any, value: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            index, nothing = ir.IntType(32), ir.Constant(low, ir.Undefined)
            first = builder.insert_element(nothing, given[0], ir.Constant(index, 0))
            return builder.shuffle_vector(first, nothing, ir.Constant(ir.VectorType(index, lanes), [0] * lanes))

        return vector(types.float64), make

    @intrinsic
    def fma(typing: Any, a: Any, b: Any, c: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            if not fuses:  # the call would be one into a library, a lane at a time
                return builder.fadd(builder.fmul(given[0], given[1]), given[2])
            kind = ir.FunctionType(low, [low] * 3)
            fused = cgutils.get_or_insert_function(builder.module, kind, f"llvm.fma.v{lanes}f64")  # type: ignore[no-untyped-call]
            return builder.call(fused, given)

        return vector(vector, vector, vector), make

    @intrinsic
    def mul(typing: Any, a: Any, b: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            return builder.fmul(*given)

        return vector(vector, vector), make

    @intrinsic
    def maximum(typing: Any, a: Any, b: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            return builder.select(builder.fcmp_ordered(">", *given), *given)

        return vector(vector, vector), make

    @intrinsic
    def total(typing: Any, value: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            lane = [builder.extract_element(given[0], ir.Constant(ir.IntType(32), n)) for n in range(lanes)]
            return functools.reduce(builder.fadd, lane)

        return types.float64(vector), make

    return (load, store, splat, fma, mul, maximum, total), vector


def _pairs_of_vectors(two: Any, eight: Any) -> tuple[Any, ...]:
    """What goes between a pair, ``Vector2``, and four of them, ``Vector8``; see below."""
    from llvmlite import ir
    from numba.core import types
    from numba.extending import intrinsic

    def chosen(builder: Any, a: Any, b: Any, lanes: list[int]) -> Any:
        return builder.shuffle_vector(a, b, ir.Constant(ir.VectorType(ir.IntType(32), len(lanes)), lanes))

    @intrinsic
    def spread(typing: Any, pair: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            return chosen(builder, given[0], given[0], [0, 1] * 4)

        return eight(two), make

    @intrinsic
    def after(typing: Any, a: Any, b: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            return chosen(builder, given[0], given[1], list(range(6, 14)))

        return eight(eight, eight), make

    @intrinsic
    def last(typing: Any, value: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            return chosen(builder, given[0], given[0], [6, 7])

        return two(eight), make

    @intrinsic
    def top(typing: Any, value: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            found = builder.extract_element(given[0], ir.Constant(ir.IntType(32), 0))
            for n in range(1, 8):
                lane = builder.extract_element(given[0], ir.Constant(ir.IntType(32), n))
                found = builder.select(builder.fcmp_ordered(">", found, lane), found, lane)
            return found

        return types.float64(eight), make

    return spread, after, last, top


def _inlined(*functions: Callable[..., Any]) -> tuple[Any, ...]:
    import numba

    make = numba.njit(error_model="numpy", fastmath={"contract"}, inline="always")
    return tuple(make(function) for function in functions)


def _tuples_of_two() -> tuple[Any, ...]:
    """The same in plain Numba: a pair as a tuple."""

    def load(array: Any, i: Any) -> Any:
        return array[i], array[i + 1]

    def store(array: Any, i: Any, v: Any) -> None:
        array[i], array[i + 1] = v

    def splat(value: Any) -> Any:
        return value, value

    def fma(a: Any, b: Any, c: Any) -> Any:
        return a[0] * b[0] + c[0], a[1] * b[1] + c[1]

    def mul(a: Any, b: Any) -> Any:
        return a[0] * b[0], a[1] * b[1]

    def maximum(a: Any, b: Any) -> Any:
        return max(a[0], b[0]), max(a[1], b[1])

    def total(value: Any) -> Any:
        return value[0] + value[1]

    return _inlined(load, store, splat, fma, mul, maximum, total)


def _tuples_of_eight() -> tuple[Any, ...]:
    """The same for eight: as four pairs, since tuples can be put together."""
    load2, store2, splat2, fma2, mul2, maximum2, _ = _tuples_of_two()

    def load(array: Any, i: Any) -> Any:
        return load2(array, i) + load2(array, i + 2) + load2(array, i + 4) + load2(array, i + 6)

    def store(array: Any, i: Any, v: Any) -> None:
        store2(array, i, v[0:2])
        store2(array, i + 2, v[2:4])
        store2(array, i + 4, v[4:6])
        store2(array, i + 6, v[6:8])

    def splat(value: Any) -> Any:
        return splat2(value) + splat2(value) + splat2(value) + splat2(value)

    def fma(a: Any, b: Any, c: Any) -> Any:
        low = fma2(a[0:2], b[0:2], c[0:2]) + fma2(a[2:4], b[2:4], c[2:4])
        return low + fma2(a[4:6], b[4:6], c[4:6]) + fma2(a[6:8], b[6:8], c[6:8])

    def mul(a: Any, b: Any) -> Any:
        low = mul2(a[0:2], b[0:2]) + mul2(a[2:4], b[2:4])
        return low + mul2(a[4:6], b[4:6]) + mul2(a[6:8], b[6:8])

    def maximum(a: Any, b: Any) -> Any:
        low = maximum2(a[0:2], b[0:2]) + maximum2(a[2:4], b[2:4])
        return low + maximum2(a[4:6], b[4:6]) + maximum2(a[6:8], b[6:8])

    def total(value: Any) -> Any:
        low = value[0] + value[1] + value[2] + value[3]  # one after the other, as the vectors' lanes are added up
        return low + value[4] + value[5] + value[6] + value[7]

    return _inlined(load, store, splat, fma, mul, maximum, total)


def _pairs_of_tuples() -> tuple[Any, ...]:
    def spread(pair: Any) -> Any:
        return pair + pair + pair + pair

    def after(a: Any, b: Any) -> Any:
        return a[6:8] + b[0:6]

    def last(value: Any) -> Any:
        return value[6], value[7]

    def top(value: Any) -> Any:
        return max(value)

    return _inlined(spread, after, last, top)


@functools.cache
def _made() -> tuple[tuple[Any, ...], ...]:
    """What there is for pairs, for eights and between the two."""
    if not os.environ.get(PLAIN):
        try:
            (of_two, two), (of_eight, eight) = _vectors(2), _vectors(8)
            return of_two, of_eight, _pairs_of_vectors(two, eight)
        except (ImportError, AttributeError):  # another Numba than this was written for
            pass
    return _tuples_of_two(), _tuples_of_eight(), _pairs_of_tuples()


def _named(row: int, count: int) -> list[LazyKernel]:
    return [LazyKernel(lambda n=n: _made()[row][n]) for n in range(count)]  # type: ignore[misc]


load2, store2, splat2, fma2, mul2, _, total2 = _named(0, 7)
load8, store8, splat8, fma8, mul8, max8, total8 = _named(1, 7)
spread8, after8, last2, top8 = _named(2, 4)
"""`spread8`: a pair four times. `after8`: the last pair of one vector, then the first three of the other. `last2`: the
last pair. `top8`: the largest lane."""
