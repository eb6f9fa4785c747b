"""Nothing that a user made is lost: two windows, files changed from outside, kills, full and read-only disks."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
import soundfile

from gluvo.errors import AudioFileError, ChangedOutside, SessionError, WriteError
from gluvo.session import files
from gluvo.session.copies import copies_left, own_copy, session_name, unsaved_near
from gluvo.session.create import new_session
from gluvo.session.document import Document
from gluvo.session.files import PART, refuse_own, replacing, same_file, sweep
from gluvo.session.history import History, history_bytes, history_of, read_history
from gluvo.session.lock import Lock, is_held, lock_of
from gluvo.session.media import changed_file, media_of, place_of, read_material, taken
from gluvo.session.migrations import VERSION
from gluvo.session.records import Section, Session
from gluvo.session.sounds import blocks_of, measured_file, read_sound
from gluvo.session.store import loaded_from, read_session, session_bytes, write_session
from gluvo.steps import Glue, Limiter, Trim

from .conftest import RATE, music, noise


def session() -> Session:
    chain = (Trim(id="trim-1", gain=-6.0), Glue(id="glue-1", ratio=2.0), Limiter(id="limiter-1", drive=3.0))
    return Session(name="Quay").with_chain("mix", chain)


@pytest.fixture
def path(tmp_path: Path) -> Path:
    found = tmp_path / "Quay.gluvo"
    write_session(found, session())
    return found


def gain(document: Document, value: float) -> None:
    document.edit("Trim gain", lambda s: s.with_step(Trim(id="trim-1", gain=value)))


def trim(found: Session) -> float:
    step = found.step("trim-1")
    assert isinstance(step, Trim)
    return step.gain


# --- two windows -------------------------------------------------------------------------------------------------------


def test_the_second_window_reads_only_and_can_take_over(path: Path) -> None:
    first, second = Document.open(path), Document.open(path)
    assert not first.read_only and second.read_only and is_held(path)
    with pytest.raises(SessionError, match="another window"):
        gain(second, -1.0)
    with pytest.raises(SessionError, match="another window"):
        second.save()
    assert second.session == session() and second.autosave() is None
    second.take_over()
    assert not second.read_only and first.read_only
    gain(second, -2.0)
    second.save()
    with pytest.raises(SessionError, match="another window"):
        first.save()
    assert trim(read_session(path).session) == -2.0
    first.release()  # the one that has lost it takes nothing away
    assert not second.read_only and lock_of(path).exists()
    second.release()
    assert not lock_of(path).exists() and not is_held(path)


def test_a_lock_goes_with_its_process(path: Path) -> None:
    code = (
        "import sys, time; from pathlib import Path; from gluvo.session.lock import Lock\n"
        "lock = Lock(Path(sys.argv[1])); print(lock.mine, flush=True); time.sleep(60)"
    )
    with subprocess.Popen([sys.executable, "-c", code, str(path)], stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None and process.stdout.readline().strip() == "True"
        assert is_held(path) and not Lock(path).mine
        process.kill()
        process.wait()
    assert not is_held(path)
    mine = Lock(path)
    assert mine.mine
    mine.release()


def test_a_session_in_a_folder_that_cannot_be_written_is_nobodys(path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    real = Path.open

    def refused(self: Path, mode: str = "r", *args: object, **others: object) -> object:
        if "lock" in self.name and "r" not in mode:
            raise PermissionError(13, "Permission denied")
        return real(self, mode, *args, **others)

    monkeypatch.setattr(Path, "open", refused)
    assert Lock(path).mine


def test_saving_sees_what_has_changed_outside(path: Path) -> None:
    document = Document.open(path)
    gain(document, -1.0)
    other = session().replace(name="Theirs")
    write_session(path, other)
    with pytest.raises(ChangedOutside):
        document.save()
    assert read_session(path).session == other and document.changed
    document.take_theirs()
    assert document.session.name == "Theirs" and not document.changed
    document.undo()
    assert trim(document.session) == -1.0 and document.changed
    document.save()  # what is there has been seen
    assert trim(read_session(path).session) == -1.0
    write_session(path, other)
    document.edit("x", lambda s: s.replace(name="Mine"))
    document.save(replace=True)
    assert read_session(path).session.name == "Mine"
    path.unlink()
    document.edit("x", lambda s: s.replace(name="Again"))
    document.save()
    assert read_session(path).session.name == "Again"


def test_looking_writes_nothing_into_the_session(path: Path) -> None:
    before = path.read_bytes()
    document = Document.open(path)
    document.look(page="deliver", position=12.5)
    document.save_history()
    document.release()
    assert path.read_bytes() == before
    again = Document.open(path)
    assert (again.session.view.page, again.session.view.position) == ("deliver", 12.5) and not again.changed
    write_session(path, session().replace(name="Other"))
    again.save_history()  # it is another session now
    again.release()
    assert Document.open(path).session.view.page == "shape"


# --- history -----------------------------------------------------------------------------------------------------------


def test_the_undo_history_is_there_again(path: Path) -> None:
    document = Document.open(path)
    for n in range(1, 8):
        gain(document, -float(n))
    document.edit("Remove Glue", lambda s: s.without_step("glue-1"))
    document.undo()
    document.save()
    document.release()
    again = Document.open(path)
    assert (again.undo_name, again.redo_name) == ("Trim gain", "Remove Glue") and not again.notes
    again.redo()
    assert again.session.step("glue-1") is None
    for _ in range(8):
        again.undo()
    assert again.undo_name is None and session_bytes(again.session) == session_bytes(session())


def test_a_history_that_cannot_be_read_is_dropped_with_a_word(path: Path) -> None:
    document = Document.open(path)
    gain(document, -1.0)
    document.save()
    document.release()
    good = history_of(path).read_bytes()
    for bad in (b"", b"\xff\x00", b"[1]", good[: len(good) // 2], good.replace(b'"now":1', b'"now":99')):
        history_of(path).write_bytes(bad)
        again = Document.open(path)
        assert again.notes and "history" in again.notes[0] and again.undo_name is None and trim(again.session) == -1.0
        again.release()
    history_of(path).write_bytes(good)
    write_session(path, session())  # written by somebody else: it goes with another content
    other = Document.open(path)
    assert not other.notes and other.undo_name is None
    other.release()


def test_a_long_history_is_bounded(path: Path) -> None:
    document = Document.open(path)
    for n in range(400):
        gain(document, -0.01 * n)
    entries = tuple(document._entries)
    content = history_bytes(History(entries, document._now, document.session.view), "x" * 64)
    assert len(content) < 0.5 * 200 * len(session_bytes(document.session))  # only what differs is written
    history_of(path).write_bytes(content)
    found = read_history(path, "x" * 64)
    assert found is not None and len(found.entries) == 200 and found.entries[found.now].session == document.session


# --- copies of unsaved work --------------------------------------------------------------------------------------------


def test_copies_are_told_by_content_and_never_shared(path: Path) -> None:
    one, other = own_copy(path), own_copy(path)
    assert one != other and session_name(one) == session_name(other) == path.name
    write_session(one, session())  # nothing but what is saved
    assert copies_left(path, session()) == [] and not one.exists()
    write_session(other, session().replace(name="Unsaved"))
    os.utime(other, (1, 1))  # however old a clock makes it look
    (left,) = copies_left(path, session())
    assert left.session is not None and left.session.name == "Unsaved"


def test_a_copy_that_was_put_off_outlives_edits_saves_and_windows(path: Path) -> None:
    crashed = Document.open(path)
    gain(crashed, -1.0)
    crashed.autosave()
    crashed.release()
    later = Document.open(path)
    (left,) = later.copies_left()
    gain(later, -5.0)  # and it is not gone on from
    later.autosave()
    later.save()
    assert left.path.exists() and [c.path for c in later.copies_left()] == [left.path]
    later.release()


def test_a_copy_that_cannot_be_read_is_told_and_kept(path: Path) -> None:
    copy = own_copy(path)
    copy.write_text("{ half a")
    (left,) = Document.open(path).copies_left()
    assert left.session is None and "not JSON" in left.problem and copy.exists()


def test_work_that_was_never_saved_is_found_again(tmp_path: Path) -> None:
    document = Document.new(session(), tmp_path / "New.gluvo")
    assert document.changed
    document.autosave()
    assert unsaved_near(tmp_path) == []  # its window lives
    document.release()
    assert unsaved_near(tmp_path) == [tmp_path / "New.gluvo"]
    (left,) = copies_left(tmp_path / "New.gluvo", None)
    again = Document.new(left.session, tmp_path / "New.gluvo")
    again.go_on_from(left)
    again.save()
    assert not left.path.exists() and read_session(tmp_path / "New.gluvo").session == session()


WORKING = """
import sys, time
from pathlib import Path
from gluvo.session.document import Document
from gluvo.steps import Trim
document = Document.open(Path(sys.argv[1]))
print("up", flush=True)
n, last = 0, time.monotonic()
while True:
    n += 1
    document.edit("Trim gain", lambda s: s.with_step(Trim(id="trim-1", gain=-0.01 * (n % 4000))))
    if n % 5 == 0:
        document.autosave()
    if n % 23 == 0:
        document.save()
        print(n, flush=True)
"""


@pytest.mark.thorough
def test_killed_at_random_moments_nothing_is_broken(path: Path) -> None:
    """The session and every copy are whole after each kill, and no half-written file stays past the next start."""
    chance = random.Random(5)
    for _ in range(7):
        with subprocess.Popen([sys.executable, "-c", WORKING, str(path)], stdout=subprocess.PIPE, text=True) as process:
            assert process.stdout is not None and process.stdout.readline() == "up\n"
            time.sleep(chance.uniform(0.0, 0.12))  # no wait for anything: the moment of the kill
            process.send_signal(signal.SIGKILL)
            process.wait()
        saved = read_session(path).session
        for left in copies_left(path, saved):
            assert left.session is not None, left.problem
            left.path.unlink()
    document = Document.open(path)
    gain(document, -47.0)
    document.save()
    document.release()
    assert {p.name for p in path.parent.iterdir()} <= {path.name, history_of(path).name}


def test_what_killed_processes_left_is_swept_and_what_lives_is_not(tmp_path: Path) -> None:
    (tmp_path / f".a.wav.abc{PART}").write_bytes(b"half")
    (tmp_path / ".x.gluvo.abc.part").write_bytes(b"half")
    with replacing(tmp_path / "b.bin") as file:
        file.write(b"1")
        sweep(tmp_path)
        assert len(list(tmp_path.glob(f".*{PART}"))) == 1  # its own
    assert [p.name for p in tmp_path.iterdir()] == ["b.bin"]


# --- saving elsewhere, links, own files --------------------------------------------------------------------------------


def test_a_failed_save_elsewhere_changes_nothing(
    tmp_path: Path, mix_file: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    document = Document.new(new_session([mix_file], (), tmp_path, "a"), tmp_path / "a.gluvo")
    document.edit("Add Trim", lambda s: s.with_new_step(Trim(), "mix"))
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()

    def full(_: int) -> None:
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as patch:
        patch.setattr(os, "fsync", full)
        with pytest.raises(WriteError, match="No space left"):
            document.save(elsewhere / "b.gluvo")
    assert document.path == tmp_path / "a.gluvo" and list(elsewhere.iterdir()) == []
    for _ in range(2):
        assert place_of(document.session.stems[0].media, document.folder) == mix_file
        document.undo()


def test_a_link_stays_a_link(tmp_path: Path, path: Path) -> None:
    link = tmp_path / "Link.gluvo"
    link.symlink_to(path)
    document = Document.open(link)
    gain(document, -9.0)
    document.save()
    assert link.is_symlink() and trim(read_session(path).session) == -9.0


def test_own_files_are_never_written_over(tmp_path: Path, mix_file: Path) -> None:
    hard, soft = tmp_path / "hard.wav", tmp_path / "soft.wav"
    os.link(mix_file, hard)
    soft.symlink_to(mix_file)
    for out in (mix_file, hard, soft, tmp_path / "." / mix_file.name):
        assert same_file(out, mix_file)
        with pytest.raises(WriteError, match="never written over"):
            refuse_own(out, [mix_file])
    refuse_own(tmp_path / "new.wav", [mix_file])
    document = Document.new(new_session([mix_file], (), tmp_path, "a"), tmp_path / "a.gluvo")
    with pytest.raises(WriteError, match="never written over"):
        document.save(mix_file)


# --- changed and damaged audio -----------------------------------------------------------------------------------------


def test_a_stem_that_was_printed_again_is_told_and_taken_or_not(tmp_path: Path) -> None:
    for name, seed in (("a", 1), ("b", 2)):
        soundfile.write(tmp_path / f"{name}.wav", noise(2.0, 0.1, seed), RATE, "PCM_24")
    made = new_session([tmp_path / "a.wav", tmp_path / "b.wav"], (), tmp_path, "ab")
    before = read_material(made, tmp_path)
    assert not before.changed
    soundfile.write(tmp_path / "b.wav", noise(2.5, 0.2, 2), RATE, "PCM_24")
    material = read_material(made, tmp_path)
    (changed,) = material.changed.values()
    assert "0.500 s longer" in changed.words and "loudness +6.0" in changed.words and "peak +" in changed.words
    assert list(material.sounds) == [made.stems[0].id] and "has changed" in material.missing[made.stems[1].id]
    now = taken(made, material.changed)
    after = read_material(now, tmp_path, known=material)
    assert not after.missing and len(after.sounds[made.stems[1].id].samples) == round(2.5 * RATE)
    assert now.stems[1].media.sha256 != made.stems[1].media.sha256  # renders are kept by this
    assert changed_file(now.stems[1].media, tmp_path) is None


def cut(folder: Path, name: str, container: str, subtype: str, keep: float) -> Path:
    path = folder / name
    soundfile.write(path, music(2.0), RATE, subtype, format=container)
    content = path.read_bytes()
    path.write_bytes(content[: round(len(content) * keep)])
    return path


@pytest.mark.parametrize("keep", [0.5, 0.97])
@pytest.mark.parametrize(
    ("name", "container", "subtype"),
    [
        ("a.wav", "WAV", "PCM_16"),
        ("a.aiff", "AIFF", "PCM_24"),
        ("a.rf64", "RF64", "PCM_16"),
        ("a.w64", "W64", "PCM_24"),
        ("a.ogg", "OGG", "VORBIS"),
        ("a.opus", "OGG", "OPUS"),
        ("a.caf", "CAF", "PCM_16"),
        ("a.flac", "FLAC", "PCM_16"),
    ],
)
def test_files_that_are_cut_short_are_told(
    tmp_path: Path, name: str, container: str, subtype: str, keep: float
) -> None:
    whole = cut(tmp_path, f"whole-{name}", container, subtype, 1.0)
    assert abs(len(read_sound(whole).samples) - 2 * RATE) < 2000
    with pytest.raises(AudioFileError, match=r"cut short|cannot be read"):
        read_sound(cut(tmp_path, name, container, subtype, keep))


def flac_of_unknown_length(path: Path) -> None:
    soundfile.write(path, noise(1.0), RATE, "PCM_16", format="FLAC")
    content = bytearray(path.read_bytes())
    content[21] &= 0xF0  # total samples in STREAMINFO: 36 bits
    content[22:26] = bytes(4)
    path.write_bytes(content)


def test_headers_that_claim_too_much_or_nothing(tmp_path: Path) -> None:
    streamed = tmp_path / "s.flac"
    flac_of_unknown_length(streamed)
    assert len(read_sound(streamed).samples) == RATE
    assert measured_file(streamed)[0].seconds == pytest.approx(1.0, abs=0.02)
    claims = tmp_path / "c.flac"
    soundfile.write(claims, noise(1.0), RATE, "PCM_16", format="FLAC")
    content = bytearray(claims.read_bytes())
    content[21] |= 0x0F
    content[22:26] = b"\xff\xff\xff\xff"
    claims.write_bytes(content)
    assert sum(len(block) for block in blocks_of(claims)) == RATE  # what is there, whatever it claims


@pytest.mark.parametrize("name", ["a\0b.wav", "x" * 300 + ".wav", "nowhere/a.wav", "."])
def test_paths_that_lead_nowhere(tmp_path: Path, name: str) -> None:
    with pytest.raises(AudioFileError):
        read_sound(tmp_path / name)
    with pytest.raises(AudioFileError):
        media_of(tmp_path / name, tmp_path)
    with pytest.raises(SessionError):
        read_session(tmp_path / name)


def test_names_that_are_no_text(tmp_path: Path) -> None:
    path = Path(os.fsdecode(bytes(tmp_path) + b"/caf\xe9.wav"))
    source = tmp_path / "x.wav"
    soundfile.write(source, noise(0.2), RATE)
    try:
        source.rename(path)
    except OSError:
        pytest.skip("this file system keeps names as text")
    with pytest.raises((AudioFileError, SessionError), match="not valid text"):
        new_session([path], (), tmp_path, "x")


# --- bounds of a session -----------------------------------------------------------------------------------------------


def nested(depth: int) -> dict[str, object]:
    strips: list[dict[str, object]] = [{"strip": "bus", "id": "mix", "name": "Mix", "into": ""}]
    strips += [
        {"strip": "bus", "id": f"b{n}", "name": f"B{n}", "into": "mix" if n == 0 else f"b{n - 1}"} for n in range(depth)
    ]
    return {"format": "gluvo-session", "version": 2, "strips": strips}


def test_nesting_is_bounded_and_checked_in_no_time() -> None:
    assert len(loaded_from(nested(60), "a").session.strips) == 61
    with pytest.raises(SessionError, match="deep"):
        loaded_from(nested(950), "a")
    with pytest.raises(SessionError, match="strips"):
        loaded_from(nested(1200), "a")


@pytest.mark.parametrize(
    ("change", "word"),
    [
        ({"rate": 8000}, "8 kHz"),
        ({"rate": 4_000_000}, "rate"),
        ({"name": "x" * 300}, "name"),
        ({"view": {"position": 1e300}}, "position"),
        ({"view": {"position": -1.0}}, "position"),
        ({"sections": [{"id": "s", "name": "S", "start": 0.0, "end": 1e9}]}, "end"),
        ({"sections": [{"id": f"s{n}", "name": "S", "start": 0.0, "end": 1.0} for n in range(1001)]}, "sections"),
    ],
)
def test_values_beyond_all_bounds_are_refused(change: dict[str, object], word: str) -> None:
    raw = json.loads(session_bytes(session())) | change
    with pytest.raises(SessionError, match=word):
        loaded_from(raw, "a.gluvo")


def test_json_that_is_nested_without_end(tmp_path: Path) -> None:
    path = tmp_path / "deep.gluvo"
    for text in ("[" * 100_000, '{"format":"gluvo-session","version":2,"x":' + "[" * 900 + "]" * 900 + "}"):
        path.write_text(text)
        try:
            read_session(path)
        except SessionError as error:
            assert "deep.gluvo" in str(error)


def test_an_edit_that_could_not_be_read_again_is_refused(path: Path) -> None:
    document = Document.open(path)
    for bad in (
        lambda s: s.replace(name="x" * 500),
        lambda s: s.replace(name="caf\udce9"),
        lambda s: s.replace(sections=tuple(Section(id=f"s{n}", name="S", start=0.0, end=1.0) for n in range(1500))),
    ):
        with pytest.raises(SessionError):
            document.edit("x", bad)
    assert document.session == session() and not document.changed


def test_version_1_holds_where_one_looked() -> None:
    raw = json.loads(session_bytes(session()))
    raw["version"] = 1
    raw["view"]["section"] = "s"
    raw["sections"] = [{"id": "s", "name": "S", "start": 0.0, "end": 1.0}]
    chain = raw["strips"][0]["chain"]
    chain[1]["hold_aim"] = True
    chain.append({"step": "lane", "id": "lane-1", "steps": [{"step": "saturation", "id": "sat-1"}]})
    for item in chain:
        item.pop("held_in", None)
    found = loaded_from(raw, "a").session
    assert {i.id: i.held_in for i in found.items} == {
        "trim-1": "",
        "glue-1": "s",
        "limiter-1": "",
        "lane-1": "",
        "sat-1": "s",
    }
    assert found.version == VERSION


def test_streaming_gives_what_reading_whole_gives(tmp_path: Path) -> None:
    path = tmp_path / "x.wav"
    soundfile.write(path, music(7.0), 44_100, "PCM_24")
    whole = read_sound(path, RATE)
    pieces = np.concatenate(list(blocks_of(path, RATE)))
    assert np.array_equal(whole.samples, pieces) and abs(len(pieces) - round(7.0 * RATE * RATE / 44_100)) < RATE
    media = media_of(path, tmp_path)
    assert media.seconds == pytest.approx(len(soundfile.read(path)[0]) / 44_100, abs=1e-3)
    assert media.loudness == pytest.approx(measured_file(path)[0].integrated, abs=0.01)
    assert msgspec.json.decode(msgspec.json.encode(media), type=type(media)) == media


def test_writers_beside_each_other_never_take_away_what_another_has_begun(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = tempfile.mkstemp
    swept: list[object] = []

    def raced(*args: Any, **kwargs: Any) -> tuple[int, str]:
        """Another writer sweeps just before the new file is locked, once."""
        handle, name = made(*args, **kwargs)
        if not swept:
            swept.append(name)
            files.sweep(tmp_path)
        return handle, name

    monkeypatch.setattr(tempfile, "mkstemp", raced)
    with files.replacing(tmp_path / "Snare.wav") as file:
        file.write(b"sound")
    assert swept and not Path(swept[0]).exists()
    assert [p.name for p in tmp_path.iterdir()] == ["Snare.wav"] and (tmp_path / "Snare.wav").read_bytes() == b"sound"
