"""What a desktop knows the program by: its entry in menus, its icon, the type of its session files, its description.

They follow the Desktop Entry, Icon Theme, Shared MIME-info and AppStream specifications of freedesktop.org. A wheel carries
them, and lays them under the `share` of where it is installed; menus look there only if that is a place of the system's.
`install` puts them where each user's menus look.
"""

from __future__ import annotations

import contextlib
import shutil
import subprocess
import sys
from importlib.resources import files
from pathlib import Path

import platformdirs

from gluvo.errors import WriteError

APP_ID = "org.gluvo.Gluvo"
UPDATERS = (
    ("update-desktop-database", "applications"),
    ("update-mime-database", "mime"),
    ("gtk-update-icon-cache", "icons/hicolor"),
)
"""Programs that take up what has changed in a folder, where there are such."""
PATIENCE = 30.0
"""Seconds that each may take."""


def _places() -> dict[str, tuple[str, str]]:
    """Where each lies below the data folder: the package and the name it has here."""
    ours, icons = "gluvo.desktop_files", "gluvo.desk.controls"
    return {
        f"applications/{APP_ID}.desktop": (ours, f"{APP_ID}.desktop"),
        f"metainfo/{APP_ID}.metainfo.xml": (ours, f"{APP_ID}.metainfo.xml"),
        f"mime/packages/{APP_ID}.xml": (ours, f"{APP_ID}.mime.xml"),
        f"icons/hicolor/scalable/apps/{APP_ID}.svg": (icons, "icons/gluvo.svg"),
    }


def program() -> str:
    """The command that starts this program, from wherever it was installed."""
    beside = Path(sys.executable).parent / "gluvo"
    return str(beside) if beside.exists() else shutil.which("gluvo") or "gluvo"


def install(folder: Path | None = None) -> list[Path]:
    """Put them into a data folder, the user's if none is given, and have them taken up. The files.

    Raises `WriteError` if the folder cannot be written to.
    """
    root, made = folder or platformdirs.user_data_path(), []
    for place, (package, name) in _places().items():
        text = (files(package) / name).read_text(encoding="utf-8")
        if place.startswith("applications/"):
            text = text.replace("Exec=gluvo ", f"Exec={quoted(program())} ")
        path = root / place
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, encoding="utf-8")
        except OSError as error:
            raise WriteError(f"{path} cannot be written ({error.strerror}).") from None
        made.append(path)
    _take_up(root)
    return made


def remove(folder: Path | None = None) -> list[Path]:
    """Take them away again. The files that there were.

    Raises `WriteError` if one cannot be removed.
    """
    root, gone = folder or platformdirs.user_data_path(), []
    for place in _places():
        path = root / place
        try:
            path.unlink()
        except FileNotFoundError:
            continue
        except OSError as error:
            raise WriteError(f"{path} cannot be removed ({error.strerror}).") from None
        gone.append(path)
    if gone:
        _take_up(root)
    return gone


def quoted(command: str) -> str:
    """A command as the Exec key of a desktop entry takes it.

    >>> quoted("/opt/my music/gluvo"), quoted("/usr/bin/gluvo")
    ('"/opt/my music/gluvo"', '/usr/bin/gluvo')
    """
    command = command.replace("%", "%%")
    if not set(command) & set(" \t\n\"'\\><~|&;$*?#()`"):
        return command
    for mark in '\\"`$':
        command = command.replace(mark, f"\\{mark}")
    return '"' + command.replace("\\", "\\\\") + '"'


def _take_up(root: Path) -> None:
    for updater, place in UPDATERS:
        found, folder = shutil.which(updater), root / place
        if found and folder.is_dir():
            with contextlib.suppress(
                OSError, subprocess.TimeoutExpired
            ):  # menus take up by themselves what is new, later
                subprocess.run([found, str(folder)], capture_output=True, check=False, timeout=PATIENCE)
