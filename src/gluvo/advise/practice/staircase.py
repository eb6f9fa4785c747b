"""How hard the next question is: two right answers make it harder, one wrong one easier."""

from __future__ import annotations

import math
from collections.abc import Sequence

DOWN_AFTER = 2
"""Right answers in a row that make it harder."""
COUNTED = 6
"""Turns, the last of a round, whose mean is the threshold; and the fewest that tell one."""
FEWEST = 3


class Staircase:
    """A transformed up-down staircase, two down and one up: it comes to rest where 70.7 % of the answers are right (Levitt,
    'Transformed up-down methods in psychoacoustics', JASA 49, 1971)."""

    def __init__(self, sizes: Sequence[float], start: int = 0) -> None:
        """`sizes`: from what is easy to what is hard; `start`: the place of the first one."""
        self._sizes = tuple(sizes)
        self.place = min(max(0, start), len(self._sizes) - 1)
        self._in_a_row = 0
        self._way = 0
        self.turns: list[float] = []
        """Sizes at which it has turned."""

    @property
    def size(self) -> float:
        """Of the next question."""
        return self._sizes[self.place]

    def answer(self, right: bool) -> None:
        """Take in an answer to a question of that size."""
        if right:
            self._in_a_row += 1
            if self._in_a_row < DOWN_AFTER:
                return
            self._go(1)
        else:
            self._go(-1)
        self._in_a_row = 0

    def _go(self, way: int) -> None:
        if self._way and way != self._way:
            self.turns.append(self.size)
        self._way = way
        self.place = min(max(0, self.place + way), len(self._sizes) - 1)

    @property
    def threshold(self) -> float | None:
        """The size that is heard more often than not, by the geometric mean of its last turns; None before there are enough.

        >>> stairs = Staircase((8.0, 4.0, 2.0, 1.0), 1)
        >>> for right in (True, True, False, True, True, False): stairs.answer(right)
        >>> round(stairs.threshold, 2)
        2.52
        """
        if len(self.turns) < FEWEST:
            return None
        last = self.turns[-COUNTED:]
        return math.exp(sum(math.log(size) for size in last) / len(last))
