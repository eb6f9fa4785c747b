"""Blind trials: fair, hidden, and what they mean."""

from __future__ import annotations

import itertools
import math

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.compare.trial import NO_DIFFERENCE, Running, finished, meaning, p_value
from gluvo.session.records import Trial


@settings(deadline=None)
@given(st.integers(0, 40), st.integers(0, 40))
def test_p_values_are_those_of_the_closed_form(right: int, wrong: int) -> None:
    n = right + wrong
    tail = sum(math.comb(n, k) for k in range(right, n + 1)) / 2**n
    trial = Trial(id="t", kind="abx", answers=(1,) * right + (0,) * wrong, tries=max(1, n))
    assert p_value(trial) == pytest.approx(tail if n else 1.0)
    most = max(right, wrong)
    both = min(1.0, 2.0 * sum(math.comb(n, k) for k in range(most, n + 1)) / 2**n)
    preferred = Trial(id="t", kind="ab", answers=(0,) * right + (1,) * wrong + (NO_DIFFERENCE,) * 3)
    assert p_value(preferred) == pytest.approx(both if n else 1.0)


def test_the_order_is_fair_and_drawn_anew_for_each_try() -> None:
    running = Running("ab", 2, 2000)
    first = []
    for _ in range(2000):
        first.append(running.at(0))
        assert {running.at(0), running.at(1)} == {0, 1}
        running.answer(0)
    assert 0.43 < sum(first) / 2000 < 0.57  # six standard deviations are 0.067
    changes = sum(a != b for a, b in itertools.pairwise(first))
    assert 0.43 < changes / 1999 < 0.57
    assert running.done and running.answers.count(0) + running.answers.count(1) == 2000


def test_abx_keeps_a_and_b_in_place_and_hides_x() -> None:
    running = Running("abx", 2, 400)
    drawn = []
    for _ in range(400):
        assert (running.at(0), running.at(1), running.places) == (0, 1, 3)
        drawn.append(running.at(2))
        assert not running.open(2)  # X is no answer
        running.answer(running.at(2))
    assert running.answers == [1] * 400 and 120 < sum(drawn) < 280
    wrong = Running("abx", 2, 2)
    wrong.answer(1 - wrong.at(2))
    wrong.answer(NO_DIFFERENCE)
    assert wrong.answers == [0, 0]


@pytest.mark.parametrize("count", [2, 3, 6])
def test_a_ranking_takes_each_once(count: int) -> None:
    running = Running("rank", count, 12)
    best = []
    while not running.done:
        place = next(n for n in range(count) if running.open(n))
        best.append(running.at(place))
        running.answer(place)
        assert not running.open(place)
    assert len(best) == count - 1, "the one that is left needs no answer"
    assert running.answers[:-1] == best and sorted(running.answers) == list(range(count))


@pytest.mark.parametrize(("kind", "count"), [("ab", 3), ("abx", 1), ("rank", 7), ("rank", 1)])
def test_too_few_or_too_many_are_refused(kind: str, count: int) -> None:
    with pytest.raises(ValueError, match="candidates"):
        Running(kind, count, 5)


@pytest.mark.parametrize(
    ("kind", "answers", "tries", "words"),
    [
        ("abx", (1,) * 4, 4, "too few tries"),
        ("abx", (1,) * 11 + (0,), 12, "11 of 12 right (p = 0.003): Old and New can be told apart."),
        ("abx", (1, 0) * 6, 12, "no difference was shown"),
        ("abx", (1,) * 6, 12, "Stopped after 6 of 12."),
        ("ab", (0,) * 5, 5, "too few choices"),
        ("ab", (1,) * 10, 10, "New preferred 10, Old 0 times (p = 0.002): a preference that chance hardly makes."),
        ("ab", (0, 1, 1, 0, 1, 0, 1), 7, "no preference was shown"),
        ("ab", (1, -1), 2, "no difference 1 time "),
        ("ab", (), 5, "before the first answer"),
    ],
)
def test_what_it_means_is_said(kind: str, answers: tuple[int, ...], tries: int, words: str) -> None:
    trial = Trial(id="t", kind=kind, names=("Old", "New"), answers=answers, tries=tries)
    assert words in meaning(trial)


def test_a_ranking_is_told_best_first() -> None:
    running = Running("rank", 3, 1)
    running.answer(0)
    trial = finished(running, "t", ("A", "B", "C"), "2026-11-25T10:00:00")
    assert meaning(trial).startswith(f"Best first: {'ABC'[trial.answers[0]]}. Not ranked: ")
