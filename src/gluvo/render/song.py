"""Renders of a session over a song or a section of it, at every node of its plan."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

from gluvo.measure.figures import Figures
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.cache import Cache
from gluvo.render.flow import flow
from gluvo.render.joint import Joint, cut
from gluvo.render.plan import Node, Plan
from gluvo.session.media import Material
from gluvo.session.records import Session

MOST_FOUND = 2000
"""Answers that a renderer keeps; see `Renderer.once`."""

LEAD_IN, MOST_LEAD_IN = 5.0, 80.0
"""Seconds rendered before a section, so that slow releases are where they would be: at least, and at most."""


@dataclass(frozen=True)
class Rendered:
    """A plan with the joints of its nodes; of the whole song, or of a section of it."""

    plan: Plan
    joints: Mapping[str, Joint]
    """By the nodes' keys."""
    whole: bool

    def at(self, node: Node) -> Joint:
        return self.joints[node.key]

    @property
    def result(self) -> Joint:
        return self.at(self.plan.result)

    @property
    def untouched(self) -> Joint:
        """The song with faders and pans but without any step."""
        return self.at(self.plan.untouched)

    def joint(self, step: str) -> Joint | None:
        """What comes out of a step or container; None if it is off, or nothing of it is needed for the result."""
        node = self.plan.after.get(step)
        return self.joints.get(node.key) if node is not None else None

    def before(self, step: str) -> Joint | None:
        """What feeds a step or container."""
        node = self.plan.before.get(step)
        return self.joints.get(node.key) if node is not None else None

    def start(self, strip: str) -> Joint | None:
        """What comes into a strip's chain."""
        found = self.plan.strips.get(strip)
        return self.at(found.start) if found is not None else None

    def end(self, strip: str) -> Joint | None:
        """What comes out of a strip's chain."""
        found = self.plan.strips.get(strip)
        return self.at(found.end) if found is not None else None

    def sent(self, strip: str, span: Span | None = None) -> Figures | None:
        """The figures of what a strip sends on, after its fader and pan."""
        if strip not in self.plan.strips:
            return None
        left, right = self.plan.gains(strip)
        if abs(left) == abs(right):
            return self.at(self.plan.strips[strip].end).figures(span, abs(left))
        return self.at(self.plan.flowing(strip)).figures(span)


class Renderer:
    """Renders the plans of a session over its material; only what has not been rendered so before."""

    def __init__(self, material: Material, cache: Cache | None = None) -> None:
        self.material = material
        self.cache = cache if cache is not None else Cache()
        self._found: OrderedDict[object, float] = OrderedDict()
        self._finding = threading.Lock()

    @property
    def rate(self) -> int:
        return self.material.rate

    @property
    def seconds(self) -> float:
        return self.material.seconds

    def plan(self, session: Session) -> Plan:
        """The plan of a session, with what there is of its audio; what was read of other files than it has now is not there."""
        return Plan(session, self.material.having(session))

    def song(self, session: Session, progress: Progress = no_progress) -> Rendered:
        """The whole song at every node. `progress` may raise `Cancelled`; joints that are done stay cached."""
        plan = self.plan(session)
        return Rendered(plan, self.joints(plan.nodes(), None, progress), whole=True)

    def section(self, session: Session, span: Span, progress: Progress = no_progress) -> Rendered:
        """A section at every node, with a lead-in: quick, and within hundredths of a dB of the whole render."""
        plan = self.plan(session)
        return Rendered(plan, self.joints(plan.nodes(), span, progress), whole=False)

    def joint(self, node: Node, span: Span | None = None, progress: Progress = no_progress, lead: float = 0.0) -> Joint:
        """One node, over a span of the song (all of it); see `joints`."""
        return self.joints([node], span, progress, lead)[node.key]

    def once(self, question: object, answer: Callable[[], float]) -> float:
        """A figure that depends on nothing but the question, looked for the first time it is asked."""
        with self._finding:
            if question in self._found:
                self._found.move_to_end(question)
                return self._found[question]
        found = answer()
        with self._finding:
            self._found[question] = found
            while len(self._found) > MOST_FOUND:
                self._found.popitem(last=False)
        return found

    def cache_of(self, node: Node) -> Joint | None:
        """The joint of the whole song, if it has been rendered."""
        return self._cached(node, None, 0.0)

    def known(self, session: Session) -> bool:
        """Whether the whole song is rendered."""
        return all(self.cache_of(node) is not None for node in self.plan(session).nodes())

    def joints(
        self, wanted: Iterable[Node], span: Span | None = None, progress: Progress = no_progress, lead: float = 0.0
    ) -> dict[str, Joint]:
        """The joints of some nodes by key; see `flow.flow` for how they are made.

        A span is rendered with a lead-in as long as what leads to the nodes remembers, and no shorter than `lead` s.
        """
        wanted = list(wanted)
        found: dict[str, Joint] = {}
        lead = lead_in(max([lead, *(node.memory for node in wanted)]))
        missing = self._needed(wanted, span, lead, found)
        if missing:
            self._render(missing, span, lead, found, progress)
        progress(1.0)
        return {node.key: found[node.key] for node in wanted}

    def _needed(self, wanted: list[Node], span: Span | None, lead: float, found: dict[str, Joint]) -> list[Node]:
        """What has to be rendered, each node after its inputs; cached joints go into `found`."""
        needed: list[Node] = []
        seen: set[str] = set()

        def visit(node: Node) -> None:
            if node.key in seen:
                return
            seen.add(node.key)
            joint = self._cached(node, span, lead)
            if joint is not None:
                found[node.key] = joint
                return
            for before in node.inputs:
                visit(before)
            needed.append(node)

        for node in wanted:
            visit(node)
        return needed

    def _render(
        self, missing: list[Node], span: Span | None, lead: float, found: dict[str, Joint], progress: Progress
    ) -> None:
        def keep(node: Node, joint: Joint) -> None:
            self.cache.put(self._place(node, span, lead), joint)
            found[node.key] = joint

        flow(missing, dict(found), self.material, self._stretch(span, lead)[0], keep, progress)

    # --- one node ------------------------------------------------------------------------------------------

    def _place(self, node: Node, span: Span | None, lead: float) -> object:
        """Where a joint is kept: the content that made it, the song's length, and the section if it is one."""
        return node.key, self.material.frames, span, lead if span is not None else 0.0

    def _cached(self, node: Node, span: Span | None, lead: float) -> Joint | None:
        joint = self.cache.get(self._place(node, span, lead))
        if joint is None and span is not None:
            whole = self.cache.get(self._place(node, None, 0.0))
            if whole is not None:
                joint = cut(whole, *self._stretch(span, lead))
                self.cache.put(self._place(node, span, lead), joint)
        return joint

    def _stretch(self, span: Span | None, lead: float) -> tuple[slice, float]:
        """The frames that are rendered for a span, and where they begin in seconds."""
        if span is None:
            return slice(0, self.material.frames), 0.0
        frames = Span(max(0.0, span.start - lead), span.end).frames(self.rate, self.material.frames)
        return frames, frames.start / self.rate


def lead_in(memory: float) -> float:
    """Seconds to be rendered before a section, where what is rendered remembers so many; one of a few lengths, so that
    what is rendered for one question serves another."""
    lead = LEAD_IN
    while lead < min(memory, MOST_LEAD_IN):
        lead *= 2.0
    return lead
