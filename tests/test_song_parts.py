"""Files of a part of the song: parts add up to the master, since every step does to them what it does to all of it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from click.testing import CliRunner

from gluvo.cli import cli
from gluvo.deliver.ends import as_written, ends_of
from gluvo.deliver.usual import usual_set
from gluvo.deliver.write import NOTHING_LEFT, Outcome, Row, adding_up, node_of, prepared, verdict_of_part, write_rows
from gluvo.errors import WriteError
from gluvo.measure.trace import Span
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan
from gluvo.render.song import Renderer
from gluvo.session.by_section import with_gain, working_in
from gluvo.session.media import Material, media_of
from gluvo.session.records import MIX, Bus, Deliverable, Media, Section, Session, Stem
from gluvo.session.song_parts import in_words, muted, strips_of
from gluvo.session.sounds import Sound
from gluvo.session.store import write_session
from gluvo.steps import (
    Band,
    ChainItem,
    Clipper,
    DeEsser,
    Glue,
    Lane,
    Limiter,
    MidSideEq,
    ResonanceTamer,
    Saturation,
    Split,
    SplitBand,
    TransientShaper,
    Trim,
    Width,
)

from .conftest import RATE, music

SECONDS = 2.5
ALL_FIELDS = "{track} {artist} {album} {song} {row} {bits} {rate} {section}"
SOUNDS = {f"stem-{n}": Sound((music(SECONDS, seed=n) * 0.4).astype(np.float32), RATE) for n in range(3)}
MATERIAL = Material(RATE, SOUNDS, round(SECONDS * RATE))


def song(chain: list[ChainItem], bus_chain: tuple[ChainItem, ...] = ()) -> Session:
    """A lead in a bus with a chain, with a choir beside it, and a bass that flows into the mix."""

    def stem(n: int, name: str, into: str, **more: object) -> Stem:
        media = Media(path=f"{n}.wav", size=1, sha256=f"{n:064x}", seconds=SECONDS)
        return Stem(id=f"stem-{n}", name=name, into=into, media=media, **more)

    return Session(
        rate=RATE,
        strips=(
            Bus(id=MIX, name="Mix bus", into="", fader=-1.0, chain=tuple(chain)),
            stem(0, "Lead voice", "voices", fader=-2.0),
            stem(1, "Choir", "voices", pan=40.0),
            Bus(id="voices", name="Voices", chain=bus_chain),
            stem(2, "Bass", MIX, invert=True),
        ),
        sections=(Section(id="a", name="A", start=0.0, end=1.2), Section(id="b", name="B", start=1.2, end=SECONDS)),
        deliverables=(),
    )


def part(session: Session, *strips: str, through: bool = True, of: str = "only") -> np.ndarray:
    row = Deliverable(id="r", name="r", of=of, strips=strips, through=through)
    return play_through(node_of(session, row), MATERIAL)


MOVES = MidSideEq(
    id="s",
    bands=(
        Band(id=1, freq=200.0, gain=-6.0, dynamic=True, threshold=-40.0, range=9.0),
        Band(id=2, shape="high_shelf", freq=4000.0, gain=3.0),
        Band(id=3, freq=900.0, dynamic=True, moves="up", threshold=-50.0, range=6.0, target="side"),
    ),
)
STEPS: list[ChainItem] = [
    Glue(id="s", ratio=6.0, threshold=-36.0, look_ahead=2.0, mix=60.0),
    Glue(id="s", ratio=4.0, threshold=-34.0, feed_back=True, mode="mid"),
    Glue(id="s", ratio=4.0, threshold=-34.0, lift_ratio=2.0, lift_threshold=-30.0, lift_range=8.0),
    Glue(id="s", ratio=4.0, threshold=-40.0, key="stem-2"),
    DeEsser(id="s", threshold=-10.0, range=12.0),
    DeEsser(id="s", threshold=-10.0, range=12.0, lowers="split", mode="side"),
    MOVES,
    msgspec.structs.replace(MOVES, phase="linear"),
    ResonanceTamer(id="s", at_most=9.0, stands_out=2.0),
    ResonanceTamer(id="s", at_most=9.0, stands_out=2.0, mode="side", mix=70.0),
    TransientShaper(id="s", attack=6.0, sustain=-4.0),
    TransientShaper(id="s", attack=-6.0, mode="mid", output=2.0),
    Limiter(id="s", drive=14.0, ceiling=-6.0),
    Limiter(id="s", drive=14.0, ceiling=-6.0, true_peak=False, link=0.0, output=1.0),
    Limiter(id="s", drive=0.0, ceiling=0.0),
    Width(id="s", width_1=40.0, width_3=160.0),
    Lane(id="s", level=-6.0, steps=(Glue(id="in", ratio=10.0, threshold=-44.0, look_ahead=1.0),)),
    Split(
        id="s",
        crossovers=(300.0,),
        bands=(
            SplitBand(id=1, steps=(Glue(id="in", ratio=6.0, threshold=-44.0),)),
            SplitBand(id=2, key="stem-2", steps=(Limiter(id="in2", drive=10.0, ceiling=-12.0),)),
        ),
        amount=120.0,
    ),
]


@pytest.mark.sampled(2)
@pytest.mark.parametrize("step", STEPS, ids=lambda s: s.title)
def test_parts_through_any_step_add_up_to_the_master(step: ChainItem) -> None:
    session = song([Trim(id="t", gain=-2.0), step, Limiter(id="l", drive=6.0, ceiling=-3.0)])
    whole = play_through(Plan(session).result, MATERIAL)
    voices, bass = part(session, "voices"), part(session, "stem-2")
    assert np.abs(voices).max() > 0.01 < np.abs(bass).max()
    assert np.abs(voices + bass - whole).max() < 1e-9
    assert np.abs(part(session, "stem-2", of="without") - voices).max() < 1e-12
    each = sum(part(session, id) for id in ("stem-0", "stem-1", "stem-2"))
    assert np.abs(each - whole).max() < 1e-9
    # a render gives the same as the file does
    plan = Plan(session, only=("voices",))
    assert np.abs(Renderer(MATERIAL).joint(plan.result).audio - voices).max() < 3e-6


def test_a_part_of_a_bus_moves_as_the_bus_does() -> None:
    chain: tuple[ChainItem, ...] = (
        Glue(id="g", ratio=8.0, threshold=-40.0, look_ahead=1.0),
        MOVES,
        Limiter(id="l", drive=9.0),
    )
    session = song([Glue(id="m", ratio=3.0, threshold=-30.0)], chain)
    session = working_in(session, "m", ("b",))
    session = with_gain(with_gain(session, MIX, "b", 3.0), "voices", "a", -4.0)
    session = session.with_strip(msgspec.structs.replace(session.strip("voices"), amount=130.0))
    whole = play_through(Plan(session).result, MATERIAL)
    assert np.abs(sum(part(session, f"stem-{n}") for n in range(3)) - whole).max() < 1e-9
    before = [part(session, id, through=False) for id in ("voices", "stem-2")]
    assert np.abs(sum(before) - play_through(Plan(session).strips[MIX].start, MATERIAL)).max() < 1e-12
    assert np.abs(part(session, "voices", "stem-2") - whole).max() == 0.0  # all of it is the master, to the bit


def test_what_is_bent_cannot_add_up_and_is_told(tmp_path: Path) -> None:
    session = song([Saturation(id="s", drive=14.0), Clipper(id="c", drive=4.0, ceiling=-4.0)])
    session = session.replace(deliverables=usual_set(session))
    straight = session.with_chain(MIX, [Limiter(id="l", drive=9.0, ceiling=-2.0)])
    for made, good in ((session, False), (straight, True)):
        renderer = Renderer(MATERIAL)
        folder = tmp_path / str(good)
        folder.mkdir()
        rows = [prepared(renderer, made, d, folder) for d in made.deliverables]
        outcomes = write_rows(MATERIAL, rows, folder)
        assert not any(o.trouble for o in outcomes.values())
        told = {d.name: (outcomes[d.id].residue, verdict_of_part(d, outcomes[d.id])[0]) for d in made.deliverables}
        assert told["Master"][0] is None and told["Instrumental"][0] is None
        files = {d.name: soundfile.read(outcomes[d.id].files[0].path)[0] for d in made.deliverables}
        left = files["Master"] - files["Voices"] - files["Bass"]
        level = 10 * np.log10(np.square(left).mean() / np.square(files["Master"]).mean())
        if good:
            assert told["Voices"][0] <= NOTHING_LEFT and told["Bass"][1] == "adds up"
            assert level < -100.0  # of 24 bits
        else:
            assert told["Voices"][0] == pytest.approx(level, abs=0.1) and "but for" in told["Bass"][1]
        assert np.abs(files["Instrumental"] - files["Bass"]).max() < 1e-6
        assert np.abs(files["A cappella"] - files["Voices"]).max() < 1e-6


def test_the_usual_set_is_what_is_not_there_yet() -> None:
    session = song([])
    rows = usual_set(session)
    assert [(d.name, d.of, d.strips) for d in rows] == [
        ("Master", "mix", ()),
        ("Instrumental", "without", ("voices",)),
        ("A cappella", "only", ("voices",)),
        ("Voices", "only", ("voices",)),
        ("Bass", "only", ("stem-2",)),
    ]
    assert len({d.id for d in rows}) == 5
    assert usual_set(session.replace(deliverables=rows)) == ()
    assert [d.name for d in usual_set(session.replace(deliverables=rows[1:2]))] == [
        "Master",
        "A cappella",
        "Voices",
        "Bass",
    ]
    other = [msgspec.structs.replace(rows[0], name="master", of="only", strips=("stem-2",), through=False)]
    assert usual_set(session.replace(deliverables=tuple(other)))[0].name == "Master 2"
    one_stem = session.replace(strips=(session.mix, msgspec.structs.replace(session.stems[0], into=MIX)))
    assert [d.name for d in usual_set(one_stem)] == ["Master"]  # of a mix there are no parts


def test_rows_add_up_only_where_they_hold_all_of_it_once() -> None:
    session = song([])
    rows = usual_set(session)
    assert {d.name for d in adding_up(session, rows)} == {"A cappella", "Bass"}  # Voices is the same once more
    assert adding_up(session, rows[:3]) == () and adding_up(session, rows[4:]) == ()
    quiet = session.with_strip(msgspec.structs.replace(session.strip("stem-2"), mute=True))
    assert adding_up(quiet, rows[3:4]) == () and muted(quiet) == ("Bass",)
    before = tuple(msgspec.structs.replace(d, through=False) for d in rows)
    assert adding_up(session, before) == ()


def test_what_a_row_holds_is_told_and_what_is_gone_is_passed_over(tmp_path: Path) -> None:
    session = song([])
    row = Deliverable(id="r", name="R", of="only", strips=("gone", "stem-0"), through=False)
    assert in_words(session, row) == "only Lead voice, before the mix chain" and strips_of(session, row) == ("stem-0",)
    assert (
        in_words(session, Deliverable(id="r", name="R")) == ""
        and strips_of(session, Deliverable(id="r", name="R")) is None
    )
    nothing = msgspec.structs.replace(row, strips=("gone", MIX))
    with pytest.raises(WriteError, match="Choose which"):
        prepared(Renderer(MATERIAL), session, nothing, tmp_path)
    all_of_it = msgspec.structs.replace(nothing, of="without")
    assert np.array_equal(
        play_through(node_of(session, all_of_it), MATERIAL), play_through(Plan(session).strips[MIX].start, MATERIAL)
    )
    with pytest.raises(WriteError, match="Choose which"):
        prepared(Renderer(MATERIAL), session, Deliverable(id="r", name="R", scope="section", section="gone"), tmp_path)


def test_one_section_is_one_file_and_names_have_all_their_fields(tmp_path: Path) -> None:
    session = song([])
    tags = msgspec.structs.replace(session.tags, title="Low: Water", artist="A/B", album="Tides", track="3/12")
    row = Deliverable(
        id="r",
        name="Part",
        scope="section",
        section="b",
        of="only",
        strips=("stem-2",),
        pattern=ALL_FIELDS,
    )
    made = prepared(Renderer(MATERIAL), session.replace(tags=tags), row, tmp_path)
    ((path, section),) = made.paths
    assert section is not None and section.id == "b" and path.name == "03 A-B Tides Low- Water Part 24 48k B.wav"
    outcome = write_rows(MATERIAL, [made], tmp_path)["r"]
    x, _ = soundfile.read(outcome.files[0].path)
    whole = part(session, "stem-2")
    assert np.abs(x - whole[round(1.2 * RATE) :]).max() < 2**-22
    old = prepared(
        Renderer(MATERIAL), session, msgspec.structs.replace(row, pattern="{title} {name} {depth}"), tmp_path
    )
    assert old.paths[0][0].name == "Untitled Part 24 - B.wav"


def test_a_part_over_full_scale_is_told() -> None:
    session = song([Trim(id="t", gain=24.0)])
    row = Deliverable(id="r", name="R", of="only", strips=("voices",))
    outcome = replace(_written(session, row), residue=None)
    words, good = verdict_of_part(row, outcome)
    over = 20 * np.log10(np.abs(part(session, "voices")).max())
    assert over > 3.0 and not good and words == f"clipped by {over:.2f} dB: 32 bit float would hold it"
    assert outcome.files[0].figures.true_peak < over  # in the file itself it cannot be seen any more
    whole = replace(_written(session, msgspec.structs.replace(row, bits="32f")), residue=None)
    assert verdict_of_part(row, whole)[1] and whole.files[0].clipped == 0.0
    soft = _written(song([Trim(id="t", gain=-60.0)]), row)
    assert soft.files[0].clipped == 0.0


def _written(session: Session, row: Deliverable) -> Outcome:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        made: Row = prepared(Renderer(MATERIAL), session, row, Path(folder))
        return write_rows(MATERIAL, [made], Path(folder))["r"]


def test_the_command_line_renders_parts(tmp_path: Path) -> None:
    session = song([Glue(id="g", ratio=4.0, threshold=-36.0), Limiter(id="l", drive=6.0, ceiling=-2.0)])
    strips = []
    for strip in session.strips:
        if isinstance(strip, Stem):
            path = tmp_path / f"{strip.name}.wav"
            soundfile.write(path, SOUNDS[strip.id].samples, RATE, "FLOAT")
            strip = msgspec.structs.replace(strip, media=media_of(path, tmp_path))
        strips.append(strip)
    write_session(tmp_path / "s.gluvo", session.replace(strips=tuple(strips)))

    def run(*words: str) -> tuple[int, str]:
        result = CliRunner().invoke(cli, ["render", str(tmp_path / "s.gluvo"), "--bits", "32f", *words])
        return result.exit_code, result.output

    for name, words in {"a": ("--only", "voices"), "b": ("--without", "Voices"), "c": ()}.items():
        assert run("--out", str(tmp_path / f"{name}.wav"), *words)[0] == 0
    a, b, c = (soundfile.read(tmp_path / f"{name}.wav")[0] for name in "abc")
    assert np.abs(a + b - c).max() < 1e-6
    assert run("--out", str(tmp_path / "d.wav"), "--only", "Nobody")[0] == 2
    assert run("--out", str(tmp_path / "d.wav"), "--only", "Bass", "--without", "Choir")[0] == 2
    assert run("--out", str(tmp_path / "d.wav"), "--before")[0] == 2
    assert not (tmp_path / "d.wav").exists()


@pytest.mark.parametrize("shape", ["straight", "smooth", "even"])
def test_what_is_heard_of_a_row_is_what_its_file_holds(tmp_path: Path, shape: str) -> None:
    session = song([Limiter(id="l", drive=4.0, ceiling=-2.0)])
    row = Deliverable(id="r", name="R", fade_in=0.3, fade_out=1.0, fade_shape=shape, bits="32f")
    made = prepared(Renderer(MATERIAL), session, row, tmp_path)
    file = soundfile.read(write_rows(MATERIAL, [made], tmp_path)["r"].files[0].path)[0]
    heard = as_written(Renderer(MATERIAL).joint(node_of(session, row)).audio, RATE, row, None)
    assert np.abs(heard - file).max() < 3e-6
    part_of_it = as_written(Renderer(MATERIAL).joint(node_of(session, row)).audio, RATE, row, Span(1.0, 2.0))
    assert len(part_of_it) == RATE and not part_of_it[0].any()


def test_the_ends_of_a_file_are_told() -> None:
    x = np.zeros((3 * RATE, 2), dtype=np.float32)
    x[RATE : 2 * RATE] = 0.1
    row = Deliverable(id="r", name="R")
    found = ends_of(x, RATE, row, -14.0)
    assert (found.before, found.after) == (1.0, 1.0) and found.last < -150.0
    assert found.words == "1.00 s of silence before the first sound; 1.00 s of silence after the last."
    cut = ends_of(x[: 2 * RATE], RATE, row, -14.0)
    assert cut.after == 0.0 and "the last 40 ms are cut at −20 dBFS" in cut.words
    faded = msgspec.structs.replace(row, fade_out=1.5, tail=RATE)
    assert "cut" not in ends_of(x[: 2 * RATE], RATE, faded, -14.0).words
    led = msgspec.structs.replace(row, lead=RATE // 2)
    assert ends_of(x, RATE, led, -14.0).before == 1.5
    assert (
        ends_of(np.zeros((0, 2)), RATE, row, -200.0).before == 0.0
        and ends_of(x[:RATE], RATE, row, -200.0).before == 1.0
    )
    loud = np.full((RATE, 2), 0.1, dtype=np.float32)
    assert ends_of(loud, RATE, msgspec.structs.replace(row, fade_in=9.0, fade_out=9.0), -20.0).words != ""
