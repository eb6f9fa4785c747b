"""What the window promises while work goes on: the README's first steps, Reach, notices, changing files, saving, closing."""

from __future__ import annotations

import threading
import time
from pathlib import Path
from types import SimpleNamespace

import msgspec
import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPoint, QPointF, QSize, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDialog, QFileDialog, QMenu

from gluvo.advise.loudness_target import WORTH, driven, reach_target
from gluvo.advise.source import with_room
from gluvo.compare.match import MOST_BOOST, RESULT
from gluvo.desk.controls import dialogs
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.theme import theme
from gluvo.desk.model.said import Said
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.target_panel import OWN
from gluvo.desk.pages.try_values_dialog import TryValuesDialog
from gluvo.desk.window import notices
from gluvo.desk.window.window import FRAME, Window
from gluvo.opened.tasks import WRITING
from gluvo.render.song import Renderer
from gluvo.session import files
from gluvo.session.media_places import with_media
from gluvo.session.records import Media, Target
from gluvo.session.store import read_session, write_session
from gluvo.steps import (
    Band,
    Clipper,
    DeEsser,
    Glue,
    Lane,
    Limiter,
    MidSideEq,
    Split,
    SplitBand,
    Step,
    Trim,
)

from .conftest import RATE, material, music, one
from .desk import LEFT, Desk, LastingHost, drag, focus, key, move, shortcut

KEYS = Qt.Key


# --- room, and what it does to what comes after ------------------------------------------------------------------------


@pytest.mark.parametrize("along", [True, False])
def test_room_is_exact_and_thresholds_move_along(along: bool) -> None:
    keyed = Glue(id="k", key="stem-1", threshold=-20.0, ratio=2.0)
    chain = (
        Glue(id="g", threshold=-18.0, ratio=2.0, lift_threshold=-40.0),
        MidSideEq(id="e", bands=(Band(id=1, dynamic=True, threshold=-30.0), Band(id=2, threshold=-30.0))),
        Lane(id="n", steps=(Glue(id="ng", threshold=-25.0),)),
        Split(
            id="s",
            bands=(
                SplitBand(id=1, steps=(Glue(id="sg", threshold=-22.0),)),
                SplitBand(id=2, key="stem-1", steps=(Glue(id="sk", threshold=-22.0),)),
            ),
            crossovers=(500.0,),
        ),
        keyed,
        DeEsser(id="d", threshold=-12.0),
        Limiter(id="l", ceiling=-1.0),
        Glue(id="after", threshold=-12.0),
    )
    x = music(3.0)
    renderer = Renderer(material(x))
    peak = renderer.joint(renderer.plan(one(chain)).untouched).figures().true_peak
    made = with_room(one(chain), "mix", peak, along)
    trim = made.mix.chain[0]
    assert isinstance(trim, Trim)
    out = renderer.joint(renderer.plan(made).after[trim.id]).figures().true_peak
    assert out == pytest.approx(-6.0, abs=0.005)
    moved = trim.gain if along else 0.0

    def threshold(id: str) -> float:
        return made.step(id).threshold

    for id, before in (("g", -18.0), ("ng", -25.0), ("sg", -22.0)):
        assert threshold(id) == pytest.approx(before + moved, abs=0.006), id
    for id, before in (("sk", -22.0), ("k", -20.0), ("d", -12.0), ("after", -12.0)):
        assert threshold(id) == before, id
    eq = made.step("e")
    assert isinstance(eq, MidSideEq)
    assert [b.threshold for b in eq.bands] == [pytest.approx(-30.0 + moved, abs=0.006), -30.0]
    again = with_room(made, "mix", peak, along)  # once more changes nothing
    assert again.mix.chain == made.mix.chain


@pytest.mark.thorough
def test_a_press_makes_room_without_starving_the_glue(desk: Desk) -> None:
    desk.bench.edit("x", lambda s: s.with_chain("mix", s.mix.chain[1:]))
    desk.bench.look(step="")
    desk.settle()
    song = desk.bench.picture.song_render
    assert song is not None
    before = song.joint("glue-1").mean_reduction(desk.bench.span)
    source = desk.window.shape.editor
    desk.bot.mouseClick(source.room, LEFT)
    desk.settle()
    song = desk.bench.picture.song_render
    assert song is not None
    assert song.joint("glue-1").mean_reduction(desk.bench.span) == pytest.approx(before, abs=0.1)
    shortcut(desk, "Ctrl+Z")
    assert [s.id for s in desk.session.mix.chain] == ["glue-1", "limiter-1"]


# --- Reach -------------------------------------------------------------------------------------------------------------


def brought(chain: tuple[Step, ...], target: Target, x: np.ndarray | None = None) -> tuple[float, float, bool, bool]:
    """Drive, loudness, and whether it was met or stopped for density."""
    renderer = Renderer(material(music(6.0) if x is None else x))
    session = one(chain).replace(target=target)
    found = reach_target(renderer, session)
    end = renderer.song(driven(session, found.step, found.drive, found.ceiling)).result
    assert end.figures().true_peak <= target.true_peak + 0.05
    return found.drive, found.loudness, found.met, found.dense


@pytest.mark.sampled(3)
@pytest.mark.parametrize(
    "target",
    [
        Target(name="t", loudness=-3.0, true_peak=-1.0),
        Target(name="t", loudness=-3.0, true_peak=-1.0, measure="short_term"),
        Target(name="t", loudness=-2.0, true_peak=-1.0, measure="rms"),
        Target(name="t", loudness=-2.0, true_peak=-1.0, measure="rms_whole"),
    ],
    ids=lambda t: t.measure,
)
@pytest.mark.parametrize("drive", [0.0, 24.0])
def test_reach_never_leaves_a_drive_that_only_makes_it_denser(target: Target, drive: float) -> None:
    chain = (Clipper(id="c", drive=3.0, ceiling=-1.0), Limiter(id="l", drive=drive, ceiling=-1.0))
    found, loudness, met, dense = brought(chain, target)
    assert not met and dense and found < 40.0
    renderer = Renderer(material(music(6.0)))
    session = one(chain).replace(target=target)

    def level(at: float) -> float:
        from gluvo.advise.loudness_target import level_of

        return level_of(renderer.song(driven(session, "l", at, -1.0)).result, target)

    assert level(found) - level(found - 1.0) >= WORTH - 0.01 and level(found) == pytest.approx(loudness, abs=0.01)
    assert level(found + 2.0) - level(found + 1.0) < WORTH + 0.02  # and not much before that either


@pytest.mark.parametrize(("measure", "loudness"), [("rms_whole", -18.0), ("rms", -16.0), ("short_term", -15.0)])
def test_each_measure_is_reached(measure: str, loudness: float) -> None:
    target = Target(name="t", loudness=loudness, true_peak=-1.0, measure=measure)
    _, found, met, _ = brought((Limiter(id="l", ceiling=-1.0),), target)
    assert met and found == pytest.approx(loudness, abs=0.05)


def test_a_trim_that_reach_made_is_taken_back_when_it_goes_loud_again() -> None:
    session = one((Limiter(id="l", drive=3.0, ceiling=-1.0),))
    soft = driven(session, "l", -7.0, -1.0)
    assert [type(s).__name__ for s in soft.mix.chain] == ["Trim", "Limiter"]
    loud = driven(soft, "l", 5.0, -1.0)
    assert [type(s).__name__ for s in loud.mix.chain] == ["Limiter"] and loud.mix.chain[0].drive == 5.0
    own = one((Trim(id="q", gain=-4.0), Limiter(id="l", ceiling=-1.0)))
    back = driven(driven(own, "l", -3.0, -1.0), "l", 6.0, -1.0)
    assert [getattr(s, "gain", None) for s in back.mix.chain] == [-4.0, None]  # the user's own part stays


@pytest.mark.thorough
def test_a_trim_set_by_hand_is_ones_own(desk: Desk) -> None:
    soft = driven(desk.session, "limiter-1", -7.0, -1.0)
    desk.bench.edit("Reach", lambda s: s.replace(strips=soft.strips))
    trim = desk.session.mix.chain[-2]
    desk.bench.set_setting(trim.id, "gain", -5.0, "Gain")
    assert desk.session.step(trim.id).by_reach == 0.0


@pytest.mark.thorough
def test_without_a_limiter_reach_offers_one(desk: Desk) -> None:
    desk.bench.edit("x", lambda s: s.with_chain("mix", s.mix.chain[:2]))
    shortcut(desk, "Ctrl+R")
    notice = desk.window.notice
    assert "no limiter" in notice.text.text() and notice.act.text() == "Add one and reach it"
    desk.bot.mouseClick(notice.act, LEFT)
    desk.wait(lambda: desk.bench.advice.reach is not None and not desk.bench.background.busy)
    assert isinstance(desk.session.mix.chain[-1], Limiter) and not notice.isVisible()
    assert desk.bench.advice.reach is not None and desk.bench.advice.reach[1].met


@pytest.mark.thorough
def test_reach_waits_for_what_is_held(desk: Desk) -> None:
    desk.bench.look(step="glue-1")
    desk.bench.set_setting("glue-1", "hold_aim", True, "Hold")
    desk.bench.set_setting("glue-1", "aim", 6.0, "Reduce by")
    shortcut(desk, "Ctrl+R")  # at once, while the threshold is still being found
    desk.wait(lambda: desk.bench.advice.reach is not None and not desk.bench.background.busy)
    desk.settle()
    song = desk.bench.picture.song_render
    assert song is not None
    assert song.result.figures().integrated == pytest.approx(desk.session.target.loudness, abs=0.06)


@pytest.mark.thorough
def test_hold_and_find_at_ratio_one_set_two_to_one(desk: Desk) -> None:
    for press in (lambda: desk.bench.set_setting("glue-1", "hold_aim", True, "Hold"), lambda: shortcut(desk, "T")):
        flat = msgspec.structs.replace(desk.session.step("glue-1"), ratio=1.0, hold_aim=False)
        desk.bench.edit("flat", lambda s, flat=flat: s.with_step(flat))
        desk.bench.look(step="glue-1")
        press()
        desk.wait(lambda: desk.session.step("glue-1").ratio == 2.0 and not desk.bench.background.busy)
        assert "2 : 1" in desk.window.notice.text.text()
        desk.window.notice.clear()
        shortcut(desk, "Ctrl+Z")
        assert desk.session.step("glue-1").ratio == 1.0  # one edit
        desk.settle()
    split = Split(id="split-1")
    desk.bench.edit("split", lambda s: s.with_chain("mix", (split, *s.mix.chain)))
    desk.bench.look(step="split-1", band=0)
    shortcut(desk, "T")
    assert "Choose a step in it" in desk.window.notice.text.text()


@pytest.mark.thorough
def test_own_has_a_measure_of_its_own_and_says_its_unit(desk: Desk) -> None:
    panel = desk.window.shape.target
    panel.choice.setCurrentIndex(panel.choice.findData(OWN))
    panel.choice.activated.emit(panel.choice.currentIndex())
    assert panel.own_measure.isVisible() and panel.own_loudness.setting.unit == "LUFS"
    panel.own_measure.chosen.emit("rms_whole")
    assert desk.session.target.measure == "rms_whole" and desk.session.target.note == ""
    assert panel.own_loudness.setting.unit == "dBFS" and panel.reach.text().endswith("dBFS")
    panel.choice.setCurrentIndex(0)
    panel.choice.activated.emit(0)
    assert desk.session.target.measure == "integrated" and panel.reach.text().endswith("LUFS")


# --- notices -----------------------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_notices_go_when_they_are_solved_and_move_nothing(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    notice, pages = desk.window.notice, desk.window.pages
    place = pages.geometry()
    desk.bench.refuse("That cannot be.")
    assert notice.isVisible() and pages.geometry() == place and notice.geometry().bottom() < pages.y()
    found = msgspec.structs.replace(desk.session.step("trim-1"), gain=-6.5)
    desk.bench.document.amend(lambda s: s.with_step(found))  # as what is held is found: still the same action
    assert notice.isVisible()
    desk.bench.set_setting("trim-1", "gain", -7.0, "Gain")  # the session is another one
    assert not notice.isVisible()
    there = [True]
    notice.take(Said("A file is missing.", solved=lambda: not there[0]))
    monkeypatch.setattr(notices, "READ_MS", 0)
    notice.tell("An older word.", True)
    notice.tell("A newer word.", True)
    assert notice.text.text() == "A newer word."
    notice.dismiss()
    assert notice.text.text() == "A file is missing."  # the older word was read; what is still so stays
    there[0] = False
    notice.look_again()
    assert not notice.isVisible()


def test_what_answers_nothing_waits_behind_what_does(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    notice, aside = desk.window.notice, Said("By the way.", trouble=False, aside=True)
    notice.take(aside)
    assert notice.text.text() == "By the way."
    notice.tell("It is louder by 0.5 LU.", False)
    assert notice.text.text() == "It is louder by 0.5 LU." and notice.close_button.text() == "Close (1 more)"
    notice.tell("It is saved.", False)
    assert notice.text.text() == "It is saved."
    notice.dismiss()
    assert notice.text.text() == "By the way."
    monkeypatch.setattr(notices, "READ_MS", 0)
    notice.tell("It is saved again.", False)
    notice.dismiss()
    assert not notice.isVisible()  # what was read does not come back
    notice.tell("It is louder.", False)
    notice.take(aside)
    assert notice.text.text() == "It is louder." and notice.close_button.text() == "Close (1 more)"
    notice.tell("That cannot be.", True)
    notice.dismiss()
    assert notice.text.text() == "By the way."


@pytest.mark.thorough
def test_what_is_deleted_while_it_is_heard_gives_the_result(desk: Desk) -> None:
    desk.bench.listening.hear("reference-1")
    desk.window.audio_files.remove_reference("reference-1")
    assert desk.session.view.hear == RESULT and desk.window.hear_row.buttons[RESULT].isChecked()
    desk.bench.versions.keep("Before", "")
    version = desk.session.versions[-1].id
    desk.bench.listening.hear(version)
    desk.wait(lambda: desk.session.view.hear == version)
    desk.bench.keep(lambda s: s.replace(versions=()))
    assert desk.session.view.hear == RESULT


@pytest.mark.thorough
def test_a_change_is_turned_up_by_no_more_than_it_says(desk: Desk) -> None:
    faint = msgspec.structs.replace(desk.session.step("glue-1"), threshold=-1.0, ratio=1.05)
    desk.bench.edit("faint", lambda s: s.with_step(faint))
    desk.settle()
    assert MOST_BOOST == 24.0 and desk.bench.picture.gains["change"] <= 24.0


# --- files under an open session ---------------------------------------------------------------------------------------


@pytest.mark.thorough
@pytest.mark.parametrize("what", ["again", "cut", "gone"])
@pytest.mark.parametrize("name", ["Harbour Take.wav", "Old Pier.wav"])
def test_a_file_that_changes_under_the_window_is_told(desk: Desk, what: str, name: str) -> None:
    path, notice = desk.bench.document.folder / name, desk.window.notice
    if what == "again":
        soundfile.write(path, music(6.0, seed=4), RATE, "PCM_24")
    elif what == "cut":
        with path.open("r+b") as file:
            file.truncate(path.stat().st_size // 2)
    else:
        path.unlink()
    desk.wait(lambda: notice.isVisible() and name in notice.text.text())
    assert notice.act.text() == ("Take as it is now" if what == "again" else "Use another file…")


@pytest.mark.thorough
def test_another_file_is_used_in_place_of_one(desk: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    other = tmp_path / "Harbour Take (print 2).wav"
    soundfile.write(other, music(8.0, seed=6), RATE, "PCM_24")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(other), ""))
    menu = desk.window.menus.menus["File"]
    inner = next(a.menu() for a in menu.actions() if a.text() == "Use another file")
    assert isinstance(inner, QMenu)
    inner.aboutToShow.emit()
    names = [a.text() for a in inner.actions()]
    assert names == ["Harbour Take", "Old Pier"]
    inner.actions()[0].trigger()
    desk.wait(lambda: desk.session.stems[0].media.path == other.name)
    desk.settle()


# --- saving and closing ------------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_the_title_says_at_once_what_is_saved(desk: Desk) -> None:
    assert desk.window.header._name.text().endswith("saved")
    desk.bench.set_setting("trim-1", "gain", -7.0, "Gain")
    assert "*" in desk.window.windowTitle() and desk.window.header._name.text().endswith("changed")
    shortcut(desk, "Ctrl+S")
    desk.wait(lambda: "*" not in desk.window.windowTitle())
    assert desk.window.header._name.text().endswith("· saved")


@pytest.mark.thorough
def test_what_is_found_after_saving_is_saved_too(desk: Desk) -> None:
    desk.bench.set_setting("glue-1", "hold_aim", True, "Hold")
    desk.bench.set_setting("glue-1", "aim", 5.0, "Reduce by")
    shortcut(desk, "Ctrl+S")
    desk.settle()
    desk.wait(lambda: not desk.bench.document.changed)
    found = desk.session.step("glue-1")
    assert isinstance(found, Glue) and found.threshold != -26.0
    assert read_session(desk.bench.document.path).session.step("glue-1") == found


@pytest.mark.thorough
def test_a_folder_that_hangs_stops_neither_the_window_nor_closing(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    hangs, real = threading.Event(), files._locked_part

    def slow(path: Path) -> tuple[int, str]:
        hangs.wait(60.0)
        return real(path)

    monkeypatch.setattr(files, "_locked_part", slow)
    desk.bench.set_setting("trim-1", "gain", -7.0, "Gain")
    turns: list[int] = []
    desk.window._timer.timeout.connect(lambda: turns.append(1))
    clock = SimpleNamespace(
        monotonic=lambda: float(len(turns)), sleep=time.sleep
    )  # time passes only while the window goes on
    monkeypatch.setattr("gluvo.desk.model.patience.time", clock)
    assert not desk.window.documents.save()
    assert "does not answer" in desk.window.notice.text.text() and desk.bench.document.changed
    assert len(turns) >= files.PATIENCE
    hangs.set()


@pytest.fixture
def writing(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> tuple[Desk, threading.Event, list[str]]:
    """Files are being written, until the event is set; what is asked is noted and answered by the list's first."""
    go_on, asked = threading.Event(), ["wait"]

    def job(check: object) -> None:
        while not go_on.wait(0.01):
            check(0.5)

    def ask(_parent: object, title: str, *_: object) -> str:
        asked.append(title)
        return asked[0] if title == "Files are being written" else "discard"

    monkeypatch.setattr(dialogs, "ask", ask)
    desk.bench.tasks.submit(WRITING, "Writing 1 file", job)
    desk.wait(lambda: desk.bench.tasks.busy(WRITING))
    return desk, go_on, asked


def test_closing_asks_about_files_that_are_written_and_waits(
    writing: tuple[Desk, threading.Event, list[str]],
) -> None:
    desk, go_on, asked = writing
    shortcut(desk, "Ctrl+Q")
    assert asked[-1] == "Files are being written" and desk.window.isVisible()
    assert "closes when the files are written" in desk.window.notice.text.text()
    go_on.set()
    desk.wait(lambda: not desk.window.isVisible())
    assert desk.window.all_ended


@pytest.mark.sampled(2)
@pytest.mark.parametrize("answer", ["stay", "stop"])
def test_closing_can_stop_what_is_written(writing: tuple[Desk, threading.Event, list[str]], answer: str) -> None:
    desk, go_on, asked = writing
    asked[0] = answer
    desk.window.close()
    assert desk.window.isVisible() is (answer == "stay")
    assert answer == "stay" or desk.window.all_ended
    go_on.set()


def test_a_signal_lets_the_writing_finish_and_a_second_does_not(
    writing: tuple[Desk, threading.Event, list[str]], monkeypatch: pytest.MonkeyPatch
) -> None:
    desk, go_on, asked = writing
    monkeypatch.setattr(QApplication, "quit", lambda: None)
    desk.window.end()
    assert desk.window.isVisible() and len(asked) == 1  # nobody is asked
    desk.window.end()
    assert not desk.window.isVisible()
    go_on.set()


@pytest.mark.thorough
def test_a_first_window_is_no_larger_than_the_screen(
    qapp: QApplication, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    from PySide6.QtCore import QSettings

    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(tmp_path))
    theme.force(False)
    for room in (QSize(1280, 800), QSize(1024, 700), QSize(2560, 1440)):
        screen = type("Screen", (), {"availableSize": lambda _self, room=room: room})()
        monkeypatch.setattr(Window, "screen", lambda _self, screen=screen: screen)
        window = Window(Workbench("silent", LastingHost.running()))
        size = window.size() + FRAME
        assert size.width() <= room.width() and size.height() <= room.height() and window.width() <= 1280
        window.bench.close()
        window._timer.stop()
        window.deleteLater()


# --- the README's first steps ------------------------------------------------------------------------------------------


@pytest.fixture
def first_steps(empty_desk: Desk, demo: Path, tmp_path: Path) -> Desk:
    """The demo as it opens, in a copy of its own."""
    loaded = read_session(demo).session
    folder = demo.parent

    def absolute(media: Media) -> Media:
        return msgspec.structs.replace(media, path=str(folder / media.path))

    path = tmp_path / "Ferry Hours.gluvo"
    write_session(path, with_media(loaded, absolute))
    empty_desk.window.open_path(path)
    empty_desk.wait(lambda: empty_desk.bench.audio.material is not None)
    empty_desk.bot.waitUntil(lambda: empty_desk.bench.picture.section_current, timeout=120_000)
    return empty_desk


def patient(desk: Desk, condition: object) -> None:
    desk.bot.waitUntil(condition, timeout=180_000)


@pytest.mark.thorough
@pytest.mark.timeout(600)
def test_the_first_steps_of_the_readme(first_steps: Desk, tmp_path: Path) -> None:
    desk = first_steps
    # 1: keys 1 to 6, and the level match
    desk.window.setFocus()
    for n, heard in enumerate(("result", "untouched", "step_out", "change", "reference-1", "reference-2"), start=1):
        key(desk, str(n))
        assert desk.session.view.hear == heard
    key(desk, "1")
    key(desk, "m")
    assert not desk.session.view.level_matched
    key(desk, "m")
    # 2: drag the threshold; the figures follow
    threshold = next(r for r in desk.window.findChildren(Ruler) if r.isVisible() and r.setting.name == "threshold")
    before = desk.session.step("glue-1").threshold
    drag(desk, threshold, QPointF(threshold.width() / 2, 32), QPointF(-12, 0))
    assert desk.session.step("glue-1").threshold < before
    patient(desk, lambda: desk.bench.picture.section_current)
    # 3: an aim, found and held while the attack changes
    desk.window.setFocus()
    key(desk, "t")
    patient(desk, lambda: desk.session.step("glue-1").threshold == pytest.approx(before, abs=0.1))
    hold = desk.window.shape.editor.controls["hold_aim"]
    desk.bot.mouseClick(hold, LEFT, pos=QPoint(10, 10))
    attack = next(r for r in desk.window.findChildren(Ruler) if r.isVisible() and r.setting.name == "attack")
    attack.setFocus()
    key(desk, KEYS.Key_PageDown)
    patient(desk, lambda: desk.session.step("glue-1").threshold != before and desk.bench.picture.section_current)
    render = desk.bench.picture.best
    assert render is not None
    assert render.joint("glue-1").reduced(desk.bench.span).peaks == pytest.approx(3.5, abs=0.05)
    # 4: to the target
    shortcut(desk, "Ctrl+R")
    patient(
        desk,
        lambda: (
            desk.bench.advice.reach is not None and desk.bench.picture.song_current and not desk.bench.background.busy
        ),
    )
    assert desk.bench.picture.song_render.result.figures().integrated == pytest.approx(-14.0, abs=0.06)
    assert "Cost:" in desk.window.shape.target.cost.text()
    # 5: a bell by double-click, a hunt by H and the pointer, the band alone
    desk.bench.look(step="eq-1", band=0)
    lane = next(v for v in desk.window.shape.editor.lanes.values() if v.isVisible())
    count = len(desk.session.step("eq-1").bands)
    desk.bot.mouseDClick(lane, LEFT, pos=QPoint(round(lane.x_at(700.0)), round(lane.area.center().y()) + 9))
    assert len(desk.session.step("eq-1").bands) == count + 1
    lane.setFocus()
    QTest.mouseMove(lane, QPoint(round(lane.x_at(1500.0)), 40))
    desk.bot.keyPress(lane, KEYS.Key_H)
    for x in (1600.0, 2000.0, 2500.0):
        QTest.mouseMove(lane, QPoint(round(lane.x_at(x)), 40))
        move(lane, QPointF(lane.x_at(x), 40), buttons=Qt.MouseButton.NoButton)
    desk.bot.keyRelease(lane, KEYS.Key_H)
    desk.wait(lambda: len(desk.session.step("eq-1").bands) == count + 2)
    shortcut(desk, "B")
    assert desk.session.view.hear == "band"
    shortcut(desk, "1")
    # 6: the buses
    shortcut(desk, "Ctrl+1")
    tree = desk.window.buses.tree
    desk.bot.mouseClick(tree, LEFT, pos=tree.place_of("kit"))
    kinds = [type(s).__name__ for s in desk.session.chain]
    assert desk.session.view.strip == "kit" and kinds == ["Glue", "Lane", "Outboard"]
    # 7: a De-esser on the voices, its threshold found
    desk.bot.mouseClick(tree, LEFT, pos=tree.place_of("voices"))
    shortcut(desk, "Ctrl+2")
    desk.window.shape.ledger.add(DeEsser())
    at_most = next(r for r in desk.window.findChildren(Ruler) if r.isVisible() and r.setting.name == "range")
    at_most.setFocus()
    key(desk, "6")
    key(desk, KEYS.Key_Return)
    assert isinstance(focus(desk), Ruler) and at_most.value == 6.0
    shortcut(desk, "T")
    patient(desk, lambda: desk.bench.document.undo_name == "Find threshold")
    # 8: what differs, a version, a trial
    shortcut(desk, "Ctrl+3")
    patient(desk, lambda: desk.window.compare.comparing.current)
    desk.bench.versions.keep("Before lunch", "")
    shortcut(desk, "Ctrl+T")
    trial = desk.window.compare.trial
    assert trial.isVisible() and {h.name for h in trial.chosen} == {"Result", "Before lunch"}
    # 9: two files
    shortcut(desk, "Ctrl+4")
    desk.window.deliver.use_folder(tmp_path / "out")
    assert desk.window.deliver.write.text() == "Write 2 rows"
    desk.bot.mouseClick(desk.window.deliver.write, LEFT)
    patient(desk, lambda: "measured" in desk.window.deliver.status.text())
    assert sorted(p.suffix for p in (tmp_path / "out").iterdir()) == [".flac", ".wav"]
    # 10: values side by side, an alternative, marks
    desk.bench.look(page="shape", strip="kit", step="glue-2")
    shortcut(desk, "V")
    shown = QApplication.activeModalWidget()
    assert isinstance(shown, TryValuesDialog) and shown.trying.setting.name == "attack"
    patient(desk, lambda: shown.trying.done and not shown.trying.why_not_blind())
    QTest.keyClick(shown.table, KEYS.Key_Right)
    QTest.keyClick(shown.table, KEYS.Key_H)
    assert shown.trying.sounding
    wanted = shown.trying.values[shown.trying.chosen]
    QTest.keyClick(shown.table, KEYS.Key_Return)
    assert desk.session.step("glue-2").attack == wanted
    shortcut(desk, "Ctrl+Alt+A")
    desk.bench.set_setting("glue-2", "ratio", 6.0, "Ratio")
    shortcut(desk, "A")
    assert desk.session.step("glue-2").ratio == 3.0
    shortcut(desk, "Ctrl+Space")
    shortcut(desk, "3")
    assert desk.session.view.hear == "step_out" and "Out · 1 step" in desk.window.hear_row.buttons["step_out"].text()
    # 14: what came back of the unit, notes, prints, an album
    shortcut(desk, "Ctrl+Shift+Space")  # what is marked would be switched
    desk.bench.look(step="outboard-1")
    shortcut(desk, "Ctrl+B")
    patient(desk, lambda: desk.session.step("outboard-1").on and desk.bench.picture.song_current)
    assert "the same flows in" in desk.window.shape.editor.rows.values
    shortcut(desk, "Ctrl+Alt+B")
    shortcut(desk, "Ctrl+I")
    shortcut(desk, "Ctrl+Alt+Q")
    assert {type(d).__name__ for d in desk.window.findChildren(QDialog) if d.isVisible()} >= {
        "NotesDialog",
        "PrintsDialog",
    }
    assert desk.window.album is not None and desk.window.album.isVisible()
    desk.window.album.close()


@pytest.mark.thorough
def test_a_new_song_is_offered_sections_that_can_be_undone(desk: Desk) -> None:
    loud = np.repeat([0.02, 0.2, 0.02, 0.3], 12 * RATE)[:, None] * np.random.default_rng(2).uniform(
        -1, 1, (48 * RATE, 2)
    )
    path = desk.bench.document.folder / "Long Take.wav"
    soundfile.write(path, loud, RATE, "PCM_16")
    desk.window.open_path(path)
    patient(desk, lambda: desk.session.name == "Long Take" and desk.bench.picture.untouched is not None)
    notice = desk.window.notice
    patient(desk, lambda: "no sections of its own yet" in notice.text.text())
    assert notice.act.text() == "Propose sections" and notice.act.isVisible()
    notice.act.click()
    names = [s.name for s in desk.session.sections]
    assert (
        names[-1] == "Loudest"
        and "Quiet 1" in names
        and [round(s.start) for s in desk.session.sections] == [0, 12, 24, 36]
    )
    desk.bench.document.undo()
    assert [s.name for s in desk.session.sections] == ["Loudest"]
    desk.window.sections.propose()
    desk.bench.look(section=desk.session.sections[1].id)
    desk.window.sections.propose()
    assert "Those that were there are gone (4)" in notice.text.text()
    assert desk.session.view.section == desk.session.sections[1].id  # one of the same name is still that one
