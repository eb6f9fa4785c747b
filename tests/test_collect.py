"""A session and all its audio, collected into one place that opens elsewhere without a question."""

from __future__ import annotations

import zipfile
from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from click.testing import CliRunner
from PySide6.QtWidgets import QFileDialog

from gluvo.cli import cli
from gluvo.errors import Cancelled, SessionError, WriteError
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan
from gluvo.session.collect import AUDIO, collect
from gluvo.session.create import new_session
from gluvo.session.media import read_material
from gluvo.session.records import Session, Tags
from gluvo.session.store import read_session, write_session
from gluvo.session.versions import kept, state_of
from gluvo.steps import Glue

from .conftest import RATE, music
from .desk import Desk, shortcut


@pytest.fixture
def session(tmp_path: Path) -> Session:
    """Stems of two formats, two of one name, a reference outside, a kept version and a cover."""
    home = tmp_path / "home"
    (home / "a").mkdir(parents=True)
    (home / "b").mkdir()
    for path, depth in (
        (home / "a" / "Take.wav", "PCM_24"),
        (home / "b" / "take.wav", "FLOAT"),
        (tmp_path / "Pier.aiff", "PCM_16"),
    ):
        soundfile.write(path, music(1.0, seed=len(str(path))) * 0.4, RATE, depth)
    made = new_session([home / "a" / "Take.wav", home / "b" / "take.wav"], [tmp_path / "Pier.aiff"], home, "Low/Water")
    (home / "front.png").write_bytes(b"\x89PNG")
    made = made.with_chain("mix", (Glue(id="g", threshold=-30.0),)).replace(tags=Tags(cover="front.png"))
    made, _ = kept(made, "Kept", "2026-03-01T12:00:00", {})
    write_session(home / "s.gluvo", made)
    return made


@pytest.mark.parametrize("flac", [False, True])
@pytest.mark.parametrize("place", ["Moved", "Moved.zip"])
def test_what_is_collected_opens_elsewhere_and_sounds_the_same(
    tmp_path: Path, session: Session, flac: bool, place: str
) -> None:
    found = collect(session, tmp_path / "home", tmp_path / "out" / place, flac=flac)
    folder = tmp_path / "out" / "Moved"
    if place.endswith(".zip"):
        with zipfile.ZipFile(found) as packed:
            packed.extractall(tmp_path / "out")
        found = next(folder.glob("*.gluvo"))
    assert sorted(p.name for p in (tmp_path / "out").iterdir()) == sorted({"Moved", place})  # nothing else is left
    audio = sorted(p.name for p in (folder / AUDIO).iterdir())
    assert audio == (["Pier.flac", "Take.flac", "take 2.wav"] if flac else ["Pier.aiff", "Take.wav", "take 2.wav"])
    there = read_session(found).session
    material = read_material(there, folder)
    assert (
        not material.missing and not material.changed and all("/" not in m.path.partition("/")[2] for m in there.media)
    )
    before = play_through(Plan(session).result, read_material(session, tmp_path / "home"))
    assert np.array_equal(play_through(Plan(there).result, material), before)
    assert state_of(there, there.versions[0].id).media == there.media and (folder / there.tags.cover).exists()


def test_what_cannot_be_collected_leaves_nothing(tmp_path: Path, session: Session) -> None:
    home, out = tmp_path / "home", tmp_path / "out"
    (home / "a" / "Take.wav").write_bytes(b"other")
    with pytest.raises(SessionError, match="has changed"):
        collect(session, home, out / "x")
    (home / "a" / "Take.wav").unlink()
    with pytest.raises(SessionError, match="Nothing was collected"):
        collect(session, home, out / "x.zip")
    (out / "there").mkdir()
    with pytest.raises(WriteError, match="is there already"):
        collect(session, home, out / "there")

    def stop(_share: float) -> None:
        raise Cancelled("stopped")

    with pytest.raises(Cancelled):
        collect(msgspec.structs.replace(session, strips=session.strips[:1]), home, out / "y", progress=stop)
    assert [p.name for p in out.iterdir()] == ["there"]


def test_it_is_collected_from_the_command_line(tmp_path: Path, session: Session) -> None:
    assert session.name
    run = CliRunner().invoke(
        cli, ["collect", str(tmp_path / "home" / "s.gluvo"), "--out", str(tmp_path / "c.zip"), "--flac"]
    )
    assert run.exit_code == 0 and (tmp_path / "c.zip").exists()
    again = CliRunner().invoke(cli, ["collect", str(tmp_path / "home" / "s.gluvo"), "--out", str(tmp_path / "c.zip")])
    assert isinstance(again.exception, WriteError) and "is there already" in str(again.exception)


@pytest.mark.thorough
def test_it_is_collected_from_the_window(desk: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    chosen = (str(tmp_path / "Elsewhere"), "A zip file, plain audio as FLAC (*.zip)")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: chosen)
    shortcut(desk, "Ctrl+Alt+O")
    desk.wait(lambda: "all its audio" in desk.window.notice.text.text())
    with zipfile.ZipFile(tmp_path / "Elsewhere.zip") as packed:
        names = packed.namelist()
    assert "Elsewhere/Audio/Harbour Take.flac" in names and any(name.endswith(".gluvo") for name in names)
