"""The output of steps that change the tone, and what holds it."""

from __future__ import annotations

import msgspec

from gluvo.steps.settings import number, switch

OUTPUT = {"output": "hold_loudness"}
"""What is held, and by which switch."""


def output(group: str, low: float = -24.0) -> msgspec.Meta:
    """The gain after all of a step, dB."""
    return number(
        "Output", "dB", low, 24.0, "Gain after all of it. Held, it is found for you.", group=group, decimals=2, fine=0.1
    )


def hold(group: str, why: str) -> msgspec.Meta:
    """Whether the output is found; `why` ends the sentence."""
    tip = f"Sets the output so that the section is as loud after the step as before: {why}"
    return switch("Hold loudness", tip, group=group)
