"""Kernels: per-sample recursions that are compiled when the first of them runs, and the types of their arrays."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any, NamedTuple, ParamSpec, TypeVar, cast, get_type_hints

import numpy as np
from numpy.typing import NDArray

from gluvo.dsp.compiler import compiled, load_quickly
from gluvo.dsp.lazy_kernels import LazyKernel, making

Audio = NDArray[np.float64]
"""Audio, ``(frames, 2)`` float64, full scale ±1."""

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]
Records = NDArray[Any]
"""Structured records: the state of a recursion by name, one for each column."""


@functools.cache
def _fields(kind: type) -> np.dtype[np.void]:
    """A structured type of a named tuple's fields, each a float or an int."""
    return np.dtype([(name, np.int64 if hint is int else np.float64) for name, hint in get_type_hints(kind).items()])


def record(values: NamedTuple) -> Records:
    """A named tuple as a record of one, ``(1,)``: kernels take those twice as fast, and name its fields alike."""
    return np.array([tuple(values)], _fields(type(values)))


P = ParamSpec("P")
R = TypeVar("R")


def kernel(function: Callable[P, R]) -> Callable[P, R]:
    """Compile a function once, keep it on disk, and run it without the interpreter's lock. What it takes and gives is
    checked as it is declared; the compiler goes by what it is given."""

    def make() -> Any:
        made, place = compiled(function), function.__globals__
        if place.get(function.__name__) is deferred:  # its own module need not go through what stood for it
            place[function.__name__] = made
        return made

    deferred = functools.update_wrapper(LazyKernel(make), function)
    return cast("Callable[P, R]", deferred)


def load() -> None:
    """Load the compiler now, so that the first kernel that runs need not wait for it."""
    with making:
        load_quickly()
