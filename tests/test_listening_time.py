"""Ears: what was listened to since the last break."""

from __future__ import annotations

import pytest

from gluvo.desk.model.listening_time import BREAK_SECONDS, FRESH_SECONDS, ListeningTime


class Clock:
    def __init__(self) -> None:
        self.seconds = 1_000_000.0

    def __call__(self) -> float:
        return self.seconds

    def listen(self, ears: ListeningTime, seconds: float, power: float = 0.01, gain: float = 0.0) -> None:
        for _ in range(round(seconds)):
            self.seconds += 1.0
            ears.hear(power, gain, 1.0)


def test_time_and_level_add_up_until_a_break() -> None:
    clock = Clock()
    ears = ListeningTime(now=clock)
    assert ears.told() == "" and ears.level is None
    clock.listen(ears, 120.0)
    clock.seconds += BREAK_SECONDS - 2.0  # no break yet
    clock.listen(ears, 120.0, gain=-10.0)
    assert ears.seconds == 240.0
    assert ears.level == pytest.approx(-0.691 - 20.0 - 2.596, abs=0.01)  # the mean of 0.01 and 0.001
    assert ears.told() == "4 min at −23 LUFS"
    clock.seconds += BREAK_SECONDS
    assert ears.told() == ""
    clock.listen(ears, 61.0)
    assert ears.seconds == 61.0


def test_a_reminder_comes_once_for_each_stretch() -> None:
    clock = Clock()
    ears = ListeningTime(now=clock)
    told = []
    for _ in range(100):
        clock.listen(ears, 60.0)
        told.append(bool(ears.reminder(45.0)))
        assert ears.reminder(0.0) == ""
    assert [n + 1 for n, said in enumerate(told) if said] == [45, 90]


def test_ears_are_fresh_after_an_hour() -> None:
    clock = Clock()
    assert not ListeningTime(now=clock).rested  # nothing is known of them
    ears = ListeningTime(last=clock() - FRESH_SECONDS - 1.0, now=clock)
    assert ears.rested
    clock.listen(ears, 1.0)
    assert not ears.rested
    clock.seconds += FRESH_SECONDS
    assert ears.rested
