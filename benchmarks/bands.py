"""Control by band: each as a ratio to real time on one core, beside public libraries in the same run.

Usage: python benchmarks/bands.py [--markdown]
"""

from __future__ import annotations

import os

os.environ.setdefault("OMP_NUM_THREADS", "1")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import platform
import sys
from collections.abc import Callable, Sequence

import numpy as np
from scipy import signal

from gluvo.demo.session import demo_session
from gluvo.render.chain import run_chain
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan
from gluvo.session.media import Material
from gluvo.session.records import MIX, Bus, Media, Session, Stem
from gluvo.session.sounds import read_sound
from gluvo.steps import (
    Band,
    ChainItem,
    DeEsser,
    Glue,
    Limiter,
    MidSideEq,
    ResonanceTamer,
    Saturation,
    Split,
    SplitBand,
    TransientShaper,
    Trim,
    Width,
)
from speed import RATE, best

FREQS = (160.0, 4000.0)


def three_glues(phase: str = "minimum") -> Split:
    """A Split of three bands with a Glue in each."""
    glues = [Glue(id=f"g{n}", ratio=2.0, threshold=-30.0, attack=20.0, release=120.0) for n in range(3)]
    bands = tuple(SplitBand(id=n + 1, steps=(glue,)) for n, glue in enumerate(glues))
    return Split(id="s", bands=bands, crossovers=FREQS, phase=phase)  # type: ignore[arg-type]


def by_scipy(x: np.ndarray) -> np.ndarray:
    """The same three bands, and in each a gain that follows the level, by `scipy.signal` and NumPy."""

    def twice(freq: float, kind: str) -> np.ndarray:
        once = signal.butter(2, freq, kind, fs=RATE, output="sos")
        return np.concatenate([once, once])

    rest, total = x, np.zeros_like(x)
    for freq in (*FREQS, None):
        band = rest if freq is None else signal.sosfilt(twice(freq, "lowpass"), rest, axis=0)
        if freq is not None:
            rest = signal.sosfilt(twice(freq, "highpass"), rest, axis=0)
        level = 20.0 * np.log10(np.maximum(np.abs(band).max(axis=1), 1e-10))
        over = 0.5 * np.maximum(0.0, level + 30.0)
        pole = np.exp(-1.0 / (0.12 * RATE))
        smooth = signal.lfilter([1.0 - pole], [1.0, -pole], over)
        total += band * (10.0 ** (-smooth / 20.0))[:, None]
    return total


def rows() -> list[tuple[str, str, str]]:
    """What, measured, and what was asked or what it is beside."""
    x = read_sound(demo_session().parent / "Ferry Hours (rough print).wav")
    audio = x.samples.astype(np.float64)
    found: list[tuple[str, str, str]] = []
    material = Material(RATE, {"stem": x}, len(audio))

    def add(name: str, work: Callable[[], object], asked: str) -> None:
        found.append((name, f"{x.seconds / best(work):.0f} × real time", asked))

    def played(chain: Sequence[ChainItem]) -> Callable[[], object]:
        media = Media(path="x.wav", size=1, sha256="0" * 64)
        mix = Bus(id=MIX, name="Mix bus", into="", chain=tuple(chain))
        plan = Plan(Session(rate=RATE, strips=(mix, Stem(id="stem", name="Take", media=media))))
        return lambda: play_through(plan.result, material)

    bands = tuple(
        Band(id=n + 1, freq=60.0 * 2.0**n, gain=3.0 * (-1) ** n, target="mid" if n % 2 else "side") for n in range(8)
    )
    whole = [
        Trim(id="t", gain=-6.0),
        MidSideEq(id="e", bands=bands),
        three_glues(),
        Saturation(id="a", drive=6.0, oversampling=4),
        Width(id="w", bands=2, width_1=80.0),
        Limiter(id="l", drive=12.0, ceiling=-1.0),
    ]
    add("a Split of three bands with a Glue in each", played([three_glues()]), "≥ 90 ×")
    add("… in linear phase", played([three_glues("linear")]), "")
    add("beside it: three bands and their gains by scipy.signal and NumPy", lambda: by_scipy(audio), "public library")
    add("a Split that does nothing, beside the file alone", played([Split(id="s")]), "")
    add("the file alone", played([]), "")
    add("whole chain with a Split of three Glues for the Glue", played(whole), "≥ 45 ×")
    for name, step, asked in (
        ("De-esser, the range", DeEsser(range=6.0, threshold=-20.0), "≥ 150 ×"),
        ("De-esser, everything", DeEsser(range=6.0, threshold=-20.0, lowers="wide"), "≥ 150 ×"),
        ("Resonance tamer", ResonanceTamer(at_most=6.0), "≥ 40 ×"),
        ("Transient shaper", TransientShaper(attack=6.0, sustain=-3.0), "≥ 200 ×"),
        ("Glue that lifts", Glue(ratio=2.0, threshold=-30.0, lift_ratio=2.0), ""),
    ):
        add(name, lambda step=step: run_chain([step], audio, RATE), asked)  # type: ignore[misc]

    def frames() -> object:
        _, _, spectra = signal.stft(audio.T, RATE, nperseg=4096, noverlap=3072)
        return signal.istft(spectra, RATE, nperseg=4096, noverlap=3072)

    add("beside the tamer: scipy.signal.stft and istft alone", frames, "public library")
    high = signal.butter(4, 5000.0, "highpass", fs=RATE, output="sos")
    add(
        "beside the De-esser: scipy.signal.sosfilt of its range alone",
        lambda: signal.sosfilt(high, audio, axis=0),
        "public library",
    )
    return found


if __name__ == "__main__":
    print(f"{platform.machine()}, {os.cpu_count()} cores, Python {platform.python_version()}")
    if "--markdown" in sys.argv:
        print("| what | measured | asked |\n|---|---|---|")
    for name, measured, asked in rows():
        print(f"| {name} | {measured} | {asked} |" if "--markdown" in sys.argv else f"{name:70} {measured:22} {asked}")
