"""Second-order sections: their design and the kernel that runs them.

Sections follow `scipy.signal`: rows of ``b0 b1 b2 a0 a1 a2`` with ``a0 = 1``.
"""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.vectors import after8, fma2, fma8, last2, load2, load8, mul2, mul8, spread8, store2, store8

NOTHING: Floats = np.zeros((0, 6))
"""No sections: passes everything."""


@kernel
def run_sections(coefficients: Floats, memory: Floats, line: Floats, x: Audio, out: Audio) -> None:
    """Filter `x` (frames, 2) into `out` (may be `x`) by transposed direct form II.

    For so many sections as there is room for: `coefficients`, flat (5, sections, 2 columns), are b0, b1, b2, −a1, −a2;
    `memory`, flat (2 states, sections, 2), is carried from block to block. Left and right go in one vector, and four
    sections in a wide one, each a frame behind the one before it, whose last result it takes from `line`: so they need not
    wait for one another. Up to two of them are as many as there are, otherwise a multiple of four.
    """
    room = memory.shape[0] // 4
    flat, made = x.reshape(-1), out.reshape(-1)
    if room == 0:
        for i in range(flat.shape[0]):
            made[i] = flat[i]
    elif room == 1:
        _run_one(coefficients, memory, flat, made)
    elif room == 2:
        _run_two(coefficients, memory, flat, made)
    else:
        alone = room % 8  # a vector of four, or none
        if alone:
            _run_four(coefficients, memory, line, flat, made)
        for first in range(alone, room, 8):
            _run_eight(coefficients, memory, line, first, flat if first == 0 else made, made)
    for k in range(memory.shape[0]):
        if abs(memory[k]) < 1e-30:  # decayed to nothing: denormal numbers are slow
            memory[k] = 0.0


@kernel
def _run_one(c: Floats, m: Floats, x: Floats, out: Floats) -> None:
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
def _run_two(c: Floats, m: Floats, x: Floats, out: Floats) -> None:
    b0, b1, b2, a1, a2 = load2(c, 0), load2(c, 4), load2(c, 8), load2(c, 12), load2(c, 16)
    d0, d1, d2, e1, e2 = load2(c, 2), load2(c, 6), load2(c, 10), load2(c, 14), load2(c, 18)
    p, r, q, s = load2(m, 0), load2(m, 2), load2(m, 4), load2(m, 6)
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
    store2(m, 2, r)
    store2(m, 4, q)
    store2(m, 6, s)


@kernel
def _run_four(c: Floats, m: Floats, line: Floats, x: Floats, out: Floats) -> None:
    n, size = x.shape[0], m.shape[0] // 2
    _enter(c, m, line, 0, 4, x, out)
    b0, b1, b2 = load8(c, 0), load8(c, size), load8(c, 2 * size)
    a1, a2 = load8(c, 3 * size), load8(c, 4 * size)
    p, q, v = load8(m, 0), load8(m, size), load8(line, 0)
    for i in range(6, n, 2):
        u = after8(spread8(load2(x, i)), v)
        v = fma8(b0, u, p)
        p = fma8(a1, v, fma8(b1, u, q))
        q = fma8(a2, v, mul8(b2, u))
        store2(out, i - 6, last2(v))
    store8(m, 0, p)
    store8(m, size, q)
    store8(line, 0, v)
    _leave(c, m, line, 0, 4, x, out)


@kernel
def _run_eight(c: Floats, m: Floats, line: Floats, first: int, x: Floats, out: Floats) -> None:
    n, size, o = x.shape[0], m.shape[0] // 2, 2 * first
    _enter(c, m, line, first, 8, x, out)
    b0, b1, b2 = load8(c, o), load8(c, size + o), load8(c, 2 * size + o)
    a1, a2 = load8(c, 3 * size + o), load8(c, 4 * size + o)
    p, q, v = load8(m, o), load8(m, size + o), load8(line, o)
    o += 8
    d0, d1, d2 = load8(c, o), load8(c, size + o), load8(c, 2 * size + o)
    e1, e2 = load8(c, 3 * size + o), load8(c, 4 * size + o)
    r, s, w = load8(m, o), load8(m, size + o), load8(line, o)
    for i in range(14, n, 2):
        t = after8(v, w)
        u = after8(spread8(load2(x, i)), v)
        v = fma8(b0, u, p)
        p = fma8(a1, v, fma8(b1, u, q))
        q = fma8(a2, v, mul8(b2, u))
        w = fma8(d0, t, r)
        r = fma8(e1, w, fma8(d1, t, s))
        s = fma8(e2, w, mul8(d2, t))
        store2(out, i - 14, last2(w))
    store8(m, o, r)
    store8(m, size + o, s)
    store8(line, o, w)
    o -= 8
    store8(m, o, p)
    store8(m, size + o, q)
    store8(line, o, v)
    _leave(c, m, line, first, 8, x, out)


@kernel
def _enter(c: Floats, m: Floats, line: Floats, first: int, count: int, x: Floats, out: Floats) -> None:
    """What the first frames go through before all of `count` sections are at work."""
    _wave(c, m, line, first, count, 0, count - 1, x, out)


@kernel
def _leave(c: Floats, m: Floats, line: Floats, first: int, count: int, x: Floats, out: Floats) -> None:
    """What is left to do for the last frames."""
    n = x.shape[0] // 2
    _wave(c, m, line, first, count, max(n, count - 1), n + count - 1, x, out)


@kernel
def _wave(
    c: Floats, m: Floats, line: Floats, first: int, count: int, start: int, stop: int, x: Floats, out: Floats
) -> None:
    """So many sections, each a frame behind the one before it, at moments on which not all have a frame."""
    n, size = x.shape[0] // 2, m.shape[0] // 2
    for t in range(start, stop):
        for k in range(min(count - 1, t), max(-1, t - n), -1):
            o = 2 * (first + k)
            u = load2(x, 2 * t) if k == 0 else load2(line, o - 2)
            v = fma2(load2(c, o), u, load2(m, o))
            store2(m, o, fma2(load2(c, 3 * size + o), v, fma2(load2(c, size + o), u, load2(m, size + o))))
            store2(m, size + o, fma2(load2(c, 4 * size + o), v, mul2(load2(c, 2 * size + o), u)))
            store2(line, o, v)
            if k == count - 1:
                store2(out, 2 * (t - k), v)


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
        count = len(sos)
        room = count if count < 3 else count + -count % 4
        both = self.sos if self.sos.ndim == 3 else np.repeat(self.sos[:, None], 2, axis=1)
        rows = np.zeros((5, room, 2))
        rows[0, count:] = 1.0  # what is there beyond passes all
        rows[:, :count] = both[:, :, [0, 1, 2, 4, 5]].transpose(2, 0, 1) * np.array([1, 1, 1, -1, -1])[:, None, None]
        states = np.zeros((2, room, 2))
        self.coefficients, self.states, self._line = rows.reshape(-1), states.reshape(-1), np.zeros(2 * room)
        """As kernels take them; see `run_sections`."""
        self.memory = states.transpose(1, 0, 2)[:count]
        """The states, (sections, 2 states, 2 columns)."""

    def run(self, x: Audio, out: Audio) -> None:
        """Filter `x` (frames, 2) into `out`, which may be `x`."""
        run_sections(self.coefficients, self.states, self._line, x, out)

    def adopt(self, other: Sections) -> bool:
        """Go on where `other` is, if its sections are the same; whether they are."""
        same = np.array_equal(self.sos, other.sos)
        if same:
            np.copyto(self.memory, other.memory)
        return same


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
