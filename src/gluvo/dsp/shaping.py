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

SOFT, DENSE, EDGE, KNEE = 0, 1, 2, 3
WARM_BIAS = 0.5
CLOSE = 1e-6
"""Neighbours closer than this are taken as one where the curve has a corner."""


@dataclass(frozen=True)
class Shaper:
    """A curve ``y = scale · f(drive · x + bias) + offset``. `kind` is one of the constants above.

    - soft: ``v / √(1 + v²)``, odd, smooth.
    - dense: ``(15 v − 10 v³ + 3 v⁵) / 8`` up to `top`, flat beyond: smooth to its second derivative.
    - edge: a straight line up to 1, flat beyond.
    - knee: a straight line up to 1 − `top`, a parabola from there to 1 + `top`, flat beyond; `top` is 0 to 1.
    """

    kind: int
    drive: float
    bias: float
    scale: float
    offset: float
    top: float = 1.0

    @property
    def slope(self) -> float:
        """Its gain for the smallest signals."""
        return self.scale * self.drive * 1.875 * (1.0 - self.bias**2) ** 2 if self.kind == DENSE else 1.0

    def __call__(self, x: Floats) -> Floats:
        """The curve itself."""
        v = self.drive * np.asarray(x, dtype=np.float64) + self.bias
        if self.kind == KNEE:
            size = np.minimum(np.abs(v), 1.0 + self.top)
            over = np.maximum(0.0, size - (1.0 - self.top))
            return np.asarray(self.scale * np.sign(v) * (size - over * over / max(4.0 * self.top, 1e-30)) + self.offset)
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


def clip(ceiling: float, knee: float) -> Shaper:
    """Unit gain under the knee, flat at the ceiling; `knee` 0–1 is how far under and over the ceiling the bend reaches.

    >>> [round(float(y), 3) for y in clip(0.5, 1.0)(np.array([0.0, 0.5, 1.0, 4.0]))]
    [0.0, 0.375, 0.5, 0.5]
    """
    drive = 1.0 / ceiling
    return Shaper(EDGE if knee < 1e-6 else KNEE, drive, 0.0, 1.0 / drive, 0.0, 1.0 if knee < 1e-6 else knee)


@kernel
def antiderivative(kind: int, v: float, top: float) -> float:
    """F of the dense, the edge and the knee curve."""
    if kind == KNEE:
        size = abs(v)
        bent = min(size, 1.0 + top)
        over = max(0.0, bent - (1.0 - top))
        return 0.5 * bent * bent - over * over * over / (12.0 * top) + (size - bent)
    inside = min(abs(v), top)
    if kind == DENSE:
        s = inside * inside
        return s * (7.5 - s * (2.5 - 0.5 * s)) / 8.0 + (abs(v) - inside) * inside * (15.0 - s * (10.0 - 3.0 * s)) / 8.0
    return 0.5 * inside * inside + (abs(v) - inside) * inside


@kernel
def change(
    x: Floats,
    last: Floats,
    kind: int,
    drive: float,
    bias: float,
    scale: float,
    offset: float,
    top: float,
    driven: Floats,
    root: Floats,
    out: Floats,
    straight: float = 1.0,
) -> None:
    """What the curve adds to both channels and takes from them, anti-aliased: the shaped signal less the signal times
    `straight`.

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
    # how far the curve is a straight line: from what is not driven at all, and from the middle
    flat, reach = (0.0, math.inf) if kind in (SOFT, DENSE) else (math.inf, 1.0 - top if kind == KNEE else top)
    for i in range(n):
        a, b = driven[i], after[i]
        y = scale * out[i] + offset - straight * (0.5 * (a + b) - bias) * inverse
        unbent = abs(a - bias) <= flat and abs(b - bias) <= flat and abs(a) <= reach and abs(b) <= reach
        out[i] = 0.0 if unbent else y  # to the bit
    last[0], last[1] = x[n - 2], x[n - 1]


@kernel
def _mean(kind: int, a: float, b: float, top: float) -> float:
    """The mean of the dense, the edge or the knee curve from `a` to `b`."""
    if kind == KNEE:
        if abs(a) <= 1.0 - top and abs(b) <= 1.0 - top:
            return 0.5 * (a + b)
        if abs(b - a) > 1e-4:
            return (antiderivative(kind, b, top) - antiderivative(kind, a, top)) / (b - a)
        size = min(abs(0.5 * (a + b)), 1.0 + top)
        over = max(0.0, size - (1.0 - top))
        return math.copysign(size - over * over / (4.0 * top), a + b)
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


@kernel
def shaved(x: Floats, factor: int, drive: float, knee: float, out: Floats) -> None:
    """What `clip` takes, in dB, of the highest peak of each frame: `x` is flat, `factor` pairs of left and right a frame."""
    for i in range(out.shape[0]):
        top = 0.0
        for k in range(2 * factor * i, 2 * factor * (i + 1)):
            top = max(top, abs(x[k]))
        top *= drive
        if top <= 1.0 - knee:
            out[i] = 0.0
            continue
        bent = min(top, 1.0 + knee)
        over = bent - (1.0 - knee)
        out[i] = 20.0 * math.log10(top / (bent - over * over / (4.0 * knee))) if knee > 0.0 else 20.0 * math.log10(top)
