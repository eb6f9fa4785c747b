"""The speed table: everything as a ratio to real time, beside public libraries in the same run.

Usage: python bench/speed.py [--markdown]
"""

from __future__ import annotations

import os

os.environ.setdefault("OMP_NUM_THREADS", "1")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import platform
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyloudnorm
import soundfile
from scipy import signal

from gluvo.advise.aim import find_threshold
from gluvo.demo.session import demo_session
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import Span, trace_of
from gluvo.play.engine import Engine, Monitoring
from gluvo.render.chain import run_chain
from gluvo.render.song import Renderer
from gluvo.session.media import Material, Sound, read_sound
from gluvo.session.records import MIX, Session, Stem
from gluvo.session.store import read_session
from gluvo.steps import Glue, Limiter, Step, Trim

RATE = 48_000


def best(work: Callable[[], object], times: int = 3) -> float:
    """The shortest of a few runs, in seconds; the first one, which may compile, does not count."""
    work()
    found = []
    for _ in range(times):
        start = time.perf_counter()
        work()
        found.append(time.perf_counter() - start)
    return min(found)


def rows() -> list[tuple[str, str, str]]:
    """What, measured, and what was asked or what it is beside."""
    path = demo_session()
    session = read_session(path).session
    sound = read_sound(path.parent / "Ferry Hours (rough print).wav")
    chain = session.mix.chain
    stem = Stem(id="mix-print", name="Print", media=session.stems[0].media)
    whole_mix = session.replace(strips=(session.mix, stem)).looking(strip=MIX, step="glue-1")
    x = sound.samples.astype(np.float64)
    seconds = sound.seconds
    glue = session.step("glue-1")
    assert isinstance(glue, Glue)
    found: list[tuple[str, str, str]] = []

    def add(name: str, work: Callable[[], object], asked: str = "", length: float = seconds) -> float:
        took = best(work)
        found.append((name, f"{length / took:.0f} × real time", asked))
        return took

    steps: dict[str, list[Step]] = {
        "Trim": [Trim(id="t", gain=-6.0)],
        "Glue (low cut, tilt, auto release)": [glue],
        "Limiter, sample peak": [Limiter(id="l", drive=12.0, ceiling=-1.0, true_peak=False)],
        "Limiter, true peak": [Limiter(id="l", drive=12.0, ceiling=-1.0)],
        "Glue + Limiter, sample peak": [glue, Limiter(id="l", drive=12.0, ceiling=-1.0, true_peak=False)],
    }
    for name, chain in steps.items():
        asked = "with 8 bands of EQ: ≥ 250 ×" if "+" in name else ""
        add(name, lambda chain=chain: run_chain(chain, x, RATE), asked)  # type: ignore[misc]
    add("Trim + Glue + true-peak Limiter", lambda: run_chain(chain, x, RATE), "whole chain: ≥ 40 ×")
    sos = signal.butter(4, 100, "highpass", fs=RATE, output="sos")
    add("beside it: scipy.signal.sosfilt, 2 sections", lambda: signal.sosfilt(sos, x, axis=0), "public library")
    add("loudness, range and true peak", lambda: figures_of(trace_of(x, RATE)), "≥ 300 ×")
    meter = pyloudnorm.Meter(RATE)
    add("beside it: pyloudnorm, loudness alone", lambda: meter.integrated_loudness(x), "public library")
    add(
        "beside it: 4 × resample_poly, peak alone",
        lambda: np.abs(signal.resample_poly(x, 4, 1)).max(),
        "public library",
    )
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "x.wav"
        soundfile.write(file, x, RATE, "PCM_24")
        add("a file read and measured", lambda: figures_of(trace_of(read_sound(file).samples, RATE)), "≥ 300 ×")

    engine = Engine(Material(RATE, {stem.id: sound}, len(x)), {}, whole_mix)
    engine.listen(Monitoring())
    engine.play()
    block, took = np.zeros((512, 2)), []
    for _ in range(800):
        start = time.perf_counter()
        engine.pull(block)
        took.append(time.perf_counter() - start)
    length = 512 / RATE
    typical, worst = (100.0 * float(np.percentile(took, p)) / length for p in (50, 99))
    live = f"{typical:.1f} % ({worst:.1f} %) of its duration"
    found.append(("live: a block of 512, median (99th percentile)", live, "≤ 25 %"))

    four = Sound(np.tile(sound.samples, (4, 1))[: 240 * RATE], RATE)
    renderer = Renderer(Material(RATE, {stem.id: four}, len(four.samples)))
    renderer.song(whole_mix)
    span, edits = Span(60.0, 72.0), iter(np.linspace(5.0, 9.0, 40))

    def edited() -> Session:
        return whole_mix.with_step(Limiter(id="limiter-1", drive=float(next(edits)), ceiling=-1.0))

    section = best(lambda: renderer.section(edited(), span))
    whole = best(lambda: renderer.song(edited()))
    found.append(("edit of the limiter, 4 minutes: section's figures", f"{section:.2f} s", "≤ 0.5 s"))
    found.append(("edit of the limiter, 4 minutes: whole song's figures", f"{whole:.2f} s", "≤ 4 s"))
    before = renderer.song(whole_mix).before("glue-1")
    assert before is not None
    found.append(("aim: threshold of a 12 s section", f"{best(lambda: find_threshold(glue, before, span)):.2f} s", ""))
    return found


def main() -> None:
    table = rows()
    cpu = next(
        (
            line.split(":")[1].strip()
            for line in Path("/proc/cpuinfo").read_text().splitlines()
            if line.startswith("model name")
        ),
        platform.machine(),
    )
    print(f"{cpu}, one core, {RATE // 1000} kHz stereo, the demo song\n")
    if "--markdown" in sys.argv:
        print("| what | measured | asked, or beside |\n|---|---|---|")
        for row in table:
            print("| " + " | ".join(row) + " |")
    else:
        for what, measured, asked in table:
            print(f"{what:55} {measured:>38}   {asked}")


if __name__ == "__main__":
    main()
