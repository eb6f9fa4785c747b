"""Clicks: single samples that belong to no sound.

After the detection of impulsive noise by a predictor's error (S. Vaseghi, 'Advanced Digital Signal Processing and Noise
Reduction', ch. 12), with the mean of two neighbours as the predictor.
"""

from __future__ import annotations

import numpy as np

from gluvo.dsp.kernel import Ints, Singles, kernel

STANDS, LEAST = 14.0, 0.004
"""How many times it stands over both sides of it, and how high it is at least (linear)."""
BESIDE, GAP = 48, 3
"""Frames to either side that it is compared with, but for the nearest."""
BEGINS = 2.5
"""How many times as high it is after as before where a sound begins."""
MOST = 1000
"""That are counted."""


@kernel
def _find(x: Singles, channel: int, first: int, stop: int, out: Ints) -> int:
    """Frames of a channel that jump and come back at once, into `out`; how many."""
    count, edge = 0, BESIDE + GAP + 2
    for i in range(max(first, edge), min(stop, x.shape[0] - edge)):
        off = abs(x[i, channel] - 0.5 * (x[i + 1, channel] + x[i - 1, channel]))
        if off <= LEAST:
            continue
        before = abs(x[i - 1, channel] - 0.5 * (x[i, channel] + x[i - 2, channel]))
        after = abs(x[i + 1, channel] - 0.5 * (x[i + 2, channel] + x[i, channel]))
        if off < before or off <= after:  # it is beside one
            continue
        alone, was, becomes = True, 0.0, 0.0
        for k in range(GAP, GAP + BESIDE):
            for way in (-1, 1):
                j = i + way * k
                beside = abs(x[j, channel] - 0.5 * (x[j + 1, channel] + x[j - 1, channel]))
                if off <= STANDS * max(beside, 1e-7):
                    alone = False
                height = abs(x[j, channel])
                if way < 0:
                    was = max(was, height)
                else:
                    becomes = max(becomes, height)
            if not alone:
                break
        if alone and becomes < BEGINS * max(was, LEAST) and count < out.shape[0]:  # else a sound begins there
            if count == 0 or i - out[count - 1] > GAP:
                out[count] = i
                count += 1
    return count


def found_in(x: np.ndarray) -> np.ndarray:
    """Frames at which either channel of `x` (frames, 2) jumps and comes back at once.

    What a sample is off the mean of its neighbours by, against how far others are on both sides of it: the onset of a sound
    is as large, and goes on; a click stands alone.

    >>> x = np.repeat(np.sin(np.arange(4000, dtype=np.float32) / 20.0)[:, None], 2, axis=1); x[2000] += 0.3
    >>> found_in(x).tolist()
    [2000]
    """
    audio = np.ascontiguousarray(x, dtype=np.float32)
    places, room = [], np.zeros(MOST, dtype=np.int64)
    for channel in range(2):
        places.append(room[: _find(audio, channel, 0, len(audio), room)].copy())
    return np.unique(np.concatenate(places))
