"""Targets as data: each measure, the user's own, files of them; what louder costs; two in a row divided."""

from __future__ import annotations

from pathlib import Path

import msgspec
import pytest

from gluvo.advise.loudness_target import driven, level_of, reach_target
from gluvo.advise.prices import divided, last_two, prices
from gluvo.advise.source import source_notes
from gluvo.deliver import targets
from gluvo.deliver.batch import Track, album_targets, spread
from gluvo.deliver.targets import (
    TARGETS,
    all_targets,
    loudness_of,
    read_targets,
    save_targets,
    shortfalls,
    write_targets,
)
from gluvo.errors import GluvoError
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import trace_of
from gluvo.render.song import Renderer
from gluvo.session.records import Bus, Target
from gluvo.steps import Clipper, Limiter, Step, Trim

from .conftest import RATE, material, music, one, sine

CHAIN: list[Step] = [Trim(id="t", gain=-2.0), Limiter(id="l", drive=4.0, ceiling=-1.0)]


@pytest.fixture(scope="module")
def renderer() -> Renderer:
    return Renderer(material(music(8.0)))


@pytest.mark.parametrize("measure", ["integrated", "short_term", "rms"])
@pytest.mark.parametrize("loudness", [-20.0, -13.0, -11.0])
def test_a_target_is_met_by_its_own_measure(measure: str, loudness: float, renderer: Renderer) -> None:
    target = Target(name="T", measure=measure, loudness=loudness, true_peak=-1.5)
    session = one(CHAIN).replace(target=target)
    reached = reach_target(renderer, session)
    assert reached.met and reached.loudness == pytest.approx(loudness, abs=0.05)
    brought = driven(session, reached.step, reached.drive, reached.ceiling)
    result = renderer.joint(renderer.plan(brought).result)
    figures = result.figures()
    assert loudness_of(figures, target) == pytest.approx(level_of(result, target)) == pytest.approx(loudness, abs=0.05)
    assert figures.true_peak <= -1.5 + 0.05
    assert shortfalls(figures, target) == []
    other = msgspec.structs.replace(target, loudness=loudness + 2.0)
    assert "under the target" in shortfalls(figures, other)[0]


def test_rms_by_its_convention() -> None:
    tone = figures_of(trace_of(sine(1000, 5.0, 0.0), RATE))
    assert tone.loudest_rms == pytest.approx(-3.01, abs=0.01)


def test_own_targets_are_kept_and_exchanged(tmp_path: Path) -> None:
    own = (Target(name="Vinyl", loudness=-13.0, measure="rms"), Target(name="Ärger: “x”", tolerance=0.1))
    assert all_targets() == TARGETS
    save_targets(own)
    assert all_targets() == (*TARGETS, *own) and targets.target_named("VINYL") == own[0]
    path = tmp_path / "ours.json"
    write_targets(path, own)
    assert read_targets(path) == own
    for content, words in (
        (b"{", "is no file of targets"),
        (b'{"format": "x"}', "is no Gluvo file of targets"),
        (b'{"targets": [{"name": "a"}, {"name": "A"}]}', "same name"),
        (b'{"targets": [{"name": "a", "loudness": 3}]}', "makes no sense"),
    ):
        path.write_bytes(content)
        with pytest.raises(GluvoError, match=words):
            read_targets(path)
    with pytest.raises(GluvoError, match="cannot be read"):
        read_targets(tmp_path / "gone.json")


def test_a_file_of_own_targets_that_cannot_be_read_is_set_aside() -> None:
    save_targets(())
    place = targets._place()
    for n, content in enumerate((b"{ by hand, and wrong", b"{ again")):
        place.write_bytes(content)
        save_targets((Target(name="Mine"),))
        assert targets.own_targets() == (Target(name="Mine"),)
        assert place.with_name(f"targets.unread-{n + 1}.json").read_bytes() == content


def test_what_comes_with_the_program_names_its_source() -> None:
    assert len({t.name for t in TARGETS}) == len(TARGETS) >= 5
    for target in TARGETS:
        assert any(c.isdigit() for c in target.source) and target.note.endswith(".")


def test_prices_rise_with_loudness_and_are_what_is_kept(renderer: Renderer) -> None:
    session = one(CHAIN).replace(target=Target(name="T", loudness=-12.0, true_peak=-1.0))
    now, *found = prices(renderer, session)
    assert now.wanted is None and now.session == session
    assert [p.wanted for p in found] == [-15.0, -14.0, -13.0, -12.0, -11.0]
    for price in found:
        assert price.met and price.level == pytest.approx(price.wanted, abs=0.05)
        kept = renderer.joint(renderer.plan(price.session).result).figures()
        assert kept.integrated == pytest.approx(price.level, abs=1e-6)
    for name in ("largest", "mean", "plr_lost", "new_sound"):
        values = [getattr(p, name) for p in found]
        assert values == sorted(values), name
    with pytest.raises(GluvoError, match="no limiter"):
        prices(renderer, one([CHAIN[0]]))


@pytest.mark.sampled(5)
@pytest.mark.parametrize("order", [(Clipper, Limiter), (Limiter, Clipper), (Limiter, Limiter), (Clipper, Clipper)])
@pytest.mark.parametrize("tops", [0.0, 2.0, 5.0])
def test_two_in_a_row_are_divided_at_the_same_loudness(
    order: tuple[type, type], tops: float, renderer: Renderer
) -> None:
    session = one([order[0](id="a", drive=6.0, ceiling=-2.0), order[1](id="b", drive=4.0, ceiling=-1.0)])
    before = renderer.joint(renderer.plan(session).result).figures()
    after = divided(renderer, session, tops)
    plan = renderer.plan(after)
    result = renderer.joint(plan.result).figures()
    assert result.integrated == pytest.approx(before.integrated, abs=0.05)
    assert result.true_peak <= -1.0 + 0.05
    taken = renderer.joint(plan.after["a"]).largest_reduction()
    assert taken == pytest.approx(tops, abs=0.4)


def test_only_a_chain_that_ends_with_two_can_be_divided(renderer: Renderer) -> None:
    assert last_two(one(CHAIN)) is None
    assert last_two(one([*CHAIN, Clipper(id="c"), Trim(id="x")])) is None
    with pytest.raises(GluvoError, match="does not end with two"):
        divided(renderer, one(CHAIN), 3.0)


def test_notes_on_both_ends() -> None:
    good = one(CHAIN)
    assert source_notes(good, -6.0, 0) == ()
    assert "goes over full scale by 0.4 dB" in source_notes(good, 0.4, 0)[0]
    assert "leaves 0.3 dB of headroom" in source_notes(one(CHAIN[1:]), -0.3, 0)[0]
    assert source_notes(good, -0.3, 0) == ()  # the chain begins with a Trim that makes room
    assert "3 flat tops" in source_notes(good, -6.0, 3)[0]
    assert "no limiter" in source_notes(one([CHAIN[0]]), -6.0, 0)[0]
    after = source_notes(one([CHAIN[1], Trim(id="x")]), -6.0, 0)
    assert after == ("Trim comes after the last limiter, and may raise peaks over its ceiling.",)
    mix = good.mix
    assert isinstance(mix, Bus)
    louder = good.with_strip(msgspec.structs.replace(mix, fader=2.0))
    assert "raises the song by 2.0 dB" in source_notes(louder, -6.0, 0)[0]


def test_an_album_keeps_its_differences_or_does_not() -> None:
    quiet, loud = (figures_of(trace_of(sine(1000, 4.0, level), RATE)) for level in (-30.0, -20.0))
    tracks = [Track(path=Path(name), session=one(CHAIN), figures=f) for name, f in (("a", quiet), ("b", loud))]
    target = Target(name="T", loudness=-14.0)
    assert [t.loudness for t in album_targets(tracks, target, False)] == [-14.0, -14.0]
    kept = album_targets(tracks, target, True)
    assert [round(t.loudness, 2) for t in kept] == [-24.0, -14.0]
    assert spread([t.figures.integrated for t in tracks]) == pytest.approx(10.0, abs=0.01)
    assert spread([]) == 0.0
