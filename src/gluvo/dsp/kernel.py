"""How per-sample recursions are compiled."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from gluvo.dsp.vectors import load_quickly

load_quickly()

Audio = NDArray[np.float64]
"""Audio, ``(frames, 2)`` float64, full scale ±1."""

Floats = NDArray[np.float64]
Kernel = Callable[..., Any]

# "contract" lets the compiler fuse multiply and add; nothing that would reorder sums or drop NaN checks.
kernel: Callable[[Kernel], Kernel] = numba.njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
"""Compile a function once, keep it on disk, and run it without the interpreter's lock."""
