"""Second-order sections: their design and the kernel that runs them.

Sections follow `scipy.signal`: rows of ``b0 b1 b2 a0 a1 a2`` with ``a0 = 1``.
"""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.vectors import fma2, load2, mul2, store2

NOTHING: Floats = np.zeros((0, 6))
"""No sections: passes everything."""


def pairs(sos: Floats) -> Floats:
    """Sections as `run_sections` takes them, flat: five coefficients each, with one for either column.

    `sos` is (sections, 6), or (sections, 2 columns, 6) where the columns differ.

    >>> pairs(low_cut(100.0, 12, 48000)).shape
    (10,)
    """
    both = sos if sos.ndim == 3 else np.repeat(sos[:, None], 2, axis=1)
    signed = both[:, :, [0, 1, 2, 4, 5]] * np.array([1.0, 1.0, 1.0, -1.0, -1.0])
    return np.ascontiguousarray(signed.transpose(0, 2, 1)).reshape(-1)


@kernel
def run_sections(pairs, memory, x, out):  # type: ignore[no-untyped-def]
    """Filter `x` (frames, 2) into `out` (may be `x`) by transposed direct form II, left and right in one vector.

    `pairs`: see there. `memory` is flat, (sections, 2 states, 2 columns), and is carried from block to block. Up to
    four sections share a pass over the block: their recursions overlap in time. States that have decayed to nothing are
    cleared, since denormal numbers are slow.
    """
    count = memory.shape[0] // 4
    flat, made = x.reshape(-1), out.reshape(-1)
    if count == 0:
        for i in range(flat.shape[0]):
            made[i] = flat[i]
        return
    s = count % 4
    if s == 1:
        _run_one(pairs, memory, flat, made)
    elif s >= 2:
        _run_two(pairs, memory, flat, made)
        if s == 3:
            _run_one(pairs[20:], memory[8:], made, made)
    for k in range(s, count, 4):
        _run_four(pairs[10 * k :], memory[4 * k :], flat if k == 0 else made, made)
    for k in range(memory.shape[0]):
        if abs(memory[k]) < 1e-30:
            memory[k] = 0.0


@kernel
def _run_one(c, m, x, out):  # type: ignore[no-untyped-def]
    b0, b1, b2, a1, a2 = load2(c, 0), load2(c, 2), load2(c, 4), load2(c, 6), load2(c, 8)
    p, q = load2(m, 0), load2(m, 2)
    for i in range(0, x.shape[0], 2):
        u = load2(x, i)
        v = fma2(b0, u, p)
        p = fma2(a1, v, fma2(b1, u, q))
        q = fma2(a2, v, mul2(b2, u))
        store2(out, i, v)
    store2(m, 0, p)
    store2(m, 2, q)


@kernel
def _run_two(c, m, x, out):  # type: ignore[no-untyped-def]
    b0, b1, b2, a1, a2 = load2(c, 0), load2(c, 2), load2(c, 4), load2(c, 6), load2(c, 8)
    d0, d1, d2, e1, e2 = load2(c, 10), load2(c, 12), load2(c, 14), load2(c, 16), load2(c, 18)
    p, q, r, s = load2(m, 0), load2(m, 2), load2(m, 4), load2(m, 6)
    for i in range(0, x.shape[0], 2):
        u = load2(x, i)
        v = fma2(b0, u, p)
        p = fma2(a1, v, fma2(b1, u, q))
        q = fma2(a2, v, mul2(b2, u))
        w = fma2(d0, v, r)
        r = fma2(e1, w, fma2(d1, v, s))
        s = fma2(e2, w, mul2(d2, v))
        store2(out, i, w)
    store2(m, 0, p)
    store2(m, 2, q)
    store2(m, 4, r)
    store2(m, 6, s)


@kernel
def _run_four(c, m, x, out):  # type: ignore[no-untyped-def]
    b0, b1, b2, a1, a2 = load2(c, 0), load2(c, 2), load2(c, 4), load2(c, 6), load2(c, 8)
    d0, d1, d2, e1, e2 = load2(c, 10), load2(c, 12), load2(c, 14), load2(c, 16), load2(c, 18)
    f0, f1, f2, g1, g2 = load2(c, 20), load2(c, 22), load2(c, 24), load2(c, 26), load2(c, 28)
    h0, h1, h2, k1, k2 = load2(c, 30), load2(c, 32), load2(c, 34), load2(c, 36), load2(c, 38)
    p, q, r, s = load2(m, 0), load2(m, 2), load2(m, 4), load2(m, 6)
    t, o, y, z = load2(m, 8), load2(m, 10), load2(m, 12), load2(m, 14)
    for i in range(0, x.shape[0], 2):
        u = load2(x, i)
        v = fma2(b0, u, p)
        p = fma2(a1, v, fma2(b1, u, q))
        q = fma2(a2, v, mul2(b2, u))
        u = fma2(d0, v, r)
        r = fma2(e1, u, fma2(d1, v, s))
        s = fma2(e2, u, mul2(d2, v))
        v = fma2(f0, u, t)
        t = fma2(g1, v, fma2(f1, u, o))
        o = fma2(g2, v, mul2(f2, u))
        u = fma2(h0, v, y)
        y = fma2(k1, u, fma2(h1, v, z))
        z = fma2(k2, u, mul2(h2, v))
        store2(out, i, u)
    store2(m, 0, p)
    store2(m, 2, q)
    store2(m, 4, r)
    store2(m, 6, s)
    store2(m, 8, t)
    store2(m, 10, o)
    store2(m, 12, y)
    store2(m, 14, z)


class Sections:
    """A cascade of second-order sections with its memory.

    >>> cut = Sections(low_cut(100.0, 12, 48000))
    >>> x = np.ones((4800, 2)); cut.run(x, x)
    >>> bool(abs(x[-1, 0]) < 1e-3)
    True
    """

    def __init__(self, sos: Floats) -> None:
        """`sos`: (sections, 6), or (sections, 2 columns, 6) where left and right pass different ones."""
        self.sos = np.ascontiguousarray(sos, dtype=np.float64)
        self.memory = np.zeros((len(sos), 2, 2))
        self._pairs = pairs(self.sos)
        self._flat = self.memory.reshape(-1)

    def run(self, x: Audio, out: Audio) -> None:
        """Filter `x` (frames, 2) into `out`, which may be `x`."""
        run_sections(self._pairs, self._flat, x, out)

    def adopt(self, other: Sections) -> None:
        """Go on where `other` is, if it has as many sections."""
        if self.memory.shape == other.memory.shape:
            np.copyto(self.memory, other.memory)


def low_cut(freq: float, slope: int, rate: int) -> Floats:
    """A Butterworth high-pass of `slope` dB per octave (a multiple of 12), −3 dB at `freq` Hz.

    Pairs of the prototype's poles make one section each, by bilinear transform with the corner prewarped.

    >>> low_cut(100.0, 24, 48000).shape
    (2, 6)
    """
    k = math.tan(math.pi * _inside(freq, rate) / rate)
    order = slope // 6
    rows = []
    for pair in range(order // 2):
        damping = 2.0 * math.sin(math.pi * (2 * pair + 1) / (2 * order))  # 1/Q
        a0 = 1.0 + damping * k + k * k
        rows.append([1.0 / a0, -2.0 / a0, 1.0 / a0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - damping * k + k * k) / a0])
    return np.array(rows)


def high_cut(freq: float, slope: int, rate: int) -> Floats:
    """A Butterworth low-pass of `slope` dB per octave (a multiple of 12), −3 dB at `freq` Hz.

    >>> round(float(20 * np.log10(abs(response(high_cut(1000.0, 12, 48000), np.array([1000.0]), 48000)[0]))), 2)
    -3.01
    """
    k = math.tan(math.pi * _inside(freq, rate) / rate)
    sos = low_cut(freq, slope, rate)
    sos[:, :3] *= np.array([k * k, -k * k, k * k])
    return sos


def response(sos: Floats, freqs: Floats, rate: int) -> np.ndarray:
    """The complex response at `freqs` Hz.

    >>> abs(response(NOTHING, np.array([100.0]), 48000)).tolist()
    [1.0]
    """
    z = np.exp(-2j * np.pi * np.asarray(freqs) / rate)
    total = np.ones(len(z), dtype=complex)
    for b0, b1, b2, a0, a1, a2 in sos:
        total *= (b0 + z * (b1 + z * b2)) / (a0 + z * (a1 + z * a2))
    return total


def cascade(*parts: Floats) -> Floats:
    """Sections one after the other.

    >>> cascade(low_cut(100.0, 12, 48000), low_cut(200.0, 12, 48000)).shape
    (2, 6)
    """
    return np.concatenate([NOTHING, *parts])


def _inside(freq: float, rate: int) -> float:
    return min(freq, 0.49 * rate)
