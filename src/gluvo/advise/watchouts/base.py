"""What a watch-out is made of: what is looked at, one that was found with its evidence, and a kind of them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

import numpy as np

from gluvo.advise.loudness_target import hits_of_joints
from gluvo.dsp.kernel import Floats
from gluvo.measure.evidence import Evidence
from gluvo.measure.flattops import FlatTop
from gluvo.measure.hits import Hits, find_onsets
from gluvo.measure.loudness import SILENT, loudest_span
from gluvo.measure.overview import Reduced
from gluvo.measure.trace import Span
from gluvo.render.joint import Joint
from gluvo.render.song import Rendered, Renderer
from gluvo.session.records import Deliverable, Session
from gluvo.steps import Glue, Step

Group = Literal["what came in", "tone", "image", "reduction", "loudness", "delivery"]
"""What kinds of watch-outs are about."""

LOOKED_AT = 20.0
"""Seconds of the loudest stretch that is looked at where a whole song says no more."""


@dataclass(frozen=True, eq=False)
class Offer:
    """One ordinary edit that would mend it."""

    words: str
    """What it does, as the name of an action."""
    edit: Callable[[Session], Session]


@dataclass(frozen=True, eq=False)
class WatchOut:
    """A fault of this song, told with its evidence."""

    kind: str
    strip: str
    """The id of the strip that it is about."""
    step: str
    """The id of the step; empty where it is of the strip."""
    text: str
    """One sentence: what, where and how much."""
    detail: str
    """A second one: what it comes from, or what follows."""
    value: float
    limit: float
    unit: str
    span: Span
    """Where it is heard, seconds of the song."""
    audible: float
    """How much of it can be heard, 0–1; they are ordered by it."""
    evidence: Evidence | None = None
    offer: Offer | None = None
    hear: str = ""
    """What is heard of it: the id of a hearable; empty for the result."""
    place: str = ""
    """What tells several of a kind at the same step apart, such as a frequency."""

    @property
    def excess(self) -> float:
        """How far it is past its limit, in its own unit."""
        return float(abs(self.value - self.limit))

    @property
    def key(self) -> str:
        """What it is known by from one look to the next."""
        return "/".join((self.kind, self.strip, self.step, self.place))


@dataclass(frozen=True)
class Place:
    """Where a kind looks, and all that what it finds there depends on."""

    strip: str
    step: str = ""
    depends: tuple[object, ...] = ()


@dataclass(frozen=True)
class Kind:
    """A kind of watch-out."""

    id: str
    group: Group
    title: str
    formula: str
    """How its value is computed."""
    why: str
    """Why its limit is where it is."""
    source: str
    """The standard or the paper that the measure is from."""
    places: Callable[[Scene], Iterable[Place]]
    look: Callable[[Scene, Place], Iterable[WatchOut]]


@dataclass(frozen=True, eq=False)
class Gluing:
    """A Glue at work: what comes in, what goes out, the loudest stretch of what comes in, and what is taken there."""

    step: Glue
    before: Joint
    after: Joint
    span: Span
    reduced: Reduced


@dataclass(frozen=True)
class Listened:
    """How long one has listened since the last break, and how loud."""

    minutes: float
    level: float | None
    """LUFS as sent to the loudspeakers."""


DecodedPeak = Callable[[np.ndarray, int, Deliverable], float | None]
"""The true peak of a sound, (frames, 2) at a rate, once it is encoded as a row has it and decoded again, dBTP; None for rows that
lose nothing."""


@dataclass(frozen=True, eq=False)
class Scene:
    """What watch-outs are looked for in: the whole song, rendered at every node."""

    session: Session
    render: Rendered
    renderer: Renderer
    flat: Mapping[str, Sequence[FlatTop]] = field(default_factory=dict)
    """The flat tops of each stem, by its id."""
    decoded_peak: DecodedPeak | None = None
    """None where nothing can be encoded."""
    listened: Listened | None = None
    """None where nobody has."""
    references: Sequence[Joint] = ()
    """Whole."""
    stale: tuple[str, ...] = ()
    """The names of rows whose files were written before something changed."""

    # --- places ----------------------------------------------------------------------------------------------

    @property
    def rate(self) -> int:
        return self.renderer.rate

    @property
    def seconds(self) -> float:
        return self.renderer.seconds

    @cached_property
    def loud(self) -> Span:
        """The loudest stretch of the song."""
        length = min(LOOKED_AT, self.seconds)
        start = loudest_span(self.render.result.trace, length)
        return Span(start, min(self.seconds, start + length))

    def stems(self) -> list[Place]:
        """Each stem that has audio, by what it is before any step."""
        there = self.renderer.material.sounds
        return [
            Place(s.id, depends=(self.render.plan.strips[s.id].start.key,)) for s in self.session.stems if s.id in there
        ]

    def stem_ends(self) -> list[Place]:
        """Each stem that has audio, by what comes out of its chain."""
        return [Place(p.strip, depends=(self.render.plan.strips[p.strip].end.key,)) for p in self.stems()]

    def mix(self) -> list[Place]:
        """The mix bus, by what comes out at the end."""
        return [Place(self.session.mix.id, depends=(self.render.plan.result.key,))]

    def reducing(self) -> list[tuple[Place, Step]]:
        """Each step that is on and takes level away, by what comes into it and what comes out."""
        plan = self.render.plan
        found: list[tuple[Place, Step]] = []
        for strip in self.session.strips:
            for step in self.session.items:
                if step.reduces and step.id in plan.after and self.owner(step.id) == strip.id:
                    keys = (
                        plan.before[step.id].key,
                        plan.after[step.id].key,
                        *(k.key for k in plan.keys.get(step.id, ())),
                    )
                    found.append((Place(strip.id, step.id, keys), step))
        return found

    def owner(self, step: str) -> str:
        """The id of the strip whose chain a step is in."""
        strip = self.session.strip_with(step)
        return strip.id if strip is not None else ""

    def name(self, strip: str) -> str:
        found = self.session.strip(strip)
        return found.name if found is not None else ""

    # --- sounds ----------------------------------------------------------------------------------------------

    def start(self, strip: str) -> Joint:
        """What comes into a strip's chain."""
        return self.render.at(self.render.plan.strips[strip].start)

    def end(self, strip: str) -> Joint:
        """What comes out of it."""
        return self.render.at(self.render.plan.strips[strip].end)

    def sides(self, step: str) -> tuple[Joint, Joint] | None:
        """What comes into a step, and what comes out."""
        before, after = self.render.before(step), self.render.joint(step)
        return (before, after) if before is not None and after is not None else None

    def gluing(self, place: Place, least: float = 1.0) -> Gluing | None:
        """A Glue that takes at least so many dB at peaks in its loudest stretch; None where there is none."""
        step, sides = self.session.item(place.step), self.sides(place.step)
        if not isinstance(step, Glue) or sides is None:
            return None
        span = self.loud_of(sides[0])
        reduced = sides[1].reduced(span)
        return Gluing(step, *sides, span, reduced) if reduced is not None and reduced.peaks >= least else None

    def loud_of(self, joint: Joint) -> Span:
        """The loudest stretch of a sound of the song."""
        length = min(LOOKED_AT, self.seconds)
        start = loudest_span(joint.trace, length)
        return Span(start, min(self.seconds, start + length))

    def hits(self, before: Joint, after: Joint, span: Span) -> Hits | None:
        """The hits before and after a step, see `hits_of_joints`; looked for once."""
        return after.once(("hits", span), lambda: hits_of_joints(before, after, span))

    def onsets(self, joint: Joint, span: Span | None) -> Floats:
        """When hits begin in a stretch, s from its start; looked for once."""
        return joint.once(("onsets", span), lambda: find_onsets(joint.heard_in(span), self.rate))

    def span_at(self, seconds: float, length: float) -> Span:
        """A stretch about a place."""
        return around(seconds, length, self.seconds)


VOICE = re.compile(
    r"\b(vox|voc\b|voice|vocal|sing\b|singer|sung|choir|bvs?\b|rap\b|gesang|stimme|chor\b"
    r"|lead\b(?!.*(guitar|gtr|synth|saw|key|piano|organ|sax|horn|trumpet|flute|violin|string|bass|bell)))",
    re.IGNORECASE,
)
"""What strips of voices are called."""


def is_voice(name: str) -> bool:
    """Whether a strip is called as voices are.

    >>> is_voice("Lead vox 2"), is_voice("Snare"), is_voice("Voices low"), is_voice("Chords"), is_voice("Single coil")
    (True, False, True, False, False)
    >>> is_voice("Lead"), is_voice("Lead guitar"), is_voice("Lead L"), is_voice("Guitar and lead vocal")
    (True, False, True, True)
    """
    return VOICE.search(name) is not None


def is_heard(joint: Joint, span: Span | None = None) -> bool:
    """Whether there is anything to be heard."""
    return joint.loudness(span) > SILENT


def around(seconds: float, length: float, whole: float) -> Span:
    """A stretch about a place, inside the song."""
    start = max(0.0, min(seconds - length / 2.0, whole - length))
    return Span(start, min(whole, start + length))


def share_of(value: float, low: float, high: float) -> float:
    """Where a value lies between two others, 0–1."""
    return float(min(1.0, max(0.0, (value - low) / (high - low))))


def hit_evidence(hits: Hits) -> Evidence:
    """The mean hit, after over before."""
    return Evidence(hits.times * 1000.0, hits.after, "hit", "dBFS", beside=hits.before)


def of_time(values: Floats, span: Span, unit: str, limit: float | None = None) -> Evidence:
    """Values that lie evenly over a stretch of the song."""
    return Evidence(np.linspace(span.start, span.end, len(values)), values, "time", unit, limit=limit)
