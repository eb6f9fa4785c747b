"""Listening practice: a staircase that follows the ear, changes that are what they say, results that nothing damages."""

from __future__ import annotations

from pathlib import Path
from random import Random

import numpy as np
import pytest

from gluvo.advise.hold import held_session
from gluvo.advise.practice import (
    EXERCISES,
    Answer,
    Exercise,
    Results,
    Round,
    Staircase,
    add_round,
    by_frequency,
    read_results,
    with_change,
)
from gluvo.advise.practice.results import MOST_ROUNDS
from gluvo.errors import GluvoError

from .conftest import noise
from .test_watchouts import SECONDS, clean, drums, scene_of

SIZES = (16.0, 11.3, 8.0, 5.7, 4.0, 2.8, 2.0, 1.4, 1.0, 0.7, 0.5)


@pytest.mark.parametrize("true", [8.0, 2.0, 1.0])
def test_the_staircase_comes_to_rest_where_seventy_percent_are_right(true: float) -> None:
    """Listeners whose share of right answers is a logistic function of the size: the mean threshold of many rounds is where that
    function is 70.7 %, within a step of the ladder."""
    chance = np.random.default_rng(3)
    found = []
    for _ in range(200):
        stairs = Staircase(SIZES, 2)
        for _ in range(60):
            right = 0.5 + 0.5 / (1.0 + (true / stairs.size) ** 3)
            stairs.answer(bool(chance.random() < right))
        assert stairs.threshold is not None
        found.append(np.log(stairs.threshold))
    wanted = true * (0.293 / 0.207) ** (-1.0 / 3.0)
    assert np.exp(np.mean(found)) == pytest.approx(wanted, rel=0.25)


def test_a_staircase_stays_on_its_ladder() -> None:
    stairs = Staircase((4.0, 2.0, 1.0), 1)
    for _ in range(20):
        stairs.answer(True)
    assert stairs.size == 1.0 and stairs.threshold is None, "who is always right has not been measured"
    for _ in range(20):
        stairs.answer(False)
    assert stairs.size == 4.0
    assert Staircase((1.0,), 9).size == 1.0


SCENE = scene_of({"Kit": drums() * 0.4, "Piece": clean() * 0.3})


@pytest.mark.sampled(3)
@pytest.mark.parametrize("exercise", [e for e in EXERCISES if e.id not in ("encoding", "mono")], ids=lambda e: e.id)
def test_what_is_harder_changes_the_sound_less(exercise: Exercise) -> None:
    """At equal loudness, what is left between the song and the changed one falls from the easiest size to the hardest."""
    before = SCENE.render.result
    far = []
    for size in (exercise.sizes[0], exercise.sizes[len(exercise.sizes) // 2], exercise.sizes[-1]):
        change = exercise.change(size, Random(4))
        assert change.size == size and change.words and (change.freq in exercise.freqs or change.freq == 0.0)
        made = held_session(SCENE.renderer, with_change(SCENE.session, change))
        assert len(made.mix.chain) == len(SCENE.session.mix.chain) + 1
        after = SCENE.renderer.song(made).result
        gain = 10.0 ** ((before.loudness() - after.loudness()) / 20.0) if exercise.matched else 1.0
        x, y = before.heard_in(None), after.heard_in(None) * gain
        far.append(float(np.sqrt(np.mean((x - y) ** 2) / np.mean(x**2))))
    assert far[0] > 1.5 * far[2] and far[0] >= far[1] >= far[2] > 0.0


def test_lows_in_mono_lose_their_side_up_to_where_it_says() -> None:
    scene = scene_of(
        {"Wide": 0.1 * noise(SECONDS, 1.0, seed=5) * np.array([1.0, -1.0]) + 0.05 * noise(SECONDS, 1.0, seed=6)}
    )
    before = scene.render.result.tone(None)
    for size in (400.0, 125.0, 60.0):
        change = next(e for e in EXERCISES if e.id == "mono").change(size, Random(1))
        after = scene.renderer.song(with_change(scene.session, change)).result.tone(None)
        low, high = (
            (before.freqs > 20.0) & (before.freqs < 0.6 * size),
            (before.freqs > 2.0 * size) & (before.freqs < 4000.0),
        )
        assert after.power("side")[low].sum() < 0.05 * before.power("side")[low].sum()
        assert after.power("side")[high].sum() > 0.9 * before.power("side")[high].sum()


def test_places_and_ways_are_drawn_anew() -> None:
    band = EXERCISES[0]
    drawn = [band.change(3.0, Random(n)) for n in range(60)]
    assert len({c.freq for c in drawn}) == len(band.freqs) and {c.up for c in drawn} == {True, False}


ROUND = Round(
    exercise="band", made="2026-11-29T12:00:00", song="Song", answers=(Answer(size=3.0, freq=250.0, right=True),)
)


def test_rounds_are_kept_with_those_of_other_windows(tmp_path: Path) -> None:
    path = tmp_path / "deep" / "practice.json"
    assert read_results(path) == Results()
    add_round(ROUND, path)
    assert len(add_round(ROUND, path).rounds) == 2 and read_results(path).of("band") == (ROUND, ROUND)
    assert read_results(path).of("level") == ()


@pytest.mark.parametrize(
    "content", [b"", b"{", b'{"format": "other"}', b"\xff\xfe", b'{"format": "gluvo-practice", "rounds": 3}']
)
def test_a_damaged_file_is_told_and_left_alone(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "practice.json"
    path.write_bytes(content)
    with pytest.raises(GluvoError, match=r"practice\.json"):
        add_round(ROUND, path)
    assert path.read_bytes() == content


def test_only_so_many_rounds_are_kept() -> None:
    full = Results(rounds=tuple(ROUND for _ in range(MOST_ROUNDS)))
    more = full.with_round(Round(exercise="level"))
    assert len(more.rounds) == MOST_ROUNDS and more.rounds[-1].exercise == "level"


def test_answers_are_told_by_frequency() -> None:
    answers = [(3.0, 250.0, True), (3.0, 250.0, True), (1.5, 250.0, False), (1.5, 250.0, True), (3.0, 8000.0, False)]
    made = Round(exercise="band", answers=tuple(Answer(size=s, freq=f, right=r) for s, f, r in answers))
    low, high = by_frequency([made])
    assert (low.freq, low.asked, low.right, low.smallest) == (250.0, 4, 3, 3.0)
    assert (high.freq, high.asked, high.right, high.smallest) == (8000.0, 1, 0, None)
