"""Draft a start, by keys: parts kept and dropped, heard, taken as one edit, or left without a trace."""

from __future__ import annotations

from pathlib import Path

import pytest
import soundfile
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog

from gluvo.desk.controls.widgets import Field
from gluvo.desk.pages.draft_dialog import DraftDialog
from gluvo.session.create import new_session
from gluvo.session.store import write_session
from gluvo.steps import Glue, Limiter, Trim

from .conftest import RATE
from .desk import Desk, shortcut
from .test_watchouts import RUMBLE_OF_TAKE, clean, drums

KEYS = Qt.Key


@pytest.fixture
def song(empty_desk: Desk, tmp_path: Path) -> Desk:
    for name, x in {"Kit": drums() * 0.4, "Piece": clean() * 0.2, "Take": 0.2 * RUMBLE_OF_TAKE}.items():
        soundfile.write(tmp_path / f"{name}.wav", x, RATE, "PCM_24")
    session = new_session([tmp_path / f"{name}.wav" for name in ("Kit", "Piece", "Take")], [], tmp_path, "Song")
    write_session(tmp_path / "Song.gluvo", session.looking(page="shape", strip="mix"))
    empty_desk.open(tmp_path / "Song.gluvo")
    return empty_desk


def opened(desk: Desk) -> DraftDialog:
    """The dialog, with its key, once the draft is made."""
    shortcut(desk, "Ctrl+Alt+N")
    dialog = next(d for d in desk.window.findChildren(DraftDialog) if d.isVisible())
    made(desk, dialog)
    return dialog


def made(desk: Desk, dialog: DraftDialog) -> None:
    desk.wait(lambda: dialog.drafting.made is not None)


def texts(dialog: DraftDialog) -> list[str]:
    return [dialog.table.item(n, 1).text() for n in range(dialog.table.rowCount())]


@pytest.mark.thorough
def test_a_draft_is_taken_as_one_edit_and_taken_back(song: Desk) -> None:
    before = song.session.strips
    dialog = opened(song)
    assert dialog.table.hasFocus() and len(texts(dialog)) == 2 and texts(dialog)[0].startswith("Glue 2:1")
    assert "Take rumbles" in dialog.told.text()
    assert dialog.figures[0][0].text() != dialog.figures[0][1].text() != "–"
    assert song.session.strips == before, "nothing is applied unasked"
    QTest.keyClick(dialog.table, KEYS.Key_Return)
    assert not dialog.isVisible() and song.bench.document.undo_name == "Draft for Mix bus"
    assert [type(i) for i in song.session.mix.chain if not isinstance(i, Trim)] == [Glue, Limiter]
    song.settle()
    assert song.bench.document.undo_name == "Draft for Mix bus", "what was held was found before"
    shortcut(song, "Ctrl+Z")
    assert song.session.strips == before


@pytest.mark.thorough
def test_a_part_is_dropped_and_kept_again(song: Desk) -> None:
    dialog = opened(song)
    QTest.keyClick(dialog.table, KEYS.Key_Home)
    QTest.keyClick(dialog.table, KEYS.Key_K)
    assert not dialog.take_button.isEnabled(), "not before it is made anew"
    made(song, dialog)
    assert dialog.table.item(0, 0).text() == "☐" and dialog.drafting.kept == {1}
    QTest.keyClick(dialog.table, KEYS.Key_Return)
    assert [type(i) for i in song.session.mix.chain if not isinstance(i, Trim)] == [Limiter]


@pytest.mark.thorough
def test_it_is_heard_as_loud_as_what_is_there(song: Desk) -> None:
    dialog = opened(song)
    QTest.keyClick(dialog.table, KEYS.Key_H)
    assert dialog.drafting.sounding and song.bench.listening.hunting and dialog.hear_button.isChecked()
    made_ = dialog.drafting.made
    assert made_ is not None
    before, after = (j for j in dialog.drafting.ends() if j is not None)
    assert made_.gain == pytest.approx(before.loudness() - after.loudness(), abs=0.3)
    QTest.keyClick(dialog.table, KEYS.Key_H)
    assert not song.bench.listening.hunting
    QTest.keyClick(dialog.table, KEYS.Key_H)
    QTest.keyClick(dialog, KEYS.Key_Escape)
    assert not dialog.isVisible() and not song.bench.listening.hunting and not song.bench.document.undo_name


@pytest.mark.thorough
def test_strength_is_typed(song: Desk) -> None:
    dialog = opened(song)
    dialog.strength.setFocus()
    QTest.keyClick(dialog.strength, KEYS.Key_5)
    field = dialog.findChild(Field)
    QTest.keyClicks(field, "0")
    QTest.keyClick(field, KEYS.Key_Return)
    song.wait(lambda: dialog.drafting.strength == 50.0)
    made(song, dialog)
    dialog.table.setFocus()
    QTest.keyClick(dialog.table, KEYS.Key_Return)
    glue = next(i for i in song.session.mix.chain if isinstance(i, Glue))
    assert glue.aim == 1.0


@pytest.mark.thorough
def test_a_strip_with_nothing_wrong_is_left_alone(song: Desk) -> None:
    song.bench.look(strip=next(s.id for s in song.session.strips if s.name == "Piece"))
    dialog = opened(song)
    assert dialog.words.text() == "Nothing here asks for anything." and not dialog.take_button.isEnabled()
    QTest.keyClick(dialog.table, KEYS.Key_Return)
    assert dialog.isVisible() and not song.bench.document.undo_name


@pytest.mark.thorough
def test_as_in_another_session(song: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    other = song.session.with_chain("mix", (Glue(id="g", ratio=3.0, threshold=-30.0), Limiter(id="l", drive=3.0)))
    write_session(tmp_path / "Other.gluvo", other)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "Other.gluvo"), ""))
    dialog = opened(song)
    dialog.like.click()
    song.wait(lambda: dialog.drafting.draft is not None)
    made(song, dialog)
    assert texts(dialog) == ["Glue", "Limiter"] and "as in Other" in dialog.words.text()
    QTest.keyClick(dialog.table, KEYS.Key_Return)
    assert song.bench.document.undo_name == "Chain as in Other"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "Song.wav"), ""))


def test_without_audio_it_says_why(empty_desk: Desk, tmp_path: Path) -> None:
    told = []
    empty_desk.bench.told.connect(lambda said: told.append(said.text))
    empty_desk.window.draft()
    assert told == ["Bring in audio first: a draft is made from what is heard."]


def test_leaving_while_it_is_looked_for_leaves_nothing_behind(song: Desk) -> None:
    """A key right after the one that opened it: the work ends, and what it still tells finds no dialog."""
    before = song.session.strips
    for _ in range(3):
        shortcut(song, "Ctrl+Alt+N")
        dialog = next(d for d in song.window.findChildren(DraftDialog) if d.isVisible())
        QTest.keyClick(dialog.table, KEYS.Key_Escape)
        assert not dialog.isVisible()
    song.wait(lambda: not song.bench.background.busy)
    assert song.session.strips == before and not song.bench.listening.hunting
