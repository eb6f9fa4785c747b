"""The last step before whole numbers."""

from __future__ import annotations

import numpy as np

from gluvo.dsp.kernel import Audio


class Tpdf:
    """Triangular dither of 2 LSB peak to peak, rectangular noise twice (Lipshitz, Wannamaker, Vanderkooy, JAES 40(5), 1992).

    The noise comes from a seeded generator, so that the same master gives the same file.
    """

    def __init__(self, bits: int, seed: int = 1) -> None:
        self.step = 2.0 ** (1 - bits)
        self.random = np.random.default_rng(seed)

    def add(self, x: Audio, keep_silence: bool = True) -> Audio:
        """`x` with dither; frames that are exactly 0 stay 0 where `keep_silence` is asked."""
        noise = self.random.random(x.shape)
        noise -= self.random.random(x.shape)
        noise *= self.step
        if keep_silence:
            noise[~x.any(axis=1)] = 0.0
        return x + noise


def to_whole(x: Audio, bits: int) -> np.ndarray:
    """Round to `bits`-bit whole numbers, left-justified in int32, held at full scale."""
    full = 2 ** (bits - 1)
    whole = np.clip(np.rint(x * full), -full, full - 1).astype(np.int32)
    return whole << (32 - bits)
