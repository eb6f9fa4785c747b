"""Second-order sections: their design and the kernel that runs them.

Sections follow `scipy.signal`: rows of ``b0 b1 b2 a0 a1 a2`` with ``a0 = 1``.
"""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, kernel

NOTHING: Floats = np.zeros((0, 6))
"""No sections: passes everything."""


@kernel
def run_sections(sos, memory, x, out):  # type: ignore[no-untyped-def]
    """Filter `x` (frames, 2) into `out` (may be `x`) by transposed direct form II.

    `memory` is (sections, 2 states, 2 channels) and is carried from block to block. States that have decayed
    to nothing are cleared, since denormal numbers are slow.
    """
    count = sos.shape[0]
    for i in range(x.shape[0] if count % 2 == 0 else 0):
        out[i, 0] = x[i, 0]
        out[i, 1] = x[i, 1]
    if count % 2:
        _run_one(sos[0], memory[0], x, out)
    for s in range(count % 2, count, 2):
        _run_two(sos[s], memory[s], sos[s + 1], memory[s + 1], out)


@kernel
def _run_one(c, m, x, out):  # type: ignore[no-untyped-def]
    b0, b1, b2, a1, a2 = c[0], c[1], c[2], c[4], c[5]
    l1, l2, r1, r2 = m[0, 0], m[1, 0], m[0, 1], m[1, 1]
    for i in range(x.shape[0]):
        left, right = x[i, 0], x[i, 1]
        yl, yr = b0 * left + l1, b0 * right + r1
        l1, r1 = b1 * left - a1 * yl + l2, b1 * right - a1 * yr + r2
        l2, r2 = b2 * left - a2 * yl, b2 * right - a2 * yr
        out[i, 0] = yl
        out[i, 1] = yr
    _keep(m, l1, l2, r1, r2)


@kernel
def _run_two(c, m, d, n, x):  # type: ignore[no-untyped-def]
    """Two sections in one pass over `x`, in place: their recursions overlap in time."""
    b0, b1, b2, a1, a2 = c[0], c[1], c[2], c[4], c[5]
    e0, e1, e2, d1, d2 = d[0], d[1], d[2], d[4], d[5]
    l1, l2, r1, r2 = m[0, 0], m[1, 0], m[0, 1], m[1, 1]
    p1, p2, q1, q2 = n[0, 0], n[1, 0], n[0, 1], n[1, 1]
    for i in range(x.shape[0]):
        left, right = x[i, 0], x[i, 1]
        yl, yr = b0 * left + l1, b0 * right + r1
        l1, r1 = b1 * left - a1 * yl + l2, b1 * right - a1 * yr + r2
        l2, r2 = b2 * left - a2 * yl, b2 * right - a2 * yr
        zl, zr = e0 * yl + p1, e0 * yr + q1
        p1, q1 = e1 * yl - d1 * zl + p2, e1 * yr - d1 * zr + q2
        p2, q2 = e2 * yl - d2 * zl, e2 * yr - d2 * zr
        x[i, 0] = zl
        x[i, 1] = zr
    _keep(m, l1, l2, r1, r2)
    _keep(n, p1, p2, q1, q2)


@kernel
def run_sided(sos, memory, x):  # type: ignore[no-untyped-def]
    """Filter the two columns of `x` in place, each through sections of its own: `sos` is (sections, 2 columns, 6).

    Pairs of sections run in one pass, so that their recursions overlap in time; an odd count needs one that does
    nothing at the end.
    """
    for s in range(0, sos.shape[0], 2):
        _run_sided_pair(sos[s, 0], sos[s, 1], sos[s + 1, 0], sos[s + 1, 1], memory[s], memory[s + 1], x)


@kernel
def _run_sided_pair(a, b, c, d, m, n, x):  # type: ignore[no-untyped-def]
    a0, a1, a2, a3, a4 = a[0], a[1], a[2], a[4], a[5]
    b0, b1, b2, b3, b4 = b[0], b[1], b[2], b[4], b[5]
    c0, c1, c2, c3, c4 = c[0], c[1], c[2], c[4], c[5]
    d0, d1, d2, d3, d4 = d[0], d[1], d[2], d[4], d[5]
    l1, l2, r1, r2 = m[0, 0], m[1, 0], m[0, 1], m[1, 1]
    p1, p2, q1, q2 = n[0, 0], n[1, 0], n[0, 1], n[1, 1]
    for i in range(x.shape[0]):
        left, right = x[i, 0], x[i, 1]
        yl, yr = a0 * left + l1, b0 * right + r1
        l1, r1 = a1 * left - a3 * yl + l2, b1 * right - b3 * yr + r2
        l2, r2 = a2 * left - a4 * yl, b2 * right - b4 * yr
        zl, zr = c0 * yl + p1, d0 * yr + q1
        p1, q1 = c1 * yl - c3 * zl + p2, d1 * yr - d3 * zr + q2
        p2, q2 = c2 * yl - c4 * zl, d2 * yr - d4 * zr
        x[i, 0] = zl
        x[i, 1] = zr
    _keep(m, l1, l2, r1, r2)
    _keep(n, p1, p2, q1, q2)


@kernel
def _keep(m, l1, l2, r1, r2):  # type: ignore[no-untyped-def]
    m[0, 0] = l1 if abs(l1) > 1e-30 else 0.0
    m[1, 0] = l2 if abs(l2) > 1e-30 else 0.0
    m[0, 1] = r1 if abs(r1) > 1e-30 else 0.0
    m[1, 1] = r2 if abs(r2) > 1e-30 else 0.0


class Sections:
    """A cascade of second-order sections with its memory.

    >>> cut = Sections(low_cut(100.0, 12, 48000))
    >>> x = np.ones((4800, 2)); cut.run(x, x)
    >>> bool(abs(x[-1, 0]) < 1e-3)
    True
    """

    def __init__(self, sos: Floats) -> None:
        self.sos = np.ascontiguousarray(sos, dtype=np.float64)
        self.memory = np.zeros((len(sos), 2, 2))

    def run(self, x: Audio, out: Audio) -> None:
        run_sections(self.sos, self.memory, x, out)

    def adopt(self, other: Sections) -> None:
        """Go on where `other` is, if it has as many sections."""
        if self.memory.shape == other.memory.shape:
            np.copyto(self.memory, other.memory)


def low_cut(freq: float, slope: int, rate: int) -> Floats:
    """A Butterworth high-pass of `slope` dB per octave (a multiple of 12), −3 dB at `freq` Hz.

    Pairs of the prototype's poles make one section each, by bilinear transform with the corner prewarped.
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
    """A Butterworth low-pass of `slope` dB per octave (a multiple of 12), −3 dB at `freq` Hz."""
    k = math.tan(math.pi * _inside(freq, rate) / rate)
    sos = low_cut(freq, slope, rate)
    sos[:, :3] *= np.array([k * k, -k * k, k * k])
    return sos


def response(sos: Floats, freqs: Floats, rate: int) -> np.ndarray:
    """The complex response at `freqs` Hz."""
    z = np.exp(-2j * np.pi * np.asarray(freqs) / rate)
    total = np.ones(len(z), dtype=complex)
    for b0, b1, b2, a0, a1, a2 in sos:
        total *= (b0 + z * (b1 + z * b2)) / (a0 + z * (a1 + z * a2))
    return total


def cascade(*parts: Floats) -> Floats:
    """Sections one after the other."""
    return np.concatenate([NOTHING, *parts])


def _inside(freq: float, rate: int) -> float:
    return min(freq, 0.49 * rate)
