"""What is in a file, as a digest: read through once, and known again for as long as the file is not written to."""

from __future__ import annotations

import contextlib
import hashlib
import os
import threading
import time
from pathlib import Path

import msgspec
import platformdirs

from gluvo.errors import AudioFileError
from gluvo.progress import Progress, no_progress
from gluvo.session.files import open_ordinary, read_whole, reason_of

PIECE = 1 << 23
"""So many bytes are read at a time."""
SETTLED_NS = 2_000_000_000
"""A file that was written to less than this before it was read is read again next time: clocks of file systems are
coarse, and a later write in the same tick would not be seen."""
_KEPT = 2000


class _Known(msgspec.Struct, frozen=True):
    """A file as it was when it was read: if nothing of this has changed, neither has its content."""

    size: int
    written: int
    changed: int
    """When its content or its description was changed last, by the system's own clock: no program can set it back."""
    digest: str


_Table = dict[str, _Known]
_decoder = msgspec.json.Decoder(_Table)


def digest_of(path: Path, progress: Progress = no_progress) -> tuple[str, int]:
    """The SHA-256 of a file's content, and its size in bytes. Raises `AudioFileError` if it cannot be read.

    The file is not read where its size, times and place on disk are those of an earlier reading.
    """
    try:
        with open_ordinary(path) as file:
            before = os.fstat(file.fileno())
            if (known := _recalled(before)) is not None:
                return known, before.st_size
            digest, done, began = hashlib.sha256(), 0, time.time_ns()
            while block := file.read(PIECE):
                digest.update(block)
                done += len(block)
                progress(done / max(before.st_size, 1))
            after = os.fstat(file.fileno())
    except FileNotFoundError:
        raise AudioFileError(f"{path.name} was not found in {path.absolute().parent}.") from None
    except PermissionError:
        raise AudioFileError(f"{path.name} may not be read: its permissions forbid it.") from None
    except IsADirectoryError:
        raise AudioFileError(f"{path.name} is a folder, not an audio file.") from None
    except (OSError, ValueError, RuntimeError) as error:
        raise AudioFileError(f"{path.name} cannot be read ({reason_of(error)}).") from None
    found = _Known(after.st_size, after.st_mtime_ns, after.st_ctime_ns, digest.hexdigest())
    still = (before.st_size, before.st_mtime_ns, before.st_ctime_ns) == (found.size, found.written, found.changed)
    if still and done == found.size and max(found.written, found.changed) + SETTLED_NS < began:
        _remember(_name(after), found)
    return found.digest, done


def _name(stat: os.stat_result) -> str:
    return f"{stat.st_dev}:{stat.st_ino}"


def _recalled(stat: os.stat_result) -> str | None:
    known = _table().get(_name(stat))
    if known is None or (known.size, known.written, known.changed) != (
        stat.st_size,
        stat.st_mtime_ns,
        stat.st_ctime_ns,
    ):
        return None
    return known.digest


def _place() -> Path:
    return Path(platformdirs.user_cache_dir("gluvo", appauthor=False)) / "digests.json"


def _table() -> _Table:
    """What is known; nothing where it cannot be read, since everything in it can be found again."""
    try:
        return _decoder.decode(read_whole(_place(), 16 << 20))
    except (OSError, msgspec.MsgspecError):
        return {}


def _remember(name: str, known: _Known) -> None:
    """Keep a digest. Of two programs that do so at once one may be forgotten, and its file is read again."""
    table = _table()
    table.pop(name, None)
    table[name] = known
    latest = dict(list(table.items())[-_KEPT:])
    part = _place().with_name(f".digests.{os.getpid()}.{threading.get_ident()}")
    with contextlib.suppress(OSError):
        try:
            part.parent.mkdir(parents=True, exist_ok=True)
            part.write_bytes(msgspec.json.encode(latest))  # not waiting for the disk: what is lost is found again
            part.replace(_place())
        finally:
            part.unlink(missing_ok=True)
