"""Big arrays for audio: in memory up to a bound, on disk past it, and where another process finds them.

They are mappings of files without a name, so that nothing is left behind however the process ends. A mapping holds no
file descriptor; only what is shared with another process keeps one.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import functools
import mmap
import os
import queue
import resource
import shutil
import tempfile
import threading
import weakref
from pathlib import Path

import numpy as np
import platformdirs

from gluvo.progress import step_back
from gluvo.session.files import reason_of

SMALLEST = 4_000_000
"""Bytes under which an array is just kept on the heap, if it need not be shared."""
IN_MEMORY = 700_000_000

Address = tuple[str, tuple[int, int], tuple[int, ...], str]
"""Where another process finds an array: a path, the device and the number of the file there, its shape and its type."""

_lock = threading.Lock()
_taken = 0
_trouble = ""
_on_disk: dict[int, int] = {}
"""The sizes of arrays whose files lie on disk, by where they lie in memory."""
_gone: queue.SimpleQueue[tuple[int, int]] = queue.SimpleQueue()
"""Where what lay on disk was in memory, and its size: to be given back."""
_shared: dict[int, int] = {}
"""The descriptors of shared arrays, by where they lie."""

_libc = ctypes.CDLL(None, use_errno=True)
_libc.mmap.restype = ctypes.c_void_p
_libc.mmap.argtypes = (ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int, ctypes.c_int, ctypes.c_int, ctypes.c_long)
_libc.munmap.argtypes = (ctypes.c_void_p, ctypes.c_size_t)
_libc.madvise.argtypes = (ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int)
_FAILED = ctypes.c_void_p(-1).value


def scratch(shape: tuple[int, ...], shared: bool = False, kind: str = "f4") -> np.ndarray:
    """An array of zeros. If `shared`, `address_of` tells other processes where it is.

    Where neither memory files nor the disk have room it lies on the heap.
    """
    array, handle = _made(shape, shared, kind)
    if handle is not None:
        os.close(handle)
    return array


class Filling:
    """Audio of a known length, ``(frames, 2)`` float32, that comes piece by piece from its beginning.

    The pieces are written to the file behind the array: each page that is first touched in a mapping costs a fault.
    """

    def __init__(self, frames: int) -> None:
        self.array, self._handle = _made((frames, 2), False, "f4")
        """All of it; others may read what has come."""
        self._filled = 0

    def add(self, block: np.ndarray) -> None:
        """The next piece, ``(n, 2)``. Raises `OSError` where there is no room for it."""
        if self._handle is None:
            self.array[self._filled : self._filled + len(block)] = block
        else:
            _write(self._handle, block)
        self._filled += len(block)

    def close(self) -> None:
        """Nothing more will come."""
        handle, self._handle = self._handle, None
        if handle is not None:
            os.close(handle)

    def __del__(self) -> None:
        self.close()


class Growing:
    """Audio that comes piece by piece, ``(n, channels)`` float32, and becomes one shared array."""

    def __init__(self) -> None:
        self._handle = os.memfd_create("gluvo")
        self._in_memory, self._counted = True, 0
        self._frames, self._channels = 0, 1

    def add(self, block: np.ndarray) -> None:
        """Append a piece. Raises `OSError` where there is no room for it."""
        self._channels = block.shape[1]
        size = 4 * block.size
        if self._in_memory and not _take(size):
            self._move_to_disk()
        elif self._in_memory:
            self._counted += size
        _write(self._handle, block)
        self._frames += len(block)

    def array(self) -> np.ndarray:
        """All of it. Nothing can be added after."""
        shape, counted, self._counted = (self._frames, self._channels), self._counted, 0
        if not self._frames:
            return np.zeros(shape, dtype=np.float32)
        return _array(self._handle, shape, "f4", counted, True)

    def _move_to_disk(self) -> None:
        try:
            handle = _disk_file()
        except OSError:
            return  # it stays in memory, past the bound
        size = os.lseek(self._handle, 0, os.SEEK_CUR)
        os.lseek(self._handle, 0, os.SEEK_SET)
        while size > 0 and (sent := os.sendfile(handle, self._handle, None, size)):
            size -= sent
        os.close(self._handle)
        _give_back(self._counted)
        self._handle, self._in_memory, self._counted = handle, False, 0

    def __del__(self) -> None:
        with contextlib.suppress(OSError):
            os.close(self._handle)
        _give_back(self._counted)


def address_of(array: np.ndarray) -> tuple[Address, np.ndarray]:
    """Where another process of this user can map an array, and the array itself or a copy that can be mapped.

    It is there as long as the returned array is. Raises `MemoryError` if there is room for none.
    """
    handle = _shared.get(_place(array))
    if handle is None:
        copy = scratch(array.shape, shared=True, kind=array.dtype.str)
        copy[...] = array
        array, handle = copy, _shared.get(_place(copy))
        if handle is None:
            raise MemoryError("neither memory nor the disk has room for audio that processes share")
    there = os.fstat(handle)
    return (f"/proc/{os.getpid()}/fd/{handle}", (there.st_dev, there.st_ino), array.shape, array.dtype.str), array


def mapped(address: Address) -> np.ndarray:
    """An array of another process, or of this one. Raises `FileNotFoundError` if that process holds it no longer.

    By then its descriptor may stand for any other file, one of the user's among them: what is there is looked at before
    it is opened for writing, and a file that has a name is never opened.
    """
    path, identity, shape, kind = address
    found = os.open(path, os.O_PATH | os.O_CLOEXEC)
    try:
        there = os.fstat(found)
        if (there.st_dev, there.st_ino) != identity or there.st_nlink:
            raise FileNotFoundError(errno.ENOENT, "the array is no longer there")
        handle = os.open(f"/proc/self/fd/{found}", os.O_RDWR | os.O_CLOEXEC)
    finally:
        os.close(found)
    try:
        return _array(handle, shape, kind, 0, False)
    finally:
        os.close(handle)


def let_rest(array: np.ndarray) -> None:
    """An array is not looked at for a while: what of it lies on disk need not stay in this process's memory."""
    size = _on_disk.get(_place(array))
    if size is not None:
        _libc.madvise(_place(array), size, mmap.MADV_DONTNEED)  # of a shared mapping nothing is lost by this


def room_on_disk() -> int:
    """Bytes that are free where large arrays lie; 0 if that cannot be told."""
    folder = Path(platformdirs.user_cache_dir("gluvo", appauthor=False))
    while not os.path.exists(folder) and folder != folder.parent:  # noqa: PTH110, which never raises
        folder = folder.parent
    try:
        return shutil.disk_usage(folder).free
    except OSError:
        return 0


def trouble() -> str:
    """What has gone wrong with room for audio since the last call, in a sentence; nothing if nothing has."""
    global _trouble
    with _lock:
        found, _trouble = _trouble, ""
    return found


def _write(handle: int, block: np.ndarray) -> None:
    """Append a block to a file, float32."""
    if not len(block):
        return
    content = np.ascontiguousarray(block, dtype=np.float32).data.cast("B")
    while content:
        content = content[os.write(handle, content) :]


def _made(shape: tuple[int, ...], shared: bool, kind: str) -> tuple[np.ndarray, int | None]:
    """An array of zeros, and the open file behind it; none if it lies on the heap."""
    size = np.dtype(kind).itemsize * int(np.prod(shape))
    if size == 0 or (size < SMALLEST and not shared):
        return np.zeros(shape, dtype=kind), None
    try:
        handle, in_memory = _file(size)
    except OSError:
        return np.zeros(shape, dtype=kind), None
    try:
        return _array(handle, shape, kind, size if in_memory else 0, shared), handle
    except OSError:
        os.close(handle)
        raise


def _array(handle: int, shape: tuple[int, ...], kind: str, counted: int, shared: bool) -> np.ndarray:
    """The file of a descriptor as an array; it gives back `counted` bytes of memory when it goes."""
    size = np.dtype(kind).itemsize * int(np.prod(shape))
    place = _libc.mmap(None, size, mmap.PROT_READ | mmap.PROT_WRITE, mmap.MAP_SHARED, handle, 0)
    if place in (None, _FAILED):
        _give_back(counted)
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
    memory = (ctypes.c_char * size).from_address(place)
    array: np.ndarray = np.frombuffer(memory, np.dtype(kind)).reshape(shape)  # type: ignore[call-overload]
    kept = -1
    if shared:
        _raise_limit()
        kept = os.dup(handle)
        _shared[place] = kept
    if not counted:
        _sweeper()
        _on_disk[place] = size
    wanted = weakref.finalize(memory, _let_go, place, size, counted, kept)
    wanted.atexit = False  # threads may still read it then; the system takes it back
    return array


def _let_go(place: int, size: int, counted: int, kept: int) -> None:
    """A mapping is wanted no longer. Called by whoever held it last, who need not wait for a disk."""
    if kept >= 0:
        _shared.pop(place, None)
        os.close(kept)
    if _on_disk.pop(place, None) is None:
        _libc.munmap(place, size)
        _give_back(counted)
    else:
        _gone.put((place, size))


@functools.cache
def _sweeper() -> threading.Thread:
    """Gives back what lay on disk: a file of hundreds of megabytes can take a second to go."""
    thread = threading.Thread(target=_sweep, name="gluvo-sweeper", daemon=True)
    thread.start()
    return thread


def _sweep() -> None:
    step_back()
    while True:
        place, size = _gone.get()
        _libc.munmap(place, size)


def _place(array: np.ndarray) -> int:
    return int(array.__array_interface__["data"][0])


def _file(size: int) -> tuple[int, bool]:
    """An open file of that size without a name, and whether it counts as memory."""
    if not _take(size):
        try:
            handle = _disk_file()
        except OSError:
            return _memory_file(size), False
        try:
            os.posix_fallocate(handle, 0, size)  # so that a full disk is met here, and not while writing
        except OSError as error:
            os.close(handle)
            _tell(f"The disk has no room for renders ({reason_of(error)}); they are kept in memory.")
            return _memory_file(size), False
        return handle, False
    try:
        return _memory_file(size), True
    except OSError:
        _give_back(size)
        raise


def _memory_file(size: int) -> int:
    handle = os.memfd_create("gluvo")
    try:
        os.ftruncate(handle, size)
    except OSError:
        os.close(handle)
        raise
    return handle


def _disk_file() -> int:
    folder = Path(platformdirs.user_cache_dir("gluvo", appauthor=False))
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder) as file:
            return os.dup(file.fileno())
    except OSError as error:
        _tell(f"The cache folder {folder} cannot be used ({reason_of(error)}); renders are kept in memory.")
        raise


def _take(size: int) -> bool:
    """Count bytes as memory, if they are within the bound."""
    global _taken
    with _lock:
        if _taken + size > IN_MEMORY:
            return False
        _taken += size
        return True


def _give_back(size: int) -> None:
    global _taken
    with _lock:
        _taken -= size


def _tell(text: str) -> None:
    global _trouble
    with _lock:
        _trouble = text


def _raise_limit() -> None:
    """As many descriptors as the system allows; each shared stem keeps one."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft != hard:
        with contextlib.suppress(OSError, ValueError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))
