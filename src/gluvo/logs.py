"""The log: what is needed to look into a problem, in the user's state folder (XDG Base Directory specification)."""

from __future__ import annotations

import contextlib
import faulthandler
import importlib.metadata
import logging
import logging.handlers
import os
import platform
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from types import TracebackType

import platformdirs

from gluvo import __version__

LOG, PLAYING_LOG = "gluvo.log", "gluvo-playing.log"
"""That of the window or the command line, and that of the process that plays."""
MOST_BYTES, OLDER = 1_000_000, 3
"""A file that has grown to this is put aside, and so many of those are kept."""
FORMAT = "%(asctime)s %(process)d %(levelname)s %(name)s: %(message)s"
TAIL_BYTES = 64_000
"""Of the end of a log in which the last errors are looked for."""
LIBRARIES = ("PySide6-Essentials", "numpy", "scipy", "numba", "av", "soundfile", "sounddevice", "soxr", "msgspec")

log = logging.getLogger(__name__)


def log_folder() -> Path:
    return Path(platformdirs.user_state_dir("gluvo", appauthor=False))


def start_log(name: str = LOG) -> Path | None:
    """Write what is logged into a file as well as warnings to stderr; what is not caught, too. The file; None where it cannot
    be written, which is no reason to stop.

    It is opened with the first line that is written to it.
    """
    root = logging.getLogger()
    if not root.handlers:
        shown = logging.StreamHandler()
        shown.setLevel(logging.WARNING)
        shown.setFormatter(logging.Formatter("gluvo: %(message)s"))
        root.addHandler(shown)
    root.setLevel(logging.INFO)
    path = log_folder() / name
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.exists() and not path.is_file():
            return None
        file = Quiet(path, maxBytes=MOST_BYTES, backupCount=OLDER, encoding="utf-8", delay=True)
    except OSError:
        return None
    file.setFormatter(logging.Formatter(FORMAT))
    root.addHandler(file)
    with contextlib.suppress(OSError):
        faulthandler.enable(path.open("a", encoding="utf-8"))  # where the process itself breaks down
    return path


class Quiet(logging.handlers.RotatingFileHandler):
    """A log that cannot be written to is no reason to say anything, or to stop."""

    def handleError(self, record: logging.LogRecord) -> None:
        pass


def catch_all(told: Callable[[str], object]) -> None:
    """Log what nothing has caught, on any thread, and tell it in a sentence. The program goes on."""
    telling = False

    def caught(kind: type[BaseException], error: BaseException | None, trace: TracebackType | None) -> None:
        nonlocal telling
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error or kind(), trace)
            return
        log.critical("not caught", exc_info=(kind, error or kind(), trace))
        if telling:  # what goes wrong in telling it is only logged
            return
        telling = True
        try:
            told(f"Something went wrong inside Gluvo ({kind.__name__}). What you made is kept; the log says more.")
        finally:
            telling = False

    sys.excepthook = caught
    threading.excepthook = lambda args: caught(args.exc_type, args.exc_value, args.exc_traceback)


def last_errors(path: Path, most: int = 5) -> list[str]:
    """The last records of errors in a log, with what follows each of them; none where it cannot be read."""
    try:
        with path.open("rb") as file:
            file.seek(max(0, file.seek(0, os.SEEK_END) - TAIL_BYTES))
            lines = file.read().decode(errors="replace").splitlines()
    except OSError:
        return []
    records: list[list[str]] = []
    for line in lines:
        if _begins_a_record(line):
            records.append([line])
        elif records:
            records[-1].append(line)
    wanted = [r for r in records if r[0].split()[3] in ("ERROR", "CRITICAL")]
    return ["\n".join(record) for record in wanted[-most:]]


def _begins_a_record(line: str) -> bool:
    words = line.split(maxsplit=4)
    return len(words) > 3 and words[3] in logging.getLevelNamesMapping() and words[2].isdigit()


def problem_report(further: dict[str, str] | None = None) -> str:
    """What a report of a problem needs: versions, the machine, what is `further` known, the last errors."""
    folder = log_folder()
    rows = {"Gluvo": __version__, "Python": platform.python_version(), "System": platform.platform()}
    for name in LIBRARIES:
        with contextlib.suppress(importlib.metadata.PackageNotFoundError):
            rows[name] = importlib.metadata.version(name)
    rows |= further or {}
    rows["Log"] = str(folder / LOG)
    errors = [error for name in (LOG, PLAYING_LOG) for error in last_errors(folder / name)]
    told = "\n\n".join(errors) or "none"
    return "\n".join(f"{name}: {value}" for name, value in rows.items()) + f"\n\nLast errors:\n\n{told}\n"
