"""The graph of a session: a node for each place of the sound, from the stems to the mix bus, with its inputs.

A plan is made anew for every edit. Its nodes are told apart by a key of all that makes their sound, so that two
plans share what is the same in both: the cache of renders finds it again, and the live engine goes on playing it.
"""

from __future__ import annotations

import functools
import hashlib
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import msgspec

from gluvo.dsp.envelope import Points
from gluvo.session import by_section, chains
from gluvo.session.records import MIX, AnyStrip, Media, Session, Stem
from gluvo.session.tree import children, heard, part_of
from gluvo.steps import Step

Gains = tuple[float, float]
PLAIN: Gains = (1.0, 1.0)


@dataclass(frozen=True, eq=False)
class Node:
    """A sound in the graph, with what it is made from."""

    key: str
    """A digest of everything that makes the sound."""
    name: str
    """Where it stands in the session. The live engine carries state over to the node of the same name."""
    inputs: tuple[Node, ...] = ()
    memory: float = field(init=False, default=0.0)
    """Seconds after which what came in no longer tells in the sound."""

    def __post_init__(self) -> None:
        object.__setattr__(self, "memory", max([self.own_memory, *(before.memory for before in self.inputs)]))

    @property
    def own_memory(self) -> float:
        """What it remembers itself, seconds."""
        return 0.0


@dataclass(frozen=True, eq=False)
class Source(Node):
    """An audio file."""

    sound: str = ""
    """Which of the sounds that are given."""
    offset: float = 0.0
    """Where in the song it begins, seconds."""


@dataclass(frozen=True, eq=False)
class Mix(Node):
    """A sum; silence without inputs."""

    gains: tuple[Gains, ...] = ()
    """Factors of left and right for each input."""


@dataclass(frozen=True, eq=False)
class Level(Mix):
    """The level of a step after its run, whose reduction is that of the step."""


@dataclass(frozen=True, eq=False)
class Run(Node):
    """A step, or a lane's blend, at work on the first input. Further inputs are its keys."""

    step: Step = field(default_factory=Step)
    follows: bool = False
    """Whether the first input is only a part of the song; then the second one is the whole, whose reductions and moves are its
    own."""

    @property
    def own_memory(self) -> float:
        return self.step.memory


@dataclass(frozen=True, eq=False)
class Ride(Node):
    """A level that moves along the song."""

    points: Points = ()
    """dB."""


@dataclass(frozen=True, eq=False)
class Within(Node):
    """The second input in some stretches of the song, the first one in all others."""

    points: Points = ()
    """How much of the second one there is, 0–1."""
    heard: Points = ()
    """How much of it is left once others have taken its place further on: what its reduction counts by."""


@dataclass(frozen=True, eq=False)
class Ear(Node):
    """What the detector of a step hears of its input."""

    step: Step = field(default_factory=Step)


@dataclass(frozen=True)
class StripPlan:
    """A strip's place in the graph."""

    start: Node
    """What comes into its chain."""
    end: Node
    """What comes out of its chain, before the fader."""
    along: tuple[str, ...]
    """The items that are on in the chain itself."""
    share: float = 1.0
    """How much of what they do is in what comes out."""


def source(media: Media, sound: str, name: str, offset: float = 0.0) -> Source:
    return Source(_key("source", media.sha256, repr(offset)), name, (), sound, offset)


def mixed(name: str, parts: Iterable[tuple[Node, Gains]]) -> Node:
    """A sum; a single sound at its own level is itself."""
    parts = tuple(parts)
    if len(parts) == 1 and parts[0][1] == PLAIN:
        return parts[0][0]
    nodes, gains = tuple(n for n, _ in parts), tuple(g for _, g in parts)
    return Mix(_key("mix", *(n.key for n in nodes), repr(gains)), name, nodes, gains)


def less(name: str, after: Node, before: Node) -> Node:
    """What lies between two sounds."""
    return mixed(name, ((after, PLAIN), (before, (-1.0, -1.0))))


def run(name: str, step: Step, *inputs: Node, follows: bool = False) -> Run:
    return Run(
        _key("run" if not follows else "follow", *(n.key for n in inputs), _sound_of(step)), name, inputs, step, follows
    )


class Plan:
    """The graph of a session.

    `have`: the stems whose audio there is (all); the others are silent. `solo`: strips and lanes that are heard
    alone. `wet`: a step or lane of which only what it makes goes on, without the sound that passes beside it. `tag` goes
    before the nodes' names, so that plans that run side by side can be told apart.

    `only`: the strips whose sound there is, with all that flows into them; every step does to it what it does to the whole song,
    so that parts of the song add up to it, but for what steps bend.
    """

    def __init__(
        self,
        session: Session,
        have: Collection[str] | None = None,
        *,
        solo: Collection[str] = (),
        wet: str = "",
        tag: str = "",
        only: Collection[str] | None = None,
    ) -> None:
        self._whole = None if only is None else Plan(session, have, solo=solo, wet=wet, tag=tag)
        """The whole song, where this is a part of it."""
        self._there = None if only is None else part_of(session, only)
        self._tag = tag
        self._session, self._have, self.solo = session, have, frozenset(solo)
        self._wet = wet
        self._heard = heard(session, solo)
        self.before: dict[str, Node] = {}
        """What feeds each step and lane that is on, by its id."""
        self.after: dict[str, Node] = {}
        """What comes out of it."""
        self.at_work: dict[str, Run] = {}
        """The step or lane itself, if it is more than a level; what comes out of it may have another one."""
        self.keys: dict[str, tuple[Node, ...]] = {}
        """What the detectors of a keyed step listen to."""
        self.parts: dict[tuple[str, int], tuple[Node, Node]] = {}
        """The two sides of the parts of containers. Of a lane (part 0) what comes along the chain and what comes through
        the lane; of a Split's band, by its id, what is cut out for it and what it gives."""
        self.strips: dict[str, StripPlan] = {}
        """In an order in which each one needs only those before it."""
        for strip in session.strips:
            self._strip(strip)
        self.result = self.flowing(MIX)
        self.untouched = mixed("untouched", self._bare_parts(MIX, PLAIN))
        """The song with faders and pans but without any step."""

    def gains(self, id: str) -> Gains:
        """The factors at which a strip's sound flows on; whether it is muted aside."""
        strip = self._session.strip(id)
        assert strip is not None
        return strip.gains

    def item(self, id: str) -> Step | None:
        """A step or container of the session."""
        return self._session.item(id)

    def flowing(self, id: str) -> Node:
        """What a strip sends on, after its fader."""
        return mixed(f"{self._tag}{id}/out", [(self.strips[id].end, self.gains(id))])

    def nodes(self) -> list[Node]:
        """Every node that is looked at, each after its inputs."""
        panned = [self.flowing(id) for id in self.strips if abs(self.gains(id)[0]) != abs(self.gains(id)[1])]
        return ordered([self.result, self.untouched, *(s.end for s in self.strips.values()), *panned])

    def _bare_parts(self, id: str, gains: Gains) -> list[tuple[Node, Gains]]:
        """The stems under a strip, at the level at which they would come out if there were no steps."""
        strip = self._session.strip(id)
        assert strip is not None
        left, right = strip.gains
        gains = (gains[0] * left, gains[1] * right)
        if isinstance(strip, Stem):
            return [(self.strips[id].start, gains)]
        flowing = (s for s in children(self._session, id) if not s.mute and s.id in self._heard)
        return [part for s in flowing for part in self._bare_parts(s.id, gains)]

    def _strip(self, strip: AnyStrip) -> StripPlan:
        if strip.id in self.strips:
            return self.strips[strip.id]
        start = self._start(strip)
        rides = by_section.lifted(self._session, strip)
        if rides and strip.ride_before:
            start = self._ridden(strip.id, start, rides)
        along = tuple(i.id for i in strip.chain if i.on)
        end, share = self.chain(strip.chain, start), strip.amount / 100.0
        if end is not start and share != 1.0:
            end = self.added(f"{strip.id}/amount", [(end, share), (start, 1.0 - share)])
        if rides and not strip.ride_before:
            end = self._ridden(strip.id, end, rides)
        made = self.strips[strip.id] = StripPlan(start, end, along, share)
        return made

    def _ridden(self, strip: str, x: Node, points: Points) -> Node:
        return Ride(_key("ride", x.key, repr(points)), f"{self._tag}{strip}/ride", (x,), points)

    def _start(self, strip: AnyStrip) -> Node:
        if isinstance(strip, Stem):
            if self._have is not None and strip.id not in self._have:
                return mixed(f"{self._tag}{strip.id}/in", ())
            return source(strip.media, strip.id, f"{strip.id}/in", strip.offset)
        flowing = [s for s in children(self._session, strip.id) if not s.mute and s.id in self._heard]
        flowing = [s for s in flowing if self._there is None or s.id in self._there]
        return mixed(f"{self._tag}{strip.id}/in", [(self._strip(s).end, s.gains) for s in flowing])

    def chain(self, chain: Iterable[Step], x: Node, key: Node | None = None) -> Node:
        """What comes out of a chain, or of a row of a container."""
        points, chain, came = {"": x}, tuple(chain), {"": x}
        placed = {item.id: other for item in chain if (other := by_section.replaced_by(chain, item)) is not None}
        for item in chain:
            came[item.id] = came[placed[item.id].id] if item.id in placed else x
            if item.on:
                before = self.before[item.id] = came[item.id]
                made = (
                    item.wired(before, _Wiring(self, points)) if item.contains_steps else self.step(item, before, key)
                )
                instead = [o for o in chain if o.on and placed.get(o.id) is item]
                if item.sections or instead:
                    made = self._within(item, x, made, instead)
                x = self.after[item.id] = made
            points[item.id] = x
        return x

    def _within(self, item: Step, dry: Node, wet: Node, instead: Sequence[Step]) -> Node:
        """What comes out of an item that works in some sections alone, or has others in its place in some."""
        points = by_section.working(self._session, item)
        heard = by_section.left_of(points, [by_section.working(self._session, other) for other in instead])
        name = f"{self._tag}{item.id}/within"
        return Within(_key("within", dry.key, wet.key, repr((points, heard))), name, (dry, wet), points, heard)

    def step(self, step: Step, x: Node, key: Node | None = None) -> Node:
        """What comes out of a step, whose detector listens to `key` if it has none of its own. A key that is gone is the
        step's own input."""
        step = (step.wet_alone() if step.id == self._wet else None) or step
        whole = self._whole.before[step.id] if self._whole is not None else x
        if step.recording is not None and (self._have is None or step.id in self._have):
            if self._whole is not None and whole.key != x.key:
                return x  # what came back is of all that was sent: no part of it can be told
            shift = step.recording_shift
            played = _key("recording", step.recording_key, repr(shift))
            return self.levelled(step, x, Source(played, f"{self._tag}{step.id}/back", (), step.id, shift))
        if self._whole is not None and whole.key != x.key:
            self.keys[step.id] = keys = self._whole.keys.get(step.id, ())
            return self.levelled(step, x, whole, *keys, follows=True) if step.listens else self.levelled(step, x, *keys)
        named = [self.strip_end(id) for id in step.keys_from]
        if any(named):
            self.keys[step.id] = tuple(node or x for node in named)
        elif key is not None and step.takes_key and not named:
            self.keys[step.id] = (key,)
        return self.levelled(step, x, *self.keys.get(step.id, ()))

    def strip_end(self, id: str) -> Node | None:
        """What comes out of a strip's chain; None if the strip is gone."""
        strip = self._session.strip(id)
        if self._whole is not None:
            return self._whole.strip_end(id)
        return None if strip is None else self._strip(strip).end

    def blended(self, container: Step, main: Node, side: Node, gain: float) -> Node:
        """What comes out of a container that puts its steps' sound under the chain's; its steps alone, if they are heard
        alone or only they go on."""
        if container.id in self.solo or container.id == self._wet:
            return mixed(f"{self._tag}{container.id}/alone", [(side, (gain, gain))])
        return self.levelled(container, main, side)

    def added(self, name: str, parts: Sequence[tuple[Node, float]]) -> Node:
        """Sounds added up, each times its factor."""
        return mixed(self._tag + name, [(node, (gain, gain)) for node, gain in parts])

    def levelled(self, step: Step, *inputs: Node, follows: bool = False) -> Node:
        """A step at work, and after it its level, as a node of its own: a level that is found makes no new render of
        the step. What is nothing but a level is not run at all."""
        plain, gain = step.split_output_gain()
        name, gains = f"{self._tag}{step.id}/level", ((gain, gain),)
        if step.is_level:  # also at 0 dB a node of its own: what the step before took away is not taken by this one
            return Mix(_key("mix", inputs[0].key, repr(gains)), name, inputs[:1], gains)
        made = self.at_work[step.id] = run(self._tag + step.id, plain, *inputs, follows=follows)
        return made if gain == 1.0 else Level(_key("level", made.key, repr(gains)), name, (made,), gains)

    def ear(self, step: Step) -> Node:
        """What the detector of a step that is on hears."""
        x = self.keys.get(step.id, (self.before[step.id],))[0]
        if step.id not in self.keys and (back := step.before_ear()) is not None:
            x = run(f"{step.id}/back", back, x)
        plain = msgspec.json.encode(step, order="sorted").decode()
        return Ear(_key("ear", x.key, plain), f"{step.id}/ear", (x,), step)


class _Wiring:
    """What a container is wired with; see `Step.wired`."""

    def __init__(self, plan: Plan, points: Mapping[str, Node]) -> None:
        self._plan, self._points = plan, points

    def at(self, id: str) -> Node:
        return self._points[id]

    def key(self, strip: str) -> Node | None:
        return self._plan.strip_end(strip)

    def alone(self, row: str) -> bool:
        return row in self._plan.solo

    def through(self, steps: Sequence[Step], x: Node, key: Node | None = None) -> Node:
        return self._plan.chain(steps, x, key)

    def part(self, container: Step, part: int, before: Node, after: Node) -> None:
        self._plan.parts[container.id, part] = before, after

    def sum(self, name: str, parts: Sequence[tuple[Node, float]]) -> Node:
        return self._plan.added(name, parts)

    def run(self, step: Step, *inputs: Node) -> Node:
        return self._plan.levelled(step, *inputs)

    def blend(self, container: Step, main: Node, side: Node, gain: float) -> Node:
        return self._plan.blended(container, main, side, gain)


def ordered(wanted: Iterable[Node], known: Collection[str] = ()) -> list[Node]:
    """The nodes that lead to the wanted ones, each once and after its inputs; not past those whose keys are known."""
    found: dict[str, Node] = {}

    def visit(node: Node) -> None:
        if node.key in found or node.key in known:
            return
        for before in node.inputs:
            visit(before)
        found[node.key] = node

    for node in wanted:
        visit(node)
    return list(found.values())


def steps_heard(session: Session) -> tuple[str, ...]:
    """The ids of the steps and containers that are on, in the order in which the live engine reports on them."""
    return tuple(item.id for strip in session.strips for item in chains.flat_on(strip.chain))


@functools.lru_cache(maxsize=2000)
def _sound_of(step: Step) -> str:
    """What a step's sound depends on: most steps are the same from one edit to the next."""
    return step.sound_key().decode()


def _key(*parts: str) -> str:
    return hashlib.sha256("\0".join(parts).encode()).hexdigest()
