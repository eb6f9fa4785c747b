"""Signals and small sessions that many tests use."""

from __future__ import annotations

import fcntl
import os
import shutil
import time
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, cast

import msgspec
import numpy as np
import pytest
import soundfile

from gluvo.advise.hold import held_session
from gluvo.demo.session import demo_session
from gluvo.measure.trace import Span
from gluvo.render.song import Renderer
from gluvo.session.media import Material
from gluvo.session.records import MIX, Bus, Media, Section, Session, Stem
from gluvo.session.sounds import Sound
from gluvo.steps import ChainItem, Step

pytest_plugins = ["tests.desk"]

RATE = 48_000
FADED = 1000
"""Frames after which what begins to play has faded in."""


def sine(freq: float, seconds: float, level_db: float = 0.0, rate: int = RATE, phase: float = 0.0) -> np.ndarray:
    """A stereo sine whose peak is at `level_db` dBFS."""
    t = np.arange(round(seconds * rate)) / rate
    return np.repeat(10 ** (level_db / 20) * np.sin(2 * np.pi * freq * t + phase)[:, None], 2, axis=1)


def noise(seconds: float, level: float = 0.1, seed: int = 0, rate: int = RATE) -> np.ndarray:
    return np.random.default_rng(seed).standard_normal((round(seconds * rate), 2)) * level


def music(seconds: float = 6.0, rate: int = RATE, seed: int = 3) -> np.ndarray:
    """Something with hits, lows, highs, sides and a quiet beginning."""
    random = np.random.default_rng(seed)
    t = np.arange(round(seconds * rate)) / rate
    since = t % 0.5
    hit = np.exp(-since / 0.06) * np.sin(2 * np.pi * (55 + 80 * np.exp(-since / 0.02)) * since)
    pad = sum(np.sin(2 * np.pi * f * t + f) for f in (110.0, 220.5, 331.0, 1212.0)) * 0.06
    air = random.standard_normal((len(t), 2)) * 0.03 * np.exp(-since / 0.03)[:, None]
    swell = np.interp(t, [0, seconds / 3, seconds], [0.25, 1.0, 1.0])
    x = (0.6 * hit + pad)[:, None] * np.array([1.0, 0.92]) + air
    x[:, 1] += 0.03 * np.sin(2 * np.pi * 517 * t)
    return x * swell[:, None] * 0.8


def one(chain: Sequence[Step], **view: Any) -> Session:
    """A session of one stem, `stem-1`, with a chain on its mix bus."""
    stem = Stem(id="stem-1", name="Take", media=Media(path="x.wav", size=1, sha256="0" * 64))
    mix = Bus(id=MIX, name="Mix bus", into="", chain=cast("tuple[ChainItem, ...]", tuple(chain)))
    return Session(strips=(mix, stem), rate=RATE).looking(**view)


def material(x: np.ndarray, rate: int = RATE, **others: np.ndarray) -> Material:
    """Audio for sessions of one stem (see `one`), and of others by their ids."""
    sounds = {key.replace("_", "-"): Sound(v.astype(np.float32), rate) for key, v in {"stem_1": x, **others}.items()}
    return Material(rate, sounds, max(len(s.samples) for s in sounds.values()))


def hold(renderer: Renderer, session: Session, span: Span | None, up_to: str = "") -> Session:
    """The session with its held settings found in a span, whatever section they belong to."""
    there = Section(id="there", name="There", start=span.start, end=span.end) if span else None
    moved = session.replace(sections=(there,) if there else ())
    for item in session.items:
        moved = moved.with_step(msgspec.structs.replace(moved.item(item.id), held_in="there"))
    found = held_session(renderer, moved, up_to=up_to)
    for item in session.items:
        found = found.with_step(msgspec.structs.replace(found.item(item.id), held_in=item.held_in))
    return found.replace(sections=session.sections)


def until(condition: Callable[[], object], seconds: float = 120.0) -> None:
    """Look every few milliseconds until something holds that another process or thread does, without keeping it from it."""
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "it did not come to that"
        time.sleep(0.005)


THOROUGH_RATES = {88_200, 96_000, 176_400, 192_000}


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The same at a high rate is left to the thorough runs (`scripts/test all`), and so are all cases of a test that is marked
    `sampled(n)` but each n-th; a test may be marked `thorough` as a whole."""
    seen = Counter[str]()
    for item in items:
        params = getattr(getattr(item, "callspec", None), "params", {})
        if any(isinstance(value, int) and value in THOROUGH_RATES for value in params.values()):
            item.add_marker("thorough")
        sampled = item.get_closest_marker("sampled")
        if sampled is not None and item.get_closest_marker("thorough") is None:
            test = item.nodeid.partition("[")[0]
            if seen[test] % sampled.args[0]:
                item.add_marker("thorough")
            seen[test] += 1


@pytest.fixture
def mix_file(tmp_path: Path) -> Path:
    """A stereo mix of six seconds on disk."""
    path = tmp_path / "Harbour Take.wav"
    soundfile.write(path, music(), RATE, "PCM_24")
    return path


@pytest.fixture
def reference_file(tmp_path: Path) -> Path:
    path = tmp_path / "Old Pier.wav"
    soundfile.write(path, music(4.0, seed=9) * 1.1, 44_100, "PCM_16")
    return path


@pytest.fixture(autouse=True)
def own_settings(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing of the user's own settings is read or written."""
    home = tmp_path_factory.mktemp("home")
    monkeypatch.setenv("XDG_CONFIG_HOME", str(home / "config"))
    monkeypatch.setenv("XDG_DATA_HOME", str(home / "data"))
    monkeypatch.setenv("XDG_CACHE_HOME", str(home / "cache"))
    monkeypatch.setenv("XDG_STATE_HOME", str(home / "state"))


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo session, made once a run, whichever worker is the first to want it; each has a copy of its own, whose audio
    takes no room."""
    base = tmp_path_factory.getbasetemp()
    shared = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    with (shared / "demo.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        made = demo_session(shared / "demo")
    mine = tmp_path_factory.mktemp("demo") / "Demo"
    shutil.copytree(made.parent, mine, copy_function=os.link)
    return mine / made.name
