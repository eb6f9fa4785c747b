"""Big arrays outside the program's own heap: mapped from files without a name, which other processes can map too.

A song of twelve stems and all its renders can be many gigabytes. The first `IN_MEMORY` bytes lie in memory; what
comes after lies on disk, where the system keeps in memory what there is room for. All of it is gone with the
process, however that ends.
"""

from __future__ import annotations

import os
import tempfile
import threading
import weakref
from pathlib import Path

import numpy as np
import platformdirs

SMALLEST = 4_000_000
"""Bytes under which an array is just kept on the heap, if it need not be shared."""
IN_MEMORY = 700_000_000

Address = tuple[str, tuple[int, ...]]
"""Where another process finds an array: a path and its shape."""

_lock = threading.Lock()
_taken = 0


def scratch(shape: tuple[int, ...], shared: bool = False) -> np.ndarray:
    """A float32 array of zeros. If `shared`, `address_of` tells other processes where it is."""
    size = 4 * int(np.prod(shape))
    if size == 0 or (size < SMALLEST and not shared):
        return np.zeros(shape, dtype=np.float32)
    try:
        handle, in_memory = _file(size)
    except OSError:  # neither memory files nor room on the disk
        return np.zeros(shape, dtype=np.float32)
    with os.fdopen(handle, "r+b") as file:
        made = np.memmap(file, dtype=np.float32, mode="r+", shape=shape)
        if shared:
            kept = os.dup(file.fileno())
            weakref.finalize(made, os.close, kept)
            made.handle = kept  # type: ignore[attr-defined]
    if in_memory:
        weakref.finalize(made, _give_back, size)
    return made


def address_of(array: np.ndarray) -> tuple[Address, np.ndarray]:
    """Where another process of this user can map an array, and the array itself or a copy that can be mapped.

    It is there as long as the returned array is.
    """
    handle = getattr(array, "handle", None)
    if handle is None:
        copy = scratch(array.shape, shared=True)
        copy[...] = array
        array, handle = copy, getattr(copy, "handle", None)
        if handle is None:
            raise MemoryError("neither memory nor the disk has room for audio that processes share")
    return (f"/proc/{os.getpid()}/fd/{handle}", array.shape), array


def mapped(address: Address) -> np.ndarray:
    """An array of another process. It is for reading; that it may be written keeps it of the type that kernels know."""
    path, shape = address
    return np.asarray(np.memmap(path, dtype=np.float32, mode="r+", shape=shape))


def _file(size: int) -> tuple[int, bool]:
    """An open file of that size without a name, and whether it lies in memory."""
    global _taken
    with _lock:
        in_memory = _taken + size <= IN_MEMORY
        if in_memory:
            _taken += size
    if in_memory:
        handle = os.memfd_create("gluvo")
        os.ftruncate(handle, size)
        return handle, True
    folder = Path(platformdirs.user_cache_dir("gluvo", appauthor=False))
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryFile(dir=folder) as file:
        os.posix_fallocate(file.fileno(), 0, size)  # so that a full disk is met here, and not while writing
        return os.dup(file.fileno()), False


def _give_back(size: int) -> None:
    global _taken
    with _lock:
        _taken -= size
