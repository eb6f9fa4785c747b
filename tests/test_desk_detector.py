"""What the window shows and plays of a detector and of a curve."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt

from gluvo.desk.editors.glue import GlueEditor
from gluvo.desk.editors.saturation import SaturationEditor
from gluvo.session.create import new_session
from gluvo.session.records import Bus
from gluvo.session.store import write_session
from gluvo.steps import Glue, Saturation

from .conftest import RATE, sine
from .desk import LEFT, Desk, key, shortcut
from .test_detector import beats

KEY = Qt.Key


@pytest.fixture
def kit_desk(empty_desk: Desk, tmp_path: Path) -> Desk:
    """A kick and a snare on a bus whose Glue is chosen."""
    kick, snare = beats(50.0, 0.7), np.roll(beats(2500.0, 0.3, every=1.0), RATE // 4, axis=0)
    for name, x in (("Kick", kick), ("Snare", snare + sine(700.0, 6.0, -50.0))):
        soundfile.write(tmp_path / f"{name}.wav", x, RATE, "PCM_24")
    session = new_session([tmp_path / "Kick.wav", tmp_path / "Snare.wav"], [], tmp_path, "Kit")
    bus = next((s for s in session.strips if isinstance(s, Bus) and s.id != "mix"), session.mix)
    glue = Glue(id="glue-1", ratio=3.0, threshold=-30.0, attack=2.0)
    session = session.with_chain(bus.id, (glue,)).looking(page="shape", strip=bus.id, step="glue-1")
    path = tmp_path / "Kit.gluvo"
    write_session(path, session)
    empty_desk.open(path)
    return empty_desk


def editor_of(desk: Desk) -> GlueEditor:
    shown = desk.window.shape.editor
    assert isinstance(shown, GlueEditor)
    return shown


@pytest.mark.thorough
def test_whose_the_reduction_is_is_told_where_it_is_looked_at(kit_desk: Desk) -> None:
    desk, shown = kit_desk, editor_of(kit_desk)
    assert "driven by" not in shown.detector.words  # nothing is looked for that nobody looks at
    desk.bot.mouseClick(shown.chooser.button("detector"), LEFT)
    desk.wait(lambda: "driven by Kick" in shown.detector.words)
    assert "Kick" in shown.detector.accessibleDescription()
    shown.groups["The detector's tone"].set_folded(False)
    shown.controls["low_cut"].setFocus()
    key(desk, KEY.Key_End)
    shown.controls["low_cut_slope"].chosen.emit(48)
    desk.settle()
    desk.wait(lambda: "driven by Snare" in shown.detector.words)


@pytest.mark.thorough
def test_the_detectors_filters_are_seen_at_once(kit_desk: Desk) -> None:
    desk, shown = kit_desk, editor_of(kit_desk)
    desk.bot.mouseClick(shown.chooser.button("detector"), LEFT)
    shown.groups["The detector's tone"].set_folded(False)
    before = shown.detector.grab().toImage()
    for name in ("high_cut", "low_shelf_gain", "high_shelf_gain", "second_gain"):
        ruler = shown.controls[name]
        ruler.setFocus()
        key(desk, KEY.Key_Home)
        now = shown.detector.grab().toImage()
        assert now != before, name
        before = now
    step = desk.session.step("glue-1")
    assert isinstance(step, Glue) and (step.high_cut, step.low_shelf_gain, step.second_gain) == (500.0, -18.0, -18.0)


@pytest.mark.thorough
def test_hits_that_pass_a_detector_by_are_hollow(kit_desk: Desk) -> None:
    desk, shown = kit_desk, editor_of(kit_desk)
    desk.bot.mouseClick(shown.chooser.button("paths"), LEFT)
    noticed, of = (int(word) for word in shown.paths.words.split()[3:6:2])
    assert noticed == of > 4
    desk.bench.set_setting("glue-1", "low_cut", 500.0, "Low cut")
    desk.bench.set_setting("glue-1", "low_cut_slope", 48, "Slope")
    desk.settle()
    fewer, same = (int(word) for word in shown.paths.words.split()[3:6:2])
    assert same == of and fewer < noticed
    still = shown.paths.grab().toImage()
    desk.bench.listening.toggle_play()
    desk.wait(lambda: shown.paths.grab().toImage() != still)
    desk.bench.listening.toggle_play()


@pytest.mark.thorough
def test_folded_groups_are_lines_side_by_side(kit_desk: Desk) -> None:
    shown = editor_of(kit_desk)
    heads = [shown.groups[name].header for name in shown.rarely]
    assert len({head.mapTo(shown, head.rect().topLeft()).y() for head in heads}) == 1
    tone = shown.groups["The detector's tone"]
    tone.set_folded(True)
    assert not tone.isVisible()
    kit_desk.bot.mouseClick(tone.head, LEFT)
    assert tone.isVisible() and tone.title.isVisible() and not tone.is_folded
    kit_desk.bot.mouseClick(tone.head, LEFT)
    assert not tone.isVisible() and tone.is_folded


@pytest.mark.thorough
def test_what_bends_is_heard_and_told(desk: Desk) -> None:
    desk.bench.edit("Add", lambda s: s.with_new_step(Saturation(drive=12.0), "mix", "trim-1"))
    desk.bench.look(step="saturation-1")
    desk.settle()
    shown = desk.window.shape.editor
    assert isinstance(shown, SaturationEditor) and "of the time" in shown.curve.words
    share = float(shown.curve.words.removeprefix("bent ").split(" %")[0])
    shortcut(desk, "H")
    assert desk.session.view.hear == "detector" and shown.bent_alone.isChecked()
    assert desk.window.hear_row.apart.text() == "Bend of Saturation"
    shortcut(desk, "H")
    assert desk.session.view.hear == "result"
    shown.controls["drive"].setFocus()
    key(desk, KEY.Key_End)
    desk.settle()
    assert float(shown.curve.words.removeprefix("bent ").split(" %")[0]) > share
    shown.groups["Tone after it"].set_folded(False)
    shown.controls["after_high"].setFocus()
    key(desk, KEY.Key_Home)
    assert desk.session.step("saturation-1").after_high == -12.0
    desk.settle()
    loud = desk.bench.picture.song_render
    assert loud is not None and loud.joint("saturation-1") is not None
