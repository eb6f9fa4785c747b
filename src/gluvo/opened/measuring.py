"""The order in which a session is measured: what is on screen first, the whole song last."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace

from gluvo.advise.aim import detector_levels
from gluvo.advise.hold import held_session
from gluvo.advise.loudness_target import hits_of_joints
from gluvo.advise.step_analysis import StepAnalysis, analysed_step, with_low_cuts
from gluvo.compare.hearables import alternatives_at_hand
from gluvo.compare.match import ALTERNATIVES, RESULT, matched_gains
from gluvo.compare.readings import Other, hear_readings, other_readings
from gluvo.compare.references import aligned, partners
from gluvo.compare.tones import Frozen
from gluvo.measure.loudness import SILENT
from gluvo.measure.same_song import SameSong, same_song
from gluvo.measure.spectrum import spectrum
from gluvo.measure.trace import Span
from gluvo.opened.audio import ExtraSound, joint_of
from gluvo.opened.picture import Picture
from gluvo.progress import Progress, step_back
from gluvo.render.joint import Joint
from gluvo.render.song import Rendered, Renderer
from gluvo.session import alternatives, chains
from gluvo.session.records import MIX, Section, Session
from gluvo.session.sounds import Sound

PictureEdit = Callable[[Picture], Picture]
"""More is known of the sound."""


@dataclass
class Measuring:
    """A session to be measured, and who is told of it as it goes."""

    renderer: Renderer
    session: Session
    span: Span | None
    references: Mapping[str, Sound]
    beside: Mapping[str, ExtraSound]
    """What can be heard besides, by its id."""
    show: Callable[[PictureEdit], None]
    """Takes what is known by now into the picture."""
    amend: Callable[[Session], None]
    """Takes the session with its held settings found, if they have changed."""
    telling: Callable[[str], Progress]
    """A progress that is shown under a title."""
    same: Mapping[str, SameSong]
    """The references that are known to be the same song."""

    _compared: list[tuple[str, Other]] = field(default_factory=list, init=False)
    """The references and what of them is heard against the section."""

    def run(self, check: Progress, opened: bool) -> None:
        """All of it; `opened` where nothing is known of the song yet. `check` stops it by raising."""
        renderer, session, span = self.renderer, self.session, self.span
        stretch, chosen = span or Span(0.0, renderer.seconds), session.view.step
        # a session that was just opened has its held settings as they were found when it was last worked on
        around = self._chosen(session, stretch, check) if opened else None
        near = held_session(renderer, session, check, up_to=chosen) if chosen else session
        if not opened or near != session:
            around = self._chosen(near, stretch, check)
        if opened:  # its shape is what is looked for first of the song
            untouched = renderer.plan(session).untouched
            stems = renderer.joint(untouched, None, self.telling("Measuring the stems"))
            _ = stems.outline  # see `_read`
            self.show(lambda p: replace(p, untouched=stems))
        held = self._alternatives(held_session(renderer, near, check), check)
        if held != session:
            self.amend(held)
        self._match(held, check)
        section = renderer.section(held, stretch, self.telling("Measuring"))
        self._read(section, stretch)
        self.show(lambda p: replace(p, section_render=section, section_current=True))
        tones = tuple(
            Frozen(name, o.joint.tone(o.span), level)
            for name, o in self._compared
            if (level := o.joint.loudness(o.span)) > SILENT
        )
        tone = spectrum(section.result.heard_in(stretch), renderer.rate, "mid", 3)
        self.show(lambda p: replace(p, tone=tone, references=tones))
        song = renderer.song(held, self.telling("Measuring the song"))
        self._read(song, None)
        self.show(lambda p: replace(p, song_render=song, song_current=True))
        self._read_strips(song, stretch)
        self._find_same(song.untouched, held, check)
        come = song.before(chosen)
        if around is not None and come is not None:
            more = with_low_cuts(around, held.item(chosen), come)
            self.show(lambda p: replace(p, around=more))

    def _alternatives(self, held: Session, check: Progress) -> Session:
        """With what the alternatives hold that may be heard next, too, since each is solved for itself."""
        view, of = held.view, alternatives_at_hand(held)
        for n, id in enumerate(ALTERNATIVES):
            if of and id in (view.hear, *view.at_hand, *view.pins):
                other = alternatives.choosing(held, of, n)
                if other is not held:
                    held = alternatives.updated(held, of, n, held_session(self.renderer, other, check))
        return held

    def _match(self, held: Session, check: Progress) -> None:
        """How loud all that can be heard is, before any other figure: it may be played already."""
        renderer, span = self.renderer, self.span
        untouched = renderer.joint(renderer.plan(held).untouched, None, check)
        levels = {s.id: untouched.loudness(Span(s.start, s.end)) for s in held.sections}
        found: dict[str, dict[str, Section]] = {}
        others: dict[str, Other] = {}
        for id, sound in self.references.items():
            reference, joint = held.reference(id), joint_of(sound)
            check(0.0)
            if reference is None:
                continue
            if (same := self.same.get(id)) is not None:
                found[id] = aligned(held.sections, same, joint.trace.seconds)
            else:
                own = {s.id: joint.loudness(Span(s.start, s.end)) for s in reference.sections}
                found[id] = partners(held, levels, reference, own)
            part = found[id].get(held.view.section)
            others[id] = Other(joint, Span(part.start, part.end) if part is not None else None, reference.trim)
            self._compared.append((reference.name, others[id]))
        known = dict(self.same)
        self.show(lambda p: replace(p, partners=found, same=known))
        for id, made in self.beside.items():
            if made.matched:
                others[id] = Other(joint_of(made.sound), span, is_difference=made.hearable.is_difference)
        match = held.view.match
        readings = hear_readings(renderer, held, span, check, match) | other_readings(others, match, check)
        gains = matched_gains(readings)
        level = readings[RESULT].loudness + gains[RESULT]
        self.show(lambda p: replace(p, gains=gains, level=level))

    def _find_same(self, untouched: Joint, held: Session, check: Progress) -> None:
        """Look which references are the same song, once for each; those are heard in step with it."""
        found = {}
        for id, sound in self.references.items():
            joint = joint_of(sound)
            same = joint.once(
                ("same", untouched.trace.seconds, len(held.stems), held.stems[0].media.sha256 if held.stems else ""),
                lambda joint=joint: same_song(untouched.audio, joint.audio, self.renderer.rate, check),  # type: ignore[misc]
            )
            if same is not None:
                found[id] = same
        if found != self.same:
            self.same = found
            self._compared.clear()
            self._match(held, check)

    def _read(self, render: Rendered, span: Span | None) -> None:
        """Read the peaks that are on screen, so that the window does not have to: of the song what comes in and what goes
        out, of the section also what lies between the steps that are looked at."""
        if span is None:
            for drawn in (render.result, render.untouched):
                _ = drawn.outline  # or the window would read the whole song when it draws it
        strip = self.session.strip(self.session.view.strip)
        ends = [render.result, render.untouched, render.start(MIX), render.start(self.session.view.strip)]
        chain = chains.flat(strip.chain) if strip is not None and span is not None else ()
        ids = {item.id for item in chain}
        parts = [render.joints.get(gives.key) for (id, _), (_, gives) in render.plan.parts.items() if id in ids]
        for joint in (*ends, *(render.joint(item.id) for item in chain), *parts):
            if joint is not None:
                joint.figures(span)
        if span is not None and self.session.view.page == "buses":
            self._read_strips(render, span)

    def _read_strips(self, render: Rendered, span: Span) -> None:
        """Read the peaks of what every strip sends on: at once where they are on screen, else when all else is done."""
        for strip in self.session.strips:
            render.sent(strip.id, span)

    def _chosen(self, session: Session, stretch: Span, check: Progress) -> StepAnalysis | None:
        """What is on screen, before all that depends on it."""
        renderer, chosen = self.renderer, session.view.step
        plan, hits, levels, around = renderer.plan(session), None, None, None
        step = session.item(chosen)
        lead = max([plan.result.memory, step.memory if step is not None else 0.0])
        if chosen in plan.after:
            pair = plan.before[chosen], plan.after[chosen]
            joints = renderer.joints(pair, stretch, check, lead)
            before, after = (joints[node.key] for node in pair)
            with ThreadPoolExecutor(1, "gluvo-looking", step_back) as beside:
                tones = beside.map(lambda joint: joint.tone(stretch), (before, after))  # `analysed_step` wants them
                if after.reduction is not None or (step is not None and step.shapes_hits):
                    hits = hits_of_joints(before, after, stretch)
                list(tones)  # there now, or what went wrong with them is raised
            keys = [renderer.joint(key, stretch, check, lead) for key in plan.keys.get(chosen, ())]
            around = analysed_step(step, before, after, stretch, check, keys)
            self.show(lambda p: replace(p, hits=hits, hits_step=chosen, around=around))
            if step is not None and step.has_ear and step.reduces:
                levels = detector_levels(step, before, stretch, keys)
        elif not chosen and (strip := plan.strips.get(session.view.strip)):
            start = renderer.joint(strip.start, stretch, check, lead)
            around = analysed_step(None, start, start, stretch, check)
        self.show(lambda p: replace(p, hits=hits, hits_step=chosen, levels=levels, around=around))
        return around
