"""Lets what a detector listens to be heard."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np

from gluvo.dsp import compression as comp
from gluvo.dsp.kernel import Audio
from gluvo.steps.base import Processor


class Hears(Protocol):
    """A detector."""

    mid_side: bool
    """Whether it works on mid and side."""

    def hear(self, x: Audio) -> Audio:
        """What it listens to of `x`, in left and right or in mid and side. Used again by the next block."""

    def adopt(self, other: Any) -> bool:
        """Go on where another one of the same kind is; whether that is all it needs."""


class DetectorMonitor(Processor):
    """Gives what a detector listens to, as left and right."""

    def __init__(self, detector: Hears) -> None:
        super().__init__()
        self._detector = detector

    def process(self, x: Audio, out: Audio) -> None:
        heard = self._detector.hear(x)
        if self._detector.mid_side:
            comp.from_mid_side(heard, out)
        else:
            np.copyto(out, heard)

    def adopt(self, other: Processor) -> bool:
        same = isinstance(other, DetectorMonitor) and type(other._detector) is type(self._detector)
        return same and self._detector.adopt(other._detector)  # type: ignore[attr-defined]
