"""Files that the program did not write itself, names that are taken meanwhile, folders that hang: nothing is lost, and told."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import threading
from pathlib import Path

import msgspec
import pytest
import soundfile

from gluvo.deliver.covers import cover_of
from gluvo.deliver.targets import read_targets
from gluvo.deliver.write import prepared, write_rows
from gluvo.errors import GluvoError, SessionError, WriteError
from gluvo.render.song import Renderer
from gluvo.session import files, scratch
from gluvo.session.copies import copies_left
from gluvo.session.create import new_session
from gluvo.session.document import Document
from gluvo.session.files import answered, fitting, numbered, placing, read_cell, read_whole, safe_cell
from gluvo.session.history import history_of
from gluvo.session.lock import Lock, is_held, lock_of
from gluvo.session.media import place_of, read_material
from gluvo.session.presets import own_presets, preset_of, read_preset, save_preset
from gluvo.session.records import Deliverable, Session
from gluvo.session.sections import read_csv
from gluvo.session.sounds import header_of
from gluvo.session.store import read_session, session_bytes, write_session
from gluvo.steps import Glue, Limiter, ResonanceTamer, Trim

from .conftest import RATE, material, music, one, until

GLUVO = Path(sys.executable).with_name("gluvo")


def run(*arguments: object, **more: object) -> subprocess.CompletedProcess[str]:
    return subprocess.run([GLUVO, *map(str, arguments)], capture_output=True, text=True, timeout=120, **more)


# --- what is opened ----------------------------------------------------------------------------------------------------


@pytest.fixture(params=["device", "fifo", "socket", "folder", "loop", "gone"])
def strange(request: pytest.FixtureRequest, tmp_path: Path) -> Path:
    """Something that is no ordinary file."""
    path = tmp_path / "strange.wav"
    if request.param == "device":
        path.symlink_to("/dev/zero")
    elif request.param == "fifo":
        os.mkfifo(path)
    elif request.param == "socket":
        with socket.socket(socket.AF_UNIX) as made:
            made.bind(str(path))
    elif request.param == "folder":
        path.mkdir()
    elif request.param == "loop":
        path.symlink_to(path)
    return path


@pytest.mark.parametrize(
    "reader",
    [
        read_session,
        read_preset,
        read_targets,
        cover_of,
        header_of,
        lambda path: read_csv(path, Session()),
        lambda path: new_session([path], (), path.parent, "x"),
    ],
    ids=["session", "preset", "targets", "cover", "audio", "sections", "mix"],
)
def test_what_is_no_ordinary_file_is_refused_in_a_sentence(reader: object, strange: Path) -> None:
    with pytest.raises(GluvoError, match=r"strange\.wav") as told:
        reader(strange)
    assert str(told.value).endswith(".") and "answer" not in str(told.value)  # seen at once, not by waiting for it


def test_a_part_a_history_and_a_lock_that_are_pipes_hold_nobody_up(tmp_path: Path) -> None:
    path = tmp_path / "a.gluvo"
    write_session(path, one([Trim(id="t")]))
    os.mkfifo(history_of(path))
    os.mkfifo(lock_of(path))
    os.mkfifo(tmp_path / f".x{files.PART}")
    os.mkfifo(tmp_path / ".a.gluvo.12345678.autosave")
    assert not is_held(path)
    document = Document.open(path)
    assert "undo history" in document.notes[0] and [left.session for left in document.copies_left()] == [None]
    document.edit("x", lambda s: s.with_chain("mix", ()))
    history_of(path).unlink()
    document.save()
    assert read_session(path).session.mix.chain == ()


def test_what_is_too_large_or_does_not_answer_is_given_up(tmp_path: Path) -> None:
    path = tmp_path / "large.bin"
    with path.open("wb") as file:
        file.truncate(10_000_000_000)
    with pytest.raises(OSError, match="larger than 1 MB"):
        read_whole(path, 1_000_000)
    never = threading.Event()
    with pytest.raises(TimeoutError, match="does not answer"):
        answered(lambda: never.wait(30.0), 0.05)
    never.set()
    with pytest.raises(KeyError):
        answered(lambda: {}["x"])  # what goes wrong is the asker's


def test_a_cache_folder_that_cannot_be_looked_at_leaves_renders_in_memory(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", f"/tmp/{'x' * 300}")  # the system refuses the very name
    assert scratch.room_on_disk() >= 0


# --- what is written ---------------------------------------------------------------------------------------------------


def test_a_name_that_is_taken_meanwhile_is_left_alone(tmp_path: Path) -> None:
    path = tmp_path / "Song.wav"
    with placing(path, over=False) as part:
        part.file.write(b"mine")
        path.write_bytes(b"theirs")
    assert path.read_bytes() == b"theirs" and part.path.name == "Song (2).wav" and part.path.read_bytes() == b"mine"
    with placing(path, over=True) as part:
        part.file.write(b"again")
    assert path.read_bytes() == b"again" and sorted(p.name for p in tmp_path.iterdir()) == ["Song (2).wav", "Song.wav"]


def test_a_name_is_taken_also_where_there_are_no_links(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def none(*_: object) -> None:
        raise PermissionError(1, "Operation not permitted")

    monkeypatch.setattr(os, "link", none)
    (tmp_path / "Song.wav").write_bytes(b"theirs")
    with placing(tmp_path / "Song.wav", over=False) as part:
        part.file.write(b"mine")
    assert part.path.name == "Song (2).wav" and part.path.read_bytes() == b"mine"


def test_a_file_that_appears_while_a_row_is_written_stays(tmp_path: Path) -> None:
    renderer = Renderer(material(music(2.0)))
    session = one([Limiter(id="l", ceiling=-1.0)]).replace(deliverables=(Deliverable(id="d", name="Master"),))
    row = prepared(renderer, session, session.deliverables[0], tmp_path)
    place = row.paths[0][0]
    done = write_rows(
        renderer.material, [row], tmp_path, told=lambda *_: place.exists() or place.write_bytes(b"theirs")
    )
    assert place.read_bytes() == b"theirs" and done["d"].files[0].path.name == f"{place.stem} (2).wav"


@pytest.mark.parametrize("name", ["🌊" * 120, "海" * 100, "ä" * 250, "plain"])
def test_names_are_as_short_as_file_systems_want_them(name: str, tmp_path: Path) -> None:
    kept = save_preset(preset_of((Trim(gain=-1.0),), name[:200]), tmp_path)
    again = save_preset(preset_of((Trim(gain=-1.0),), name[:200]), tmp_path)
    assert kept != again and {p.path for p in own_presets(tmp_path)[0]} == {kept, again}
    for place, _ in zip(numbered(tmp_path / f"{fitting(name, '.wav')}.wav"), range(12), strict=False):
        place.write_bytes(b"")  # every one of them can be made
    renderer = Renderer(material(music(1.0)))
    session = one([]).replace(name=name[:200], deliverables=(Deliverable(id="d", name="Master", pattern="{session}"),))
    row = prepared(renderer, session, session.deliverables[0], tmp_path / "out")
    (tmp_path / "out").mkdir()
    assert write_rows(renderer.material, [row], tmp_path)["d"].files


def test_a_killed_write_of_a_preset_leaves_none(tmp_path: Path) -> None:
    code = (
        "import os, signal, sys; from pathlib import Path; from gluvo.session import presets; from gluvo.steps import Trim;"
        "presets.preset_bytes = lambda *_: os.kill(os.getpid(), signal.SIGKILL);"
        "presets.save_preset(presets.preset_of((Trim(),), 'Mine'), Path(sys.argv[1]))"
    )
    killed = subprocess.run([sys.executable, "-c", code, str(tmp_path)], timeout=60)
    assert killed.returncode == -signal.SIGKILL and own_presets(tmp_path) == ([], [])


def test_cells_that_begin_like_formulas_are_text(tmp_path: Path) -> None:
    for text in ("=1+1", "+3", "-3", "@x", "'quoted", "Verse", ""):
        assert read_cell(safe_cell(text)) == text
        assert not safe_cell(text).startswith(("=", "+", "-", "@"))


# --- sessions ----------------------------------------------------------------------------------------------------------


def test_a_damaged_history_is_never_gone_back_into(tmp_path: Path) -> None:
    path = tmp_path / "a.gluvo"
    write_session(path, one([Trim(id="t"), Glue(id="g")]))
    document = Document.open(path)
    document.edit("Remove Glue", lambda s: s.without_step("g"))
    document.save()
    raw = json.loads(history_of(path).read_bytes())
    raw["entries"][0]["strips"][0]["chain"].append(raw["entries"][0]["strips"][0]["chain"][0])  # two of one id
    history_of(path).write_text(json.dumps(raw))
    document.release()
    again = Document.open(path)
    assert again.undo_name is None and "starts anew" in again.notes[0]


def test_nothing_is_saved_that_could_not_be_read_again(tmp_path: Path) -> None:
    path = tmp_path / "a.gluvo"
    write_session(path, one([Trim(id="t")]))
    before = path.read_bytes()
    document = Document.open(path)
    document._session = document.session.replace(strips=(*document.session.strips, document.session.strips[-1]))
    with pytest.raises(SessionError, match="same id"):
        document.save()
    assert path.read_bytes() == before


def test_settings_that_had_other_names_are_read_wherever_they_stand(tmp_path: Path) -> None:
    path = tmp_path / "old.gluvo"
    tamer = ResonanceTamer(id="r", at_most=5.0, stands_out=6.0, at_least=90.0)
    raw = json.loads(session_bytes(one([tamer])))

    def older(value: object) -> object:
        names = {"at_most": "depth", "stands_out": "selectivity", "at_least": "speed"}
        if isinstance(value, list):
            return [older(v) for v in value]
        return {names.get(k, k): older(v) for k, v in value.items()} if isinstance(value, dict) else value

    path.write_text(json.dumps({**older(raw), "version": 2}))  # type: ignore[dict-item]
    assert read_session(path).session.step("r") == tamer
    preset = save_preset(preset_of((tamer,), "Calm"), tmp_path)
    plain = json.loads(preset.read_text())
    preset.write_text(json.dumps({**older(plain), "version": 1}))  # type: ignore[dict-item]
    assert read_preset(preset).items[0] == msgspec.structs.replace(tamer, id="r")
    document = Document(one([tamer]), tmp_path / "h.gluvo")
    document.edit("x", lambda s: s.without_step("r"))
    document.save()
    history = json.loads(history_of(document.path).read_bytes())
    history_of(document.path).write_text(json.dumps({**older(history), "version": 1}))  # type: ignore[dict-item]
    again = Document.open(document.path)
    again.undo()
    assert again.session.step("r") == tamer


@pytest.fixture
def saved(tmp_path: Path) -> Path:
    """A saved session beside its mix."""
    folder = tmp_path / "song"
    folder.mkdir()
    soundfile.write(folder / "Take.wav", music(2.0), RATE, "PCM_24")
    path = folder / "Take.gluvo"
    write_session(path, new_session([folder / "Take.wav"], (), folder, "Take"))
    return path


def test_a_link_to_a_session_finds_its_audio(saved: Path, tmp_path: Path) -> None:
    other = tmp_path / "desk"
    other.mkdir()
    link = other / "Shortcut.gluvo"
    link.symlink_to(saved)
    document = Document.open(link)
    assert read_material(document.session, document.folder).missing == {}
    document.edit("Trim", lambda s: s.with_new_step(Trim(gain=-3.0), "mix"))
    document.save()
    assert link.is_symlink() and read_session(saved).session.media[0].path == "Take.wav"


def test_saving_into_a_folder_that_was_moved_keeps_relative_paths(saved: Path, tmp_path: Path) -> None:
    document = Document.open(saved)
    document.edit("Trim", lambda s: s.with_new_step(Trim(gain=-3.0), "mix"))
    moved = tmp_path / "moved"
    saved.parent.rename(moved)
    document.save(moved / "Take.gluvo")
    assert document.session.media[0].path == "Take.wav"
    assert place_of(document.session.media[0], document.folder) == moved / "Take.wav"


def test_recovered_work_has_its_undo_history(saved: Path) -> None:
    document = Document.open(saved)
    for n in range(3):
        document.edit(f"Trim {n}", lambda s, n=n: s.with_new_step(Trim(gain=-1.0 - n), "mix"))
    document.autosave()
    document.release()  # as a crash does
    again = Document.open(saved)
    (left,) = copies_left(saved, again.session)
    again.recover(left)
    assert again.undo_name == "Trim 2" and again.changed
    for _ in range(3):
        again.undo()
    assert not again.changed
    again.redo()
    again.save()
    assert not left.path.exists() and not history_of(left.path).exists()


def test_a_name_with_no_room_for_what_stands_beside_it_is_refused(saved: Path) -> None:
    document = Document.open(saved)
    with pytest.raises(WriteError, match="too long"):
        document.save(saved.with_name("x" * 230 + ".gluvo"))


def test_a_lock_that_does_not_answer_is_asked_once(saved: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    lock = Lock(saved)
    asked = []

    def hangs(*_: object) -> bytes:
        asked.append(1)
        raise TimeoutError(110, "it does not answer")

    monkeypatch.setattr("gluvo.session.lock.read_whole", hangs)
    assert lock.mine and lock.mine and lock.mine and len(asked) == 1


# --- the command line --------------------------------------------------------------------------------------------------


def test_what_is_no_command_and_no_file_is_told(tmp_path: Path) -> None:
    for word, hint in (("bogus", ""), ("mesure", "measure"), ("rendr", "render")):
        found = run(word, cwd=tmp_path)
        assert found.returncode == 2 and f"“{word}”" in found.stderr and hint in found.stderr


def test_two_sessions_of_one_name_are_not_written_over_each_other(saved: Path, tmp_path: Path) -> None:
    other = tmp_path / "other"
    other.mkdir()
    soundfile.write(other / "Take.wav", music(2.0, seed=5), RATE, "PCM_24")
    write_session(other / "Second.gluvo", new_session([other / "Take.wav"], (), other, "Take"))
    found = run("deliver", saved, other / "Second.gluvo", "--dir", tmp_path / "out")
    assert found.returncode == 2 and "would become one file" in found.stderr and "Nothing was written" in found.stderr
    assert not (tmp_path / "out").exists()


@pytest.mark.thorough
def test_good_files_are_done_and_each_bad_one_told(saved: Path, tmp_path: Path) -> None:
    bad = tmp_path / "Bad.wav"
    bad.write_bytes(b"no audio at all")
    gone = tmp_path / "Gone.wav"
    mix = saved.with_name("Take.wav")
    for command in (("measure",), ("check", "--target", "streaming")):
        found = run(command[0], bad, mix, gone, *command[1:])
        assert found.returncode == 2 and "Take.wav" in found.stdout
        assert len(found.stderr.splitlines()) == 2 and "Bad.wav" in found.stderr and "Gone.wav" in found.stderr
    found = run("master", mix, bad, "--like", limited(saved), "--target", "streaming", "--dir", tmp_path / "m")
    assert found.returncode == 2 and "Bad.wav" in found.stderr and (tmp_path / "m" / "Take.gluvo").exists()
    stems = tmp_path / "stems"
    stems.mkdir()
    bad.rename(stems / "Bad.wav")
    soundfile.write(stems / "Good.wav", music(1.0), RATE, "PCM_16")
    found = run("new", "--stems", stems, "--out", tmp_path / "s.gluvo")
    assert found.returncode == 2 and "Bad.wav" in found.stderr
    assert [s.name for s in read_session(tmp_path / "s.gluvo").session.stems] == ["Good"]
    found = run("deliver", saved, tmp_path / "none.gluvo", "--dir", tmp_path / "d")
    assert found.returncode == 2 and "none.gluvo" in found.stderr and list((tmp_path / "d").glob("*.wav"))


def limited(saved: Path) -> Path:
    """A session with a limiter, to master like."""
    session = read_session(saved).session
    path = saved.with_name("Like.gluvo")
    write_session(path, session.with_chain("mix", (Limiter(id="l", ceiling=-1.0),)))
    return path


@pytest.mark.thorough
def test_a_refused_master_leaves_nothing_behind(saved: Path, tmp_path: Path) -> None:
    like, mix, out = limited(saved), saved.with_name("Take.wav"), tmp_path / "m"
    out.mkdir()
    (out / "Take - Streaming.wav").write_bytes(b"theirs")
    found = run("master", mix, "--like", like, "--target", "streaming", "--dir", out)
    assert found.returncode == 2 and "exists already" in found.stderr
    assert [p.name for p in out.iterdir()] == ["Take - Streaming.wav"]
    assert run("master", mix, "--like", saved, "--target", "streaming", "--dir", out).returncode == 2  # no limiter
    assert [p.name for p in out.iterdir()] == ["Take - Streaming.wav"]
    (out / "Take - Streaming.wav").unlink()
    assert run("master", mix, "--like", like, "--target", "streaming", "--dir", out).returncode in (0, 1)
    assert {p.name for p in out.iterdir()} == {"Take - Streaming.wav", "Take.gluvo"}


@pytest.mark.thorough
@pytest.mark.parametrize("command", ["deliver", "master"])
def test_ctrl_c_ends_long_work_in_order(command: str, tmp_path: Path) -> None:
    soundfile.write(tmp_path / "Long.wav", music(400.0), RATE, "PCM_24")
    session = new_session([tmp_path / "Long.wav"], (), tmp_path, "Long")
    chain = (*(Glue(id=f"g{n}", ratio=2.0, threshold=-30.0) for n in range(4)), Limiter(id="l", drive=4.0))
    write_session(tmp_path / "Long.gluvo", session.with_chain("mix", chain))
    out = tmp_path / "out"
    what = ["deliver", tmp_path / "Long.gluvo"] if command == "deliver" else ["master", tmp_path / "Long.wav"]
    more = [] if command == "deliver" else ["--like", tmp_path / "Long.gluvo", "--target", "streaming"]
    process = subprocess.Popen(
        [GLUVO, *map(str, (*what, *more, "--dir", out))], stderr=subprocess.PIPE, text=True, start_new_session=True
    )
    until(lambda: out.exists() or process.poll() is not None)
    assert process.poll() is None
    process.send_signal(signal.SIGINT)
    process.send_signal(signal.SIGINT)  # whoever presses it once presses it twice
    told = process.communicate(timeout=60)[1]
    whole = [p.name for p in out.iterdir()]  # a machine that is busy elsewhere may see to the key after one is written
    words = f"Finished: {', '.join(whole)}" if whole else "Nothing was written"
    assert process.returncode == 2 and told == f"gluvo: stopped. {words}\n" and len(whole) < 2


def test_settings_that_are_none_are_set_aside(tmp_path: Path) -> None:
    from gluvo.desk.window.app import set_aside

    path = tmp_path / "gluvo.conf"
    assert set_aside(path) == ""
    path.write_text("[General]\nnight=day\n")
    assert set_aside(path) == "" and path.exists()
    path.unlink()
    os.mkfifo(path)
    assert "no ordinary file" in set_aside(path) and not path.exists()
    assert [p.name for p in tmp_path.iterdir()] == ["gluvo.conf.unread"]
