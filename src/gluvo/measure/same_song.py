"""Whether two sounds are the same song, such as a mix and an earlier master of it: where one lies in the other, and how they
differ."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from gluvo.dsp.kernel import Floats, Singles
from gluvo.measure.overview import Sliced
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress

COARSE_HZ = 2000
"""Frames a second at which a song is looked for in another one."""
PIECES, PIECE_SECONDS, FINE_SECONDS = 12, 3.0, 0.5
"""So many pieces, of so many seconds, are looked for; and in as much of each the lag is found to the frame."""
ALIKE, AGREE = 0.4, 0.6
"""The correlation from which a piece counts as found, and the part of the pieces that must agree on where they lie."""
NEAR = 0.003
"""Seconds within which pieces agree."""
LONGEST = 900.0
"""Seconds over which nothing is looked for: no song is as long, and it would take minutes and much memory."""
MOST_OFF = 1e-4
"""The part by which the speed may be off: with more a song cannot be laid in time to the frame."""
DIFFERS = 0.5
"""Of the usual correlation: a second under it differs."""


@dataclass(frozen=True)
class SameSong:
    """How a sound lies in time against a song, and how it differs."""

    frames: int
    """By how many frames a moment of the song comes later in the other sound."""
    rate: int
    inverted: bool
    gain: float
    """dB by which it is louder."""
    correlation: float
    """Of both, in the middle of the pieces that were looked at."""
    differs: tuple[Span, ...]
    """Stretches of the song in which it is something else."""

    @property
    def seconds(self) -> float:
        return self.frames / self.rate


def same_song(song: Sliced, other: Sliced, rate: int, progress: Progress = no_progress) -> SameSong | None:
    """Where a song lies in another sound of that rate, both (frames, 2); None where it is another song, runs at another
    speed, or is longer than `LONGEST`.

    Pieces of the song are looked for by normalised cross-correlation (Lewis, 'Fast normalized cross-correlation', 1995) at
    a low rate; those that agree on a lag, or on lags that drift with a speed, find it. The lag is then taken to the frame.
    """
    step = max(1, rate // COARSE_HZ)
    if max(len(song), len(other)) > LONGEST * rate:
        return None
    low, theirs = _coarse(song, step), _coarse(other, step)
    size = round(PIECE_SECONDS * rate / step)
    if len(low) < 2 * size or len(theirs) < 2 * size:
        return None
    places, alike = _loud_places(low, size), list[Singles]()
    for n, at in enumerate(places):
        progress(0.8 * n / len(places))
        alike.append(_likeness(low[at : at + size], theirs))
    middle = _common_lag(places, alike, len(low))
    room = round(MOST_OFF * len(low) + NEAR * rate / step)
    found = [(at, *_near(curve, at, middle, room)) for at, curve in zip(places, alike, strict=True)]
    found = [row for row in found if abs(row[2]) >= ALIKE]
    if len(found) < max(3, AGREE * len(places)):
        return None
    agreed = _agreed(np.array(found, dtype=np.float64), NEAR * rate / step)
    if agreed is None or len(agreed) < max(3, AGREE * len(places)):
        return None
    fine = np.array([_fine(song, other, round(at * step), round(lag * step), step, rate) for at, lag, _ in agreed])
    drift = np.polyfit(agreed[:, 0] * step, fine[:, 0], 1)[0] if np.ptp(agreed[:, 0]) else 0.0
    if abs(drift) > MOST_OFF:
        return None
    frames = int(np.median(fine[:, 0]))
    inverted = float(np.median(fine[:, 2])) < 0.0
    progress(0.9)
    return SameSong(
        frames,
        rate,
        inverted,
        float(20.0 * np.log10(max(np.median(np.abs(fine[:, 1])), 1e-9))),
        float(np.median(np.abs(fine[:, 2]))),
        _differing(low, theirs, frames / step, rate / step),
    )


def _coarse(x: Sliced, step: int) -> Floats:
    """The mono sound at a low rate: means of so many frames."""
    count = len(x) // step
    found = np.zeros(count)
    each = max(1, 1_000_000 // step)
    for first in range(0, count, each):
        part = np.asarray(x[first * step : min(count, first + each) * step], dtype=np.float64).mean(axis=1)
        found[first : first + len(part) // step] = part.reshape(-1, step).mean(axis=1)
    return found


def _loud_places(x: Floats, size: int) -> list[int]:
    """Where to look: the loudest piece of each of `PIECES` even parts."""
    places = []
    edges = np.linspace(0, len(x) - size, PIECES + 1).astype(int)
    power = np.concatenate([[0.0], np.cumsum(x**2)])
    for a, b in itertools.pairwise(edges):
        starts = np.arange(a, max(a + 1, b), max(1, size // 8))
        places.append(int(starts[np.argmax(power[starts + size] - power[starts])]))
    return sorted(set(places))


def _likeness(piece: Floats, inside: Floats) -> Singles:
    """How much a piece is like what begins at each place of a sound, −1 to 1."""
    products = _correlated(inside, piece)
    power = np.concatenate([[0.0], np.cumsum(inside**2)])
    local = power[len(piece) :] - power[: -len(piece)]
    floor = 1e-4 * float(local.max(initial=0.0)) + 1e-20
    alike = products / np.sqrt(np.maximum(local, floor) * float(piece @ piece) + 1e-30)
    return alike.astype(np.float32)  # one of these for each piece is kept


def _correlated(inside: Floats, piece: Floats) -> Floats:
    """The products of a piece with what begins at each place of a sound."""
    from scipy import signal  # it takes long to load, and nothing that opens a window waits for this

    return np.asarray(signal.correlate(inside, piece, mode="valid", method="fft"))


def _common_lag(places: list[int], alike: list[Singles], length: int) -> int:
    """The lag at which all pieces together are found best; of several as good, as where music goes round, the least."""
    total = np.zeros(2 * max(length, len(alike[0]) + length) + 1)
    zero = len(total) // 2
    for at, curve in zip(places, alike, strict=True):
        total[zero - at : zero - at + len(curve)] += np.abs(curve)
    good = np.flatnonzero(total >= 0.97 * total.max())
    best = good[np.argmin(np.abs(good - zero))]
    near = slice(max(0, best - 8), best + 9)
    return int(near.start + np.argmax(total[near]) - zero)


def _near(curve: Singles, at: int, lag: int, room: int) -> tuple[int, float]:
    """Where a piece is found best near a lag, and how well."""
    first = max(0, at + lag - room)
    part = curve[first : max(first, at + lag + room + 1)]
    if not len(part):
        return lag, 0.0
    best = int(np.argmax(np.abs(part)))
    return first + best - at, float(part[best])


def _agreed(found: Floats, near: float) -> Floats | None:
    """The rows (place, lag, strength) that lie on one line of lags over places: most of them, of all lines through two."""
    best: Floats | None = None
    for i in range(len(found)):
        for j in range(i, len(found)):
            run = found[j, 0] - found[i, 0]
            slope = (found[j, 1] - found[i, 1]) / run if run else 0.0
            if abs(slope) > 20.0 * MOST_OFF:
                continue
            there = found[np.abs(found[:, 1] - found[i, 1] - slope * (found[:, 0] - found[i, 0])) <= near]
            if best is None or len(there) > len(best):
                best = there
    return best


def _fine(song: Sliced, other: Sliced, at: int, lag: int, step: int, rate: int) -> tuple[float, float, float]:
    """The lag to the frame near one that is known roughly; the factor of the other sound there, and its correlation."""
    size, room = round(FINE_SECONDS * rate), 4 * step
    first = max(0, at + lag - room)
    piece = np.asarray(song[at : at + size], dtype=np.float64).mean(axis=1)
    inside = np.asarray(other[first : at + lag + size + room], dtype=np.float64).mean(axis=1)
    if len(inside) < len(piece) or not len(piece):
        return float(lag), 1.0, 0.0
    products = _correlated(inside, piece)
    best = int(np.argmax(np.abs(products)))
    there, product = inside[best : best + len(piece)], float(products[best])
    energy = max(float(piece @ piece), 1e-30)
    return float(first + best - at), product / energy, product / max(float(np.sqrt(energy * (there @ there))), 1e-30)


def _differing(low: Floats, theirs: Floats, lag: float, hz: float) -> tuple[Span, ...]:
    """The stretches of the song, in whole seconds, in which the other sound is not like it."""
    size, shift = round(hz), round(lag)
    count = len(low) // size
    alike = np.ones(count)
    for n in range(count):
        a = low[n * size : (n + 1) * size]
        first = n * size + shift
        b = theirs[max(0, first) : max(0, first + size)]
        if float(a @ a) < 1e-7 * size:
            continue  # silence is like anything
        if len(b) < size:
            alike[n] = 0.0
            continue
        alike[n] = abs(float(a @ b)) / max(1e-20, float(np.sqrt((a @ a) * (b @ b))))
    usual = float(np.median(alike)) if count else 1.0
    off = np.concatenate([[0], (alike < DIFFERS * usual).astype(np.int8), [0]])
    edges = np.flatnonzero(np.diff(off)).reshape(-1, 2)
    return tuple(Span(float(a), float(b)) for a, b in edges)
