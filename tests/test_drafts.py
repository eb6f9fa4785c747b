"""Drafts: nothing where nothing is asked for, ordinary steps with their reasons where something is, and no promise broken."""

from __future__ import annotations

from dataclasses import replace as replaced
from pathlib import Path

import numpy as np
import pytest
import soundfile
from click.testing import CliRunner
from msgspec.structs import replace

from gluvo.advise.drafts import Draft, Model, draft_as_in, draft_start, drafted, strip_like
from gluvo.advise.drafts.strength import strengthened
from gluvo.advise.watchouts import KINDS, Finder, Scene
from gluvo.cli import cli
from gluvo.errors import GluvoError
from gluvo.measure.trace import trace_of
from gluvo.render.chain import run_chain
from gluvo.render.joint import Joint
from gluvo.session.create import new_session
from gluvo.session.media import place_of
from gluvo.session.records import MIX, Session
from gluvo.session.store import read_session, write_session
from gluvo.steps import Band, Glue, Lane, Limiter, MidSideEq, Trim

from .conftest import RATE, music, noise
from .test_watchouts import RUMBLE_OF_TAKE, clean, drums, scene_of

EVERYTHING = range(100)


def made_of(scene: Scene, draft: Draft, strength: float = 100.0) -> Scene:
    session = drafted(scene.renderer, scene.session, draft, EVERYTHING, strength)
    return replaced(scene, session=session, render=scene.renderer.song(session))


def draft_of(scene: Scene, strip: str, references: tuple[Joint, ...] = ()) -> Draft:
    return draft_start(scene, strip, Finder(KINDS), references)


SONG = {"Kit": drums() * 0.3, "Piece": clean() * 0.6}


def test_a_stem_with_nothing_wrong_asks_for_nothing() -> None:
    scene = scene_of({"Piece": clean()})
    draft = draft_of(scene, "stem-0")
    assert not draft.parts and not draft.told
    assert made_of(scene, draft).session == scene.session


@pytest.mark.parametrize(
    "x",
    [np.zeros((RATE, 2)), np.zeros((1, 2)), noise(3.0, 0.1), np.full((RATE, 2), 0.1)],
    ids=["silence", "one", "noise", "dc"],
)
@pytest.mark.parametrize("strip", [MIX, "stem-0"])
def test_of_anything_a_draft_can_be_made(x: np.ndarray, strip: str) -> None:
    scene = scene_of({"Piece": x})
    draft = draft_of(scene, strip)
    after = made_of(scene, draft)
    assert after.render.result.figures().true_peak <= scene.session.target.true_peak + 0.05 or not draft.parts


@pytest.mark.sampled(3)
@pytest.mark.parametrize("gain", [0.05, 1.0, 4.0])
def test_the_mix_is_brought_to_its_target_or_as_near_as_three_dB_allow(gain: float) -> None:
    scene = scene_of({name: x * gain for name, x in SONG.items()})
    draft = draft_of(scene, MIX)
    assert draft.parts and draft.parts[-1].reaches and all(p.why and p.figures for p in draft.parts)
    after = made_of(scene, draft)
    was, now = scene.render.result.figures(), after.render.result.figures()
    target = scene.session.target
    assert now.true_peak <= target.true_peak + 0.05 and now.integrated <= target.loudness + target.tolerance
    limiter = after.session.mix.chain[-1]
    assert isinstance(limiter, Limiter)
    lost = was.plr - now.plr
    each = [joint.reduced() for item in after.session.mix.chain if (joint := after.render.joint(item.id)) is not None]
    taken = sum(reduced.peaks for reduced in each if reduced is not None)
    assert lost <= 3.05 and taken <= 3.05
    assert now.integrated >= target.loudness - target.tolerance or max(lost, taken) > 2.5, "it stopped too soon"
    assert now.integrated > was.integrated - 20.0
    known = {(w.kind, w.strip) for w in Finder(KINDS).find(scene)}
    assert not {(w.kind, w.strip) for w in Finder(KINDS).find(after)} - known


@pytest.mark.thorough
def test_glue_is_proposed_once_and_takes_what_it_promises() -> None:
    scene = scene_of({"Kit": drums() * 0.5, "Piece": 0.2 * clean()})
    draft = draft_of(scene, MIX)
    assert [p for p in draft.parts if p.title.startswith("Glue 2:1, 2.0 dB at peaks")]
    for strength, wanted in ((100.0, 2.0), (150.0, 3.0), (50.0, 1.0)):
        after = made_of(scene, draft, strength)
        glue = next(i for i in after.session.mix.chain if isinstance(i, Glue))
        joint = after.render.joint(glue.id)
        reduced = joint.reduced() if joint is not None else None
        assert reduced is not None and reduced.peaks == pytest.approx(wanted, abs=0.05)
    again = draft_of(made_of(scene, draft), MIX)
    assert not [p for p in again.parts if p.title.startswith("Glue")]


def test_what_is_wrong_with_a_stem_is_told_to_the_mix_and_mended_on_the_stem() -> None:
    beginning = np.minimum(1.0, np.arange(len(clean())) / (0.05 * RATE))[:, None]
    scene = scene_of({"Take": RUMBLE_OF_TAKE * beginning, "Piece": clean() * beginning})
    of_mix = draft_of(scene, MIX)
    assert "rumble" in [w.kind for w in of_mix.told] and not [p for p in of_mix.parts if "cut" in p.title]
    draft = draft_of(scene, "stem-0")
    assert len(draft.parts) == 1 and not draft.parts[0].reaches and "rumble" not in [w.kind for w in draft.told]
    after = made_of(scene, draft)
    assert after.session.strip("stem-1") == scene.session.strip("stem-1")
    assert not [w for w in Finder(KINDS).find(after) if w.kind == "rumble"]


@pytest.mark.thorough
def test_tone_goes_half_of_the_way_to_references_and_never_far() -> None:
    tilted = run_chain([MidSideEq(bands=(Band(id=1, shape="tilt", freq=900.0, gain=12.0),))], SONG["Piece"], RATE)
    reference = Joint(tilted.astype(np.float32), trace_of(tilted, RATE))
    scene = scene_of(SONG)
    draft = draft_of(scene, MIX, (reference,))
    assert [p for p in draft.parts if p.title.startswith("Tone: ")]
    for strength in (100.0, 150.0):
        bands = [b for i in made_of(scene, draft, strength).session.items if isinstance(i, MidSideEq) for b in i.bands]
        assert bands and all(-3.01 <= b.gain <= 2.01 for b in bands)
    own = scene.render.result
    assert not [p for p in draft_of(scene, MIX, (own,)).parts if p.title.startswith("Tone: ")]


@pytest.mark.parametrize(
    ("share", "gain", "aim", "freq"), [(0.0, -2.0, 1.0, 100.0), (0.5, -4.0, 1.5, 141.4), (1.5, -8.0, 2.5, 282.8)]
)
def test_strength_lies_between_what_was_and_what_is_set_or_beyond(
    share: float, gain: float, aim: float, freq: float
) -> None:
    old = MidSideEq(id="eq", bands=(Band(id=1, freq=500.0, gain=-2.0),))
    glue, lane = Glue(id="g", aim=1.0, hold_aim=True, low_cut=100.0), Lane(id="lane")
    before = Session().with_chain(MIX, (old, glue, lane))
    bands = (*(replace(b, gain=-6.0) for b in old.bands), Band(id=2, gain=-3.0))
    after = before.with_chain(
        MIX, (replace(old, bands=bands), replace(glue, aim=2.0, low_cut=200.0), lane, Trim(id="t", gain=-4.0))
    )
    eq, found, _, trim = strengthened(before, after, share).mix.chain
    assert isinstance(eq, MidSideEq) and isinstance(found, Glue) and isinstance(trim, Trim)
    assert [b.gain for b in eq.bands] == pytest.approx([gain, -3.0 * share]) and trim.gain == pytest.approx(
        -4.0 * share
    )
    assert found.aim == pytest.approx(aim) and found.low_cut == pytest.approx(freq, abs=0.1)
    assert strengthened(before, after, 1.0) is after


def model(chain: tuple[object, ...]) -> Model:
    scene = scene_of({"Other": music(6.0, seed=8) * 0.8}, chain)
    joints = {i.id: scene.render.joint(i.id) for i in scene.session.mix.chain}
    reduced = {id: r for id, j in joints.items() if j is not None and (r := j.reduced()) is not None}
    return Model(scene.session, scene.session.mix, reduced)


def test_as_in_another_session_aims_anew_at_what_was_done_there() -> None:
    chain = (
        MidSideEq(id="eq", bands=(Band(id=1, freq=300.0, gain=-2.0),)),
        Glue(id="g", ratio=3.0, threshold=-24.0),
        Lane(id="lane", since="eq", steps=(Glue(id="h", ratio=8.0, threshold=-30.0),)),
        Trim(id="off", gain=3.0, on=False),
        Limiter(id="l", drive=5.0),
    )
    there = model(chain)
    scene = scene_of({"Piece": clean() * 0.2, "Kit": drums() * 0.1}, (Trim(id="old", gain=1.0),))
    draft = draft_as_in(scene.session, scene.session.mix, there)
    assert draft.replaces and [p.reaches for p in draft.parts] == [
        False,
        False,
        True,
    ]  # the lane with what it lies beside
    after = made_of(scene, draft)
    made = after.session.mix.chain
    assert [type(i) for i in made if not isinstance(i, Trim)] == [
        MidSideEq,
        Glue,
        Lane,
        Limiter,
    ] and not after.session.item("old")
    lane = made[2]
    assert isinstance(lane, Lane) and lane.since == made[0].id
    joint, wanted = after.render.joint(made[1].id), there.reduced["g"].peaks
    reduced = joint.reduced() if joint is not None else None
    assert reduced is not None and reduced.peaks == pytest.approx(wanted, abs=0.11)
    without_lane = drafted(scene.renderer, scene.session, draft, {0, 2}, 100.0)
    assert [type(i) for i in without_lane.mix.chain if not isinstance(i, Trim)] == [MidSideEq, Limiter]


def test_as_in_needs_a_strip_of_that_name_with_steps() -> None:
    scene = scene_of(SONG)
    kit = scene.session.strip("stem-0")
    assert kit is not None
    with pytest.raises(GluvoError, match="no strip that is called Kit"):
        strip_like(Session(name="Other"), kit)
    with pytest.raises(GluvoError, match="Mix bus of Other has no steps"):
        strip_like(Session(name="Other"), scene.session.mix)


@pytest.fixture
def files(tmp_path: Path) -> Path:
    paths = [tmp_path / "Take.wav", tmp_path / "Piece.wav"]
    for path, x in zip(paths, (RUMBLE_OF_TAKE, clean()), strict=True):
        soundfile.write(path, x, RATE, "PCM_24")
    write_session(tmp_path / "Song.gluvo", new_session(paths, [], tmp_path, "Song"))
    return tmp_path


def gluvo(*words: object) -> tuple[int, str]:
    result = CliRunner().invoke(cli, [str(word) for word in words])
    return result.exit_code, result.output + (str(result.exception) if isinstance(result.exception, GluvoError) else "")


@pytest.mark.thorough
def test_a_draft_from_the_command_line(files: Path) -> None:
    (files / "Away").mkdir()
    song, out = files / "Song.gluvo", files / "Away" / "Draft.gluvo"
    code, said = gluvo("draft", song, "--out", out)
    assert code == 0 and "Reach −14.0 LUFS" in said and "not here: Take rumbles" in said, said
    made = read_session(out).session
    assert isinstance(made.mix.chain[-1], Limiter)
    assert all(place_of(media, out.parent).exists() for media in made.media), "from where it was written"
    code, said = gluvo("draft", song, "--strip", "Take", "--out", files / "Two.gluvo")
    assert code == 0 and "Take rumbles" in said and read_session(files / "Two.gluvo").session.mix.chain == ()
    code, said = gluvo("draft", song, "--strip", "Piece", "--out", files / "Three.gluvo")
    assert code == 0 and "Nothing here asks for anything." in said
    code, said = gluvo("draft", song, "--as-in", out, "--out", files / "Four.gluvo")
    assert code == 0 and "Limiter" in said


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("--strip", "Nobody", "--out", "New.gluvo"), "Song has no strip that is called Nobody."),
        (("--out", "Song.gluvo", "--force"), "Song.gluvo"),
        (("--out", "Take.wav"), "--out must end in .gluvo"),
        (("--as-in", "Song.gluvo", "--out", "New.gluvo"), "has no steps"),
        (("--strength", "200", "--out", "New.gluvo"), "200"),
    ],
)
def test_wrong_words_are_told_and_write_nothing(files: Path, words: tuple[str, ...], told: str) -> None:
    before = {p: p.read_bytes() for p in files.iterdir()}
    spelt = [str(files / w) if w.endswith((".gluvo", ".wav")) else w for w in words]
    code, said = gluvo("draft", files / "Song.gluvo", *spelt)
    assert code != 0 and told in said and "Traceback" not in said
    assert {p: p.read_bytes() for p in files.iterdir()} == before
