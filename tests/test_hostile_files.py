"""Sessions and albums whose files were spoilt at random: read, or refused in a sentence, and nothing else ever."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

import msgspec
import pytest

from gluvo.errors import GluvoError
from gluvo.session import notes, prints, versions
from gluvo.session.album import Album, AlbumSong, KnownSong, read_album, write_album
from gluvo.session.deliveries import kept
from gluvo.session.records import Deliverable, DeliveredFile, Job, Lift, Media, Section, Session
from gluvo.session.store import read_session, session_bytes
from gluvo.steps import Glue, Limiter, Outboard
from gluvo.steps.recorded import Return, Sent

from .conftest import one

MADE = "2026-05-04T10:11:12"
MEDIA = Media(path="back.wav", size=3, sha256="b" * 64, seconds=3.0)
STRANGE: tuple[Any, ...] = (
    None, True, -1, 0, 1e308, -1e308, 10**40, "", "x" * 5000, "\x00", "\ud800", "../../x", [], {}, [[]], {"id": ""}, 1.5,
)  # fmt: skip


def everything() -> Session:
    """A session with every kind of record that it can hold of late."""
    sent = Sent(media=MEDIA, key="k", rate=48_000, frames=96_000, tone=(1.0, 2.0))
    back = Return(media=MEDIA, sent=sent, begins=2.0, drift=12.0, failed=("clipped 3 times",))
    chain = (Glue(id="g", sections=("s",)), Outboard(id="o", sent=sent, returned=back), Limiter(id="l"))
    session = one(chain).replace(
        sections=(Section(id="s", name="Chorus", start=1.0, end=2.0),),
        deliverables=(Deliverable(id="d", name="Master"),),
        job=Job(studio="Salt House", client="Saltmarsh Six"),
    )
    stem = session.strips[1]
    session = session.with_strip(msgspec.structs.replace(stem, rides=(Lift(section="s", gain=1.0),)))
    session, _ = prints.with_print(session, "stem-1", "rough 2", MEDIA, -0.5, True, MADE)
    session, _ = versions.kept(session, "First", MADE, {"integrated": -14.0})
    session, _ = notes.with_note(session, "a note", MADE, at=1.5, client=True)
    files = [DeliveredFile(media=MEDIA, figures={"integrated": -14.0})]
    return kept(session, MADE, [(session.deliverables[0], files)], session)


def record() -> Album:
    known = KnownSong(key="k", rate=48_000, frames=9, figures={"integrated": -14.0}, curve=(-14.0,), tone=(0.0,))
    songs = (AlbumSong(id="a", path="a.gluvo", known=known), AlbumSong(id="b", path="b.wav", gap=-1.0, lift=2.0))
    return Album(songs=songs)


def spoilt(value: Any, chance: random.Random) -> Any:
    """The same JSON with something in it another."""
    if isinstance(value, dict) and value and chance.random() < 0.9:
        key = chance.choice(list(value))
        made = dict(value)
        what = chance.random()
        if what < 0.1:
            del made[key]
        elif what < 0.15:
            made[f"{key}?"] = made.pop(key)
        else:
            made[key] = spoilt(value[key], chance)
        return made
    if isinstance(value, list) and value and chance.random() < 0.9:
        at = chance.randrange(len(value))
        row = list(value)
        if chance.random() < 0.15:
            row.append(row[at])
        else:
            row[at] = spoilt(value[at], chance)
        return row
    return chance.choice(STRANGE)


@pytest.mark.sampled(4)
@pytest.mark.parametrize("seed", range(8))
def test_a_spoilt_session_is_read_or_refused(tmp_path: Path, seed: int) -> None:
    chance, path = random.Random(seed), tmp_path / "a.gluvo"
    whole = json.loads(session_bytes(everything()))
    refused = 0
    for _ in range(150):
        path.write_text(json.dumps(spoilt(whole, chance)), encoding="utf-8")
        try:
            session = read_session(path).session
            assert read_again(tmp_path, session) == session
        except GluvoError as error:
            refused += 1
            assert str(error).endswith(".") and len(str(error)) < 6000
    assert 20 < refused < 150


def read_again(folder: Path, session: Session) -> Session:
    (folder / "again.gluvo").write_bytes(session_bytes(session))
    return read_session(folder / "again.gluvo").session


@pytest.mark.sampled(2)
@pytest.mark.parametrize("seed", range(4))
def test_a_spoilt_album_is_read_or_refused(tmp_path: Path, seed: int) -> None:
    chance, path = random.Random(seed), tmp_path / "a.gluvo-album"
    write_album(path, record())
    whole = json.loads(path.read_text())
    refused = 0
    for _ in range(150):
        path.write_text(json.dumps(spoilt(whole, chance)), encoding="utf-8")
        try:
            album = read_album(path).album
            write_album(path, album)
            assert read_album(path).album == album
        except GluvoError as error:
            refused += 1
            assert str(error).endswith(".")
    assert 20 < refused < 150
