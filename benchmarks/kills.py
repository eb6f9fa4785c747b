"""How much work a kill loses: a window that is edited without pause (notes, prints and names), an album that is written, a
session that is collected and one that is unpacked, each killed at random moments.

Usage: python benchmarks/kills.py [KILLS]. Prints the most seconds of work that a kill has lost, whether all that was left could
be read, and what killed work has left lying about.
"""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import zipfile
from pathlib import Path

import numpy as np
import soundfile

from gluvo.session.album import read_album
from gluvo.session.collect import collect
from gluvo.session.copies import copies_left
from gluvo.session.create import new_session
from gluvo.session.media import read_material
from gluvo.session.records import Media, Session, Stem
from gluvo.session.store import read_session, write_session
from gluvo.steps import Trim

EDITING = """
import sys, time
from pathlib import Path
from PySide6.QtCore import QTimer
from gluvo.desk.window.app import application
from gluvo.desk.model.workbench import Workbench
from gluvo.session import notes, prints
from gluvo.session.document import Document
from gluvo.session.records import Media
class NoHost:
    def send(self, *_): ...
    def close(self): ...
app = application()
bench = Workbench("silent", NoHost())
bench.open(Document.open(Path(sys.argv[1])))
begun = time.monotonic()
def edit():
    at = round(time.monotonic() - begun, 3)
    def change(s):
        s, _ = notes.with_note(s.replace(name=str(at), notes=s.notes[-20:]), str(at), "", at=at)
        media = Media(path=f"{at}.wav", size=1, sha256=f"{round(at * 1000):064d}")
        return prints.with_print(s.replace(prints=s.prints[-9:]), "stem-1", str(at), media, 0.0, False, "")[0]
    bench.edit("Name", change)
    print(at, flush=True)
timer = QTimer(interval=20)
timer.timeout.connect(edit)
timer.start()
app.exec()
"""
WRITING = {
    "album": """
import sys
from pathlib import Path
from gluvo.session.album import Album, AlbumSong, write_album
print("up", flush=True)
n = 0
while True:
    n += 1
    songs = tuple(AlbumSong(id=str(m), path="x") for m in range(n % 50))
    write_album(Path(sys.argv[1]) / "a.gluvo-album", Album(name=str(n), songs=songs))
""",
    "collect": """
import sys
from pathlib import Path
from gluvo.session.collect import collect, unpacked
from gluvo.session.store import read_session
home = Path(sys.argv[1])
session = read_session(home / "a.gluvo").session
print("up", flush=True)
n = 0
while True:
    n += 1
    made = collect(session, home, home / "out" / f"{n}.zip", flac=n % 2 == 0)
    unpacked(made, home / "out")
""",
}
AT_ONCE = 4


def song(name: str) -> Session:
    """A session of one stem, whose file there need not be."""
    stem = Stem(id="stem-1", name="Take", media=Media(path="take.wav", size=1, sha256="0" * 64))
    session = Session(name=name).with_chain("mix", [Trim(id="trim-1")])
    return session.replace(strips=(*session.strips, stem))


def written(kind: str, kills: int, chance: random.Random) -> None:
    """Work that writes, killed: all that has its place is whole, and what was half done is gone after the next work."""
    broken = 0
    with tempfile.TemporaryDirectory() as place:
        home = Path(place)
        soundfile.write(home / "take.wav", np.random.default_rng(1).standard_normal((48_000, 2)) * 0.1, 48_000)
        write_session(home / "a.gluvo", new_session([home / "take.wav"], [], home, "a"))
        for _ in range(kills):
            process = subprocess.Popen([sys.executable, "-c", WRITING[kind], place], stdout=subprocess.PIPE, text=True)
            assert process.stdout is not None
            process.stdout.readline()
            time.sleep(chance.uniform(0.0, 0.3))
            process.send_signal(signal.SIGKILL)
            process.wait()
            if kind == "album":
                broken += (home / "a.gluvo-album").exists() and not read_album(home / "a.gluvo-album").album.name
                continue
            for made in (home / "out").glob("*.zip"):
                broken += zipfile.ZipFile(made).testzip() is not None
                made.unlink()
            for folder in (f for f in (home / "out").iterdir() if not f.name.startswith(".")):
                broken += bool(read_material(read_session(folder / "a.gluvo").session, folder).missing)
                shutil.rmtree(folder)
        if kind == "collect":
            collect(read_session(home / "a.gluvo").session, home, home / "out" / "last.zip")
        left = [p.name for p in home.rglob("*") if p.name.startswith(".")]
    print(f"{kind}: {kills} kills, {broken} broken, {len(left)} left lying about")


def main(kills: int) -> None:
    chance, worst, unread = random.Random(1), 0.0, 0
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    with tempfile.TemporaryDirectory() as place:
        for first in range(0, kills, AT_ONCE):
            running = []
            for n in range(first, min(kills, first + AT_ONCE)):
                path = Path(place) / f"{n}" / "Quay.gluvo"
                path.parent.mkdir()
                write_session(path, song("0"))
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
    for kind in WRITING:
        written(kind, max(5, kills // 4), chance)
    print(f"{kills} kills: at most {worst:.2f} s of work lost, {unread} copies that could not be read")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 200)
