"""Starting the window."""

from __future__ import annotations

import contextlib
import ctypes
import gc
import logging
import os
import signal
import sys
from functools import partial
from pathlib import Path
from typing import NoReturn

import platformdirs
from PySide6.QtCore import QSettings, QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from gluvo.desk.controls.theme import ICONS, theme
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.garbage import GarbageCollector
from gluvo.desk.window.window import Window
from gluvo.desktop_files import APP_ID
from gluvo.dsp.kernel import load
from gluvo.errors import GluvoError
from gluvo.logs import catch_all, start_log
from gluvo.opened.tasks import PREPARING
from gluvo.play.process import Host
from gluvo.progress import Progress
from gluvo.render.warm import warm_up
from gluvo.session.files import numbered, read_whole, reason_of

MOST_SETTINGS = 4 << 20
"""Bytes: no settings are larger."""
ICON = ICONS / "gluvo.svg"


def application() -> QApplication:
    """The one application object, dressed."""
    app = QApplication.instance()
    if isinstance(app, QApplication):
        return app
    app = QApplication(sys.argv[:1])
    app.setApplicationName("gluvo")
    app.setApplicationDisplayName("Gluvo")
    app.setDesktopFileName(APP_ID)
    app.setWindowIcon(QIcon(str(ICON)))
    theme.attach(app)
    GarbageCollector(app)
    return app


def run(path: Path | None, host: Host, play: bool = False) -> NoReturn:
    """Open the window, with a session or an audio file if one is given; ends the process when it is closed.

    `play` starts it as soon as its audio is read.
    """
    start_log()
    try:
        check_display()
    except GluvoError:
        host.close()
        raise
    app = application()
    aside = set_aside(Path(platformdirs.user_config_dir("gluvo", appauthor=False)) / "gluvo.conf")
    settings = QSettings("gluvo", "gluvo")
    night = str(settings.value("night") or "")
    theme.force({"day": False, "night": True}.get(night))
    window = Window(Workbench(str(settings.value("device") or ""), host))
    window.show()
    window.restore_meters()
    gc.freeze()  # what is there by now stays: it need not be looked at again and again
    catch_all(window.tell_of_itself)
    if aside:
        window.notice.tell(aside, True)
    prepare = partial(get_ready, waits=path is None)
    QTimer.singleShot(0, lambda: window.bench.tasks.submit(PREPARING, "Loading kernels", prepare))
    if play:
        window.bench.audio_changed.connect(window.play_once)
    if path is not None:
        QTimer.singleShot(0, lambda: window.open_path(path))
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):  # the window's tick lets Python look at them
        signal.signal(number, lambda *_: QTimer.singleShot(0, window.end))
    status = app.exec()
    # here and now: a thread that works on while Python takes itself apart would bring all of it down, and so would widgets
    # that are taken apart after the application
    settings.sync()
    window.settings.sync()
    logging.shutdown()
    with contextlib.suppress(OSError, ValueError):  # what was printed to may have gone
        sys.stdout.flush()
        sys.stderr.flush()
    os._exit(status)


def set_aside(settings: Path) -> str:
    """Move a settings file out of the way that is none, such as a pipe or something huge: reading it would never end. A
    sentence on it; nothing, if there is nothing to say."""
    try:
        read_whole(settings, MOST_SETTINGS, 2.0)
    except FileNotFoundError:
        return ""
    except OSError as error:
        with contextlib.suppress(OSError):
            other = next(p for p in numbered(settings.with_name("gluvo.conf.unread")) if not os.path.lexists(p))
            settings.rename(other)
            return f"The settings could not be read ({reason_of(error)}), and are kept as {other.name}."
    return ""


def get_ready(progress: Progress, waits: bool) -> None:
    """Load the compiler once the window is up; and all kernels, where it `waits` for a session to be opened: else they
    would hold up what is read and rendered of one."""
    load()
    if waits:
        warm_up(progress)


def check_display() -> None:
    """Raises `GluvoError` where there is no screen to open a window on: Qt would end the process without a word."""
    platform = os.environ.get("QT_QPA_PLATFORM", "")
    if platform.partition(":")[0] in ("offscreen", "minimal", "vnc", "linuxfb", "eglfs"):
        return
    wayland = os.environ.get("WAYLAND_DISPLAY", "")
    if wayland and platform in ("", "wayland"):
        runtime = Path(os.environ.get("XDG_RUNTIME_DIR", "/nowhere"))
        if (runtime / wayland).exists():
            return
    display = os.environ.get("DISPLAY", "")
    if not display:
        raise GluvoError("There is no display to open the window on (DISPLAY is not set).")
    with contextlib.suppress(OSError):  # without the library there is nothing to ask
        xcb = ctypes.CDLL("libxcb.so.1")
        xcb.xcb_connect.restype = ctypes.c_void_p
        xcb.xcb_connection_has_error.argtypes = xcb.xcb_disconnect.argtypes = (ctypes.c_void_p,)
        connection = xcb.xcb_connect(None, None)
        failed = xcb.xcb_connection_has_error(connection)
        xcb.xcb_disconnect(connection)
        if failed:
            raise GluvoError(f"The display {display} cannot be opened.")
