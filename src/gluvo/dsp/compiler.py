"""How kernels are compiled: all that leans on how the compiler works inside, in one place.

Two things are not as one would write them, each for a reason:

- A kernel names other kernels in its module, and the compiler takes what stands there when it compiles. Since kernels are
  made only when they first run, what stands there is put in its place first (`compiled`).
- At a kernel's first call Numba loads linear algebra of SciPy, a quarter of a second, for functions that no kernel uses.
  It is kept out while Numba looks for it (`load_quickly`); where Numba no longer looks, that does nothing.

A test tells when Numba has changed in one of these, or in what `vectors` is made of.
"""

from __future__ import annotations

import functools
import importlib
import logging
import os
import sys
from collections.abc import Callable
from types import ModuleType
from typing import Any, cast

from gluvo.dsp.lazy_kernels import LazyKernel

PLAIN = "GLUVO_PLAIN"
"""Names an environment variable: any value keeps everything out that leans on the compiler's inside."""
UNWANTED = "scipy.linalg.cython_blas"

log = logging.getLogger(__name__)


def load_quickly() -> None:
    """Load what Numba loads at a kernel's first call, but for linear algebra. To be called before any kernel is compiled or
    loaded, by one thread at a time."""
    if os.environ.get(PLAIN) or UNWANTED in sys.modules:
        return
    sys.modules[UNWANTED] = cast("ModuleType", None)  # an import of it fails, which Numba is prepared for
    try:
        importlib.import_module("numba.np.arraymath")
    except ImportError:  # another Numba; it loads what it needs by itself
        pass
    finally:
        del sys.modules[UNWANTED]


def compiled(function: Callable[..., Any]) -> Any:
    """A function for the compiler, with what it names made; kept on disk, and run without the interpreter's lock."""
    load_quickly()
    import numba

    for name in function.__code__.co_names:
        if isinstance(found := function.__globals__.get(name), LazyKernel):
            function.__globals__[name] = found.made()
    # "contract" lets the compiler fuse multiply and add; nothing that would reorder sums or drop NaN checks.
    made = functools.partial(numba.njit, function, nogil=True, error_model="numpy", fastmath={"contract"})
    try:
        return made(cache=True)
    except RuntimeError as error:  # there is no folder that can be written
        log.warning("%s: each start is slow; set NUMBA_CACHE_DIR to a folder that can be written", error)
        return made()
