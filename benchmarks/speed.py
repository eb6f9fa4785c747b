"""The speed table: everything as a ratio to real time, beside public libraries in the same run.

Usage: python benchmarks/speed.py [--markdown]
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

import msgspec
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
from gluvo.session.media import Material
from gluvo.session.records import MIX, Session, Stem
from gluvo.session.sounds import Sound, measured_file, read_sound
from gluvo.session.store import read_session
from gluvo.steps import Band, Glue, Limiter, MidSideEq, Saturation, Step, Trim, Width

RATE = 48_000
WHOLE = "Trim + 8-band M/S EQ + Glue + Saturation 4 × + Width + true-peak Limiter"
ASKED = {
    "Glue (low cut, tilt, auto release)": "≥ 430 ×",
    "Mid-side EQ, 8 moving bands": "≥ 120 ×",
    "Saturation, 4 ×": "≥ 125 ×",
    "Saturation, 16 ×": "≥ 45 ×",
    "Width, 4 bands": "≥ 320 ×",
    "Limiter, true peak": "≥ 125 ×",
    "EQ of 8 bands + Glue + Limiter, sample peak": "≥ 200 ×",
    WHOLE: "≥ 65 ×",
}


def best(work: Callable[[], object], times: int = 3, clock: Callable[[], float] = time.thread_time) -> float:
    """The shortest of a few runs, in seconds; the first one, which may compile, does not count. By the thread's own time,
    since other guests of the machine take turns with it; what runs on several threads is timed by the wall's `clock`."""
    work()
    found = []
    for _ in range(times):
        start = clock()
        work()
        found.append(clock() - start)
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

    bands = tuple(Band(id=n + 1, freq=60.0 * 2.0**n, gain=3.0 * (-1) ** n, q=1.2) for n in range(8))
    sides = tuple(msgspec.structs.replace(band, target="mid" if band.id % 2 else "side") for band in bands)
    moving = tuple(msgspec.structs.replace(band, dynamic=True) for band in bands)
    limiter = Limiter(id="l", drive=12.0, ceiling=-1.0, true_peak=False)
    whole = [
        Trim(id="t", gain=-6.0),
        MidSideEq(bands=sides),
        glue,
        Saturation(drive=6.0, oversampling=4),
        Width(bands=2, width_1=80.0),
        Limiter(id="l", drive=12.0, ceiling=-1.0),
    ]
    steps: dict[str, list[Step]] = {
        "Trim": [Trim(id="t", gain=-6.0)],
        "Glue (low cut, tilt, auto release)": [glue],
        "Mid-side EQ, 8 bands, minimum phase": [MidSideEq(bands=bands)],
        "Mid-side EQ, 8 bands, linear phase": [MidSideEq(bands=bands, phase="linear")],
        "Saturation, 4 ×": [Saturation(drive=6.0, oversampling=4)],
        "Saturation, 16 ×": [Saturation(drive=6.0, oversampling=16)],
        "Width, 4 bands": [Width(bands=4, width_1=80.0)],
        "Limiter, sample peak": [limiter],
        "Limiter, true peak": [Limiter(id="l", drive=12.0, ceiling=-1.0)],
        "Mid-side EQ, 8 moving bands": [MidSideEq(bands=moving)],
        "EQ of 8 bands + Glue + Limiter, sample peak": [MidSideEq(bands=bands), glue, limiter],
        WHOLE: whole,
    }
    for name, tried in steps.items():
        add(name, lambda tried=tried: run_chain(tried, x, RATE), ASKED.get(name, ""))  # type: ignore[misc]
    add("the demo's mix chain: 6 steps, true peak", lambda: run_chain(chain, x, RATE), "≥ 40 ×")  # type: ignore[arg-type]
    eight = np.concatenate([signal.butter(2, 100 * 2**n, "highpass", fs=RATE, output="sos") for n in range(8)])
    add("beside it: scipy.signal.sosfilt, 8 sections", lambda: signal.sosfilt(eight, x, axis=0), "public library")
    taps = signal.firwin(2 * round(0.15 * RATE) + 1, 0.2)
    add(
        "beside it: scipy.signal.oaconvolve, 0.3 s of taps",
        lambda: signal.oaconvolve(x, taps[:, None], axes=0),
        "public library",
    )
    for factor in (4, 16):
        add(
            f"beside it: resample_poly, {factor} × up, tanh, and down",
            lambda factor=factor: signal.resample_poly(np.tanh(signal.resample_poly(x, factor, 1)), 1, factor),  # type: ignore[misc]
            "public library",
        )
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
        took = best(lambda: measured_file(file), clock=time.perf_counter)
        found.append(("a file read and measured, by the clock", f"{seconds / took:.0f} × real time", "≥ 750 ×"))

    engine = Engine(Material(RATE, {stem.id: sound}, len(x)), {}, whole_mix)
    engine.listen(Monitoring())
    engine.play()
    for size in (512, 128):
        block, took = np.zeros((size, 2)), []
        for _ in range(800):
            start = time.perf_counter()
            engine.pull(block)
            took.append(time.perf_counter() - start)
        typical, worst = (100.0 * float(np.percentile(took, p)) * RATE / size for p in (50, 99))
        live = f"{typical:.1f} % ({worst:.1f} %) of its duration"
        found.append(
            (f"live: a block of {size}, median (99th percentile)", live, "≤ 12 %" if size == 512 else "≤ 25 %")
        )

    four = Sound(np.tile(sound.samples, (4, 1))[: 240 * RATE], RATE)
    renderer = Renderer(Material(RATE, {stem.id: four}, len(four.samples)))
    renderer.song(whole_mix)
    span, edits = Span(60.0, 72.0), iter(np.linspace(5.0, 9.0, 40))

    def edited() -> Session:
        return whole_mix.with_step(Limiter(id="limiter-1", drive=float(next(edits)), ceiling=-1.0))

    section = best(lambda: renderer.section(edited(), span), clock=time.perf_counter)
    whole_song = best(lambda: renderer.song(edited()), clock=time.perf_counter)
    found.append(("edit of the limiter, 4 minutes: section's figures", f"{section:.2f} s", "≤ 0.5 s"))
    found.append(("edit of the limiter, 4 minutes: whole song's figures", f"{whole_song:.2f} s", "≤ 4 s"))
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
