"""Blind trials: which is better of two, whether two can be told apart, how several are ranked; and what it means."""

from __future__ import annotations

import math
import secrets
from collections.abc import Sequence
from typing import Protocol

from gluvo.session.records import Trial, TrialKind

NO_DIFFERENCE = -1
SURE = 0.05
"""Chance does what was seen less often than this: then something is said to be told apart, or preferred."""
FEWEST_AB, FEWEST_ABX = 6, 5
"""So many answers are needed before even all of one kind mean anything."""
MOST_CANDIDATES = 6


class Chance(Protocol):
    """Where the order comes from."""

    def shuffle(self, x: list[int]) -> None: ...
    def randrange(self, start: int) -> int: ...


class Running:
    """A trial under way. Candidates are known by numbers; listeners see places, whose order only this knows."""

    def __init__(self, kind: TrialKind, count: int, tries: int, chance: Chance | None = None) -> None:
        """`count` candidates, 2 for all but a ranking; `tries` times. `chance`: the system's generator."""
        if not 2 <= count <= MOST_CANDIDATES or (kind != "rank" and count != 2):
            raise ValueError("a trial has two candidates, a ranking up to six")
        self.kind, self.count = kind, count
        self.tries = 1 if kind == "rank" else tries
        self._chance: Chance = chance or secrets.SystemRandom()
        self.answers: list[int] = []
        self._order: list[int] = []
        self._x = 0
        self._begin()

    def _begin(self) -> None:
        self._order = list(range(self.count))
        if self.kind != "abx":
            self._chance.shuffle(self._order)
        self._x = self._chance.randrange(2)

    @property
    def places(self) -> int:
        """How many places there are to listen at: in an ABX the third is X."""
        return 3 if self.kind == "abx" else self.count

    @property
    def done(self) -> bool:
        return len(self.answers) >= (self.count if self.kind == "rank" else self.tries)

    @property
    def number(self) -> int:
        """Which try it is, from 1."""
        return min(self.tries, len(self.answers) + 1)

    def at(self, place: int) -> int:
        """The candidate at a place, from 0."""
        return self._x if self.kind == "abx" and place == 2 else self._order[place]

    def open(self, place: int) -> bool:
        """Whether a place can be the answer."""
        if self.done or not 0 <= place < (2 if self.kind == "abx" else self.count):
            return False
        return self.kind != "rank" or self.at(place) not in self.answers

    def answer(self, place: int) -> None:
        """Say of a place that it is the better one, that X is that, or that it is the best of those that are left;
        `NO_DIFFERENCE` where there is none to be heard. The last one left of a ranking is the last."""
        if self.kind == "abx":
            self.answers.append(int(place != NO_DIFFERENCE and self.at(place) == self._x))
        else:
            self.answers.append(place if place == NO_DIFFERENCE else self.at(place))
        if self.kind != "rank":
            self._begin()
        elif len(left := set(range(self.count)) - set(self.answers)) == 1:
            self.answers.extend(left)


def finished(running: Running, id: str, names: Sequence[str], made: str) -> Trial:
    """A trial, over or stopped half-way, to be kept."""
    return Trial(
        id=id, kind=running.kind, made=made, names=tuple(names), tries=running.tries, answers=tuple(running.answers)
    )


def p_value(trial: Trial) -> float:
    """How often chance alone does as well: two-sided for a preference, one-sided for telling apart (binomial test)."""
    if trial.kind == "abx":
        return _by_chance(sum(trial.answers), len(trial.answers))
    wins = [trial.answers.count(n) for n in (0, 1)]
    return min(1.0, 2.0 * _by_chance(max(wins), sum(wins)))


def _by_chance(right: int, of: int) -> float:
    """How often a tossed coin is right so many times or more."""
    return sum(math.comb(of, n) for n in range(right, of + 1)) / 2**of


def meaning(trial: Trial) -> str:
    """What came out of a trial, and what that means, in a sentence or two."""
    names, answers = trial.names, trial.answers
    cut = (
        ""
        if trial.kind == "rank" or len(answers) >= trial.tries
        else f" Stopped after {len(answers)} of {trial.tries}."
    )
    if not answers:
        return f"Stopped before the first answer: {' against '.join(names)}."
    if trial.kind == "rank":
        order = [names[n] for n in answers if n != NO_DIFFERENCE]
        left = [name for n, name in enumerate(names) if n not in answers]
        rest = f" Not ranked: {', '.join(left)}." if left else ""
        return f"Best first: {', '.join(order)}.{rest} One ranking is an opinion, not a proof."
    p = p_value(trial)
    chance = f"p = {p:.3f}" if p >= 0.001 else "p < 0.001"
    if trial.kind == "abx":
        told = f"{sum(answers)} of {len(answers)} right ({chance})"
        if len(answers) < FEWEST_ABX:
            return f"{told}: too few tries to tell {names[0]} and {names[1]} apart by.{cut}"
        if p < SURE:
            return f"{told}: {names[0]} and {names[1]} can be told apart.{cut}"
        return f"{told}: chance does as well; no difference was shown between {names[0]} and {names[1]}.{cut}"
    wins = [answers.count(n) for n in (0, 1)]
    even = answers.count(NO_DIFFERENCE)
    same = f", no difference {even} time{'' if even == 1 else 's'}" if even else ""
    first = 0 if wins[0] >= wins[1] else 1
    told = f"{names[first]} preferred {wins[first]}, {names[1 - first]} {wins[1 - first]} times{same} ({chance})"
    if sum(wins) < FEWEST_AB:
        return f"{told}: too few choices to tell.{cut}"
    if p < SURE:
        return f"{told}: a preference that chance hardly makes.{cut}"
    return f"{told}: chance makes that, too; no preference was shown.{cut}"
