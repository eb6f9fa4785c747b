"""Files on disk: written whole or not at all, and never over something that is still needed."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import os
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import IO

from gluvo.errors import WriteError

PART = ".gluvo-part"
"""How files end that are being written. Who writes one holds a lock on it, which goes when the process goes."""
_OLD_PARTS = ".*.gluvo.*.part"


@contextlib.contextmanager
def replacing(path: Path) -> Iterator[IO[bytes]]:
    """A file beside `path` to write to; it takes `path`'s place when all is written and on disk.

    A link is followed, and stays a link. If anything goes wrong, `path` stays as it was. What earlier, killed
    processes left of their writing is taken away. Raises `WriteError` for what the system refuses.
    """
    name = path.name
    try:
        path = path.resolve()
        handle, part_name = _locked_part(path)
    except (OSError, ValueError, RuntimeError) as error:
        raise WriteError(f"{path.parent} cannot be written to ({reason_of(error)}).") from None
    part = Path(part_name)
    try:
        with os.fdopen(handle, "w+b") as file:
            sweep(path.parent)
            yield file
            file.flush()
            os.fsync(file.fileno())
            part.chmod(path.stat().st_mode & 0o777 if path.exists() else _plain_mode())
            part.replace(path)
        with contextlib.suppress(OSError):
            _sync_folder(path.parent)
    except OSError as error:
        raise WriteError(f"{name} could not be written ({reason_of(error)}). Nothing was changed.") from None
    finally:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)


def _locked_part(path: Path) -> tuple[int, str]:
    """A new file beside `path`, locked. One that another writer swept away before it was locked is made anew."""
    while True:
        handle, name = tempfile.mkstemp(prefix=f".{path.name[:80]}.", suffix=PART, dir=path.parent)
        fcntl.flock(handle, fcntl.LOCK_EX)
        if os.fstat(handle).st_nlink:
            return handle, name
        os.close(handle)


def sweep(folder: Path) -> None:
    """Take away what killed processes left of files that they were writing in a folder."""
    with contextlib.suppress(OSError):
        for left in (*folder.glob(f".*{PART}"), *folder.glob(_OLD_PARTS)):
            with contextlib.suppress(OSError), left.open("rb") as file:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)  # refused while somebody writes it
                left.unlink(missing_ok=True)


def same_file(one: Path, other: Path) -> bool:
    """Whether two paths lead to the same file, over links of any kind; or would, if they were written."""
    try:
        if one.resolve() == other.resolve():
            return True
        return one.samefile(other)
    except (OSError, ValueError, RuntimeError):
        return False


def refuse_own(path: Path, needed: Iterable[Path]) -> None:
    """Raises `WriteError` if writing `path` would overwrite one of the files that are still needed."""
    for own in needed:
        if same_file(path, own):
            raise WriteError(
                f"{path.name} belongs to the session ({own.name}) and is never written over. Choose another name."
            )


def digest(content: bytes) -> str:
    """What tells one content of a file from another: its SHA-256."""
    return hashlib.sha256(content).hexdigest()


def reason_of(error: BaseException) -> str:
    """What the system says, in a few words."""
    return getattr(error, "strerror", None) or str(error) or type(error).__name__


def _plain_mode() -> int:
    """The permissions of a new file, as this process's mask has them."""
    return 0o666 & ~_UMASK


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _umask() -> int:
    """The process's mask, read without changing it."""
    with contextlib.suppress(OSError, ValueError):
        for line in Path("/proc/self/status").read_text().splitlines():
            if line.startswith("Umask:"):
                return int(line.split()[1], 8)
    return 0o022


_UMASK = _umask()
