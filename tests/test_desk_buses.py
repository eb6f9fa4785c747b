"""The Buses page, lanes and the complete Glue in a real window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication, QLineEdit, QWidget

from gluvo.desk.editors.glue import GlueEditor, LaneEditor
from gluvo.desk.pages.tree_view import TreeView
from gluvo.session.records import MIX, Bus
from gluvo.session.tree import children
from gluvo.steps import Glue, Lane

from .conftest import RATE, music
from .desk import Desk


@pytest.fixture
def band(empty_desk: Desk, tmp_path: Path) -> Desk:
    """Four stems, two of them in a folder of their own."""
    folder = tmp_path / "Quay"
    for n, name in enumerate(("Drums/Kick", "Drums/Snare", "Bass", "Voice")):
        path = folder / f"{name}.wav"
        path.parent.mkdir(parents=True, exist_ok=True)
        x = music(6.0, seed=n) * 0.3
        soundfile.write(path, x[:, 0] if name == "Bass" else x, RATE, "PCM_24")
    empty_desk.window.dropped([folder])
    empty_desk.wait(lambda: empty_desk.bench.audio.material is not None)
    empty_desk.settle()
    return empty_desk


def tree(desk: Desk) -> TreeView:
    return desk.window.buses.tree


def strip_id(desk: Desk, name: str) -> str:
    return next(s.id for s in desk.session.strips if s.name == name)


def click(desk: Desk, name: str, part: str = "name") -> None:
    place = tree(desk).place_of(strip_id(desk, name), part)
    desk.bot.mouseClick(tree(desk), Qt.MouseButton.LeftButton, pos=place)


def drag(desk: Desk, widget: QWidget, start: QPoint, end: QPoint) -> None:
    desk.bot.mousePress(widget, Qt.MouseButton.LeftButton, pos=start)
    for share in (0.3, 0.7, 1.0):
        place = QPointF(start) + share * QPointF(end - start)
        QApplication.sendEvent(
            widget,
            QMouseEvent(
                QEvent.Type.MouseMove,
                place,
                widget.mapToGlobal(place),
                Qt.MouseButton.NoButton,
                Qt.MouseButton.LeftButton,
                Qt.KeyboardModifier.NoModifier,
            ),
        )
    desk.bot.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=end)


def menu(desk: Desk, text: str) -> None:
    next(a for a in desk.window.actions() if a.text() == text).trigger()


@pytest.mark.thorough
def test_a_folder_opens_as_a_tree(band: Desk) -> None:
    assert band.session.view.page == "buses" and band.window.pages.currentWidget() is band.window.buses
    assert [(s.name, d) for s, d in tree(band).rows] == [
        ("Bass", 1),
        ("Voice", 1),
        ("Kick", 2),
        ("Snare", 2),
        ("Drums", 1),
        ("Mix bus", 0),
    ]
    assert band.session.strip(strip_id(band, "Bass")).is_mono
    assert band.window.buses.room.text not in ("…", "") and band.session.name == "Quay"


@pytest.mark.thorough
def test_switches_faders_and_pans_are_worked_in_their_rows(band: Desk) -> None:
    song = band.bench.picture.song_render
    click(band, "Voice", "mute")
    assert band.session.strip(strip_id(band, "Voice")).mute
    band.settle()
    assert song is not None and band.bench.picture.song_render.result.figures() != song.result.figures()
    click(band, "Voice", "mute")
    click(band, "Kick", "invert")
    assert band.session.strip(strip_id(band, "Kick")).invert
    band.bench.document.undo()
    click(band, "Snare", "solo")
    assert band.session.view.solo == (strip_id(band, "Snare"),)
    menu(band, "Hear all")
    assert band.session.view.solo == ()
    start = tree(band).place_of(strip_id(band, "Bass"), "fader")
    drag(band, tree(band), start, start + QPoint(-40, 0))
    bass = band.session.strip(strip_id(band, "Bass"))
    assert bass is not None and bass.fader < -5.0 and band.session.view.strip == bass.id
    assert band.window.buses.fader.value == bass.fader and band.bench.document.undo_name == "Bass fader"
    band.bot.mouseDClick(tree(band), Qt.MouseButton.LeftButton, pos=start)
    assert band.session.strip(bass.id).fader == 0.0
    start = tree(band).place_of(bass.id, "pan")
    drag(band, tree(band), start, start + QPoint(60, 0))
    assert band.session.strip(bass.id).pan > 20.0


def test_a_value_is_typed_and_minus_infinity_is_a_value(band: Desk) -> None:
    band.bench.choose_strip(strip_id(band, "Voice"))
    ruler = band.window.buses.fader
    for text, value in (("-4.5", -4.5), ("off", -72.0), ("0", 0.0)):
        ruler.type_value()
        field = [f for f in ruler.findChildren(QLineEdit) if f.isVisible()][-1]
        band.bot.keyClicks(field, text)
        band.bot.keyClick(field, Qt.Key.Key_Return)
        assert band.session.strip(strip_id(band, "Voice")).fader == value
    band.bench.document.undo()
    assert ruler.setting.show(ruler.value) == "−∞"


@pytest.mark.thorough
def test_strips_are_dragged_grouped_renamed_and_dissolved(band: Desk) -> None:
    page = tree(band)
    voice, drums = strip_id(band, "Voice"), strip_id(band, "Drums")
    drag(band, page, page.place_of(voice), page.place_of(drums) + QPoint(0, 6))
    assert [s.name for s in children(band.session, drums)] == ["Kick", "Snare", "Voice"]
    drag(band, page, page.place_of(drums), page.place_of(voice))  # into itself: refused by the pointer
    assert band.session.strip(drums).into == MIX
    for name in ("Kick", "Snare"):
        place = page.place_of(strip_id(band, name))
        band.bot.mouseClick(page, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, place)
    menu(band, "Group into a new bus")
    shells = band.session.strip(band.session.view.strip)
    assert isinstance(shells, Bus) and [s.name for s in children(band.session, shells.id)] == ["Kick", "Snare"]
    page.rename()
    field = page.findChild(QLineEdit)
    assert field is not None
    band.bot.keyClicks(field, "Shells")
    band.bot.keyClick(field, Qt.Key.Key_Return)
    assert band.session.strip(shells.id).name == "Shells"
    assert "Shells" in [band.window.shape.ledger.chooser.itemText(n) for n in range(8)]
    page.setFocus()
    band.bot.keyClick(page, Qt.Key.Key_Down, Qt.KeyboardModifier.AltModifier)
    assert [s.name for s in children(band.session, drums)] == ["Voice", "Shells"]
    menu(band, "Dissolve bus")
    assert band.session.strip(shells.id) is None and band.session.view.strip == MIX
    for _ in range(6):
        band.bench.document.undo()
    assert [s.name for s in children(band.session, drums)] == ["Kick", "Snare"]


@pytest.mark.thorough
def test_the_keyboard_walks_through_the_tree(band: Desk) -> None:
    page = tree(band)
    band.bench.choose_strip(MIX)
    page.setFocus()
    band.bot.keyClick(page, Qt.Key.Key_Up)
    assert band.session.view.strip == strip_id(band, "Drums")
    menu(band, "Strip above")
    menu(band, "Mute")
    assert band.session.strip(strip_id(band, "Snare")).mute
    band.bot.keyClick(page, Qt.Key.Key_Return)
    assert band.session.view.page == "shape"
    assert band.window.shape.ledger.chooser.currentText() == "Snare"
    assert {a.text() for a in page.menu().actions()} >= {"Rename", "Flow into", "Gentle and crushed"}


@pytest.mark.thorough
def test_meters_move_with_the_music(band: Desk) -> None:
    band.bench.listening.toggle_play()
    page = tree(band)
    band.wait(lambda: len(page._levels) == 6 and bool((page._levels.max(axis=1) > -40.0).all()))
    click(band, "Voice", "mute")
    place = [s.id for s in band.session.strips].index(strip_id(band, "Voice"))
    band.wait(lambda: page._levels[place].max() < -55.0)
    band.bench.listening.toggle_play()


@pytest.mark.thorough
def test_a_missing_stem_is_a_marked_row(band: Desk, tmp_path: Path) -> None:
    assert band.window.documents.save()
    (tmp_path / "Quay" / "Voice.wav").rename(tmp_path / "Elsewhere.wav")
    band.open(tmp_path / "Quay" / "Quay.gluvo")
    assert "Voice.wav" in band.window.notice.text.text()
    assert list(band.bench.audio.material.missing) == [strip_id(band, "Voice")]
    band.bench.choose_strip(strip_id(band, "Voice"))
    assert band.window.buses.ledger.row("")[1] == "its file is missing: silent"
    band.window.deliver.use_folder(tmp_path / "out")
    band.window.deliver.write_all()
    band.wait(lambda: "Nothing was written" in band.window.notice.text.text())
    band.window.audio_files.relocate("Voice.wav", tmp_path / "Elsewhere.wav")
    band.wait(lambda: not band.bench.audio.missing)
    band.settle()
    assert band.bench.audio.material is not None and not band.bench.audio.material.missing


@pytest.mark.thorough
def test_further_stems_are_brought_in(band: Desk, tmp_path: Path) -> None:
    soundfile.write(tmp_path / "Horn.wav", music(3.0) * 0.2, RATE, "PCM_24")
    band.window.dropped([tmp_path / "Horn.wav"])
    band.wait(lambda: any(s.name == "Horn" for s in band.session.stems))
    horn = strip_id(band, "Horn")
    band.wait(lambda: band.bench.audio.material is not None and horn in band.bench.audio.material.sounds)
    band.settle()
    band.bench.choose_strip(horn)
    band.window.buses.offset.moved.emit(4.5)
    band.wait(lambda: band.bench.audio.material is not None and band.bench.audio.material.seconds > 7.4)


@pytest.mark.thorough
def test_gentle_and_crushed_and_a_lane_by_hand(band: Desk) -> None:
    band.bench.choose_strip(strip_id(band, "Drums"))
    band.bot.mouseClick(band.window.buses.ledger.pair_button, Qt.MouseButton.LeftButton)
    band.settle()
    gentle, lane = band.session.chain
    assert isinstance(gentle, Glue) and isinstance(lane, Lane)
    band.wait(lambda: band.session.item(lane.id).blend < 0.0)
    band.settle()
    song, span = band.bench.picture.song_render, band.bench.span
    assert song is not None
    assert song.joint(gentle.id).reduced(span).peaks == pytest.approx(2.0, abs=0.05)
    assert song.joint(lane.steps[0].id).reduced(span).peaks == pytest.approx(12.0, abs=0.05)
    assert band.bench.document.undo_name == "Gentle and crushed"
    band.bench.document.look(page="shape", step=lane.id)
    band.settle()
    editor = band.window.shape.editor
    assert isinstance(editor, LaneEditor) and "would add" in editor.added.text()
    would = editor.added.text()
    band.bench.set_setting(lane.id, "level", 0.0, "Level")
    band.settle()
    band.wait(lambda: editor.added.text() != would and "held" in editor.added.text())
    band.bot.mouseClick(editor.alone, Qt.MouseButton.LeftButton)
    assert band.session.view.solo == (lane.id,)
    assert "heard alone" in band.window.shape.ledger.row(lane.id)[1]
    ledger = band.window.shape.ledger
    ledger.list.setFocus()
    band.bot.keyClick(ledger.list, Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier)
    assert band.session.chain[0].id == lane.id
    band.bench.document.look(step=gentle.id)
    ledger.add_lane()
    made = band.session.item(band.session.view.step)
    assert isinstance(made, Lane) and made.since == lane.id and made.gain == 0.0
    band.bench.set_setting(lane.id, "since", gentle.id, "start")
    assert "come back before it leaves" in band.window.notice.text.text()
    assert band.session.item(lane.id).since == ""


@pytest.mark.thorough
def test_a_key_is_chosen_heard_and_marked_when_gone(band: Desk) -> None:
    bass, kick = strip_id(band, "Bass"), strip_id(band, "Kick")
    band.bench.choose_strip(bass)
    band.window.shape.ledger.add(Glue(ratio=4.0, threshold=-30.0))
    band.bench.document.look(page="shape")
    band.settle()
    glue, editor = band.session.view.step, band.window.shape.editor
    assert isinstance(editor, GlueEditor)
    offered = [editor.key.box.itemText(n) for n in range(editor.key.box.count())]
    assert offered == ["itself", "Voice", "Kick", "Snare", "Drums"]
    own = band.bench.picture.song_render.joint(glue).reduction.mean.copy()
    editor.key.box.activated.emit(offered.index("Kick"))
    band.settle()
    keyed = band.bench.picture.song_render.joint(glue).reduction.mean
    assert np.abs(keyed - own).max() > 0.1
    band.bot.mouseClick(editor.ear, Qt.MouseButton.LeftButton)
    assert band.session.view.hear == "detector"
    band.wait(lambda: "detector" in band.bench.picture.gains)
    band.bench.document.look(step="")
    assert band.session.view.hear == "result"
    band.bench.document.look(strip=kick)
    menu(band, "Remove strip")
    assert band.session.strip(kick) is None and band.session.step(glue).key == kick
    band.bench.document.look(strip=bass, step=glue)
    band.settle()
    assert "its key is gone" in band.window.shape.ledger.row(glue)[1]
    band.bench.document.undo()
    band.settle()
    assert "key Kick" in band.window.shape.ledger.row(glue)[1]


@pytest.mark.thorough
def test_views_beside_the_hits(band: Desk) -> None:
    band.bench.choose_strip(strip_id(band, "Drums"))
    band.window.shape.ledger.add(Glue(ratio=4.0, threshold=-30.0, aim=3.0, aim_by="mean"))
    band.bench.document.look(page="shape")
    band.settle()
    editor = band.window.shape.editor
    assert isinstance(editor, GlueEditor)
    pictures = set()
    for key in ("hits", "transfer", "spread", "reduction"):
        band.bot.mouseClick(editor.chooser.button(key), Qt.MouseButton.LeftButton)
        pictures.add(hash(bytes(editor.views.currentWidget().grab().toImage().constBits())))
    assert len(pictures) == 4 and "within 1 dB of the aim" in editor.spread.words
    hits = band.bench.picture.hits
    band.bench.set_setting(editor.step_id, "attack", 1.0, "Attack")
    band.wait(lambda: band.bench.picture.hits is not hits)
    band.settle()
    before = bytes(band.window.timeline.grab().toImage().constBits())
    band.bench.choose_strip(MIX)
    QApplication.processEvents()
    assert bytes(band.window.timeline.grab().toImage().constBits()) != before  # the mix bus reduces nothing here
