"""Settings that several steps have alike."""

from __future__ import annotations

from typing import Literal

import msgspec
import numpy as np

from gluvo.dsp.kernel import Floats
from gluvo.steps.settings import choice, number

StereoComponent = Literal["stereo", "mid", "side"]
"""All of a stereo sound, what both sides share, or what differs between them."""


def works_on(tip: str, group: str = "") -> msgspec.Meta:
    """Which part a step works on; see `StereoComponent`."""
    return choice("Works on", (("stereo", "stereo"), ("mid", "mid"), ("side", "side")), tip, group=group)


def mix(tip: str, group: str = "") -> msgspec.Meta:
    """How much of what a step makes is in the result, %."""
    return number("Mix", "%", 0.0, 100.0, tip, group=group, decimals=0, fine=1.0)


def amount(of: str, group: str = "") -> msgspec.Meta:
    """How far something goes from the sound as it came to what was made of it, and beyond, %."""
    return number(
        "Amount",
        "%",
        0.0,
        150.0,
        f"How much of {of} is in the result: at 0 the sound as it came, at 100 what was made of it, over 100 more of the same "
        "change. Both are in step to the sample; no threshold is moved.",
        group=group,
        decimals=0,
        fine=1.0,
    )


def columns_of(part: StereoComponent) -> Floats:
    """Which of two columns are meant, 0 or 1 each: left and right for stereo, else mid and side.

    >>> columns_of("side").tolist()
    [0.0, 1.0]
    """
    return np.array([float(part != "side"), float(part != "mid")])
