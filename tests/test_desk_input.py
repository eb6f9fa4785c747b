"""Hands on keys and mouse: what was typed is taken once, keys do what they say, everything is found and fits."""

from __future__ import annotations

import html
from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QComboBox,
    QLabel,
    QLineEdit,
    QMessageBox,
    QPushButton,
    QScrollArea,
    QWidget,
)

from gluvo.compare.match import BAND, DETECTOR, RESULT, UNTOUCHED
from gluvo.desk.controls import dialogs
from gluvo.desk.controls.finder import Finder
from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import Field, Toggle
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.eq.editor import EqEditor
from gluvo.desk.editors.glue import GlueEditor
from gluvo.desk.editors.preset_dialog import PresetDialog
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.deliver.row_panel import RowPanel
from gluvo.desk.window.help import GuideDialog
from gluvo.desk.window.window import Window
from gluvo.render.chain import stream
from gluvo.session.copies import copies_left
from gluvo.session.records import Reference, Section
from gluvo.session.store import read_session, session_bytes, write_session
from gluvo.steps import (
    Band,
    Glue,
    Lane,
    Limiter,
    MidSideEq,
    Trim,
)
from gluvo.steps.settings import settings_of

from .conftest import RATE, music
from .desk import LEFT, Desk, LastingHost, answering, drag, focus, key, shortcut, small_session, when_shown

KEYS = Qt.Key


def type_and_end(desk: Desk, text: str, end: Qt.Key) -> None:
    field = focus(desk)
    assert isinstance(field, Field)
    key(desk, text)
    key(desk, end)


def open_fields(desk: Desk) -> list[QLineEdit]:
    return [
        f
        for f in desk.window.findChildren(QLineEdit)
        if f.isVisible() and not isinstance(f.parent(), QComboBox | RowPanel)
    ]


STEPS = [
    "trim-1",
    "eq-1",
    "glue-1",
    "lane-1",
    "split-1",
    "de_esser-1",
    "tamer-1",
    "shaper-1",
    "saturation-1",
    "width-1",
    "limiter-1",
]


# --- fields ------------------------------------------------------------------------------------------------------------


@pytest.mark.thorough
@pytest.mark.parametrize("step", STEPS)
def test_a_typed_value_closes_its_field_and_keys_work_at_once(full_desk: Desk, step: str) -> None:
    desk = full_desk
    desk.bench.look(step=step, band=2)
    QApplication.processEvents()
    editor = desk.window.shape.editor
    assert editor is not None
    for group in editor.groups.values() if isinstance(editor, StepEditor) else ():
        group.set_folded(False)
    if isinstance(editor, EqEditor):
        editor.moving.set_folded(False)
    QApplication.processEvents()
    rulers = [r for r in desk.window.findChildren(Ruler) if r.isVisible() and r.isEnabled()]
    assert len(rulers) >= 2
    starts, ends = (KEYS.Key_Return, "click"), (KEYS.Key_Return, KEYS.Key_Escape, KEYS.Key_Enter)
    for n, ruler in enumerate(rulers):
        start, end = starts[n % 2], ends[n % 3]
        before, wanted = ruler.value, ruler.setting.to_value(0.4)
        ruler.setFocus()
        if start == "click":
            desk.bot.mouseClick(ruler, LEFT, pos=QPoint(ruler.width() - 12, 9))
        else:
            key(desk, KEYS.Key_Return)
        type_and_end(desk, ruler.setting.show(wanted).replace("−", "-"), end)
        assert not open_fields(desk) and focus(desk) is ruler, ruler.setting.label
        if end == KEYS.Key_Escape:
            assert ruler.value == before
        now, matched = ruler.value, desk.session.view.level_matched
        key(desk, "m")  # at once for the window
        assert desk.session.view.level_matched is not matched and ruler.value == now and not open_fields(desk)


@pytest.mark.thorough
def test_space_plays_after_a_typed_value(full_desk: Desk) -> None:
    desk = full_desk
    ruler = next(r for r in desk.window.findChildren(Ruler) if r.isVisible() and r.setting.name == "threshold")
    ruler.setFocus()
    key(desk, KEYS.Key_Return)
    type_and_end(desk, "-30", KEYS.Key_Return)
    engine = desk.bench.engine
    assert engine is not None and not engine.playing
    key(desk, KEYS.Key_Space)
    assert engine.playing
    desk.bench.listening.toggle_play()


@pytest.mark.thorough
def test_a_name_typed_in_the_tree_stays_on_its_page(full_desk: Desk) -> None:
    desk = full_desk
    desk.bench.look(page="buses", strip="stem-1")
    tree = desk.window.buses.tree
    for end, name in ((KEYS.Key_Return, "Ferry"), (KEYS.Key_Escape, "Ferry"), (KEYS.Key_Enter, "Quay")):
        tree.setFocus()
        key(desk, KEYS.Key_F2)
        type_and_end(desk, "Quay" if end != KEYS.Key_Return else "Ferry", end)
        assert desk.session.view.page == "buses" and not open_fields(desk) and focus(desk) is tree
        assert desk.session.strip("stem-1").name == name
        desk.bench.listening.hear(RESULT)
        key(desk, "2")
        assert desk.session.view.hear == UNTOUCHED


@pytest.mark.thorough
def test_sections_and_lanes_are_renamed_once(full_desk: Desk) -> None:
    desk = full_desk
    key(desk, KEYS.Key_F2, Qt.KeyboardModifier.ControlModifier)
    type_and_end(desk, "Coda", KEYS.Key_Return)
    assert desk.session.section("section-2").name == "Coda" and not open_fields(desk)
    desk.bench.look(step="lane-1")
    desk.window.shape.editor.rename()
    type_and_end(desk, "Loud", KEYS.Key_Return)
    assert desk.session.item("lane-1").name == "Loud" and not open_fields(desk)
    desk.bench.listening.hear(RESULT)
    key(desk, "2")
    assert desk.session.view.hear == UNTOUCHED


@pytest.mark.thorough
def test_a_typed_cell_is_taken_once(full_desk: Desk) -> None:
    desk = full_desk
    desk.bench.look(step="eq-1", band=1)
    editor = desk.window.shape.editor
    assert isinstance(editor, EqEditor)
    for column, text, name, value in ((6, "5", "q", 5.0), (3, "A2", "freq", 110.0), (5, "-4.5", "gain", -4.5)):
        editor.table.setFocus()
        editor.table.setCurrentCell(0, column)
        key(desk, KEYS.Key_Return)
        type_and_end(desk, text, KEYS.Key_Return)
        desk.wait(lambda: not open_fields(desk))
        assert focus(desk) is editor.table
        assert getattr(desk.session.step("eq-1").band(1), name) == value
        desk.bench.listening.hear(RESULT)
        key(desk, "2")
        assert desk.session.view.hear == UNTOUCHED and not open_fields(desk)
    key(desk, KEYS.Key_B, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    key(desk, KEYS.Key_Return)
    added = desk.session.step("eq-1").bands[-1]
    assert len(desk.session.step("eq-1").bands) == 3 and added.q == 1.0


@pytest.mark.thorough
def test_a_deliverables_name_is_typed_once(full_desk: Desk) -> None:
    desk = full_desk
    desk.bench.look(page="deliver")
    table = desk.window.deliver.table
    table.setFocus()
    table.setCurrentCell(0, 0)
    table.editItem(table.item(0, 0))
    field = focus(desk)
    assert isinstance(field, QLineEdit)
    key(desk, "Vinyl")
    key(desk, KEYS.Key_Return)
    desk.wait(lambda: not open_fields(desk))
    assert desk.session.deliverables[0].name == "Vinyl" and focus(desk) is table
    desk.bench.listening.hear(RESULT)
    key(desk, "2")
    assert desk.session.view.hear == UNTOUCHED


# --- reaching, holding -------------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_reach_goes_down_in_one_action_and_its_cost_belongs_to_its_state(full_desk: Desk, tmp_path: Path) -> None:
    desk = full_desk
    desk.bench.edit("Own", lambda s: s.replace(target=msgspec.structs.replace(s.target, name="Own", loudness=-34.0)))
    desk.settle()
    before = desk.session
    shortcut(desk, "Ctrl+R")
    desk.wait(lambda: desk.bench.advice.reach is not None and not desk.bench.background.busy)
    panel = desk.window.shape.target
    assert desk.bench.advice.reach is not None and desk.bench.advice.reach[1].met and "Cost:" in panel.cost.text()
    limiter = desk.session.step("limiter-1")
    assert isinstance(limiter, Limiter) and limiter.drive == 0.0
    added = [i for i in desk.session.mix.chain if i.id not in {x.id for x in before.mix.chain}]
    assert len(added) == 1 and isinstance(added[0], Trim) and added[0].gain < 0.0
    desk.settle()
    song = desk.bench.picture.song_render
    assert song is not None and song.result.figures().integrated == pytest.approx(-34.0, abs=0.05)
    desk.bench.document.undo()
    assert desk.session.strips == before.strips and panel.cost.text() == ""  # one action
    desk.bench.document.redo()
    assert "Cost:" in panel.cost.text()
    (tmp_path / "other").mkdir()
    _, other = small_session(tmp_path / "other")
    desk.open(other, measured=False)
    assert panel.cost.text() == ""


@pytest.mark.thorough
def test_looking_elsewhere_changes_nothing_and_undo_gives_the_bytes_of_the_start(full_desk: Desk) -> None:
    desk = full_desk
    start = session_bytes(desk.session.looking(section="section-2", position=0.0))
    glue = desk.window.shape.editor
    assert isinstance(glue, GlueEditor)
    hold = glue.controls["hold_aim"]
    assert isinstance(hold, Toggle)
    desk.bot.mouseClick(hold, LEFT, pos=QPoint(10, 10))
    desk.settle()
    held = desk.session.step("glue-1")
    assert isinstance(held, Glue) and held.hold_aim and held.held_in == "section-2" and held.threshold != -26.0
    assert "held in Refrain" in glue.state.text() and not glue.hold_here.isVisible()
    for section in ("section-1", "", "section-2", "section-1"):
        desk.bench.look(section=section)
        desk.settle()
        assert desk.session.step("glue-1") == held
    assert "held in Refrain" in glue.state.text() and glue.hold_here.isVisible()
    desk.bot.mouseClick(glue.hold_here, LEFT)
    desk.settle()
    moved = desk.session.step("glue-1")
    assert isinstance(moved, Glue) and moved.held_in == "section-1" and moved.threshold != held.threshold
    desk.bench.look(section="section-2")
    desk.window.timeline.remove("section-1")
    desk.settle()
    assert "held in whole song" in glue.state.text()
    while desk.bench.document.undo_name is not None:
        desk.bench.document.undo()
    desk.settle()
    assert session_bytes(desk.session.looking(section="section-2", position=0.0)) == start


@pytest.mark.thorough
def test_what_is_heard_apart_stands_in_the_hear_row(full_desk: Desk) -> None:
    desk, row = full_desk, full_desk.window.hear_row
    desk.window.setFocus()
    key(desk, "h")
    assert desk.session.view.hear == DETECTOR and row.apart.isVisible() and row.apart.text() == "Detector of Glue"
    desk.bot.mouseClick(row.apart, LEFT)
    assert desk.session.view.hear == RESULT and not row.apart.isVisible()
    desk.bench.look(step="eq-1", band=2)
    desk.window.setFocus()
    key(desk, "b")
    assert desk.session.view.hear == BAND and row.apart.text() == "Band 2 alone"
    key(desk, "1")
    assert desk.session.view.hear == RESULT and not row.apart.isVisible()


@pytest.mark.thorough
def test_steps_go_behind_a_lane_into_it_and_out_of_it(full_desk: Desk) -> None:
    desk, ledger = full_desk, full_desk.window.shape.ledger
    desk.bench.look(step="lane-1")
    ledger.add(Trim())
    ids = [i.id for i in desk.session.mix.chain]
    behind = desk.session.view.step
    assert ids.index(behind) == ids.index("lane-1") + 1
    desk.bench.look(step="glue-2")
    ledger.add(Trim())
    inside = desk.session.view.step
    lane = desk.session.item("lane-1")
    assert isinstance(lane, Lane) and [s.id for s in lane.steps] == ["glue-2", inside]
    desk.window.setFocus()
    key(desk, KEYS.Key_Down, Qt.KeyboardModifier.ControlModifier)
    assert inside in [i.id for i in desk.session.mix.chain]
    key(desk, KEYS.Key_Up, Qt.KeyboardModifier.ControlModifier)
    lane = desk.session.item("lane-1")
    assert isinstance(lane, Lane) and [s.id for s in lane.steps] == ["glue-2", inside]
    desk.bench.look(step="lane-1")
    editor = desk.window.shape.editor
    next(a for a in editor.inside_menu.actions() if a.text() == "Limiter").trigger()
    lane = desk.session.item("lane-1")
    assert isinstance(lane, Lane) and isinstance(lane.steps[0], Limiter)


@pytest.mark.thorough
def test_a_moving_bands_threshold_is_found(full_desk: Desk) -> None:
    desk = full_desk
    desk.bench.look(step="eq-1", band=2)
    desk.settle()
    editor = desk.window.shape.editor
    assert isinstance(editor, EqEditor) and "% over it" in editor.levels.words
    desk.bench.edit("x", lambda s: s.with_step(s.step("eq-1").with_edit(2, ratio=6.0, range=12.0, aim=1.5)))
    desk.window.setFocus()
    key(desk, "t")
    desk.wait(lambda: desk.bench.document.undo_name == "Find threshold")
    desk.settle()
    around = desk.bench.picture.around
    assert around is not None
    render = desk.bench.picture.best
    assert render is not None
    processor = desk.session.step("eq-1").make(RATE)
    before = render.before("eq-1")
    assert before is not None
    moved = np.concatenate([processor.moved[2][place].copy() for _, place, _ in stream(processor, before.audio)])
    span = desk.bench.span
    assert span is not None
    part = moved[round((span.start - before.start) * RATE) : round((span.end - before.start) * RATE)]
    assert float(np.quantile(np.abs(part), 0.95)) == pytest.approx(1.5, abs=0.05)
    assert "sinks by 1.5 dB at peaks" in editor.words.text()


# --- finding, beginning ------------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_the_finder_finds_and_does(full_desk: Desk) -> None:
    desk = full_desk
    desk.window.setFocus()
    key(desk, "f")
    finder = QApplication.activePopupWidget()
    assert isinstance(finder, Finder)
    QTest.keyClicks(finder.field, "night")
    assert [row.text(0) for row in finder.rows()] == ["Night"] and "Enter" in finder.words.text()
    QTest.keyClicks(finder.field, "x")
    assert finder.rows() == [] and finder.words.text().startswith("Nothing here is called so")
    QTest.keyClick(finder.field, KEYS.Key_Backspace)
    finder.field.clear()
    QTest.keyClicks(finder.field, "loop")
    before = desk.session.view.loop
    QTest.keyClick(finder.field, KEYS.Key_Return)
    assert not finder.isVisible()
    desk.wait(lambda: desk.session.view.loop is not before)
    page = desk.window.menus.find(keys=True)
    rows = {row.text(0): row.text(1) for row in page.rows()}
    shown = [a for a in desk.window.actions() if a.isVisible() and a.shortcut().toString()]
    assert len(shown) > 60 and all(a.shortcut().toString() in rows.values() for a in shown)
    assert "zooms" in " ".join(rows) and page.height() < desk.window.height()
    page.close()


def test_what_is_typed_right_after_f_is_searched_for_and_does_nothing_else(desk: Desk) -> None:
    desk.window.activateWindow()
    assert QTest.qWaitForWindowActive(desk.window, 20_000)
    view, window = desk.session.view, desk.window.windowHandle()
    desk.window.shape.ledger.list.setFocus()
    for letter in "fnight m":  # as they come from a screen: to the window that has the keys, whatever it does with them
        QTest.keyClick(window, letter)
    finder = QApplication.activePopupWidget()
    assert isinstance(finder, Finder) and finder.field.text() == "night m"
    assert desk.session.view == view
    QTest.keyClick(window, KEYS.Key_Escape)
    assert QApplication.activePopupWidget() is None
    QTest.keyClick(window, "m")
    assert desk.session.view.level_matched is not view.level_matched


def found(desk: Desk, text: str, row: tuple[str, str]) -> None:
    """Type into the finder, as F opens it, choose a row by its place and its name, and do it."""
    desk.window.setFocus()
    key(desk, "f")
    finder = QApplication.activePopupWidget()
    assert isinstance(finder, Finder)
    QTest.keyClicks(finder.field, text)
    there = [((item.parent().text(0), item.text(0))) for item in finder.rows()]
    assert row in there, there
    items = finder.rows()
    way = there.index(row) - items.index(finder.tree.currentItem())
    for _ in range(abs(way)):
        QTest.keyClick(finder.field, KEYS.Key_Down if way > 0 else KEYS.Key_Up)
    current = finder.tree.currentItem()
    assert (current.parent().text(0), current.text(0)) == row
    QTest.keyClick(finder.field, KEYS.Key_Return)
    QApplication.processEvents()


@pytest.mark.thorough
def test_the_finder_goes_to_settings_sections_steps_presets_and_the_guide(full_desk: Desk) -> None:
    desk, names = full_desk, {s.name: s for s in settings_of(Glue).values()}
    desk.bench.look(step="trim-1")
    found(desk, "attack glue", ("Glue of Mix bus", names["attack"].label))
    desk.wait(lambda: desk.window.shape.editor.controls["attack"].hasFocus())
    assert desk.session.view.step == "glue-1"
    key(desk, "3")
    key(desk, KEYS.Key_Return)
    assert desk.session.step("glue-1").attack == 3.0
    found(desk, "dither", ("What is delivered", "Dither"))
    desk.wait(
        lambda: focus(desk) is not None and desk.window.deliver.panel.controls["dither"].isAncestorOf(focus(desk))
    )
    assert desk.session.view.page == "deliver"
    found(desk, "verse", ("Sections", "Verse"))
    desk.wait(lambda: desk.session.view.section == "section-1")
    assert desk.session.view.section == "section-1"
    found(desk, "limiter mix", ("Steps of Mix bus", "Limiter"))
    desk.wait(lambda: desk.session.view.step == "limiter-1")
    assert (desk.session.view.step, desk.session.view.page) == ("limiter-1", "shape")
    heard: list[str] = []

    def leave() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, PresetDialog) and dialog.chosen is not None
        heard.append(dialog.chosen[0].name)
        QTest.keyClick(dialog, KEYS.Key_Escape)

    when_shown(desk, leave)
    found(desk, "loud and open", ("Presets for the Limiter", "Loud and open"))
    desk.wait(lambda: bool(heard))
    assert heard == ["Loud and open"]
    found(desk, "resonance tamer", ("Guide", "Resonance tamer"))
    desk.wait(lambda: desk.window.findChild(GuideDialog) is not None)
    guide = desk.window.findChild(GuideDialog)
    assert isinstance(guide, GuideDialog)
    desk.wait(lambda: guide.isVisible() and not guide.pages.document().isEmpty())
    assert guide.pages.textCursor().block().text() == "Resonance tamer"
    guide.reject()


def test_the_empty_window_is_a_beginning(empty_desk: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    desk, window = empty_desk, empty_desk.window
    assert window.pages.currentWidget() is window.beginning
    assert not window.hear_row.isVisible() and not window.timeline.isVisible() and not window.header.play.isVisible()
    can = {p.name for p in window.menus.placed if p.action.isEnabled()}
    assert {"Open…", "New from a mix…", "Quit", "Keys"} <= can and not {"Play or stop", "Save", "Mute", "Trim"} & can
    soundfile.write(tmp_path / "Quay.wav", music(5.0) * 1.6, RATE, "PCM_16")
    monkeypatch.setattr(
        "gluvo.desk.window.asking.QFileDialog.getOpenFileName", lambda *_: (str(tmp_path / "Quay.wav"), "")
    )
    desk.bot.mouseClick(window.beginning.ways["mix"], LEFT)
    desk.wait(lambda: desk.bench.audio.material is not None)
    desk.settle()
    source = window.shape.editor
    assert window.pages.currentWidget() is window.shape and desk.session.view.step == ""
    assert "at −" in source.rows.values[2]
    assert "room" in source.hint.text()
    desk.bot.mouseClick(source.room, LEFT)
    assert isinstance(desk.session.mix.chain[0], Trim) and desk.session.mix.chain[0].gain < -5.0
    desk.wait(lambda: bool(copies_left(tmp_path / "Quay.gluvo", None)))  # it can be found again before it is saved
    assert desk.window.documents.save()
    assert not copies_left(tmp_path / "Quay.gluvo", None)
    (recent,) = window.documents.recent()
    assert recent.there and not recent.unsaved
    (tmp_path / "Quay.gluvo").unlink()
    window.beginning.refresh()
    words = [w.text() for w in window.beginning.findChildren(QLabel)]
    assert "not found" in words


# --- names -------------------------------------------------------------------------------------------------------------

NASTY = "<img src='/dev/zero'><b>&amp bold</b>\n\"x\" & y"


@pytest.mark.thorough
def test_names_are_shown_as_they_are_written(empty_desk: Desk, tmp_path: Path) -> None:
    session, path = small_session(tmp_path)
    session = session.replace(
        name=NASTY,
        strips=tuple(msgspec.structs.replace(s, name=NASTY) for s in session.strips),
        references=tuple(Reference(id=r.id, name=NASTY, media=r.media) for r in session.references),
        sections=tuple(Section(id=s.id, name=NASTY, start=s.start, end=s.end) for s in session.sections),
        deliverables=tuple(msgspec.structs.replace(d, name=NASTY) for d in session.deliverables),
    )
    write_session(path, session)
    desk = empty_desk
    desk.open(path)
    for page, step in (("buses", "glue-1"), ("shape", ""), ("shape", "glue-1"), ("deliver", "glue-1")):
        desk.bench.look(page=page, step=step)
        desk.bench.tell(f"About {NASTY}", True)
        QApplication.processEvents()
        for widget in desk.window.findChildren(QWidget):
            if isinstance(widget, QLabel) and "img" in widget.text():
                assert widget.textFormat() == Qt.TextFormat.PlainText, widget.text()
            tip = widget.toolTip()
            if "img src" in tip:
                assert "<img" not in tip, tip
                assert html.escape("<img") in tip or "-img" in tip, tip  # as file names have it
        desk.window.grab()
    for button in desk.window.hear_row.buttons.values():
        assert "& y" not in button.text() or "&& y" in button.text()


def test_questions_are_plain_text(empty_desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    seen = []

    def shown(box: object) -> int:
        seen.append((box.textFormat(), box.text()))  # type: ignore[attr-defined]
        return 0

    monkeypatch.undo()
    monkeypatch.setattr(QMessageBox, "exec", shown)
    answer = dialogs.ask(empty_desk.window, "T", NASTY, (("go", "Go", "do"), ("stay", "Cancel", "stay")))
    assert answer == "stay" and seen == [(Qt.TextFormat.PlainText, NASTY)]


# --- sizes -------------------------------------------------------------------------------------------------------------


def cut_off(window: QWidget) -> list[str]:
    """What can be used and cannot be reached: outside of the window without a way to scroll to it, or its words cut."""
    wrong = []
    for kind in (QPushButton, QComboBox, Toggle, Ruler):
        for widget in window.findChildren(kind):
            if not widget.isVisibleTo(window) or widget.width() == 0:
                continue
            name = getattr(widget, "text", lambda: "")() or widget.accessibleName()
            area = widget.parent()
            while area is not None and not isinstance(area, QScrollArea | QAbstractItemView):
                area = area.parent()
            if isinstance(area, QAbstractItemView):
                continue  # a table scrolls to it
            place = (
                widget.mapTo(area.widget(), QPoint(0, 0)) if area is not None else widget.mapTo(window, QPoint(0, 0))
            )
            room = area.widget().rect() if area is not None else window.rect()
            if not room.contains(place) or place.x() + widget.width() > room.width() + 1:
                wrong.append(f"{name!r} lies outside at {place}")
            if area is not None and area.widget().width() > area.viewport().width() + 1:
                wrong.append(f"{name!r} stands in a page wider than its room")
            if isinstance(widget, QPushButton | Toggle) and widget.width() < widget.sizeHint().width() - 1:
                wrong.append(f"{name!r} is cut: {widget.width()} of {widget.sizeHint().width()}")
            if isinstance(widget, Ruler) and widget.width() < 90:
                wrong.append(f"{name!r} has {widget.width()} pixels")
    return wrong


def overlapping(window: QWidget) -> list[str]:
    """Controls that lie over one another."""
    wrong = []
    widgets = [w for k in (QPushButton, QComboBox, Toggle, Ruler, Elided) for w in window.findChildren(k)]
    shown = [w for w in widgets if w.isVisibleTo(window) and w.width() and w.height()]
    for n, one in enumerate(shown):
        for other in shown[n + 1 :]:
            if one.parentWidget() is other.parentWidget() and one.geometry().intersects(other.geometry()):
                wrong.append(f"{one.accessibleName() or one!r} over {other.accessibleName() or other!r}")
    return wrong


@pytest.mark.thorough
def test_everything_is_usable_at_every_size(full_desk: Desk) -> None:
    desk, window = full_desk, full_desk.window
    views = [
        ("buses", "glue-1"),
        ("deliver", "glue-1"),
        ("watch", "glue-1"),
        ("shape", ""),
        *(("shape", i.id) for i in desk.session.items),
    ]
    for page, step in views:
        desk.bench.look(page=page, step=step, band=2)
        desk.settle()  # words and figures that come late must fit, too
        for size in ((1024, 700), (960, 540), (1120, 700), (1280, 800), (1600, 1000)):
            window.resize(*size)
            desk.wait(lambda size=size: (window.width(), window.height()) == size and not cut_off(window))
            assert not overlapping(window), (page, step, size)
            if step == "glue-1" and page == "shape":
                chart = window.shape.editor.hits
                assert chart.height() >= (180 if size[1] >= 800 else 90)


@pytest.mark.thorough
def test_the_timeline_is_stretched_and_its_waves_zoomed(full_desk: Desk) -> None:
    desk, timeline = full_desk, full_desk.window.timeline
    before = timeline.height()
    drag(desk, timeline, QPointF(400, before - 2), QPointF(0, 80))
    assert timeline.height() == before + 80
    desk.window.resize(1280, 900)
    QApplication.processEvents()
    assert timeline.height() == before + 80  # what was set by hand stays
    low = timeline._drawing
    shortcut(desk, "Ctrl+Alt++")
    assert timeline._drawing.waves_zoom == pytest.approx(1.5)
    assert abs(timeline._drawing._y(0.1) - timeline._drawing._y(0.0)) > 1.4 * abs(low._y(0.1) - low._y(0.0))
    for _ in range(30):
        shortcut(desk, "Ctrl+Alt+-")
    assert timeline._drawing.waves_zoom == 1.0


def test_saving_asks_about_a_file_that_has_changed(full_desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    desk = full_desk
    path = desk.bench.document.path
    desk.bench.set_setting("trim-1", "gain", -9.0, "Gain")
    theirs = read_session(path).session.replace(name="Theirs")
    write_session(path, theirs)
    asked = answering(monkeypatch, "stay")
    assert not desk.window.documents.save() and len(asked) == 1
    answering(monkeypatch, "copy")
    assert desk.window.documents.save()
    assert desk.bench.document.path != path and read_session(path).session == theirs
    copy = read_session(desk.bench.document.path).session.step("trim-1")
    assert isinstance(copy, Trim) and copy.gain == -9.0


@pytest.mark.thorough
def test_a_second_window_reads_only_and_takes_over(full_desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    desk = full_desk
    other = Window(Workbench("silent", LastingHost.running()))
    other.show()
    other.open_path(desk.bench.document.path)
    assert "another window" in other.notice.text.text() and other.notice.act.isVisible()
    before = other.bench.session
    other.bench.set_setting("trim-1", "gain", -9.0, "Gain")
    assert other.bench.session.strips == before.strips and "Take it over" in other.notice.text.text()
    other.bench.look(page="shape", step="glue-1")
    editor = other.shape.editor
    assert isinstance(editor, GlueEditor)
    for name, control in editor.controls.items():  # nothing shows what could not be done
        if isinstance(control, Toggle):
            desk.bot.mouseClick(control, LEFT)
            assert control.on is getattr(other.bench.session.step("glue-1"), name), name
    other.notice.dismiss()
    desk.bot.mouseClick(other.notice.act, LEFT)
    other.bench.set_setting("trim-1", "gain", -9.0, "Gain")
    assert other.bench.document.undo_name == "Trim gain" and other.documents.save()
    desk.window.bench.opening.check_ownership()
    assert "taken over" in desk.window.notice.text.text() and desk.bench.document.read_only
    desk.bench.set_setting("trim-1", "gain", -1.0, "Gain")
    answering(monkeypatch, "lose")
    other.close()
    kept = read_session(desk.bench.document.path).session.step("trim-1")
    assert isinstance(kept, Trim) and kept.gain == -9.0


@pytest.mark.thorough
def test_feed_back_says_what_its_times_come_to(full_desk: Desk) -> None:
    editor = full_desk.window.shape.editor
    assert isinstance(editor, GlueEditor)
    attack, release = editor.controls["attack"], editor.controls["release"]
    assert isinstance(attack, Ruler) and isinstance(release, Ruler) and attack._note == release._note == ""
    full_desk.bench.set_setting("glue-1", "feed_back", True, "feed-back")
    glue = full_desk.session.step("glue-1")
    assert isinstance(glue, Glue)
    assert attack._note == f"to {attack.setting.show(glue.attack * glue.ratio)}"
    assert release._note == f"to {release.setting.show(glue.release / glue.ratio)}"


@pytest.mark.thorough
def test_a_higher_peak_at_equal_loudness_is_said(full_desk: Desk) -> None:
    desk = full_desk
    desk.bench.edit("x", lambda s: s.with_step(Limiter(id="limiter-1", drive=12.0, ceiling=-12.0, true_peak=False)))
    desk.bench.look(step="limiter-1")
    desk.bench.set_setting("limiter-1", "hold_loudness", True, "Hold loudness")
    desk.settle()
    limiter = desk.session.step("limiter-1")
    assert isinstance(limiter, Limiter) and limiter.output != 0.0 and limiter.held_in == "section-2"
    render = desk.bench.picture.section_render
    assert render is not None
    before, after = render.before("limiter-1"), render.joint("limiter-1")
    assert before is not None and after is not None
    span = desk.bench.span
    assert after.figures(span).integrated == pytest.approx(before.figures(span).integrated, abs=0.1)
    desk.bench.edit(
        "x",
        lambda s: s.with_step(
            MidSideEq(
                id="eq-1",
                bands=(Band(id=1, freq=2500.0, gain=-20.0, q=0.3),),
                hold_loudness=True,
                held_in="section-2",
            )
        ),
    )
    desk.bench.look(step="eq-1")
    desk.settle()
    assert "true peak rises by" in desk.window.shape.editor.state.text()


@pytest.mark.thorough
def test_opening_what_is_open_saves_first(full_desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    desk = full_desk
    path = desk.bench.document.path
    desk.bench.set_setting("trim-1", "gain", -9.0, "Gain")
    answering(monkeypatch, "save")
    desk.window.open_path(path)
    assert not desk.bench.document.read_only
    shown = desk.session.step("trim-1")
    assert isinstance(shown, Trim) and shown.gain == -9.0 and desk.bench.document.undo_name == "Trim gain"
