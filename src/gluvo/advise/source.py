"""Notes on the two ends of a song: whether what came in leaves room, and whether what goes out is held."""

from __future__ import annotations

import math

from gluvo.session.records import Session

HEADROOM = 1.0
"""dB under full scale that a source should leave."""


def source_notes(session: Session, true_peak: float, flat: int) -> tuple[str, ...]:
    """What is worth knowing about a song's ends, in sentences; `true_peak` of the untouched song in dBTP, `flat`: how many
    flat tops its stems have."""
    notes = []
    if true_peak > 0.0:
        notes.append(f"The source goes over full scale by {true_peak:.1f} dB between samples: ask for it 6 dB softer.")
    elif true_peak > -HEADROOM:
        notes.append(f"The source leaves {-true_peak:.1f} dB of headroom: a Trim of −6 dB first gives the steps room.")
    if flat:
        notes.append(f"The source has {flat} flat top{'s' if flat > 1 else ''}: it was clipped before it came here.")
    chain = [item for item in session.mix.chain if item.on]
    holders = [n for n, item in enumerate(chain) if item.holds_ceiling]
    if not holders:
        notes.append("The mix bus has no limiter that is on: nothing holds its peaks.")
    elif holders[-1] < len(chain) - 1:
        after = ", ".join(item.title for item in chain[holders[-1] + 1 :])
        notes.append(f"{after} comes after the last limiter, and may raise peaks over its ceiling.")
    if (raised := max(map(abs, session.mix.gains))) > 1.0001:
        notes.append(f"The mix fader raises the song by {20 * math.log10(raised):.1f} dB after the last limiter.")
    return tuple(notes)
