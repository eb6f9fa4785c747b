"""The Fourier transform of complex signals, as a kernel: nothing is allocated, and the interpreter is not held.

Real and imaginary parts lie in arrays of their own, and are worked on eight numbers at a time.
"""

from __future__ import annotations

import functools
import math

import numpy as np

from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.dsp.vectors import fma8, load8, mul8, splat8, store8

LEAST = 64
"""The smallest size."""
TwiddleFactors = tuple[Floats, Floats, Floats]


def aligned(*shape: int) -> Floats:
    """Zeros that begin where a line of the processor's cache does: eight numbers that are loaded at once then lie in one.

    >>> aligned(2, 64).ctypes.data % 64
    0
    """
    size = math.prod(shape)
    room = np.zeros(size + 8)
    first = -room.ctypes.data % 64 // 8
    return room[first : first + size].reshape(shape)


@functools.cache
def twiddle_factors(size: int) -> TwiddleFactors:
    """What `transform` multiplies by for a size, a power of two from `LEAST` on: in its columns, in its rows, and in between.

    For columns and rows (6, …): of each of their stages the first, second and third powers of the stage's root of unity,
    real and imaginary parts, one stage after the other. In between (2, columns, rows).
    """
    rows = 1 << (size.bit_length() // 2)
    columns = size // rows
    between = np.exp(-2j * np.pi * np.outer(np.arange(columns), np.arange(rows)) / size)
    found = _stages(columns), _stages(rows), np.ascontiguousarray(np.stack([between.real, between.imag]))
    for table in found:
        table.flags.writeable = False
    return found


def _stages(size: int) -> Floats:
    stages = []
    while size >= 4:
        root = np.exp(-2j * np.pi * np.arange(size // 4) / size)
        stages.append(np.stack([part for power in (1, 2, 3) for part in ((root**power).real, (root**power).imag)]))
        size //= 4
    return np.ascontiguousarray(np.concatenate(stages, axis=1))


@kernel
def transform(real: Floats, imaginary: Floats, twiddles: tuple[Floats, Floats, Floats], work: Audio) -> None:
    """The transform ``Σ z[k] exp(−2πi jk/n)`` of ``z = real + i imaginary``, in place.

    With the arrays the other way round it is the inverse, but for the factor ``1/n``. `twiddles`: see `twiddle_factors`;
    `work` (2, n) is written over. The samples are taken as a matrix whose columns are transformed first and its rows
    then (Bailey, 'FFTs in external or hierarchical memory', 1990), so that there are always many to be transformed alike.
    """
    columns, rows = twiddles[2].shape[1], twiddles[2].shape[2]
    a, b, c, d = real, imaginary, work[0], work[1]
    crossed = _batched_fft(a, b, c, d, columns, rows, twiddles[0])
    if crossed:
        _turned(c, d, columns, rows, twiddles[2], a, b)
        crossed = _batched_fft(a, b, c, d, rows, columns, twiddles[1])
    else:
        _turned(a, b, columns, rows, twiddles[2], c, d)
        crossed = not _batched_fft(c, d, a, b, rows, columns, twiddles[1])
    if crossed:
        real[:] = c
        imaginary[:] = d


@kernel
def _turned(a: Floats, b: Floats, columns: int, rows: int, between: Floats, c: Floats, d: Floats) -> None:
    """The matrix (columns, rows) turned by `between` in place, and its columns and rows exchanged into `c` and `d`."""
    for k in range(columns):
        u, v, x, y = between[0, k], between[1, k], a[k * rows : (k + 1) * rows], b[k * rows : (k + 1) * rows]
        for q in range(0, rows, 8):
            r, i, e, f = load8(x, q), load8(y, q), load8(u, q), load8(v, q)
            store8(x, q, fma8(e, r, mul8(mul8(splat8(-1.0), f), i)))
            store8(y, q, fma8(e, i, mul8(f, r)))
    for q in range(rows):
        x, y = c[q * columns : (q + 1) * columns], d[q * columns : (q + 1) * columns]
        for k in range(columns):
            x[k], y[k] = a[k * rows + q], b[k * rows + q]


@kernel
def _batched_fft(a: Floats, b: Floats, c: Floats, d: Floats, n: int, stride: int, roots: Floats) -> bool:
    """`stride` transforms of `n` samples each, which lie `stride` apart; whether the result is in `c` and `d`, not in `a` and
    `b`. By Stockham's sorting stages of four ('High-speed convolution and correlation', 1966), and one of two where the
    size needs it."""
    one, minus, at, swapped = splat8(1.0), splat8(-1.0), 0, False
    while n >= 4:
        n //= 4
        s, m = stride, n * stride
        for p in range(n):
            root = roots[:, at + p]
            u1, v1, w1 = splat8(root[0]), splat8(root[1]), splat8(-root[1])
            u2, v2, w2 = splat8(root[2]), splat8(root[3]), splat8(-root[3])
            u3, v3, w3 = splat8(root[4]), splat8(root[5]), splat8(-root[5])
            for i in range(s * p, s * p + s, 8):
                o = i + 3 * s * p
                a0, a1, a2, a3 = load8(a, i), load8(a, i + m), load8(a, i + 2 * m), load8(a, i + 3 * m)
                b0, b1, b2, b3 = load8(b, i), load8(b, i + m), load8(b, i + 2 * m), load8(b, i + 3 * m)
                pr, pi, mr, mi = fma8(one, a0, a2), fma8(one, b0, b2), fma8(minus, a2, a0), fma8(minus, b2, b0)
                qr, qi, nr, ni = fma8(one, a1, a3), fma8(one, b1, b3), fma8(minus, a3, a1), fma8(minus, b3, b1)
                store8(c, o, fma8(one, pr, qr))
                store8(d, o, fma8(one, pi, qi))
                xr, xi = fma8(one, mr, ni), fma8(minus, nr, mi)
                store8(c, o + s, fma8(u1, xr, mul8(w1, xi)))
                store8(d, o + s, fma8(u1, xi, mul8(v1, xr)))
                xr, xi = fma8(minus, qr, pr), fma8(minus, qi, pi)
                store8(c, o + 2 * s, fma8(u2, xr, mul8(w2, xi)))
                store8(d, o + 2 * s, fma8(u2, xi, mul8(v2, xr)))
                xr, xi = fma8(minus, ni, mr), fma8(one, mi, nr)
                store8(c, o + 3 * s, fma8(u3, xr, mul8(w3, xi)))
                store8(d, o + 3 * s, fma8(u3, xi, mul8(v3, xr)))
        a, b, c, d = c, d, a, b
        swapped = not swapped
        at += n
        stride *= 4
    if n == 2:
        for i in range(0, stride, 8):
            for x, y in ((a, c), (b, d)):
                first, second = load8(x, i), load8(x, i + stride)
                store8(y, i, fma8(one, first, second))
                store8(y, i + stride, fma8(minus, second, first))
        swapped = not swapped
    return swapped
