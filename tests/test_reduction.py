"""What is counted of a reduction: how often, how long, where most."""

from __future__ import annotations

from pathlib import Path

import msgspec
import numpy as np
import pytest

from gluvo.advise.aim import find_threshold
from gluvo.dsp.compression import arriving
from gluvo.measure.overview import REDUCTION_HOP, ReductionTracer
from gluvo.measure.trace import Span
from gluvo.render.reduction import mean_along, taken_along, taken_by
from gluvo.render.song import Renderer
from gluvo.session.migrations import VERSION
from gluvo.session.records import MIX
from gluvo.session.store import read_session
from gluvo.steps import Clipper, Glue, Split, SplitBand, Trim

from .conftest import material, music, noise, one, sine

RATE = 48_000


def traced(taken: np.ndarray, block: int = 700):  # type: ignore[no-untyped-def]
    tracer = ReductionTracer(RATE, len(taken))
    for at in range(0, len(taken), block):
        tracer.push(taken[at : at + block])
    return tracer.finish()


@pytest.fixture
def four_catches() -> np.ndarray:
    """Ten seconds with catches of 4, 1.5, 6 and 2.5 dB at 1, 3, 5 and 8 s, each 0.1 s long."""
    taken = np.zeros(10 * RATE)
    for at, db in ((1, 4.0), (3, 1.5), (5, 6.0), (8, 2.5)):
        taken[at * RATE : at * RATE + RATE // 10] = db
    return taken


def test_hardest_catches_come_first_and_apart(four_catches: np.ndarray) -> None:
    found = traced(four_catches).hardest()
    assert [round(c.taken, 3) for c in found] == [6.0, 4.0, 2.5, 1.5]
    assert [c.seconds for c in found] == pytest.approx([5.0, 1.0, 8.0, 3.0], abs=0.011)
    inside = traced(four_catches).hardest(Span(2.0, 6.0))
    assert [round(c.taken, 3) for c in inside] == [6.0, 1.5]
    assert inside[0].seconds == pytest.approx(5.0, abs=0.011)


def test_a_long_catch_is_listed_once_a_half_second() -> None:
    taken = np.zeros(4 * RATE)
    taken[RATE : 2 * RATE] = 3.0
    assert len(traced(taken).hardest(count=10)) == 2


def test_shares_and_work(four_catches: np.ndarray) -> None:
    r = traced(four_catches)
    assert [r.share_over(db) for db in (1.0, 2.0, 3.0)] == pytest.approx([0.04, 0.03, 0.02], abs=2e-4)
    work = r.working()
    assert (work.times, work.mean_seconds, work.share) == (
        4,
        pytest.approx(0.1, abs=1e-3),
        pytest.approx(0.04, abs=2e-4),
    )
    assert r.share_taken() == pytest.approx(0.04, abs=1e-9)
    assert r.share_taken(Span(1.0, 2.0)) == pytest.approx(0.1, abs=1e-9)


def test_nothing_taken_is_nothing_told() -> None:
    r = traced(np.zeros(RATE))
    assert r.hardest() == ()
    assert (r.working().times, r.working().mean_seconds, r.share_taken()) == (0, 0.0, 0.0)


@pytest.mark.parametrize("block", [1, REDUCTION_HOP, 479, 4096])
def test_counts_do_not_depend_on_blocks(four_catches: np.ndarray, block: int) -> None:
    part = four_catches[: 2 * RATE]
    one, other = traced(part, block), traced(part, len(part))
    assert np.allclose(one.busy, other.busy)
    assert np.array_equal(one.top, other.top)


# --- what arrives -----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("mix", [0.0, 5.0, 20.0, 50.0, 100.0])
@pytest.mark.parametrize("back", [False, True])
def test_a_mix_tells_what_the_sound_falls_by(mix: float, back: bool) -> None:
    """A steady tone falls by what is told; what is reduced alone stands beside it."""
    tone = sine(1000, 3.0, -6)
    glue = Glue(id="g", threshold=-26.0, ratio=10.0, mix=mix, feed_back=back, release=30.0)
    rendered = Renderer(material(tone)).song(one([glue]))
    joint, span = rendered.joint("g"), Span(1.0, 3.0)
    assert joint is not None
    told = joint.reduced(span)
    fell = -20 * np.log10(np.abs(joint.audio[-RATE:]).max() / np.abs(tone[-RATE:]).max())
    assert told is not None and told.mean == pytest.approx(fell, abs=0.05)
    assert told.peaks == pytest.approx(fell, abs=0.05) and told.most == pytest.approx(fell, abs=0.1)
    wet = joint.wet_reduced(span)
    if mix == 100.0:
        assert wet is None
    else:
        assert wet is not None and wet.mean > 12.0
        assert arriving(np.array([wet.mean]), mix / 100.0)[0] == pytest.approx(told.mean, abs=0.05)
    assert mean_along(rendered, MIX, span) == joint.mean_reduction(span)


@pytest.mark.parametrize("mix", [20.0, 50.0, 100.0])
def test_the_aim_is_of_what_arrives(mix: float) -> None:
    before = Renderer(material(music(8.0)))
    came = before.song(one([Trim(id="t", gain=-1.0)])).result
    glue = Glue(id="g", ratio=4.0, aim=1.2, mix=mix)
    found = find_threshold(glue, came, None)
    assert found.met
    rendered = before.song(one([Trim(id="t", gain=-1.0), msgspec.structs.replace(glue, threshold=found.value)]))
    assert rendered.joint("g").reduced().peaks == pytest.approx(1.2, abs=0.05)
    assert not find_threshold(
        msgspec.structs.replace(glue, aim=3.0, mix=20.0), came, None
    ).met  # no more than 1.9 dB can be gone


def test_the_most_along_a_chain_is_the_most_and_no_mean() -> None:
    """A clipper that takes the top of a single wave."""
    x = sine(200, 2.0, -12)
    x[RATE : RATE + 60] *= 4.0
    rendered = Renderer(material(x)).song(one([Clipper(id="c", ceiling=-3.0)]))
    most = rendered.joint("c").largest_reduction()
    for taken in (taken_along(rendered, MIX), taken_by(rendered, "c")):
        assert taken is not None and most > 1.5 and taken.most.max() == pytest.approx(most)


def test_a_split_takes_what_its_bands_take_of_the_whole() -> None:
    """Half of the power lies in the lower band; 10 dB off it is 2.6 dB off the whole."""
    x = sine(60, 4.0, -12) + sine(4000, 4.0, -12)
    glue = Glue(id="g", threshold=-60.0, ratio=20.0, range=10.0, attack=5.0)
    for mix, wanted in ((100.0, -10 * np.log10(0.5 + 0.5 * 0.1)), (0.0, None)):
        bands = (SplitBand(id=1, steps=(glue,), mix=mix), SplitBand(id=2))
        rendered = Renderer(material(x)).song(one([Split(id="s", crossovers=(500.0,), bands=bands)]))
        told = mean_along(rendered, MIX, Span(1.0, 4.0))
        assert told == pytest.approx(wanted, abs=0.1) if wanted is not None else told == 0.0
    assert taken_along(Renderer(material(noise(1.0))).song(one([Split(id="s")])), MIX) is None


@pytest.mark.parametrize("slope", ["12", "48"])
def test_a_split_never_takes_more_than_its_bands(slope: str) -> None:
    """Crossovers ring on in the silence after a hit, where the bands have more power than what comes in."""
    x = music(4.0)
    x[:, :] *= (np.arange(len(x)) // (RATE // 5) % 2 == 0)[:, None]  # cut off in the middle of sound
    bands = tuple(
        SplitBand(id=n, steps=(Glue(id=f"g{n}", threshold=-50.0, ratio=2.0, range=4.0 + n, release=400.0),))
        for n in (1, 2, 3)
    )
    split = Split(id="s", crossovers=(160.0, 4000.0), bands=bands, slope=slope)
    taken = taken_by(Renderer(material(x)).song(one([split])), "s")
    assert taken is not None and 2.0 < taken.most.max() <= 7.0 + 1e-6


def test_an_older_aim_behind_a_mix_is_asked_for_as_it_arrives(tmp_path: Path) -> None:
    """What was 6 dB of what is reduced alone at a Mix of 50 % are 2.5 dB of what comes out: the same threshold."""
    written = msgspec.to_builtins(one([Glue(id="g", aim=6.0, mix=50.0), Glue(id="h", aim=6.0)]))
    for version, wanted in ((2, 2.49), (VERSION, 6.0)):
        path = tmp_path / f"{version}.gluvo"
        path.write_bytes(msgspec.json.encode({**written, "version": version}))
        chain = read_session(path).session.mix.chain
        assert [step.aim for step in chain] == [wanted, 6.0]
