"""Songs side by side as a record: how each stands against the others, in figures and words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gluvo.dsp.kernel import Floats
from gluvo.session.album import Album, KnownSong

CENTRES = tuple(31.5 * 2.0 ** (n / 3.0) for n in range(29))
"""Hz of the thirds of an octave that tone is told by."""
SOFTER, DARKER, LITTLE = 1.0, 1.0, 0.3
"""LU and dB from which a song differs from its neighbours in words; and dB under which it is near all others."""
BRIGHT = 2000.0
"""Hz above which it is bright."""


@dataclass(frozen=True)
class Standing:
    """How a song stands on the record."""

    gain: float
    """dB by which it is moved, its lift among it."""
    loudness: float
    """LUFS, integrated, as it will stand."""
    true_peak: float
    """dBTP, as it will stand."""
    short: float
    """dB that it could not be raised by, since its peaks would pass the target's."""
    tone: Floats
    """dB in each of `CENTRES` over the mean of the other songs; zeros where there is none."""
    words: str
    """What differs, in a few words."""


def level_of(known: KnownSong, by: str) -> float:
    """What counts as a song's level, LUFS."""
    whole = known.figures.get("integrated", -70.0)
    if by == "loudest":
        return known.figures.get("max_short_term", whole)
    return known.chorus if by == "chorus" and known.chorus is not None else whole


def standings(album: Album) -> list[Standing | None]:
    """How each song stands; None for one that has not been measured."""
    known = [song.known for song in album.songs]
    levels = [level_of(k, album.by) for k in known if k is not None]
    loudest = max(levels, default=0.0)
    found: list[tuple[float, float] | None] = []
    for song, one in zip(album.songs, known, strict=True):
        if one is None:
            found.append(None)
            continue
        wanted = song.lift
        if album.levels == "keep":
            wanted += album.target.loudness - loudest
        elif album.levels == "one":
            wanted += album.target.loudness - level_of(one, album.by)
        room = album.target.true_peak - one.figures.get("true_peak", 0.0)
        moved = song.lift != 0.0 or album.levels != "as"
        given = min(wanted, max(room, 0.0)) if moved and wanted > 0.0 else wanted
        found.append((given, wanted - given))
    tones = [np.asarray(k.tone) if k is not None and len(k.tone) == len(CENTRES) else None for k in known]
    louds = [
        k.figures.get("integrated", -70.0) + g[0] if k is not None and g is not None else None
        for k, g in zip(known, found, strict=True)
    ]
    return [
        None
        if one is None or g is None
        else Standing(
            g[0],
            one.figures.get("integrated", -70.0) + g[0],
            one.figures.get("true_peak", 0.0) + g[0],
            g[1],
            _against(tones, n),
            _words(n, louds, tones, g[1]),
        )
        for n, (one, g) in enumerate(zip(known, found, strict=True))
    ]


def _against(tones: Sequence[Floats | None], n: int) -> Floats:
    own, others = tones[n], [t for m, t in enumerate(tones) if m != n and t is not None]
    return own - np.mean(others, axis=0) if own is not None and others else np.zeros(len(CENTRES))


def _brightness(tone: Floats) -> float:
    """dB of what lies above `BRIGHT` against the rest, as ears weigh both: the means of thirds of an octave."""
    high = np.asarray(CENTRES) >= BRIGHT
    return float(np.mean(tone[high][:10]) - np.mean(tone[~high][3:]))


def _words(n: int, louds: Sequence[float | None], tones: Sequence[Floats | None], short: float) -> str:
    beside = [m for m in (n - 1, n + 1) if 0 <= m < len(louds)]
    told = []
    own, near = louds[n], [louds[m] for m in beside if louds[m] is not None]
    if own is not None and near:
        change = own - float(np.mean(near))  # type: ignore[arg-type]
        if abs(change) >= SOFTER:
            told.append(f"{abs(change):.1f} LU {'louder' if change > 0 else 'softer'}")
    tone, around = tones[n], [tones[m] for m in beside if tones[m] is not None]
    if tone is not None and around:
        change = _brightness(tone) - float(np.mean([_brightness(t) for t in around if t is not None]))
        if abs(change) >= DARKER:
            told.append(f"{abs(change):.1f} dB {'brighter' if change > 0 else 'darker'}")
    whose = "its neighbour" if len(beside) == 1 else "its neighbours"
    words = f"{' and '.join(told)} than {whose}" if told else "near its neighbours" if near else ""
    if short > 0.05:
        words += f"{'; ' if words else ''}{short:.1f} dB short: its peaks reach the ceiling"
    return words
