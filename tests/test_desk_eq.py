"""The Mid-side EQ's editor in a real window: clicked, dragged, typed, hunted, by mouse and by keyboard."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QCursor, QKeyEvent, QWheelEvent
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit, QMenu

from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.theme import colours, theme
from gluvo.desk.editors.eq.band_table import FIELDS, WORDS
from gluvo.desk.editors.eq.editor import EqEditor
from gluvo.desk.editors.eq.lane import EqLane
from gluvo.session.store import read_session, write_session
from gluvo.steps import Band, MidSideEq

from .desk import LEFT, NONE, Desk, drag, move, shortcut, small_session


@pytest.fixture
def eq_desk(empty_desk: Desk, tmp_path: Path) -> Desk:
    """The small session with an equaliser of two bands, looked at."""
    session, path = small_session(tmp_path)
    eq = MidSideEq(
        bands=(
            Band(id=1, shape="low_cut", freq=30.0, slope=24, q=0.71),
            Band(id=2, target="mid", freq=400.0, gain=-3.0),
        )
    )
    session = session.with_new_step(eq, "mix", "trim-1").looking(step="midsideeq-1", band=2)
    write_session(path, session)
    empty_desk.open(path, measured=False)
    return empty_desk


def editor(desk: Desk) -> EqEditor:
    found = desk.window.shape.editor
    assert isinstance(found, EqEditor)
    return found


def eq(desk: Desk) -> MidSideEq:
    step = desk.session.step("midsideeq-1")
    assert isinstance(step, MidSideEq)
    return step


def chosen(desk: Desk) -> Band:
    band = eq(desk).band(desk.session.view.band)
    assert band is not None
    return band


def lane(desk: Desk, target: str) -> EqLane:
    found = editor(desk).lanes[target]
    assert found.isVisible()
    return found


def cell(name: str) -> int:
    return FIELDS.index(name)


# --- lanes -------------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_lanes_are_joined_until_a_band_is_of_mid_or_side(eq_desk: Desk) -> None:
    ed = editor(eq_desk)
    assert [t for t, la in ed.lanes.items() if la.isVisible()] == ["mid", "side"]
    assert not eq_desk.window.shape.target.isVisible()  # the lanes have its place
    eq_desk.bench.edit("x", lambda s: s.with_step(eq(eq_desk).with_edit(2, target="stereo")))
    assert [t for t, la in ed.lanes.items() if la.isVisible()] == ["stereo"]
    ed.lane_choice.button("left_right").click()
    assert [t for t, la in ed.lanes.items() if la.isVisible()] == ["left", "right"]
    eq_desk.bench.look(step="glue-1")
    assert eq_desk.window.shape.target.isVisible()


@pytest.mark.thorough
@pytest.mark.parametrize("night", [False, True])
def test_a_double_click_adds_a_bell_there(eq_desk: Desk, night: bool) -> None:
    theme.force(night)
    side = lane(eq_desk, "side")
    place = QPointF(side.x_at(2000.0), side.y_at(2.0))
    eq_desk.bot.mouseDClick(side, LEFT, pos=place.toPoint())
    band = chosen(eq_desk)
    assert len(eq(eq_desk).bands) == 3 and band.target == "side" and band.shape == "bell"
    assert band.freq == pytest.approx(2000.0, rel=0.02) and band.gain == pytest.approx(2.0, abs=0.3)
    table = editor(eq_desk).table
    assert table.rowCount() == 3 and table.currentRow() == 2
    eq_desk.settle()
    assert "adds" in table.item(2, WORDS).text()
    eq_desk.bench.document.undo()
    assert len(eq(eq_desk).bands) == 2


@pytest.mark.thorough
def test_dragging_a_mark_moves_frequency_and_gain_and_is_one_undo(eq_desk: Desk) -> None:
    mid = lane(eq_desk, "mid")
    before = eq(eq_desk)
    start = mid.mark_at(chosen(eq_desk))
    drag(eq_desk, mid, start, QPointF(60.0, -12.0))
    band = chosen(eq_desk)
    assert band.freq > 500.0 and band.gain > -2.6
    fine = mid.mark_at(band)
    drag(eq_desk, mid, fine, QPointF(60.0, 0.0), Qt.KeyboardModifier.ShiftModifier)
    assert band.freq < chosen(eq_desk).freq < band.freq * 1.1
    eq_desk.bench.document.undo()
    assert chosen(eq_desk) == band
    eq_desk.bench.document.undo()
    assert eq(eq_desk) == before


@pytest.mark.thorough
def test_pressing_a_mark_moves_nothing(eq_desk: Desk) -> None:
    """A mark that lies at the lane's edge must not jump when it is taken."""
    mid, before = lane(eq_desk, "mid"), eq(eq_desk)
    place = mid.mark_at(before.bands[0])
    eq_desk.bot.mouseClick(mid, LEFT, pos=(place + QPointF(5, 4)).toPoint())
    assert eq(eq_desk) == before and eq_desk.session.view.band == 1


@pytest.mark.thorough
def test_the_wheel_turns_q_and_a_double_click_on_a_mark_takes_the_gain_to_nothing(eq_desk: Desk) -> None:
    mid, q = lane(eq_desk, "mid"), chosen(eq_desk).q
    place = mid.mark_at(chosen(eq_desk))
    for notch, modifier in ((120, NONE), (120, Qt.KeyboardModifier.ShiftModifier)):
        QApplication.sendEvent(
            mid,
            QWheelEvent(
                place,
                QPointF(mid.mapToGlobal(place)),
                QPoint(),
                QPoint(0, notch),
                Qt.MouseButton.NoButton,
                modifier,
                Qt.ScrollPhase.NoScrollPhase,
                False,
            ),
        )
    assert q * 1.12 < chosen(eq_desk).q < q * 1.2
    eq_desk.bot.mouseDClick(mid, LEFT, pos=mid.mark_at(chosen(eq_desk)).toPoint())
    assert chosen(eq_desk).gain == 0.0


@pytest.mark.thorough
def test_the_menu_of_a_band_does_it_all(eq_desk: Desk) -> None:
    bands = editor(eq_desk).bands

    def press(name: str, inside: str = "") -> None:
        menu = bands.menu(editor(eq_desk), 2, "mid")
        if inside:
            (menu,) = (m for a in menu.actions() if a.text() == inside and isinstance(m := a.menu(), QMenu))
        next(a for a in menu.actions() if a.text().startswith(name)).trigger()

    press("high shelf", "Shape")
    assert chosen(eq_desk).shape == "high_shelf" and chosen(eq_desk).q == 0.71
    press("Duplicate")
    assert [b.target for b in eq(eq_desk).bands] == ["stereo", "mid", "side"] and chosen(eq_desk).twin == 2
    press("side", "Target")
    press("Switch off")
    assert [b.on for b in eq(eq_desk).bands] == [True, False, False]
    press("Unlink")
    press("Remove")
    assert len(eq(eq_desk).bands) == 2
    added = bands.menu(editor(eq_desk), 0, "left").actions()
    next(a for a in added if a.text() == "Add notch").trigger()
    assert chosen(eq_desk).shape == "notch" and chosen(eq_desk).target == "left"
    assert lane(eq_desk, "left") and lane(eq_desk, "right")


@pytest.mark.thorough
def test_twenty_four_bands_are_enough(eq_desk: Desk) -> None:
    told: list[str] = []
    eq_desk.bench.told.connect(lambda said: told.append(said.text))
    full = eq(eq_desk).replace(bands=tuple(Band(id=n + 1) for n in range(24)))
    eq_desk.bench.edit("x", lambda s: s.with_step(full))
    editor(eq_desk).add_here()
    assert len(eq(eq_desk).bands) == 24 and "24" in told[-1]


# --- the keyboard ------------------------------------------------------------------------------------------


def test_every_band_is_edited_from_the_lane_without_a_mouse(eq_desk: Desk) -> None:
    mid = lane(eq_desk, "mid")
    mid.setFocus()
    key = eq_desk.bot.keyClick
    key(mid, Qt.Key.Key_Right)
    assert chosen(eq_desk).freq == pytest.approx(400.0 * 2 ** (1 / 12), abs=0.1)
    key(mid, Qt.Key.Key_Up)
    key(mid, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    assert chosen(eq_desk).gain == pytest.approx(-2.4)
    key(mid, Qt.Key.Key_PageUp)
    assert chosen(eq_desk).q == pytest.approx(1.12)
    key(mid, Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier)
    assert chosen(eq_desk).id == 1
    key(mid, Qt.Key.Key_Insert)
    assert chosen(eq_desk).id == 3 and chosen(eq_desk).target == "mid"
    key(mid, Qt.Key.Key_Delete)
    assert len(eq(eq_desk).bands) == 2


def test_cells_are_typed_with_units_and_notes(eq_desk: Desk) -> None:
    table = editor(eq_desk).table
    table.setFocus()

    def typed(column: int, text: str) -> None:
        table.setCurrentCell(1, column)
        eq_desk.bot.keyClick(table, Qt.Key.Key_Return)
        (field,) = open_fields()
        field.setText(text)
        eq_desk.bot.keyClick(field, Qt.Key.Key_Return)
        eq_desk.wait(lambda: not open_fields())

    def open_fields() -> list[QLineEdit]:
        return [field for field in table.findChildren(QLineEdit) if field.isVisible()]

    typed(cell("freq"), "4.5k")
    assert chosen(eq_desk).freq == 4500.0
    typed(cell("freq"), "A2")
    assert chosen(eq_desk).freq == 110.0 and table.item(1, 4).text() == "A2"
    typed(cell("gain"), "−4,25 dB")
    assert chosen(eq_desk).gain == -4.25
    typed(cell("q"), "nonsense")
    assert chosen(eq_desk).q == 1.0
    typed(cell("gain"), "99")
    assert chosen(eq_desk).gain == 24.0


@pytest.mark.thorough
def test_words_are_chosen_and_values_nudged_in_the_table(eq_desk: Desk) -> None:
    table = editor(eq_desk).table
    table.setFocus()
    key = eq_desk.bot.keyClick
    table.setCurrentCell(1, cell("shape"))
    key(table, Qt.Key.Key_F2)
    box = table.findChild(QComboBox)
    assert box is not None
    box.hidePopup()
    box.setCurrentIndex(box.findData("low_shelf"))
    box.activated.emit(box.currentIndex())
    assert chosen(eq_desk).shape == "low_shelf"
    alt, fine = Qt.KeyboardModifier.AltModifier, Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.ShiftModifier
    for column, modifier, name, wanted in (
        ("gain", alt, "gain", -2.5),
        ("gain", fine, "gain", -2.4),
        ("q", alt, "q", 0.8),
        ("slope", alt, "slope", 18),
        ("target", alt, "target", "stereo"),
        ("dynamic", alt, "dynamic", True),
        ("on", alt, "on", False),
    ):
        table.setCurrentCell(1, cell(column))
        key(table, Qt.Key.Key_Up, modifier)
        assert getattr(chosen(eq_desk), name) == (pytest.approx(wanted) if isinstance(wanted, float) else wanted), (
            column
        )
    key(table, Qt.Key.Key_Up)  # without Alt the row changes
    assert chosen(eq_desk).id == 1
    key(table, Qt.Key.Key_Return)  # on the switch column
    assert not chosen(eq_desk).on
    digit = QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_2, NONE, "2")
    table.keyPressEvent(digit)
    assert not digit.isAccepted() and table.findChild(QLineEdit) is None  # digits stay with the Hear row


def test_rulers_show_and_change_the_chosen_band(eq_desk: Desk) -> None:
    ed = editor(eq_desk)
    assert ed.rulers["freq"].value == 400.0 and not ed.rulers["threshold"].isEnabled()
    gain = ed.rulers["gain"]
    gain.setFocus()
    eq_desk.bot.keyClick(gain, Qt.Key.Key_Home)
    assert chosen(eq_desk).gain == -24.0
    eq_desk.bot.keyClick(ed.dynamic, Qt.Key.Key_Return)
    assert chosen(eq_desk).dynamic and ed.rulers["threshold"].isEnabled()
    eq_desk.bench.look(band=1)
    assert not gain.isEnabled() and ed.choices["slope"].isEnabled() and not ed.dynamic.isEnabled()
    strength = ed.controls["strength"]
    assert isinstance(strength, Ruler)
    eq_desk.bot.keyClick(strength, Qt.Key.Key_End)
    assert eq(eq_desk).strength == 200.0


@pytest.mark.thorough
def test_the_menu_reaches_bands_from_anywhere(eq_desk: Desk) -> None:
    for keys, count, band in (
        ("Ctrl+Shift+B", 3, 3),
        (".", 3, 1),
        (",", 3, 3),
        (",", 3, 2),
        ("Ctrl+D", 4, 4),
        ("Ctrl+Shift+Backspace", 3, 3),
    ):
        shortcut(eq_desk, keys)
        assert (len(eq(eq_desk).bands), eq_desk.session.view.band) == (count, band), keys
    shortcut(eq_desk, "Shift+H")
    assert editor(eq_desk).hunt_row.isVisible()
    shortcut(eq_desk, "Shift+G")
    assert editor(eq_desk).phase_lane.isVisible()


# --- hearing and hunting -----------------------------------------------------------------------------------


def test_a_band_is_heard_alone_and_let_go_with_it(eq_desk: Desk) -> None:
    ed = editor(eq_desk)
    shortcut(eq_desk, "B")
    assert eq_desk.session.view.hear == "band" and ed.alone.isChecked()
    eq_desk.settle()
    assert "band" in eq_desk.bench.picture.gains
    assert not any(made.isChecked() for made in eq_desk.window.hear_row.buttons.values())  # it is none of these
    eq_desk.bench.look(band=1)
    assert eq_desk.session.view.hear == "band" and ed.alone.text() == "Hear what 1 takes"
    eq_desk.bench.look(band=0)
    assert eq_desk.session.view.hear == "result" and not ed.alone.isEnabled()
    assert eq_desk.window.hear_row.buttons["result"].isChecked()


def test_hunting_follows_the_pointer_and_leaves_a_cut(eq_desk: Desk) -> None:
    ed, mid, before = editor(eq_desk), lane(eq_desk, "mid"), eq_desk.session
    ed.hunt_button.click()
    assert ed.hunt_row.isVisible()
    start = QPointF(mid.x_at(1000.0), mid.area.center().y())
    eq_desk.bot.mousePress(mid, LEFT, pos=start.toPoint())
    move(mid, QPointF(mid.x_at(3000.0), start.y()))
    assert ed.hunt.place == ("mid", pytest.approx(3000.0, rel=0.02))
    hunted = eq_desk.bench.listening._hunted
    assert hunted is not None and len(hunted.step("midsideeq-1").bands) == 3
    assert eq_desk.session.strips == before.strips  # nothing of it is in the session
    eq_desk.bot.mouseRelease(mid, LEFT, pos=QPoint(round(mid.x_at(3000.0)), round(start.y())))
    band = chosen(eq_desk)
    assert band.freq == pytest.approx(3000.0, rel=0.02) and (band.gain, band.q, band.target) == (-3.0, 4.0, "mid")
    assert eq_desk.bench.listening._hunted is None and eq_desk.bench.document.undo_name == "Cut where the hunt ended"
    cut = ed.hunt_row.rulers.all["cut"]
    cut.setFocus()
    eq_desk.bot.keyClick(cut, Qt.Key.Key_Home)  # under 0 it is a boost
    eq_desk.bot.mousePress(mid, LEFT, pos=start.toPoint())
    eq_desk.bot.mouseRelease(mid, LEFT, pos=start.toPoint())
    assert chosen(eq_desk).gain == 12.0 and eq_desk.bench.document.undo_name == "Boost where the hunt ended"
    eq_desk.bench.adjust("hunting", cut=0.0)  # at 0 nothing stays
    eq_desk.bot.mousePress(mid, LEFT, pos=start.toPoint())
    eq_desk.bot.mouseRelease(mid, LEFT, pos=start.toPoint())
    assert len(eq(eq_desk).bands) == 4
    eq_desk.bot.keyClick(mid, Qt.Key.Key_Escape)
    assert not ed.hunt_row.isVisible() and not mid.hunting


def test_holding_h_hunts_with_the_arrow_keys(eq_desk: Desk) -> None:
    ed = editor(eq_desk)
    QCursor.setPos(eq_desk.window.mapToGlobal(QPoint(4, 4)))  # on no lane
    QApplication.processEvents()
    ed.table.setFocus()
    eq_desk.bot.keyPress(ed.table, Qt.Key.Key_H)
    assert ed.hunt.place == ("mid", 400.0)
    QApplication.sendEvent(ed.table, QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_H, NONE, "h", True))  # auto-repeat
    for _ in range(4):
        eq_desk.bot.keyClick(ed.table, Qt.Key.Key_Right)
    assert ed.hunt.place is not None and ed.hunt.place[1] == pytest.approx(400.0 * 2 ** (2 / 12), rel=1e-3)
    eq_desk.bot.keyRelease(ed.table, Qt.Key.Key_H)  # as some systems repeat a key that is held
    eq_desk.bot.keyPress(ed.table, Qt.Key.Key_H)
    assert ed.hunt.place is not None
    eq_desk.bot.keyRelease(ed.table, Qt.Key.Key_H)
    eq_desk.wait(lambda: ed.hunt.place is None)
    assert len(eq(eq_desk).bands) == 3 and chosen(eq_desk).freq == pytest.approx(449.0, abs=0.5)
    eq_desk.bot.keyPress(ed.table, Qt.Key.Key_H)
    eq_desk.bot.keyClick(ed.table, Qt.Key.Key_Escape)
    eq_desk.bot.keyRelease(ed.table, Qt.Key.Key_H)
    assert len(eq(eq_desk).bands) == 3 and eq_desk.bench.listening._hunted is None
    eq_desk.bench.look(step="glue-1")
    shortcut(eq_desk, "H")
    assert eq_desk.session.view.hear == "detector"  # there H is the detector's


@pytest.mark.thorough
def test_resonances_are_listed_heard_and_cut(eq_desk: Desk) -> None:
    ed = editor(eq_desk)
    eq_desk.settle()
    ed.ringing.click()
    assert ed.tables.currentWidget() is ed.resonances and ed.resonances.rowCount() > 0
    place = float(ed.resonances.item(0, 1).text())
    part = ed.resonances.item(0, 0).text()
    hear = ed.resonances.cellWidget(0, 7)
    eq_desk.bot.mouseClick(hear, LEFT)
    assert ed.hunt.place == (part, pytest.approx(place, abs=1.0))
    eq_desk.bot.mouseClick(ed.resonances.cellWidget(0, 7), LEFT)
    assert ed.hunt.place is None
    ed.resonances.setFocus()
    eq_desk.bot.keyClick(ed.resonances, Qt.Key.Key_Return)
    band = chosen(eq_desk)
    assert band.target == part and band.freq == pytest.approx(place, rel=0.01) and band.gain < 0.0
    shortcut(eq_desk, "R")
    assert ed.tables.currentWidget() is ed.table


# --- what it tells -----------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_low_cuts_tell_the_truth(eq_desk: Desk) -> None:
    ed = editor(eq_desk)
    eq_desk.bench.look(band=1)
    eq_desk.settle()
    around = eq_desk.bench.picture.around
    assert around is not None and 1 in around.low_cuts
    assert "of the whole song" in ed.words.text() and "over 1 dB goes" in ed.words.text()
    assert "Refrain" in ed.table.item(0, WORDS).text()
    assert ed.words.property("role") == "caption"
    eq_desk.bench.edit("x", lambda s: s.with_step(eq(eq_desk).with_edit(1, freq=160.0)))
    eq_desk.settle()
    assert ed.words.property("role") == "warning"  # it takes a note that is played


@pytest.mark.thorough
def test_phase_and_group_delay_are_drawn_when_asked(eq_desk: Desk) -> None:
    ed = editor(eq_desk)
    assert not ed.phase_lane.isVisible()
    ed.phase_choice.click()
    assert ed.phase_lane.isVisible() and "phase" in ed.phase_lane._words
    ed.phase_choice.click()
    (_, delays), *_ = ed.phase_lane._curves
    assert "group delay" in ed.phase_lane._words and delays.max() > 1.0  # ms, at the low cut
    eq_desk.bench.set_setting("midsideeq-1", "phase", "linear", "phase")
    assert "linear" in ed.phase_lane._words and np.abs(ed.phase_lane._curves[0][1]).max() == 0.0
    ed.phase_choice.click()
    assert not ed.phase_lane.isVisible()


@pytest.mark.thorough
def test_held_loudness_is_found_and_told(eq_desk: Desk) -> None:
    ed = editor(eq_desk)
    hold = ed.controls["hold_loudness"]
    eq_desk.bot.mouseClick(hold, LEFT, pos=QPoint(10, 10))
    eq_desk.bench.edit("x", lambda s: s.with_step(eq(eq_desk).with_edit(2, gain=-18.0, q=0.3)))
    eq_desk.settle()
    assert eq(eq_desk).output > 0.3 and "output +" in ed.state.text() and "held in" in ed.state.text()
    render = eq_desk.bench.picture.section_render
    assert render is not None
    before, after = render.before("midsideeq-1"), render.joint("midsideeq-1")
    assert before is not None and after is not None
    span = eq_desk.bench.span
    assert after.figures(span).integrated == pytest.approx(before.figures(span).integrated, abs=0.1)
    output = ed.controls["output"]
    assert isinstance(output, Ruler)
    output.setFocus()
    eq_desk.bot.keyClick(output, Qt.Key.Key_Delete)  # set by hand, it is no longer held
    assert eq(eq_desk).output == 0.0 and not eq(eq_desk).hold_loudness


def test_bands_are_saved_with_the_session(eq_desk: Desk) -> None:
    before = eq(eq_desk)
    assert eq_desk.window.documents.save()
    loaded = read_session(eq_desk.bench.document.path).session
    assert loaded.step("midsideeq-1") == before


@pytest.mark.thorough
def test_moving_bands_are_seen_moving(eq_desk: Desk) -> None:
    moving = Band(id=2, target="mid", freq=100.0, dynamic=True, threshold=-60.0, range=9.0, ratio=4.0)
    eq_desk.bench.edit("x", lambda s: s.with_step(eq(eq_desk).with_band(moving)))
    mid, side = lane(eq_desk, "mid"), lane(eq_desk, "side")
    eq_desk.bench.listening.toggle_play()
    eq_desk.wait(lambda: mid._moves.get(2, 0.0) < -3.0)
    mark = mid.mark_at(eq(eq_desk).band(2)).toPoint()

    def drawn() -> int:
        """Pixels in the colour of what is taken away, under the mark."""
        image = mid.grab().toImage()
        column = (image.pixelColor(mark.x(), y) for y in range(mark.y() + 10, image.height()))
        return sum(colour == colours()["reduction"] for colour in column)

    assert drawn() > 2
    mid.show_moves({})
    assert drawn() == 0
    eq_desk.bench.listening.toggle_play()
    eq_desk.wait(lambda: not mid._moves and not side._moves)


@pytest.mark.thorough
def test_the_hunting_bell_follows_from_lane_to_lane(eq_desk: Desk) -> None:
    ed = editor(eq_desk)
    ed.show_lanes("mid_side")
    QApplication.processEvents()
    mid, side = lane(eq_desk, "mid"), lane(eq_desk, "side")
    ed.hunt_button.click()
    start = QPoint(round(mid.x_at(1000.0)), round(mid.area.center().y()))
    eq_desk.bot.mousePress(mid, LEFT, pos=start)
    assert ed.hunt.place is not None and ed.hunt.place[0] == "mid"
    there = mid.mapFromGlobal(side.mapToGlobal(QPointF(side.x_at(3000.0), side.area.center().y())))
    move(mid, there)  # the pressed lane has the pointer, wherever it goes
    assert ed.hunt.place == ("side", pytest.approx(3000.0, rel=0.02))
    eq_desk.bot.mouseRelease(mid, LEFT, pos=there.toPoint())
    assert chosen(eq_desk).target == "side" and chosen(eq_desk).freq == pytest.approx(3000.0, rel=0.02)


@pytest.mark.thorough
def test_where_there_is_little_room_the_table_begins_folded(eq_desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(EqEditor, "table_shown", None)
    eq_desk.window.resize(1280, 800)
    eq_desk.bench.look(step="trim-1")
    eq_desk.bench.look(step="midsideeq-1")
    eq_desk.settle()
    shown = eq_desk.window.shape.editor
    assert isinstance(shown, EqEditor) and not shown.table.isVisible()
    lanes = [lane for lane in shown.lanes.values() if lane.isVisible()]
    wide = [lane.height() for lane in lanes]
    assert shown.words.isVisible()
    eq_desk.bot.mouseClick(shown.table_choice, LEFT)
    eq_desk.settle()
    assert shown.table.isVisible() and sum(lane.height() for lane in lanes) < sum(wide) - 60
    shown.toggle_resonances()
    eq_desk.bot.mouseClick(shown.table_choice, LEFT)
    assert shown.resonances.isVisible(), "what rings is there as long as it is asked for"
