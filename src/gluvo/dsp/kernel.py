"""How per-sample recursions are compiled: when the first of them runs."""

from __future__ import annotations

import functools
import logging
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from gluvo.dsp.lazy_kernels import LazyKernel, making
from gluvo.dsp.vectors import load_quickly

Audio = NDArray[np.float64]
"""Audio, ``(frames, 2)`` float64, full scale ±1."""

Floats = NDArray[np.float64]

log = logging.getLogger(__name__)


def kernel(function: Callable[..., Any]) -> Callable[..., Any]:
    """Compile a function once, keep it on disk, and run it without the interpreter's lock."""

    def make() -> Any:
        compiled, place = _compiled(function), function.__globals__
        if place.get(function.__name__) is deferred:  # its own module need not go through what stood for it
            place[function.__name__] = compiled
        return compiled

    deferred = functools.update_wrapper(LazyKernel(make), function)
    return deferred


def load() -> None:
    """Load the compiler now, so that the first kernel that runs need not wait for it."""
    with making:
        load_quickly()


def _compiled(function: Callable[..., Any]) -> Any:
    """The function for the compiler, which looks up what it names in its module: there things must be made."""
    load_quickly()
    import numba

    for name in function.__code__.co_names:
        if isinstance(found := function.__globals__.get(name), LazyKernel):
            function.__globals__[name] = found.made()
    # "contract" lets the compiler fuse multiply and add; nothing that would reorder sums or drop NaN checks.
    compiled = functools.partial(numba.njit, function, nogil=True, error_model="numpy", fastmath={"contract"})
    try:
        return compiled(cache=True)
    except RuntimeError as error:  # there is no folder that can be written
        log.warning("%s: each start is slow; set NUMBA_CACHE_DIR to a folder that can be written", error)
        return compiled()
