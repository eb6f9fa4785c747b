"""Dropouts while the window is as busy as it gets: rulers dragged, the window resized, renders running.

Usage: python benchmarks/busy_window.py [SECONDS]
"""

from __future__ import annotations

import sys
import tempfile
import time

from PySide6.QtCore import QSettings

from gluvo.demo.session import demo_session
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.app import application
from gluvo.desk.window.window import Window
from gluvo.play.device import SILENT
from gluvo.session.document import Document
from gluvo.session.store import read_session


def main(seconds: float) -> int:
    """Play for a while under a storm of edits; print and return the dropouts."""
    app = application()
    with tempfile.TemporaryDirectory() as scratch:
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, scratch)
        bench = Workbench(SILENT, autosaves=False)
        window = Window(bench)
        window.show()
        path = demo_session()
        bench.open(Document(read_session(path).session, path, saved=True))
        while not bench.picture.song_current or bench.engine is None:
            app.processEvents()
        engine = bench.engine
        bench.listening.toggle_play()
        end, n, longest = time.monotonic() + seconds, 0, 0.0
        while time.monotonic() < end:
            start = time.monotonic()
            n += 1
            value = -30.0 + 15.0 * ((n % 120) / 120.0)
            bench.set_setting("glue-1", "threshold", round(value, 2), "Threshold")
            if n % 10 == 0:
                window.resize(1200 + n % 200, 760 + n % 90)
            if n % 45 == 0:
                bench.listening.hear(("result", "untouched", "step_out", "change")[n // 45 % 4])
            app.processEvents()
            longest = max(longest, time.monotonic() - start)
            time.sleep(0.002)
        dropouts = engine.dropouts
        bench.close()
        window._timer.stop()
    print(
        f"{n} edits in {seconds:.0f} s of play, longest turn of the window {longest * 1000:.0f} ms: {dropouts} dropouts"
    )
    return dropouts


if __name__ == "__main__":
    sys.exit(1 if main(float(sys.argv[1]) if len(sys.argv) > 1 else 20.0) else 0)
