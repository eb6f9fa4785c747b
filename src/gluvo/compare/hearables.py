"""Everything that can be heard, as records. The Hear row, the live graph, the level match and the engine read them.

A new kind of hearable is a function in `PROVIDERS`.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from gluvo.compare.match import ALTERNATIVES, BAND, CHANGE, DETECTOR, RESULT, STEP_OUT, TAKEN, UNTOUCHED, UP_TO, WET
from gluvo.render.plan import Node, Plan, less, mixed, run
from gluvo.session import alternatives, marks, prints
from gluvo.session.records import Alternatives, Session
from gluvo.steps import ChainItem, Step

SONG, VERSIONS, REFERENCES, ENCODINGS, PRICES = "song", "versions", "references", "encodings", "prices"
PRINTS = "prints"
CHOSEN, SIDE_BY_SIDE = "chosen", "alternatives"
GROUPS = {
    SONG: "Song",
    REFERENCES: "References",
    VERSIONS: "Versions",
    PRINTS: "Prints",
    ENCODINGS: "Encodings",
    PRICES: "Loudness",
    CHOSEN: "Chosen step",
    SIDE_BY_SIDE: "Alternatives",
}
"""Groups of the Hear row, in its order, and their names."""


@dataclass(frozen=True)
class Stretch:
    """Where a stretch of the song lies in a sound of its own; all in seconds. A shorter one goes round."""

    start: float
    end: float
    own_start: float
    own_end: float


@dataclass(frozen=True)
class TimeMap:
    """From the song's time to a sound's own. Outside of all stretches the two are the same, and the sound goes round."""

    stretches: tuple[Stretch, ...] = ()

    def own(self, seconds: float, length: float) -> float:
        """The place in a sound of `length` s that is heard at a place of the song.

        >>> TimeMap((Stretch(10.0, 20.0, 0.0, 4.0),)).own(15.0, 60.0)
        1.0
        """
        for s in self.stretches:
            if s.start <= seconds < s.end and s.own_end > s.own_start:
                return s.own_start + (seconds - s.start) % (s.own_end - s.own_start)
        return seconds % length if length > 0.0 else 0.0


@dataclass(frozen=True)
class Place:
    """What hearables that lie in the song's own graph are found in."""

    session: Session
    plan: Plan
    have: Collection[str] | None

    @property
    def solo(self) -> Collection[str]:
        """What is heard alone, if anything is."""
        return self.session.view.solo if self.plan.solo else ()

    def at_hand(self, id: str) -> bool:
        """Whether something that is made only when it is wanted is to be made."""
        view = self.session.view
        return id == view.hear or id in view.at_hand or id in view.pins


@dataclass(frozen=True)
class Hearable:
    """Something that can be heard.

    Its sound is a node of the song's graph, or (without `node`) a sound beside it that the engine is given under the
    same id.
    """

    id: str
    group: str
    name: str
    tip: str
    node: Callable[[Place], Node | None] | None = None
    """None where there is nothing to be heard at present."""
    time: TimeMap = TimeMap()
    is_difference: bool = False
    """Quiet by nature: it may be boosted a lot, and never decides how loud the others play."""
    listed: bool = True
    """Whether it stands in the Hear row; what does not is heard by a control of its own."""
    there: Callable[[Session], bool] = lambda _: True
    """Whether what is chosen has it."""
    named: Callable[[Session], str] | None = None
    """What it is called by what it is of at present, if it has not always the same name."""


def _out(place: Place) -> Node:
    out = taken_out(place.session)
    if not out:
        return place.plan.result
    return Plan(marks.without(place.session, out), place.have, solo=place.solo, tag="out:").result


def taken_out(session: Session) -> tuple[str, ...]:
    """The rows that *Out* is without: all that are marked, or the chosen step."""
    found, chosen = marks.marked(session), session.view.step
    return found or ((chosen,) if chosen else ())


def _out_name(session: Session) -> str:
    found = marks.marked(session)
    count = marks.steps_out(session, found) if found else 0
    return f"Out · {count} step{'' if count == 1 else 's'}" if found else "Out"


def _up_to(place: Place) -> Node | None:
    if not place.at_hand(UP_TO):
        return None
    view = place.session.view
    return Plan(marks.up_to(place.session, view.strip, view.step), place.have, solo=place.solo, tag="up to:").result


def _wet(place: Place) -> Node | None:
    chosen = place.session.view.step
    if not place.at_hand(WET) or chosen not in place.plan.after:
        return None
    return Plan(place.session, place.have, solo=place.solo, wet=chosen, tag="wet:").result


def _has_wet(session: Session) -> bool:
    item = session.item(session.view.step)
    return (
        item is not None
        and item.on
        and (item.wet_alone() is not None or (len(item.row_ids) == 1 and item.contains_steps))
    )


def alternatives_at_hand(session: Session) -> str:
    """What the alternatives are of that can be heard: of the chosen step, of what it is in, or of its chain."""
    return alternatives.at(session, session.view.strip, session.view.step)


def _alternative(n: int) -> Hearable:
    """The nth of the alternatives that are at hand, from 0."""
    id = ALTERNATIVES[n]

    def several(session: Session) -> Alternatives | None:
        of = alternatives_at_hand(session)
        return alternatives.found(session, of) if of else None

    def there(session: Session) -> bool:
        found = several(session)
        return found is not None and n < len(found.settings)

    def node(place: Place) -> Node | None:
        if not place.at_hand(id) or not there(place.session):
            return None
        other = alternatives.choosing(place.session, alternatives_at_hand(place.session), n)
        return Plan(other, place.have, solo=place.solo, tag=f"{id}:").result

    def named(session: Session) -> str:
        found, of = several(session), alternatives_at_hand(session)
        item, strip = session.item(of), session.strip(of)
        what = item.called if item is not None else strip.name if strip is not None else ""
        return f"{what} {alternatives.name_of(found, n)}" if found is not None and there(session) else ""

    tip = "The song with this one of the alternatives that the chosen step, what it is in, or its chain has."
    return Hearable(id, SIDE_BY_SIDE, f"Alternative {n + 1}", tip, node, there=there, named=named)


def _chosen(has: Callable[[ChainItem, Session], bool]) -> Callable[[Session], bool]:
    """Whether there is a chosen item, and it has something."""

    def there(session: Session) -> bool:
        item = session.item(session.view.step)
        return item is not None and has(item, session)

    return there


def _change(place: Place) -> Node:
    chosen, plan = place.session.view.step, place.plan
    if chosen not in plan.after:
        return mixed("change", ())
    return less("change", plan.after[chosen], plan.before[chosen])


def _detector(place: Place) -> Node | None:
    step = place.session.step(place.session.view.step)
    return place.plan.ear(step) if step is not None and step.id in place.plan.after and step.has_ear else None


def _ear_name(session: Session) -> str:
    item = session.item(session.view.step)
    return item.ear_name if item is not None and item.has_ear else Step.ear_name


def _band(place: Place) -> Node | None:
    view, plan = place.session.view, place.plan
    step = place.session.item(view.step)
    if step is None or step.id not in plan.after or view.band not in step.parts or view.hear != BAND:
        return None  # made only while it is heard
    if step.contains_steps:  # of a band with steps of its own, what they change
        came, gives = plan.parts[step.id, view.band]
        return less("band", gives, came)
    others = run("band out", step.without_part(view.band), plan.before[step.id])
    return less("band", plan.after[step.id], others)


def _taken(place: Place) -> Node | None:
    view, plan = place.session.view, place.plan
    step = place.session.step(view.step)
    if step is None or step.id not in plan.after or not step.reduces or view.hear != TAKEN:
        return None  # made only while it is heard
    gain = step.plain_gain
    return mixed("taken", ((plan.before[step.id], (gain, gain)), (plan.after[step.id], (-1.0, -1.0))))


IN_THE_SONG: tuple[Hearable, ...] = (
    Hearable(RESULT, SONG, "Result", "The song after all steps.", lambda place: place.plan.result),
    Hearable(UNTOUCHED, SONG, "Untouched", "The song as it came.", lambda place: place.plan.untouched),
    Hearable(
        STEP_OUT,
        SONG,
        "Out",
        "The result without all rows that are marked (Ctrl+Space); without the chosen step, if none is.",
        _out,
        named=_out_name,
    ),
    Hearable(
        CHANGE,
        SONG,
        "Change only",
        "Only what the chosen step adds and takes away: its output less its input.",
        _change,
        is_difference=True,
    ),
    Hearable(
        DETECTOR,
        SONG,
        "Detector",
        "What the chosen step's detector listens to; of a Saturation, only what bends.",
        _detector,
        is_difference=True,
        listed=False,
        there=_chosen(lambda item, _: item.has_ear),
        named=_ear_name,
    ),
    Hearable(
        BAND,
        SONG,
        "Band alone",
        "What the chosen step gives with the chosen band less what it gives without it.",
        _band,
        is_difference=True,
        listed=False,
        there=_chosen(lambda item, session: session.view.band in item.parts),
    ),
    Hearable(
        TAKEN,
        SONG,
        "What is taken off",
        "Only what the chosen step takes off: its input, as loud as it would come out, less its output.",
        _taken,
        is_difference=True,
        listed=False,
        there=_chosen(lambda item, _: item.reduces),
    ),
    Hearable(
        UP_TO,
        CHOSEN,
        "Up to here",
        "The chain as far as the chosen step, through the rest of the song's way: what comes after it in that chain is out (U).",
        _up_to,
    ),
    Hearable(
        WET,
        CHOSEN,
        "Wet alone",
        "Of the chosen step or lane only what it makes goes on, without what passes beside it (Shift+W).",
        _wet,
        there=_has_wet,
    ),
    *(_alternative(n) for n in range(len(ALTERNATIVES))),
)
"""What lies in the song's own graph."""


def _song(session: Session, _there: Collection[str]) -> tuple[Hearable, ...]:
    found = (h for h in IN_THE_SONG if not h.listed or h.there(session))
    return tuple(h if h.named is None else replace(h, name=h.named(session)) for h in found)


def _references(session: Session, there: Collection[str]) -> tuple[Hearable, ...]:
    found = (r for r in session.references if r.id in there)
    return tuple(Hearable(r.id, REFERENCES, r.name, f"The reference {r.name}.") for r in found)


def _versions(session: Session, _there: Collection[str]) -> tuple[Hearable, ...]:
    tip = "{}, kept {}: rendered when it is first heard."
    return tuple(
        Hearable(v.id, VERSIONS, v.name, tip.format(v.name, v.made.replace("T", " ")[:16]))
        for v in session.versions[::-1]
    )


def _prints(session: Session, _there: Collection[str]) -> tuple[Hearable, ...]:
    """The prints that stems could have in place of the ones that they have."""
    tip = "The song with the print {} in place of the one that {} has: rendered when it is first heard."
    return tuple(
        Hearable(p.id, PRINTS, f"{stem.name}: {p.name}", tip.format(p.name, stem.name))
        for stem in session.stems
        for p in prints.of(session, stem.id)[::-1]
        if p.media.sha256 != stem.media.sha256
    )


PROVIDERS: tuple[Callable[[Session, Collection[str]], tuple[Hearable, ...]], ...] = (
    _song,
    _references,
    _versions,
    _prints,
)


def hearables(session: Session, there: Collection[str]) -> tuple[Hearable, ...]:
    """All that can be heard of a session, in the order of the Hear row; `there`: the sounds beside it that there are."""
    return tuple(hearable for provide in PROVIDERS for hearable in provide(session, there))


def in_order(found: Iterable[Hearable], pins: Sequence[str]) -> list[Hearable]:
    """By group; those that are pinned come right after the song's own, in the order in which they were pinned."""
    groups = list(GROUPS)

    def place(hearable: Hearable) -> tuple[int, int]:
        if hearable.group == SONG:
            return 0, 0
        if hearable.id in pins:
            return 1, pins.index(hearable.id)
        return 2, groups.index(hearable.group)

    return sorted(found, key=place)


def nodes_of(session: Session, plan: Plan, have: Collection[str] | None = None) -> Mapping[str, Node]:
    """The nodes of the hearables that lie in the song's graph, by their ids. `plan` is the session's, with what is heard
    alone; `have`: the stems that there are."""
    place, found = Place(session, plan, have), {}
    for hearable in IN_THE_SONG:
        node = hearable.node(place) if hearable.node is not None else None
        if node is not None:
            found[hearable.id] = node
    return found
