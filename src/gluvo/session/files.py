"""Files on disk: written whole or not at all, and never over something that is still needed."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import hashlib
import itertools
import os
import shutil
import stat
import tempfile
import threading
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, TypeVar

from gluvo.errors import WriteError

PART = ".gluvo-part"
"""How files end that are being written. Who writes one holds a lock on it, which goes when the process goes."""
MOST_NAME = 255
"""Bytes that the name of a file may have."""
PATIENCE = 10.0
"""Seconds after which a file that does not answer is given up."""
T = TypeVar("T")
_OLD_PARTS = ".*.gluvo.*.part"


@dataclass
class NewFile:
    """A file that is being written beside its place."""

    file: IO[bytes]
    path: Path
    """Where it goes; when it is there, where it is."""


@contextlib.contextmanager
def replacing(path: Path) -> Iterator[IO[bytes]]:
    """A file beside `path` to write to; it takes `path`'s place when all is written and on disk; see `placing`."""
    with placing(path, over=True) as part:
        yield part.file


@contextlib.contextmanager
def placing(path: Path, *, over: bool) -> Iterator[NewFile]:
    """A file beside `path` to write to; it takes its place when all is written and on disk.

    `over`: whether it takes the place of a file that is there. A link is followed then, and stays a link. Otherwise a name
    that somebody else has taken meanwhile is left alone, and the next one with a number is taken. If anything goes wrong,
    what was there stays as it was. What earlier, killed processes left of their writing is taken away. Raises `WriteError`
    for what the system refuses.
    """
    name = path.name
    try:
        path = path.resolve() if over else path.parent.resolve() / name
        handle, part_name = _locked_part(path)
    except (OSError, ValueError, RuntimeError) as error:
        raise WriteError(f"{path.parent} cannot be written to ({reason_of(error)}).") from None
    part = Path(part_name)
    try:
        with os.fdopen(handle, "w+b") as file:
            sweep(path.parent)
            made = NewFile(file, path)
            yield made
            file.flush()
            os.fsync(file.fileno())
            part.chmod(path.stat().st_mode & 0o777 if over and path.exists() else _plain_mode())
            if over:
                part.replace(path)
            else:
                made.path = _take_name(part, path)
        with contextlib.suppress(OSError):
            _sync_folder(path.parent)
    except OSError as error:
        raise WriteError(f"{name} could not be written ({reason_of(error)}). Nothing was changed.") from None
    finally:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)


def _take_name(part: Path, path: Path) -> Path:
    """Give a file that is whole its name, or the next one with a number that is free: never over another file."""
    for place in numbered(path):
        try:
            os.link(part, place)
        except FileExistsError:
            continue
        except OSError:  # a file system without links: the name is taken first, by an empty file
            try:
                place.open("xb").close()
            except FileExistsError:
                continue
            part.replace(place)
        return place
    raise AssertionError("numbers do not end")


def numbered(path: Path) -> Iterator[Path]:
    """A path, and the same with numbers: “Song.wav”, “Song (2).wav”, … Names stay as short as file systems want them.

    >>> next(numbered(Path("Song.wav"))).name
    'Song.wav'
    """
    for n in itertools.count(1):
        suffix = "".join(path.suffixes[-2:]) if path.name.endswith(".json") else path.suffix
        tail = suffix if n == 1 else f" ({n}){suffix}"
        yield path.with_name(fitting(path.name.removesuffix(suffix), tail) + tail)


def fitting(stem: str, tail: str = "") -> str:
    """The beginning of a name that, with what comes after it, file systems take: at most `MOST_NAME` bytes.

    >>> len(fitting("ä" * 300, ".wav").encode())
    250
    """
    room = MOST_NAME - len(os.fsencode(tail))
    while len(os.fsencode(stem)) > room:
        stem = stem[:-1]
    return stem


def _locked_part(path: Path) -> tuple[int, str]:
    """A new file beside `path`, locked. One that another writer swept away before it was locked is made anew."""
    while True:
        handle, name = tempfile.mkstemp(prefix=f".{fitting(path.name[:80], ' ' * 120)}.", suffix=PART, dir=path.parent)
        fcntl.flock(handle, fcntl.LOCK_EX)
        if os.fstat(handle).st_nlink:
            return handle, name
        os.close(handle)


def sweep(folder: Path) -> None:
    """Take away what killed processes left of files that they were writing in a folder."""
    with contextlib.suppress(OSError):
        for left in (*folder.glob(f".*{PART}"), *folder.glob(_OLD_PARTS)):
            with contextlib.suppress(OSError), open_ordinary(left) as file:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)  # refused while somebody writes it
                left.unlink(missing_ok=True)


# --- what others may have written --------------------------------------------------------------------------------------


def open_ordinary(path: Path) -> IO[bytes]:
    """Open a file that may be anything at all. Raises `OSError` for what is no ordinary file: a device, a pipe or a socket
    would be read for ever, or not at all."""
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        mode = os.fstat(handle).st_mode
        if stat.S_ISDIR(mode):
            raise IsADirectoryError(errno.EISDIR, "it is a folder")
        if not stat.S_ISREG(mode):
            raise OSError(errno.EINVAL, "it is no ordinary file")
        return os.fdopen(handle, "rb")
    except BaseException:
        os.close(handle)
        raise


MARK = ".gluvo-work"
"""A file in a folder that is being filled, locked as long as who fills it lives."""


@contextlib.contextmanager
def working_folder(parent: Path, name: str) -> Iterator[Path]:
    """A new hidden folder in `parent` that goes at the end, with all that is left in it; those of killed processes go, too.
    Raises `OSError`."""
    for left in parent.glob(f".*/{MARK}"):
        with contextlib.suppress(OSError), left.open("rb") as mark:
            fcntl.flock(mark, fcntl.LOCK_EX | fcntl.LOCK_NB)
            shutil.rmtree(left.parent, ignore_errors=True)
    work = Path(tempfile.mkdtemp(prefix=f".{name[:40]}-", dir=parent))
    with (work / MARK).open("wb") as mark:
        fcntl.flock(mark, fcntl.LOCK_EX)
        try:
            yield work
        finally:
            shutil.rmtree(work, ignore_errors=True)


def read_whole(path: Path, most: int, seconds: float = 0.0) -> bytes:
    """The content of a file that the program did not write itself. Raises `OSError` with a reason in words for what is no
    ordinary file, is larger than `most` bytes, or lies where nothing answers within `seconds` (else `PATIENCE`)."""

    def read() -> bytes:
        with open_ordinary(path) as file:
            content = file.read(most + 1)
        if len(content) > most:
            raise OSError(errno.EFBIG, f"it is larger than {most / 1e6:.0f} MB")
        return content

    return answered(read, seconds)


def answered(work: Callable[[], T], seconds: float = 0.0) -> T:
    """What some work with files comes to, if it comes to anything within `seconds` (else `PATIENCE`): a folder on another
    machine may hang for ever. Raises what it raises, and `TimeoutError`."""
    found: list[T] = []
    failed: list[BaseException] = []

    def run() -> None:
        try:
            found.append(work())
        except BaseException as error:  # it is the asker's
            failed.append(error)

    thread = threading.Thread(target=run, name="gluvo-asking", daemon=True)
    thread.start()
    thread.join(seconds or PATIENCE)
    if failed:
        raise failed[0]
    if not found:
        raise TimeoutError(errno.ETIMEDOUT, "it does not answer")
    return found[0]


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


FORMULA = ("=", "+", "-", "@", "\t", "\r")
"""How a cell begins that spreadsheets take for a formula."""


def safe_cell(text: str) -> str:
    """A name for a CSV file: one that begins like a formula gets an apostrophe, which spreadsheets take for text.

    >>> safe_cell("=2+3"), safe_cell("Verse")
    ("'=2+3", 'Verse')
    """
    return f"'{text}" if text.startswith((*FORMULA, "'")) else text


def read_cell(text: str) -> str:
    """A name as it was before `safe_cell`.

    >>> read_cell(safe_cell("=2+3"))
    '=2+3'
    """
    return text[1:] if text.startswith("'") and text[1:].startswith((*FORMULA, "'")) else text


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
