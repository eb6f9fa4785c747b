"""What is counted of a reduction: how often, how long, where most."""

from __future__ import annotations

import numpy as np
import pytest

from gluvo.measure.overview import REDUCTION_HOP, ReductionTracer
from gluvo.measure.trace import Span

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
