"""The editors of limiter and clipper: what is taken, where most, and an ear for it."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox

from gluvo.compare.hearables import nodes_of
from gluvo.compare.match import RESULT, TAKEN
from gluvo.desk.editors.ceiling import CeilingEditor
from gluvo.steps import Clipper, Limiter

from .desk import Desk, key


def editor(desk: Desk, step: str) -> CeilingEditor:
    desk.bench.look(step=step)
    desk.settle()
    found = desk.window.shape.editor
    assert isinstance(found, CeilingEditor)
    return found


def driven(desk: Desk, drive: float = 14.0) -> CeilingEditor:
    desk.bench.set_setting("limiter-1", "drive", drive, "Drive")
    return editor(desk, "limiter-1")


@pytest.mark.thorough
def test_enter_on_a_catch_seeks_and_loops_around_it(desk: Desk) -> None:
    shown = driven(desk)
    shown.chooser.button("catches").click()
    table = shown.catches
    table.setFocus()
    assert table.rowCount() >= 3
    QTest.keyClick(table, Qt.Key.Key_Down)
    QTest.keyClick(table, Qt.Key.Key_Return)
    place = desk.bench.picture.song_render.joint("limiter-1").hardest()[1].seconds
    looped = desk.bench.listening.passing
    assert looped is not None and looped.start < place < looped.end
    desk.wait(lambda: desk.bench.engine.playing and looped.start <= desk.bench.engine.position < looped.end)
    QTest.keyClick(table, Qt.Key.Key_Return)  # once more: it plays on
    assert desk.bench.listening.passing is None


@pytest.mark.thorough
def test_only_what_is_taken_can_be_heard(desk: Desk) -> None:
    shown = driven(desk)
    shown.ear.click()
    desk.settle()
    bench = desk.bench
    assert bench.session.view.hear == TAKEN
    assert desk.window.hear_row.apart.text() == "Taken off by Limiter"
    plan = bench.renderer.plan(bench.session)
    node = nodes_of(bench.session, plan)[TAKEN]
    taken = bench.renderer.joint(node).audio
    came, went = (bench.renderer.joint(n["limiter-1"]).audio for n in (plan.before, plan.after))
    assert np.abs(taken - (came * 10 ** (14.0 / 20) - went)).max() < 1e-5
    assert np.abs(taken).max() > 0.05
    shown.ear.click()
    assert bench.session.view.hear == RESULT
    shown.ear.click()
    bench.look(step="glue-1")
    assert bench.session.view.hear == TAKEN, "the Glue takes level away, too"
    bench.look(step="trim-1")
    assert bench.session.view.hear == RESULT


@pytest.mark.thorough
def test_words_tell_of_section_and_song(desk: Desk) -> None:
    shown = driven(desk, 24.0)
    assert "dB off at peaks" in shown.aim.words.text() and "works" in shown.words.text()
    assert "of the song over 1, 2, 3 dB" in shown.words.text()
    desk.bench.edit("Add", lambda s: s.with_new_step(Clipper(ceiling=-12.0, drive=12.0), "mix", "glue-1"))
    clipper = next(i.id for i in desk.bench.session.mix.chain if isinstance(i, Clipper))
    shown = editor(desk, clipper)
    assert "of the samples here" in shown.words.text()
    desk.bench.set_setting(clipper, "drive", 0.0, "Drive")
    desk.bench.set_setting(clipper, "ceiling", 0.0, "Ceiling")
    desk.settle()
    assert shown.words.text().startswith("Nothing is taken off")


@pytest.mark.thorough
def test_every_view_of_a_clipper_draws(desk: Desk) -> None:
    desk.bench.edit("Add", lambda s: s.with_new_step(Clipper(ceiling=-12.0, drive=12.0), "mix", "glue-1"))
    clipper = next(i.id for i in desk.bench.session.mix.chain if isinstance(i, Clipper))
    shown = editor(desk, clipper)
    seen = []
    for view in ("caught", "spread", "catches", "spectrum"):
        shown.chooser.button(view).click()
        seen.append(shown.grab().toImage())
    assert all(one != other for n, one in enumerate(seen) for other in seen[n + 1 :])


@pytest.mark.thorough
def test_a_drive_is_found_by_its_key_and_held(desk: Desk) -> None:
    shown = driven(desk, 3.0)
    desk.window.setFocus()
    key(desk, "t")
    desk.wait(lambda: desk.bench.document.undo_name == "Find drive")
    desk.settle()
    assert "2.0 at most" in shown.aim.words.text()
    box = shown.controls["aim_by"].findChild(QComboBox)
    box.setFocus()
    desk.bot.keyClick(box, Qt.Key.Key_Up)
    desk.settle()
    limiter = desk.session.step("limiter-1")
    assert isinstance(limiter, Limiter) and limiter.aim_by == "peaks"
    hold = shown.controls["hold_aim"]
    desk.bot.mouseClick(hold, Qt.MouseButton.LeftButton)
    desk.settle()
    assert "2.0 dB off at peaks" in shown.aim.words.text()
    desk.bench.edit("Quieter", lambda s: s.with_step(msgspec.structs.replace(s.step("trim-1"), gain=-3.0)))
    desk.settle()
    assert "2.0 dB off at peaks" in shown.aim.words.text() and "drive" in shown.state.text()
    desk.bench.advice.reach_target()
    desk.settle()
    reached = desk.session.step("limiter-1")
    assert isinstance(reached, Limiter) and not reached.hold_aim and reached.drive != limiter.drive
