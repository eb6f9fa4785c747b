"""How long it takes to see and hear what one steers by: values of a setting side by side, alternatives, and what is out.

Usage: python benchmarks/steering.py
"""

from __future__ import annotations

import time

import numpy as np
from scipy import signal

from gluvo.advise.try_values import SettingPlace, kept_by, tried_value, values_around
from gluvo.compare.match import STEP_OUT, UP_TO
from gluvo.demo.session import demo_session
from gluvo.measure.trace import Span
from gluvo.play.device import BLOCK, DEPTH_SECONDS, SILENT
from gluvo.play.engine import Monitoring
from gluvo.play.process import Host
from gluvo.play.remote import RemoteEngine
from gluvo.render.song import Renderer
from gluvo.session import alternatives
from gluvo.session.media import Material, read_material
from gluvo.session.records import Session
from gluvo.session.store import read_session

TIMES = 40


def values_times(session: Session, material: Material) -> tuple[float, float]:
    """Seconds until the first figure of five values of the mix Glue's attack in the chosen section, and until all of them."""
    renderer, section = Renderer(material), session.section(session.view.section)
    assert section is not None
    span, place = Span(section.start, section.end), SettingPlace("glue-1", "attack")
    render = renderer.section(session, span)
    kept = kept_by(session.item("glue-1"), place, render.joint("glue-1"), span)
    start, first = time.perf_counter(), 0.0
    setting = place.setting(session)
    assert setting is not None
    for value in values_around(setting, place.value(session)):
        tried_value(renderer, session, place, value, span, kept)
        first = first or time.perf_counter() - start
    return first, time.perf_counter() - start


def to_the_ear(engine: RemoteEngine, sessions: list[Session]) -> np.ndarray:
    """Seconds from each of some changes between sessions until the audio thread has taken it."""
    found = []
    for n in range(TIMES):
        start = time.perf_counter()
        engine.change(sessions[n % len(sessions)])
        while not engine._taken(engine._asked):
            time.sleep(0.0002)
        found.append(time.perf_counter() - start)
        time.sleep(0.05 + 0.0017 * (n % 7))
        engine.read()
    return np.array(found)


def main() -> None:
    path = demo_session()
    session = read_session(path).session
    material = read_material(session, path.parent)
    values_times(session, material)  # kernels
    first, every = (min(found) for found in zip(*(values_times(session, material) for _ in range(3)), strict=True))
    x = np.concatenate([s.samples for s in material.sounds.values()])[: 12 * material.rate].astype(np.float64)
    start = time.perf_counter()
    signal.resample_poly(x, 4, 1, axis=0)
    beside = time.perf_counter() - start
    print(f"five values of the mix Glue's attack over 12 s: the first in {first:.2f} s (0.5), all in {every:.2f} s (2)")
    print(
        f"beside it: scipy.signal.resample_poly 4 × over 12 s {beside:.2f} s; all values are {every / beside:.1f} of that"
    )
    host = Host()
    engine = RemoteEngine(host, material, {}, session, SILENT)
    engine.listen(Monitoring())
    engine.play()
    host.wait(60.0)
    time.sleep(1.0)
    held = DEPTH_SECONDS - BLOCK / engine.rate
    other = alternatives.with_another(session, "glue-1")
    chain = alternatives.with_another(other, "mix")
    marks = session.looking(marks=("kit", "voices", "glue-1"))
    for name, sessions in (
        ("alternatives of the mix Glue", list(alternatives.each(other, "glue-1"))),
        ("alternatives of the mix chain", list(alternatives.each(chain, "mix"))),
        ("an edit with alternatives and marks", [marks, other.looking(marks=("kit", "voices"))]),
        ("up to here", [session.looking(hear=UP_TO), session.looking(hear=STEP_OUT)]),
    ):
        taken = 1000.0 * (to_the_ear(engine, sessions) + held)
        print(f"{name}: to the ear in {np.median(taken):.0f} ms, 95 % within {np.percentile(taken, 95):.0f} ms (60)")
    engine.close()
    host.close()


if __name__ == "__main__":
    main()
