"""A session's deliverables: one play for all, exact frames, fades, silence, names, tags, and what goes wrong."""

from __future__ import annotations

import datetime
from dataclasses import replace
from pathlib import Path

import av
import msgspec
import mutagen
import numpy as np
import pytest
import soundfile

from gluvo.deliver import write
from gluvo.deliver.formats import ALL_RATES, FORMATS
from gluvo.deliver.names import safe, stem_of
from gluvo.deliver.rows import fade
from gluvo.deliver.write import places, prepared, same_names, write_rows
from gluvo.deliver.writers import broadcast_wav, write_floats
from gluvo.dsp.dither import to_whole
from gluvo.errors import WriteError
from gluvo.render.chain import run_chain
from gluvo.render.machine import play_through, played_all
from gluvo.render.plan import Plan
from gluvo.render.song import Renderer
from gluvo.session.media import Material
from gluvo.session.records import Deliverable, Section, Session, Tags, Target
from gluvo.session.sounds import measured_file, read_sound
from gluvo.steps import Band, Clipper, Limiter, MidSideEq, Step, Trim

from .conftest import RATE, material, music, noise, one

CHAIN: list[Step] = [Trim(id="t", gain=-2.0), Limiter(id="l", drive=9.0, ceiling=-1.0)]
TAGS = Tags(
    title="Quay Walk",
    artist="The Bollards",
    album="Low Water",
    track="3/9",
    year="2026",
    isrc="SEABC2600001",
    comment="first line\nsecond line",
)
PNG = b"\x89PNG\r\n\x1a\n" + b"\0" * 64


@pytest.fixture(scope="module")
def song() -> Material:
    return material(music(6.0))


@pytest.fixture(scope="module")
def renderer(song: Material) -> Renderer:
    return Renderer(song)


def session(*rows: Deliverable, chain: list[Step] = CHAIN, tags: Tags = TAGS) -> Session:
    sections = (Section(id="a", name="Verse", start=0.0, end=2.5), Section(id="b", name="End", start=2.5, end=6.0))
    return one(chain).replace(name="Quay", sections=sections, deliverables=rows, tags=tags)


def row(id: str = "d", **changes: object) -> Deliverable:
    return Deliverable(id=id, name=str(changes.pop("name", f"Row {id}")), **changes)


def written(renderer: Renderer, of: Session, folder: Path):  # type: ignore[no-untyped-def]
    rows = [prepared(renderer, of, d, folder) for d in of.deliverables]
    return write_rows(renderer.material, rows, folder)


@pytest.mark.thorough
@pytest.mark.parametrize("format", FORMATS)
def test_every_format_at_every_rate_has_its_frames_and_tags(format: str, renderer: Renderer, tmp_path: Path) -> None:
    (tmp_path / "cover.png").write_bytes(PNG)
    found = FORMATS[format]
    rows = [row(str(rate), format=format, rate=rate, bit_rate=256) for rate in found.rates]
    tagged = msgspec.structs.replace(TAGS, cover="cover.png")
    outcomes = written(renderer, session(*rows, tags=tagged), tmp_path)
    for d in rows:
        outcome = outcomes[d.id]
        assert not outcome.trouble
        (file,) = outcome.files
        assert file.rate == d.rate
        sound = read_sound(file.path)
        extra = 4096 if format == "aac" else 0  # its packets are padded
        assert file.frames == 6 * d.rate <= len(sound.samples) <= file.frames + extra
        told = mutagen.File(file.path)
        values = " ".join(str(v) for v in told.tags.values()) if hasattr(told.tags, "values") else str(told.tags)
        for value in ("Quay Walk", "The Bollards", "Low Water", "2026", "SEABC2600001"):
            assert value in values, (format, value)
        assert "second line" in values
    assert {p.suffix for p in tmp_path.iterdir()} == {found.suffix, ".png"}


@pytest.mark.parametrize("format", FORMATS)
def test_a_common_toolkit_sees_the_tags_of_each_format(format: str, renderer: Renderer, tmp_path: Path) -> None:
    outcome = written(renderer, session(row("a", format=format, bit_rate=256)), tmp_path)["a"]
    path = outcome.files[0].path
    with av.open(str(path)) as found:
        told = {**dict(found.streams.audio[0].metadata), **dict(found.metadata)}
        told = {key.lower(): value for key, value in told.items()}
        assert found.streams.audio[0].frames >= 0 and sum(f.samples for f in found.decode(audio=0)) > 5 * RATE
    assert told["title"] == "Quay Walk" and told["artist"] == "The Bollards" and told["date"] == "2026"
    assert "SEABC2600001" in (told.get("isrc"), told.get("tsrc"))
    if format == "wav":
        content = path.read_bytes()
        broadcast = content.index(b"bext") + 8
        assert content[broadcast : broadcast + 256].rstrip(b"\0") == b"The Bollards - Quay Walk"
        for text in (b"INAM", b"IART", b"ICRD", b"ISRC", b"Quay Walk\0", b"SEABC2600001\0"):
            assert text in content[content.index(b"LIST") :]
        assert int.from_bytes(content[4:8], "little") == len(content) - 8


@pytest.mark.parametrize("depth", ["16", "24", "32f"])
@pytest.mark.parametrize("rate", ALL_RATES)
def test_a_wav_of_any_kind_that_is_too_long_for_32_bits_is_read_as_it_was(
    depth: str, rate: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("gluvo.deliver.writers.RF64", "always")
    x = music(0.5)
    with (tmp_path / "x.wav").open("w+b") as file:
        writer = broadcast_wav(file, rate, depth, 0)
        writer.write(x.astype(np.float32) if depth == "32f" else to_whole(x, int(depth)))
        writer.close()
    assert (tmp_path / "x.wav").read_bytes()[:4] == b"RF64"
    back, found = soundfile.read(tmp_path / "x.wav")
    assert found == rate and np.abs(back - x).max() < {"16": 2**-15, "24": 2**-23, "32f": 2**-24}[depth]


def test_floats_that_are_too_long_for_32_bits_are_read_as_they_were(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    x = music(0.5).astype(np.float32)
    for most, mark in ((x.nbytes, b"RIFF"), (x.nbytes - 1, b"RF64")):
        monkeypatch.setattr("gluvo.deliver.writers.FOUR_GB", most)
        with (tmp_path / "x.wav").open("w+b") as file:
            write_floats(file, x, RATE)
        assert (tmp_path / "x.wav").read_bytes()[:4] == mark
        assert np.array_equal(soundfile.read(tmp_path / "x.wav", dtype="float32")[0], x)


def test_what_a_format_has_no_room_for_is_refused(
    renderer: Renderer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    least = replace(FORMATS["aiff"], most=1_000_000)
    monkeypatch.setitem(FORMATS, "aiff", least)
    outcomes = written(renderer, session(row("a", format="aiff"), row("b")), tmp_path)
    assert "a.aiff would have 0.0 GB, and AIFF holds 0.0: choose WAV or FLAC" in outcomes["a"].trouble
    assert [p.suffix for p in tmp_path.iterdir() if p.suffix != ".png"] == [".wav"] and outcomes["b"].files


@pytest.mark.parametrize("cover", [None, PNG], ids=["plain", "cover"])
@pytest.mark.parametrize("format", FORMATS)
def test_tags_change_no_sample(format: str, cover: bytes | None, tmp_path: Path) -> None:
    from gluvo.deliver.tagging import tag

    found = FORMATS[format]
    path, x = tmp_path / f"x{found.suffix}", music(3.0)
    with path.open("w+b") as file:
        writer = found.open(file, RATE, "24", 192)
        writer.write(x.astype(np.float32) if found.lossy else np.round(x * (2**31 - 256)).astype(np.int32))
        writer.close()
        before = read_sound(path).samples
        tag(file, found.key, TAGS, cover, "Quay Walk")
    assert np.array_equal(read_sound(path).samples, before)
    told = mutagen.File(path).tags
    assert "Quay Walk" in str(told if not hasattr(told, "values") else list(told.values()))


def test_lossless_files_are_the_render_itself(renderer: Renderer, song: Material, tmp_path: Path) -> None:
    of = session(row("1"), row("2", format="flac"), row("3", format="aiff", bits="16"), row("4", bits="32f"))
    outcomes = written(renderer, of, tmp_path)
    master = play_through(Plan(of).result, song)
    for id, step in (("1", 2.0**-23), ("2", 2.0**-23), ("3", 2.0**-15), ("4", 2.0**-23)):
        read = soundfile.read(outcomes[id].files[0].path)[0]
        assert np.abs(read - master).max() <= 0.5000001 * step


def test_the_song_is_played_once(
    renderer: Renderer, song: Material, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    plays = []
    original = played_all
    monkeypatch.setattr(write, "played_all", lambda *a: (plays.append(1), original(*a))[1])
    rows = [
        row("1"),
        row("2", format="mp3"),
        row("3", target=Target(name="Loud", loudness=-9.0)),
        row("4", rate=96_000),
    ]
    outcomes = written(renderer, session(*rows), tmp_path)
    assert plays == [1]
    assert all(o.files for o in outcomes.values())


@pytest.mark.parametrize("loudness", [-20.0, -14.0, -11.0])
def test_a_row_is_brought_to_its_own_target(loudness: float, renderer: Renderer, tmp_path: Path) -> None:
    target = Target(name="Own", loudness=loudness, true_peak=-1.5)
    d = row(target=target, format="flac", rate=44_100, margin=0.5)
    (file,) = written(renderer, session(d), tmp_path)["d"].files
    assert file.figures.integrated == pytest.approx(loudness, abs=0.05)
    assert file.figures.true_peak <= -2.0 + 0.05


@pytest.mark.parametrize("last", [[Clipper(id="c", drive=4.0, ceiling=-1.0)], []])
def test_conversion_keeps_the_ceiling_of_whatever_holds_it(last: list[Step], tmp_path: Path) -> None:
    hot = material(np.clip(np.random.default_rng(5).standard_normal((4 * RATE, 2)) * 0.5, -1, 1))
    of = session(row(rate=44_100, bits="32f"), row("e", rate=96_000), chain=[*CHAIN, *last])
    for outcome in written(Renderer(hot), of, tmp_path).values():
        assert outcome.files[0].figures.true_peak <= -1.0 + 0.05


def test_sections_meet_to_the_sample(renderer: Renderer, tmp_path: Path) -> None:
    of = session(row("s", scope="sections", rate=44_100, bits="32f"), row("w", rate=44_100, bits="32f"))
    outcomes = written(renderer, of, tmp_path)
    assert [f.section for f in outcomes["s"].files] == ["Verse", "End"]
    parts = [soundfile.read(f.path)[0] for f in outcomes["s"].files]
    assert [len(p) for p in parts] == [round(2.5 * 44_100), round(3.5 * 44_100)]
    whole = soundfile.read(outcomes["w"].files[0].path)[0]
    assert np.array_equal(np.concatenate(parts), whole)


@pytest.mark.parametrize("shape", ["straight", "smooth", "even"])
def test_fades_and_silence_are_exact(shape: str, renderer: Renderer, song: Material, tmp_path: Path) -> None:
    d = row(bits="32f", fade_in=0.5, fade_out=1.25, fade_shape=shape, lead=1234, tail=77)
    of = session(d)
    (file,) = written(renderer, of, tmp_path)["d"].files
    read = soundfile.read(file.path)[0]
    assert len(read) == file.frames == 6 * RATE + 1234 + 77
    assert not read[:1235].any() and not read[-78:].any()  # the first and the last of the song are silent, too
    gains = np.ones(6 * RATE)
    gains[: RATE // 2] = fade(shape, RATE // 2)
    gains[-RATE * 5 // 4 :] *= fade(shape, RATE * 5 // 4)[::-1]
    wanted = play_through(Plan(of).result, song) * gains[:, None]
    assert np.abs(read[1234:-77] - wanted).max() < 1e-7
    rising = fade(shape, 1000)
    assert rising[0] == 0.0 and (np.diff(rising) > 0.0).all() and rising[-1] < 1.0


@pytest.mark.parametrize("keeps", [True, False])
def test_silence_stays_silent_only_where_it_is_asked(keeps: bool, tmp_path: Path) -> None:
    x = np.zeros((3 * RATE, 2))
    x[RATE : 2 * RATE] = 0.25 * 2.0**-15 * np.sin(np.arange(RATE) * 0.05)[:, None]
    x[RATE + 5000 : RATE + 9000] = 0.0  # exact zeros inside quiet sound
    of = session(row(bits="16", dither="tpdf", keep_silence=keeps, lead=500), chain=[])
    (file,) = written(Renderer(material(x)), of, tmp_path)["d"].files
    read = soundfile.read(file.path, dtype="int16")[0]
    inside = read[500 + RATE + 5000 : 500 + RATE + 9000]
    assert (inside != 0).mean() > 0.1, "fades and gaps are dithered throughout"
    assert bool(read[: 500 + RATE].any()) is not keeps
    assert bool(read[-RATE:].any()) is not keeps


def test_a_short_song_and_a_silent_one_are_written(tmp_path: Path) -> None:
    for name, x in (("short", music(0.2)), ("silent", np.zeros((RATE, 2)))):
        rows = [row(f, name=name, format=f) for f in FORMATS]
        outcomes = written(Renderer(material(x)), session(*rows), tmp_path)
        assert not [o.trouble for o in outcomes.values() if o.trouble]


# --- names ---------------------------------------------------------------------------------------------------------


def test_names_have_fields_and_stay_in_their_folder() -> None:
    d = row(name='Loud / "club"', pattern="{date} {session} {title} {target} {rate} {depth} v{version}")
    of = session(d).replace(name="A:B")
    day = datetime.date(2026, 11, 25)
    text = stem_of(of, d, rate=44_100, target="Stream", depth="24", version=3, today=day)
    assert text == "2026-11-25 A-B Quay Walk Stream 44.1k 24 v3"
    for pattern in ("../../{session}", "/etc/{name}", "{session}/../x", "a\\b", "x\ny"):
        (path,) = places(of, msgspec.structs.replace(d, pattern=pattern), RATE, Path("/music/out"))
        assert path.parent == Path("/music/out")
        assert path.stem != ".." and "/" not in path.name and "\n" not in path.name
    with pytest.raises(WriteError, match=r"field \{moon\}"):
        stem_of(of, row(pattern="{moon}"), rate=1, target="", depth="")
    with pytest.raises(WriteError, match="leaves no name"):
        stem_of(of, row(pattern=" . "), rate=1, target="", depth="")
    assert len(stem_of(of, row(pattern="x" * 200), rate=1, target="", depth="")) <= 180
    assert safe("a\tb\x7f") == "a-b-"


def test_rows_that_would_become_one_file_are_found() -> None:
    of = session(row("1", pattern="{session}"), row("2", pattern="{SESSION}".lower()), row("3", pattern="x"))
    named = {d.id: places(of, d, RATE, Path("/out")) for d in of.deliverables}
    assert same_names(named) is not None
    assert same_names({"1": named["1"], "3": named["3"]}) is None
    with pytest.raises(WriteError, match="has none"):
        places(of.replace(sections=()), row(scope="sections"), RATE, Path("/out"))


# --- what goes wrong -----------------------------------------------------------------------------------------------


def test_one_row_that_fails_does_not_take_the_others_with_it(renderer: Renderer, tmp_path: Path) -> None:
    of = session(row("1"), row("2"), tags=TAGS)
    rows = [prepared(renderer, of, d, tmp_path) for d in of.deliverables]
    gone = rows[1].paths[0][0]
    rows[1] = replace(rows[1], paths=((tmp_path / "no folder" / gone.name, None),))
    outcomes = write_rows(renderer.material, rows, tmp_path)
    assert outcomes["1"].files and "cannot be written to" in outcomes["2"].trouble
    assert [p.name for p in tmp_path.iterdir()] == ["Quay - Row 1.wav"]


def test_a_row_is_stopped_and_the_others_go_on(renderer: Renderer, tmp_path: Path) -> None:
    of = session(row("1"), row("2", format="mp3"), row("3", format="aac"))
    rows = [prepared(renderer, of, d, tmp_path) for d in of.deliverables]
    shares: dict[str, float] = {}
    outcomes = write_rows(
        renderer.material,
        rows,
        tmp_path,
        told=shares.__setitem__,
        wanted=lambda id: id != "2" or shares.get("2", 0.0) < 0.3,
    )
    assert outcomes["2"].trouble == "It was stopped." and shares["2"] < 0.5
    assert sorted(p.suffix for p in tmp_path.iterdir()) == [".m4a", ".wav"]


@pytest.mark.parametrize("format", FORMATS)
def test_a_full_disk_leaves_nothing(format: str, renderer: Renderer, tmp_path: Path) -> None:
    import resource
    import signal

    signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    of = session(row(format=format, bit_rate=320))
    rows = [prepared(renderer, of, d, tmp_path) for d in of.deliverables]
    resource.setrlimit(resource.RLIMIT_FSIZE, (60_000, hard))
    try:
        outcome = write_rows(renderer.material, rows, tmp_path)["d"]
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
    assert "could not be written" in outcome.trouble and not outcome.files
    assert not list(tmp_path.iterdir())


def test_an_encoder_that_fails_is_told(renderer: Renderer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import av

    from gluvo.deliver.writers import AvWriter

    def broken(self: AvWriter, frame: object) -> None:
        raise OSError(5, "the encoder stopped: broken")

    monkeypatch.setattr(AvWriter, "_mux", broken)
    assert av
    outcome = written(renderer, session(row(format="mp3")), tmp_path)["d"]
    assert "the encoder stopped" in outcome.trouble
    assert not list(tmp_path.iterdir())


def test_a_cover_that_is_none_is_told(renderer: Renderer, tmp_path: Path) -> None:
    (tmp_path / "cover.jpg").write_bytes(b"GIF89a")
    for cover, words in (("cover.jpg", "neither a JPEG nor a PNG"), ("gone.jpg", "cannot be read")):
        of = session(row(), tags=Tags(cover=cover))
        assert words in written(renderer, of, tmp_path)["d"].trouble
    assert [p.name for p in tmp_path.iterdir()] == ["cover.jpg"]


@pytest.mark.parametrize("field", ["title", "artist", "album"])
def test_tags_of_several_lines_or_without_end_are_refused(field: str) -> None:
    for value in ("two\nlines", "x" * 10_000, "\0"):
        with pytest.raises(msgspec.ValidationError):
            msgspec.convert({field: value}, Tags)
    assert msgspec.convert({"comment": "x" * 10_000}, Tags)


def test_a_format_that_cannot_hold_what_is_asked_says_so() -> None:
    of = session(row())
    for changes, words in (
        ({"format": "mp3", "rate": 96_000}, "MP3 cannot hold 96 kHz: choose 44.1 or 48 kHz"),
        ({"format": "opus", "rate": 44_100}, "choose 48 kHz"),
        ({"format": "flac", "bits": "32f"}, "FLAC holds whole numbers only"),
    ):
        with pytest.raises(WriteError, match=words):
            places(of, row(**changes), RATE, Path("/out"))


def test_aac_is_read_back_like_any_other_file(renderer: Renderer, tmp_path: Path) -> None:
    (file,) = written(renderer, session(row(format="aac")), tmp_path)["d"].files
    figures, rate = measured_file(file.path)
    assert rate == RATE and figures.integrated == pytest.approx(file.figures.integrated)
    (tmp_path / "broken.m4a").write_bytes(file.path.read_bytes()[:3000])
    with pytest.raises(Exception, match=r"broken\.m4a"):
        measured_file(tmp_path / "broken.m4a")


def test_the_version_counts_what_is_there(renderer: Renderer, tmp_path: Path) -> None:
    of = session(row(pattern="{session} v{version}"))
    names = [written(renderer, of, tmp_path)["d"].files[0].path.name for _ in range(3)]
    assert names == ["Quay v1.wav", "Quay v2.wav", "Quay v3.wav"]


def test_a_section_without_sound_does_not_take_the_others_with_it(renderer: Renderer, tmp_path: Path) -> None:
    of = session(row("1"), row("2", scope="sections"))
    of = of.replace(sections=(*of.sections, Section(id="c", name="After", start=6.5, end=8.0)))
    outcomes = written(renderer, of, tmp_path)
    assert outcomes["1"].files and "After holds no sound" in outcomes["2"].trouble
    assert [p.name for p in tmp_path.iterdir()] == ["Quay - Row 1.wav"]


def test_an_even_fade_rises_by_the_same_dB_each_moment_from_its_first_eighth_on() -> None:
    gains = fade("even", 8000)
    levels = 20 * np.log10(gains[1000:])
    assert np.diff(levels) == pytest.approx(60.0 / 8000, abs=1e-9) and gains[0] == 0.0
    assert (np.diff(gains) > 0.0).all() and gains[500] < gains[1000] and gains[-1] == pytest.approx(1.0, abs=1e-3)


@pytest.mark.sampled(2)
@pytest.mark.parametrize("format", [key for key, found in FORMATS.items() if found.lossy])
def test_a_lossy_row_meets_its_target_after_decoding(format: str, tmp_path: Path) -> None:
    """Much lies above what the encoder lets through: the file is brought to its target as it is heard."""
    hiss = run_chain(
        [MidSideEq(id="e", bands=(Band(id=1, shape="low_cut", freq=9000.0, slope=24),))], noise(6.0, 0.1), RATE
    )
    bright = Renderer(material(music(6.0) * 0.5 + hiss))
    target = Target(name="Loud", loudness=-14.0, true_peak=-1.0)
    d = row("a", format=format, bit_rate=128, target=target, margin=1.5)
    found = prepared(bright, session(d), d, tmp_path)
    assert not found.explained
    (file,) = write_rows(bright.material, [found], tmp_path)["a"].files
    assert file.figures.integrated == pytest.approx(-14.0, abs=0.06)
