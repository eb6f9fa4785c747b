"""Notes on a song's source and end: whether the source leaves headroom, and whether a ceiling is held at the end."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence

import msgspec

from gluvo.session.records import Session
from gluvo.steps import ChainItem, Trim, settings_of
from gluvo.steps.trim import gain_at_work, with_gain

HEADROOM = 1.0
"""dB under full scale that a source should leave."""
ROOM = 6.0
"""dB of headroom that the steps like to have."""


def with_room(session: Session, strip_id: str, true_peak: float, along: bool) -> Session:
    """The session with a strip's chain beginning at `ROOM` dB of headroom, by a Trim before all other steps; the one that
    stands there, if there is one. `true_peak`: of what comes into the chain, dBTP; `along`: thresholds after it move by
    as much as the sound does, up to the first step that holds a ceiling, so that they take what they took."""
    strip = session.strip(strip_id)
    if strip is None:
        return session
    first, gain = next(iter(strip.chain), None), round(-ROOM - true_peak, 2)
    before = gain_at_work(first)
    trim = with_gain(first, gain)
    if trim is not None:
        trim = msgspec.structs.replace(trim, on=True)
        session, rest = session.with_step(trim), strip.chain[1:]
    else:
        trim = Trim(gain=settings_of(Trim)["gain"].clamp(gain))
        session, rest = session.with_new_step(trim, strip_id), strip.chain
    if along:
        held = itertools.takewhile(lambda item: not (item.on and item.has_ceiling), rest)
        for item in held:
            session = session.with_step(item.with_level_moved(trim.gain - before))
    return session


def has_thresholds(chain: Sequence[ChainItem]) -> bool:
    """Whether a chain has steps that go by a level of their own, which a Trim before them moves them away from."""
    return any(item.with_level_moved(-1.0) != item for item in chain)


def _makes_room(session: Session) -> bool:
    """Whether the mix chain begins with a Trim that gives the steps after it room."""
    return gain_at_work(next((item for item in session.mix.chain if item.on), None)) <= -HEADROOM


def source_notes(session: Session, true_peak: float, flat: int) -> tuple[str, ...]:
    """What is worth knowing about a song's ends, in sentences; `true_peak` of the untouched song in dBTP, `flat`: how many
    flat tops its stems have."""
    notes = []
    if true_peak > 0.0:
        notes.append(f"The source goes over full scale by {true_peak:.1f} dB between samples: ask for it 6 dB softer.")
    elif true_peak > -HEADROOM and not _makes_room(session):
        notes.append(f"The source leaves {-true_peak:.1f} dB of headroom: a Trim of −6 dB first gives the steps room.")
    if flat:
        notes.append(f"The source has {flat} flat top{'s' if flat > 1 else ''}: it was clipped before it came here.")
    chain = [item for item in session.mix.chain if item.on]
    holders = [n for n, item in enumerate(chain) if item.has_ceiling]
    if not holders:
        notes.append("The mix bus has no limiter that is on: nothing holds its peaks.")
    elif holders[-1] < len(chain) - 1:
        after = ", ".join(item.title for item in chain[holders[-1] + 1 :])
        notes.append(f"{after} comes after the last limiter, and may raise peaks over its ceiling.")
    if (raised := max(map(abs, session.mix.gains))) > 1.0001:
        notes.append(f"The mix fader raises the song by {20 * math.log10(raised):.1f} dB after the last limiter.")
    return tuple(notes)
