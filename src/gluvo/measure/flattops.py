"""Flat tops: where a waveform was clipped before it came here."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.dsp.kernel import kernel


@dataclass(frozen=True)
class FlatTop:
    """A run of samples at the same height."""

    start: int
    length: int
    channel: int


def flat_tops(x: np.ndarray, least: int = 3, above_db: float = -1.0, within_db: float = 0.01) -> tuple[FlatTop, ...]:
    """Runs of at least `least` samples within `within_db` of a local maximum above `above_db` dBFS.

    `x` is (frames, 2). Both polarities count; a run never crosses zero.

    >>> x = np.zeros((100, 2)); x[40:50] = 1.0
    >>> [(top.start, top.length, top.channel) for top in flat_tops(x)]
    [(40, 10, 0), (40, 10, 1)]
    """
    x = np.ascontiguousarray(x, dtype=np.float64)
    found = np.zeros((max(1, len(x) // least), 2), dtype=np.int64)
    result: list[FlatTop] = []
    for channel in range(2):
        count = _runs(x, channel, least, 10.0 ** (above_db / 20.0), 10.0 ** (-within_db / 20.0), found)
        result += [FlatTop(int(s), int(n), channel) for s, n in found[:count]]
    return tuple(sorted(result, key=lambda top: (top.start, top.channel)))


@kernel
def _runs(x, channel, least, above, ratio, found):  # type: ignore[no-untyped-def]
    count, i, frames = 0, 0, x.shape[0]
    while i < frames:
        first = abs(x[i, channel])
        if first <= above:
            i += 1
            continue
        sign = 1.0 if x[i, channel] > 0.0 else -1.0
        low = high = first
        end = i + 1
        while end < frames:
            v = x[end, channel] * sign
            if v <= above or min(low, v) < max(high, v) * ratio:
                break
            low, high = min(low, v), max(high, v)
            end += 1
        before = x[i - 1, channel] * sign if i > 0 else 0.0
        after = x[end, channel] * sign if end < frames else 0.0
        if end - i >= least and before < high and after < high:
            found[count, 0], found[count, 1] = i, end - i
            count += 1
            i = end
        else:
            i += 1
    return count
