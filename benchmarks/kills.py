"""How much work a kill loses: a window that is edited without pause, killed at random moments.

Usage: python benchmarks/kills.py [KILLS]. Prints the most seconds of work that a kill has lost, and whether all that was left
could be read.
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from gluvo.session.copies import copies_left
from gluvo.session.records import Session
from gluvo.session.store import read_session, write_session
from gluvo.steps import Trim

EDITING = """
import sys, time
from pathlib import Path
from PySide6.QtCore import QTimer
from gluvo.desk.window.app import application
from gluvo.desk.model.workbench import Workbench
from gluvo.session.document import Document
from gluvo.steps import Trim
class NoHost:
    def send(self, *_): ...
    def close(self): ...
app = application()
bench = Workbench("silent", NoHost())
bench.open(Document.open(Path(sys.argv[1])))
begun = time.monotonic()
def edit():
    at = round(time.monotonic() - begun, 3)
    bench.edit("Name", lambda s: s.replace(name=str(at)))
    print(at, flush=True)
timer = QTimer(interval=20)
timer.timeout.connect(edit)
timer.start()
app.exec()
"""
AT_ONCE = 4


def main(kills: int) -> None:
    chance, worst, unread = random.Random(1), 0.0, 0
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    with tempfile.TemporaryDirectory() as place:
        for first in range(0, kills, AT_ONCE):
            running = []
            for n in range(first, min(kills, first + AT_ONCE)):
                path = Path(place) / f"{n}" / "Quay.gluvo"
                path.parent.mkdir()
                write_session(path, Session(name="0").with_chain("mix", [Trim(id="trim-1")]))
                process = subprocess.Popen(
                    [sys.executable, "-c", EDITING, str(path)], stdout=subprocess.PIPE, text=True
                )
                assert process.stdout is not None
                process.stdout.readline()
                running.append((path, process, time.monotonic() + chance.uniform(0.5, 6.0)))
            for path, process, at in sorted(running, key=lambda r: r[2]):
                time.sleep(max(0.0, at - time.monotonic()))
                process.send_signal(signal.SIGKILL)
                said = process.communicate()[0].split()
                kept = [float(read_session(path).session.name)]
                for left in copies_left(path, None):
                    unread += left.session is None
                    kept += [float(left.session.name)] if left.session is not None else []
                worst = max(worst, float(said[-1]) - max(kept))
    print(f"{kills} kills: at most {worst:.2f} s of work lost, {unread} copies that could not be read")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 200)
