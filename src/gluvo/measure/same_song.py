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
MOST_OFF = 1e-3
"""The part by which the speed may be off: by more it is another performance, or was made into one."""
SPEEDS = tuple(round(sign * 2e-4 * n, 4) for n in range(1, 6) for sign in (1.0, -1.0))
"""That are tried where it is not found at the song's own: a piece is found a tenth of a thousandth beside them, too."""
STEADY = 0.0003
"""Seconds of drift over a whole song that are not told from none: a master's lags are no more exact."""
DIFFERS = 0.5
"""Of the usual correlation: a second under it differs."""


@dataclass(frozen=True)
class SameSong:
    """How a sound lies in time against a song, and how it differs."""

    frames: int
    """By how many frames the beginning of the song comes later in the other sound."""
    rate: int
    inverted: bool
    gain: float
    """dB by which it is louder."""
    correlation: float
    """Of both, in the middle of the pieces that were looked at."""
    differs: tuple[Span, ...]
    """Stretches of the song in which it is something else."""
    slower: float = 0.0
    """The part by which it takes longer than the song; negative where it is faster."""

    @property
    def seconds(self) -> float:
        """By how much the beginning of the song comes later in the other sound."""
        return self.frames / self.rate

    def there(self, seconds: float) -> float:
        """Where a moment of the song lies in the other sound, both in s."""
        return self.seconds + seconds * (1.0 + self.slower)


def same_song(song: Sliced, other: Sliced, rate: int, progress: Progress = no_progress) -> SameSong | None:
    """Where a song lies in another sound of that rate, both (frames, 2); None where it is another song, runs at a speed
    that is off by more than `MOST_OFF`, or is longer than `LONGEST`.

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
    hz, places = rate / step, _loud_places(low, size)
    agreed = _in_line(low, theirs, places, size, hz, 0.0, lambda d: progress(0.4 * d))
    if agreed is None:
        speed = _likely_speed(low, theirs, places, size, lambda d: progress(0.4 + 0.3 * d))
        agreed = _in_line(low, theirs, places, size, hz, speed, lambda d: progress(0.7 + 0.2 * d))
    if agreed is None:
        return None
    speed, _ = _line(agreed[:, 0], agreed[:, 1], STEADY * hz / len(low))
    found = [_fine(song, other, round(at * step), round(lag * step), step, rate, speed) for at, lag, _ in agreed]
    lags, gains, alike = np.array(found).T
    slower, begins = _line(agreed[:, 0] * step, lags, STEADY * rate / len(song))
    if abs(slower) > MOST_OFF:
        return None
    progress(0.9)
    return SameSong(
        round(begins),
        rate,
        float(np.median(alike)) < 0.0,
        float(20.0 * np.log10(max(np.median(np.abs(gains)), 1e-9))),
        float(np.median(np.abs(alike))),
        _differing(low, _in_step(theirs, begins / step, slower, len(low)), hz),
        slower,
    )


def _line(places: Floats, lags: Floats, steady: float) -> tuple[float, float]:
    """Slope and beginning of the line on which lags lie (Theil–Sen); slopes up to `steady` are none."""
    from scipy import stats  # as signal, below

    slope = float(stats.theilslopes(lags, places).slope) if np.ptp(places) else 0.0
    slope = slope if abs(slope) > steady else 0.0
    return slope, float(np.median(lags - slope * places))


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


def _in_line(
    low: Floats, theirs: Floats, places: list[int], size: int, hz: float, speed: float, progress: Progress
) -> Floats | None:
    """Place, lag and strength of the pieces that lie on one line of lags, where enough of them do at about a speed; all
    at the low rate."""
    alike = list[Singles]()
    for n, at in enumerate(places):
        progress(n / len(places))
        alike.append(_likeness(_piece(low, at, size, speed), theirs))
    middle = _common_lag(places, alike, len(low), speed)
    room = round((SPEEDS[0] - SPEEDS[1]) / 4.0 * len(low) + NEAR * hz)
    found = [(at, *_near(c, at, middle + round(speed * at), room)) for at, c in zip(places, alike, strict=True)]
    found = [row for row in found if abs(row[2]) >= ALIKE]
    least = max(3, AGREE * len(places))
    if len(found) < least:
        return None
    agreed = _agreed(np.array(found, dtype=np.float64), NEAR * hz)
    return agreed if len(agreed) >= least else None


def _likely_speed(low: Floats, theirs: Floats, places: list[int], size: int, progress: Progress) -> float:
    """The one of `SPEEDS` at which a few pieces are found best, wherever they are."""
    few, best = places[1::3], (0.0, 0.0)
    for n, speed in enumerate(SPEEDS):
        progress(n / len(SPEEDS))
        found = [float(np.abs(_likeness(_piece(low, at, size, speed), theirs)).max(initial=0.0)) for at in few]
        best = max(best, (float(np.median(found)), speed))
    return best[1]


def _piece(low: Floats, at: int, size: int, speed: float) -> Floats:
    """A piece of a sound as one that is slower by `speed` has it."""
    if speed == 0.0:
        return low[at : at + size]
    return np.interp(
        at + np.arange(size) / (1.0 + speed), np.arange(at, min(len(low), at + size + 4)), low[at : at + size + 4]
    )


def _common_lag(places: list[int], alike: list[Singles], length: int, speed: float) -> int:
    """The lag of the song's beginning at which all pieces together are found best at a speed; of several as good, as where
    music goes round, the least."""
    total = np.zeros(2 * max(length, len(alike[0]) + length) + 1)
    zero = len(total) // 2
    for at, curve in zip(places, alike, strict=True):
        first = zero - at - round(speed * at)
        total[first : first + len(curve)] += np.abs(curve)
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


def _agreed(found: Floats, near: float) -> Floats:
    """The rows (place, lag, strength) that lie on one line of lags over places: most of them, of all lines through two."""
    best = found[:0]
    for i in range(len(found)):
        for j in range(i, len(found)):
            run = found[j, 0] - found[i, 0]
            slope = (found[j, 1] - found[i, 1]) / run if run else 0.0
            if abs(slope) > 2.0 * MOST_OFF:
                continue
            there = found[np.abs(found[:, 1] - found[i, 1] - slope * (found[:, 0] - found[i, 0])) <= near]
            if len(there) > len(best):
                best = there
    return best


def _fine(
    song: Sliced, other: Sliced, at: int, lag: int, step: int, rate: int, speed: float
) -> tuple[float, float, float]:
    """The lag to the frame near one that is known roughly; the factor of the other sound there, and its correlation."""
    size, room = round(FINE_SECONDS * rate), 4 * step
    first = max(0, at + lag - room)
    mono = np.asarray(song[at : at + size + 4], dtype=np.float64).mean(axis=1)
    piece = _piece(mono, 0, min(size, len(mono)), speed)
    inside = np.asarray(other[first : at + lag + size + room], dtype=np.float64).mean(axis=1)
    if len(inside) < len(piece) or not len(piece):
        return float(lag), 1.0, 0.0
    products = _correlated(inside, piece)
    best = int(np.argmax(np.abs(products)))
    there, product = inside[best : best + len(piece)], float(products[best])
    energy = max(float(piece @ piece), 1e-30)
    return float(first + best - at), product / energy, product / max(float(np.sqrt(energy * (there @ there))), 1e-30)


def _in_step(theirs: Floats, lag: float, slower: float, count: int) -> Floats:
    """So much of the other sound as lies beside the song, in step with it; silence where there is none."""
    there = lag + (1.0 + slower) * np.arange(count)
    return np.interp(there, np.arange(len(theirs)), theirs, left=0.0, right=0.0)


def _differing(low: Floats, theirs: Floats, hz: float) -> tuple[Span, ...]:
    """The stretches of the song, in whole seconds, in which the other sound, which is in step with it, is not like it."""
    size = round(hz)
    count = len(low) // size
    alike = np.ones(count)
    for n in range(count):
        a, b = low[n * size : (n + 1) * size], theirs[n * size : (n + 1) * size]
        if float(a @ a) < 1e-7 * size:
            continue  # silence is like anything
        alike[n] = abs(float(a @ b)) / max(1e-20, float(np.sqrt((a @ a) * (b @ b))))
    usual = float(np.median(alike)) if count else 1.0
    off = np.concatenate([[0], (alike < DIFFERS * usual).astype(np.int8), [0]])
    edges = np.flatnonzero(np.diff(off)).reshape(-1, 2)
    return tuple(Span(float(a), float(b)) for a, b in edges)
