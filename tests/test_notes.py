"""Notes: written, placed, jumped to, read from comments, printed; nothing typed is lost."""

from __future__ import annotations

import dataclasses
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QToolTip

from gluvo.deliver import report
from gluvo.desk.pages.notes_dialog import NotesDialog
from gluvo.errors import SessionError
from gluvo.render.song import Renderer
from gluvo.session import notes
from gluvo.session.records import MOST_NOTE, Job, Note, Reference, Section, Session, Version
from gluvo.session.store import checked, read_session, write_session
from gluvo.steps import Glue

from .conftest import material, music, one
from .desk import Desk, key, shortcut
from .test_prints import media

MADE = "2026-05-04T10:11:12"


@pytest.mark.parametrize(
    ("line", "at", "text"),
    [
        ("1:12 voice too soft", 72.0, "voice too soft"),
        ("[0:58–1:04] the bass", 58.0, "the bass"),
        ("- 1:02:03.5: the end", 3723.5, "the end"),
        ("(2:00) — drums", 120.0, "drums"),
        ("  * 0:05,25 - a click", 5.25, "a click"),
        ("75:10 long", 4510.0, "long"),
        ("more at 1:12", None, "more at 1:12"),
        ("12 voices", None, "12 voices"),
        ("1:72x is no time", None, "1:72x is no time"),
    ],
)
def test_a_line_of_comments_is_read(line: str, at: float | None, text: str) -> None:
    ((found, words),) = notes.comments_in(line).found
    assert (found, words) == (at, text) or (line.startswith("1:72") and words)


def test_paragraphs_and_indented_lines_stay_together() -> None:
    text = "Hello,\nlovely work.\n\n0:10 too loud\n  and too bright\n0:20 fine\nYours"
    assert notes.comments_in(text).found == (
        (None, "Hello,\nlovely work."),
        (10.0, "too loud\nand too bright"),
        (20.0, "fine"),
        (None, "Yours"),
    )


@settings(max_examples=200, deadline=None)
@given(st.text(max_size=300))
def test_any_text_is_taken_or_says_nothing(text: str) -> None:
    session = Session()
    comments = notes.comments_in(text)
    try:
        text.encode()
    except UnicodeEncodeError:
        return
    now, count = notes.with_comments(session, comments, 60.0, MADE)
    assert count <= len(comments.found)
    checked(now)
    assert notes.with_comments(now, comments, 60.0, MADE)[1] == 0  # not twice


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_files_of_any_usual_encoding_are_read(tmp_path: Path, encoding: str) -> None:
    path = tmp_path / "c.txt"
    path.write_bytes("1:12 Höhen — zu viel".encode(encoding))
    assert notes.read_comments(path).found == ((72.0, "Höhen — zu viel"),)


def test_what_cannot_be_is_a_sentence(tmp_path: Path) -> None:
    (tmp_path / "empty.txt").write_text("\n \n")
    with pytest.raises(SessionError, match="says nothing"):
        notes.read_comments(tmp_path / "empty.txt")
    with pytest.raises(SessionError, match="cannot be read"):
        notes.read_comments(tmp_path / "none.txt")
    with pytest.raises(SessionError, match="at most 20,000 characters, and this one 1,000,000"):
        notes.with_note(Session(), "x" * 1_000_000, MADE)
    full = Session(notes=tuple(Note(id=f"n{n}") for n in range(1000)))
    with pytest.raises(SessionError, match="1,000 notes"):
        notes.with_note(full, "one more", MADE)


def song_with_notes() -> Session:
    session = one([Glue(id="g")]).replace(
        sections=(Section(id="s", name="Verse", start=2.0, end=4.0),),
        versions=(Version(id="v", name="First", order=("mix",), strips=(one([]).mix,)),),
        references=(Reference(id="r", name="Secret Reference", media=media(3)),),
        job=Job(studio="Salt House", client="Saltmarsh Six"),
        name="Ferry Hours",
    )
    for text, place in (
        ("of a place <b>", {"at": 3.0, "client": True}),
        ("of all: see https://example.org/a?b=1.", {"client": True}),
        ("of the verse, mine", {"section": "s"}),
        ("of a version", {"version": "v"}),
    ):
        session, _ = notes.with_note(session, text, MADE, **place)
    return session


def test_they_survive_their_file_and_stand_in_order(tmp_path: Path) -> None:
    session = song_with_notes()
    write_session(tmp_path / "a.gluvo", session)
    assert read_session(tmp_path / "a.gluvo").session == session
    assert [notes.where(session, n) for n in notes.in_order(session)] == ["the song", "Verse", "0:03", "First"]
    gone = session.replace(sections=(), versions=())
    assert "a section that is gone" in {notes.where(gone, n) for n in gone.notes}
    assert notes.changed(session, session.notes[0].id, done=True).notes[0].done


def test_the_clients_form_tells_what_was_made_and_not_how() -> None:
    session = song_with_notes()
    song = Renderer(material(music(3.0))).song(session)
    made = report.Material(session, song, "1.0", notes=("The source peaks at −0.1 dBTP.",))
    whole, client = report.as_html(made), report.as_html(dataclasses.replace(made, client=True))
    for text in ("Glue", "of the verse, mine", "The source peaks"):
        assert text in whole and text not in client
    assert "Secret Reference" not in client and "references" not in client.lower()
    for page in (whole, client):
        assert "Salt House for Saltmarsh Six" in page and "of a place &lt;b&gt;" in page
        assert '<a href="https://example.org/a?b=1">https://example.org/a?b=1</a>.' in page
    told = report.told(dataclasses.replace(made, client=True))
    assert [n["text"][:6] for n in told["session_notes"]] == ["of all", "of a p"] and "strips" not in told


def dialog_of(desk: Desk) -> NotesDialog:
    found = desk.window.findChild(NotesDialog)
    assert found is not None
    return found


@pytest.mark.thorough
def test_a_note_is_typed_where_it_plays_jumped_to_and_undone(desk: Desk) -> None:
    bench = desk.bench
    bench.listening.seek(2.5)
    desk.wait(lambda: bench.engine is not None and abs(bench.engine.position - 2.5) < 0.01)
    shortcut(desk, "Shift+N")
    dialog = dialog_of(desk)
    QTest.keyClicks(dialog.text, "voice 1 too soft")
    QTest.keyClick(dialog.text, Qt.Key.Key_Tab)
    QTest.keyClick(dialog.table, Qt.Key.Key_Insert)  # the next one; what was typed stays
    assert [n.text for n in desk.session.notes] == ["voice 1 too soft", ""]
    first = desk.session.notes[0]
    assert first.at == pytest.approx(2.5, abs=0.02)
    QTest.keyClicks(dialog.text, "all in all fine")
    dialog.ticked.setFocus()
    QTest.keyClick(dialog.client, Qt.Key.Key_Return)
    assert desk.session.notes[1].client and desk.session.notes[1].text == "all in all fine"
    dialog.choose(first.id)
    assert dialog.text.toPlainText() == "voice 1 too soft"
    bench.listening.seek(0.0)
    desk.wait(lambda: bench.engine is not None and bench.engine.position < 0.01)
    QTest.keyClick(dialog.table, Qt.Key.Key_Return)
    desk.wait(lambda: bench.engine is not None and abs(bench.engine.position - first.at) < 0.01)
    QTest.keyClicks(dialog.text, ", and dull")
    dialog.close()
    assert desk.session.notes[0].text.endswith(", and dull")
    bench.document.undo()
    assert desk.session.notes[0].text == "voice 1 too soft"


@pytest.mark.thorough
def test_what_does_not_fit_into_a_note_is_not_taken_and_the_rest_is_kept(desk: Desk) -> None:
    desk.window.show_notes().add()
    dialog = dialog_of(desk)

    def pasted(text: str) -> str:
        QGuiApplication.clipboard().setText(text)
        QTest.keyClick(dialog.text, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
        return dialog.text.toPlainText()

    assert pasted("y" * (MOST_NOTE + 1)) == "" and "20,001" in QToolTip.text()
    assert pasted("too\x1b soft\r\n") == "too soft\n"
    assert len(pasted("y" * (MOST_NOTE - 9))) == MOST_NOTE
    for pressed in (Qt.Key.Key_X, Qt.Key.Key_Return):
        QTest.keyClick(dialog.text, pressed)
        assert len(dialog.text.toPlainText()) == MOST_NOTE
    QTest.keyClick(dialog.text, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    assert pasted("z" * MOST_NOTE) == "z" * MOST_NOTE  # in place of what is selected
    QTest.keyClick(dialog.text, Qt.Key.Key_Backspace)
    QTest.keyClicks(dialog.text, "x")
    dialog.close()
    assert desk.session.notes[0].text == "z" * (MOST_NOTE - 1) + "x"


def test_comments_come_back_as_marks_on_the_timeline(desk: Desk, tmp_path: Path) -> None:
    told: list[str] = []
    desk.bench.told.connect(lambda said: told.append(said.text))
    path = tmp_path / "from the client.txt"
    path.write_text("Thanks!\n\n0:04 voice too soft\n9:59 what is this")
    shortcut(desk, "Ctrl+Alt+B")
    dialog = dialog_of(desk)
    dialog.take(path)
    assert "3 comments from from the client.txt" in told[-1] and "1 of them lies past the song's end (0:08)" in told[-1]
    assert [n.at for n in desk.session.notes] == [None, 4.0, None] and all(n.client for n in desk.session.notes)
    dialog.take(path)
    assert "stands in the notes already" in told[-1] and len(desk.session.notes) == 3
    dialog.close()
    line = desk.window.timeline
    there = QPoint(round(line._x(4.0)), line._drawing.waves[0] + 2)
    before = line.grab().toImage().pixelColor(there)
    desk.bot.mouseClick(line, Qt.MouseButton.LeftButton, pos=there)
    desk.wait(lambda: desk.bench.engine is not None and abs(desk.bench.engine.position - 4.0) < 0.001)
    desk.bot.mouseDClick(line, Qt.MouseButton.LeftButton, pos=there)
    opened = next(d for d in desk.window.findChildren(NotesDialog) if d.isVisible())
    assert opened.chosen is not None and opened.chosen.at == 4.0
    opened.close()
    desk.bench.document.undo()
    assert not desk.session.notes
    line.repaint()
    assert line.grab().toImage().pixelColor(there) != before
    assert line._note_at(QPointF(there)) is None
    key(desk, Qt.Key.Key_Escape)
