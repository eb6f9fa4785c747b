"""Levels and steps by section, and parts of the song, in a real window: dragged, typed, pressed, and told."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit, QMenu

from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.pages.by_section_dialogs import LiftsDialog, WhereDialog
from gluvo.desk.window.timeline_drawing import BLOCK
from gluvo.measure.trace import Span
from gluvo.session import by_section
from gluvo.session.create import new_session
from gluvo.session.store import write_session
from gluvo.steps import Glue

from .conftest import RATE, music
from .desk import LEFT, Desk, drag, shortcut, when_shown

SHIFT = Qt.KeyboardModifier.ShiftModifier


def block(desk: Desk, section: str) -> QPointF:
    """A place on a section's block in the timeline."""
    line, found = desk.window.timeline, desk.session.section(section)
    assert found is not None
    return QPointF(line._x((found.start + found.end) / 2), BLOCK[0] + BLOCK[1] / 2)


def gain(desk: Desk, section: str, strip: str = "mix") -> float:
    found = desk.session.strip(strip)
    assert found is not None
    return by_section.gain_of(found, section)


def typed(ruler: Ruler, text: str) -> None:
    """Type a value into a ruler, from its first digit on, and take it."""
    ruler.setFocus()
    QTest.keyClicks(ruler, text[0])
    field = ruler.window().focusWidget()
    assert isinstance(field, QLineEdit)
    QTest.keyClicks(field, text[1:])
    QTest.keyClick(field, Qt.Key.Key_Return)


def dialog(desk: Desk, kind: type) -> LiftsDialog | WhereDialog:
    found: list[Any] = desk.window.findChildren(kind)
    return found[-1]


@pytest.mark.thorough
def test_a_sections_block_is_dragged_up_and_down(desk: Desk) -> None:
    desk.bench.choose_strip("mix")
    line = desk.window.timeline
    desk.bench.look(section="")
    drag(desk, line, block(desk, "section-2"), QPointF(0, -10))
    assert desk.session.mix.ride_before and "passes its ceiling" in desk.window.notice.text.text()
    desk.settle()
    assert desk.bench.picture.song_render.result.figures().true_peak <= -0.99
    desk.bench.document.undo()
    desk.bench.set_strip("mix", "chain", desk.session.mix.chain[:2], "chain")  # without the limiter
    desk.settle()
    before = desk.bench.picture.song_render.result.figures(Span(3.5, 7.0)).integrated
    drag(desk, line, block(desk, "section-2"), QPointF(0, -20))
    assert not desk.session.mix.ride_before
    assert gain(desk, "section-2") == 2.0 and desk.session.view.section == ""  # it was dragged, not chosen
    desk.settle()
    after = desk.bench.picture.song_render.result.figures(Span(3.5, 7.0)).integrated
    assert after - before == pytest.approx(2.0, abs=0.05)
    drag(desk, line, block(desk, "section-2"), QPointF(0, 10), SHIFT)
    assert gain(desk, "section-2") == pytest.approx(1.8)
    drag(desk, line, block(desk, "section-2"), QPointF(0, 1000))
    assert gain(desk, "section-2") == -24.0
    desk.bot.mouseClick(line, LEFT, pos=block(desk, "section-2").toPoint())
    assert desk.session.view.section == "section-2" and gain(desk, "section-2") == -24.0
    for wanted in (1.8, 2.0, 0.0):
        desk.bench.document.undo()
        assert gain(desk, "section-2") == pytest.approx(wanted)  # one gesture, one step


@pytest.mark.thorough
def test_lifts_by_keys_and_typed(desk: Desk) -> None:
    desk.bench.choose_strip(desk.session.stems[0].id)
    strip = desk.session.stems[0].id
    desk.bench.look(section="")
    shortcut(desk, "Ctrl+Shift+Up")
    assert "Choose a section" in desk.window.notice.text.text()
    desk.bench.look(section="section-1")
    for _ in range(3):
        shortcut(desk, "Ctrl+Shift+Up")
    shortcut(desk, "Ctrl+Shift+Down")
    assert gain(desk, "section-1", strip) == 1.0 and desk.session.mix.rides == ()
    desk.window.timeline.type_lift("section-1")
    field = QApplication.focusWidget()
    assert isinstance(field, QLineEdit) and field.text() == "+1.0 dB"
    QTest.keyClicks(field, "-2,5")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert gain(desk, "section-1", strip) == -2.5
    desk.window.timeline.type_lift("section-1")
    field = QApplication.focusWidget()
    assert isinstance(field, QLineEdit)
    QTest.keyClicks(field, "loud")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert gain(desk, "section-1", strip) == -2.5 and "no number" in desk.window.notice.text.text()
    shortcut(desk, "Shift+L")
    shown = dialog(desk, LiftsDialog)
    assert isinstance(shown, LiftsDialog)
    ruler = shown.rulers["section-2"]
    typed(ruler, "99")
    assert gain(desk, "section-2", strip) == 12.0
    shown.before.click()
    found = desk.session.strip(strip)
    assert found is not None and found.ride_before and "Refrain" in shown.words.text()
    desk.bench.choose_strip("mix")
    assert shown.rulers["section-2"].value == 0.0 and not shown.before.isChecked()  # it follows what is chosen
    shown.close()


@pytest.mark.thorough
def test_a_step_works_where_it_is_told_to(desk: Desk) -> None:
    desk.bench.look(step="glue-1", strip="mix", page="shape")
    shortcut(desk, "Ctrl+Alt+W")
    shown = dialog(desk, WhereDialog)
    assert isinstance(shown, WhereDialog)
    shown.toggles["section-2"].setFocus()
    QTest.keyClick(shown.toggles["section-2"], Qt.Key.Key_Return)
    item = desk.session.item("glue-1")
    assert item is not None and item.sections == ("section-2",)
    desk.settle()
    ledger = desk.window.shape.ledger
    assert ledger.row("glue-1").title == "Glue in Refrain"
    joint = desk.bench.picture.song_render.joint("glue-1")
    assert joint.reduced(Span(0.2, 2.5)).most == 0.0 < joint.reduced(Span(3.2, 7.0)).most
    typed(shown.ramp, "400")
    assert desk.session.item("glue-1").section_ramp == 400.0
    desk.bot.mouseClick(shown.everywhere, LEFT)
    assert desk.session.item("glue-1").sections == () and not shown.ramp.isEnabled()
    shown.close()


@pytest.mark.thorough
def test_another_setting_in_a_section_and_what_goes_with_the_section(desk: Desk) -> None:
    desk.bench.look(step="glue-1", strip="mix", section="")
    shortcut(desk, "Ctrl+Alt+K")
    assert "Choose a step and a section" in desk.window.notice.text.text() and len(desk.session.items) == 3
    desk.bench.look(section="section-2")
    shortcut(desk, "Ctrl+Alt+K")
    made = desk.session.view.step
    glue = desk.session.step(made)
    assert (
        made != "glue-1" and isinstance(glue, Glue) and glue.instead_of == "glue-1" and glue.sections == ("section-2",)
    )
    shortcut(desk, "Ctrl+Alt+K")
    assert "alone" in desk.window.notice.text.text() and len(desk.session.items) == 4
    desk.bench.set_setting(made, "ratio", 10.0, "ratio")
    shortcut(desk, "Ctrl+Shift+Up")
    desk.settle()
    render = desk.bench.picture.song_render
    assert render.joint("glue-1").reduced(Span(3.2, 7.0)).most == 0.0 < render.joint(made).reduced(Span(3.2, 7.0)).most
    shortcut(desk, "Ctrl+Shift+K")
    told = desk.window.notice.text.text()
    assert "+0.5 dB in Refrain" in told and "is off now" in told and not desk.session.item(made).on
    desk.bench.document.undo()
    assert desk.session.item(made).on and gain(desk, "section-2") == 0.5


@pytest.fixture
def stems(empty_desk: Desk, tmp_path: Path) -> Desk:
    """Three stems on the Deliver page."""
    paths = []
    for n, name in enumerate(("Lead vocal", "Guitar", "Bass")):
        paths.append(tmp_path / f"{name}.wav")
        soundfile.write(paths[-1], music(3.0, seed=n) * 0.3, RATE, "PCM_24")
    session = new_session(paths, [], tmp_path, "Three")
    chain = (Glue(id="glue-1", ratio=4.0, threshold=-30.0),)
    write_session(tmp_path / "Three.gluvo", session.with_chain("mix", chain).looking(page="deliver"))
    empty_desk.open(tmp_path / "Three.gluvo")
    empty_desk.window.deliver.use_folder(tmp_path / "out")
    return empty_desk


@pytest.mark.thorough
def test_the_usual_set_is_written_and_adds_up(stems: Desk, tmp_path: Path) -> None:
    page = stems.window.deliver
    button = next(b for b in page.findChildren(type(page.write)) if b.text() == "Usual set")
    stems.bot.mouseClick(button, LEFT)
    names = [d.name for d in stems.session.deliverables]
    assert names[-5:] == ["Instrumental", "A cappella", "Lead vocal", "Guitar", "Bass"]
    stems.bot.mouseClick(button, LEFT)
    assert "All of the usual set" in stems.window.notice.text.text()
    stems.bot.mouseClick(page.write, LEFT)
    stems.wait(lambda: page.delivery.said != "" and not stems.bench.background.busy)
    shown = {page.table.item(n, 0).text(): page.table.item(n, 6).text() for n in range(page.table.rowCount())}
    assert shown["Guitar"] == shown["A cappella"] == "adds up" and shown["Instrumental"] == "a part of the song"
    files = {d.name: soundfile.read(tmp_path / "out" / f"Three - {d.name}.wav")[0] for d in stems.session.deliverables}
    whole = files[names[0]]
    assert np.abs(files["Lead vocal"] + files["Guitar"] + files["Bass"] - whole).max() < 3 * 2**-23


@pytest.mark.thorough
def test_strips_are_chosen_for_a_row_and_what_is_left_out_is_told(stems: Desk) -> None:
    page, panel = stems.window.deliver, stems.window.deliver.panel
    page.add()
    assert not panel.strips.isVisible() and not panel.controls["through"].isVisible()
    page.delivery.change(page.table.current, "of", "only")
    assert panel.strips.isVisible() and panel.controls["through"].isVisible()
    page.write_rows([page.table.current])
    assert "Choose which" in stems.window.notice.text.text()

    def choose() -> None:
        menu = QApplication.activePopupWidget()
        assert isinstance(menu, QMenu) and len(menu.actions()) == 3
        menu.setActiveAction(menu.actions()[1])
        QTest.keyClick(menu, Qt.Key.Key_Space)
        QTest.keyClick(menu, Qt.Key.Key_Down)
        QTest.keyClick(menu, Qt.Key.Key_Return)
        assert menu.isVisible()  # several can be chosen
        QTest.keyClick(menu, Qt.Key.Key_Escape)

    when_shown(stems, choose)
    stems.bot.mouseClick(panel.strips, LEFT)
    row = stems.session.deliverables[-1]
    assert len(row.strips) == 2 and panel.strips.text() == "2 strips…"
    current = page.table.currentRow()
    assert page.table.item(current, 2).text().startswith("only ")
    assert not page.left_out.isVisible()
    strip = stems.session.stems[1]
    stems.bench.set_strip(strip.id, "mute", True, "mute")
    stems.bench.solo(stems.session.stems[0].id)
    assert f"in no file: {strip.name}" in page.left_out.text() and "Heard alone now" in page.left_out.text()
    assert page.left_out.isVisible()
    stems.bench.document.undo()
    stems.bench.solo(stems.session.stems[0].id)
    assert not page.left_out.isVisible()


@pytest.mark.thorough
def test_one_section_of_the_song_as_a_file(desk: Desk, tmp_path: Path) -> None:
    desk.bench.look(page="deliver")
    page, panel = desk.window.deliver, desk.window.deliver.panel
    page.use_folder(tmp_path / "out")
    page.add()
    page.delivery.change(page.table.current, "scope", "section")
    assert panel.section.isVisible() and panel.section.currentIndex() == 0
    panel.section.setFocus()
    QTest.keyClick(panel.section, Qt.Key.Key_Down)
    QTest.keyClick(panel.section, Qt.Key.Key_Down)
    panel.section.activated.emit(panel.section.currentIndex())
    assert desk.session.deliverables[-1].section == "section-2"
    page.write_rows([page.table.current])
    desk.wait(lambda: page.delivery.said != "" and not desk.bench.background.busy)
    (path,) = (tmp_path / "out").iterdir()
    assert "Refrain" in path.name and soundfile.info(path).frames == round(7.5 * RATE) - round(3.0 * RATE)


@pytest.mark.thorough
def test_the_ends_of_a_row_are_told_and_heard_before_it_is_written(desk: Desk) -> None:
    desk.bench.look(page="deliver", section="section-2", loop=True)
    page, panel = desk.window.deliver, desk.window.deliver.panel
    page.add()
    desk.settle()
    assert "cut at" in panel.ends.text()  # the song ends in the middle of sound
    page.delivery.change(page.table.current, "fade_out", 2.0)
    assert "cut at" not in panel.ends.text()
    desk.bot.mouseClick(panel.hear_end, LEFT)
    desk.wait(lambda: desk.session.view.hear == "row" and desk.bench.engine.playing)
    desk.wait(lambda: desk.bench.engine.position > 2.2)  # from six seconds before the end, not from the section
    assert desk.bench.listening.passing == Span(2.0, 8.0)
    page.delivery.change(page.table.current, "of", "only")
    assert panel.ends.text() == "" and desk.session.view.hear == "result"  # what was made is of what was before
    desk.bench.engine.stop()
