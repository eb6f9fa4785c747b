"""Vectors of doubles for kernels: left and right in two lanes, or eight frames of a filter at a time.

The compiler makes no vectors of two channels or of a few sums by itself, so they are told to it here, by what Numba
offers to those who extend it. This is the one file that leans on Numba's internals; where they are not as expected, or
`GLUVO_PLAIN` is set, tuples take the place of vectors, with the same results.

All arrays are flat and contiguous: frame ``i`` of left and right lies at ``2 i`` and ``2 i + 1``.
"""

from __future__ import annotations

import functools
import importlib
import os
import sys
from typing import Any

from gluvo.dsp.lazy_kernels import LazyKernel

PLAIN = "GLUVO_PLAIN"
"""Names an environment variable: any value keeps vectors out."""


def load_quickly() -> None:
    """Load what Numba loads at a kernel's first call, but for the linear algebra of SciPy, which takes a quarter of a second
    and which no kernel here uses. To be called before any kernel is compiled or loaded, by one thread at a time."""
    unwanted = "scipy.linalg.cython_blas"
    if os.environ.get(PLAIN) or unwanted in sys.modules:
        return
    sys.modules[unwanted] = None  # type: ignore[assignment]
    try:
        importlib.import_module("numba.np.arraymath")
    except ImportError:  # another Numba; it loads what it needs by itself
        pass
    finally:
        del sys.modules[unwanted]


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
            super().__init__(manager, kind, low)

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
            return builder.call(cgutils.get_or_insert_function(builder.module, kind, f"llvm.fma.v{lanes}f64"), given)

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


def _compiled(text: str) -> Any:
    import numba

    found: dict[str, Any] = {}
    exec(f"def made{text}", found)
    return numba.njit(error_model="numpy", fastmath={"contract"}, inline="always")(found["made"])


def _tuples(lanes: int) -> tuple[Any, ...]:
    """The same in plain Numba: a tuple for a vector."""
    each = range(lanes)

    def row(text: str) -> str:
        return "(" + ", ".join(text.replace("@", str(n)) for n in each) + ",)"

    load = _compiled(f"(array, index): return {row('array[index + @]')}")
    store = _compiled("(array, index, value):\n" + "\n".join(f"    array[index + {n}] = value[{n}]" for n in each))
    splat = _compiled(f"(value): return {row('value')}")
    fma = _compiled(f"(a, b, c): return {row('a[@] * b[@] + c[@]')}")
    mul = _compiled(f"(a, b): return {row('a[@] * b[@]')}")
    maximum = _compiled(f"(a, b): return {row('max(a[@], b[@])')}")
    total = _compiled("(value): return " + " + ".join(f"value[{n}]" for n in each))
    return load, store, splat, fma, mul, maximum, total


def _pairs_of_tuples() -> tuple[Any, ...]:
    spread = _compiled("(pair): return pair + pair + pair + pair")
    after = _compiled("(a, b): return (a[6], a[7], b[0], b[1], b[2], b[3], b[4], b[5])")
    last = _compiled("(value): return (value[6], value[7])")
    top = _compiled("(value): return max(value)")
    return spread, after, last, top


@functools.cache
def _made() -> tuple[tuple[Any, ...], ...]:
    """What there is for pairs, for eights and between the two."""
    if not os.environ.get(PLAIN):
        try:
            (of_two, two), (of_eight, eight) = _vectors(2), _vectors(8)
            return of_two, of_eight, _pairs_of_vectors(two, eight)
        except (ImportError, AttributeError):  # another Numba than this was written for
            pass
    return _tuples(2), _tuples(8), _pairs_of_tuples()


def _named(row: int, count: int) -> list[LazyKernel]:
    return [LazyKernel(lambda n=n: _made()[row][n]) for n in range(count)]  # type: ignore[misc]


load2, store2, splat2, fma2, mul2, _, total2 = _named(0, 7)
load8, store8, splat8, fma8, mul8, max8, total8 = _named(1, 7)
spread8, after8, last2, top8 = _named(2, 4)
"""`spread8`: a pair four times. `after8`: the last pair of one vector, then the first three of the other. `last2`: the
last pair. `top8`: the largest lane."""
