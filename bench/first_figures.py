"""How long it takes from a start to what is looked at: the demo from nothing, and `gluvo measure` as a whole process.

Usage: xvfb-run -a python bench/first_figures.py
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile
from PySide6.QtCore import QTimer

from gluvo.demo.session import demo_session
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.app import application
from gluvo.desk.window.window import Window


def window_times() -> dict[str, float]:
    """Seconds from opening the demo, nothing of it rendered, while it plays."""
    app, path, found = application(), demo_session(), {}
    window = Window(Workbench(autosaves=False))
    window.show()
    start = time.perf_counter()

    def seen(what: str) -> None:
        found.setdefault(what, time.perf_counter() - start)

    def look() -> None:
        picture, engine = window.bench.picture, window.bench.engine
        if window.bench.audio.material is not None and engine is not None and not engine.playing:
            seen("its audio is read")
            engine.play()
        if engine is not None and engine.playing and engine.position > 0.0:
            seen("it sounds")
        if picture.around is not None:
            seen("first figures of the chosen step")
        if picture.section_current:
            seen("figures of the section")
        if picture.song_current:
            seen("every figure of the song")
            app.quit()

    timer = QTimer()
    timer.timeout.connect(look)
    timer.start(10)
    QTimer.singleShot(0, lambda: window.open_path(path))
    app.exec()
    window.end()
    return found


def measure_times() -> dict[str, float]:
    """Seconds of whole processes."""
    with tempfile.TemporaryDirectory() as folder:
        x = np.random.default_rng(0).standard_normal((480_000, 2)) * 0.1
        ten, six = Path(folder) / "ten.wav", [Path(folder) / f"six {n}.wav" for n in range(6)]
        soundfile.write(ten, x, 48_000, "PCM_24")
        for file in six:
            soundfile.write(file, np.tile(x, (9, 1)), 48_000, "PCM_24")
        found = {}
        for name, files in (("gluvo measure: a file of 10 s", [ten]), ("gluvo measure: six files of 90 s", six)):
            took = []
            for _ in range(3):
                start = time.perf_counter()
                subprocess.run(
                    [sys.executable, "-m", "gluvo", "measure", *map(str, files)], check=True, capture_output=True
                )
                took.append(time.perf_counter() - start)
            found[name] = min(took)
        return found


def main() -> None:
    for what, seconds in (measure_times() | window_times()).items():
        print(f"{what:45} {seconds:6.2f} s")


if __name__ == "__main__":
    main()
