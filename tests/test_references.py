"""References by section: proposed, paired, in time, equally loud."""

from __future__ import annotations

import itertools

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.compare.hearables import TimeMap
from gluvo.compare.match import RESULT, UNTOUCHED, matched_gains
from gluvo.compare.readings import Other, hear_readings, other_readings
from gluvo.compare.references import paired, partner, partners, time_map, with_sections
from gluvo.measure.form import MOST_PARTS, form_of, likeness_of, names_of
from gluvo.measure.loudness import integrated, short_term_peak
from gluvo.measure.trace import Span, trace_of
from gluvo.opened.audio import joint_of
from gluvo.render.song import Renderer
from gluvo.session import sections
from gluvo.session.records import Media, Reference, Section, Session
from gluvo.session.sounds import Sound
from gluvo.steps import Glue, Limiter, Trim

from .conftest import RATE, material, music, noise, one, sine

SONG = (
    Section(id="s1", name="Intro", start=0.0, end=4.0),
    Section(id="s2", name="Chorus", start=4.0, end=10.0),
    Section(id="s3", name="Out", start=10.0, end=12.0),
)
OWN = (
    Section(id="p1", name="A", start=0.0, end=9.0),
    Section(id="p2", name="B", start=9.0, end=12.0),
)
LEVELS, OWN_LEVELS = {"s1": -20.0, "s2": -10.0, "s3": -24.0}, {"p1": -9.0, "p2": -14.0}


def reference(**changes: object) -> Reference:
    made = Reference(id="r", name="R", media=Media(path="r.wav", size=1, sha256="0" * 64), sections=OWN)
    return msgspec.structs.replace(made, **changes)


def session(**changes: object) -> Session:
    return Session(sections=SONG, references=(reference(**changes),))


# --- sections of their own ---------------------------------------------------------------------------------------------


@pytest.mark.thorough
@settings(deadline=None, max_examples=25)
@given(st.lists(st.tuples(st.integers(8, 30), st.floats(-40.0, 0.0)), min_size=1, max_size=14), st.integers(0, 5))
def test_parts_cover_the_track_and_are_few(blocks: list[tuple[int, float]], seed: int) -> None:
    rate = 4000
    levels = np.concatenate([np.full(n * rate, 10.0 ** (db / 20.0)) for n, db in blocks])
    x = np.random.default_rng(seed).normal(size=(len(levels), 2)) * 0.2 * levels[:, None]
    trace = trace_of(x, rate)
    found = form_of(trace)
    assert 1 <= len(found) <= MOST_PARTS and found == form_of(trace)
    assert found[0].start == 0.0 and found[-1].end == pytest.approx(trace.seconds)
    assert all(a.end == b.start for a, b in itertools.pairwise(found))
    assert all(part.seconds >= 5.0 for part in found)
    assert len(set(names_of(found, trace))) == len(found)


def test_parts_are_cut_where_loudness_or_density_changes() -> None:
    steady = noise(24.0) * np.repeat([0.05, 0.4], 12 * RATE)[:, None]
    assert [round(p.start) for p in form_of(trace_of(steady, RATE))] == [0, 12]
    clicks = np.zeros((12 * RATE, 2))
    clicks[:: RATE // 4] = 1.0  # few peaks of the same power: the density changes, not the loudness
    tone = sine(1000.0, 12.0, -20.0)
    clicks *= np.sqrt((tone**2).mean() / (clicks**2).mean())
    assert [round(p.start) for p in form_of(trace_of(np.concatenate([tone, clicks]), RATE))] == [0, 12]
    for nothing in (np.zeros((20 * RATE, 2)), noise(2.0), np.zeros((0, 2))):
        assert len(form_of(trace_of(nothing, RATE))) == 1


def test_proposed_sections_have_ids_of_their_own() -> None:
    trace = trace_of(noise(24.0) * np.repeat([0.05, 0.4], 12 * RATE)[:, None], RATE)
    made = sections.proposed(session(), trace)
    assert [s.name for s in made] == ["Quietest part", "Loudest part"]
    assert len({s.id for s in (*made, *SONG, *OWN)}) == len(made) + 5


# --- pairs -------------------------------------------------------------------------------------------------------------


def test_what_is_not_paired_plays_the_nearest_in_rank() -> None:
    found = partners(session(), LEVELS, reference(), OWN_LEVELS)
    assert {id: s.id for id, s in found.items()} == {"s1": "p2", "s2": "p1", "s3": "p2"}
    alone = partner(SONG[0], SONG[:1], LEVELS, reference(), OWN_LEVELS)
    assert alone is not None and alone.id == "p1"  # one section is the one that matters
    assert partners(session(), LEVELS, reference(sections=()), {}) == {}


def test_pairs_are_kept_until_their_section_goes() -> None:
    made = paired(session(), "r", "s2", "p2")
    found = partners(made, LEVELS, made.references[0], OWN_LEVELS)
    assert found["s2"].id == "p2"
    assert paired(made, "r", "s2", "") == session() and paired(made, "gone", "s2", "p1") == made
    gone = with_sections(made, "r", OWN[:1])
    assert gone.references[0].pairs == ()
    left = made.replace(
        sections=sections.without(made.sections, "s2")
    )  # the song's goes: the pair is no longer asked for
    assert set(partners(left, LEVELS, left.references[0], OWN_LEVELS)) == {"s1", "s3"}
    stale = made.with_reference(msgspec.structs.replace(made.references[0], sections=OWN[:1]))
    assert partners(stale, LEVELS, stale.references[0], OWN_LEVELS)["s2"].id == "p1"


@given(st.floats(0.0, 12.0, exclude_max=True))
def test_a_reference_plays_its_partner_from_the_sections_start(seconds: float) -> None:
    found = partners(session(), LEVELS, reference(), OWN_LEVELS)
    place = time_map(SONG, found).own(seconds, 12.0)
    section = next(s for s in SONG if s.start <= seconds < s.end)
    own = found[section.id]
    assert own.start <= place < own.end
    assert place == pytest.approx(own.start + (seconds - section.start) % (own.end - own.start))


def test_the_chosen_section_lasts_as_long_as_its_partner() -> None:
    found = partners(session(), LEVELS, reference(), OWN_LEVELS)
    time = time_map(SONG, found, chosen="s2")
    assert time.stretches[0].end == 13.0 and time.own(12.5, 12.0) == 8.5
    assert time_map(SONG, found).own(10.5, 12.0) == 9.5
    assert time_map(SONG, {}) == TimeMap()


# --- level match -------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def renderer() -> Renderer:
    return Renderer(material(music(12.0)))


CHAIN = [Trim(id="t", gain=-4.0), Glue(id="g", ratio=4.0, threshold=-30.0), Limiter(id="l", drive=8.0, ceiling=-1.0)]


@pytest.mark.parametrize("match", ["integrated", "short_term", "mid", "above"])
@pytest.mark.parametrize("span", [None, Span(2.0, 7.0)])
def test_all_is_equally_loud_by_the_chosen_measure(match: str, span: Span | None, renderer: Renderer) -> None:
    other = joint_of(Sound((music(9.0, seed=4) * [0.3, 0.5]).astype(np.float32), RATE))
    made = one(CHAIN)
    readings = hear_readings(renderer, made, span, match=match)
    readings |= other_readings({"r": Other(other, Span(1.0, 6.0)), "louder": Other(other, None, trim=2.0)}, match)
    gains = matched_gains(readings)
    plan = renderer.plan(made)
    heard = {
        RESULT: renderer.joint(plan.result).heard_in(span),
        UNTOUCHED: renderer.joint(plan.untouched).heard_in(span),
        "r": other.heard_in(Span(1.0, 6.0)),
        "louder": other.audio,
    }
    levels = {}
    for id, x in heard.items():
        x = np.asarray(x, dtype=float) * 10.0 ** (gains[id] / 20.0)
        if match == "mid":
            x = np.repeat(x.mean(axis=1, keepdims=True), 2, axis=1)
        if match == "above":
            spectrum = np.fft.rfft(x, axis=0)
            freqs = np.fft.rfftfreq(len(x), 1.0 / RATE)[:, None]
            x = np.fft.irfft(spectrum / np.sqrt(1.0 + (100.0 / np.maximum(freqs, 1e-9)) ** 8), len(x), axis=0)
        trace = trace_of(x, RATE)
        levels[id] = (short_term_peak if match == "short_term" else integrated)(trace)
        assert np.abs(heard[id]).max() * 10.0 ** (gains[id] / 20.0) <= 1.0
    levels["louder"] -= 2.0
    assert max(levels.values()) - min(levels.values()) < 0.05


def test_what_has_nothing_of_a_part_is_matched_by_the_whole(renderer: Renderer) -> None:
    side = noise(4.0)[:, :1] * [1.0, -1.0]
    lonely = joint_of(Sound(side.astype(np.float32), RATE))
    silent = joint_of(Sound(np.zeros((RATE, 2), dtype=np.float32), RATE))
    readings = other_readings({"side": Other(lonely, None), "silent": Other(silent, None)}, "mid")
    assert readings["side"].loudness == pytest.approx(integrated(lonely.trace))
    assert matched_gains(hear_readings(renderer, one(CHAIN), None) | readings)["silent"] == 0.0


@pytest.mark.parametrize(
    ("levels", "names"),
    [
        ((0.02, 0.2, 0.05, 0.19), ["Quiet", "Loudest", "Quiet", "Loud"]),
        ((0.1, 0.2, (0.1, 0.0)), ["Middle", "Loudest", "End"]),  # it ends in silence
        ((0.1, (0.15, 0.02), 0.2, (0.15, 0.02)), ["Middle", "Fade", "Loudest", "End"]),
        ((0.1, (0.02, 0.15), 0.2), ["Middle", "Build", "Loudest"]),
    ],
)
def test_parts_are_called_by_what_they_are_like(levels: tuple[object, ...], names: list[str]) -> None:
    rng, part = np.random.default_rng(4), 6 * RATE
    ends = [pair if isinstance(pair, tuple) else (pair, pair) for pair in levels]
    gains = [np.repeat([a, 0.5 * (a + b), b], part // 3) for a, b in ends]
    x = np.concatenate(gains)[:, None] * rng.standard_normal((part * len(levels), 2))
    spans = tuple(Span(6.0 * n, 6.0 * (n + 1)) for n in range(len(levels)))
    told = [name.rstrip(" 0123456789") for name in likeness_of(spans, trace_of(x, RATE))]
    assert told == names
