"""The Shape page in a real window: rulers, ledger, editors, target."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication, QWheelEvent
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit

from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.theme import DAY, NIGHT, contrast, theme
from gluvo.desk.controls.widgets import ChoiceRow
from gluvo.desk.editors.ceiling import CeilingEditor
from gluvo.desk.editors.glue import GlueEditor
from gluvo.desk.editors.source import SourceEditor
from gluvo.desk.editors.trim import TrimEditor
from gluvo.session import marks
from gluvo.steps import Glue, MidSideEq, Trim

from .desk import NONE, Desk, drag, shortcut


def ruler(desk: Desk, name: str) -> Ruler:
    editor = desk.window.shape.editor
    assert editor is not None and not isinstance(editor, SourceEditor)
    found = editor.controls[name]
    assert isinstance(found, Ruler)
    return found


def glue(desk: Desk) -> Glue:
    step = desk.session.step("glue-1")
    assert isinstance(step, Glue)
    return step


def slide(desk: Desk, widget: Ruler, by: int, held: Qt.KeyboardModifier = NONE) -> None:
    """Drag along a ruler."""
    drag(desk, widget, QPointF(widget.width() // 2, 32), QPointF(by, 0), held)


@pytest.mark.thorough
def test_dragging_the_threshold_moves_all_figures_and_is_one_undo(desk: Desk) -> None:
    before, row = desk.window.shape.target.integrated.text, desk.window.shape.ledger.row("glue-1")
    slide(desk, ruler(desk, "threshold"), -50)
    lower = glue(desk).threshold
    assert lower < -30
    desk.settle()
    assert desk.window.shape.target.integrated.text != before
    assert desk.window.shape.ledger.row("glue-1") != row
    assert desk.bench.document.undo_name == "Glue threshold"
    slide(desk, ruler(desk, "threshold"), 50, Qt.KeyboardModifier.ShiftModifier)
    assert lower < glue(desk).threshold < lower + 4
    desk.bench.document.undo()
    assert glue(desk).threshold == lower and ruler(desk, "threshold").value == lower
    desk.bench.document.undo()
    assert glue(desk).threshold == -26.0 and desk.bench.document.undo_name is None


@pytest.mark.thorough
def test_a_ruler_by_keyboard_wheel_and_typing(desk: Desk) -> None:
    r = ruler(desk, "attack")
    r.setFocus()
    start = glue(desk).attack
    desk.bot.keyClick(r, Qt.Key.Key_Right)
    assert glue(desk).attack > start
    desk.bot.keyClick(r, Qt.Key.Key_Delete)
    assert glue(desk).attack == r.setting.default
    desk.bot.keyClick(r, Qt.Key.Key_Return)
    field = r.findChild(QLineEdit)
    assert field is not None
    field.clear()
    desk.bot.keyClicks(field, "0,05 s")
    desk.bot.keyClick(field, Qt.Key.Key_Return)
    assert glue(desk).attack == 50.0
    desk.bot.keyClick(r, Qt.Key.Key_F2)
    field = [f for f in r.findChildren(QLineEdit) if f.isVisible()][-1]
    desk.bot.keyClicks(field, "9")
    desk.bot.keyClick(field, Qt.Key.Key_Escape)
    assert glue(desk).attack == 50.0
    wheel = QWheelEvent(
        QPointF(20, 30),
        QPointF(r.mapToGlobal(QPoint(20, 30))),
        QPoint(),
        QPoint(0, 120),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.ControlModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(r, wheel)
    assert glue(desk).attack > 50.0
    desk.bot.mouseDClick(r, Qt.MouseButton.LeftButton, pos=QPoint(60, 32))
    assert glue(desk).attack == r.setting.default


@pytest.mark.thorough
def test_find_threshold_and_hold(desk: Desk) -> None:
    editor = desk.window.shape.editor
    assert isinstance(editor, GlueEditor)
    desk.bench.set_setting("glue-1", "aim", 3.0, "Reduce by")
    desk.bot.mouseClick(editor.aim.find_button, Qt.MouseButton.LeftButton)
    desk.wait(lambda: desk.bench.document.undo_name == "Find threshold")
    desk.settle()
    song = desk.bench.picture.song_render
    assert song is not None
    assert song.joint("glue-1").reduced(desk.bench.span).peaks == pytest.approx(3.0, abs=0.05)
    hold = editor.controls["hold_aim"]
    desk.bot.mouseClick(hold, Qt.MouseButton.LeftButton)
    desk.settle()
    desk.bench.set_setting("glue-1", "low_cut", 200.0, "Low cut")
    found = glue(desk).threshold
    desk.settle()
    desk.wait(lambda: glue(desk).threshold != found)
    desk.settle()
    song = desk.bench.picture.song_render
    assert song is not None
    assert song.joint("glue-1").reduced(desk.bench.span).peaks == pytest.approx(3.0, abs=0.05)
    desk.bench.document.undo()  # the cut and the threshold that followed it are one action
    assert glue(desk).low_cut == 20.0 and glue(desk).threshold == pytest.approx(found, abs=0.01)
    desk.bench.set_setting("glue-1", "threshold", -20.0, "Threshold")
    assert not glue(desk).hold_aim and glue(desk).threshold == -20.0


@pytest.mark.thorough
def test_an_aim_says_by_keys_what_it_is_of(desk: Desk) -> None:
    editor = desk.window.shape.editor
    assert isinstance(editor, GlueEditor)
    choice = editor.controls["aim_by"]
    assert isinstance(choice, ChoiceRow)
    box = choice.findChild(QComboBox)
    assert box is not None and box.currentText() == "at peaks"
    box.setFocus()
    for n, (by, words) in enumerate((("most", "at most"), ("mean", "on average"))):
        desk.bot.keyClick(box, Qt.Key.Key_Down)
        assert glue(desk).aim_by == by and box.currentText() == words
        assert desk.bench.document.undo_name == "Glue aim at", n
        shortcut(desk, "T")
        desk.wait(lambda: desk.bench.document.undo_name == "Find threshold")
        desk.settle()
        song = desk.bench.picture.song_render
        assert song is not None
        reduced = song.joint("glue-1").reduced(desk.bench.span)
        assert reduced is not None and reduced.of(glue(desk).aim_by) == pytest.approx(2.0, abs=0.05)
        assert (
            reduced.words in editor.aim.words.text() and reduced.short in desk.window.shape.ledger.row("glue-1").words
        )
        assert editor.spread._by == by
        box.setFocus()


@pytest.mark.thorough
def test_a_fader_before_a_glue_tells_what_it_moved(desk: Desk) -> None:
    editor = desk.window.shape.editor
    assert isinstance(editor, GlueEditor)
    assert "since" not in editor.state.text()

    def move(by: float) -> float:
        """The fader moved; by how much it takes more at peaks."""
        song = desk.bench.picture.song_render
        assert song is not None
        before = song.joint("glue-1").reduced(desk.bench.span).peaks
        desk.bench.set_strip("stem-1", "fader", by, "Fader")
        desk.bench.settle()
        desk.settle()
        song = desk.bench.picture.song_render
        assert song is not None
        return float(song.joint("glue-1").reduced(desk.bench.span).peaks - before)

    more = move(4.0)
    assert more > 0.5
    assert f"+{more:.1f} dB of reduction at peaks since “{desk.session.stems[0].name} fader”" in editor.aim.words.text()
    desk.bench.set_setting("glue-1", "attack", 3.0, "Attack")  # its own settings tell nothing
    desk.settle()
    assert "since" not in editor.aim.words.text()
    desk.bench.set_setting("glue-1", "hold_aim", True, "Hold")
    desk.settle()
    held = glue(desk).threshold
    assert "since" not in editor.state.text()
    assert abs(move(-2.0)) < 0.05
    moved = glue(desk).threshold - held
    assert moved == pytest.approx(-6.0, abs=0.1)
    assert f"threshold −{-moved:.1f} dB since “{desk.session.stems[0].name} fader”" in editor.state.text()
    desk.bench.document.undo()
    desk.settle()
    assert "since “Harbour" not in editor.state.text()


@pytest.mark.thorough
def test_held_loudness_follows(desk: Desk) -> None:
    desk.bench.set_setting("glue-1", "hold_loudness", True, "Hold loudness")
    desk.bench.set_setting("glue-1", "ratio", 6.0, "Ratio")
    desk.settle()
    desk.wait(lambda: glue(desk).makeup > 0.1)
    desk.settle()
    song, span = desk.bench.picture.song_render, desk.bench.span
    assert song is not None
    before, after = song.before("glue-1"), song.joint("glue-1")
    assert after.figures(span).integrated == pytest.approx(before.figures(span).integrated, abs=0.1)


@pytest.mark.thorough
def test_reach_the_target(desk: Desk) -> None:
    target = desk.window.shape.target
    desk.bot.mouseClick(target.reach, Qt.MouseButton.LeftButton)
    desk.wait(lambda: "Cost" in target.cost.text())
    desk.settle()
    song = desk.bench.picture.song_render
    assert song is not None
    assert song.result.figures().integrated == pytest.approx(-14.0, abs=0.05)
    assert song.result.figures().true_peak <= -0.95
    assert target.integrated.text == "−14.0"
    target.choice.setCurrentIndex(2)
    target.choice.activated.emit(2)
    assert desk.session.target.name == "Broadcast" and "23.0" in target.reach.text()
    target.choice.activated.emit(4)
    target.own_loudness.type_value()
    field = target.own_loudness.findChild(QLineEdit)
    assert field is not None
    desk.bot.keyClicks(field, "-16.5")
    desk.bot.keyClick(field, Qt.Key.Key_Return)
    assert desk.session.target.name == "Own" and desk.session.target.loudness == -16.5


@pytest.mark.thorough
def test_the_ledger_adds_moves_switches_copies_and_removes(desk: Desk) -> None:
    ledger = desk.window.shape.ledger
    song = desk.bench.picture.song_render
    ledger.add(Trim())
    desk.settle()
    assert [s.id for s in desk.session.chain] == ["trim-1", "glue-1", "trim-2", "limiter-1"]
    assert desk.session.view.step == "trim-2" and isinstance(desk.window.shape.editor, TrimEditor)
    assert song is not None and desk.bench.picture.song_render is not None
    assert desk.bench.picture.song_render.result.figures() == song.result.figures()  # added neutral
    ledger.list.setFocus()
    desk.bot.keyClick(ledger.list, Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier)
    assert [s.id for s in desk.session.chain][1] == "trim-2"
    shortcut(desk, "Ctrl+B")
    assert not desk.session.step("trim-2").on
    assert ledger.row("trim-2")[1] == "off"
    dot = ledger.list.visualItemRect(ledger.list.item(2)).topLeft() + QPoint(26, 14)
    desk.bot.mouseClick(ledger.list.viewport(), Qt.MouseButton.LeftButton, pos=dot)
    assert desk.session.step("trim-2").on
    desk.bench.document.look(step="glue-1")
    ledger.copy()
    desk.bench.document.look(step="limiter-1")
    ledger.paste()
    pasted = desk.session.step(desk.session.view.step)
    assert isinstance(pasted, Glue) and pasted.id == "glue-2" and pasted.threshold == -26.0
    desk.bot.keyClick(ledger.list, Qt.Key.Key_Delete)
    assert desk.session.step("glue-2") is None
    QGuiApplication.clipboard().setText("no step at all")
    ledger.paste()
    assert "holds no step" in desk.window.notice.text.text()
    ledger.dropped(["limiter-1", "trim-1", "trim-2", "glue-1"])
    assert [s.id for s in desk.session.chain] == ["limiter-1", "trim-1", "trim-2", "glue-1"]


@pytest.mark.thorough
def test_every_step_and_the_source_have_an_editor_that_shows_something(desk: Desk) -> None:
    kinds = {"": SourceEditor, "trim-1": TrimEditor, "glue-1": GlueEditor, "limiter-1": CeilingEditor}
    seen = set()
    for step, kind in kinds.items():
        desk.bench.document.look(step=step)
        desk.settle()
        assert isinstance(desk.window.shape.editor, kind)
        image = desk.window.shape.grab().toImage()
        seen.add(hash(bytes(image.constBits())))
    assert len(seen) == len(kinds)
    desk.bench.document.look(step="")
    editor = desk.window.shape.editor
    assert isinstance(editor, SourceEditor)
    desk.bot.mouseClick(editor.room, Qt.MouseButton.LeftButton)
    desk.settle()
    trim = desk.session.chain[0]
    song = desk.bench.picture.song_render
    assert isinstance(trim, Trim) and song is not None
    assert song.joint(trim.id).figures().true_peak == pytest.approx(-6.0, abs=0.06)


@pytest.mark.thorough
def test_a_switch_and_a_choice_reach_the_sound(desk: Desk) -> None:
    editor = desk.window.shape.editor
    assert isinstance(editor, GlueEditor)
    editor.controls["mode"].chosen.emit("mid_side")
    editor.controls["low_cut_slope"].chosen.emit(24)
    desk.bot.mouseClick(editor.controls["limit"], Qt.MouseButton.LeftButton)
    assert (glue(desk).mode, glue(desk).low_cut_slope, glue(desk).limit) == ("mid_side", 24, True)
    desk.settle()
    assert "limit" in desk.session.step("glue-1").describe()


@pytest.mark.parametrize("colours", [DAY, NIGHT])
def test_text_can_be_read(colours: object) -> None:
    for text in ("ink", "faint", "signal", "mid", "side", "reduction", "reference", "over", "good"):
        for ground in ("paper", "sheet", "wash"):
            assert contrast(getattr(colours, text), getattr(colours, ground)) >= 4.5, (text, ground)


@pytest.mark.thorough
def test_the_theme_changes_while_open(desk: Desk) -> None:
    day = desk.window.grab().toImage().pixelColor(640, 500).lightness()
    theme.force(True)
    QApplication.processEvents()
    night = desk.window.grab().toImage().pixelColor(640, 500).lightness()
    theme.force(False)
    assert day > 200 and night < 60


@pytest.mark.thorough
def test_meters_stay_beside_every_editor_and_start_over(desk: Desk) -> None:
    page = desk.window.shape
    desk.bench.edit("Add", lambda s: s.with_new_step(MidSideEq(), "mix", "trim-1"))
    for step, strip in (("glue-1", page.target.meters), ("midsideeq-1", page.meters), ("", page.target.meters)):
        desk.bench.look(step=step)
        desk.settle()
        assert strip.isVisible() and page.target.meters.isVisible() is not page.meters.isVisible(), step
        told = [name for name, _, _ in strip.figures()]
        assert told[:6] == ["M", "S", "I", "RMS", "Corr.", "Held"] and ("Glue" in told) is (step == "glue-1")
    desk.bench.look(step="glue-1")
    desk.bench.listening.toggle_play()
    desk.wait(lambda: page.live.integrated > -60.0 and page.live.reductions.get("glue-1", 0.0) > 0.5)
    assert "LUFS" in page.target.meters.describe() and page.live.true_peak > 0.0
    desk.bench.listening.toggle_play()
    desk.wait(lambda: not desk.bench.engine.playing)
    desk.wait(lambda: not len(desk.bench.engine.read().seconds))  # what was played is taken
    desk.bot.mouseClick(page.target.meters, Qt.MouseButton.LeftButton)
    assert page.live.true_peak == 0.0 and "I –" in page.target.meters.describe()


@pytest.mark.thorough
def test_while_it_plays_the_hits_the_threshold_and_the_time_move(desk: Desk) -> None:
    editor = desk.window.shape.editor
    assert isinstance(editor, GlueEditor)
    threshold = editor.controls["threshold"]
    assert isinstance(threshold, Ruler) and threshold.live is None and not editor.hits.live
    desk.bench.listening.toggle_play()
    desk.wait(lambda: len(editor.hits.live) > 3 and threshold.live is not None)
    desk.wait(lambda: any(taken > 0.2 for _, taken in editor.hits.live))
    times = [ms for ms, _ in editor.hits.live]
    assert times == sorted(times) and times[-1] <= 430.0
    still = editor.hits.grab().toImage()
    desk.wait(lambda: editor.hits.grab().toImage() != still)
    desk.bench.listening.toggle_play()
    desk.wait(lambda: threshold.live is None and not editor.hits.live)


def test_strips_of_one_name_are_told_with_their_bus(desk: Desk) -> None:
    desk.bench.look(page="buses", strip="stem-1", step="")
    shortcut(desk, "Ctrl+J")
    bus = desk.session.view.strip
    desk.bench.edit("Twice", lambda s: marks.with_strip_again(s, bus)[0])
    chooser = desk.window.shape.ledger.chooser
    named = [chooser.itemText(n) for n in range(chooser.count())]
    assert len(set(named)) == len(named) and "Harbour Take in New bus" in named and "Harbour Take in New bus 2" in named
