"""Starting the window."""

from __future__ import annotations

import logging
import sys
from pathlib import Path

from PySide6.QtCore import QSettings, QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from gluvo.desk.theme import theme
from gluvo.desk.window import Window
from gluvo.desk.workbench import Workbench
from gluvo.play.process import Host

ICON = Path(__file__).parent / "icons" / "gluvo.svg"


def application() -> QApplication:
    """The one application object, dressed."""
    app = QApplication.instance()
    if isinstance(app, QApplication):
        return app
    app = QApplication(sys.argv[:1])
    app.setApplicationName("gluvo")
    app.setApplicationDisplayName("Gluvo")
    app.setDesktopFileName("gluvo")
    app.setWindowIcon(QIcon(str(ICON)))
    theme.attach(app)
    return app


def run(path: Path | None, host: Host, play: bool = False) -> int:
    """Open the window, with a session or an audio file if one is given; returns the exit status.

    `play` starts it as soon as its audio is read.
    """
    logging.basicConfig(level=logging.WARNING, format="gluvo: %(message)s")
    app = application()
    settings = QSettings("gluvo", "gluvo")
    night = str(settings.value("night") or "")
    theme.force({"day": False, "night": True}.get(night))
    window = Window(Workbench(str(settings.value("device") or ""), host))
    window.show()
    if play:
        window.bench.audio_changed.connect(window.play_once)
    if path is not None:
        QTimer.singleShot(0, lambda: window.open_path(path))
    return app.exec()
