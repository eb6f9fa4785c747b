"""The document, its history and its file."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import jsonschema
import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.errors import SessionError, WriteError
from gluvo.session import chains
from gluvo.session.copies import copies_left
from gluvo.session.create import new_session
from gluvo.session.document import Document
from gluvo.session.files import replacing
from gluvo.session.media import media_of, place_of
from gluvo.session.migrations import VERSION
from gluvo.session.records import Bus, Deliverable, Section, Session, View
from gluvo.session.store import loaded_from, read_session, schema, session_bytes, write_session
from gluvo.steps import STEP_KINDS, Band, Glue, Lane, Limiter, MidSideEq, Trim

from .test_steps import any_settings

CHAIN = (Trim(id="trim-1", gain=-6.0), Glue(id="glue-1", ratio=2.0, threshold=-18.25), Limiter(id="limiter-1"))


def session() -> Session:
    return Session(
        name="Harbour Take",
        strips=(Bus(id="mix", name="Mix bus", into="", chain=CHAIN),),
        sections=(Section(id="section-1", name="Refrain", start=1.0, end=3.5),),
        deliverables=(Deliverable(id="deliverable-1", name="Disc", bits="16", dither="tpdf"),),
        view=View(step="glue-1", section="section-1", loop=True),
    )


@pytest.mark.thorough
@settings(max_examples=40, deadline=None)
@given(chain=st.lists(st.one_of(*(any_settings(kind) for kind in STEP_KINDS)), max_size=5))
def test_any_session_survives_its_file(chain: list[Glue]) -> None:
    made = session().with_chain("mix", [msgspec.structs.replace(s, id=f"s{n}") for n, s in enumerate(chain)])
    raw = json.loads(session_bytes(made))
    jsonschema.validate(raw, schema())
    assert loaded_from(raw, "test").session == made


def test_the_file_is_stable_and_readable(tmp_path: Path) -> None:
    path = tmp_path / "a.gluvo"
    write_session(path, session())
    first = path.read_bytes()
    write_session(path, read_session(path).session)
    assert path.read_bytes() == first
    lines = first.decode().splitlines()
    assert lines[1:3] == ['  "format": "gluvo-session",', f'  "version": {VERSION},']


def test_unknown_keys_are_kept_where_they_were(tmp_path: Path) -> None:
    raw = json.loads(session_bytes(session()))
    raw["mood"] = "salty"
    raw["strips"][0]["chain"][1]["colour"] = {"r": 3}
    raw["view"]["zoom"] = [1, 2]
    path = tmp_path / "a.gluvo"
    path.write_text(json.dumps(raw))
    document = Document.open(path)
    document.edit("Move step", lambda s: s.with_chain("mix", chains.moved(s.chain, "glue-1", -1)))
    document.edit("Remove Trim", lambda s: s.without_step("trim-1"))
    document.save()
    again = json.loads(path.read_text())
    assert again["mood"] == "salty" and again["view"]["zoom"] == [1, 2]
    assert again["strips"][0]["chain"][0]["id"] == "glue-1" and again["strips"][0]["chain"][0]["colour"] == {"r": 3}


def mix(*items: dict[str, object]) -> dict[str, object]:
    return {"strips": [{"strip": "bus", "id": "mix", "name": "Mix bus", "into": "", "chain": list(items)}]}


@pytest.mark.parametrize(
    ("change", "word"),
    [
        ({"version": 99}, "newer Gluvo"),
        ({"format": "tune"}, "no Gluvo session"),
        ({"version": "x"}, "version"),
        (mix({"step": "glue", "id": "a", "ratio": 900}), "ratio"),
        (mix({"step": "sparkle", "id": "a"}), "sparkle"),
        (mix({"step": "trim", "id": "a"}, {"step": "trim", "id": "a"}), "same id"),
        (mix({"step": "mid_side_eq", "id": "a", "bands": [{"id": 1}, {"id": 1}]}), "two bands"),
        (mix({"step": "mid_side_eq", "id": "a", "bands": [{"gain": 3.0}]}), "two bands"),
        (mix({"step": "mid_side_eq", "id": "a", "bands": [{"id": n + 1} for n in range(25)]}), "bands"),
        (mix({"step": "mid_side_eq", "id": "a", "bands": [{"id": 1, "slope": 13}]}), "slope"),
        ({"limits": [{"id": "a", "name": "Lid", "points": [[200.0, -40.0], [100.0, -40.0]]}]}, "rising"),
        ({"limits": [{"id": "a", "name": "Lid", "points": [[0.0, -40.0], [100.0, -40.0]]}]}, "rising"),
        ({"strips": []}, "no mix bus"),
        (mix({"step": "lane", "id": "a", "since": "b"}, {"step": "trim", "id": "b"}), "come back before it leaves"),
        ({"sections": [{"id": "s", "name": "Coda", "start": 5.0, "end": 5.0}]}, "Coda"),
    ],
)
def test_bad_sessions_are_refused_with_a_sentence(change: dict[str, object], word: str) -> None:
    raw = json.loads(session_bytes(session())) | change
    with pytest.raises(SessionError, match=word):
        loaded_from(raw, "a.gluvo")


def test_unknown_keys_in_a_lane_are_kept(tmp_path: Path) -> None:
    lane = Lane(id="lane-1", steps=(Trim(id="trim-2"),))
    raw = json.loads(session_bytes(session().with_chain("mix", [*CHAIN, lane])))
    raw["strips"][0]["colour"] = "blue"
    raw["strips"][0]["chain"][3]["steps"][0]["mood"] = 3
    path = tmp_path / "a.gluvo"
    path.write_text(json.dumps(raw))
    document = Document.open(path)
    document.edit("Rename", lambda s: s.with_strip(msgspec.structs.replace(s.mix, name="All")))
    document.save()
    again = json.loads(path.read_text())["strips"][0]
    assert again["colour"] == "blue" and again["name"] == "All" and again["chain"][3]["steps"][0]["mood"] == 3


@pytest.mark.parametrize("content", [b"", b"\x00\xff", b"[1, 2]", b'{"format": "gluvo-se'])
def test_files_that_are_no_sessions(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "a.gluvo"
    path.write_bytes(content)
    with pytest.raises(SessionError, match=r"a\.gluvo"):
        read_session(path)


def test_undo_and_redo_without_limit() -> None:
    document = Document(session(), Path("x.gluvo"))
    gains = [round(-0.1 * n, 1) for n in range(1, 301)]
    for gain in gains:
        document.edit("Trim gain", lambda s, g=gain: s.with_step(Trim(id="trim-1", gain=g)))
    assert document.undo_name == "Trim gain" and document.redo_name is None
    for _ in gains:
        document.undo()
    assert document.session == session() and document.undo_name is None
    for _ in gains:
        document.redo()
    assert document.session.chain[0].gain == gains[-1]


def test_a_drag_is_one_action_and_the_next_drag_another() -> None:
    document = Document(session(), Path("x.gluvo"))
    for first in (-1.0, -5.0):
        for n in range(10):
            document.edit(
                "Trim gain", lambda s, g=first - n / 10: s.with_step(Trim(id="trim-1", gain=g)), "trim-1.gain"
            )
        document.settle()
    document.undo()
    assert document.session.chain[0].gain == -1.9
    document.undo()
    assert document.session == session()


def test_looking_is_not_undone_and_asks_for_no_saving(tmp_path: Path) -> None:
    write_session(tmp_path / "a.gluvo", session())
    document = Document.open(tmp_path / "a.gluvo")
    document.look(page="deliver", step="trim-1")
    assert not document.changed
    document.edit("Remove Glue", lambda s: s.without_step("glue-1"))
    document.undo()
    assert document.session.view.page == "deliver"


def test_autosave_and_recovery(tmp_path: Path) -> None:
    path = tmp_path / "a.gluvo"
    write_session(path, session())
    document = Document.open(path)
    assert document.autosave() is None and not copies_left(path, session())
    document.edit("Remove Glue", lambda s: s.without_step("glue-1"))
    document.autosave()
    document.release()  # as a crash does
    crashed = Document.open(path)
    (left,) = crashed.copies_left()
    assert read_session(path).session == session()
    crashed.recover(left)
    assert crashed.session.chain == document.session.chain and crashed.changed
    assert crashed.undo_name == "Remove Glue"  # the undo history of the work came along
    crashed.undo()
    assert crashed.session.strips == session().strips
    crashed.redo()
    crashed.save()
    assert not crashed.copies_left() and not left.path.exists() and len(read_session(path).session.chain) == 2


def test_saving_elsewhere_keeps_the_audio_found(tmp_path: Path, mix_file: Path) -> None:
    document = Document(new_session([mix_file], (), tmp_path, "a"), tmp_path / "a.gluvo")
    document.edit("Add Trim", lambda s: s.with_new_step(Trim(), "mix"))
    other = tmp_path / "elsewhere"
    other.mkdir()
    document.save(other / "b.gluvo")
    for _ in range(2):
        assert place_of(document.session.stems[0].media, document.folder) == mix_file
        document.undo()


def test_media_outside_the_sessions_folder(tmp_path: Path, mix_file: Path) -> None:
    folder = tmp_path / "sessions"
    folder.mkdir()
    media = media_of(mix_file, folder)
    assert Path(media.path).is_absolute() and place_of(media, folder) == mix_file
    assert media_of(mix_file, tmp_path).path == mix_file.name


def test_a_failed_write_leaves_everything_as_it_was(tmp_path: Path) -> None:
    path = tmp_path / "a.gluvo"
    write_session(path, session())
    before = path.read_bytes()
    with pytest.raises(WriteError, match="Nothing was changed"), replacing(path) as file:
        file.write(b"half")
        raise OSError(28, "No space left on device")
    assert path.read_bytes() == before and [p.name for p in tmp_path.iterdir()] == ["a.gluvo"]
    with pytest.raises(WriteError):
        write_session(tmp_path / "nowhere" / "a.gluvo", session())


def test_step_ids_stay_unique() -> None:
    made = session()
    for _ in range(3):
        made = made.with_new_step(Trim(), "mix")
    ids = [s.id for s in made.chain]
    assert len(set(ids)) == len(ids)


def test_unknown_keys_in_a_band_are_kept(tmp_path: Path) -> None:
    eq = MidSideEq(id="eq-1", bands=(Band(id=1), Band(id=4, gain=2.0)))
    raw = json.loads(session_bytes(session().with_chain("mix", [eq])))
    raw["strips"][0]["chain"][0]["bands"][1]["mood"] = "bright"
    path = tmp_path / "a.gluvo"
    path.write_text(json.dumps(raw))
    document = Document.open(path)
    document.edit("Remove band", lambda s: s.with_step(eq.without_band(1)))
    document.save()
    (band,) = json.loads(path.read_text())["strips"][0]["chain"][0]["bands"]
    assert band["id"] == 4 and band["mood"] == "bright"


def test_sessions_are_read_side_by_side_in_a_new_process(tmp_path: Path) -> None:
    """The first reading of all, by several threads at once."""
    write_session(tmp_path / "a.gluvo", Session(name="A"))
    code = (
        "import concurrent.futures, pathlib, sys\n"
        "from gluvo.session.store import checked, read_session\n"
        "path = pathlib.Path(sys.argv[1])\n"
        "with concurrent.futures.ThreadPoolExecutor(8) as pool:\n"
        "    found = list(pool.map(lambda _: checked(read_session(path).session), range(16)))\n"
        "print(len(found))\n"
    )
    for _ in range(4):
        done = subprocess.run(
            [sys.executable, "-c", code, str(tmp_path / "a.gluvo")],
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
        assert done.stdout.strip() == "16", done.stderr
