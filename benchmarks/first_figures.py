"""How long it takes from a start to what is looked at: the demo from nothing, ten stems opened for the second time,
the last step of an hour changed, and `gluvo measure` as a whole process, beside a general media toolkit's meter if
there is one.

Usage: xvfb-run -a python benchmarks/first_figures.py
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import msgspec
import numpy as np
import soundfile
from PySide6.QtCore import QTimer

from gluvo.demo.session import demo_session
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.app import application, get_ready
from gluvo.desk.window.window import Window
from gluvo.play.process import Host
from gluvo.progress import no_progress
from gluvo.render.song import Renderer
from gluvo.session.media import Material
from gluvo.session.records import Bus, Media, Session, Stem
from gluvo.session.scratch import scratch
from gluvo.session.sounds import Sound
from gluvo.steps import Glue, Limiter, Trim, Width


def window_times() -> dict[str, float]:
    """Seconds from opening the demo, nothing of it rendered, while it plays."""
    host = Host()  # started first, and made ready, as the program does, which then waits for somebody to open a session
    app, path, found = application(), demo_session(), {}
    window = Window(Workbench(host=host, autosaves=False))
    window.show()
    ready = threading.Thread(target=get_ready, args=(no_progress, True))
    ready.start()
    ready.join()
    host.wait(60.0)
    start = time.perf_counter()

    def seen(what: str) -> None:
        found.setdefault(what, time.perf_counter() - start)

    def look() -> None:
        picture, engine = window.bench.picture, window.bench.engine
        if window.bench.audio.material is not None and engine is not None and not engine.playing:
            seen("its audio is read")
            engine.play()
        if engine is not None and len(engine.read().power):
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


def stems_to_sound() -> dict[str, float]:
    """Seconds from opening ten stems of four minutes, whose content is known already, until they sound."""
    app, found = application(), {}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        x = np.random.default_rng(1).standard_normal((480_000, 2)) * 0.02
        for n in range(10):
            soundfile.write(folder / f"stem {n}.wav", np.tile(x, (24, 1)), 48_000, "PCM_24")
        time.sleep(2.5)  # what was written a moment ago is not taken as settled
        subprocess.run(
            [sys.executable, "-m", "gluvo", "new", "--stems", str(folder), "--out", str(folder / "ten.gluvo")],
            check=True,
            capture_output=True,
        )
        for what in ("ten stems of 4 min, opened to sound", "the same again"):
            window = Window(Workbench(autosaves=False))
            window.show()
            start = time.perf_counter()

            def look(window: Window = window, what: str = what, start: float = start) -> None:
                engine = window.bench.engine
                if window.bench.audio.material is not None and engine is not None and not engine.playing:
                    engine.play()
                if engine is not None and len(engine.read().power):
                    found.setdefault(what, time.perf_counter() - start)
                    app.quit()

            timer = QTimer()
            timer.timeout.connect(look)
            timer.start(10)
            QTimer.singleShot(0, lambda window=window: window.open_path(folder / "ten.gluvo"))
            app.exec()
            window.end()
    return found


def hour_times() -> dict[str, float]:
    """Seconds for the first render of an hour through four steps, and after an edit of the last."""
    x = (np.random.default_rng(2).standard_normal((480_000, 2)) * 0.1).astype(np.float32)
    long = scratch((3600 * 48_000, 2), shared=True)
    for at in range(0, len(long), len(x)):
        long[at : at + len(x)] = x
    stem = Stem(id="s", name="Hour", media=Media(path="hour.wav", size=1, sha256="0" * 64), into="mix")
    session = Session(strips=(stem, Bus(id="mix", name="Mix bus", into="")))
    for step in (Limiter(drive=3.0), Width(), Glue(threshold=-20.0, ratio=2.0), Trim(gain=-3.0)):
        session = session.with_new_step(step, "mix")
    renderer = Renderer(Material(48_000, {"s": Sound(long, 48_000)}, len(long)))
    found = {}
    for what in ("an hour through four steps", "after an edit of the last"):
        start = time.perf_counter()
        renderer.song(session)
        found[what] = time.perf_counter() - start
        last = session.strip("mix").chain[-1]
        session = session.with_step(msgspec.structs.replace(last, drive=4.0))
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
        if toolkit := shutil.which("ffmpeg"):
            start = time.perf_counter()
            for file in six:
                subprocess.run(
                    [toolkit, "-nostats", "-i", str(file), "-af", "ebur128=peak=true", "-f", "null", "-"],
                    check=True,
                    capture_output=True,
                )
            found["beside it: the meter of ffmpeg, six files of 90 s"] = time.perf_counter() - start
        return found


def main() -> None:
    for what, seconds in (measure_times() | window_times() | stems_to_sound() | hour_times()).items():
        print(f"{what:50} {seconds:6.2f} s")


if __name__ == "__main__":
    main()
