"""Comparing: a reference of five minutes until its figures are there, a switch until it sounds, a version until it is heard.

Usage: python benchmarks/comparing.py
"""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import soundfile

from gluvo.compare.profile import profile_of
from gluvo.demo.session import demo_session
from gluvo.measure.trace import Span
from gluvo.opened.audio import joint_of
from gluvo.play.device import BLOCK, SilentDevice
from gluvo.play.engine import Engine, Monitoring
from gluvo.render.song import Renderer
from gluvo.session.create import reference_of, with_reference
from gluvo.session.media import read_material
from gluvo.session.sounds import Sound, read_sound
from gluvo.session.store import read_session
from gluvo.session.versions import kept, state_of
from gluvo.steps import Glue


def timed(act: Callable[[], object]) -> float:
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def a_reference() -> tuple[float, float]:
    """Seconds until a reference of five minutes has sections and is measured, and for reading it by soundfile alone."""
    rate, path = 44_100, demo_session()
    session = read_session(path).session
    random = np.random.default_rng(1)
    x = 0.1 * random.standard_normal((300 * rate, 2)) * np.repeat([0.3, 1.0, 0.5, 1.0, 0.2], 60 * rate)[:, None]
    with tempfile.TemporaryDirectory() as name:
        file = Path(name) / "Five minutes.wav"
        soundfile.write(file, x, rate, "PCM_24")

        def added() -> None:
            reference = reference_of(file, path.parent)
            with_reference(session, reference)
            joint = joint_of(read_sound(file, 48_000))
            part = reference.sections[1]
            profile_of(joint, Span(part.start, part.end))

        warm = timed(added)
        return min(warm, timed(added)), timed(lambda: soundfile.read(file))


def a_switch() -> float:
    """Milliseconds from asking for another sound until it is in what the device takes, at most of 40 times."""
    path = demo_session()
    session = read_session(path).session
    material = read_material(session, path.parent)
    late: list[float] = []
    asked = [0.0, 0]

    class Watching(SilentDevice):
        def write(self, block: np.ndarray) -> bool:
            if asked[0] and abs(float(block[-1, 0]) - asked[1]) < 1e-3:
                late.append(1000.0 * (time.perf_counter() - asked[0]))
                asked[0] = 0.0
            return super().write(block)

    levels = {"a": 0.2, "b": 0.4}
    beside = {id: Sound(np.full((material.frames, 2), v, dtype=np.float32), material.rate) for id, v in levels.items()}
    engine = Engine(material, beside, session)
    engine.listen(Monitoring(path="a"))
    engine.play()
    engine.output.start(Watching(material.rate))
    time.sleep(1.5)
    for n in range(40):
        id = "ab"[(n + 1) % 2]
        asked[0], asked[1] = time.perf_counter(), levels[id]  # type: ignore[assignment]
        engine.listen(Monitoring(path=id))
        time.sleep(0.1)
    engine.output.close()
    return max(late[2:]) + 1000.0 * BLOCK / material.rate


def a_version() -> float:
    """Seconds until a version of the demo that was kept is rendered."""
    path = demo_session()
    session = read_session(path).session
    renderer = Renderer(read_material(session, path.parent))
    glue = session.step("glue-1")
    assert isinstance(glue, Glue)
    session, version = kept(session, "Before", "", {})
    renderer.joint(renderer.plan(session).result)
    other = session.with_step(msgspec.structs.replace(glue, ratio=3.0))
    now = state_of(other, version.id)
    changed = now.with_step(msgspec.structs.replace(glue, ratio=2.5))
    return timed(lambda: renderer.joint(renderer.plan(changed).result))


if __name__ == "__main__":
    added, read = a_reference()
    print(
        f"a reference of 5 min until its figures are there: {added:.2f} s ({added / read:.1f} times reading it by soundfile)"
    )
    print(f"a switch until it sounds: {a_switch():.0f} ms at most")
    print(f"a version of the demo, its glue otherwise, until it is rendered: {a_version():.2f} s")
