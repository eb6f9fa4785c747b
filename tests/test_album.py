"""Albums: kept, laid out to the sample, told in words, heard at their joins, written as tracks and in one piece."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import msgspec
import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st
from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog

from gluvo.compare.album_standings import CENTRES, level_of, standings
from gluvo.deliver.album import (
    cue_sheet,
    deliver_album,
    join_of,
    key_of,
    measured,
    record_of,
    stretch_of,
    up_to_date,
)
from gluvo.deliver.album_layout import laid_out, rate_of_album
from gluvo.desk.pages.deliver.tags_dialog import TagsDialog
from gluvo.desk.window.album_window import AlbumWindow
from gluvo.errors import GluvoError, SessionError, WriteError
from gluvo.measure.trace import Span
from gluvo.render.song import Renderer
from gluvo.session.album import (
    Album,
    AlbumSong,
    KnownSong,
    moved,
    read_album,
    replaced,
    with_song,
    with_songs,
    write_album,
)
from gluvo.session.collect import collect, unpacked
from gluvo.session.create import new_session
from gluvo.session.media import read_material
from gluvo.session.records import Deliverable, Section
from gluvo.session.store import read_session, write_session
from gluvo.steps import Limiter, Trim

from .conftest import RATE, music, until
from .desk import Desk, LastingHost, answering

LEVEL = 0.5


@pytest.fixture
def songs(tmp_path: Path) -> list[Path]:
    """A session, and finished files at three other rates."""
    soundfile.write(tmp_path / "mix.wav", music(9.0), RATE, "PCM_24")
    session = new_session([tmp_path / "mix.wav"], [], tmp_path, "Ferry Hours")
    session = session.replace(sections=(Section(id="c", name="First chorus", start=4.0, end=8.0),))
    write_session(tmp_path / "Ferry Hours.gluvo", session.with_chain("mix", (Limiter(id="l", drive=3.0),)))
    paths = [tmp_path / "Ferry Hours.gluvo"]
    for n, rate in enumerate((44_100, 96_000, 88_200), start=2):
        path = tmp_path / f"Song {n}.wav"
        soundfile.write(path, music(4.0 + n, rate, seed=n) * LEVEL**n, rate, "FLOAT")
        paths.append(path)
    return paths


@pytest.fixture
def album(songs: list[Path], tmp_path: Path) -> Album:
    """All of them, measured; the second goes over into the third, the third is joined to the fourth."""
    made = with_songs(Album(name="Harbour: Days/1"), songs, tmp_path)
    made = with_song(made, msgspec.structs.replace(made.songs[1], gap=-1.25))
    made = with_song(made, msgspec.structs.replace(made.songs[2], gap=0.0, isrc="DEABC2600001"))
    return up_to_date(made, tmp_path, lambda _, words: pytest.fail(words))


def whole(album: Album, folder: Path) -> np.ndarray:
    return np.concatenate(list(record_of(album, folder)))


# --- its file ----------------------------------------------------------------------------------------------------------


def test_it_survives_its_file_and_keeps_what_it_does_not_know(album: Album, tmp_path: Path) -> None:
    path = tmp_path / "a.gluvo-album"
    write_album(path, album)
    assert read_album(path).album == album
    raw = json.loads(path.read_text())
    raw["later"], raw["songs"][1]["mood"] = {"x": 1}, "sad"
    path.write_text(json.dumps(raw))
    found = read_album(path)
    write_album(path, found.album, found.kept)
    again = json.loads(path.read_text())
    assert again["later"] == {"x": 1} and again["songs"][1]["mood"] == "sad"


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("nonsense", "not JSON"),
        ("[]", "no Gluvo album"),
        ('{"format": "gluvo-session", "version": 5}', "no Gluvo album"),
        ('{"format": "gluvo-album", "version": 99}', "newer Gluvo"),
        ('{"format": "gluvo-album", "version": 5, "songs": [{"id": "a", "path": "x", "gap": 99}]}', "makes no sense"),
        (
            '{"format": "gluvo-album", "version": 5, "songs": [{"id": "a", "path": "x"}, {"id": "a", "path": "y"}]}',
            "same id",
        ),
    ],
)
def test_a_bad_file_is_a_sentence(tmp_path: Path, text: str, words: str) -> None:
    path = tmp_path / "a.gluvo-album"
    path.write_text(text)
    with pytest.raises(SessionError, match=words):
        read_album(path)
    with pytest.raises(SessionError, match="was not found"):
        read_album(tmp_path / "none.gluvo-album")


def test_what_is_no_song_is_refused(tmp_path: Path, songs: list[Path]) -> None:
    itself = tmp_path / "a.gluvo-album"
    write_album(itself, Album())
    for path, words in (
        (itself, "is an album"),
        (tmp_path / "x.txt", "neither a session nor an audio file"),
        (tmp_path / "gone.wav", "was not found"),
    ):
        with pytest.raises(SessionError, match=words):
            with_songs(Album(), [path], tmp_path)
    with pytest.raises(SessionError, match="200 songs at most"):
        with_songs(Album(), songs[1:2] * 201, tmp_path)
    with pytest.raises(SessionError, match="beyond what an album holds"):
        replaced(Album(), levels="loud")


@given(st.lists(st.tuples(st.integers(0, 3), st.integers(-3, 3)), max_size=20))
@settings(max_examples=50, deadline=None)
def test_moving_songs_loses_none(moves: list[tuple[int, int]]) -> None:
    album = Album(songs=tuple(AlbumSong(id=f"s{n}", path=f"{n}.wav") for n in range(4)))
    for n, by in moves:
        album = moved(album, f"s{n}", by)
    assert sorted(s.id for s in album.songs) == ["s0", "s1", "s2", "s3"]


# --- measured, laid out ------------------------------------------------------------------------------------------------


def test_only_what_has_changed_is_rendered(album: Album, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    rendered: list[str] = []

    def counted(song: AlbumSong, *args: object) -> KnownSong:
        rendered.append(song.path)
        return measured(song, *args)

    monkeypatch.setattr("gluvo.deliver.album.measured", counted)
    assert up_to_date(album, tmp_path) == album and rendered == []
    session = read_session(tmp_path / "Ferry Hours.gluvo").session
    write_session(tmp_path / "Ferry Hours.gluvo", session.looking(page="compare"))
    assert up_to_date(album, tmp_path) == album and rendered == []  # looking elsewhere is no other sound
    write_session(tmp_path / "Ferry Hours.gluvo", session.with_new_step(Trim(gain=-6.0), "mix", "l"))
    now = up_to_date(album, tmp_path)
    assert rendered == ["Ferry Hours.gluvo"]
    change = now.songs[0].known.figures["integrated"] - album.songs[0].known.figures["integrated"]
    assert change == pytest.approx(-6.0, abs=0.05)
    (tmp_path / "Song 2.wav").unlink()
    wrong: dict[str, str] = {}
    left = up_to_date(now, tmp_path, wrong.__setitem__)
    assert "Song 2.wav" in wrong["song-2"] and left.songs[1].known == now.songs[1].known


def test_a_song_measures_what_its_session_does(album: Album, tmp_path: Path) -> None:
    session = read_session(tmp_path / "Ferry Hours.gluvo").session
    renderer = Renderer(read_material(session, tmp_path))
    figures = renderer.song(session).result.figures()
    known = album.songs[0].known
    assert known is not None and known.frames == 9 * RATE and known.rate == RATE
    assert known.figures["integrated"] == pytest.approx(figures.integrated, abs=0.01)
    assert known.figures["true_peak"] == pytest.approx(figures.true_peak, abs=0.01)
    assert known.chorus == pytest.approx(renderer.song(session).result.figures(Span(4.0, 8.0)).integrated, abs=0.05)
    assert len(known.tone) == len(CENTRES) and key_of(album.songs[0], tmp_path) == known.key


@pytest.mark.sampled(3)
@pytest.mark.parametrize("by", ["integrated", "loudest", "chorus"])
def test_levels_are_moved_as_asked_and_no_peak_passes(album: Album, by: str) -> None:
    as_they_are = standings(album)
    assert all(s is not None and s.gain == 0.0 for s in as_they_are)
    quiet = replaced(album, by=by, target=msgspec.structs.replace(album.target, loudness=-40.0))
    one = [s for s in standings(replaced(quiet, levels="one")) if s is not None]
    for song, standing in zip(album.songs, one, strict=True):
        assert song.known is not None
        assert level_of(song.known, by) + standing.gain == pytest.approx(-40.0, abs=1e-6)
    keep = [s for s in standings(replaced(quiet, levels="keep")) if s is not None]
    assert len({round(s.gain, 6) for s in keep}) == 1
    loud = replaced(album, levels="one", target=msgspec.structs.replace(album.target, loudness=0.0, true_peak=-1.0))
    for s in standings(loud):
        assert s is not None and s.true_peak <= -1.0 + 1e-6 and s.short > 0.0 and "short" in s.words
    lifted = with_song(album, msgspec.structs.replace(album.songs[3], lift=3.0))
    assert standings(lifted)[3].gain == 3.0


def test_words_tell_what_differs_from_the_neighbours(album: Album) -> None:
    words = [s.words for s in standings(album) if s is not None]
    assert "LU louder" in words[0] and "than its neighbour" in words[0]
    assert "LU softer" in words[3]


def test_the_record_is_laid_out_to_the_sample(album: Album, tmp_path: Path) -> None:
    placed, frames = laid_out(album)
    rate = rate_of_album(album)
    assert rate == RATE
    assert placed[1].start == 9 * RATE + 2 * RATE
    assert placed[2].start == placed[1].start + 6 * RATE - round(1.25 * RATE)
    assert placed[3].start == placed[2].start + 7 * RATE and frames == placed[3].start + 8 * RATE
    record = whole(album, tmp_path)
    assert len(record) == frames
    assert not record[9 * RATE : 11 * RATE].any()
    session = read_session(tmp_path / "Ferry Hours.gluvo").session
    result = Renderer(read_material(session, tmp_path)).song(session).result.audio
    assert np.abs(record[: 9 * RATE] - result).max() < 1e-6
    alone, _ = soundfile.read(tmp_path / "Song 2.wav")
    middle = record[placed[1].start + RATE : placed[1].start + 3 * RATE]
    assert np.sqrt(np.mean(middle**2)) == pytest.approx(np.sqrt(np.mean(alone[44_100 : 3 * 44_100] ** 2)), rel=0.01)


def test_an_overlap_fades_by_equal_power(tmp_path: Path) -> None:
    random = np.random.default_rng(4)
    for name in ("a", "b"):
        soundfile.write(tmp_path / f"{name}.wav", random.standard_normal((3 * RATE, 2)) * 0.1, RATE, "FLOAT")
    album = with_songs(Album(), [tmp_path / "a.wav", tmp_path / "b.wav"], tmp_path)
    album = up_to_date(with_song(album, msgspec.structs.replace(album.songs[0], gap=-2.0)), tmp_path)
    record = whole(album, tmp_path)
    assert len(record) == 4 * RATE
    power = [float(np.mean(record[round(t * RATE) : round((t + 0.1) * RATE)] ** 2)) for t in np.arange(0.0, 3.9, 0.1)]
    assert max(power) / min(power) < 1.15
    too_long = with_song(album, msgspec.structs.replace(album.songs[0], gap=-3.5))
    with pytest.raises(SessionError, match="longer than one of the two songs"):
        laid_out(too_long)


def test_a_join_is_what_the_record_has_there(album: Album, tmp_path: Path) -> None:
    record = whole(album, tmp_path)
    placed, _ = laid_out(album)
    for n, loose in ((0, 1e-6), (1, 1e-3), (2, 1e-3)):  # what is converted is so from its beginning there
        sound, begins = join_of(album, n, tmp_path, seconds=2.0)
        first = placed[n + 1].start - begins
        inside = slice(3000, len(sound) - 3000)
        assert np.abs(sound[inside] - record[first : first + len(sound)][inside]).max() < loose
    part = stretch_of(album.songs[0], tmp_path, RATE, Span(2.0, 4.0))
    assert np.abs(part - record[2 * RATE : 4 * RATE]).max() < 1e-3


# --- written -----------------------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_tracks_one_after_the_other_are_the_record(album: Album, tmp_path: Path) -> None:
    rows = (
        Deliverable(id="w", name="WAV"),
        Deliverable(id="f", name="FLAC", format="flac", bits="16", dither="tpdf", rate=44_100),
        Deliverable(id="m", name="MP3", format="mp3", bit_rate=320),
    )
    album = replaced(album, rows=rows, tags=msgspec.structs.replace(album.tags, artist="Saltmarsh Six"))
    out = tmp_path / "out"
    made = deliver_album(album, tmp_path, out, gluvo="1.0")
    assert made.whole is not None and len(made.tracks) == 12
    wavs = sorted(out.glob("0*.wav"))
    assert [p.name for p in wavs] == ["01 Ferry Hours.wav", "02 Song 2.wav", "03 Song 3.wav", "04 Song 4.wav"]
    joined = np.concatenate([soundfile.read(p)[0] for p in wavs])
    one, _ = soundfile.read(made.whole.written.path)
    assert np.array_equal(joined, one) and len(one) == laid_out(album)[1]
    flacs = [soundfile.read(p) for p in sorted(out.glob("0*.flac"))]
    assert {rate for _, rate in flacs} == {44_100}
    assert sum(len(x) for x, _ in flacs) == round(laid_out(album)[1] * 44_100 / RATE)
    sums = dict(line.split("  ", 1)[::-1] for line in (out / "SHA256SUMS").read_text().splitlines())
    import hashlib

    assert set(sums) == {t.written.path.name for t in (*made.tracks, made.whole)}
    assert all(hashlib.sha256((out / name).read_bytes()).hexdigest() == digest for name, digest in sums.items())
    page = next(out.glob("*report.html")).read_text()
    assert "Harbour: Days/1" in page and "Song 4" in page and all(digest in page for digest in sums.values())
    with soundfile.SoundFile(wavs[2]) as file:
        assert file.title == "Song 3" and file.album == "Harbour: Days/1" and file.artist == "Saltmarsh Six"
    before = {p.name: p.read_bytes() for p in out.iterdir()}
    with pytest.raises(WriteError, match="exists already"):
        deliver_album(album, tmp_path, out)
    assert {p.name: p.read_bytes() for p in out.iterdir()} == before


@pytest.mark.thorough
def test_a_record_that_is_clipped_is_told(tmp_path: Path) -> None:
    path, out = tmp_path / "Loud.wav", tmp_path / "out"
    x = music(2.0)
    soundfile.write(path, 1.25 * x / np.abs(x).max(), RATE, "FLOAT")
    rows = (Deliverable(id="w", name="A", bits="16"), Deliverable(id="f", name="B", bits="32f", format="aiff"))
    album = with_songs(replaced(Album(name="A"), rows=rows, continuous="none"), [path], tmp_path)
    made = deliver_album(up_to_date(album, tmp_path, lambda _, words: pytest.fail(words)), tmp_path, out)
    assert [w.path.suffix for w in made.clipped] == [".wav"]
    assert made.clipped[0].clipped == pytest.approx(20 * np.log10(1.25), abs=1e-6)
    assert "01 Loud.wav is clipped by 1.94 dB" in made.warnings()[0]
    assert "1.94 dB" in next(out.glob("*report.html")).read_text()


def test_the_sheet_says_where_songs_begin(album: Album, tmp_path: Path) -> None:
    placed, _ = laid_out(album)
    text, off = cue_sheet(album, placed, RATE, tmp_path / "x.wav")
    lines = text.splitlines()
    assert lines[1] == 'FILE "x.wav" WAVE' and lines.count("    ISRC DEABC2600001") == 1
    indexes = [line.split()[-1] for line in lines if "INDEX" in line]
    assert indexes[:2] == ["00:00:00", "00:11:00"] and off == 2  # 15.75 s is no frame of a disc
    for told, one in zip(indexes, placed, strict=True):
        m, s, f = map(int, told.split(":"))
        assert abs((m * 60 + s) * 75 + f - one.start * 75 / RATE) <= 0.5


def test_what_cannot_be_written_leaves_nothing(album: Album, tmp_path: Path) -> None:
    with pytest.raises(SessionError, match="no songs"):
        deliver_album(Album(), tmp_path, tmp_path / "o")
    with pytest.raises(WriteError, match="never written over"):
        loose = replaced(album, songs=(msgspec.structs.replace(album.songs[1], title="x"),), continuous="none")
        named = with_song(loose, msgspec.structs.replace(loose.songs[0], title=""))
        (tmp_path / "01 Song 2.wav").hardlink_to(tmp_path / "Song 2.wav")
        deliver_album(named, tmp_path, tmp_path, force=True)
    with pytest.raises(WriteError, match="would both become"):
        twice = (Deliverable(id="a", name="A"), Deliverable(id="b", name="a"))
        deliver_album(replaced(album, rows=twice), tmp_path, tmp_path / "twice")
    assert not list((tmp_path / "twice").iterdir())
    (tmp_path / "mix.wav").unlink()
    with pytest.raises(GluvoError, match=r"mix\.wav"):
        deliver_album(album, tmp_path, tmp_path / "gone")
    assert not list((tmp_path / "gone").iterdir())


@pytest.mark.thorough
def test_from_the_command_line(album: Album, tmp_path: Path) -> None:
    path = tmp_path / "Record.gluvo-album"
    write_album(path, replaced(album, songs=tuple(msgspec.structs.replace(s, known=None) for s in album.songs)))
    run = [sys.executable, "-m", "gluvo", "album", str(path), "--dir", str(tmp_path / "out")]
    found = subprocess.run([*run, "--json"], capture_output=True, text=True, check=False)
    assert found.returncode == 0, found.stderr
    told = json.loads(found.stdout)
    assert [s["title"] for s in told["songs"]] == ["Ferry Hours", "Song 2", "Song 3", "Song 4"]
    assert len(told["files"]) == 5 and len(told["beside"]) == 3
    found = subprocess.run(run, capture_output=True, text=True, check=False)
    assert found.returncode == 2 and "exists already" in found.stderr
    (tmp_path / "Song 3.wav").unlink()
    found = subprocess.run([*run, "--force"], capture_output=True, text=True, check=False)
    assert found.returncode == 2 and "Nothing was written. Song 3.wav" in found.stderr


# --- in its window -----------------------------------------------------------------------------------------------------


@pytest.fixture
def window(empty_desk: Desk, monkeypatch: pytest.MonkeyPatch) -> Iterator[AlbumWindow]:
    made = AlbumWindow(empty_desk.bench.background, "silent", empty_desk.window.open_path, LastingHost.running)
    made.show()
    made.activateWindow()  # keys are for the window that is active
    QTest.qWaitForWindowActive(made, 20_000)
    yield made
    answering(monkeypatch, "lose")
    made.close()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


def wait(window: AlbumWindow, condition: object) -> None:
    def holds() -> bool:
        QApplication.processEvents()
        return bool(condition())

    until(holds)


def test_songs_are_taken_ordered_lifted_and_undone(
    window: AlbumWindow, songs: list[Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    record, table = window.record, window.table
    window.take(songs)
    wait(window, lambda: all(s.known for s in record.album.songs) and not record.measuring)
    assert table.rowCount() == 4 and table.item(0, 1).text() == "Ferry Hours" and window.view._songs[3].name == "Song 4"
    record.save_as(tmp_path / "Record")
    path = tmp_path / "Record.gluvo-album"
    assert read_album(path).album.name == "Record"
    window.choose("song-2")
    table.setFocus()
    QTest.keyClick(window, Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier)
    wait(window, lambda: record.album.songs[0].id == "song-2")
    wait(window, lambda: read_album(path).album.songs[0].id == "song-2")  # written as it is edited
    window.settings.lift.setFocus()
    QTest.keyClick(window.settings.lift, Qt.Key.Key_Up)
    assert record.album.songs[0].lift > 0.0
    assert table.item(0, 3).text().startswith("+")
    QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    wait(window, lambda: record.album.songs[0].lift == 0.0)
    QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    wait(window, lambda: record.album.songs[0].id == "song-1")
    wait(window, lambda: read_album(path).album == record.album and not record.measuring)
    window.settings.title.setFocus()
    QTest.keyClicks(window.settings.title, "Low Water")
    QTest.keyClick(window.settings.title, Qt.Key.Key_Return)
    assert table.item(1, 1).text() == "Low Water"
    window.settings.isrc.setText("nonsense")
    window.settings.isrc.editingFinished.emit()
    assert "two letters" in window.words.text()
    wait(window, lambda: read_album(path).album == record.album)
    other = read_album(path)
    write_album(path, replaced(other.album, name="Elsewhere"))
    window.choose("song-3")
    table.setFocus()
    QTest.keyClick(window, Qt.Key.Key_Delete)
    wait(window, lambda: "changed elsewhere" in window.words.text())
    assert read_album(path).album.name == "Elsewhere" and "not saved" in window.about.text()
    asked = answering(monkeypatch, "stay")
    assert not window.may_leave() and "could not be written" in asked[0]


@pytest.mark.thorough
def test_a_folder_that_hangs_does_not_stop_the_window_of_an_album(
    window: AlbumWindow, songs: list[Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    record, path = window.record, tmp_path / "Record.gluvo-album"
    window.take(songs[:1])
    wait(window, lambda: all(s.known for s in record.album.songs) and not record.measuring)
    record.save_as(path)
    answers, turns, leaves = threading.Event(), QTimer(window, interval=5), list[bool]()
    turns.timeout.connect(lambda: leaves.append(window.may_leave()))

    def slow(*args: Any) -> str:
        answers.wait(60.0)
        return write_album(*args)

    clock = SimpleNamespace(
        monotonic=lambda: float(len(leaves)), sleep=time.sleep
    )  # it passes while the window goes on
    monkeypatch.setattr("gluvo.desk.model.patience.time", clock)
    monkeypatch.setattr("gluvo.desk.model.open_album.write_album", slow)
    turns.start()
    record.edit("Name", lambda a: replaced(a, name="Slow"))
    record.settle()
    assert "does not answer" in window.words.text() and not record.saved and not any(leaves)
    for name in ("Slower", "Slowest"):
        record.edit("Name", lambda a, name=name: replaced(a, name=name))
        record.settle()
    assert "does not answer" in window.words.text() and not record.saved
    turns.stop()
    answers.set()
    wait(window, lambda: read_album(path).album.name == "Slowest")  # whatever hung longest comes first
    wait(window, lambda: record.saved)
    wait(window, lambda: "not saved" not in window.about.text())
    record.edit("Name", lambda a: replaced(a, name="Quick"))  # what came late is not taken for somebody else's
    record.settle()
    assert read_album(path).album.name == "Quick" and record.saved


def test_what_was_found_of_an_album_is_not_taken_in_by_the_next(
    window: AlbumWindow, album: Album, songs: list[Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    record, begun, goes_on = window.record, threading.Event(), threading.Event()

    def slow(*_: Any) -> Album:
        begun.set()
        goes_on.wait(60.0)
        return album

    monkeypatch.setattr("gluvo.desk.model.open_album.up_to_date", slow)
    window.take(songs[:2])
    wait(window, begun.is_set)
    record.new()
    others = with_songs(Album(), songs[2:], tmp_path)
    record.edit("Others", lambda _: others)
    goes_on.set()
    wait(window, lambda: not record.measuring)
    assert {s.id for s in others.songs} <= {s.id for s in album.songs}  # they go by the same names
    assert record.album == others and record.album.songs[0].known is None


@pytest.mark.thorough
def test_joins_and_pairs_are_heard_by_keys(window: AlbumWindow, songs: list[Path], tmp_path: Path) -> None:
    record = window.record
    window.take(songs[:2])
    wait(window, lambda: all(s.known for s in record.album.songs) and not record.measuring)
    window.choose("song-1")
    window.table.setFocus()
    QTest.keyClick(window, Qt.Key.Key_J)
    wait(window, lambda: record.join is not None and record.playing)
    wait(window, lambda: record.position > 0.2)
    assert window.heard.text() == "Ferry Hours → Song 2" and len(window.join._high)
    QTest.keyClick(window, Qt.Key.Key_Space)
    wait(window, lambda: not record.playing)
    window.against.setCurrentIndex(1)
    window.hear_against()
    wait(window, lambda: "against" in record.heard and record.playing)
    assert record._gains["other"] > 3.0  # the softer one is raised to the louder
    QTest.keyClick(window, Qt.Key.Key_X)
    wait(window, lambda: record.at_other)
    window.matched.setFocus()
    QTest.keyClick(window.matched, Qt.Key.Key_Return)
    wait(window, lambda: "as they will stand" in record.heard)
    window.choose("song-2")
    QTest.keyClick(window, Qt.Key.Key_J)
    wait(window, lambda: "Nothing comes after" in window.words.text())
    record.stop()


@pytest.mark.thorough
def test_the_record_is_written_and_a_song_opened(
    window: AlbumWindow, empty_desk: Desk, songs: list[Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window.take(songs[:2])
    wait(window, lambda: all(s.known for s in window.record.album.songs) and not window.record.measuring)
    out = tmp_path / "out"
    out.mkdir()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(out))
    QTest.keyClick(window, Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
    wait(window, lambda: window.record.delivered is not None)
    assert len(list(out.glob("*.wav"))) == 3 and "3 files" in window.words.text()
    window.choose("song-1")
    window.table.setFocus()
    QTest.keyClick(window.table, Qt.Key.Key_Return)
    empty_desk.wait(lambda: empty_desk.session.name == "Ferry Hours" and empty_desk.bench.audio.material is not None)
    empty_desk.settle()
    empty_desk.bench.set_setting("l", "drive", 0.0, "Drive")
    empty_desk.bench.document.save()
    before = window.record.album.songs[0].known
    window.record.measure()
    wait(window, lambda: window.record.album.songs[0].known != before)
    window.open_song("song-2")
    assert "finished file" in window.words.text()


@pytest.mark.thorough
def test_tags_and_formats_are_of_the_whole_record(
    window: AlbumWindow, songs: list[Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    window.take(songs[1:2])

    def fill(dialog: TagsDialog) -> int:
        dialog.lines["artist"].setText("Saltmarsh Six")
        dialog.lines["year"].setText("2026")
        dialog.accept()
        return 1

    monkeypatch.setattr(TagsDialog, "exec", fill)
    QTest.mouseClick(window.settings.tags, Qt.MouseButton.LeftButton)
    assert (window.record.album.tags.artist, window.record.album.tags.year) == ("Saltmarsh Six", "2026")
    menu = window.settings.formats.menu()
    assert menu is not None
    menu.aboutToShow.emit()
    flac = next(a for a in menu.actions() if a.text() == "FLAC, 24 bit")
    assert not flac.isChecked()
    flac.trigger()
    assert [r.format for r in window.record.album.rows] == ["wav", "flac"]
    menu.aboutToShow.emit()
    flac.trigger()
    assert [r.format for r in window.record.album.rows] == ["wav"]


# --- a collected session that is opened ---------------------------------------------------------------------------------


@pytest.mark.thorough
def test_a_zip_is_unpacked_beside_itself_and_opens(songs: list[Path], tmp_path: Path, empty_desk: Desk) -> None:
    session = read_session(songs[0]).session
    packed = collect(session, tmp_path, tmp_path / "away" / "Sent.zip")
    (packed.parent / "Sent").mkdir()  # a name that is taken
    empty_desk.window.open_path(packed)
    empty_desk.wait(lambda: empty_desk.session.name == "Ferry Hours" and empty_desk.bench.audio.material is not None)
    assert empty_desk.bench.document.path.parent.name == "Sent 2"
    assert not list((packed.parent / "Sent").iterdir())


@pytest.mark.parametrize(
    ("names", "words"),
    [
        (["../out.gluvo"], "leaves its folder"),
        (["/abs.gluvo"], "leaves its folder"),
        (["a/b.gluvo", "a/../../c.wav"], "leaves its folder"),
        (["a/readme.txt"], "no collected session"),
        (["a/1.gluvo", "a/2.gluvo"], "no collected session"),
    ],
)
def test_a_zip_that_would_leave_its_folder_leaves_nothing(tmp_path: Path, names: list[str], words: str) -> None:
    path = tmp_path / "in" / "x.zip"
    path.parent.mkdir()
    with zipfile.ZipFile(path, "w") as packed:
        for name in names:
            packed.writestr(name, "{}")
    with pytest.raises(SessionError, match=words):
        unpacked(path, path.parent)
    assert sorted(p.name for p in tmp_path.rglob("*")) == ["in", "x.zip"]
    (tmp_path / "bad.zip").write_bytes(b"PK\x03\x04nonsense")
    with pytest.raises(SessionError, match="cannot be unpacked"):
        unpacked(tmp_path / "bad.zip", tmp_path)
