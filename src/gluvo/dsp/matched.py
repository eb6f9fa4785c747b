"""Second-order sections whose magnitude follows an analogue prototype up to the top of hearing.

The bilinear transform squeezes everything above the corner against the Nyquist frequency: bells close to it come out
too narrow, shelves too early. M. Vicanek ('Matched second order digital filters', 2016) matches the magnitude
instead: with ``φ0 = cos²(ω/2)``, ``φ1 = sin²(ω/2)`` and ``φ2 = 4 φ0 φ1`` the squared magnitude of a section is
``(B0 φ0 + B1 φ1 + B2 φ2) / (A0 φ0 + A1 φ1 + A2 φ2)``, and its coefficients follow from the six numbers. His closed
forms pin three points; here the whole range is fitted, starting from his poles (impulse invariance), since the closed
forms are up to 1.4 dB off for wide bells near the top.
"""

from __future__ import annotations

import functools
import math

import numpy as np

from gluvo.dsp.kernel import Floats

Analogue = tuple[tuple[float, float, float], tuple[float, float, float]]
"""A prototype section ``(n2 s² + n1 s + n0) / (d2 s² + d1 s + d0)`` with its corner at ``|s| = 1``."""

LOWEST, HIGHEST = 10.0, 20_000.0
"""Hz; between these the prototype is followed."""
DEEPEST = 60.0
"""dB under the top: what lies further down need not be followed."""
GOOD_ENOUGH = 0.02
"""dB off at which a bilinear transform is as good as anything."""
TRIES, ROUNDS = 12, 4


def bell_prototype(gain_db: float, q: float) -> Analogue:
    a = 10.0 ** (gain_db / 40.0)
    return (1.0, a / q, 1.0), (1.0, 1.0 / (a * q), 1.0)


def low_shelf_prototypes(gain_db: float, order: int, q: float = math.sqrt(0.5)) -> list[Analogue]:
    """A Butterworth shelf of `order` × 6 dB per octave, half its gain (in dB) at the corner.

    ``|H|² = (ω²ⁿ + g) / (ω²ⁿ + 1/g)``; see Holters and Zölzer, 'Parametric higher-order shelving filters', EUSIPCO
    2006. `q` other than 0.71 sharpens or dulls the pair of poles and zeros next to the corner.
    """
    spread = 10.0 ** (gain_db / 20.0 / (2 * order))
    sections: list[Analogue] = []
    for k, damping in _dampings(order, q):
        if k:
            sections.append(((1.0, damping * spread, spread**2), (1.0, damping / spread, spread**-2)))
        else:
            sections.append(((0.0, 1.0, spread), (0.0, 1.0, 1.0 / spread)))
    return sections


def high_shelf_prototypes(gain_db: float, order: int, q: float = math.sqrt(0.5)) -> list[Analogue]:
    """As `low_shelf_prototypes`, mirrored at the corner."""
    return [
        (n[::-1], d[::-1]) if n[0] else (_mirrored(n), _mirrored(d)) for n, d in low_shelf_prototypes(gain_db, order, q)
    ]


def low_cut_prototypes(order: int, q: float = math.sqrt(0.5)) -> list[Analogue]:
    """A Butterworth high-pass; `q` other than 0.71 makes a bump or a dip at the corner."""
    return [
        ((1.0, 0.0, 0.0), (1.0, damping, 1.0)) if pair else ((0.0, 1.0, 0.0), (0.0, 1.0, 1.0))
        for pair, damping in _dampings(order, q)
    ]


def high_cut_prototypes(order: int, q: float = math.sqrt(0.5)) -> list[Analogue]:
    """A Butterworth low-pass."""
    return [
        ((0.0, 0.0, 1.0), (1.0, damping, 1.0)) if pair else ((0.0, 0.0, 1.0), (0.0, 1.0, 1.0))
        for pair, damping in _dampings(order, q)
    ]


def notch_prototype(q: float) -> Analogue:
    return (1.0, 0.0, 1.0), (1.0, 1.0 / q, 1.0)


def band_pass_prototype(q: float) -> Analogue:
    return (0.0, 1.0 / q, 0.0), (1.0, 1.0 / q, 1.0)


def _dampings(order: int, q: float) -> list[tuple[int, float]]:
    """``(1, 1/Q)`` for every pair of a Butterworth filter's poles, ``(0, 0)`` for the single one of an odd order."""
    rows = [(1, 2.0 * math.sin(math.pi * (2 * k + 1) / (2 * order))) for k in range(order // 2)]
    if rows:
        rows[0] = (1, rows[0][1] * math.sqrt(0.5) / q)
    return rows + ([(0, 0.0)] if order % 2 else [])


def _mirrored(p: tuple[float, float, float]) -> tuple[float, float, float]:
    """``s → 1/s`` for a first-order part."""
    return 0.0, p[2], p[1]


def analogue_response(prototype: Analogue, freq: float, freqs: Floats) -> np.ndarray:
    """The prototype's complex response at `freqs` Hz, its corner at `freq`."""
    s = 1j * np.asarray(freqs) / freq
    n, d = prototype
    return np.asarray((n[0] * s * s + n[1] * s + n[2]) / (d[0] * s * s + d[1] * s + d[2]))


@functools.lru_cache(maxsize=4096)
def _matched(prototype: Analogue, freq: float, rate: int) -> tuple[float, ...]:
    """See `matched`; a tuple, so that it can be kept."""
    top = min(HIGHEST, 0.47 * rate)
    close = freq * 2.0 ** np.linspace(-1.0, 1.0, 81)
    steep = freq * 2.0 ** np.linspace(-0.06, 0.06, 41)  # where a narrow bell is all there is
    freqs = np.unique(np.concatenate([np.geomspace(LOWEST, top, 120), close[close < top], steep[steep < top]]))
    wanted = 20.0 * np.log10(np.maximum(np.abs(analogue_response(prototype, freq, freqs)), 1e-12))
    counted = wanted > wanted.max() - DEEPEST
    problem = _Fit(prototype, freq, rate, freqs[counted], wanted[counted])
    best = _bilinear(prototype, freq, rate)
    off = problem.off(best)
    if off > GOOD_ENOUGH:
        fitted = problem.solved()
        if problem.off(fitted) < off:
            best = fitted
    return tuple(float(v) for v in best)


def matched(prototype: Analogue, freq: float, rate: int) -> Floats:
    """The section, ``b0 b1 b2 1 a1 a2``, whose magnitude follows a prototype with its corner at `freq` Hz.

    >>> bell = matched(bell_prototype(6.0, 1.0), 12000.0, 44100)
    >>> z = np.exp(-2j * np.pi * 12000.0 / 44100 * np.arange(3))
    >>> bool(abs(20 * np.log10(abs((bell[:3] @ z) / (bell[3:] @ z))) - 6.0) < 0.1)
    True
    """
    return np.array(_matched(prototype, freq, rate))


def _bilinear(prototype: Analogue, freq: float, rate: int) -> Floats:
    k = 1.0 / math.tan(math.pi * min(freq, 0.49 * rate) / rate)

    def side(p: tuple[float, float, float]) -> Floats:
        if not prototype[1][0]:  # first order
            return np.array([p[2] + p[1] * k, p[2] - p[1] * k, 0.0])
        a, b, c = p[0] * k * k, p[1] * k, p[2]
        return np.array([a + b + c, 2.0 * (c - a), a - b + c])

    b, a = side(prototype[0]), side(prototype[1])
    return np.concatenate([b, a]) / a[0]


class _Fit:
    """Fits a section to a magnitude, by Levenberg and Marquardt on the error in dB.

    A polynomial ``c0 + c1 z⁻¹ + c2 z⁻²`` is told by its values at 0 Hz, ``α = c0 + c1 + c2``, and at the Nyquist
    frequency, ``β = c0 − c1 + c2``, and by ``r = c0 − c2``. For any positive three all its roots lie inside the unit
    circle (Jury), so that the logarithms of β and r can be searched freely; α is pinned by the gain at 0 Hz.
    """

    def __init__(self, prototype: Analogue, freq: float, rate: int, freqs: Floats, wanted: Floats) -> None:
        n, d = prototype
        self.wanted = wanted
        upper = np.sin(np.pi * freqs / rate) ** 2
        self.phi = np.stack([1.0 - upper, upper, 4.0 * upper * (1.0 - upper)], axis=1)
        self.first_order = not d[0]
        zeros_at_dc = 0 if n[2] else 1 if n[1] else 2
        on_circle = bool(n[0] and n[2]) and not n[1]
        a = _start(d, freq, rate)
        b = _start(n, freq, rate) if n[2] else np.array([0.0, 1.0, 1.0])
        b[0] = abs(n[2] / d[2]) * a[0]
        if on_circle:  # the zeros stay at the corner
            c = -2.0 * math.cos(2.0 * math.pi * min(freq, 0.499 * rate) / rate)
            b = np.array([1.0, (2.0 - c) / (2.0 + c), 0.0]) * a[0]
        elif zeros_at_dc == 2:
            b[2] = 0.0
        self.start = np.concatenate([b, a]) / a[0]
        free = [not on_circle, not (self.first_order or on_circle or zeros_at_dc == 2), True, not self.first_order]
        self.free = np.array([1, 2, 4, 5])[np.array(free)]

    def squares(self, three: Floats) -> Floats:
        alpha, beta, r = three
        if self.first_order:
            return np.array([alpha**2, beta**2, 0.0])
        return np.array([alpha**2, beta**2, r**2 - 0.25 * (alpha + beta) ** 2])

    def levels(self, six: Floats) -> tuple[Floats, Floats, Floats]:
        """The level in dB, and the two squared magnitudes whose ratio it is."""
        above = np.maximum(self.phi @ self.squares(six[:3]), 1e-30)
        below = np.maximum(self.phi @ self.squares(six[3:]), 1e-30)
        return 10.0 * np.log10(above / below), above, below

    def slopes(self, six: Floats, above: Floats, below: Floats) -> Floats:
        """How the level in dB follows each free logarithm."""
        columns = []
        for place in self.free:
            alpha, beta, r = six[:3] if place < 3 else six[3:]
            middle = 0.0 if self.first_order else 0.5 * (alpha + beta)
            if place % 3 == 1:
                change = 2.0 * beta**2 * self.phi[:, 1] - middle * beta * self.phi[:, 2]
            else:
                change = 2.0 * r**2 * self.phi[:, 2]
            columns.append(change / above if place < 3 else -change / below)
        return np.stack(columns, axis=1) * 10.0 / math.log(10.0)

    def solved(self) -> Floats:
        six, damping = self.start.copy(), 1e-2
        weights = np.ones(len(self.wanted))
        for rounds in range(ROUNDS):
            level, above, below = self.levels(six)
            error = (level - self.wanted) * weights
            for _ in range(TRIES):
                slopes = self.slopes(six, above, below) * weights[:, None]
                square = slopes.T @ slopes
                move = np.linalg.solve(square + damping * np.diag(np.diag(square) + 1e-9), -slopes.T @ error)
                tried = six.copy()
                tried[self.free] *= np.exp(np.clip(move, -2.0, 2.0))
                level, new_above, new_below = self.levels(tried)
                new_error = (level - self.wanted) * weights
                if new_error @ new_error < error @ error:
                    gained = 1.0 - (new_error @ new_error) / (error @ error)
                    six, error, above, below = tried, new_error, new_above, new_below
                    damping *= 0.3
                    if gained < 1e-4:
                        break
                else:
                    damping *= 4.0
            if rounds < ROUNDS - 1:  # lean on what is worst, so that the largest error falls (Lawson's rule)
                size = np.abs(self.levels(six)[0] - self.wanted)
                weights *= np.sqrt((size + 0.1 * size.max() + 1e-9) / (1.1 * size.max() + 1e-9))
                weights /= weights.max()
        return self.section(six)

    def section(self, six: Floats) -> Floats:
        rows = []
        for alpha, beta, r in (six[:3], six[3:]):
            middle = 0.5 * (alpha + beta)
            r = middle if self.first_order else r
            rows.append([0.5 * (middle + r), 0.5 * (alpha - beta), 0.5 * (middle - r)])
        return np.concatenate(rows) / rows[1][0]

    def off(self, section: Floats) -> float:
        """How far off a section is at most, dB."""
        b, a = (np.array([c[0] + c[1] + c[2], c[0] - c[1] + c[2], c[0] - c[2]]) for c in (section[:3], section[3:]))
        return float(np.abs(self.levels(np.concatenate([b, a]))[0] - self.wanted).max())


def _start(p: tuple[float, float, float], freq: float, rate: int) -> Floats:
    """Where a polynomial's search begins: its roots mapped by ``z = exp(s T)``."""
    roots = np.roots(np.trim_zeros(np.array(p), "f")) * 2.0 * math.pi * min(freq, 0.5 * rate) / rate
    c = np.zeros(3)
    c[: len(roots) + 1] = np.real(np.poly(np.exp(roots)))
    return np.maximum([c[0] + c[1] + c[2], c[0] - c[1] + c[2], c[0] - c[2]], 1e-9)
