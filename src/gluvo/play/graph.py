"""The live graph: everything that the Hear row offers, in step to the sample."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from gluvo.compare.match import CHANGE, RESULT, STEP_OUT, UNTOUCHED
from gluvo.dsp.delay import Delay
from gluvo.dsp.kernel import Audio
from gluvo.render.chain import Chain
from gluvo.steps import MAX_BLOCK, Step

REFERENCES = ("reference a", "reference b")
"""Two places, so that one reference can fade into another."""
LONGEST_LATENCY = 0.25
"""Seconds; delays are made for this much, so that graphs of other latencies can take over from each other."""


class LiveGraph:
    """A chain, opened at the chosen step.

    The chain before the step feeds the step and, past it and delayed by as much, a second run of what comes
    after: Result and Step out. Change only is the step's output less its input. All come out equally late.
    """

    def __init__(self, steps: Sequence[Step], chosen: str, rate: int) -> None:
        """Prepares everything; `process` only runs it."""
        on = [step for step in steps if step.on]
        index = next((n for n, step in enumerate(on) if step.id == chosen), len(on))
        self.before = Chain(on[:index], rate)
        self.step = Chain(on[index : index + 1], rate)
        self.after = Chain(on[index + 1 :], rate)
        self.after_out = Chain(on[index + 1 :] if index < len(on) else [], rate)
        self.latency = self.before.latency + self.step.latency + self.after.latency
        longest = round(LONGEST_LATENCY * rate)
        self._past_step = Delay(self.step.latency, longest)
        self._past_after = Delay(self.after.latency, longest)
        self._past_all = Delay(self.latency, longest)
        self._past_all_references = [Delay(self.latency, longest) for _ in REFERENCES]
        self.paths: dict[str, Audio] = {
            name: np.zeros((MAX_BLOCK, 2)) for name in (RESULT, UNTOUCHED, STEP_OUT, CHANGE, *REFERENCES)
        }
        self.steps = (*self.before.steps, *self.step.steps, *self.after.steps)
        self.processors = (*self.before.processors, *self.step.processors, *self.after.processors)

    def process(self, song: Audio, references: Sequence[Audio]) -> None:
        """Run a block of the song, and of the references that are heard, into `paths`."""
        n = len(song)
        result, untouched, out, change, *others = (path[:n] for path in self.paths.values())
        self._past_all.run(song, untouched)
        for late, reference, path in zip(self._past_all_references, references, others, strict=True):
            late.run(reference, path)
        self.before.process(song, result)
        self._past_step.run(result, out)
        self.step.process(result, result)
        np.subtract(result, out, out=change)
        self._past_after.run(change, change)
        self.after.process(result, result)
        self.after_out.process(out, out)

    def adopt(self, other: LiveGraph) -> None:
        """Go on where `other` is. States are found by step, wherever it now stands."""
        for chain in (self.before, self.step, self.after):
            for earlier in (other.before, other.step, other.after):
                chain.adopt(earlier)
        for earlier in (other.before, other.step, other.after, other.after_out):
            self.after_out.adopt(earlier)
        for name in ("_past_step", "_past_after", "_past_all"):
            getattr(self, name).adopt(getattr(other, name))
        for mine, theirs in zip(self._past_all_references, other._past_all_references, strict=True):
            mine.adopt(theirs)
