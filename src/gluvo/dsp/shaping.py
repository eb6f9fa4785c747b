"""Shapers: curves that bend the wave, anti-aliased by their antiderivative.

Instead of the curve at each sample, its mean along the straight line from the last sample to this one is taken:
``(F(b) − F(a)) / (b − a)`` with ``F' = f`` (Parker, Zavalishin and Le Bivic, 'Reducing the aliasing of nonlinear
waveshaping using continuous-time convolution', DAFx 2016). It is late by half a sample. The curves are chosen so that
this quotient has a closed form without a small difference wherever they are smooth.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from gluvo.dsp.kernel import Floats, kernel

SOFT, DENSE, EDGE = 0, 1, 2
WARM_BIAS = 0.5
CLOSE = 1e-6
"""Neighbours closer than this are taken as one where the curve has a corner."""


@dataclass(frozen=True)
class Shaper:
    """A curve ``y = scale · f(drive · x + bias) + offset``. `kind` is one of the constants above.

    - soft: ``v / √(1 + v²)``, odd, smooth.
    - dense: ``(15 v − 10 v³ + 3 v⁵) / 8`` up to `top`, flat beyond: smooth to its second derivative.
    - edge: a straight line up to 1, flat beyond.
    """

    kind: int
    drive: float
    bias: float
    scale: float
    offset: float
    top: float = 1.0

    def __call__(self, x: Floats) -> Floats:
        """The curve itself."""
        v = self.drive * np.asarray(x, dtype=np.float64) + self.bias
        inside = np.clip(v, -self.top, self.top)
        if self.kind == SOFT:
            y = v / np.sqrt(1.0 + v * v)
        else:
            y = np.asarray(quintic(inside)) if self.kind == DENSE else inside
        return np.asarray(self.scale * y + self.offset)


def quintic(v: Floats | float) -> Floats | float:
    """``(15 v − 10 v³ + 3 v⁵) / 8``: from −1 to 1, level at both ends."""
    return (15.0 * v - 10.0 * v**3 + 3.0 * v**5) / 8.0


def soft(drive: float, bias: float) -> Shaper:
    """Unit gain for small signals; the louder, the lower.

    >>> [round(float(y), 3) for y in soft(1.0, 0.0)(np.array([0.0, 0.01, 10.0]))]
    [0.0, 0.01, 0.995]
    """
    root = math.sqrt(1.0 + bias * bias)
    scale = root**3 / drive
    return Shaper(SOFT, drive, bias, scale, -scale * bias / root)


def dense(drive: float, bias: float) -> Shaper:
    """Full scale stays full scale, and all below it is raised.

    >>> [round(float(y), 3) for y in dense(1.0, 0.0)(np.array([0.5, 1.0, 2.0]))]
    [0.793, 1.0, 1.0]
    """
    top = min(1.0, drive)
    rest = float(quintic(bias * top))
    scale = 1.0 / (float(quintic(top)) + abs(rest))
    return Shaper(DENSE, drive, bias * top, scale, -scale * rest, top)


def edge(drive: float, bias: float) -> Shaper:
    """Unit gain up to the corner, flat beyond.

    >>> [round(float(y), 3) for y in edge(2.0, 0.0)(np.array([0.25, 0.5, 1.0]))]
    [0.25, 0.5, 0.5]
    """
    return Shaper(EDGE, drive, bias, 1.0 / drive, -bias / drive)


@kernel
def antiderivative(kind, v, top):  # type: ignore[no-untyped-def]
    """F of the dense and the edge curve."""
    inside = min(abs(v), top)
    if kind == DENSE:
        s = inside * inside
        return s * (7.5 - s * (2.5 - 0.5 * s)) / 8.0 + (abs(v) - inside) * inside * (15.0 - s * (10.0 - 3.0 * s)) / 8.0
    return 0.5 * inside * inside + (abs(v) - inside) * inside


@kernel
def change(x, last, kind, drive, bias, scale, offset, top, driven, root, out):  # type: ignore[no-untyped-def]
    """What the curve adds to both channels and takes from them, anti-aliased: the shaped signal less the signal.

    Both are means along the line between neighbours, so that what is not bent adds up to nothing at all. `x` and `out`
    are flat, pairs of left and right; `last` holds the pair before. `driven` and `root` (a pair more than `x`) are written
    over.
    """
    n = x.shape[0]
    for c in range(2):
        driven[c] = drive * last[c] + bias
    after = driven[2 : n + 2]
    for i in range(n):
        after[i] = drive * x[i] + bias
    if kind == SOFT:
        for i in range(n + 2):
            root[i] = math.sqrt(1.0 + driven[i] * driven[i])
        later = root[2 : n + 2]
        for i in range(n):
            out[i] = (driven[i] + after[i]) / (root[i] + later[i])
    else:
        for i in range(n):
            out[i] = _mean(kind, driven[i], after[i], top)
    inverse = 1.0 / drive
    for i in range(n):
        a, b = driven[i], after[i]
        y = scale * out[i] + offset - (0.5 * (a + b) - bias) * inverse
        out[i] = 0.0 if a == bias and b == bias else y  # to the bit
    last[0], last[1] = x[n - 2], x[n - 1]


@kernel
def _mean(kind, a, b, top):  # type: ignore[no-untyped-def]
    """The mean of the dense or the edge curve from `a` to `b`."""
    if abs(a) <= top and abs(b) <= top:
        y = 0.5 * (a + b)
        if kind == DENSE:
            p, q = a * a, b * b
            y = (15.0 * y - 2.5 * (a + b) * (p + q) + 0.5 * (a + b) * (p * p + p * q + q * q)) / 8.0
        return y
    if abs(b - a) > CLOSE:
        return (antiderivative(kind, b, top) - antiderivative(kind, a, top)) / (b - a)
    y = min(top, max(-top, 0.5 * (a + b)))
    if kind == DENSE:
        s = y * y
        y = y * (15.0 - s * (10.0 - 3.0 * s)) / 8.0
    return y
