"""Spectra, Saturation and Width in a real window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication, QMenu, QPushButton

from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.theme import colours, theme
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.image_view import spread
from gluvo.desk.editors.saturation import SaturationEditor
from gluvo.desk.editors.spectrum_panel import SpectrumPanel
from gluvo.desk.editors.width import WidthEditor
from gluvo.session.store import read_session, write_session
from gluvo.steps import STEP_KINDS, Saturation, Width

from .desk import LEFT, Desk, drag, move, small_session


@pytest.fixture
def tone_desk(empty_desk: Desk, tmp_path: Path) -> Desk:
    """The small session with a Saturation and a Width."""
    session, path = small_session(tmp_path)
    session = session.with_new_step(Saturation(drive=6.0), "mix", "trim-1")
    session = session.with_new_step(Width(bands=2, width_1=80.0, crossover_1=300.0), "mix", "saturation-1")
    write_session(path, session.looking(step="saturation-1"))
    empty_desk.open(path)
    return empty_desk


def panel(desk: Desk) -> SpectrumPanel:
    editor = desk.window.shape.editor
    assert isinstance(editor, StepEditor)
    editor.chooser.button("spectrum").click()
    QApplication.processEvents()
    assert editor.spectrum.isVisible()
    return editor.spectrum


def entries(menu: QMenu) -> list[str]:
    menu.aboutToShow.emit()
    return [a.text() for a in menu.actions() if a.text()]


def press(menu: QMenu, text: str) -> None:
    menu.aboutToShow.emit()
    next(a for a in menu.actions() if a.text().startswith(text)).trigger()


# --- spectra -----------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_every_step_has_a_spectrum(tone_desk: Desk) -> None:
    tone_desk.bench.look(step="trim-1")
    for kind in STEP_KINDS:
        tone_desk.window.shape.ledger.add(kind())
        step = tone_desk.session.view.step
        tone_desk.settle()
        view = panel(tone_desk).view
        assert view._before is not None and view._after is not None, step
        ink = view.grab().toImage()
        assert any(
            ink.pixelColor(x, y) == colours()["signal"] for x in range(60, 400, 3) for y in range(ink.height())
        ), step
        tone_desk.bench.document.undo()
        tone_desk.bench.look(step="trim-1")


@pytest.mark.thorough
def test_slope_smoothing_and_part_change_the_drawing(tone_desk: Desk) -> None:
    bar = panel(tone_desk)
    view, tone = bar.view, bar.view._after
    assert tone is not None
    flat = view.levels(tone)
    bar.slope.setFocus()
    tone_desk.bot.keyClick(bar.slope, Qt.Key.Key_End)
    steep = view.levels(tone)
    assert tone_desk.session.view.analyser.slope == 6.0
    octaves = np.log2(view.centres / 1000.0)
    assert np.abs(steep - flat - 3.0 * octaves).max() < 1e-9
    bar.fraction.chosen.emit(3)
    assert np.abs(np.diff(view.levels(tone))).max() < np.abs(np.diff(steep)).max()
    bar.part.chosen.emit("side")
    assert tone_desk.session.view.analyser.part == "side" and view._settings.part == "side"
    assert "side" in view._words()


@pytest.mark.thorough
def test_live_lines_follow_what_plays_and_hold_their_peaks(tone_desk: Desk) -> None:
    bar = panel(tone_desk)
    still = bar.view.grab().toImage()
    bar.live.toggled.emit(True)
    assert bar.view.grab().toImage() == still  # nothing plays: the average stays
    bar.hold.toggled.emit(True)
    tone_desk.bench.listening.toggle_play()
    tone_desk.wait(lambda: len(bar.view._live) == 3)
    first = bar.view._live
    tone_desk.wait(lambda: bar.view._live is not first)
    tone_desk.bench.listening.toggle_play()
    _, after, held = bar.view._live
    assert after.max() > -70.0 and (held >= after - 1e-6).all()
    bar.hold.toggled.emit(False)
    assert not tone_desk.session.view.analyser.hold


@pytest.mark.thorough
def test_a_spectrum_is_frozen_and_a_reference_compared_at_equal_loudness(tone_desk: Desk) -> None:
    bar = panel(tone_desk)
    assert entries(bar.freeze_menu)[1:] == ["Reference Old Pier"]
    press(bar.freeze_menu, "What goes out")
    frozen = tone_desk.bench.measurement.frozen
    assert frozen is not None and "Refrain" in frozen.name and bar.view._frozen is frozen
    press(bar.freeze_menu, "Reference Old Pier")
    tone_desk.wait(
        lambda: tone_desk.bench.measurement.frozen is not None and tone_desk.bench.measurement.frozen.name == "Old Pier"
    )
    tone_desk.bench.look(step="glue-1")  # it stays, whatever is looked at
    assert panel(tone_desk).view._frozen is tone_desk.bench.measurement.frozen
    press(panel(tone_desk).freeze_menu, "Let go")
    assert tone_desk.bench.measurement.frozen is None


@pytest.mark.thorough
def test_limits_are_drawn_kept_passed_and_undone(tone_desk: Desk) -> None:
    bar = panel(tone_desk)
    view = bar.view
    press(bar.limit_menu, "Draw")
    assert view.drawing
    start = QPointF(view.x_at(100.0), view.y_at(view.y_axis.low + 20.0))
    drag(tone_desk, view, start, QPointF(view.x_at(5000.0) - start.x(), 0.0))
    (limit,) = tone_desk.session.limits
    assert not view.drawing and limit.points[0][0] == pytest.approx(100.0, rel=0.05)
    assert limit.points[-1][0] == pytest.approx(5000.0, rel=0.05)
    slope = tone_desk.session.view.analyser.slope
    for freq, level in (limit.points[0], limit.points[-1]):  # drawn level on the sloped drawing
        assert level + slope * np.log2(freq / 1000.0) == pytest.approx(view.y_axis.low + 20.0, abs=0.6)
    ((passed, by, freq),) = view.over_limits()
    assert passed is limit and by > 3.0 and 100.0 <= freq <= 5000.0
    press(bar.limit_menu, "Line 3 dB over")
    assert [found[0].name for found in view.over_limits()] == ["Limit 1"]
    assert tone_desk.window.documents.save()
    assert len(read_session(tone_desk.bench.document.path).session.limits) == 2
    press(bar.limit_menu, "Remove Limit 1")
    assert view.over_limits() == []
    tone_desk.bench.document.undo()
    assert len(tone_desk.session.limits) == 2


@pytest.mark.thorough
def test_the_pointer_tells_note_and_levels(tone_desk: Desk) -> None:
    view = panel(tone_desk).view
    move(view, QPointF(view.x_at(440.0), view.area.center().y()), buttons=Qt.MouseButton.NoButton)
    text = view._at_pointer()
    assert "A4" in text and "in −" in text and "out −" in text


# --- saturation --------------------------------------------------------------------------------------------


def saturation(desk: Desk) -> tuple[SaturationEditor, Saturation]:
    editor, step = desk.window.shape.editor, desk.session.step("saturation-1")
    assert isinstance(editor, SaturationEditor) and isinstance(step, Saturation)
    return editor, step


@pytest.mark.thorough
@pytest.mark.parametrize("night", [False, True])
def test_the_test_tone_shows_its_harmonics(tone_desk: Desk, night: bool) -> None:
    theme.force(night)
    editor, _ = saturation(tone_desk)
    tone_desk.wait(lambda: editor.harmonics._found is not None)
    found = editor.harmonics._found
    assert found is not None and found.levels[1] > -60 > found.levels[0]  # soft is odd
    level = editor.tone_rulers.all["level"]
    level.setFocus()
    tone_desk.bot.keyClick(level, Qt.Key.Key_End)
    tone_desk.wait(lambda: editor.harmonics._found is not found)  # bent off the window's thread
    louder = editor.harmonics._found
    assert louder is not None and louder.thd > found.thd and tone_desk.session.view.tone.level == 0.0
    assert editor.curve._reach == 1.0
    tone_desk.bench.set_setting("saturation-1", "shape", "warm", "shape")
    tone_desk.wait(lambda: editor.harmonics._found is not louder)
    warm = editor.harmonics._found
    assert warm is not None and warm.levels[0] > -40


@pytest.mark.thorough
def test_what_is_new_on_the_music_is_measured(tone_desk: Desk) -> None:
    editor, _ = saturation(tone_desk)
    new = tone_desk.bench.picture.around.new
    assert set(new) == {"mid", "side"} and new["mid"].share > 1e-5 and "new sound at −" in editor.state.text()
    editor.chooser.button("added").click()
    image = editor.added.grab().toImage()
    assert any(image.pixelColor(x, y) == colours()["side"] for x in range(60, 400, 2) for y in range(image.height()))
    tone_desk.bench.set_setting("saturation-1", "mid", 0.0, "mid")
    tone_desk.settle()
    now = tone_desk.bench.picture.around.new
    assert now["mid"].share < 0.01 * new["mid"].share and now["side"].share > 0.0


@pytest.mark.thorough
def test_saturation_has_one_list_of_presets(tone_desk: Desk) -> None:
    editor, _ = saturation(tone_desk)
    assert [b.text() for b in editor.findChildren(QPushButton) if b.text().startswith("Preset")] == ["Presets…"]


@pytest.mark.thorough
def test_colour_is_judged_at_equal_loudness(tone_desk: Desk) -> None:
    drive = saturation(tone_desk)[0].controls["drive"]
    assert isinstance(drive, Ruler)
    drive.setFocus()
    tone_desk.bot.keyClick(drive, Qt.Key.Key_PageUp)
    tone_desk.settle()
    around = tone_desk.bench.picture.around
    assert around is not None and around.step == "saturation-1"
    assert saturation(tone_desk)[1].output != 0.0
    assert around.loudness[1] == pytest.approx(around.loudness[0], abs=0.1)


# --- width -------------------------------------------------------------------------------------------------


def width(desk: Desk) -> tuple[WidthEditor, Width]:
    desk.bench.look(step="width-1")
    desk.settle()
    editor, step = desk.window.shape.editor, desk.session.step("width-1")
    assert isinstance(editor, WidthEditor) and isinstance(step, Width)
    return editor, step


@pytest.mark.thorough
def test_the_image_is_dragged_wider_and_crossovers_are_moved(tone_desk: Desk) -> None:
    editor, step = width(tone_desk)
    image = editor.image
    start = QPointF(image.x_at(2000.0), image.y_at(0.4))
    drag(tone_desk, image, start, QPointF(0.0, -30.0))
    wider = tone_desk.session.step("width-1")
    assert isinstance(wider, Width) and wider.width_2 > 105.0 and wider.width_1 == step.width_1
    edge = QPointF(image.x_at(300.0), image.area.center().y())
    drag(tone_desk, image, edge, QPointF(40.0, 0.0))
    moved = tone_desk.session.step("width-1")
    assert isinstance(moved, Width) and moved.crossover_1 > 350.0 and moved.width_2 == wider.width_2
    tone_desk.bench.document.undo()
    assert tone_desk.session.step("width-1") == wider


@pytest.mark.thorough
def test_the_band_about_the_centre_line_is_as_wide_as_the_sound(tone_desk: Desk) -> None:
    editor, _ = width(tone_desk)
    assert editor.image._measured is not None
    before = spread(editor.image._measured.after.width)
    tone_desk.bench.set_setting("width-1", "width_2", 0.0, "width 2")
    tone_desk.settle()
    now = editor.image._measured.after
    highs = now.freqs > 1200.0
    assert spread(now.width)[highs].max() < 0.25 < spread(now.width)[~highs].max() + 0.25
    assert (now.correlation[highs] > 0.9).all() and before[highs].mean() > spread(now.width)[highs].mean()
    assert "mono loses" in editor.state.text() and "under 140 Hz" in editor.image._low_words()


@pytest.mark.thorough
def test_unused_bands_cannot_be_turned(tone_desk: Desk) -> None:
    editor, _ = width(tone_desk)
    controls = editor.controls
    assert controls["width_2"].isEnabled() and not controls["width_3"].isEnabled()
    assert controls["crossover_1"].isEnabled() and not controls["crossover_2"].isEnabled()
    tone_desk.bench.set_setting("width-1", "bands", 4, "bands")
    assert all(controls[f"width_{n}"].isEnabled() for n in (1, 2, 3, 4)) and controls["crossover_3"].isEnabled()


@pytest.mark.thorough
def test_left_against_right_follows_what_plays(tone_desk: Desk) -> None:
    editor, _ = width(tone_desk)
    editor.chooser.button("scatter").click()
    QApplication.processEvents()
    scatter = editor.scatter._scatter
    assert scatter is not None and scatter.density.sum(axis=0).argmax() == pytest.approx(80, abs=8)
    tone_desk.bench.look(section="section-1")
    tone_desk.settle()
    assert editor.scatter._scatter is not scatter  # each section has its own
    tone_desk.bot.mouseClick(tone_desk.window.header.play, LEFT)
    tone_desk.wait(lambda: editor.scatter._live is not None)
    tone_desk.bot.mouseClick(tone_desk.window.header.play, LEFT)
    tone_desk.wait(lambda: editor.scatter._live is None)
