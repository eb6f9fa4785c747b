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

import numba

PLAIN = "GLUVO_PLAIN"
"""Names an environment variable: any value keeps vectors out."""


def load_quickly() -> None:
    """Load what Numba loads at a kernel's first call, but for the linear algebra of SciPy, which takes a quarter of a second
    and which no kernel here uses. To be called before any kernel is compiled or loaded."""
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
    """Load, store, splat, fused multiply-add, multiply and total for vectors of so many lanes."""
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
    def total(typing: Any, value: Any) -> Any:
        def make(context: Any, builder: Any, signature: Any, given: Any) -> Any:
            lane = [builder.extract_element(given[0], ir.Constant(ir.IntType(32), n)) for n in range(lanes)]
            return functools.reduce(builder.fadd, lane)

        return types.float64(vector), make

    return load, store, splat, fma, mul, total


def _tuples(lanes: int) -> tuple[Any, ...]:
    """The same in plain Numba: a tuple for a vector."""
    each = range(lanes)

    def compiled(text: str) -> Any:
        found: dict[str, Any] = {}
        exec(f"def made{text}", found)
        return numba.njit(error_model="numpy", fastmath={"contract"}, inline="always")(found["made"])

    def row(text: str) -> str:
        return "(" + ", ".join(text.replace("@", str(n)) for n in each) + ",)"

    load = compiled(f"(array, index): return {row('array[index + @]')}")
    store = compiled("(array, index, value):\n" + "\n".join(f"    array[index + {n}] = value[{n}]" for n in each))
    splat = compiled(f"(value): return {row('value')}")
    fma = compiled(f"(a, b, c): return {row('a[@] * b[@] + c[@]')}")
    mul = compiled(f"(a, b): return {row('a[@] * b[@]')}")
    total = compiled("(value): return " + " + ".join(f"value[{n}]" for n in each))
    return load, store, splat, fma, mul, total


def _made(lanes: int) -> tuple[Any, ...]:
    if os.environ.get(PLAIN):
        return _tuples(lanes)
    try:
        return _vectors(lanes)
    except (ImportError, AttributeError):  # another Numba than this was written for
        return _tuples(lanes)


load2, store2, splat2, fma2, mul2, total2 = _made(2)
load8, store8, splat8, fma8, mul8, total8 = _made(8)
