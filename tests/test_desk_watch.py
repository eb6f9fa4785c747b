"""The page of watch-outs, by keys: what is found is gone to, heard, compared, mended and dismissed."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from gluvo.desk.pages.tree_drawing import WARNED
from gluvo.desk.pages.watch import WatchPage
from gluvo.errors import GluvoError
from gluvo.opened.tasks import WRITING
from gluvo.session.create import new_session
from gluvo.session.store import read_session, write_session
from gluvo.steps import Glue, MidSideEq

from .conftest import RATE
from .desk import LEFT, Desk, key, shortcut
from .test_watchouts import clean, drums

KEYS = Qt.Key
RUMBLE = 0.05 * np.sin(2 * np.pi * 16.0 * np.arange(12 * RATE) / RATE)[:, None]


@pytest.fixture
def faulty(empty_desk: Desk, tmp_path: Path) -> Desk:
    """Two stems with three faults, and a Glue whose attack kills the punch of the drums."""
    soundfile.write(tmp_path / "Bass.wav", clean() * 0.5 + RUMBLE + 0.009, RATE, "PCM_24")
    soundfile.write(tmp_path / "Drums.wav", drums() * 0.4, RATE, "PCM_24")
    session = new_session([tmp_path / "Bass.wav", tmp_path / "Drums.wav"], [], tmp_path, "Song")
    drum = next(s for s in session.stems if s.name == "Drums")
    glue = Glue(id="glue-1", ratio=10.0, aim=9.0, hold_aim=True, attack=0.05, release=30.0)
    path = tmp_path / "Song.gluvo"
    write_session(path, session.with_chain(drum.id, (glue,)).looking(page="shape"))
    empty_desk.open(path)
    looked(empty_desk)
    return empty_desk


def looked(desk: Desk) -> None:
    """Until it has been looked for them."""
    desk.settle()
    desk.wait(lambda: desk.bench.watching_out.current and not desk.bench.background.busy)


def page(desk: Desk) -> WatchPage:
    return next(iter(desk.window.findChildren(WatchPage)))


def opened(desk: Desk) -> WatchPage:
    """The page, with a key, and its list with the focus."""
    shortcut(desk, "Ctrl+5")
    shown = page(desk)
    assert shown.isVisible()
    desk.wait(lambda: desk.window.focusWidget() is shown.table)
    return shown


def choose(desk: Desk, kind: str) -> WatchPage:
    """Choose the first of a kind with the arrow keys; all are listed if it is not among the first."""
    shown = page(desk)
    if kind not in {w.kind for w in shown._shown}:
        shown.more.click()
        shown.table.setFocus()
    key(desk, KEYS.Key_End)
    assert shown.table.currentRow() == shown.table.rowCount() - 1
    key(desk, KEYS.Key_Home)
    assert shown.table.currentRow() == 0
    for _ in range(shown.table.rowCount()):
        if shown.chosen is not None and shown.chosen.kind == kind:
            return shown
        key(desk, KEYS.Key_Down)
    pytest.fail(f"{kind} is not listed")


def kinds(desk: Desk) -> set[str]:
    return {w.kind for w in desk.bench.watching_out.told}


@pytest.mark.thorough
def test_they_are_counted_in_the_header_and_told_on_their_page(faulty: Desk) -> None:
    desk = faulty
    assert {"rumble", "dc", "attack"} <= kinds(desk)
    count = len(desk.bench.watching_out.told)
    assert desk.window.header.watch.text() == f"{count} watch-outs"
    desk.bot.mouseClick(desk.window.header.watch, LEFT)
    shown = page(desk)
    assert desk.session.view.page == "watch" and shown.isVisible() and shown.title.text() == f"{count} watch-outs"
    assert shown.table.rowCount() == min(5, count) and "kinds found nothing" in shown.state.text()
    rows = [w.audible for w in desk.bench.watching_out.told]
    assert rows == sorted(rows, reverse=True)
    shown.table.setFocus()
    choose(desk, "rumble")
    assert (
        "16 Hz" in shown.text.text() and "Low cut" in shown.offered.text() and shown.why.text().startswith("Found by:")
    )
    assert "dB from" in shown.picture.words and shown.picture.accessibleDescription() == shown.picture.words


@pytest.mark.thorough
def test_they_are_told_in_the_report_where_that_is_switched_on(faulty: Desk, tmp_path: Path) -> None:
    desk, shown = faulty, opened(faulty)
    delivery = desk.window.deliver.delivery
    assert delivery.reporting.material().watch_outs is None
    shown.reported.setFocus()
    key(desk, KEYS.Key_Return)
    assert desk.session.view.report_watch_outs and shown.reported.on
    assert delivery.reporting.material().watch_outs == desk.bench.watching_out.told
    dismissed = choose(desk, "dc").chosen
    shown.table.setFocus()
    key(desk, KEYS.Key_Delete)
    assert (
        dismissed not in (delivery.reporting.material().watch_outs or ()) and delivery.reporting.material().watch_outs
    )
    desk.bench.watching_out.current = False
    with pytest.raises(GluvoError, match="still being looked for"):
        delivery.reporting.material()


@pytest.mark.thorough
def test_enter_goes_there_and_h_hears_it(faulty: Desk) -> None:
    desk, shown = faulty, opened(faulty)
    choose(desk, "attack")
    key(desk, KEYS.Key_Return)
    assert desk.session.view.step == "glue-1" and desk.bench.listening.passing == shown.chosen.span
    desk.wait(lambda: desk.bench.engine.playing)
    key(desk, KEYS.Key_H)
    assert desk.session.view.hear == "change" and shown.hear_button.isChecked()
    key(desk, KEYS.Key_H)
    assert desk.session.view.hear == "result"
    choose(desk, "rumble")
    key(desk, KEYS.Key_H)
    assert desk.session.view.solo == (shown.chosen.strip,)
    key(desk, KEYS.Key_H)
    assert desk.session.view.solo == ()


@pytest.mark.thorough
def test_b_hears_the_edit_before_it_is_made_and_e_makes_it(faulty: Desk) -> None:
    desk, shown = faulty, opened(faulty)
    choose(desk, "rumble")
    before = desk.session.strips
    key(desk, KEYS.Key_B)
    desk.wait(lambda: desk.bench.listening.hunting)
    assert shown.compare_button.isChecked() and desk.session.strips == before
    key(desk, KEYS.Key_B)
    assert not desk.bench.listening.hunting and not shown.compare_button.isChecked()
    key(desk, KEYS.Key_B)
    desk.wait(lambda: desk.bench.listening.hunting)
    key(desk, KEYS.Key_E)
    assert not desk.bench.listening.hunting
    bass = next(s for s in desk.session.stems if s.name == "Bass")
    assert isinstance(bass.chain[0], MidSideEq) and desk.bench.document.undo_name.startswith("Low cut at 26 Hz on Bass")
    looked(desk)
    assert "rumble" not in kinds(desk) and {"dc", "attack"} <= kinds(desk)
    shortcut(desk, "Ctrl+Z")
    looked(desk)
    assert "rumble" in kinds(desk)


@pytest.mark.thorough
def test_the_offered_attack_keeps_the_punch(faulty: Desk) -> None:
    desk, _ = faulty, opened(faulty)
    choose(desk, "attack")
    key(desk, KEYS.Key_E)
    looked(desk)
    step = desk.session.step("glue-1")
    assert isinstance(step, Glue) and step.attack > 0.05 and "attack" not in kinds(desk)


@pytest.mark.thorough
def test_what_is_dismissed_is_kept_with_the_session_and_brought_back(faulty: Desk) -> None:
    desk, shown = faulty, opened(faulty)
    count = len(desk.bench.watching_out.told)
    choose(desk, "dc")
    key(desk, KEYS.Key_Delete)
    assert "dc" not in kinds(desk) and shown.gone.text() == "Dismissed 1"
    assert (
        desk.window.header.watch.text() == f"{count - 1} watch-outs"
        and desk.bench.document.undo_name == "Dismiss a watch-out"
    )
    shortcut(desk, "Ctrl+S")
    assert [d.kind for d in read_session(desk.bench.document.path).session.dismissed] == ["dc"]
    desk.bot.mouseClick(shown.gone, LEFT)
    assert shown.table.rowCount() == 1 and shown.dismiss_button.text() == "Bring back"
    shown.table.setFocus()
    key(desk, KEYS.Key_Delete)
    assert "dc" in kinds(desk) and shown.gone.isHidden()
    choose(desk, "rumble")
    key(desk, KEYS.Key_Delete, Qt.KeyboardModifier.ShiftModifier)
    assert "rumble" not in kinds(desk) and desk.session.dismissed[0].key == ""
    shortcut(desk, "Ctrl+Z")
    assert "rumble" in kinds(desk)


@pytest.mark.thorough
def test_a_strip_that_has_one_is_marked_on_the_buses_page(faulty: Desk) -> None:
    desk = faulty
    assert {desk.session.strip(id).name for id in desk.bench.watching_out.strips()} >= {"Bass", "Drums"}
    desk.bench.look(page="buses")
    with_marks = desk.window.buses.tree.grab().toImage()
    for one in desk.bench.watching_out.told:
        desk.bench.watching_out.dismiss(one)
    desk.settle()
    assert desk.window.buses.tree.grab().toImage() != with_marks and WARNED


@pytest.mark.thorough
def test_a_song_without_faults_says_so(desk: Desk) -> None:
    looked(desk)
    desk.bench.look(page="watch")
    told = desk.bench.watching_out.told
    for one in told:
        desk.bench.watching_out.dismiss(one)
    assert desk.window.header.watch.text() == "No watch-outs"
    shown = page(desk)
    assert shown.title.text() == "No watch-outs" and shown.chosen is None and not shown.make_button.isVisible()
    shown.table.setFocus()
    for pressed in (KEYS.Key_B, KEYS.Key_E, KEYS.Key_Delete, KEYS.Key_Return):
        QTest.keyClick(shown.table, pressed)  # nothing to do, and nothing done
    assert not desk.bench.listening.hunting


@pytest.mark.thorough
def test_a_threshold_that_was_found_is_watched_until_it_is_set_by_hand(desk: Desk) -> None:
    """T finds it; what comes into it gets louder; a ruler's arrow makes it the user's own."""
    desk.bench.look(step="glue-1")
    shortcut(desk, "T")
    desk.settle()
    desk.wait(lambda: desk.session.item("glue-1").threshold_for == 2.0)
    looked(desk)
    assert "drift" not in kinds(desk)
    desk.bench.set_setting("trim-1", "gain", 3.0, "Gain")
    looked(desk)
    assert "drift" in kinds(desk)
    told = next(w for w in desk.bench.watching_out.told if w.kind == "drift")
    assert told.step == "glue-1" and "was found for 2.0" in told.text
    desk.bench.look(page="shape", step="glue-1")
    ruler = desk.window.shape.editor.controls["threshold"]
    ruler.setFocus()
    key(desk, KEYS.Key_Right)
    looked(desk)
    assert desk.session.item("glue-1").threshold_for == 0.0 and "drift" not in kinds(desk)


@pytest.mark.thorough
def test_files_older_than_the_song_are_told_until_they_are_written_again(desk: Desk, tmp_path: Path) -> None:
    page = desk.window.deliver
    page.use_folder(tmp_path / "out")
    page.write_all()
    desk.wait(lambda: "measured" in page.status.text() and not desk.bench.background.busy)
    looked(desk)
    assert "stale" not in kinds(desk)
    desk.bench.set_setting("trim-1", "gain", -5.0, "Gain")
    looked(desk)
    told = [w.text for w in desk.bench.watching_out.told if w.kind == "stale"]
    assert told and "written before the song was changed" in told[0]
    page.write_all()
    desk.wait(lambda: not desk.bench.tasks.busy(WRITING) and not desk.bench.background.busy)
    desk.wait(lambda: "stale" not in kinds(desk))
