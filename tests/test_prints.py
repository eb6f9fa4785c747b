"""Prints: taken, lined up, told apart, heard, chosen, remembered by versions, never lost."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from gluvo.compare.print_changes import print_change
from gluvo.deliver.write import prepared, write_rows
from gluvo.desk.model.prints import placed_at
from gluvo.desk.pages.prints_dialog import PrintsDialog
from gluvo.errors import AudioFileError, DeviceError, SessionError
from gluvo.play.duplex import InputWay, SimulatedPlayer
from gluvo.render.song import Renderer
from gluvo.session import prints, versions
from gluvo.session.collect import collect
from gluvo.session.media import media_of, read_material
from gluvo.session.records import Deliverable, Media, Session, Stem
from gluvo.session.sounds import Sound
from gluvo.session.store import read_session, write_session
from gluvo.steps import Glue, Trim

from .conftest import RATE, material, music, one
from .desk import Desk, shortcut

MADE = "2026-05-04T10:11:12"


def media(n: int) -> Media:
    return Media(path=f"rough {n}.wav", size=n, sha256=f"{n:064d}")


def stem_of(session: Session, id: str = "stem-1") -> Stem:
    found = session.strip(id)
    assert isinstance(found, Stem)
    return found


def with_two() -> Session:
    session, _ = prints.with_print(one([Glue(id="g")]), "stem-1", "rough 2", media(2), 0.25, True, MADE)
    return session


def test_the_first_is_kept_when_another_comes(tmp_path: Path) -> None:
    session = with_two()
    assert [p.name for p in prints.of(session, "stem-1")] == ["x", "rough 2"]
    stem = stem_of(session)
    assert (stem.media, stem.offset, stem.mono) == (media(2), 0.25, True)
    path = tmp_path / "a.gluvo"
    write_session(path, session)
    assert read_session(path).session == session


def test_where_one_begins_is_remembered_when_another_is_chosen() -> None:
    session = with_two()
    session = session.with_strip(msgspec.structs.replace(stem_of(session), offset=1.5))
    first, second = prints.of(session, "stem-1")
    there = prints.choosing(session, first.id)
    assert stem_of(there).offset == 0.0 and stem_of(there).media == first.media
    back = prints.choosing(there, second.id)
    assert stem_of(back).offset == 1.5 and stem_of(back).mono
    assert prints.after(back, "stem-1") == prints.of(back, "stem-1")[0]


def test_a_version_remembers_its_print_and_going_back_loses_none() -> None:
    session = one([])
    session, version = versions.kept(session, "First", MADE, {})
    session, _ = prints.with_print(session, "stem-1", "rough 2", media(2), 0.0, False, MADE)
    session, _ = prints.with_print(session, "stem-1", "rough 3", media(3), 0.0, False, MADE)
    back = versions.state_of(session, version.id)
    assert stem_of(back).media.sha256 == "0" * 64
    assert [p.name for p in prints.of(back, "stem-1")] == ["x", "rough 2", "rough 3"]
    told = versions.differences(back, session)
    assert [(d.what, d.before, d.after) for d in told] == [("print", "x", "rough 3")]


def test_what_cannot_be_is_refused_in_a_sentence() -> None:
    session = with_two()
    with pytest.raises(SessionError, match="very same audio as rough 2"):
        prints.with_print(session, "stem-1", "again", media(2), 0.0, False, MADE)
    with pytest.raises(SessionError, match="Only stems"):
        prints.with_print(session, "mix", "again", media(4), 0.0, False, MADE)
    now = prints.in_place(session, stem_of(session))
    assert now is not None
    with pytest.raises(SessionError, match="Use another print first"):
        prints.without(session, now.id)
    first = prints.of(session, "stem-1")[0]
    assert [p.name for p in prints.of(prints.without(session, first.id), "stem-1")] == ["rough 2"]
    assert prints.renamed(session, first.id, "  ") == session


def test_files_go_to_the_stems_that_are_called_alike() -> None:
    session = one([])
    voice = msgspec.structs.replace(stem_of(session), id="stem-2", name="Voice", media=media(7))
    double = msgspec.structs.replace(stem_of(session), id="stem-3", name="Voice double", media=media(8))
    session = session.replace(strips=(*session.strips, voice, double))
    files = [Path("Voice rough 2.wav"), Path("rough 2 voice double.wav")]
    assert placed_at(session, files, None) == {"stem-2": files[0], "stem-3": files[1]}
    assert placed_at(session, [Path("anything.wav")], voice) == {"stem-2": Path("anything.wav")}
    with pytest.raises(SessionError, match="Which stem is bells"):
        placed_at(session, [*files, Path("bells.wav")], voice)
    with pytest.raises(SessionError, match="would both be prints of Voice"):
        placed_at(session, [Path("Voice 2.wav"), Path("Voice 3.wav")], None)
    with pytest.raises(SessionError, match="Bring in a mix first"):
        placed_at(Session(), files, None)


@pytest.mark.sampled(3)
@pytest.mark.parametrize("late", [-2000, -1, 0, 1, 4711])
@pytest.mark.parametrize("turned", [False, True])
def test_a_print_is_lined_up_to_the_sample(late: int, turned: bool) -> None:
    song = music(12.0).astype(np.float32)
    moved = np.concatenate([np.zeros((late, 2), np.float32), song]) if late > 0 else song[-late:]
    found = print_change(Sound(song, RATE), Sound(moved * (-0.5 if turned else 0.5), RATE))
    assert found.same is not None and found.same.frames == late and found.same.inverted is turned
    assert found.louder == pytest.approx(-6.02, abs=0.05)
    assert ("polarity" in found.words()) is turned and "6.0 LU softer" in found.words()


def test_tone_is_told_and_another_song_is_not_lined_up() -> None:
    song = music(12.0)
    brighter = song.copy()
    brighter[1:] += 0.6 * (song[1:] - song[:-1])
    told = print_change(Sound(song.astype("f4"), RATE), Sound(brighter.astype("f4"), RATE))
    assert "air +" in told.words() or "presence +" in told.words()
    other = np.random.default_rng(5).standard_normal(song.shape) * 0.1
    assert "not lined up" in print_change(Sound(song.astype("f4"), RATE), Sound(other.astype("f4"), RATE)).words()
    silent = print_change(Sound(song.astype("f4"), RATE), Sound(np.zeros_like(song, dtype="f4"), RATE))
    assert "silent" in silent.words()


def test_collected_prints_open_elsewhere(tmp_path: Path) -> None:
    home = tmp_path / "here"
    home.mkdir()
    for n in (1, 2):
        soundfile.write(home / f"rough {n}.wav", music(3.0, seed=n), RATE, "PCM_24")
    session = one([])
    session = session.with_strip(msgspec.structs.replace(stem_of(session), media=media_of(home / "rough 1.wav", home)))
    session, _ = prints.with_print(session, "stem-1", "rough 2", media_of(home / "rough 2.wav", home), 0.0, False, MADE)
    session, version = versions.kept(prints.choosing(session, prints.of(session, "stem-1")[0].id), "A", MADE, {})
    made = collect(session, home, tmp_path / "there", flac=True)
    shutil.rmtree(home)
    there = read_session(made).session
    for state in (there, versions.state_of(there, version.id), prints.choosing(there, there.prints[1].id)):
        assert not read_material(state, made.parent).missing


@pytest.mark.thorough
def test_a_new_print_is_taken_heard_chosen_and_undone(desk: Desk, tmp_path: Path) -> None:
    bench = desk.bench
    name = bench.session.stems[0].id
    bench.look(strip=name, step="")
    late = np.concatenate([np.zeros((960, 2)), music(8.0) * 0.7])
    soundfile.write(tmp_path / "Rough 2.wav", late, RATE, "PCM_24")
    told: list[str] = []
    bench.told.connect(lambda said: told.append(said.text))
    bench.edit("hold", lambda s: s.with_step(msgspec.structs.replace(s.step("glue-1"), hold_aim=True)))
    desk.settle()
    shortcut(desk, "Ctrl+I")
    dialog = desk.window.findChild(PrintsDialog)
    assert dialog is not None and "one print so far" in dialog.words.text()
    bench.prints.take([tmp_path / "Rough 2.wav"])
    desk.wait(lambda: len(bench.session.prints) == 2)
    desk.settle()
    assert stem_of(bench.session, name).offset == pytest.approx(-0.02)
    assert any("3.1 LU softer" in t and "20.0 ms later" in t for t in told), told
    assert any("Found anew for this print" in t and "threshold" in t for t in told), told
    assert dialog.table.rowCount() == 2
    first = prints.of(bench.session, name)[0]
    bench.listening.hear(first.id)
    desk.wait(lambda: bench.session.view.hear == first.id)
    desk.settle()
    assert bench.picture.gains[first.id] == pytest.approx(bench.picture.gains["result"] - 0.0, abs=3.5)
    QTest.keyClick(dialog.table, Qt.Key.Key_I)
    desk.settle()
    assert stem_of(bench.session, name).media == first.media and bench.session.view.hear == "result"
    bench.document.undo()
    desk.settle()
    assert stem_of(bench.session, name).media != first.media
    assert_measured_as_read(desk)
    dialog.close()
    shortcut(desk, "I")
    desk.settle()
    assert stem_of(bench.session, name).media == first.media
    assert_measured_as_read(desk)


@pytest.mark.thorough
def test_a_pass_from_an_input_is_heard_and_becomes_a_print(desk: Desk) -> None:
    bench, song = desk.bench, music(8.0).astype(np.float32)
    name = bench.session.stems[0].id
    bench.look(strip=name, step="")
    played = np.concatenate([np.zeros((4800, 2), np.float32), song * 0.8])
    way = InputWay("x", "x", lambda rate, _: SimulatedPlayer(rate, played))
    bench.input_pass.start(way)
    desk.wait(lambda: bench.engine is not None and bench.engine.position > 0.5)
    bench.edit("Trim", lambda s: s.with_step(Trim(id="trim-1", gain=-12.0)))  # heard at once, while it comes
    desk.wait(lambda: bench.input_pass.seconds > 7.9)
    assert bench.engine is not None and bench.engine.position < bench.input_pass.seconds  # never overtakes what comes
    bench.input_pass.stop()
    desk.wait(lambda: len(bench.session.prints) == 2)
    desk.settle()
    stem = stem_of(bench.session, name)
    assert stem.media.path.startswith("Prints/") and stem.offset == pytest.approx(-0.1, abs=1e-4)
    told: list[str] = []
    bench.told.connect(lambda said: told.append(said.text))
    bench.input_pass.start(InputWay("y", "y", lambda rate, _: SimulatedPlayer(rate, np.zeros((rate, 2)), False)))
    desk.wait(lambda: bench.input_pass.seconds > 0.5)
    bench.input_pass.stop()
    desk.wait(lambda: any("Nothing but silence" in t for t in told))
    bench.input_pass.start(InputWay("z", "z", gone))
    desk.wait(lambda: any("is gone" in t for t in told) and not bench.input_pass.running)
    assert len(bench.session.prints) == 2
    bench.input_pass.start(way)
    desk.wait(lambda: bench.input_pass.seconds > 0.3)
    shortcut(desk, "Esc")  # thrown away
    desk.wait(lambda: not bench.background.busy and not bench.input_pass.running)
    assert len(bench.session.prints) == 2 and bench.engine is not None


def gone(_rate: int, _sound: np.ndarray) -> SimulatedPlayer:
    raise DeviceError("The input is gone.")


def assert_measured_as_read(desk: Desk) -> None:
    """What is shown is of the audio that the session has, not of what was there before it was read."""
    session = desk.session
    fresh = Renderer(read_material(session, desk.bench.document.folder)).song(session).result.figures()
    shown = desk.bench.picture.song_render
    assert shown is not None and shown.result.figures().integrated == pytest.approx(fresh.integrated, abs=1e-6)


def test_what_is_not_read_yet_is_neither_rendered_nor_written(tmp_path: Path) -> None:
    session = with_two()
    there = material(music(2.0))
    old = replace(there, media={"stem-1": Media(path="x.wav", size=1, sha256="0" * 64)})
    assert old.other(session) == {"stem-1"} and not old.having(session)
    assert not np.any(Renderer(old).song(session).result.audio)
    row = Deliverable(id="d", name="Master")
    with pytest.raises(AudioFileError, match="still being read"):
        write_rows(old, [prepared(Renderer(old), session, row, tmp_path)], tmp_path)
    assert not list(tmp_path.iterdir())
