"""Who works on a session: one window at a time, told apart by a lock that goes with its process."""

from __future__ import annotations

import contextlib
import fcntl
import os
import secrets
import time
from pathlib import Path
from typing import IO

import msgspec

from gluvo.session.files import answered, open_ordinary, read_whole

LOOK_SECONDS, REST_SECONDS = 0.25, 30.0
"""How long a look at who works on a session may take, and for how long none is taken after one that took longer."""


class Holder(msgspec.Struct, frozen=True, kw_only=True):
    """What a lock file says of the window that works on the session."""

    token: str
    pid: int


class Lock:
    """The right to write a session. Beside the session lies a file that names the window that has it.

    The kernel's lock on that file tells whether that window still lives, so a process that was killed holds nothing.
    """

    def __init__(self, path: Path) -> None:
        """Take the lock of the session at `path`, if no living window has it; see `mine`."""
        self._path = lock_of(path)
        self._token = secrets.token_hex(8)
        self._file: IO[bytes] | None = None
        self._owned = False
        self._looks_at = 0.0
        """When it is looked again who works on it: a folder that does not answer is left in peace for a while."""
        self._alone = False
        """Where no lock file can be made, no other window can be kept from writing."""
        self._acquire()

    @property
    def mine(self) -> bool:
        """Whether this window may write. Another one may have taken over in the meantime."""
        if self._alone:
            return True
        if self._owned and time.monotonic() >= self._looks_at:
            holder = self._owner()
            if holder is not None and holder.token != self._token:
                self._owned = False
                self._drop()
        return self._owned

    @property
    def lost(self) -> bool:
        """Whether another window has taken over."""
        return not self.mine

    def follow(self, path: Path) -> bool:
        """Whether the lock file of the session at `path` is this one's: the folder was moved, and took it along. Then it is
        known to be there from now on."""
        if self._file is None or not _same(self._file, lock_of(path)):
            return False
        self._path = lock_of(path)
        return True

    def take_over(self) -> None:
        """Become the window that may write; the one that was finds out when it next looks."""
        if self._alone or self.mine:
            return
        self._owned = self._write_name()
        self._alone = not self._owned

    def release(self) -> None:
        """Let others have it."""
        if self.mine and self._file is not None:
            with contextlib.suppress(OSError):
                answered(lambda: self._path.unlink(missing_ok=True), LOOK_SECONDS)
        self._owned = False
        self._drop()

    def _acquire(self) -> None:
        for _ in range(20):
            try:
                if self._path.exists():
                    open_ordinary(self._path).close()
                file = self._path.open("a+b")
            except (OSError, ValueError):
                self._alone = True  # a folder that cannot be written: saving there will say so
                return
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                file.close()
                return
            except OSError:  # a file system without locks
                file.close()
                self._alone = True
                return
            if _same(file, self._path):
                self._file, self._owned = file, True
                self._write_name()
                return
            file.close()  # it was taken away just then

    def _owner(self) -> Holder | None:
        try:
            return msgspec.json.decode(read_whole(self._path, 4096, LOOK_SECONDS), type=Holder)
        except TimeoutError:
            self._looks_at = time.monotonic() + REST_SECONDS
            return None
        except (OSError, msgspec.DecodeError):
            return None

    def _write_name(self) -> bool:
        try:
            part = self._path.with_name(f"{self._path.name}.{self._token}")
            if self._file is not None:
                self._file.seek(0)
                self._file.truncate()
                self._file.write(msgspec.json.encode(Holder(token=self._token, pid=os.getpid())))
                self._file.flush()
                return True
            # a new file in place of the other window's: that one's lock stays on the file it has open
            part.write_bytes(msgspec.json.encode(Holder(token=self._token, pid=os.getpid())))
            file = part.open("a+b")
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            part.replace(self._path)
            self._file = file
        except OSError:
            return False
        return True

    def _drop(self) -> None:
        if self._file is not None:
            self._file.close()
            self._file = None


def lock_of(path: Path) -> Path:
    """Where it is noted who works on a session."""
    path = path.resolve()
    return path.with_name(f".{path.name}.lock")


def _same(file: IO[bytes], path: Path) -> bool:
    try:
        return os.path.samestat(os.fstat(file.fileno()), path.stat())
    except OSError:
        return False


def is_held(path: Path) -> bool:
    """Whether a living window works on the session at `path`."""
    try:
        with open_ordinary(lock_of(path)) as file:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except (OSError, ValueError):
        return False
    return False
