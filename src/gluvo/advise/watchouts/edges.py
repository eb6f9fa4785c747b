"""`edges`: the song begins or ends in the middle of sound."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from msgspec.structs import replace

from gluvo.advise.watchouts.base import Kind, Offer, Place, Scene, WatchOut, share_of
from gluvo.dsp.kernel import Floats
from gluvo.measure.evidence import Evidence
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Span
from gluvo.session.records import Session

LIMIT, FIRST, LOOKED = -26.0, -10.0, 0.04
"""dB against the song's loudness at the end and at the beginning, where a sound may begin at once; and seconds at the edge."""


def places(scene: Scene) -> Iterable[Place]:
    fades = tuple((d.fade_in, d.fade_out, d.scope) for d in scene.session.deliverables)
    return [Place(p.strip, depends=(*p.depends, fades)) for p in scene.mix()]


def look(scene: Scene, place: Place) -> Iterable[WatchOut]:
    result, rate = scene.render.result, scene.rate
    frames, whole = round(LOOKED * rate), len(result.audio)
    if whole < 10 * frames:
        return
    loudness = result.loudness()
    if loudness <= SILENT:
        return
    rows = [d for d in scene.session.deliverables if d.scope == "song"]
    for end in (False, True):
        part = np.asarray(result.audio[whole - frames :] if end else result.audio[:frames], dtype=np.float64)
        near = slice(-frames // 8, None) if end else slice(0, 1)  # a sound may begin with the song
        peak = 20.0 * float(np.log10(max(min(_highest(part[near]), _highest(_without_drift(part)[near])), 1e-12)))
        level = peak - loudness
        faded = bool(rows) and all((d.fade_out if end else d.fade_in) > 0.0 for d in rows)
        if level < (LIMIT if end else FIRST) or faded:
            continue
        field = "fade_out" if end else "fade_in"

        def edit(session: Session, field: str = field) -> Session:
            changed = tuple(
                replace(d, **{field: 0.02 if field == "fade_in" else 0.5})
                if d.scope == "song" and not getattr(d, field)
                else d
                for d in session.deliverables
            )
            return session.replace(deliverables=changed)

        where = "end" if end else "beginning"
        wide = round(1.5 * rate)
        shown = np.asarray(result.audio[max(0, whole - wide) :] if end else result.audio[:wide], dtype=np.float64)
        envelope = np.abs(shown[: len(shown) // 256 * 256]).max(axis=1).reshape(-1, 256).max(axis=1)
        start = max(0.0, scene.seconds - 1.5) if end else 0.0
        yield WatchOut(
            "edges",
            place.strip,
            "",
            f"The song is cut off at its {where}, at {peak:.0f} dBFS.".replace("-", "−"),
            f"Its {'last' if end else 'first'} {1000 * LOOKED:.0f} ms lie in the middle of sound; a fade hides that.",
            level,
            LIMIT if end else FIRST,
            "dB",
            Span(max(0.0, scene.seconds - 3.0), scene.seconds) if end else Span(0.0, min(3.0, scene.seconds)),
            0.15 + 0.4 * share_of(level, LIMIT, 8.0),
            Evidence(np.linspace(start, start + 1.5, len(envelope)), envelope, "time", "the wave's height"),
            Offer(f"A fade at the {where} of all files of the song", edit) if rows else None,
            place=where,
        )


def _highest(x: Floats) -> float:
    return float(np.abs(x).max())


def _without_drift(x: Floats) -> Floats:
    """Without what moves more slowly than the stretch is long, such as DC and rumble, which are told as such."""
    powers = np.vander(np.linspace(-1.0, 1.0, len(x)), 3)
    return np.asarray(x - powers @ np.linalg.lstsq(powers, x, rcond=None)[0])


KIND = Kind(
    "edges",
    "delivery",
    "Cut off",
    "The highest sample of the first frame, or of the last 5 ms, of the result against its loudness; what is slower than 25 Hz "
    "left out.",
    "Recorded noise lies lower; what is higher is a tail or a note that was cut.",
    "own measure",
    places,
    look,
)
