"""A tonal match that works only where the song departs: each band moves by the level in its range, and starts at the level that
the references have there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import msgspec
import numpy as np

from gluvo.advise.band_aim import MovingRange
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.steps import Band, MidSideEq
from gluvo.steps.bands import MOVABLE
from gluvo.steps.settings import settings_of

AT_REST = 0.25
"""Part of its way that a cut still goes on the references, on average, and that a raise is short of coming back there."""
NEAR = 0.1
"""dB within which a threshold is found."""
RATIO, ATTACK, RELEASE = 4.0, 40.0, 300.0
"""How a band moves: slowly, as tone does and not as hits do."""
Heard = tuple[Joint, Span | None]
"""A sound, and the stretch of it that counts."""


@dataclass(frozen=True)
class Adapted:
    """What a band does over the song."""

    band: Band
    works: float
    """Share of the time, where its range is heard, in which it does half of what it may do or more."""

    def words(self) -> str:
        """In words, as the name of what it does."""
        band, most = self.band, self.band.range
        does = f"raised by {most:.1f} dB, less over" if band.gain > 0.0 else f"sinks by up to {most:.1f} dB over"
        return f"{band.freq:.0f} Hz {does} {band.threshold:.1f} dBFS ({100.0 * self.works:.0f} % of the time)".replace(
            "-", "−"
        )


def adapted(
    step: MidSideEq, song: Heard, references: Sequence[Heard], progress: Progress = no_progress
) -> tuple[MidSideEq, tuple[Adapted, ...]]:
    """The equaliser with bands that move: what is cut sinks only where the song's range is louder than the references' usually
    is at equal loudness, and what is raised comes back where it is as loud. None moves further than the static band's gain.

    A threshold is the one for which the band, with its own detector and times, rests on the references all but `AT_REST`.
    """
    heard = [(joint, span, joint.loudness(span)) for joint, span in references]
    own = song[0].loudness(song[1])
    heard = [row for row in heard if row[2] > SILENT]
    if own <= SILENT or not heard:
        return step, ()
    low, high = (settings_of(Band)["threshold"].low, settings_of(Band)["threshold"].high)
    found, made = [], list(step.bands)
    for n, band in enumerate(step.bands):
        progress(n / len(step.bands))
        if band.shape not in MOVABLE or band.gain == 0.0:
            continue
        most = abs(band.gain)
        moving = msgspec.structs.replace(
            band,
            gain=max(0.0, band.gain),
            dynamic=True,
            moves="down",
            range=most,
            ratio=RATIO,
            attack=ATTACK,
            release=RELEASE,
        )
        wanted = most * (AT_REST if band.gain < 0.0 else 1.0 - AT_REST)
        usual = [_resting(moving, joint, span, wanted, low, high) + own - level for joint, span, level in heard]
        moving = msgspec.structs.replace(moving, threshold=round(min(high, max(low, float(np.mean(usual)))), 1))
        made[n] = moving
        moves = np.abs(_range(moving, *song).moves(step.strength))
        past = float((moves > 0.5 * most).mean()) if len(moves) else 0.0
        found.append(Adapted(moving, past if band.gain < 0.0 else 1.0 - past))
    return step.replace(bands=tuple(made)), tuple(found)


def _range(band: Band, joint: Joint, span: Span | None) -> MovingRange:
    return MovingRange(MidSideEq(bands=(band,)), band, joint, span)


def _resting(band: Band, joint: Joint, span: Span | None, wanted: float, low: float, high: float) -> float:
    """The threshold for which a band moves by so many dB on average, by bisection: it moves the less, the higher that is."""
    heard = _range(band, joint, span)
    while high - low > NEAR:
        middle = 0.5 * (low + high)
        moves = heard.moves(100.0, middle)
        more = len(moves) and float(np.abs(moves).mean()) > wanted
        low, high = (middle, high) if more else (low, middle)
    return 0.5 * (low + high)
