"""A folder of twelve stems, four minutes long, in four buses with two lanes and a mastering chain: how fast it renders,
how much memory it takes, and how much of a block's time live play does.

Usage: python benchmarks/stems.py [--markdown]
"""

from __future__ import annotations

import itertools
import os
import sys
import time
from pathlib import Path

import msgspec
import numpy as np
from scipy import signal

from gluvo.advise.hold import held_session
from gluvo.demo.session import demo_session
from gluvo.measure.trace import Span
from gluvo.play.device import BLOCK
from gluvo.play.engine import Engine, Monitoring
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan, steps_heard
from gluvo.render.song import Renderer
from gluvo.session.by_section import with_gain, working_in
from gluvo.session.media import Material, read_material
from gluvo.session.records import MIX, Section, Session, Stem
from gluvo.session.scratch import scratch
from gluvo.session.sounds import Sound
from gluvo.session.store import read_session
from gluvo.steps import Glue, Lane

RATE, SECONDS = 48_000, 240
SPAN = Span(100.0, 112.0)


def big_session() -> tuple[Session, Material]:
    """The demo, each stem repeated to four minutes; the eleventh twice, and a lane on the mix bus."""
    path = demo_session()
    session = read_session(path).session
    stems = read_material(session, path.parent)
    twin = msgspec.structs.replace(session.stems[-1], id="twin", name="Twin")
    session = session.replace(strips=(*session.strips, twin))
    lane = Lane(level=-18.0, since="trim-1", steps=(Glue(ratio=6.0, threshold=-36.0, attack=2.0),))
    session = session.with_new_step(lane, "mix", "glue-1")
    sounds = {}
    for n, stem in enumerate(session.stems):
        x = stems.sounds["stem-voice-high" if stem.id == "twin" else stem.id].samples
        long = scratch((SECONDS * RATE, 2), shared=True)
        for at in range(0, len(long), len(x)):
            long[at : at + len(x)] = x[: len(long) - at]
        media = msgspec.structs.replace(stem.media, sha256=f"{n:064x}")
        session = session.with_strip(Stem(**{**{f: getattr(stem, f) for f in stem.__struct_fields__}, "media": media}))
        sounds[stem.id] = Sound(long, RATE)
    return session, Material(RATE, sounds, SECONDS * RATE)


def memory() -> tuple[float, float]:
    """What this process holds that the system cannot drop, and what it maps from files, in GB."""
    found = dict(line.split(":", 1) for line in Path("/proc/self/status").read_text().splitlines() if ":" in line)
    kilobytes = {name: int(found[name].split()[0]) for name in ("RssAnon", "RssShmem", "RssFile")}
    return (kilobytes["RssAnon"] + kilobytes["RssShmem"]) / 1e6, kilobytes["RssFile"] / 1e6


def rows() -> list[tuple[str, str, str]]:
    session, material = big_session()
    renderer = Renderer(material)
    found: list[tuple[str, str, str]] = []

    def timed(work: object) -> float:
        start = time.perf_counter()
        work()  # type: ignore[operator]
        return time.perf_counter() - start

    took = timed(lambda: renderer.song(session))
    steps = len(steps_heard(session))
    found.append(
        (
            f"first render: {len(session.stems)} stems, {len(session.strips) - len(session.stems)} buses, {steps} steps, "
            "every joint measured",
            f"{SECONDS / took:.1f} × real time ({took:.0f} s)",
            "",
        )
    )
    limiter, kit = session.step("limiter-1"), session.step("glue-2")
    for name, step, drive in (
        ("the mix bus's limiter", limiter, {"drive": 7.0}),
        ("the kit's Glue", kit, {"attack": 30.0}),
    ):
        edited = session.with_step(msgspec.structs.replace(step, **drive))  # type: ignore[type-var,arg-type]
        section, whole = timed(lambda e=edited: renderer.section(e, SPAN)), timed(lambda e=edited: renderer.song(e))
        found.append(
            (
                f"edit of {name}: section, whole song",
                f"{section:.2f} s, {whole:.1f} s",
                "≤ 0.5 s, ≤ 4 s" if step is limiter else "early in the chain",
            )
        )
    held = session
    for item in session.items:
        switches = dict.fromkeys(item.switches(), True)
        held = held.with_step(msgspec.structs.replace(item, held_in=session.sections[-1].id, **switches))
    fader = held.stems[0].fader - 2.0
    moved = held.with_strip(msgspec.structs.replace(held.stems[0], fader=fader))
    renderer.song(held_session(renderer, held))
    os.sync()  # by hand, edits are so far apart that what was rendered before has gone to the disk
    took = timed(lambda: renderer.song(held_session(renderer, moved)))
    found.append(("a fader edit with every chain held in a section: the song", f"{took:.1f} s", ""))
    kept, mapped = memory()
    found.append(
        ("memory held; mapped from files, which the system may drop", f"{kept:.2f} GB; {mapped:.2f} GB", "< 1.5 GB")
    )
    found.append(("renders kept", f"{renderer.cache.bytes / 1e9:.2f} GB", ""))
    short = Material(RATE, {k: Sound(s.samples[: 20 * RATE], RATE) for k, s in material.sounds.items()}, 20 * RATE)
    took = timed(lambda: play_through(Plan(session).result, short))
    found.append(("into a file, float64, one core", f"{20 / took:.0f} × real time", ""))
    x = np.zeros((20 * RATE, 24))
    sos = signal.butter(4, 100, "highpass", fs=RATE, output="sos")
    took = timed(lambda: signal.sosfilt(sos, x, axis=0))
    found.append(
        ("beside it: scipy.signal.sosfilt, 2 sections on 24 channels", f"{20 / took:.0f} × real time", "public library")
    )
    engine = Engine(material, {}, session.looking(step="glue-1"))
    engine.listen(Monitoring())
    engine.seek(60.0)
    engine.play()
    block, blocks = np.zeros((512, 2)), []
    for _ in range(1200):
        blocks.append(timed(lambda: engine.pull(block)))
    typical, worst = (100.0 * float(np.percentile(blocks[50:], p)) * RATE / 512 for p in (50, 99))
    found.append(
        ("live: a block of 512, median (99th percentile)", f"{typical:.0f} % ({worst:.0f} %) of its duration", "≤ 25 %")
    )
    return found


def switching(session: Session, material: Material) -> tuple[str, str, str]:
    """Ten minutes of sound in which something else is heard, marked, chosen or switched every 0.4 s."""
    random = np.random.default_rng(4)
    engine, block = Engine(material, {}, session), np.zeros((BLOCK, 2))
    engine.loop(0.0, float(SECONDS))
    engine.listen(Monitoring())
    engine.play()
    for _ in range(50):
        engine.pull(block)
    strips, items = [s.id for s in session.strips], [i.id for i in session.items]
    took = []
    for n in range(600 * RATE // BLOCK):
        if n % 40 == 0:
            some = [str(id) for id in random.choice(items, int(random.integers(0, 4)), replace=False)]
            alone = tuple(str(id) for id in random.choice(strips, int(random.integers(0, 3)), replace=False))
            step = session.item(str(random.choice(items)))
            assert step is not None
            hear = str(random.choice(["result", "untouched", "step_out", "change", "up_to"]))
            strip = session.strip_with(step.id)
            session = {
                0: session.looking(solo=alone),
                1: session.looking(marks=tuple(some)),
                2: session.looking(step=step.id, strip=strip.id if strip is not None else "mix"),
                3: session.looking(hear=hear),
                4: session.with_step(msgspec.structs.replace(step, on=not step.on)),
            }[n // 40 % 5]
            engine.change(session)
            engine.listen(Monitoring(path=session.view.hear))
        began = time.thread_time()
        engine.pull(block)
        took.append(time.thread_time() - began)
    length = BLOCK / RATE
    shares = [100.0 * found / length for found in (np.median(took), np.percentile(took, 99), max(took))]
    words = f"{shares[0]:.0f} % ({shares[1]:.0f} %, {shares[2]:.0f} %) of its duration"
    return (
        f"ten minutes of switching: a block of {BLOCK}, median (99th percentile, worst)",
        words,
        "≤ 300 %, what is held ahead",
    )


def by_sections(session: Session, material: Material) -> tuple[str, str, str]:
    """What eight lifted sections and three steps that work in some of them cost beside none."""
    edges = np.linspace(0.0, SECONDS, 9)
    sections = tuple(
        Section(id=f"part-{n}", name=f"Part {n}", start=float(a), end=float(b))
        for n, (a, b) in enumerate(itertools.pairwise(edges))
    )
    plain = session.replace(sections=sections)
    made = plain
    for n, section in enumerate(sections):
        made = with_gain(made, MIX if n % 2 else made.stems[n].id, section.id, 1.0 - 0.3 * n)
    for step in ("glue-1", "glue-2", "limiter-1"):
        made = working_in(made, step, ("part-2", "part-5"))
    times: dict[str, list[float]] = {"plain": [], "made": []}
    for _ in range(3):
        for name, one in (("plain", plain), ("made", made)):
            renderer = Renderer(material)
            began = time.process_time()
            renderer.song(one)
            times[name].append(time.process_time() - began)
    more = 100.0 * (min(times["made"]) / min(times["plain"]) - 1.0)
    return "eight lifted sections and three steps by section: the song", f"{more:+.0f} % processor time", "≤ 15 %"


def main() -> None:
    table = rows()
    made = big_session()
    table += [switching(*made), by_sections(*made)]
    if "--markdown" in sys.argv:
        print("| what | measured | asked, or beside |\n|---|---|---|")
    for row in table:
        print("| " + " | ".join(row) + " |" if "--markdown" in sys.argv else f"{row[0]:90} {row[1]:>32}   {row[2]}")


if __name__ == "__main__":
    main()
