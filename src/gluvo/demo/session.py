"""The demo session: made once, then kept and never overwritten."""

from __future__ import annotations

import concurrent.futures
import multiprocessing
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec
import numpy as np
import platformdirs
import soundfile

from gluvo.advise.hold import holds
from gluvo.deliver.outboard import flowing_in, outboard_of, returned, what_goes, with_return
from gluvo.demo.instruments import RATE
from gluvo.demo.score import COLD_ROPE, FERRY_HOURS, PIER_LIGHTS, ScoreSection
from gluvo.demo.song import FERRY_BEAT, PIER_BEAT, ROPE_BEAT, cold_rope, ferry_hours, pier_lights
from gluvo.dsp.kernel import Audio
from gluvo.errors import WriteError
from gluvo.measure.round_trip import framed
from gluvo.play.duplex import SimulatedUnit, run_pass
from gluvo.progress import Progress, no_progress
from gluvo.render.song import Renderer
from gluvo.session import chains
from gluvo.session.files import replacing
from gluvo.session.media import media_of, read_material
from gluvo.session.records import MIX, AnyStrip, Bus, Deliverable, Pair, Reference, Section, Session, Stem, View
from gluvo.session.sounds import Sound
from gluvo.session.store import write_session
from gluvo.steps import Band, ChainItem, Glue, Lane, Limiter, MidSideEq, Outboard, Saturation, Trim, Width

NAME = "Ferry Hours"
REFERENCES = (
    (
        "Pier Lights",
        PIER_LIGHTS,
        PIER_BEAT,
        {
            "Intro": "Opening",
            "Verse 1": "Opening",
            "Chorus 1": "Refrain 1",
            "Verse 2": "Second verse",
            "Chorus 2": "Refrain 1",
            "Last chorus": "Refrain 2",
        },
    ),
    (
        "Cold Rope",
        COLD_ROPE,
        ROPE_BEAT,
        {
            "Intro": "Start",
            "Verse 1": "Start",
            "Chorus 1": "First refrain",
            "Verse 2": "Start",
            "Chorus 2": "First refrain",
            "Bridge": "Middle",
            "Last chorus": "Last refrain",
        },
    ),
)
"""Names, parts, seconds a beat, and which of their parts is heard against which of the song's."""
UNIT, UNIT_FILE = "outboard-1", "Kit through the simulated unit.wav"
"""The id of the step that plays it, and the recording."""
EDITION = 9
"""Changes when the audio or the chains do, so that an older demo is made anew in a folder of its own."""


def demo_folder() -> Path:
    """Where the demo is kept if no folder is given."""
    return Path(platformdirs.user_data_dir("gluvo", appauthor=False)) / f"demo-{EDITION}"


def demo_session(folder: Path | None = None, progress: Progress = no_progress) -> Path:
    """The demo session's path; audio and session are made if they are not there. Raises `WriteError`.

    A session that is there is left alone, with all that was done to it.
    """
    folder = folder or demo_folder()
    path = folder / f"{NAME}.gluvo"
    if path.exists():
        return path
    try:
        (folder / "stems").mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise WriteError(f"{folder} cannot be made ({error.strerror}).") from None
    context = multiprocessing.get_context("spawn")
    with (
        concurrent.futures.ProcessPoolExecutor(1, mp_context=context) as other_core,
        concurrent.futures.ThreadPoolExecutor(2) as writer,
    ):
        references = other_core.submit(_write_references, folder)
        stems, mix = ferry_hours(lambda done: progress(0.8 * done))
        written = [writer.submit(_write, folder / "stems" / f"{name}.wav", x) for name, x in stems.items()]
        _write(folder / f"{NAME} (rough print).wav", mix)
        for n, future in enumerate([*written, references]):
            future.result()
            progress(0.8 + 0.2 * n / len(written))
    write_session(path, _with_unit(_session(folder), folder))
    progress(1.0)
    return path


def _with_unit(session: Session, folder: Path) -> Session:
    """The session with an Outboard on the kit that has been through the simulated unit; it is off, to be switched on."""
    kit = session.strip("kit")
    assert kit is not None
    session = session.with_chain("kit", (*kit.chain, Outboard(id=UNIT, name="Simulated unit", mix=40.0, on=False)))
    renderer = Renderer(read_material(session, folder))
    node = flowing_in(renderer, session, UNIT)
    audio = np.asarray(renderer.joint(node).audio)
    came = run_pass(SimulatedUnit(RATE, in_time=False), framed(audio, RATE)).came
    went = what_goes(node.key, audio, RATE, "")
    back = returned(went, Sound(came, RATE), False, audio, UNIT_FILE)
    _write(folder / UNIT_FILE, came)
    item = with_return(
        outboard_of(session, UNIT), msgspec.structs.replace(back, media=media_of(folder / UNIT_FILE, folder))
    )
    return session.with_step(msgspec.structs.replace(item, on=False))


def _session(folder: Path) -> Session:
    sections = _sections(FERRY_HOURS, FERRY_BEAT, "section")
    last_chorus = next(s for s in sections if s.name == "Last chorus")
    return Session(
        name=NAME,
        rate=RATE,
        strips=tuple(_strips(folder)),
        references=tuple(_references(folder)),
        sections=sections,
        deliverables=(
            Deliverable(id="deliverable-1", name="Streaming", format="wav", bits="24"),
            Deliverable(id="deliverable-2", name="Disc", format="flac", bits="16", rate=44100, dither="tpdf"),
        ),
        view=View(page="shape", step="glue-1", section=last_chorus.id, loop=True, position=last_chorus.start),
    )


BUSES: tuple[tuple[str, str, str, tuple[str, ...]], ...] = (
    ("pulse", "Pulse", MIX, ("Kick", "Upright bass")),
    ("kit", "Kit", MIX, ("Snare", "Tom high", "Tom low", "Cymbals")),
    ("mallets", "Mallets & reeds", MIX, ("Marimba", "Accordion", "Plucked strings")),
    ("voices", "Voices", MIX, ("Voice low", "Voice high")),
)
"""Id, name, where it flows, and the stems in it: what keeps the beat together, and the rest of the kit apart from it."""

STEPS: dict[str, tuple[ChainItem, ...]] = {
    # the hits stay whole, while what rings between them is brought up from beside
    "kit": (
        Glue(
            id="glue-2",
            ratio=3.0,
            threshold=-20.0,
            knee=6.0,
            attack=25.0,
            release=120.0,
            auto_release=30.0,
            aim=6.5,
            hold_aim=True,
        ),
        Lane(
            id="lane-1",
            name="Crushed",
            since="",
            level=-14.0,
            hold_loudness=True,
            steps=(
                Glue(
                    id="glue-3",
                    ratio=8.0,
                    threshold=-30.0,
                    knee=3.0,
                    attack=1.0,
                    release=60.0,
                    low_cut=120.0,
                    aim=20.0,
                    hold_aim=True,
                ),
            ),
        ),
    ),
    "pulse": (
        Glue(
            id="glue-4",
            ratio=1.5,
            threshold=-20.0,
            knee=9.0,
            attack=40.0,
            release=200.0,
            auto_release=50.0,
            aim=2.5,
            hold_aim=True,
        ),
    ),
    # makes room for the kick
    "stem-upright-bass": (
        Glue(
            id="glue-5",
            key="stem-kick",
            ratio=3.0,
            threshold=-20.0,
            knee=6.0,
            attack=4.0,
            release=90.0,
            aim=6.5,
            hold_aim=True,
        ),
    ),
    "voices": (
        Glue(
            id="glue-6",
            ratio=2.5,
            threshold=-20.0,
            knee=9.0,
            attack=12.0,
            release=180.0,
            auto_release=40.0,
            low_cut=150.0,
            feed_back=True,
            aim=5.0,
            hold_aim=True,
        ),
    ),
    MIX: (
        Trim(id="trim-1", gain=-6.0),
        # the rumble goes; the build-up where three players meet and the harsh place above are calmed; the sides get air
        MidSideEq(
            id="eq-1",
            hold_loudness=True,
            bands=(
                Band(id=1, shape="low_cut", freq=25.0, q=0.71, slope=24),
                Band(id=2, target="mid", freq=225.0, gain=-2.2, q=1.4),
                Band(id=3, target="mid", freq=4500.0, q=4.0, dynamic=True, threshold=-27.0, ratio=3.0, range=4.0),
                Band(id=4, target="side", freq=210.0, gain=-3.0, q=1.8),
                Band(id=5, target="side", shape="high_shelf", freq=8500.0, gain=1.5, q=0.71, slope=6),
            ),
        ),
        Glue(
            id="glue-1",
            ratio=2.0,
            threshold=-20.0,
            knee=6.0,
            attack=30.0,
            release=110.0,
            auto_release=40.0,
            low_cut=95.0,
            tilt=1.5,
            aim=3.5,
        ),
        Saturation(id="saturation-1", shape="soft", drive=7.0, low=90.0, mix=60.0),
        # what arrives turned over in the lows would be lost in mono
        Width(id="width-1", hold_loudness=True, bands=2, crossover_1=1500.0, width_2=115.0, mono_below=140.0),
        Limiter(id="limiter-1", drive=6.0, ceiling=-1.0),
    ),
}
"""The steps of the demo, by bus or stem."""

HELD_IN = f"section-{1 + next(n for n, part in enumerate(FERRY_HOURS) if part.name == 'Last chorus')}"
"""The id of the section in which all that is held is found."""

FOUND: dict[str, dict[str, float]] = {
    "eq-1": {"output": 0.902},
    "glue-1": {"threshold": -21.247},
    "saturation-1": {"output": 0.052},
    "width-1": {"output": 0.169},
    "glue-2": {"threshold": -21.606},
    "glue-3": {"threshold": -32.823},
    "glue-4": {"threshold": -17.915},
    "glue-5": {"threshold": -21.986},
    "glue-6": {"threshold": -20.105},
    "lane-1": {"blend": -0.416},
}
"""What the aims and holds come to in the last chorus; kept here so that the demo opens at once."""


def _strips(folder: Path) -> Iterator[AnyStrip]:
    yield Bus(id=MIX, name="Mix bus", into="", chain=_found(STEPS[MIX]))
    for id, name, into, stems in BUSES:
        for stem in stems:
            key = f"stem-{stem.lower().replace(' ', '-')}"
            media = media_of(folder / "stems" / f"{stem}.wav", folder)
            yield Stem(id=key, name=stem, into=id, media=media, chain=_found(STEPS.get(key, ())))
        yield Bus(id=id, name=name, into=into, chain=_found(STEPS.get(id, ())))


def _found(chain: tuple[ChainItem, ...]) -> tuple[ChainItem, ...]:
    for item in chains.flat(chain):
        held_in = {"held_in": HELD_IN} if holds(item) else {}
        chain = chains.replaced(chain, msgspec.structs.replace(item, **FOUND.get(item.id, {}), **held_in))
    return chain


def _references(folder: Path) -> Iterator[Reference]:
    """The references with their sections, each paired with the song's sections of its kind."""
    for n, (name, parts, beat, partners) in enumerate(REFERENCES, start=1):
        sections = _sections(parts, beat, f"reference-{n}-part")
        ids = {section.name: section.id for section in sections}
        pairs = tuple(
            Pair(section=f"section-{1 + place}", own=ids[partners[part.name]])
            for place, part in enumerate(FERRY_HOURS)
            if part.name in partners
        )
        media = media_of(folder / f"{name}.wav", folder)
        yield Reference(id=f"reference-{n}", name=name, media=media, sections=sections, pairs=pairs)


def _sections(parts: Sequence[ScoreSection], beat: float, stem: str) -> tuple[Section, ...]:
    """The parts of a song of three beats to each chord."""
    sections, at = [], 0.0
    for n, part in enumerate(parts, start=1):
        end = at + len(part.chords.split()) * 3 * beat
        sections.append(Section(id=f"{stem}-{n}", name=part.name, start=round(at, 4), end=round(end, 4)))
        at = end
    return tuple(sections)


def _write_references(folder: Path) -> None:
    _write(folder / "Pier Lights.wav", pier_lights())
    _write(folder / "Cold Rope.wav", cold_rope())


def _write(path: Path, x: Audio) -> None:
    with replacing(path) as file:
        soundfile.write(file, x, RATE, "PCM_24", format="WAV")
