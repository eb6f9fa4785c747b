"""The protocol that all steps meet.

A step is a frozen struct of settings, kept in the session, with a `make` that builds its processor. Processors
hold state, are cheap to make and know nothing of sessions; the live engine and the offline render run the same
ones.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, ClassVar, Literal, Protocol, Self, TypeVar

import msgspec
import numpy as np

from gluvo.dsp.delay import clean, ordinary
from gluvo.dsp.kernel import Audio, Floats
from gluvo.steps.recorded import Media, Return
from gluvo.steps.settings import number, settings_of
from gluvo.steps.solved import Solved

N = TypeVar("N")

Analysis = Literal["bands", "new sound", "scatter", "drive", "lift", "events", "cuts", "lateness", "bend"]
"""What a band does and what rings; harmonics that were made; left against right; what of the sound drives the reduction, and
how much is lifted; when it worked; what was cut by frequency; by how much it is late; how far the sound
goes into a curve."""

LEVEL_UNIT = "dBFS"
"""The unit of settings that are levels of the sound itself, such as thresholds."""

MAX_BLOCK = 16_384
"""The most frames that a processor is given at a time. Renders give so many: with fewer, threads wait for the interpreter
more than they gain by what the processor's cache still holds."""


SECTION_RAMP = number(
    "Ramp",
    "ms",
    0.0,
    2000.0,
    "How long the step takes to come in at the beginning of a section and to go at its end, half of it outside.",
    decimals=0,
    fine=1.0,
)
"""How what works in some sections comes and goes. It is set beside those sections, and not among a step's own settings."""


class Wiring(Protocol[N]):
    """What a container is wired into a graph of `N`s with."""

    def at(self, id: str) -> N:
        """What comes out of an item of the chain that stands before it; what comes into the chain, if it is empty."""

    def key(self, strip: str) -> N | None:
        """What comes out of a strip's chain; None if the strip is gone."""

    def alone(self, row: str) -> bool:
        """Whether a row is heard alone."""

    def through(self, steps: Sequence[Step], x: N, key: N | None = None) -> N:
        """What comes out of some steps, one after the other. Detectors without a key of their own listen to `key`."""

    def part(self, container: Step, part: int, before: N, after: N) -> None:
        """Tell the two sides of a container's part, for those who look at both: what goes past its steps, or comes into
        them, and what comes out."""

    def sum(self, name: str, parts: Sequence[tuple[N, float]]) -> N:
        """Sounds added up, each times its factor."""

    def run(self, step: Step, *inputs: N) -> N:
        """What comes out of a step's own processor; a second input is its key."""

    def blend(self, container: Step, main: N, side: N, gain: float) -> N:
        """What comes out of a container whose processor puts what its steps gave, times `gain`, under the chain's sound;
        heard alone, it is only that."""


@dataclass(frozen=True)
class ContainerRow:
    """A row of a container of several, such as a band, as it is told of."""

    id: str
    part: int
    """The part of the container that it is."""
    name: str
    words: str
    """What it is, in a few words: where it lies and how it is set."""
    on: bool
    is_transparent: bool
    share: float
    """How much of what goes into its steps comes through them, 0–1; the rest goes past."""
    steps: tuple[Step, ...]


@dataclass(frozen=True, eq=False)
class Transfer:
    """A static curve: what comes out for what goes in."""

    came: Floats
    gives: Floats
    unit: str
    """dBFS, or nothing where both are the wave itself."""


class Step(msgspec.Struct, frozen=True, kw_only=True, tag_field="step"):
    """What every step has: a name of its own within the session, and whether it is on; and what it can do.

    Code outside `steps` asks for what a step can do, and never which step it is.
    """

    id: Annotated[str, msgspec.Meta(max_length=100)] = ""
    on: bool = True
    held_in: Annotated[str, msgspec.Meta(max_length=100)] = ""
    """The id of the section that its held settings are found in; the whole song if it is empty or gone."""

    sections: Annotated[tuple[Annotated[str, msgspec.Meta(max_length=100)], ...], msgspec.Meta(max_length=1000)] = ()
    """The ids of the sections that it works in; the whole song if there are none. Outside of them the sound passes."""
    section_ramp: Annotated[float, msgspec.Meta(ge=SECTION_RAMP.ge, le=SECTION_RAMP.le)] = 50.0
    instead_of: Annotated[str, msgspec.Meta(max_length=100)] = ""
    """The id of the item before it, in whose place it works in its sections."""

    title: ClassVar[str] = ""
    summary: ClassVar[str] = ""
    not_in_sound: ClassVar[frozenset[str]] = frozenset(
        {"id", "on", "held_in", "sections", "section_ramp", "instead_of"}
    )
    """Settings that do not change the sound, so that renders stay valid when they change."""

    solved_settings: ClassVar[Mapping[str, Solved]] = {}
    """The settings that can be solved for rather than set, in the order in which they are, and how."""
    by_hand: ClassVar[Mapping[str, Mapping[str, object]]] = {}
    """What else becomes of a step when the user sets a setting by hand: by that setting, what is set with it."""
    found_for: ClassVar[Mapping[str, str]] = {}
    """Of settings that are found on request: the field in which it is kept what they were found for."""
    reduces: ClassVar[bool] = False
    """Whether the step takes level away and tells how much."""
    shapes_hits: ClassVar[bool] = False
    """Whether what becomes of hits is looked at although it takes no level away."""
    has_ceiling: ClassVar[bool] = False
    """Whether it works against a ceiling that nothing passes."""
    bent_by: ClassVar[frozenset[str]] = frozenset()
    """The settings that make its static curve, for steps that have one; see `transfer`."""
    of_recording: ClassVar[frozenset[str]] = frozenset()
    """What belongs to a recording that it plays, and so to one song alone: no preset has it, or takes it away."""
    shapes_tone: ClassVar[bool] = False
    """Whether it is for the tone: what one goes to where a range stands out."""
    analyses: ClassVar[tuple[Analysis, ...]] = ()
    """What is measured around it for its editor, besides what is for all; see `advise.step_analysis`."""
    has_ear: ClassVar[bool] = False
    """Whether what its detector listens to, or what it makes, can be heard by itself; see `ear`."""
    ear_name: ClassVar[str] = "Detector"
    """What that is called."""
    leading: ClassVar[tuple[str, ...]] = ()
    """The settings that are shown where there is little room, the most used first."""
    takes_key: ClassVar[bool] = False
    """Whether its detector may listen to another stem or bus, which comes as a second input."""
    listens: ClassVar[bool] = False
    """Whether what it does depends on what comes in, so that a part of the song must be told of the whole; see
    `Processor.follow`."""
    contains_steps: ClassVar[bool] = False
    """Whether it is a container: `rows`, `with_rows` and `wired` are for those."""

    # --- its sound -----------------------------------------------------------------------------------------

    def make(self, rate: int) -> Processor:
        """A processor with these settings."""
        raise NotImplementedError

    def ear(self, rate: int) -> Processor:
        """A processor that gives what the detector listens to, or what the step makes; for steps that have an ear."""
        raise NotImplementedError

    def before_ear(self) -> Self | None:
        """What must run before the ear, where the detector listens to the output; None where it listens to the input."""
        return None

    @property
    def memory(self) -> float:
        """Seconds after which what came in no longer tells in what comes out; steps with slow releases say so."""
        return 0.0

    @property
    def keys_from(self) -> tuple[str, ...]:
        """The ids of the stems and buses that its detectors listen to in place of its input, each once, in the order in
        which its processor is given them."""
        return ()

    @property
    def back(self) -> Return | None:
        """What came back from outside and is played in the sound's place, if there is any; its processor is given it as its
        key."""
        return None

    @property
    def recording(self) -> Media | None:
        """The audio file of that."""
        return self.back.media if self.back is not None else None

    @property
    def recording_key(self) -> str:
        """What the sound of it is known by, as it lies in the song."""
        return "" if self.back is None else f"{self.back.media.sha256}/{self.back.begins!r}/{self.back.drift!r}"

    @property
    def recording_shift(self) -> float:
        """Seconds by which it is moved from there."""
        return 0.0

    @property
    def raises(self) -> bool:
        """Whether a step that takes level away may also raise it."""
        return False

    @property
    def is_transparent(self) -> bool:
        """Whether, as it is set, the sound passes bit for bit and at once."""
        return self.sound_key() == type(self)().sound_key()

    @property
    def is_level(self) -> bool:
        """Whether it is a gain, the same for both channels, and nothing else; see `split_output_gain`."""
        return False

    def split_output_gain(self) -> tuple[Self, float]:
        """The step without the gain that comes after all of it, and that gain as a factor."""
        return self, 1.0

    def arriving(self, reduction: Floats) -> Floats:
        """What is left in what comes out of reductions in dB, where some of the sound passes beside what is reduced."""
        return reduction

    def wet_alone(self) -> Self | None:
        """The step with nothing passing beside what it makes; None where nothing can."""
        return msgspec.structs.replace(self, mix=100.0) if "mix" in self.__struct_fields__ else None

    def transfer(self) -> Transfer | None:
        """Its static curve; None where it has none."""
        return None

    @property
    def plain_gain(self) -> float:
        """The factor at which a step that takes level away passes what it takes nothing from."""
        return 1.0

    @property
    def ceiling_out(self) -> float | None:
        """The level in dBTP over which nothing comes out; None where there is no such level."""
        return None

    def sound_key(self) -> bytes:
        """What the step's sound depends on, as bytes."""
        plain = msgspec.to_builtins(self)
        return msgspec.json.encode({k: v for k, v in plain.items() if k not in self.not_in_sound}, order="sorted")

    def readied(self, setting: str) -> tuple[Self, str]:
        """The step with something to be found for one of its `solved_settings`, where as it is set there would be nothing, and a
        sentence on what was set for that; the step itself and nothing to say, otherwise."""
        return self, ""

    def not_solvable(self, setting: str) -> str:
        """Why one of its `solved_settings` cannot be solved for as it is set, in a sentence; nothing, if it can."""
        return ""

    @property
    def works_at_moments(self) -> bool:
        """Whether it is told by what it takes while it works, since that is at moments only."""
        return any(solved.while_working for solved in self.solved_settings.values())

    @property
    def feeds_back(self) -> bool:
        """Whether its detector listens to what comes out, so that every try has to run all of it."""
        return False

    def with_level_moved(self, gain: float) -> Self:
        """The step for a sound that comes in louder by `gain` dB: its thresholds are moved by as much, as far as they
        reach. What listens to another stem or bus stays as it is."""
        if self.contains_steps:
            return self.with_rows([[step.with_level_moved(gain) for step in row] for row in self.rows])
        if self.keys_from:
            return self
        levels = {name: s for name, s in settings_of(type(self)).items() if s.unit == LEVEL_UNIT}
        moved = {name: s.clamp(round(getattr(self, name) + gain, 2)) for name, s in levels.items()}
        return msgspec.structs.replace(self, **moved)

    # --- its parts -----------------------------------------------------------------------------------------

    @property
    def parts(self) -> tuple[int, ...]:
        """The ids of its parts, such as bands, each of which can be heard alone."""
        return ()

    @property
    def settings_of_parts(self) -> Mapping[int, msgspec.Struct]:
        """Those of its parts that have settings of their own, by their ids."""
        return {}

    @property
    def names(self) -> tuple[str, ...]:
        """What the rows of a container of several are called."""
        return ()

    @property
    def in_words(self) -> Mapping[str, str]:
        """What a step has besides settings and parts, by what it is called: as it is compared between versions."""
        return {}

    def with_part(self, id: int, **changes: object) -> Self:
        """The step with settings of one of its parts changed."""
        return self

    def without_part(self, id: int) -> Self:
        """The step without one of its parts."""
        return self

    @property
    def rows(self) -> tuple[tuple[Step, ...], ...]:
        """The rows of steps that a container holds."""
        return ()

    def with_rows(self, rows: Sequence[Sequence[Step]]) -> Self:
        """A container with other steps in its rows."""
        return self

    @property
    def told_rows(self) -> tuple[ContainerRow, ...]:
        """The rows of a container of several, as they are told of; none for a container of one."""
        return ()

    def with_row_on(self, part: int, on: bool) -> Self:
        """A container with one of its rows switched on or off."""
        return self

    @property
    def row_ids(self) -> tuple[str, ...]:
        """What each of its rows is known by; a container of one row by its own id."""
        rows = len(self.rows)
        return (self.id,) if rows == 1 else tuple(f"{self.id}/{n}" for n in range(1, rows + 1))

    def may_contain(self, item: Step) -> bool:
        """Whether an item may stand in its rows."""
        return self.contains_steps and not item.contains_steps

    @property
    def since(self) -> str:
        """The id of the item of the chain after which a container's own steps leave it; empty for its beginning."""
        return ""

    def leaving(self, since: str) -> Self:
        """A container that leaves the chain elsewhere."""
        return self

    def wired(self, x: N, wiring: Wiring[N]) -> N:
        """What comes out of a container where `x` comes along the chain."""
        return x

    # --- telling of it -------------------------------------------------------------------------------------

    @property
    def called(self) -> str:
        """Its name on screen."""
        return self.title

    @property
    def short_name(self) -> str:
        """Its name in a list."""
        return self.title

    def describe(self) -> str:
        """Its settings in a few words, for the ledger."""
        return ""

    def part_words(self) -> tuple[tuple[str, str], ...]:
        """Its parts in words: what each is called, and how it is set."""
        return ()

    def problem(self) -> str:
        """What makes no sense about it, as the end of a sentence; nothing, if nothing does."""
        return ""

    @classmethod
    def switches(cls) -> Mapping[str, str]:
        """Which setting each switch has solved."""
        return {solved.switch: name for name, solved in cls.solved_settings.items()}

    @property
    def held_now(self) -> tuple[str, ...]:
        """The settings that are found at present, in order."""
        return tuple(name for name, solved in self.solved_settings.items() if getattr(self, solved.switch))

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        """Settings that between them run every kernel that the step has."""
        return (cls(),)


class Processor:
    """Runs a step. Subclasses prepare all memory in ``__init__`` and allocate nothing in `process`."""

    latency: int = 0
    """Frames by which the output is late."""

    def __init__(self) -> None:
        self.reduction: Floats = np.zeros(MAX_BLOCK)
        """Reduction of the last block in dB, ≥ 0, of the more reduced channel, as it arrives in what comes out; stays 0 for
        steps that take none."""
        self.wet: Floats | None = None
        """As much of what is reduced alone, where some of the sound passes beside it."""
        self.level = np.full(1, -200.0)
        """The largest level in dBFS that the step's detector read in the last block, if it has one."""
        self.moved: dict[int, Floats] = {}
        """By how many dB each part that moves, by its id, has moved in the last block."""
        self.keys: tuple[Audio, ...] = ()
        """Further signals that go with the next block, for steps that take some: what detectors listen to, or a lane."""
        self.follows = False
        """Whether only a part of the song comes in; see `follow`."""
        self.whole: Audio | None = None
        """What the whole song has here in the next block, then."""

    def begin(self, place: int) -> None:
        """Told before anything is processed: the next frame that comes is frame `place` of the song, negative before its
        first. What looks at the sound on a grid lets the grid begin with the song, so that it is the same wherever, and
        behind whatever is late, it is run."""

    def follow(self) -> None:
        """Told before anything is processed: only a part of the song comes in. What is done to it is what would be done to
        the whole, which goes with it from now on."""
        self.follows = True

    def goes_with(self, sounds: Sequence[Audio]) -> None:
        """Further signals for the next block: the keys, after the whole song where only a part of it comes in."""
        if self.follows:
            self.whole, sounds = sounds[0], sounds[1:]
        self.keys = tuple(sounds)

    def process(self, x: Audio, out: Audio) -> None:
        """Process up to `MAX_BLOCK` frames of finite samples into `out`, which may be `x`."""
        raise NotImplementedError

    def run(self, x: Audio, out: Audio) -> None:
        """As `process`, whatever comes: the one place where what is not finite is taken out, for live sound, renders and
        files alike. `out` may be `x`."""
        if ordinary(x):
            self.process(x, out)
            return
        clean(x, out)
        self.process(out, out)

    def adopt(self, other: Processor) -> bool:
        """Take over the state of a processor with other settings, so that sound goes on. Whether that is all it needs.

        State passes only where it means the same in both: that of other filters would ring, and be louder than either end.
        Where some is missing, what was played lately is run through it before it is heard; what was taken over is where
        that begins.
        """
        return type(other) is type(self)
