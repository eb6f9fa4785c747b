"""Second-order sections whose magnitude follows an analogue prototype up to the top of hearing.

The bilinear transform squeezes everything above the corner against the Nyquist frequency: bells close to it come out
too narrow, shelves too early. M. Vicanek ('Matched second order digital filters', 2016) matches the magnitude
instead: with ``φ0 = cos²(ω/2)``, ``φ1 = sin²(ω/2)`` and ``φ2 = 4 φ0 φ1`` the squared magnitude of a section is
``(B0 φ0 + B1 φ1 + B2 φ2) / (A0 φ0 + A1 φ1 + A2 φ2)``, and its coefficients follow from the six numbers. His closed
forms pin three points; here the whole range is fitted, starting from his poles (impulse invariance), since the closed
forms are up to 1.4 dB off for wide bells near the top.
"""

from __future__ import annotations

import copy
import functools
import math
from collections.abc import Sequence

import numpy as np

from gluvo.dsp.filters import NOTHING, response
from gluvo.dsp.kernel import Bools, Floats, Ints, kernel

Analogue = tuple[tuple[float, float, float], tuple[float, float, float]]
"""A prototype section ``(n2 s² + n1 s + n0) / (d2 s² + d1 s + d0)`` with its corner at ``|s| = 1``."""

LOWEST, HIGHEST = 10.0, 20_000.0
"""Hz; between these the prototype is followed."""
DEEPEST = 60.0
"""dB under the top: what lies further down need not be followed."""
GOOD_ENOUGH = 0.02
"""dB off at which a bilinear transform is as good as anything."""
TRIES, ROUNDS = 12, 4
BEYOND = ((0.1, 0.3), (0.5, 0.7), (2.0, 2.0))
"""Weights of what lies above 20 kHz, and dB over the prototype's highest that each may lead to. The first that keeps
within its bound is taken."""
CASCADE_ENOUGH, SWEEPS = 0.08, 4
"""dB off at which sections in a row are left as they are, and how often each is fitted at most."""
SPARE_FROM, SPARE_SWEEPS = 0.2, 10
"""dB off from which a section more makes good what is left, where there may be one; and how often each is fitted then."""
NEUTRAL: Analogue = ((1.0, 1.0, 1.0), (1.0, 1.0, 1.0))


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


def _grid(prototypes: Sequence[Analogue], freq: float, rate: int) -> Floats:
    """Hz at which sections are compared with prototypes: up to 20 kHz, and thinly on to the Nyquist frequency."""
    top = min(HIGHEST, 0.47 * rate)
    close = [freq * 2.0 ** np.linspace(-1.0, 1.0, 81)]
    for corner in {round(abs(r), 6) for p in prototypes for side in p for r in np.roots(np.trim_zeros(side, "f"))}:
        close.append(freq * corner * 2.0 ** np.linspace(-0.06, 0.06, 25))  # where something narrow is all there is
    inside = np.concatenate([np.geomspace(LOWEST, top, 120), *close])
    return np.unique(np.concatenate([inside[(inside >= LOWEST) & (inside < top)], np.linspace(top, 0.4999 * rate, 24)]))


@functools.lru_cache(maxsize=4096)
def _matched(prototype: Analogue, freq: float, rate: int) -> tuple[float, ...]:
    """See `matched`; a tuple, so that it can be kept."""
    freqs = _grid([prototype], freq, rate)
    wanted = _level(prototype, freq, freqs)
    best = _bilinear(prototype, freq, rate)
    problem = _Fit(prototype, freq, rate, freqs, wanted, wanted > wanted.max() - DEEPEST)
    off = problem.off(best)
    for weight, slack in BEYOND if off > GOOD_ENOUGH else ():
        fitted = problem.solved(beyond=weight)
        if problem.off(fitted) < off and _is_bounded(fitted, prototype, freq, rate, slack):
            best = fitted
            break
    return tuple(float(v) for v in best)


@functools.lru_cache(maxsize=512)
def _cascaded(prototypes: tuple[Analogue, ...], freq: float, rate: int, spare: bool) -> tuple[tuple[float, ...], ...]:
    """See `cascaded`."""
    sections, off = _in_a_row(prototypes, freq, rate)
    if spare and off > SPARE_FROM:
        further, now = _in_a_row((*prototypes, NEUTRAL), freq, rate)
        sections = further if now < off else sections
    return tuple(tuple(float(v) for v in section) for section in sections)


def _in_a_row(prototypes: Sequence[Analogue], freq: float, rate: int) -> tuple[list[Floats], float]:
    """The sections of several prototypes, and by how many dB they are off together at most. `NEUTRAL` as the last one
    stands for a section that only makes good what the others leave."""
    sections = [np.array(_matched(p, freq, rate)) for p in prototypes]
    freqs = _grid(prototypes, freq, rate)
    own = [_level(p, freq, freqs) for p in prototypes]
    whole = np.sum(own, axis=0)
    counted = whole > whole.max() - DEEPEST
    problems = [_Fit(p, freq, rate, freqs, w, counted) for p, w in zip(prototypes, own, strict=True)]
    levels = [problem.levels(_six(s)) for problem, s in zip(problems, sections, strict=True)]
    inside = counted & (freqs <= min(HIGHEST, 0.47 * rate))
    before_top = float(np.sum(levels, axis=0).max())
    turns = np.resize(np.arange(len(sections)), SWEEPS * len(sections)) if len(sections) > 1 else np.zeros(0, dtype=int)
    if prototypes[-1] == NEUTRAL:  # it begins as a bell against what is worst, and goes first
        left = np.where(inside, whole - np.sum(levels, axis=0), 0.0)
        worst = int(np.argmax(np.abs(left)))
        sections[-1] = np.array(_matched(bell_prototype(round(float(left[worst]), 3), 1.0), float(freqs[worst]), rate))
        levels[-1] = problems[-1].levels(_six(sections[-1]))
        turns = np.resize(np.arange(len(sections))[::-1], SPARE_SWEEPS * len(sections))

    def off() -> float:
        return float(np.abs(np.sum(levels, axis=0) - whole)[inside].max(initial=0.0))

    best = off()
    for n in turns.tolist():
        if best <= CASCADE_ENOUGH:
            break
        rest = np.sum(levels, axis=0) - levels[n]
        problem = problems[n].towards(whole - rest)
        tried = problem.solved(_six(sections[n]))
        old, levels[n] = levels[n], problem.levels(_six(tried))
        now, top = off(), float(np.sum(levels, axis=0).max())
        if (
            now < best
            and top < max(whole.max(), before_top) + 0.5
            and _rings_no_longer(tried, prototypes[n], freq, rate)
        ):
            sections[n], best = tried, now
        else:
            levels[n] = old
    return sections, best


def matched(prototype: Analogue, freq: float, rate: int) -> Floats:
    """The section, ``b0 b1 b2 1 a1 a2``, whose magnitude follows a prototype with its corner at `freq` Hz.

    Up to the Nyquist frequency it is nowhere more than 2 dB over the prototype's highest, and its poles lie inside the
    circle of 0.9999 or where the prototype's would be.

    >>> bell = matched(bell_prototype(6.0, 1.0), 12000.0, 44100)
    >>> z = np.exp(-2j * np.pi * 12000.0 / 44100 * np.arange(3))
    >>> bool(abs(20 * np.log10(abs((bell[:3] @ z) / (bell[3:] @ z))) - 6.0) < 0.1)
    True
    """
    return np.array(_matched(prototype, freq, rate))


def cascaded(prototypes: Sequence[Analogue], freq: float, rate: int, spare: bool = False) -> Floats:
    """The sections of several prototypes in a row, ``(n, 6)``, whose magnitude together follows theirs.

    Each is matched by itself; then each in turn is fitted to what the others leave, since small errors would add up.
    `spare`: with one section more where they are off by more than `SPARE_FROM`.

    >>> cascaded(low_cut_prototypes(8), 15000.0, 44100).shape
    (4, 6)
    """
    return np.array(_cascaded(tuple(prototypes), freq, rate, spare))


def bell(freq: float, gain_db: float, q: float, rate: int) -> Floats:
    """A bell as sections, ``(n, 6)``; none for 0 dB.

    >>> bell(1000.0, 3.0, 1.0, 48000).shape
    (1, 6)
    """
    return matched(bell_prototype(gain_db, q), freq, rate)[None, :] if gain_db else NOTHING


@functools.lru_cache(maxsize=256)
def tilt(slope: float, rate: int, pivot: float = 1000.0, pairs: int = 10) -> Floats:
    """A straight tilt of `slope` dB per octave between 20 Hz and 20 kHz, 0 dB at `pivot`; the same at every rate.

    First-order poles and zeros spaced evenly in octaves make a fractional slope (Oustaloup, 'La commande CRONE',
    1991), within 0.6 dB of the line between 40 Hz and 10 kHz. Its inverse is stable, too.

    >>> len(tilt(0.0, 48000))
    0
    """
    if slope == 0.0:
        return NOTHING
    low, high = 8.0, 45_000.0
    order = slope / (20.0 * math.log10(2.0))
    spacing = (high / low) ** (1.0 / pairs)
    firsts = []
    for k in range(pairs):
        centre, lean = low * spacing ** (k + 0.5), spacing ** (order / 2)
        pair: Analogue = ((0.0, lean, 1.0), (0.0, 1.0 / lean, 1.0))
        firsts.append(matched(pair, centre, rate) if centre < 0.45 * rate else _beyond(pair, centre, rate))
    sos = np.zeros((pairs // 2, 6))
    for i in range(pairs // 2):  # two first-order parts make one section: half the work
        one, other = firsts[2 * i], firsts[2 * i + 1]
        sos[i, :3], sos[i, 3:] = np.convolve(one[:2], other[:2]), np.convolve(one[3:5], other[3:5])
    sos[0, :3] /= abs(response(sos, np.array([pivot]), rate)[0])
    sos.flags.writeable = False  # it is kept
    return sos


def _beyond(prototype: Analogue, freq: float, rate: int) -> Floats:
    """A first-order section of what its prototype still does below the Nyquist frequency, its corner above that."""
    freqs = np.geomspace(LOWEST, min(HIGHEST, 0.47 * rate), 120)
    problem = _Fit(prototype, 0.45 * rate, rate, freqs, _level(prototype, freq, freqs), np.ones(120, dtype=bool))
    problem.start[0] = problem.start[3] * abs(prototype[0][2] / prototype[1][2])
    return problem.solved()


def _level(prototype: Analogue, freq: float, freqs: Floats) -> Floats:
    return np.asarray(20.0 * np.log10(np.maximum(np.abs(analogue_response(prototype, freq, freqs)), 1e-12)))


def _is_bounded(section: Floats, prototype: Analogue, freq: float, rate: int, slack: float) -> bool:
    """Whether a section is nowhere more than `slack` dB over its prototype's highest, and rings no longer than it."""
    freqs = np.concatenate([np.linspace(0.0, 0.5 * rate, 257), np.geomspace(LOWEST, 0.5 * rate, 256)])
    z = np.exp(-2j * np.pi * freqs / rate)
    b, a = section[:3], section[3:]
    got = np.abs((b[0] + z * (b[1] + z * b[2])) / (a[0] + z * (a[1] + z * a[2]))).max()
    highest = np.abs(analogue_response(prototype, freq, np.geomspace(1e-4, 1e4, 2001) * freq)).max()
    inside = got <= highest * 10.0 ** (slack / 20.0)
    return bool(inside and _rings_no_longer(section, prototype, freq, rate))


def _rings_no_longer(section: Floats, prototype: Analogue, freq: float, rate: int) -> bool:
    """Whether a section's poles lie inside the circle of 0.9999, or no nearer to 1 than its prototype's would."""
    radius = np.abs(np.roots(section[3:])).max(initial=0.0)
    poles = np.roots(np.trim_zeros(np.array(prototype[1]), "f"))
    allowed = np.exp(poles.real.max(initial=-1e9) * 2.0 * np.pi * min(freq, 0.5 * rate) / rate)
    return bool(radius <= max(0.9999, allowed + 1e-9))


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

    def __init__(
        self, prototype: Analogue, freq: float, rate: int, freqs: Floats, wanted: Floats, counted: np.ndarray
    ) -> None:
        """`wanted`: dB at `freqs`; those that are `counted` are followed."""
        n, d = prototype
        self.wanted = wanted
        self.beyond, self.counted = freqs > min(HIGHEST, 0.47 * rate), counted
        self.inside = counted & ~self.beyond
        upper = np.sin(np.pi * freqs / rate) ** 2
        self.phi = np.stack([1.0 - upper, upper, 4.0 * upper * (1.0 - upper)], axis=1)
        self.first_order = not d[0]
        zeros_at_dc = 0 if n[2] else 1 if n[1] else 2
        on_circle = bool(n[0] and n[2]) and not n[1]
        a = _start(d, freq, rate)
        b = _start(n, freq, rate) if n[2] else np.array([0.0, 1.0, 1.0])
        b[0] = abs(n[2] / d[2]) * a[0]
        if zeros_at_dc == 1:
            near = _six(_bilinear(prototype, freq, rate))
            b[1:] = max(near[1], 0.05 * near[2]), near[2]
            b *= a[2] / near[5] if near[5] > 0.0 else 1.0
        if on_circle:  # the zeros stay at the corner
            c = -2.0 * math.cos(2.0 * math.pi * min(freq, 0.499 * rate) / rate)
            b = np.array([1.0, (2.0 - c) / (2.0 + c), 0.0]) * a[0]
        elif zeros_at_dc == 2:
            b[2] = 0.0
        self.start = np.concatenate([b, a]) / a[0]
        free = [not on_circle, not (self.first_order or on_circle or zeros_at_dc == 2), True, not self.first_order]
        self.free = np.array([1, 2, 4, 5])[np.array(free)]

    def levels(self, six: Floats) -> Floats:
        """The level in dB."""
        above, below = _squared(six[:3], self.first_order), _squared(six[3:], self.first_order)
        return _levels(self.phi, above, below)

    def towards(self, wanted: Floats) -> _Fit:
        """The same search for another magnitude."""
        other = copy.copy(self)
        other.wanted = wanted
        return other

    def solved(self, start: Floats | None = None, beyond: float = 0.1) -> Floats:
        """The best section that is found, from a start on (the poles by impulse invariance). `beyond`: the weight of
        what lies above 20 kHz."""
        six = (self.start if start is None else start).copy()
        weights = np.where(self.beyond, beyond, 1.0) * self.counted
        _search(six, self.free, self.first_order, self.phi, self.wanted, weights, self.inside)
        return self.section(six)

    def section(self, six: Floats) -> Floats:
        rows = []
        for alpha, beta, r in (six[:3], six[3:]):
            middle = 0.5 * (alpha + beta)
            r = middle if self.first_order else r
            rows.append([0.5 * (middle + r), 0.5 * (alpha - beta), 0.5 * (middle - r)])
        return np.concatenate(rows) / rows[1][0]

    def off(self, section: Floats) -> float:
        """How far off a section is at most, dB, where it counts."""
        return float(np.abs(self.levels(_six(section)) - self.wanted)[self.inside].max(initial=0.0))


def _six(section: Floats) -> Floats:
    """What `_Fit` searches over, of a section."""
    b, a = (np.array([c[0] + c[1] + c[2], c[0] - c[1] + c[2], c[0] - c[2]]) for c in (section[:3], section[3:]))
    return np.concatenate([b, a])


def _start(p: tuple[float, float, float], freq: float, rate: int) -> Floats:
    """Where a polynomial's search begins: its roots mapped by ``z = exp(s T)``."""
    roots = np.roots(np.trim_zeros(np.array(p), "f")) * 2.0 * math.pi * min(freq, 0.5 * rate) / rate
    c = np.zeros(3)
    c[: len(roots) + 1] = np.real(np.poly(np.exp(roots)))
    return np.maximum([c[0] + c[1] + c[2], c[0] - c[1] + c[2], c[0] - c[2]], 1e-9)


@kernel
def _squared(three: Floats, first_order: bool) -> Floats:
    """The factors of φ in the squared magnitude of a polynomial, from α, β and r; see `_Fit`."""
    alpha, beta, r = three[0], three[1], three[2]
    middle = 0.0 if first_order else r * r - 0.25 * (alpha + beta) ** 2
    return np.array([alpha * alpha, beta * beta, middle])


@kernel
def _levels(phi: Floats, above: Floats, below: Floats) -> Floats:
    """dB of a ratio of two sums of φ."""
    out = np.empty(len(phi))
    for i in range(len(phi)):
        over = phi[i, 0] * above[0] + phi[i, 1] * above[1] + phi[i, 2] * above[2]
        under = phi[i, 0] * below[0] + phi[i, 1] * below[1] + phi[i, 2] * below[2]
        out[i] = 10.0 * math.log10(max(over, 1e-30) / max(under, 1e-30))
    return out


@kernel
def _solved(square: Floats, right: Floats) -> Floats:
    """The solution of a few equations whose matrix is symmetric and positive (by Cholesky); both are written over.

    Numba's own would need all of SciPy's linear algebra for it.
    """
    count = len(right)
    for c in range(count):
        for k in range(c):
            square[c, c] -= square[c, k] * square[c, k]
        square[c, c] = math.sqrt(max(square[c, c], 1e-300))
        for r in range(c + 1, count):
            for k in range(c):
                square[r, c] -= square[r, k] * square[c, k]
            square[r, c] /= square[c, c]
        for k in range(c):
            right[c] -= square[c, k] * right[k]
        right[c] /= square[c, c]
    for c in range(count - 1, -1, -1):
        for k in range(c + 1, count):
            right[c] -= square[k, c] * right[k]
        right[c] /= square[c, c]
    return right


@kernel
def _search(
    six: Floats, free: Ints, first_order: bool, phi: Floats, wanted: Floats, weights: Floats, inside: Bools
) -> None:
    """Levenberg and Marquardt's search of `_Fit`, on `six` and `weights` in place. A kernel, since the hundreds of
    short steps would keep the window waiting."""
    count, points, damping = len(free), len(phi), 1e-2
    slopes, per_db = np.empty((points, count)), 10.0 / math.log(10.0)
    for rounds in range(ROUNDS):
        above, below = _squared(six[:3], first_order), _squared(six[3:], first_order)
        error = (_levels(phi, above, below) - wanted) * weights
        for _ in range(TRIES):
            for c in range(count):
                on_top = free[c] < 3
                base = 0 if on_top else 3
                alpha, beta, r = six[base], six[base + 1], six[base + 2]
                of, sign = (above, 1.0) if on_top else (below, -1.0)
                first, second = 0.0, 2.0 * r * r
                if free[c] % 3 == 1:
                    first, second = 2.0 * beta * beta, 0.0 if first_order else -0.5 * (alpha + beta) * beta
                for i in range(points):
                    whole = max(phi[i, 0] * of[0] + phi[i, 1] * of[1] + phi[i, 2] * of[2], 1e-30)
                    slopes[i, c] = sign * per_db * weights[i] * (first * phi[i, 1] + second * phi[i, 2]) / whole
            square, pull = np.zeros((count, count)), np.zeros(count)
            for i in range(points):
                for c in range(count):
                    pull[c] -= slopes[i, c] * error[i]
                    for d in range(count):
                        square[c, d] += slopes[i, c] * slopes[i, d]
            for c in range(count):
                square[c, c] += damping * (square[c, c] + 1e-9)
            move = _solved(square, pull)
            tried = six.copy()
            for c in range(count):
                tried[free[c]] *= math.exp(min(2.0, max(-2.0, move[c])))
            new_above, new_below = _squared(tried[:3], first_order), _squared(tried[3:], first_order)
            new_error = (_levels(phi, new_above, new_below) - wanted) * weights
            was, now = np.sum(error * error), np.sum(new_error * new_error)
            if now < was:
                six[:], error, above, below = tried, new_error, new_above, new_below
                damping *= 0.3
                if 1.0 - now / was < 1e-4:
                    break
            else:
                damping *= 4.0
        if rounds < ROUNDS - 1:  # lean on what is worst, so that the largest error falls (Lawson's rule)
            size = np.abs(_levels(phi, above, below) - wanted)
            worst = 1e-9
            for i in range(points):
                if inside[i]:
                    worst = max(worst, size[i])
            weights *= np.sqrt((np.minimum(size, worst) + 0.1 * worst + 1e-9) / (1.1 * worst + 1e-9))
            weights /= weights.max()
