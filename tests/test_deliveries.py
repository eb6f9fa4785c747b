"""What was delivered is kept in the session: as it was written, changed since, gone, or another file in its place."""

from __future__ import annotations

import json
from pathlib import Path

import msgspec
import pytest
import soundfile
from click.testing import CliRunner

from gluvo.cli import cli
from gluvo.errors import SessionError
from gluvo.session import deliveries
from gluvo.session.by_section import with_gain
from gluvo.session.deliveries import MOST, Lies, changes_since, kept, latest, lies, recorded, session_of, verified
from gluvo.session.records import MIX, Deliverable, Section, Session
from gluvo.session.store import checked_whole, read_session, write_session
from gluvo.session.versions import kept as version_kept
from gluvo.steps import Glue, Limiter, Trim

from .conftest import RATE, music, one
from .desk import LEFT, Desk

ROW = Deliverable(id="d1", name="Master")
OTHER = Deliverable(id="d2", name="Preview", format="mp3")


def session() -> Session:
    made = one([Trim(id="t"), Glue(id="g", ratio=2.0), Limiter(id="l")])
    return made.replace(deliverables=(ROW, OTHER), sections=(Section(id="a", name="A", start=0.0, end=2.0),))


def written(folder: Path, name: str, seed: int = 1) -> Path:
    path = folder / name
    path.parent.mkdir(exist_ok=True)
    soundfile.write(path, music(0.5, seed=seed), RATE, "PCM_24")
    return path


def test_what_was_delivered_is_found_as_it_lies(tmp_path: Path) -> None:
    path = written(tmp_path / "out", "Song.wav")
    file = recorded(path, tmp_path, "", {"integrated": -14.0})
    assert file.media.path == "out/Song.wav"
    made = kept(session(), "2026-03-01T12:00:00", [(ROW, [file]), (OTHER, [])], session())
    assert [d.row.id for d in made.deliveries] == ["d1"] and latest(made, "d2") is None
    assert lies(file, tmp_path) is lies(file, tmp_path, lambda _: None) is Lies.THERE
    content = path.read_bytes()
    path.write_bytes(content[:-1] + bytes([content[-1] ^ 1]))
    assert lies(file, tmp_path) is Lies.THERE  # a size alone does not tell
    assert [how for *_, how in verified(made, tmp_path)] == [Lies.ANOTHER]
    path.write_bytes(content[:-7])
    assert lies(file, tmp_path) is Lies.ANOTHER
    path.unlink()
    assert lies(file, tmp_path) is Lies.GONE and [how for *_, how in verified(made, tmp_path)] == [Lies.GONE]


def test_what_has_changed_since_is_told_setting_by_setting(tmp_path: Path) -> None:
    file = recorded(written(tmp_path, "Song.wav"), tmp_path, "", {})
    was = session()
    made = kept(was, "2026-03-01T12:00:00", [(ROW, [file])], was)
    delivered = made.deliveries[0]
    assert changes_since(made, delivered) == ()
    assert session_of(made.with_chain(MIX, ()), delivered).mix.chain == was.mix.chain
    glue = made.with_step(msgspec.structs.replace(made.item("g"), ratio=4.0))
    assert changes_since(glue, delivered) == ("Mix bus, Glue: ratio",)
    named = glue.replace(deliverables=(msgspec.structs.replace(ROW, name="Other", pattern="{row}"), OTHER))
    assert changes_since(named.with_step(made.item("g")), delivered) == ()  # a name is none of the sound's
    louder = made.replace(deliverables=(msgspec.structs.replace(ROW, bits="16"), OTHER))
    assert changes_since(louder, delivered) == ("what the row says",)
    lifted = with_gain(made, MIX, "a", 1.0)
    assert changes_since(lifted, delivered) == ("Mix bus: lift in A",)
    again = kept(lifted, "2026-03-02T12:00:00", [(ROW, [file])], lifted)
    assert changes_since(again, again.deliveries[1]) == () != changes_since(again, again.deliveries[0])
    moved = again.replace(sections=(msgspec.structs.replace(again.sections[0], end=1.5),))
    assert changes_since(moved, again.deliveries[1]) == ("the sections",)
    assert latest(again, "d1") == again.deliveries[1]


def test_deliveries_hold_only_what_differs_and_are_whole_in_the_file(tmp_path: Path) -> None:
    file = recorded(written(tmp_path, "Song.wav"), tmp_path, "", {"integrated": -14.0})
    made = session()
    for n in range(5):
        made = made.with_step(msgspec.structs.replace(made.item("t"), gain=-float(n)))
        made = kept(made, f"2026-03-0{n + 1}T12:00:00", [(ROW, [file]), (OTHER, [file])], made)
    assert len({d.id for d in made.deliveries}) == 10
    assert [len(d.state.strips) for d in made.deliveries] == [len(made.strips), *[0, 1] * 4, 0]
    made, _ = version_kept(made, "Kept", "2026-03-06T12:00:00", {})
    write_session(tmp_path / "s.gluvo", made)
    read = read_session(tmp_path / "s.gluvo").session
    assert read == made
    for n in range(5):
        assert session_of(read, read.deliveries[2 * n]).item("t").gain == -float(n)
    broken = json.loads((tmp_path / "s.gluvo").read_text())
    broken["deliveries"][0]["state"]["strips"] = []
    (tmp_path / "s.gluvo").write_text(json.dumps(broken))
    with pytest.raises(SessionError, match="delivered of “Master” is not whole"):
        read_session(tmp_path / "s.gluvo")


def test_the_oldest_deliveries_go(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(deliveries, "MOST", 3)
    assert MOST == 1000
    file = recorded(written(tmp_path, "Song.wav"), tmp_path, "", {})
    made = session()
    for n in range(5):
        made = made.with_step(msgspec.structs.replace(made.item("t"), gain=-float(n)))
        made = kept(made, f"2026-03-0{n + 1}T12:00:00", [(ROW, [file])], made)
    assert [d.made[8:10] for d in made.deliveries] == ["03", "04", "05"]
    assert [session_of(made, d).item("t").gain for d in made.deliveries] == [-2.0, -3.0, -4.0]
    checked_whole(made)


def test_deliveries_are_checked_from_the_command_line(tmp_path: Path) -> None:
    path = written(tmp_path / "out", "Song.wav")
    made = kept(session(), "2026-03-01T12:00:00", [(ROW, [recorded(path, tmp_path, "", {})])], session())
    write_session(tmp_path / "s.gluvo", made.with_step(msgspec.structs.replace(made.item("g"), ratio=3.0)))

    def run(*words: str) -> tuple[int, str]:
        result = CliRunner().invoke(cli, ["check", *words])
        return result.exit_code, result.output

    code, told = run(str(tmp_path / "s.gluvo"))
    assert code == 0 and told == "out/Song.wav: as it was written, changed since: Mix bus, Glue: ratio\n"
    path.write_bytes(b"x")
    code, told = run(str(tmp_path / "s.gluvo"), "--json")
    assert code == 1 and json.loads(told)[0]["found"] == "another"
    path.unlink()
    assert run(str(tmp_path / "s.gluvo"))[0] == 1
    write_session(tmp_path / "t.gluvo", session())
    assert run(str(tmp_path / "t.gluvo")) == (0, "Nothing has been delivered yet.\n")
    (tmp_path / "u.gluvo").write_text("no session")
    assert run(str(tmp_path / "u.gluvo"))[0] == 2
    sound = written(tmp_path, "a.wav")
    assert run(str(sound))[0] == 2 and run(str(sound), str(tmp_path / "t.gluvo"), "--target", "Streaming")[0] == 2


@pytest.mark.thorough
def test_rows_tell_what_was_delivered_when_the_session_is_opened_again(desk: Desk, tmp_path: Path) -> None:
    page = desk.window.deliver
    desk.bench.look(page="deliver")
    desk.settle()
    page.use_folder(tmp_path / "out")
    desk.bot.mouseClick(page.write, LEFT)
    desk.wait(lambda: page.delivery.said != "" and not desk.bench.background.busy)
    assert len(desk.session.deliveries) == 1 and desk.session.deliveries[0].files[0].figures["integrated"] < 0.0
    desk.bench.document.undo()  # a delivery is not taken back
    assert len(desk.session.deliveries) == 1
    path = desk.bench.document.path
    desk.window.save()
    desk.open(path)

    def verdict() -> str:
        return str(page.table.item(0, 6).text())

    desk.wait(lambda: "as now" in verdict() and not desk.bench.background.busy)
    desk.bench.set_setting("glue-1", "ratio", 5.0, "ratio")
    assert "changed since: Mix bus, Glue: ratio" in verdict()
    desk.bench.document.undo()
    desk.settle()
    (file,) = (tmp_path / "out").iterdir()
    button = next(b for b in page.findChildren(type(page.write)) if b.text() == "Verify")
    desk.bot.mouseClick(button, LEFT)
    desk.wait(lambda: "as they were written" in desk.window.notice.text.text())
    content = file.read_bytes()
    file.write_bytes(content[:-1] + bytes([content[-1] ^ 1]))
    desk.bot.mouseClick(button, LEFT)
    desk.wait(lambda: "another file" in desk.window.notice.text.text() and "another file" in verdict())
    file.unlink()
    desk.bench.look(page="shape")
    desk.bench.look(page="deliver")
    desk.wait(lambda: "gone" in verdict())
