"""What a session is made of: frozen records, saved as they are."""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Iterator, Sequence
from typing import Annotated, Literal, TypedDict, Unpack, cast

import msgspec
from msgspec import Meta, Struct

from gluvo.dsp.db import FADER_OFF, fader_gain
from gluvo.session import chains
from gluvo.session.migrations import VERSION
from gluvo.steps import AnyStep, ChainItem, Step
from gluvo.steps.common import amount
from gluvo.steps.recorded import Media as Media
from gluvo.steps.settings import CONTROLS, MOST_NAME, choice, number, switch

MIX = "mix"
"""The id of the mix bus, into which everything flows."""
MOST_ITEMS = 64
"""Steps and containers in a chain."""
MOST_ALTERNATIVES = 4
"""Settings of the same side by side."""

Seconds = Annotated[float, Meta(ge=0.0, le=86_400.0)]
"""A place in a song, or a length; none lasts longer than a day."""
Name = Annotated[str, Meta(max_length=MOST_NAME)]
Moment = Annotated[str, Meta(pattern="^([0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2})?$")]
"""Local time (ISO 8601), or nothing."""
MOST_TEXT = 10_000
"""Characters of a text of several lines."""
READABLE = f"^[^{CONTROLS}]*$"
Id = Annotated[str, Meta(max_length=100)]


class Section(Struct, frozen=True, kw_only=True):
    """A named span of the song or of a reference, in seconds."""

    id: Id
    name: Name
    start: Seconds
    end: Seconds


class Pair(Struct, frozen=True, kw_only=True):
    """Which section of a reference is heard against a section of the song; see `compare.references`."""

    section: Id
    """The song's."""
    own: Id
    """The reference's."""


class Reference(Struct, frozen=True, kw_only=True):
    """A finished track to compare with."""

    id: Id
    name: Name
    media: Media
    sections: Annotated[tuple[Section, ...], Meta(max_length=1000)] = ()
    pairs: Annotated[tuple[Pair, ...], Meta(max_length=1000)] = ()
    """What is not paired plays the section that is nearest in the order of loudness."""
    trim: Annotated[
        float,
        number("Trim", "dB", -12.0, 12.0, "How much louder or softer it is played than the level match makes it."),
    ] = 0.0

    def section(self, id: str) -> Section | None:
        return next((section for section in self.sections if section.id == id), None)


class Alternative(Struct, frozen=True, kw_only=True):
    """One of several settings of the same, put away while another one is in the chain."""

    name: Name = ""
    """Empty: it is called by its letter."""
    items: Annotated[tuple[ChainItem, ...], Meta(max_length=MOST_ITEMS)] = ()
    """The step or container, or the whole chain; nothing of the one that is in the chain."""
    inner: Annotated[tuple[Alternatives, ...], Meta(max_length=10_000)] = ()
    """The alternatives of what is in it."""


class Alternatives(Struct, frozen=True, kw_only=True):
    """Settings of a step, a container or a chain side by side, one of which is in the chain."""

    of: Id = ""
    """The id of the step or container; empty for the strip's whole chain."""
    chosen: Annotated[int, Meta(ge=0, lt=MOST_ALTERNATIVES)] = 0
    settings: Annotated[tuple[Alternative, ...], Meta(min_length=2, max_length=MOST_ALTERNATIVES)]


LIFT = number(
    "Lift", "dB", -24.0, 12.0, "How much louder or softer the strip is in this section, its fader aside.", fine=0.1
)
"""How a strip's level in a section is set."""


class Lift(Struct, frozen=True, kw_only=True):
    """A strip's level in a section of the song."""

    section: Id
    gain: Annotated[float, LIFT] = 0.0


class Strip(Struct, frozen=True, kw_only=True, tag_field="strip"):
    """A place in the tree that sound flows through: a chain, then a fader, into another bus."""

    id: Id
    name: Name
    into: Id = MIX
    """The id of the bus that it flows into; empty for the mix bus."""
    fader: Annotated[
        float,
        number(
            "Fader",
            "dB",
            FADER_OFF,
            12.0,
            "How loud it goes on, after its chain.",
            group="Fader",
            fine=0.1,
            off_at_low=True,
        ),
    ] = 0.0
    pan: Annotated[
        float,
        number(
            "Pan",
            "%",
            -100.0,
            100.0,
            "Where it stands, −100 is left. A mono stem keeps its loudness on the way "
            "(−3 dB law); anything stereo is balanced: the other side gets softer.",
            group="Fader",
            decimals=0,
            fine=1.0,
        ),
    ] = 0.0
    invert: Annotated[bool, switch("Polarity", "Turns the wave over, against what cancels.", group="Fader")] = False
    mute: Annotated[bool, switch("Mute", "Takes it out of the mix.", group="Fader")] = False
    amount: Annotated[float, amount("what its chain does", "Chain")] = 100.0
    chain: Annotated[tuple[ChainItem, ...], Meta(max_length=MOST_ITEMS)] = ()
    alternatives: Annotated[tuple[Alternatives, ...], Meta(max_length=10_000)] = ()
    """Of the chain, and of steps and containers in it; see `session/alternatives`."""
    rides: Annotated[tuple[Lift, ...], Meta(max_length=1000)] = ()
    """By how much it is louder or softer in sections; see `session/by_section`."""
    ride_ramp: Annotated[
        float,
        number(
            "Ramp",
            "ms",
            0.0,
            2000.0,
            "How long the level takes from one section to the next, by the same number of dB each moment, half of it before "
            "the edge. At 0 it steps, which may click.",
            group="Lifts",
            decimals=0,
            fine=1.0,
        ),
    ] = 100.0
    ride_before: Annotated[
        bool,
        switch(
            "Before the chain",
            "Sections are lifted before the chain: its compressors hear it, and take some of it away again. Off: after it, "
            "and what was lifted stays lifted.",
            group="Lifts",
        ),
    ] = False

    @property
    def gains(self) -> tuple[float, float]:
        """The factors of left and right at which it flows on; whether it is muted aside.

        Constant power for mono stems, 0 dB in the middle and +3 dB at the side; balance for the rest. Without pan
        and fader exactly 1.
        """
        gain = -fader_gain(self.fader) if self.invert else fader_gain(self.fader)
        if self.pan == 0.0:
            return gain, gain
        angle = (self.pan / 100.0 + 1.0) * math.pi / 4.0
        left, right = math.cos(angle), math.sin(angle)
        if not self.is_mono:
            return gain * min(1.0, left / right if right else 1.0), gain * min(1.0, right / left if left else 1.0)
        return gain * left * math.sqrt(2.0), gain * right * math.sqrt(2.0)

    @property
    def is_mono(self) -> bool:
        return False


class Bus(Strip, tag="bus", frozen=True, kw_only=True):
    """Sums what flows into it."""


class Stem(Strip, tag="stem", frozen=True, kw_only=True):
    """An audio file as a part of the song; the stereo mix is one, too."""

    media: Media
    offset: Annotated[
        float,
        number(
            "Begins at",
            "s",
            -600.0,
            600.0,
            "Where in the song the file begins; under 0 its beginning lies before the song and is not heard.",
            group="Place",
            decimals=3,
            fine=0.001,
        ),
    ] = 0.0
    mono: bool = False
    """Whether the file has one channel."""

    @property
    def is_mono(self) -> bool:
        return self.mono


AnyStrip = Stem | Bus


class Print(Struct, frozen=True, kw_only=True):
    """A state of a stem's audio; see `session/prints`."""

    id: Id
    stem: Id
    name: Name
    media: Media
    offset: Annotated[float, Meta(ge=-600.0, le=600.0)] = 0.0
    """As the stem's."""
    mono: bool = False
    made: Moment = ""
    """When it was taken, local time (ISO 8601); empty for what was brought in first."""


Measure = Literal["integrated", "short_term", "rms", "rms_whole"]
"""What a target's loudness is measured by; see `measure.figures`."""
Line = Annotated[str, Meta(max_length=1000, pattern="^[^\\x00-\\x1f\\x7f]*$")]
"""A text of one line."""


class Target(Struct, frozen=True, kw_only=True):
    """Where loudness and peaks should end up."""

    name: Name
    measure: Annotated[
        Measure,
        choice(
            "Measure",
            (
                ("integrated", "integrated"),
                ("short_term", "loudest short-term"),
                ("rms", "RMS of the loudest 3 s"),
                ("rms_whole", "RMS of the whole song"),
            ),
            "What the loudness is measured by: the whole song by its gates (ITU-R BS.1770), its loudest 3 seconds by the "
            "same weighting, or the plain RMS of its loudest 3 seconds or of all of it, both channels' powers averaged, "
            "where a sine of full scale reads −3.0 dBFS.",
        ),
    ] = "integrated"
    loudness: Annotated[
        float, number("Loudness", "LUFS", -40.0, 0.0, "How loud the whole song should be, by the target's measure.")
    ] = -14.0
    true_peak: Annotated[
        float, number("True peak", "dBTP", -12.0, 0.0, "The highest peak that the song may have.")
    ] = -1.0
    tolerance: Annotated[
        float, number("Tolerance", "LU", 0.0, 5.0, "How far to either side still meets the loudness.")
    ] = 0.5
    note: Line = ""
    source: Line = ""
    """The public document that gives the figures."""


FileFormat = Literal["wav", "flac", "aiff", "mp3", "aac", "ogg", "opus"]
"""See `deliver.formats.FORMATS`."""

FILE, KEEPS, PART = "The file", "Last bits", "What of the song"


class Deliverable(Struct, frozen=True, kw_only=True):
    """A file to be written."""

    id: Id
    name: Name
    target: Target | None = None
    """The session's own where there is none."""
    format: Annotated[
        FileFormat,
        choice(
            "Format",
            (
                ("wav", "WAV"),
                ("flac", "FLAC"),
                ("aiff", "AIFF"),
                ("mp3", "MP3"),
                ("aac", "AAC"),
                ("ogg", "Ogg Vorbis"),
                ("opus", "Opus"),
            ),
            "WAV and AIFF are plain; FLAC is smaller and loses nothing. The others are smaller still, and lose what is "
            "hoped not to be heard.",
            group=FILE,
        ),
    ] = "wav"
    bits: Annotated[
        Literal["16", "24", "32f"],
        choice(
            "Depth",
            (("16", "16 bit"), ("24", "24 bit"), ("32f", "32 bit float")),
            "Bits of each sample. 24 is enough for anything; 16 wants dither.",
            group=FILE,
        ),
    ] = "24"
    rate: Annotated[
        Literal[0, 44100, 48000, 88200, 96000, 176400, 192000],
        choice(
            "Rate",
            (
                ("0", "the session's"),
                ("44100", "44.1 kHz"),
                ("48000", "48 kHz"),
                ("88200", "88.2 kHz"),
                ("96000", "96 kHz"),
                ("176400", "176.4 kHz"),
                ("192000", "192 kHz"),
            ),
            "Samples a second. Conversion keeps the ceiling.",
            group=FILE,
        ),
    ] = 0
    bit_rate: Annotated[
        Literal[64, 96, 128, 160, 192, 256, 320],
        choice(
            "Bit rate",
            tuple((str(rate), f"{rate} kbit/s") for rate in (64, 96, 128, 160, 192, 256, 320)),
            "How much is kept where something is lost: more is closer to the master, and larger.",
            group=FILE,
        ),
    ] = 256
    margin: Annotated[
        float,
        number(
            "Margin",
            "dB",
            0.0,
            6.0,
            "Holds the ceiling so much lower than the target allows, for what encoders and converters add.",
            group=FILE,
            decimals=2,
            fine=0.05,
        ),
    ] = 0.0
    dither: Annotated[
        Literal["none", "tpdf", "light", "ear", "deep"],
        choice(
            "Dither",
            (("none", "none"), ("tpdf", "TPDF"), ("light", "light"), ("ear", "by the ear"), ("deep", "deep")),
            "A trace of noise in place of rounding errors. Wanted at 16 bit. TPDF is even over all frequencies; light, by the "
            "ear and deep move it, more and more, to where it is heard least.",
            group=KEEPS,
        ),
    ] = "none"
    shaping: Annotated[
        float,
        number(
            "Shaping",
            "%",
            0.0,
            100.0,
            "How much of the curve is used: 0 is TPDF, 100 the whole curve.",
            group=KEEPS,
            decimals=0,
            fine=1.0,
        ),
    ] = 100.0
    keep_silence: Annotated[
        bool,
        switch(
            "Keep silence",
            "Before the song's first sound and after its last, digital silence stays silent; in between all is dithered.",
            group=KEEPS,
        ),
    ] = True
    of: Annotated[
        Literal["mix", "without", "only"],
        choice(
            "Holds",
            (("mix", "all of the song"), ("without", "all but some strips"), ("only", "some strips")),
            "All that flows into the mix bus, or a part of it: an instrumental is all but the voices, a stem file only its "
            "strip.",
            group=PART,
        ),
    ] = "mix"
    strips: Annotated[tuple[Id, ...], Meta(max_length=1000)] = ()
    """The strips that it is without, or that it holds, with all that flows into them."""
    through: Annotated[
        bool,
        switch(
            "Through the mix chain",
            "Of some strips: the mix chain does to them what it does to the whole song, so that files which hold all of it "
            "once add up to the master. Off: as they flow into the mix bus.",
            group=PART,
        ),
    ] = True
    section: Id = ""
    """The section that it holds, where it is one; see `scope`."""
    scope: Annotated[
        Literal["song", "section", "sections"],
        choice(
            "Scope",
            (("song", "whole song"), ("section", "one section"), ("sections", "each section")),
            "The whole song in one file, a section of it, or a file for each section.",
            group=PART,
        ),
    ] = "song"
    fade_in: Annotated[
        float,
        number("Fade in", "s", 0.0, 60.0, "How long it comes up from silence.", group=PART, fine=0.01, decimals=2),
    ] = 0.0
    fade_out: Annotated[
        float,
        number("Fade out", "s", 0.0, 60.0, "How long it goes down to silence.", group=PART, fine=0.01, decimals=2),
    ] = 0.0
    fade_shape: Annotated[
        Literal["straight", "smooth", "even"],
        choice(
            "Fades",
            (("straight", "straight"), ("smooth", "smooth"), ("even", "even in dB")),
            "Straight: by the same amount each moment. Smooth: level at both ends. Even in dB: by the same number of dB "
            "each moment, 60 in all, as ears hear it.",
            group=PART,
        ),
    ] = "smooth"
    lead: Annotated[
        int, number("Silence before", "samples", 0, 4_000_000, "Samples of silence before it.", group=PART, decimals=0)
    ] = 0
    tail: Annotated[
        int, number("Silence after", "samples", 0, 4_000_000, "Samples of silence after it.", group=PART, decimals=0)
    ] = 0
    pattern: Annotated[str, Meta(max_length=200)] = "{session} - {name}"
    """What the file is called; see `deliver.names`."""


class Tags(Struct, frozen=True, kw_only=True):
    """What files tell of the song. Empty fields are not written."""

    title: Line = ""
    artist: Line = ""
    album: Line = ""
    track: Annotated[str, Meta(max_length=20, pattern="^([0-9]{1,4}(/[0-9]{1,4})?)?$")] = ""
    """A number, or a number of a number: 3/12."""
    year: Annotated[str, Meta(pattern="^([0-9]{4})?$")] = ""
    isrc: Annotated[str, Meta(pattern="^([A-Z]{2}[A-Z0-9]{3}[0-9]{7})?$")] = ""
    comment: Annotated[str, Meta(max_length=MOST_TEXT, pattern=READABLE)] = ""
    """May have several lines."""
    cover: Annotated[str, Meta(max_length=4096, pattern="^[^\\x00]*$")] = ""
    """The path of a JPEG or PNG, as the audio's are kept."""


class Version(Struct, frozen=True, kw_only=True):
    """A state of the session that was kept: strips with their chains and faders, and the target; see `session.versions`.

    It holds what differs from the version before it in the list, the first one all.
    """

    id: Id
    name: Name
    made: Moment = ""
    """When it was kept, local time (ISO 8601)."""
    note: Annotated[str, Meta(max_length=MOST_TEXT, pattern=READABLE)] = ""
    figures: dict[str, float] = {}
    """What the whole song measured, by the keys of `measure.figures`."""
    target: Target = Target(name="Streaming")
    order: Annotated[tuple[Id, ...], Meta(max_length=1000)] = ()
    """The ids of all strips."""
    strips: Annotated[tuple[AnyStrip, ...], Meta(max_length=1000)] = ()
    """Those that differ."""


class DeliveredFile(Struct, frozen=True, kw_only=True):
    """A file that was written."""

    media: Media
    """Its place and content, as the audio's are kept."""
    section: Name = ""
    """The section that it holds; empty for all of the song."""
    figures: dict[str, float] = {}
    """What was measured in it, by the keys of `measure.figures`."""


class Delivered(Struct, frozen=True, kw_only=True):
    """What a row was written to once, and from what; see `session/deliveries`."""

    id: Id
    made: Moment = ""
    """When, local time (ISO 8601)."""
    row: Deliverable
    """The row as it was."""
    files: Annotated[tuple[DeliveredFile, ...], Meta(max_length=1000)] = ()
    state: Version = Version(id="", name="")
    """The strips and the target, as kept versions hold them: what differs from the delivery before it in the list."""
    sections: Annotated[tuple[Section, ...], Meta(max_length=1000)] = ()


MOST_NOTES, MOST_NOTE = 1000, 20_000
"""Notes of a session, and characters of a note."""


class Note(Struct, frozen=True, kw_only=True):
    """Something to remember of the song, a section, a version or a place in time; see `session/notes`."""

    id: Id
    text: Annotated[str, Meta(max_length=MOST_NOTE, pattern=READABLE)] = ""
    """Plain, may have several lines."""
    made: Moment = ""
    """When, local time (ISO 8601)."""
    at: Seconds | None = None
    """Where in the song, s; of all of it where it says no place."""
    section: Id = ""
    version: Id = ""
    client: bool = False
    """Whether it is from or for the client; those stand in the client's form of the report."""
    done: bool = False
    """Whether what it asks for has been done."""


class Job(Struct, frozen=True, kw_only=True):
    """Who works on the song, and for whom; told by the client's form of the report."""

    studio: Line = ""
    client: Line = ""


TrialKind = Literal["ab", "abx", "rank"]


class Trial(Struct, frozen=True, kw_only=True):
    """A blind trial that was made; see `compare.trial`."""

    id: Id
    kind: TrialKind = "ab"
    """Which of two is better, whether two can be told apart, or how several are ranked."""
    made: Moment = ""
    names: Annotated[tuple[Name, ...], Meta(max_length=6)] = ()
    """The candidates."""
    tries: Annotated[int, Meta(ge=1, le=1000)] = 12
    answers: Annotated[tuple[Annotated[int, Meta(ge=-1, le=5)], ...], Meta(max_length=1000)] = ()
    """By number: the preferred candidate, −1 for none; 1 for right and 0 for wrong in an ABX; the candidates, best first."""


class Limit(Struct, frozen=True, kw_only=True):
    """A line that a spectrum should stay under, drawn by the user."""

    id: Id
    name: Name
    points: Annotated[tuple[tuple[float, float], ...], Meta(min_length=2, max_length=1000)]
    """Hz and power density in dB (full scale² per Hz), in rising order of frequency."""


class Dismissed(Struct, frozen=True, kw_only=True):
    """A watch-out that is not told any more, unless it grows by a third."""

    kind: Annotated[str, Meta(max_length=100)]
    key: Annotated[str, Meta(max_length=500)] = ""
    """What the watch-out is known by; empty for all of its kind."""
    excess: Annotated[float, Meta(ge=0.0)] = 0.0
    """How far it was past its limit then, in its own unit."""


class Analyser(Struct, frozen=True, kw_only=True):
    """How spectra are drawn."""

    part: Annotated[
        Literal["stereo", "mid", "side"],
        choice("Part", (("stereo", "Stereo"), ("mid", "Mid"), ("side", "Side")), "Whose spectrum is drawn."),
    ] = "stereo"
    slope: Annotated[
        float,
        number(
            "Slope",
            "dB/oct",
            0.0,
            6.0,
            "Turns the drawing about 1 kHz. At 3 pink noise is flat; the sound is not changed.",
            fine=0.1,
        ),
    ] = 3.0
    fraction: Annotated[
        Literal[3, 6, 12, 24],
        choice(
            "Smoothing",
            (("3", "1/3 oct"), ("6", "1/6 oct"), ("12", "1/12 oct"), ("24", "1/24 oct")),
            "Over how much of an octave the spectrum is averaged.",
        ),
    ] = 12
    live: Annotated[
        bool, switch("Live", "The lines follow what is playing. Off, they are the average of the section.")
    ] = False
    corridor: Annotated[
        bool,
        switch("Corridor", "The range that the references span, as loud as what goes out, in their paired sections."),
    ] = False
    change: Annotated[
        bool,
        switch("Change", "A line of what goes out less what came in, dB, on a scale of its own about the middle."),
    ] = False
    hold: Annotated[bool, switch("Peak hold", "Keeps the highest that the live lines have reached.")] = False


class HuntSettings(Struct, frozen=True, kw_only=True):
    """The bell that hunts, and the cut that it leaves."""

    gain: Annotated[float, number("Boost", "dB", 3.0, 18.0, "How far the hunting bell is raised.", fine=0.5)] = 10.0
    q: Annotated[float, number("Q", "", 1.0, 40.0, "How narrow the hunting bell is.", scale="log")] = 8.0
    cut: Annotated[
        float,
        number(
            "Cut",
            "dB",
            -12.0,
            12.0,
            "How deep the cut is that stays when you let go, half as narrow. At 0 nothing stays; under 0 a boost does.",
            fine=0.5,
        ),
    ] = 3.0


class TestTone(Struct, frozen=True, kw_only=True):
    """The tone that shows what a saturation makes."""

    level: Annotated[float, number("Tone level", "dBFS", -48.0, 0.0, "How loud the test tone is.")] = -12.0
    freq: Annotated[float, number("Tone", "Hz", 20.0, 10_000.0, "How high the test tone is.", scale="log")] = 1000.0


MonitorView = Literal["stereo", "mid", "side", "left", "right", "mono"]
"""See `compare.monitor.MONITORS`."""


RoadKind = Literal["off", "mono", "small", "room", "car", "headphones", "quiet", "swapped"]
"""See `compare.road.ROADS`."""


class RoadTest(Struct, frozen=True, kw_only=True):
    """How it is listened to elsewhere. For the ears only."""

    kind: RoadKind = "off"
    noise_level: Annotated[
        float, number("Noise", "dB", 30.0, 90.0, "How loud the room or the car is.", decimals=0, fine=1.0)
    ] = 68.0
    play_level: Annotated[
        float, number("Music", "dB", 40.0, 100.0, "How loud the music is played in it.", decimals=0, fine=1.0)
    ] = 74.0
    quiet: Annotated[
        float, number("Quiet level", "phon", 20.0, 80.0, "How loud “very quiet” is.", decimals=0, fine=1.0)
    ] = 45.0
    distorts: Annotated[bool, switch("Bends", "The small speaker is driven a little too hard.")] = False


class View(Struct, frozen=True, kw_only=True):
    """What is chosen on screen and in the ear. Not part of undo."""

    page: Id = "shape"
    """The key of a page; one that is not known is taken as this one."""
    strip: Id = MIX
    step: Id = ""
    """Empty for what comes into the chosen strip's chain."""
    band: int = 0
    """The id of the chosen band, if the chosen step has bands."""
    solo: Annotated[tuple[Id, ...], Meta(max_length=1000)] = ()
    """Strips and lanes that are heard alone. For the ears only: nothing measured or written depends on it."""
    marks: Annotated[tuple[Id, ...], Meta(max_length=10_000)] = ()
    """Rows that are marked, see `session/marks`; what is gone stands for nothing."""
    at_hand: Annotated[tuple[Id, ...], Meta(max_length=100)] = ()
    """What is made ready to be heard at once though it is not heard now, such as what takes part in a blind trial."""
    section: Id = ""
    """A section's id; empty for the whole song."""
    loop: bool = False
    hear: Id = "result"
    heard: Id = "untouched"
    """What was heard before that."""
    rows: Literal["folded", "aligned", "free"] = "folded"
    """How references stand under the timeline: not at all, under the song's sections, or in their own time."""
    pins: Annotated[tuple[Id, ...], Meta(max_length=100)] = ()
    """What has a place of its own in the Hear row, with a key."""
    level_matched: bool = True
    match: Annotated[
        Literal["integrated", "short_term", "mid", "above"],
        choice(
            "Match by",
            (
                ("integrated", "integrated loudness"),
                ("short_term", "loudest short-term"),
                ("mid", "mid only"),
                ("above", "above 100 Hz"),
            ),
            "What is made equally loud: the whole of each section (ITU-R BS.1770), its loudest 3 seconds, only what both "
            "sides share, or only what lies above 100 Hz, where lows differ a lot.",
        ),
    ] = "integrated"
    monitor: MonitorView = "stereo"
    road: RoadTest = RoadTest()
    output_level: Annotated[
        float,
        number("Output", "dB", -60.0, 0.0, "How loud Gluvo plays. Nothing that is rendered or measured depends on it."),
    ] = 0.0
    dim: bool = False
    position: Seconds = 0.0
    analyser: Analyser = Analyser()
    hunting: HuntSettings = HuntSettings()
    tone: TestTone = TestTone()
    report_watch_outs: bool = False
    """Whether a report tells the watch-outs, too."""


class ViewChanges(TypedDict, total=False):
    """The fields of `View` as what `look` takes by name, so that types are checked; a test holds both to each other."""

    page: str
    strip: str
    step: str
    band: int
    solo: tuple[str, ...]
    marks: tuple[str, ...]
    at_hand: tuple[str, ...]
    section: str
    loop: bool
    hear: str
    heard: str
    rows: str
    pins: tuple[str, ...]
    level_matched: bool
    match: str
    monitor: str
    road: RoadTest
    output_level: float
    dim: bool
    position: float
    analyser: Analyser
    hunting: HuntSettings
    tone: TestTone
    report_watch_outs: bool


ViewPart = Literal["analyser", "hunting", "road", "tone"]
"""A field of the view that has settings of its own."""


class SessionChanges(TypedDict, total=False):
    """The fields of `Session` that `Session.replace` takes by name; a test holds both to each other."""

    format: Literal["gluvo-session"]
    version: int
    name: str
    rate: int
    strips: tuple[AnyStrip, ...]
    prints: tuple[Print, ...]
    references: tuple[Reference, ...]
    sections: tuple[Section, ...]
    target: Target
    deliverables: tuple[Deliverable, ...]
    tags: Tags
    limits: tuple[Limit, ...]
    versions: tuple[Version, ...]
    deliveries: tuple[Delivered, ...]
    notes: tuple[Note, ...]
    job: Job
    trials: tuple[Trial, ...]
    dismissed: tuple[Dismissed, ...]
    view: View


class Session(Struct, frozen=True, kw_only=True):
    """Everything that is kept of the work on one song."""

    format: Literal["gluvo-session"] = "gluvo-session"
    version: Annotated[int, Meta(ge=1)] = VERSION
    name: Name = "Untitled"
    rate: Annotated[int, Meta(ge=0, le=192_000)] = 0
    """Hz that everything runs at, 44 100 to 192 000; stems at other rates are converted. 0 takes the first stem's."""
    strips: Annotated[tuple[AnyStrip, ...], Meta(max_length=1000)] = (Bus(id=MIX, name="Mix bus", into=""),)
    """Stems and buses; those that flow into the same bus stand in this order. The mix bus is one of them."""
    prints: Annotated[tuple[Print, ...], Meta(max_length=10_000)] = ()
    """Of stems of which there are several; the oldest first."""
    references: Annotated[tuple[Reference, ...], Meta(max_length=100)] = ()
    sections: Annotated[tuple[Section, ...], Meta(max_length=1000)] = ()
    target: Target = Target(name="Streaming")
    deliverables: Annotated[tuple[Deliverable, ...], Meta(max_length=100)] = ()
    tags: Tags = Tags()
    limits: Annotated[tuple[Limit, ...], Meta(max_length=100)] = ()
    versions: Annotated[tuple[Version, ...], Meta(max_length=1000)] = ()
    """The oldest first."""
    deliveries: Annotated[tuple[Delivered, ...], Meta(max_length=1000)] = ()
    """The oldest first."""
    notes: Annotated[tuple[Note, ...], Meta(max_length=MOST_NOTES)] = ()
    job: Job = Job()
    trials: Annotated[tuple[Trial, ...], Meta(max_length=1000)] = ()
    dismissed: Annotated[tuple[Dismissed, ...], Meta(max_length=1000)] = ()
    view: View = View()

    # --- looking things up ---------------------------------------------------------------------------------

    def section_name(self, seconds: float) -> str:
        """The name of the section that a place lies in; empty outside of all."""
        return next((s.name for s in self.sections if s.start <= seconds < s.end), "")

    @property
    def stems(self) -> tuple[Stem, ...]:
        return tuple(s for s in self.strips if isinstance(s, Stem))

    @property
    def sound(self) -> tuple[tuple[AnyStrip, ...], tuple[tuple[str, float, float], ...]]:
        """What the sound of the song is made by: its strips, and where the sections lie that anything in them goes by."""
        named = {lift.section for strip in self.strips for lift in strip.rides}
        named |= {id for item in self.items for id in item.sections}
        return self.strips, tuple((s.id, s.start, s.end) for s in self.sections if s.id in named)

    @property
    def media(self) -> tuple[Media, ...]:
        """All audio that the session refers to."""
        stems = {s.id for s in self.stems}
        return (
            *(s.media for s in self.stems),
            *(p.media for p in self.prints if p.stem in stems),
            *(item.recording for item in self.all_items if item.recording is not None),
            *(r.media for r in self.references),
        )

    @property
    def mix(self) -> AnyStrip:
        found = self.strip(MIX)
        assert found is not None
        return found

    def strip(self, id: str) -> AnyStrip | None:
        return next((strip for strip in self.strips if strip.id == id), None)

    @property
    def items(self) -> tuple[ChainItem, ...]:
        """The steps and lanes of all chains, those inside lanes too."""
        return tuple(item for strip in self.strips for item in chains.flat(strip.chain))

    @property
    def all_items(self) -> tuple[ChainItem, ...]:
        """As `items`, and those of alternatives that are not in the chain."""
        return (*self.items, *(item for strip in self.strips for item in put_away(strip.alternatives)))

    def item(self, id: str) -> ChainItem | None:
        return next((item for item in self.items if item.id == id), None)

    def step(self, id: str) -> AnyStep | None:
        """A step by its id; lanes are none."""
        found = self.item(id)
        return None if found is None or found.contains_steps else cast("AnyStep", found)

    def strip_with(self, id: str) -> AnyStrip | None:
        """The strip whose chain has a step or lane."""
        return next((s for s in self.strips if any(item.id == id for item in chains.flat(s.chain))), None)

    @property
    def chain(self) -> tuple[ChainItem, ...]:
        """The chain of the strip that is chosen on screen."""
        strip = self.strip(self.view.strip)
        return strip.chain if strip is not None else ()

    def section(self, id: str) -> Section | None:
        return next((section for section in self.sections if section.id == id), None)

    def reference(self, id: str) -> Reference | None:
        return next((reference for reference in self.references if reference.id == id), None)

    # --- changing them -------------------------------------------------------------------------------------

    def with_strip(self, strip: AnyStrip) -> Session:
        """The strip of that id replaced."""
        return self.replace(strips=tuple(strip if s.id == strip.id else s for s in self.strips))

    def with_chain(self, strip: str, chain: Sequence[ChainItem]) -> Session:
        """A strip's chain replaced."""
        return self.replace(strips=tuple(_with_chain(s, tuple(chain)) if s.id == strip else s for s in self.strips))

    def with_reference(self, reference: Reference) -> Session:
        """The reference of that id replaced."""
        return self.replace(references=tuple(reference if r.id == reference.id else r for r in self.references))

    def with_step(self, step: Step) -> Session:
        """The step or container of that id replaced, wherever it is."""
        strip = self.strip_with(step.id)
        return (
            self if strip is None else self.with_chain(strip.id, chains.replaced(strip.chain, cast("ChainItem", step)))
        )

    def with_new_step(self, step: ChainItem, strip: str, after: str = "", inside: str = "") -> Session:
        """A step or lane put into a strip's chain after another (the chain's beginning), or as the first inside a lane;
        it gets ids of its own."""
        found = self.strip(strip)
        if found is None:
            return self
        return self.with_chain(strip, chains.inserted(found.chain, self.named(step), after, inside))

    def named(self, item: ChainItem) -> ChainItem:
        """An item, and those in it, with ids that nothing in the session has yet."""
        taken = self._ids()

        def name(one: Step) -> Step:
            id = _fresh(type(one).__name__.lower(), taken)
            taken.add(id)
            made = msgspec.structs.replace(one, id=id)
            return made.with_rows([[name(step) for step in row] for row in made.rows]) if made.contains_steps else made

        return cast("ChainItem", name(item))

    def without_step(self, id: str) -> Session:
        strip = self.strip_with(id)
        return self if strip is None else self.with_chain(strip.id, chains.without(strip.chain, id))

    def replace(self, **changes: Unpack[SessionChanges]) -> Session:
        return msgspec.structs.replace(self, **changes)

    def looking(self, **changes: Unpack[ViewChanges]) -> Session:
        """With some of the view changed."""
        return self.replace(view=msgspec.structs.replace(self.view, **changes))

    def fresh_id(self, stem: str) -> str:
        """An id that nothing in the session has yet."""
        return _fresh(stem, self._ids())

    def _ids(self) -> set[str]:
        """All ids that there are."""
        records: tuple[Struct, ...] = (
            *self.references,
            *(section for reference in self.references for section in reference.sections),
            *self.sections,
            *self.strips,
            *self.prints,
            *self.all_items,
            *self.deliverables,
            *self.limits,
            *self.versions,
            *self.deliveries,
            *self.notes,
            *self.trials,
        )
        return {getattr(record, "id", "") for record in records}


def put_away(alternatives: Sequence[Alternatives]) -> Iterator[ChainItem]:
    """The steps and containers of alternatives that are not in the chain."""
    for several in alternatives:
        for one in several.settings:
            yield from chains.flat(one.items)
            yield from put_away(one.inner)


def _with_chain(strip: AnyStrip, chain: tuple[ChainItem, ...]) -> AnyStrip:
    """A strip with another chain; the alternatives of what is no longer in it go."""
    ids = {"", *(item.id for item in chains.flat(chain))} if strip.alternatives else set()
    alternatives = tuple(a for a in strip.alternatives if a.of in ids)
    return msgspec.structs.replace(strip, chain=chain, alternatives=alternatives)


def _fresh(stem: str, taken: Collection[str]) -> str:
    """An id that is not taken."""
    return next(f"{stem}-{n}" for n in range(1, len(taken) + 2) if f"{stem}-{n}" not in taken)


SessionEdit = Callable[[Session], Session]
