"""Learning, by keys: listening practice, loudness bias, what a control is, the tour, and the sum of moves."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from gluvo.advise.moves import most_moved
from gluvo.advise.practice import EXERCISES, read_results
from gluvo.advise.practice import results as kept
from gluvo.compare.match import RESULT, UNTOUCHED
from gluvo.compare.trial import NO_DIFFERENCE, Running
from gluvo.desk.controls import dialogs
from gluvo.desk.pages import bias_dialog
from gluvo.desk.pages.compare.trial_dialog import TrialDialog
from gluvo.desk.pages.moves_dialog import MovesDialog
from gluvo.desk.pages.practice_dialog import PracticeDialog
from gluvo.desk.window.tour import STOPS
from gluvo.desk.window.what_is_this import Card
from gluvo.opened.explaining import PICTURES
from gluvo.steps import STEP_KINDS, Band, MidSideEq, Width, settings_of

from .desk import LEFT, Desk, key, shortcut

KEYS = Qt.Key


# --- practice --------------------------------------------------------------------------------------------------


@pytest.fixture
def practice(desk: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> PracticeDialog:
    monkeypatch.setattr(kept, "practice_file", lambda: tmp_path / "practice.json")
    shortcut(desk, "Ctrl+Alt+L")
    return next(d for d in desk.window.findChildren(PracticeDialog) if d.isVisible())


def asked(desk: Desk, dialog: PracticeDialog) -> None:
    desk.wait(lambda: dialog.practising.question is not None)


def answer(desk: Desk, dialog: PracticeDialog, right: bool) -> None:
    """Listen to both, and answer with the keys."""
    asked(desk, dialog)
    question = dialog.practising.question
    assert question is not None
    said = question.place if right else 3 - question.place
    for place in (3 - said, said):
        QTest.keyClick(dialog, KEYS.Key_1 if place == 1 else KEYS.Key_2)
    assert dialog.practising.heard == said
    QTest.keyClick(dialog, KEYS.Key_Return)


def test_a_round_is_practised_by_keys_alone(desk: Desk, practice: PracticeDialog, tmp_path: Path) -> None:
    before = desk.session
    QTest.keyClick(practice.table, KEYS.Key_Down)
    QTest.keyClick(practice.table, KEYS.Key_Up)
    QTest.keyClick(practice.table, KEYS.Key_Return)
    asked(desk, practice)
    first = practice.practising.stairs
    assert first is not None and desk.bench.engine is not None and desk.bench.engine.playing
    QTest.keyClick(practice, KEYS.Key_Return)
    assert "Listen to both" in practice.told.text() and not practice.practising.answers
    size = first.size
    answer(desk, practice, True)
    assert practice.told.text().startswith("Right: ") and "dB at" in practice.told.text()
    answer(desk, practice, True)
    asked(desk, practice)
    assert first.size < size, "two right answers make it harder"
    answer(desk, practice, False)
    asked(desk, practice)
    assert first.size == size and practice.told.text().startswith("No: ")
    QTest.keyClick(practice, KEYS.Key_0)
    assert practice.practising.heard == 0
    QTest.keyClick(practice, KEYS.Key_Return)
    assert len(practice.practising.answers) == 3, "as it is is no answer"
    QTest.keyClick(practice, KEYS.Key_Escape)
    assert practice.isVisible() and not practice.practising.running and not desk.bench.listening.hunting
    found = read_results(tmp_path / "practice.json").of("band")
    assert len(found) == 1 and [a.right for a in found[0].answers] == [True, True, False]
    assert practice.picture.isVisible() and "2 of 3 found" in practice.told.text()
    QTest.keyClick(practice, KEYS.Key_Escape)
    assert not practice.isVisible() and desk.session.strips == before.strips


@pytest.mark.thorough
@pytest.mark.parametrize("id", [e.id for e in EXERCISES])
def test_every_exercise_can_be_heard(desk: Desk, practice: PracticeDialog, id: str) -> None:
    ids = [e.id for e in EXERCISES]
    for _ in range(ids.index(id)):
        QTest.keyClick(practice.table, KEYS.Key_Down)
    QTest.keyClick(practice.table, KEYS.Key_Return)
    answer(desk, practice, True)
    assert practice.practising.exercise.id == id and practice.told.text().startswith("Right: ")
    QTest.keyClick(practice, KEYS.Key_Escape)
    QTest.keyClick(practice, KEYS.Key_Escape)
    assert not desk.bench.listening.blind and not desk.bench.listening.hunting


@pytest.mark.thorough
def test_results_that_cannot_be_read_are_told_and_left(
    desk: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "practice.json"
    path.write_bytes(b"{ broken")
    monkeypatch.setattr(kept, "practice_file", lambda: path)
    shortcut(desk, "Ctrl+Alt+L")
    dialog = next(d for d in desk.window.findChildren(PracticeDialog) if d.isVisible())
    assert "practice.json" in dialog.words.text() and "not kept" in dialog.words.text()
    QTest.keyClick(dialog.table, KEYS.Key_Return)
    answer(desk, dialog, True)
    QTest.keyClick(dialog, KEYS.Key_Escape)
    QTest.keyClick(dialog, KEYS.Key_Escape)
    assert path.read_bytes() == b"{ broken"


# --- loudness bias ---------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_the_bias_trial_plays_one_sound_a_decibel_apart(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    heard: list[float] = []
    told: list[str] = []

    def taken(trial: TrialDialog) -> int:
        """Prefers the louder one each time, by ear."""
        gains: dict[int, float] = {}
        while not trial.running.done:
            for place in (0, 1):
                QTest.keyClick(trial, KEYS.Key_1 if place == 0 else KEYS.Key_2)
                gains[place] = desk.bench.listening._hunted_gain or 0.0
            heard.append(abs(gains[0] - gains[1]))
            assert desk.bench.listening._hunted is desk.session
            QTest.keyClick(trial, KEYS.Key_1 if gains[0] > gains[1] else KEYS.Key_2)
            QTest.keyClick(trial, KEYS.Key_Return)
        return 1

    monkeypatch.setattr(TrialDialog, "exec", taken)
    monkeypatch.setattr(dialogs, "ask", lambda _p, _t, text, _c: told.append(text) or "close")
    next(p.action for p in desk.window.menus.placed if p.action.text() == "Loudness bias…").trigger()
    assert heard == [1.0] * bias_dialog.TRIES and "8 of 8 times" in told[0] and "Louder won" in told[0]
    assert not desk.bench.listening.hunting and not desk.session.trials


@pytest.mark.parametrize(
    ("answers", "says"),
    [([1, 0, 1, 0], "chance"), ([0] * 8, "softer one for the better"), ([NO_DIFFERENCE] * 8, "not led")],
)
def test_what_happened_is_told(answers: list[int], says: str) -> None:
    running = Running("ab", 2, 8)
    running.answers = answers
    assert says in bias_dialog.what_happened(running)


# --- what is this ----------------------------------------------------------------------------------------------


def card(desk: Desk) -> Card:
    found = desk.window.explainer.card
    assert found is not None and found.isVisible()
    return found


@pytest.mark.thorough
def test_a_control_with_the_focus_is_explained_with_this_songs_hits(desk: Desk) -> None:
    desk.window.shape.editor.controls["attack"].setFocus()
    key(desk, KEYS.Key_F1, Qt.KeyboardModifier.ShiftModifier)
    assert desk.window.explainer.waiting
    key(desk, KEYS.Key_Return)
    told = card(desk)
    assert told.texts[0] == "Attack · Glue" and any(t.startswith("When not: ") for t in told.texts)
    desk.wait(lambda: told.shown is not None)
    assert told.shown is not None and len(told.shown.evidence.more) == 5 and not desk.window.explainer.waiting
    QTest.mouseClick(told.close_button, LEFT)
    assert desk.window.explainer.card is None


@pytest.mark.thorough
def test_a_click_explains_and_does_nothing_else(desk: Desk) -> None:
    before = desk.session
    shortcut(desk, "Shift+F1")
    play = desk.window.header.play
    QTest.mouseClick(play, LEFT, pos=QPoint(5, 5))
    assert card(desk).texts and desk.session == before and not desk.bench.engine.playing
    card(desk).reject()


@pytest.mark.thorough
def test_escape_leaves_and_the_next_click_counts_again(desk: Desk) -> None:
    shortcut(desk, "Shift+F1")
    QTest.keyClick(desk.window, KEYS.Key_Escape)
    assert not desk.window.explainer.waiting and QApplication.overrideCursor() is None
    assert desk.window.explainer.card is None


@pytest.mark.parametrize(("kind", "name"), list(PICTURES))
def test_every_picture_is_of_a_setting_that_there_is(kind: str, name: str) -> None:
    found = next(k for k in STEP_KINDS if k.__struct_config__.tag == kind)
    assert name in settings_of(found) or name == "target"


# --- the tour --------------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_the_tour_goes_on_when_the_thing_was_done(desk: Desk) -> None:
    tour = desk.window.tour
    shortcut(desk, "Ctrl+Shift+F1")
    assert tour.on and tour.place == 0 and tour.pointer.isVisible()
    key(desk, KEYS.Key_2)
    desk.wait(lambda: tour.place == 1)
    assert desk.session.view.hear == UNTOUCHED
    desk.bench.look(step="glue-1")
    desk.window.shape.editor.controls["threshold"].setFocus()
    key(desk, KEYS.Key_Right)
    desk.wait(lambda: tour.place == 2)
    toggle = desk.window.shape.editor.controls["hold_aim"]
    toggle.setFocus()
    key(desk, KEYS.Key_Return)
    desk.wait(lambda: tour.place == 3)
    desk.settle()
    shortcut(desk, "Ctrl+R")
    desk.wait(lambda: tour.place == 4)
    tour.leave.click()
    assert not tour.on and not tour.pointer.isVisible()
    shortcut(desk, "Ctrl+Shift+F1")
    assert tour.on and tour.place == 4, "it is taken up where one left"
    for n in range(4, len(STOPS)):
        assert tour.place == n and tour.count.text() == f"{n + 1} of {len(STOPS)}"
        tour.next.click()
    assert not tour.on
    shortcut(desk, "Ctrl+Shift+F1")
    assert tour.place == 0, "from the beginning, after the end"


@pytest.mark.thorough
@pytest.mark.parametrize(("stop", "keys"), [(5, "Ctrl+1"), (6, "Ctrl+3"), (8, "Ctrl+5"), (9, "Ctrl+4")])
def test_pages_of_the_tour(desk: Desk, stop: int, keys: str) -> None:
    tour = desk.window.tour
    shortcut(desk, "Ctrl+Shift+F1")
    tour._go(stop)
    shortcut(desk, keys)
    desk.wait(lambda: tour.place == stop + 1)


@pytest.mark.thorough
def test_every_note_lies_inside_the_window_and_off_what_it_points_at(desk: Desk) -> None:
    tour = desk.window.tour
    desk.window.resize(940, 500)
    shortcut(desk, "Ctrl+Shift+F1")
    for n in range(len(STOPS)):
        tour._go(n)
        assert tour.parentWidget().rect().contains(tour.geometry())


# --- sum of moves ----------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_the_sum_of_moves_is_read_heard_and_left_by_keys(desk: Desk) -> None:
    eq = MidSideEq(id="eq-1", bands=(Band(id=1, shape="high_shelf", freq=3000.0, gain=6.0, q=0.71),))
    chain = desk.session.mix.chain
    desk.bench.edit("Add", lambda s: s.with_chain("mix", (*chain[:2], eq, Width(id="w-1"), *chain[2:])))
    desk.settle()
    shortcut(desk, "Ctrl+Alt+M")
    dialog = next(d for d in desk.window.findChildren(MovesDialog) if d.isVisible())
    desk.wait(lambda: bool(dialog.summing.stages))
    stages = dialog.summing.stages
    assert [s.name for s in stages] == ["In", "Trim", "Glue", "Mid-side EQ", "Width", "Limiter"]
    assert stages[1].figures.integrated == pytest.approx(stages[0].figures.integrated - 6.0, abs=0.05)
    assert abs(stages[1].tone).max() < 0.01 and stages[3].moved[-3:].min() > 1.5
    most = most_moved(stages)
    assert most is not None and most.name == "Mid-side EQ" and "Mid-side EQ" in dialog.words.text()
    assert stages[3].most_turned is not None and stages[3].most_turned > 5.0 > (stages[1].most_turned or 0.0)
    assert stages[-1].late > 0.0
    QTest.keyClick(dialog.chart, KEYS.Key_Home)
    QTest.keyClick(dialog.chart, KEYS.Key_H)
    desk.wait(lambda: desk.bench.listening.hunting)
    assert not any(i.on for i in desk.bench.listening._hunted.mix.chain)
    QTest.keyClick(dialog.chart, KEYS.Key_Right)
    QTest.keyClick(dialog.chart, KEYS.Key_Right)
    QTest.keyClick(dialog.chart, KEYS.Key_Right)
    desk.wait(lambda: [i.on for i in desk.bench.listening._hunted.mix.chain] == [True, True, True, False, False])
    QTest.keyClick(dialog.chart, KEYS.Key_Return)
    assert not dialog.isVisible() and desk.session.view.step == "eq-1" and not desk.bench.listening.hunting
    assert desk.session.view.hear == RESULT


@pytest.mark.thorough
def test_of_a_strip_without_steps_there_are_no_moves(desk: Desk) -> None:
    told = []
    desk.bench.told.connect(lambda said: told.append(said.text))
    desk.bench.look(strip="stem-1" if desk.session.strip("stem-1") else desk.session.stems[0].id)
    shortcut(desk, "Ctrl+Alt+M")
    assert told and "no step that is on" in told[0]
