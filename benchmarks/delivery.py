"""Delivery: four files from one play of the demo, three encodings checked, and what a long song takes of memory.

Usage: python benchmarks/delivery.py [HOURS RATE]
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

from gluvo.deliver.encoding import Encoding, encoded
from gluvo.deliver.write import prepared, write_rows
from gluvo.demo.session import demo_session
from gluvo.render.song import Renderer
from gluvo.session.media import read_material
from gluvo.session.records import Deliverable
from gluvo.session.store import read_session

ROWS = (
    Deliverable(id="1", name="Master"),
    Deliverable(id="2", name="Disc", format="flac", bits="16", rate=44_100, dither="ear"),
    Deliverable(id="3", name="High", rate=96_000),
    Deliverable(id="4", name="Small", format="mp3", bit_rate=192),
)


def files_and_encodings() -> dict[str, float]:
    """Seconds for four files from one play, one after the other for comparison, and for three encodings."""
    path = demo_session()
    session = read_session(path).session.replace(deliverables=ROWS)
    material = read_material(session, path.parent)
    renderer, found = Renderer(material), {}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        rows = [prepared(renderer, session, d, folder) for d in ROWS]
        start = time.perf_counter()
        write_rows(material, rows, folder)
        found["four files from one play"] = time.perf_counter() - start
        start = time.perf_counter()
        for row in rows:
            write_rows(material, [row], folder)
        found["beside it: the same, one after the other"] = time.perf_counter() - start
    master = renderer.joint(renderer.plan(session).result).audio
    start = time.perf_counter()
    for encoding in (Encoding("mp3", 192), Encoding("aac", 192), Encoding("opus", 128)):
        encoded(master, renderer.rate, encoding)
    found["three encodings checked"] = time.perf_counter() - start
    found["the song, seconds"] = renderer.seconds
    return found


def held(process: int) -> float:
    """What a process holds that the system cannot drop, GB."""
    try:
        lines = Path(f"/proc/{process}/status").read_text().splitlines()
    except OSError:
        return 0.0
    kilobytes = {line.split(":")[0]: line.split()[1] for line in lines if line.startswith(("RssAnon", "RssShmem"))}
    return sum(map(int, kilobytes.values())) / 1e6


def long_song(hours: float, rate: int) -> dict[str, float]:
    """`gluvo deliver` on a long song: seconds, and the most memory that the process held, GB."""
    with tempfile.TemporaryDirectory(dir=Path.home()) as name:
        folder = Path(name)
        x = (np.random.default_rng(0).standard_normal((rate * 10, 2)) * 0.1).astype(np.float32)
        with soundfile.SoundFile(folder / "long.wav", "w", rate, 2, "PCM_24", format="RF64") as file:
            for _ in range(round(hours * 360)):
                file.write(x)
        run = [sys.executable, "-m", "gluvo"]
        session = str(folder / "long.gluvo")
        subprocess.run(
            [*run, "new", "--mix", str(folder / "long.wav"), "--out", session], check=True, capture_output=True
        )
        start = time.perf_counter()
        process = subprocess.Popen([*run, "deliver", session, "--dir", str(folder / "out")], stdout=subprocess.DEVNULL)
        most = 0.0
        while process.poll() is None:
            most = max(most, held(process.pid))
            time.sleep(0.1)
        took = time.perf_counter() - start
        size = sum(path.stat().st_size for path in (folder / "out").iterdir()) / 1e9
        return {
            f"{hours:g} h at {rate} Hz delivered, s": took,
            "most memory held, GB": most,
            "written, GB": size,
        }


def main() -> None:
    found = long_song(float(sys.argv[1]), int(sys.argv[2])) if len(sys.argv) > 2 else files_and_encodings()
    for what, value in found.items():
        print(f"{what:45} {value:8.2f}")


if __name__ == "__main__":
    main()
