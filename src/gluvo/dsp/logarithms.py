"""Logarithms and exponentials of whole blocks, as polynomials that the compiler makes vector code of.

A call of the library's functions for each sample is most of what a compressor costs. Here the exponent is taken out of
the number's bits and the rest is a series, exact to the last two bits; no argument is ever checked, so levels come in
with a floor.
"""

from __future__ import annotations

import math

import numpy as np

from gluvo.dsp.kernel import Floats, kernel

BITS = 52
"""Of the mantissa."""
BIAS = 1023
BIAS_PLACED = BIAS << BITS
HALF_OCTAVE = BIAS_PLACED - int(np.float64(math.sqrt(0.5)).view(np.int64))
"""Moves the border between two exponents from 1 to √½, so that what is left lies about 1."""
ROUNDER = 1.5 * 2.0**BITS
"""Added and taken away again, it rounds to a whole number; in between, that number stands in the lowest bits."""
DB_OF_OCTAVE = 20.0 * math.log10(2.0)
DB_OF_NEPER = 20.0 / math.log(10.0)
OCTAVES_OF_DB = 1.0 / DB_OF_OCTAVE
LN2 = math.log(2.0)


@kernel
def to_db(x: Floats, out: Floats) -> None:
    """Levels in dB of positive normal amplitudes, from one contiguous array into another.

    >>> x = np.array([1.0, 10.0]); out = np.zeros(2)
    >>> to_db(x, out); out.tolist()
    [0.0, 20.0]
    """
    bits, made = x.view(np.int64), out.view(np.int64)
    for i in range(x.shape[0]):
        made[i] = bits[i] - ((((bits[i] + HALF_OCTAVE) >> BITS) - BIAS) << BITS)
    for i in range(x.shape[0]):
        octaves = float(((bits[i] + HALF_OCTAVE) >> BITS) - BIAS)
        f = out[i] - 1.0
        s = f / (2.0 + f)
        z = s * s
        low = 1.0 + z * (1.0 / 3.0 + z * (1.0 / 5.0 + z * (1.0 / 7.0 + z * (1.0 / 9.0 + z * (1.0 / 11.0)))))
        high = 1.0 / 13.0 + z * (1.0 / 15.0 + z * (1.0 / 17.0 + z * (1.0 / 19.0)))
        y = z * z
        out[i] = octaves * DB_OF_OCTAVE + (2.0 * DB_OF_NEPER) * s * (low + y * y * y * high)


@kernel
def to_factors(reduction: Floats, out: Floats) -> None:
    """The factors ``10^(−r / 20)`` of reductions in dB, from one contiguous array into another; of 0 dB exactly 1.

    >>> out = np.zeros(2); to_factors(np.array([0.0, 20.0]), out)
    >>> [round(float(v), 12) for v in out]
    [1.0, 0.1]
    """
    made = out.view(np.int64)
    for i in range(reduction.shape[0]):
        out[i] = ROUNDER - reduction[i] * OCTAVES_OF_DB
    for i in range(reduction.shape[0]):
        made[i] = (made[i] + BIAS) << BITS
    for i in range(reduction.shape[0]):
        t = -reduction[i] * OCTAVES_OF_DB
        f = (t - ((t + ROUNDER) - ROUNDER)) * LN2
        high = 1.0 / 5040.0 + f * (1.0 / 40320.0 + f * (1.0 / 362880.0 + f * (1.0 / 3628800.0)))
        high += f * f * f * f * (1.0 / 39916800.0 + f * (1.0 / 479001600.0 + f * (1.0 / 6227020800.0)))
        low = 1.0 + f * (1.0 + f * (0.5 + f * (1.0 / 6.0 + f * (1.0 / 24.0 + f * (1.0 / 120.0 + f * (1.0 / 720.0))))))
        f2 = f * f
        out[i] = (low + f2 * f2 * f2 * f * high) * out[i]
