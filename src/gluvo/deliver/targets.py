"""Targets: where loudness and peaks should end up, and whether they did."""

from __future__ import annotations

from gluvo.measure.figures import Figures
from gluvo.session.records import Target

TARGETS: tuple[Target, ...] = (
    Target(name="Streaming", loudness=-14.0, true_peak=-1.0),
    Target(name="Loud streaming", loudness=-10.0, true_peak=-1.0),
    Target(name="Broadcast", loudness=-23.0, true_peak=-1.0),
    Target(name="Club", loudness=-8.0, true_peak=-0.3),
)

PEAK_TOLERANCE = 0.05
"""dB that a measured true peak may lie over a ceiling: interpolators differ by this much."""


def target_named(name: str) -> Target | None:
    """A target by its name, however it is capitalised."""
    return next((t for t in TARGETS if t.name.lower() == name.strip().lower()), None)


def shortfalls(figures: Figures, target: Target) -> list[str]:
    """Why a piece of audio does not meet a target; nothing if it does."""
    reasons = []
    miss = figures.integrated - target.loudness
    if abs(miss) > target.tolerance:
        reasons.append(
            f"loudness is {figures.integrated:.1f} LUFS, {abs(miss):.1f} LU {'over' if miss > 0 else 'under'} "
            f"the target of {target.loudness:.1f} LUFS"
        )
    over = figures.true_peak - target.true_peak
    if over > PEAK_TOLERANCE:
        reasons.append(
            f"true peak is {figures.true_peak:.2f} dBTP, {over:.2f} dB over the limit of {target.true_peak:.1f} dBTP"
        )
    return [reason.replace("-", "−") for reason in reasons]
