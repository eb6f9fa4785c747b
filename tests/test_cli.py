"""The command line, as other programs use it: a process, its output, its exit status."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import jsonschema
import msgspec
import numpy as np
import pytest
import soundfile

from gluvo.session.migrations import VERSION
from gluvo.session.records import Deliverable, Section
from gluvo.session.store import read_session, write_session
from gluvo.steps import Glue, Limiter, Trim

from .conftest import RATE, music, sine


def gluvo(*args: object, cwd: Path | None = None) -> subprocess.CompletedProcess[str]:
    env = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    command = [sys.executable, "-m", "gluvo", *map(str, args)]
    return subprocess.run(command, capture_output=True, text=True, cwd=cwd, env=env, timeout=120, check=False)


@pytest.fixture
def session(tmp_path: Path, mix_file: Path, reference_file: Path) -> Path:
    path = tmp_path / "Take.gluvo"
    made = gluvo("new", "--mix", mix_file, "--reference", reference_file, "--out", path)
    assert made.returncode == 0 and made.stdout.strip() == str(path)
    return path


@pytest.mark.thorough
def test_from_a_mix_to_a_checked_file(session: Path) -> None:
    raw = json.loads(session.read_text())
    jsonschema.validate(raw, json.loads(gluvo("schema").stdout))
    assert raw["strips"][1]["media"]["path"] == "Harbour Take.wav" and len(raw["references"]) == 1
    raw["strips"][0]["chain"] = [{"step": "limiter", "id": "l", "drive": 3.0, "ceiling": -1.0}]
    session.write_text(json.dumps(raw))
    out = session.with_name("master.flac")
    done = gluvo("render", session, "--out", out, "--rate", 44100, "--bits", 16, "--json")
    told = json.loads(done.stdout)
    assert done.returncode == 0 and told["rate"] == 44100 and told["true_peak"] <= -0.95
    assert soundfile.info(out).subtype == "PCM_16"
    measured = json.loads(gluvo("measure", out, "--json").stdout)[0]
    assert measured["integrated"] == pytest.approx(told["integrated"])
    assert str(round(measured["integrated"], 1)) in gluvo("measure", out).stdout


@pytest.mark.thorough
def test_check_tells_by_its_exit_status(tmp_path: Path) -> None:
    good, bad = tmp_path / "good.wav", tmp_path / "bad.wav"
    soundfile.write(good, sine(1000, 5.0, -14.0), RATE, "PCM_24")
    soundfile.write(bad, sine(1000, 5.0, -0.1), RATE, "PCM_24")
    assert gluvo("check", good, "--target", "streaming").returncode == 0
    missed = gluvo("check", bad, "--target", "Streaming", "--json")
    assert missed.returncode == 1
    verdict = json.loads(missed.stdout)
    assert not verdict["meets"] and len(verdict["reasons"]) == 2


@pytest.mark.thorough
def test_stems_are_summed(tmp_path: Path) -> None:
    stems = tmp_path / "stems"
    stems.mkdir()
    for n in range(3):
        soundfile.write(stems / f"{n}.wav", music(2.0, seed=n) * 0.3, RATE, "FLOAT")
    session = tmp_path / "s.gluvo"
    assert gluvo("new", "--stems", stems, "--out", session).returncode == 0
    out = tmp_path / "sum.wav"
    assert gluvo("render", session, "--out", out, "--bits", "32f").returncode == 0
    total = sum(soundfile.read(stems / f"{n}.wav")[0] for n in range(3))
    assert soundfile.read(out)[0] == pytest.approx(np.asarray(total), abs=1e-6)


@pytest.mark.thorough
def test_folders_of_stems_become_buses(tmp_path: Path) -> None:
    for place in ("stems/Drums/kick.wav", "stems/Drums/snare.wav", "stems/bass.wav"):
        (tmp_path / place).parent.mkdir(parents=True, exist_ok=True)
        soundfile.write(tmp_path / place, music(2.0) * 0.2, RATE, "PCM_24")
    session = tmp_path / "s.gluvo"
    assert gluvo("new", "--stems", tmp_path / "stems", "--out", session).returncode == 0
    raw = json.loads(session.read_text())
    jsonschema.validate(raw, json.loads(gluvo("schema").stdout))
    flows = {s["name"]: next((b["name"] for b in raw["strips"] if b["id"] == s["into"]), "") for s in raw["strips"]}
    assert flows == {"Mix bus": "", "bass": "Mix bus", "Drums": "Mix bus", "kick": "Drums", "snare": "Drums"}
    (tmp_path / "stems" / "bass.wav").unlink()
    lost = gluvo("render", session, "--out", tmp_path / "x.wav")
    assert lost.returncode == 2 and "Nothing was written" in lost.stderr and not (tmp_path / "x.wav").exists()
    raw["strips"][2]["into"] = raw["strips"][2]["id"]
    session.write_text(json.dumps(raw))
    ring = gluvo("render", session, "--out", tmp_path / "x.wav")
    assert ring.returncode == 2 and len(ring.stderr.strip().splitlines()) == 1 and "Traceback" not in ring.stderr


@pytest.mark.thorough
def test_own_files_and_others_are_not_written_over_unasked(tmp_path: Path, mix_file: Path, session: Path) -> None:
    before = mix_file.read_bytes()
    link = tmp_path / "link.wav"
    link.symlink_to(mix_file)
    hard = tmp_path / "hard.wav"
    hard.hardlink_to(mix_file)
    for out in (mix_file, link, hard):
        for force in ([], ["--force"]):
            refused = gluvo("render", session, "--out", out, *force)
            assert refused.returncode == 2 and "never written over" in refused.stderr
    assert mix_file.read_bytes() == before
    other = tmp_path / "other.wav"
    other.write_text("precious")
    refused = gluvo("render", session, "--out", other)
    assert refused.returncode == 2 and "--force" in refused.stderr and other.read_text() == "precious"
    assert gluvo("render", session, "--out", other, "--force").returncode == 0


@pytest.mark.thorough
def test_changed_audio_is_told_and_taken_if_asked(tmp_path: Path, mix_file: Path, session: Path) -> None:
    soundfile.write(mix_file, music(4.0) * 0.5, RATE, "PCM_24")
    refused = gluvo("render", session, "--out", tmp_path / "x.wav")
    assert refused.returncode == 2 and "has changed" in refused.stderr and "shorter" in refused.stderr
    assert gluvo("render", session, "--out", tmp_path / "x.wav", "--take-changed").returncode == 0
    assert soundfile.info(tmp_path / "x.wav").frames == 4 * RATE


@pytest.mark.thorough
def test_notes_and_names_take_one_line(tmp_path: Path) -> None:
    for n in range(4):
        soundfile.write(tmp_path / f"{n}.wav", music(1.0), RATE)
    folder = tmp_path / "sessions"
    folder.mkdir()
    made = gluvo("new", "--stems", tmp_path, "--out", folder / "s.gluvo")
    assert made.returncode == 0
    done = gluvo("render", folder / "s.gluvo", "--out", folder / "x.wav")
    notes = [line for line in done.stderr.splitlines() if "note" in line]
    assert done.returncode == 0 and len(notes) == 1 and "3 more files lie outside" in notes[0]
    odd = tmp_path / "two\nlines.wav"
    soundfile.write(odd, music(1.0), RATE)
    measured = gluvo("measure", odd)
    assert measured.returncode == 0 and "two\\nlines.wav" in measured.stdout
    lost = gluvo("measure", tmp_path / "no\nsuch.wav")
    assert lost.returncode == 2 and len(lost.stderr.strip().splitlines()) == 1


@pytest.mark.thorough
def test_bad_usage_and_bad_input_are_one_line_and_status_2(tmp_path: Path, mix_file: Path, session: Path) -> None:
    nonsense = tmp_path / "nonsense.wav"
    nonsense.write_text("hello")
    newer = tmp_path / "newer.gluvo"
    newer.write_text(session.read_text().replace(f'"version": {VERSION}', '"version": 7'))
    lost = tmp_path / "lost.gluvo"
    lost.write_text(session.read_text().replace("Harbour Take.wav", "../gone/Lost.wav"))
    for args, word in (
        (["measure", nonsense], "nonsense.wav"),
        (["measure", tmp_path / "none.wav"], "none.wav was not found"),
        (["render", newer, "--out", "x.wav"], "newer Gluvo"),
        (["render", session, "--out", "x.doc"], ".wav, .flac"),
        (["render", session, "--out", tmp_path / "no" / "x.wav"], "cannot be written to"),
        (["render", session, "--out", tmp_path / "x.flac", "--bits", "32f"], "FLAC"),
        (["render", session, "--out", "x.wav", "--bits", "12"], "12"),
        (["new", "--out", tmp_path / "n.gluvo"], "--mix"),
        (["new", "--mix", mix_file, "--out", session], "exists already"),
        (["new", "--stems", tmp_path / "nowhere", "--out", tmp_path / "n.gluvo"], "cannot be read"),
        (["check", mix_file, "--target", "Moon"], "Moon"),
        (["measure"], "FILES"),
        (["measure", "--loud", mix_file], "--loud"),
    ):
        done = gluvo(*args, cwd=tmp_path)
        assert done.returncode == 2, args
        lines = done.stderr.strip().splitlines()
        assert len(lines) == 1 and word in lines[0] and lines[0].startswith("gluvo: "), done.stderr
        assert done.stdout == ""
    assert not (tmp_path / "x.wav").exists()


@pytest.mark.thorough
def test_audio_outside_the_folder_is_used_and_told(tmp_path: Path, mix_file: Path) -> None:
    folder = tmp_path / "sessions"
    folder.mkdir()
    session = folder / "s.gluvo"
    assert gluvo("new", "--mix", mix_file, "--out", session).returncode == 0
    done = gluvo("render", session, "--out", tmp_path / "out.wav")
    assert done.returncode == 0 and "outside the session's folder" in done.stderr
    mix_file.unlink()
    lost = gluvo("render", session, "--out", tmp_path / "lost.wav")
    assert lost.returncode == 2 and "was not found" in lost.stderr and "Traceback" not in lost.stderr


def test_help_and_version() -> None:
    text = gluvo("--help").stdout
    for command in (
        "demo",
        "new",
        "measure",
        "render",
        "deliver",
        "master",
        "check",
        "targets",
        "schema",
        "shots",
        "figures",
        "report",
    ):
        assert command in text
    assert gluvo("--version").stdout.startswith("gluvo, version")


@pytest.mark.thorough
def test_no_command_but_the_window_needs_qt(session: Path) -> None:
    code = (
        "import sys; sys.modules['PySide6'] = None\n"
        f"sys.argv = ['gluvo', 'measure', {str(session.with_name('Harbour Take.wav'))!r}]\n"
        "from gluvo.cli import main; main()"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=120, check=False)
    assert done.returncode == 0, done.stderr


def test_targets_are_listed(tmp_path: Path) -> None:
    lines = gluvo("targets").stdout.splitlines()
    assert lines[0].split() == ["target", "loudness", "tolerance", "dBTP", "by", "source"] and len(lines) >= 6
    assert any("EBU R 128" in line for line in lines)
    plain = json.loads(gluvo("targets", "--json").stdout)
    assert {"name", "loudness", "source"} <= plain[0].keys()


@pytest.mark.thorough
def test_sessions_are_delivered_together(session: Path, mix_file: Path, tmp_path: Path) -> None:
    other = tmp_path / "Other.gluvo"
    assert gluvo("new", "--mix", mix_file, "--out", other).returncode == 0
    out = tmp_path / "out"
    done = gluvo("deliver", session, other, "--dir", out, "--json")
    told = json.loads(done.stdout)
    assert {Path(f["file"]).name for row in told["files"] for f in row["files"]} == {p.name for p in out.iterdir()}
    assert len(told["album"]["songs"]) == 2 and told["album"]["spread"] >= 0.0
    assert done.returncode == (0 if all(row["meets"] for row in told["files"]) else 1)
    again = gluvo("deliver", session, other, "--dir", out)
    assert again.returncode == 2 and "exists already" in again.stderr
    assert gluvo("deliver", session, "--dir", out, "--force", "--only", "streaming").returncode in (0, 1)
    wrong = gluvo("deliver", session, "--dir", out, "--only", "moon")
    assert wrong.returncode == 2 and "no deliverable of that name" in wrong.stderr
    alone = gluvo("deliver", session, "--dir", out, "--keep-differences")
    assert alone.returncode == 2 and "--target" in alone.stderr


@pytest.mark.thorough
def test_files_are_mastered_like_a_session(session: Path, mix_file: Path, tmp_path: Path) -> None:
    limited = read_session(session).session.with_new_step(Limiter(ceiling=-1.0), "mix")
    like = tmp_path / "like.gluvo"
    write_session(like, limited.replace(deliverables=(Deliverable(id="d", name="CD", format="flac"),)))
    song = tmp_path / "Second Song.wav"
    soundfile.write(song, music(5.0, seed=11) * 0.5, RATE, "PCM_24")
    out = tmp_path / "out"
    done = gluvo("master", song, mix_file, "--like", like, "--target", "streaming", "--dir", out, "--json")
    assert done.returncode == 0, done.stderr
    for told in json.loads(done.stdout):
        assert told["after"]["integrated"] == pytest.approx(-14.0, abs=0.05) and told["explained"] == ""
        made = read_session(Path(told["session"])).session
        assert made.target.name == "Streaming" and isinstance(made.mix.chain[-1], Limiter)
        (row,) = told["files"]
        assert row["meets"] and row["files"][0]["integrated"] == pytest.approx(-14.0, abs=0.05)
    assert sorted(p.suffix for p in out.iterdir()) == [".flac", ".flac", ".gluvo", ".gluvo"]
    missing = gluvo("master", tmp_path / "gone.wav", "--like", like, "--target", "streaming", "--dir", out)
    assert missing.returncode == 2 and "was not found" in missing.stderr
    over = tmp_path / f"{like.stem}.wav"
    soundfile.write(over, music(5.0), RATE)
    before = like.read_bytes()
    own = gluvo("master", over, "--like", like, "--target", "streaming", "--dir", tmp_path, "--force")
    assert own.returncode == 2 and "never written over" in own.stderr and like.read_bytes() == before
    bare = tmp_path / "bare.gluvo"
    write_session(bare, limited.replace(strips=tuple(msgspec.structs.replace(s, chain=()) for s in limited.strips)))
    none = gluvo("master", song, "--like", bare, "--target", "streaming", "--dir", tmp_path / "x")
    assert none.returncode == 2 and "no limiter" in none.stderr


def test_several_files_are_checked(mix_file: Path, tmp_path: Path) -> None:
    other = tmp_path / "b.wav"
    soundfile.write(other, music(4.0) * 0.01, RATE)
    done = gluvo("check", mix_file, other, "--target", "Podcast", "--json")
    assert done.returncode == 1 and [row["file"] for row in json.loads(done.stdout)] == [str(mix_file), str(other)]


@pytest.mark.thorough
def test_every_place_of_a_session_is_measured(session: Path) -> None:
    """By the song and by a section; the mix's last joint is what the written file measures."""
    glue = Glue(id="g", threshold=-30.0, ratio=4.0, mix=30.0, hold_aim=True)
    limiter = Limiter(id="l", drive=6.0, ceiling=-1.0, look_ahead=2.0)
    made = read_session(session).session.with_chain("mix", (Trim(id="t", gain=-3.0), glue, limiter))
    made = made.replace(sections=(Section(id="s", name="Verse", start=1.0, end=3.0),))
    write_session(session, made)
    told = json.loads(gluvo("figures", session, "--json").stdout)
    mix = next(strip for strip in told["strips"] if strip["id"] == "mix")
    trim, glued, limited = mix["joints"]
    assert [j["step"] for j in mix["joints"]] == ["t", "g", "l"] and trim["reduction"] is None
    assert trim["loudness"] == pytest.approx(mix["in"]["loudness"] - 3.0, abs=0.01)
    arrives, wet = glued["reduction"], glued["reduction"]["wet"]
    assert 0.0 < arrives["mean"] < arrives["peaks"] <= arrives["most"] < 3.1 and wet["mean"] > 2.0 * arrives["mean"]
    assert {k: v for k, v in limited["reduction"].items() if k != "wet"} == limited["reduction"]["wet"]
    assert glued["holds"] == {"threshold": -30.0} and limited["late_ms"] > 2.0
    out = session.with_name("out.wav")
    gluvo("render", session, "--out", out, "--bits", "32f")
    measured = json.loads(gluvo("measure", out, "--json").stdout)[0]
    assert limited["loudness"] == pytest.approx(measured["integrated"], abs=1e-3)
    assert limited["true_peak"] == pytest.approx(measured["true_peak"], abs=1e-3)
    section = json.loads(gluvo("figures", session, "--section", "Verse", "--json").stdout)
    assert section["strips"][0]["joints"][2]["loudness"] != limited["loudness"]
    words = gluvo("figures", session).stdout
    assert "Glue" in words and f"{arrives['mean']:.1f}" in words
    missed = gluvo("figures", session, "--section", "Refrain")
    assert missed.returncode == 2 and "“Verse”" in missed.stderr


@pytest.mark.thorough
def test_flat_tops_are_counted_in_files(tmp_path: Path) -> None:
    path = tmp_path / "x.wav"
    for x, least, most in ((np.clip(sine(200, 12.0, 3.0), -1.0, 1.0), 9590, 9602), (sine(40, 12.0, -0.1), 0, 0)):
        soundfile.write(path, x, RATE, "FLOAT")
        assert least <= json.loads(gluvo("measure", path, "--json").stdout)[0]["flat_tops"] <= most


@pytest.mark.thorough
def test_a_report_is_written_as_its_ending_says(session: Path) -> None:
    for ending, first in ((".html", b"<!DOCTYPE html>"), (".json", b"{"), (".pdf", b"%PDF")):
        out = session.with_name(f"report{ending}")
        done = gluvo("report", session, "--out", out)
        assert done.returncode == 0 and done.stdout.strip() == str(out), done.stderr
        assert out.read_bytes().lstrip().lower().startswith(first.lower())
        again = gluvo("report", session, "--out", out)
        assert again.returncode == 2 and "exists already" in again.stderr
    told = json.loads(session.with_name("report.json").read_text())
    assert told["format"] == "gluvo-report" and "Old Pier" in "".join(told["references"]) and "watch_outs" not in told
    with_them = session.with_name("with.json")
    assert gluvo("report", session, "--out", with_them, "--watch-outs").returncode == 0
    watched = json.loads(gluvo("watch", session, "--json").stdout or "[]")
    assert [w["text"] for w in json.loads(with_them.read_text())["watch_outs"]] == [w["text"] for w in watched]
    assert gluvo("report", session, "--out", session.with_name("report.txt")).returncode == 2
    assert gluvo("report", session, "--out", session, "--force").returncode == 2
    assert not list(session.parent.glob("*gluvo-part*"))
