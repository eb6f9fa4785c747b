"""What is this?: each picture is of this song, and says what is so."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from gluvo.advise.usefulness import SETTINGS, STEPS, words_of
from gluvo.advise.watchouts import Scene
from gluvo.opened.explaining import PICTURES, Asked
from gluvo.progress import no_progress
from gluvo.steps import STEP_KINDS, Band, Glue, Limiter, MidSideEq, Step, Width, settings_of

from .conftest import noise
from .test_watchouts import SECONDS, clean, drums, scene_of

CHAIN = (
    MidSideEq(id="mid_side_eq", bands=(Band(id=1, gain=2.0),)),
    Width(id="width", mono_below=100.0),
    Glue(id="glue", ratio=4.0, threshold=-26.0),
    Limiter(id="limiter", drive=14.0, ceiling=-1.0),
)
SCENE = scene_of({"Kit": drums() * 0.5, "Piece": clean(), "Kit again": drums() * 0.2}, CHAIN)


def asked(step: Step, scene: Scene = SCENE) -> Asked:
    return Asked(scene.renderer, scene.session, step, None, no_progress)


@pytest.mark.parametrize(("kind", "name"), list(PICTURES))
def test_every_picture_is_drawn_from_the_song(kind: str, name: str) -> None:
    step = SCENE.session.step(kind)
    assert step is not None
    picture = PICTURES[kind, name](asked(step))
    assert (
        picture is not None and picture.words.endswith(".") and len(picture.evidence.xs) == len(picture.evidence.ys) > 1
    )
    every = [picture.evidence.ys, *picture.evidence.more]
    assert all(np.isfinite(values).all() and len(values) == len(picture.evidence.xs) for values in every)
    if name == "attack":
        assert len(picture.evidence.more) == 5


@pytest.mark.parametrize("x", [np.zeros((4800, 2)), np.zeros((1, 2)), 0.1 * noise(2.0, 1.0)])
def test_of_next_to_nothing_nothing_is_drawn_or_something_that_makes_sense(x: np.ndarray) -> None:
    scene = scene_of({"Take": x}, CHAIN)
    for (kind, _), draw in PICTURES.items():
        picture = draw(asked(scene.session.step(kind), scene))
        assert picture is None or np.isfinite(picture.evidence.ys).all()


def test_whose_the_side_is_goes_by_the_faders() -> None:
    wide = 0.1 * noise(SECONDS, 1.0, seed=5) * np.array([1.0, -1.0])
    scene = scene_of({"Loud": wide, "Loud again": wide[::-1].copy()}, (Width(id="width", mono_below=100.0),))
    second = msgspec.structs.replace(scene.session.stems[1], fader=-6.0206)
    session = scene.session.with_strip(second)
    picture = PICTURES["width", "mono_below"](Asked(scene.renderer, session, session.step("width"), None, no_progress))
    assert picture is not None and picture.evidence.names == ("Loud", "Loud again")
    assert picture.evidence.ys.tolist() == pytest.approx([80.0, 20.0], abs=0.1)


def test_words_are_of_steps_and_settings_that_there_are() -> None:
    kinds = {k.__struct_config__.tag: k for k in STEP_KINDS}
    assert set(STEPS) == set(kinds)
    for kind, name in SETTINGS:
        assert name in settings_of(kinds[kind]), (kind, name)
    assert words_of("glue", "tilt") == STEPS["glue"] and words_of("glue", "attack") == SETTINGS["glue", "attack"]
