"""Compile every kernel ahead of time, into the cache on disk."""

from __future__ import annotations

import numpy as np

from gluvo.dsp.delay import clean
from gluvo.dsp.kernel import record
from gluvo.dsp.moving import follow
from gluvo.measure.clicks import found_in
from gluvo.measure.figures import figures_of
from gluvo.measure.flattops import flat_tops
from gluvo.measure.hits import hits_of
from gluvo.measure.overview import outline_of
from gluvo.measure.trace import trace_of
from gluvo.progress import Progress, no_progress
from gluvo.render.chain import run_chain
from gluvo.render.flow import rendered_joint
from gluvo.render.joint import Joint
from gluvo.render.machine import play_through
from gluvo.render.plan import Ear, Ride, Run, Source, Within, mixed
from gluvo.session.media import Material
from gluvo.session.sounds import Sound
from gluvo.steps import STEP_KINDS, Band, DeEsser, Glue, Lane, Split, Step

RATE = 48_000


def warm_up(progress: Progress = no_progress) -> None:
    """Run everything once on a blink of noise. Quick when the cache is there already."""
    x = (np.random.default_rng(0).standard_normal((RATE, 2)) * 0.2).astype(np.float32)
    joint = Joint(x, trace_of(x, RATE))
    figures_of(joint.trace)
    outline_of(x, RATE)
    kinds: tuple[type[Step], ...] = (*STEP_KINDS, Split)
    variants = [step for kind in kinds for step in kind.examples()]
    first = Source("x", "x", (), "x")
    clean(np.zeros((4, 2)), np.zeros((4, 2)))
    levels, moved = np.zeros(64), np.zeros(64)
    bell = Band(id=1, dynamic=True)
    follow(levels, record(bell.curve()), record(bell.times(RATE)), moved)
    for n, step in enumerate(variants):
        rendered_joint(Run("", "", (first,), step), [joint])
        progress((n + 1) / (len(variants) + 2))
    rendered_joint(Run("", "", (first, first), Lane(level=-6.0)), [joint, joint])
    for hears in (Glue(mode="mid"), DeEsser(mode="mid")):
        rendered_joint(Ear("", "", (first,), hears), [joint])
    material = Material(RATE, {"x": Sound(x, RATE)}, RATE)
    play_through(mixed("sum", ((first, (0.5, 0.5)), (first, (1.0, 1.0)))), material)
    ride = Ride("ride", "ride", (first,), ((0.1, 0.0), (0.2, 1.0)))
    play_through(Within("within", "within", (first, ride), ((0.1, 0.0), (0.2, 1.0)), ((0.0, 1.0),)), material)
    flat_tops(x)
    found_in(x)
    pulse = np.zeros((RATE * 2, 2), dtype=np.float32)
    pulse[:: RATE // 3] = 0.5
    hits_of(pulse, run_chain([Glue()], pulse, RATE), np.zeros(100), 50.0, RATE)
    progress(1.0)
