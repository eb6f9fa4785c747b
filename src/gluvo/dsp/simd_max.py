"""The largest of many values, eight at a time."""

from __future__ import annotations

from gluvo.dsp.kernel import Floats, kernel
from gluvo.dsp.vectors import fma8, load8, max8, mul8, splat8, top8


@kernel
def largest(x: Floats) -> float:
    """The largest of one value or more.

    >>> import numpy as np
    >>> largest(np.array([-3.0, -1.0, -2.0]))
    -1.0
    """
    n, found = x.shape[0], x[0]
    tops, i = splat8(found), 0
    while i + 8 <= n:
        tops = max8(tops, load8(x, i))
        i += 8
    for k in range(i, n):
        found = max(found, x[k])
    return max(found, top8(tops))


@kernel
def largest_magnitude(x: Floats) -> float:
    """The largest without its sign; of nothing, 0.

    >>> import numpy as np
    >>> largest_magnitude(np.array([-3.0, -1.0, 2.0]))
    3.0
    """
    n, found, minus = x.shape[0], 0.0, splat8(-1.0)
    tops, i = splat8(0.0), 0
    while i + 8 <= n:
        v = load8(x, i)
        tops = max8(tops, max8(v, mul8(minus, v)))
        i += 8
    for k in range(i, n):
        found = max(found, abs(x[k]))
    return max(found, top8(tops))


@kernel
def largest_sum(a: Floats, b: Floats) -> float:
    """The largest of the sums of pairs; not less than 0.

    >>> import numpy as np
    >>> largest_sum(np.array([1.0, 2.0]), np.array([3.0, 0.5]))
    4.0
    """
    n, found, one = a.shape[0], 0.0, splat8(1.0)
    tops, i = splat8(0.0), 0
    while i + 8 <= n:
        tops = max8(tops, fma8(one, load8(a, i), load8(b, i)))
        i += 8
    for k in range(i, n):
        found = max(found, a[k] + b[k])
    return max(found, top8(tops))
