"""The live graph: everything that the Hear row offers, in step to the sample."""

from __future__ import annotations

from collections.abc import Collection

from gluvo.compare.hearables import nodes_of
from gluvo.dsp.kernel import Floats
from gluvo.render.machine import Machine, NodeRunner
from gluvo.render.plan import Plan, Source, Within, steps_heard
from gluvo.session.records import Session
from gluvo.steps import Processor

BESIDE = ("beside a", "beside b")
"""Two places for sounds beside the song, so that one can fade into another."""


class LiveGraph(Machine):
    """A session at work: what can be heard of it, and two places for sounds beside it, all equally late.

    `like` is a graph that may be playing: what is the same in both runs once for both.
    """

    def __init__(self, session: Session, have: Collection[str], rate: int, like: LiveGraph | None = None) -> None:
        """Prepares everything; `process` only runs it."""
        plan = Plan(session, have, solo=session.view.solo)
        nodes = dict(nodes_of(session, plan, have))
        nodes |= {name: Source(name, name, (), name) for name in BESIDE}
        # strips that are not heard are run, too, for their meters
        super().__init__(nodes, rate, like, [strip.end for strip in plan.strips.values()], remembers=True)
        self.session = session
        self.steps: tuple[Processor | None, ...] = tuple(self._processor(plan, id) for id in steps_heard(session))
        """The processors to report on, as `steps_heard` orders them."""
        self.heard: tuple[NodeRunner | None, ...] = tuple(
            self.runners.get(node.key) if isinstance(node := plan.after.get(id), Within) else None
            for id in steps_heard(session)
        )
        """What tells how much of each is heard, where they work in some sections alone."""
        self.strips: tuple[tuple[NodeRunner, float, float], ...] = tuple(
            (self.runners[plan.strips[s.id].end.key], *((0.0, 0.0) if s.mute else s.gains)) for s in session.strips
        )
        """For each strip of the session, what comes out of its chain and the factors at which it flows on."""

        chosen = session.view.step
        sides = [plan.before[chosen], plan.after[chosen]] if chosen in plan.after else []
        self.tapped: tuple[NodeRunner, NodeRunner] | None = None
        """What goes into the chosen step and what comes out of it, if it is on."""
        if sides and all(node.key in self.runners for node in sides):
            self.tapped = self.runners[sides[0].key], self.runners[sides[1].key]

        self.moving: list[tuple[int, Floats]] = []
        """The parts of the chosen step that move: their places in it, and their curves of the last block."""
        processor = self._processor(plan, chosen)
        step = session.step(chosen)
        if processor is not None and step is not None:
            self.moving = [(n, processor.moved[id]) for n, id in enumerate(step.parts) if id in processor.moved]

    def _processor(self, plan: Plan, id: str) -> Processor | None:
        runner = self.runners.get(plan.at_work[id].key) if id in plan.at_work else None
        return runner.processor if runner is not None else None
