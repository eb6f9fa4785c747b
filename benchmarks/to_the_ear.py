"""How long an edit takes to the ear: from the request until its block is made, and what the device holds before it.

Usage: python benchmarks/to_the_ear.py
"""

from __future__ import annotations

import time

import msgspec
import numpy as np

from gluvo.demo.session import demo_session
from gluvo.play.device import BLOCK, DEPTH_SECONDS, SILENT
from gluvo.play.engine import Monitoring
from gluvo.play.process import Host
from gluvo.play.remote import RemoteEngine
from gluvo.session.media import read_material
from gluvo.session.records import Session
from gluvo.session.store import read_session
from gluvo.steps import AnyStep

EDITS = 60


def waits(engine: RemoteEngine, session: Session, step: AnyStep, setting: str, by: float) -> list[float]:
    """Seconds from each of some edits until the audio thread has taken it."""
    found = []
    for n in range(EDITS):
        value = getattr(step, setting) + by * (1 + n % 5)
        edited = session.with_step(msgspec.structs.replace(step, **{setting: value}))
        start = time.perf_counter()
        engine.change(edited)
        while not engine._taken(engine._asked):
            time.sleep(0.0002)
        found.append(time.perf_counter() - start)
        time.sleep(0.05 + 0.0017 * (n % 7))  # so that edits come anywhere in a block
        engine.read()
    return found


def main() -> None:
    path = demo_session()
    session = read_session(path).session
    host = Host()
    engine = RemoteEngine(host, read_material(session, path.parent), {}, session, SILENT)
    engine.listen(Monitoring())
    engine.play()
    host.wait(60.0)
    time.sleep(1.0)
    held = DEPTH_SECONDS - BLOCK / engine.rate  # once the device has taken a block, so much is played before it
    print(f"the device holds {1000 * DEPTH_SECONDS:.0f} ms, a block is {1000 * BLOCK / engine.rate:.1f} ms")
    for id, setting, by in (("limiter-1", "drive", 0.2), ("glue-1", "ratio", 0.1), ("glue-2", "attack", 1.0)):
        step = session.item(id)
        assert step is not None
        taken = 1000 * np.array(waits(engine, session, step, setting, by))  # type: ignore[arg-type]
        typical, worst = np.percentile(taken, (50, 95)) + 1000 * held
        print(f"{step.title}, {setting}: to the ear in {typical:.0f} ms, 95 % within {worst:.0f} ms")
    engine.close()
    host.close()


if __name__ == "__main__":
    main()
