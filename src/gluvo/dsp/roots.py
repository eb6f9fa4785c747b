"""The root of a function of one number, between two places where its signs differ."""

from __future__ import annotations

from collections.abc import Callable

MOST_TRIES = 60


def root_between(amount: Callable[[float], float], low: float, high: float, within: float) -> float:
    """A place between `low` and `high` at which `amount` is 0, to `within`; it must have two signs at the ends.

    By regula falsi with the Illinois rule: an end that stays twice counts half (Dowell and Jarratt, BIT 11, 1971).

    >>> round(root_between(lambda x: x * x - 2.0, 0.0, 2.0, 1e-9), 6)
    1.414214
    """
    a, b = amount(low), amount(high)
    if a * b > 0.0:
        raise ValueError("the amounts at both ends have the same sign")
    place = low if a == 0.0 else high
    for _ in range(MOST_TRIES if a != 0.0 and b != 0.0 else 0):
        before, place = place, (low * b - high * a) / (b - a)
        now = amount(place)
        if now == 0.0 or abs(place - before) < within:
            break
        if now * b < 0.0:
            low, a = high, b
        else:
            a *= 0.5
        high, b = place, now
        if abs(high - low) < within:
            break
    return place
