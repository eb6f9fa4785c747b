"""What the Compare page shows: each thing that can be heard, measured in the section that is heard against the chosen one."""

from __future__ import annotations

from dataclasses import dataclass, field

from PySide6.QtCore import QObject, Signal

from gluvo.compare.corridor import Corridor, Finding, corridor_of, findings
from gluvo.compare.hearables import CHOSEN, ENCODINGS, PRICES, REFERENCES, SIDE_BY_SIDE, VERSIONS, Hearable, nodes_of
from gluvo.compare.match import RESULT, STEP_OUT, UNTOUCHED
from gluvo.compare.profile import Profile, profile_of
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.measure.spectrum import Tone
from gluvo.measure.trace import Span
from gluvo.opened.audio import joint_of
from gluvo.opened.tasks import COMPARING
from gluvo.progress import Progress
from gluvo.render.joint import Joint
from gluvo.session import marks
from gluvo.session.records import MIX
from gluvo.session.versions import state_of

MOST_VERSIONS = 3
"""So many of the newest versions are compared without having been heard."""


@dataclass(frozen=True, eq=False)
class Column:
    """Something that is compared."""

    hearable: Hearable
    profile: Profile
    span: Span | None
    """What of it, in its own time."""


@dataclass(frozen=True, eq=False)
class Comparison:
    """All that is compared, as it was at one time."""

    columns: tuple[Column, ...] = ()
    corridor: Corridor | None = None
    findings: tuple[Finding, ...] = ()
    buses: dict[str, tuple[str, Tone]] = field(default_factory=dict)

    def column(self, id: str) -> Column | None:
        return next((c for c in self.columns if c.hearable.id == id), None)

    @property
    def references(self) -> tuple[Column, ...]:
        return tuple(c for c in self.columns if c.hearable.group == REFERENCES)


class Comparing(QObject):
    """Measures in the background, whenever there is something new to be compared and the page is shown."""

    changed = Signal()

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self._bench = bench
        self.found = Comparison()
        self._made_of: object = None
        """What is measured, or was last."""
        self._found_of: object = None
        self._wanted = False
        Follower(self, bench, self._look, picture=lambda p: (p.section_current,), besides=lambda: (self._made_from(),))

    def want(self, wanted: bool) -> None:
        """The page is shown, or no longer."""
        self._wanted = wanted
        self._look()

    @property
    def current(self) -> bool:
        """Whether what was found is of the sound as it now is."""
        return self._found_of == self._made_from()

    def _made_from(self) -> object:
        bench, session = self._bench, self._bench.session
        beside = tuple((key, id(made.sound)) for key, made in bench.listening.extras.items())
        partners = tuple((key, bench.listening.partner(key)) for key in bench.audio.references)
        names = tuple(r.name for r in session.references)
        further = (
            tuple(h.id for h in self._further()),
            session.view.marks if marks.marked(session) else (),
            session.view.step,
        )
        of_steps = further if further[0] else ()
        return session.sound, session.versions, bench.span, beside, partners, names, id(bench.renderer), of_steps

    def _further(self) -> list[Hearable]:
        """What of the song is compared besides the result: without what is marked, and what is pinned of the chosen step."""
        session = self._bench.session
        pinned = {h.id for h in self._bench.listening.hearables() if h.group in (CHOSEN, SIDE_BY_SIDE)} & set(
            session.view.pins
        )
        wanted = pinned | ({STEP_OUT} if marks.marked(session) else set())
        return [h for h in self._bench.listening.hearables() if h.id in wanted]

    def _look(self) -> None:
        bench = self._bench
        picture, renderer, session, span = bench.picture, bench.renderer, bench.session, bench.span
        made_of = self._made_from()
        if not self._wanted or renderer is None or not picture.section_current or self._made_of == made_of:
            return
        self._made_of = made_of
        others: list[tuple[Hearable, Span | None]] = []
        for hearable in bench.listening.hearables():
            if hearable.group == REFERENCES:
                part = bench.listening.partner(hearable.id)
                others.append((hearable, Span(part.start, part.end) if part is not None else None))
            elif hearable.group in (VERSIONS, ENCODINGS, PRICES) and not hearable.is_difference:
                others.append((hearable, span))
        sounds = dict(bench.audio.references) | {id: made.sound for id, made in bench.listening.extras.items()}
        own = [h for h in bench.listening.hearables() if h.id in (RESULT, UNTOUCHED)] + self._further()
        kept = [h for h in bench.listening.hearables() if h.group == VERSIONS and h.id not in sounds][:MOST_VERSIONS]

        def work(check: Progress) -> Comparison:
            plan = renderer.plan(session)
            lead = plan.result.memory
            there = nodes_of(session, plan, renderer.material.having(session))
            nodes = {h.id: there[h.id] for h in own if h.id in there}
            nodes |= {s.id: plan.flowing(s.id) for s in session.strips if s.into == MIX and s.id in plan.strips}
            joints = renderer.joints(nodes.values(), span, check, lead)
            found: list[tuple[Hearable, Joint, Span | None]] = [
                (h, joints[nodes[h.id].key], span) for h in own if h.id in nodes
            ]
            for version in kept:  # not rendered whole yet: its section is enough here
                node = renderer.plan(state_of(session, version.id)).result
                found.append((version, renderer.joint(node, span, check, lead), span))
            found += [(h, joint_of(sounds[h.id]), part) for h, part in others if h.id in sounds]
            columns = tuple(Column(h, profile_of(joint, part, check), part) for h, joint, part in found)
            references = {c.hearable.name: c.profile for c in columns if c.hearable.group == REFERENCES}
            buses = {s.id: (s.name, joints[nodes[s.id].key].tone(span)) for s in session.strips if s.id in nodes}
            corridor = corridor_of(list(references.values()))
            return Comparison(columns, corridor, findings(columns[0].profile, references, buses), buses)

        def done(comparison: Comparison) -> None:
            if made_of == self._made_of:
                self.found, self._found_of = comparison, made_of
                self.changed.emit()

        def ended() -> None:
            if self._made_of == made_of != self._found_of:
                self._made_of = None  # it was stopped: it is measured when the page is shown again

        bench.background.run(COMPARING, "Comparing", work, done, ended)
