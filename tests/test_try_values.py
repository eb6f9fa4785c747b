"""Try values: a setting's values side by side, what each does with the rest held, and by hand."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from gluvo.advise.try_values import (
    MOST,
    LoudnessPlace,
    SettingPlace,
    kept_by,
    louder_place,
    rows,
    tried_value,
    values_around,
    values_typed,
    with_value,
)
from gluvo.desk.pages.compare.trial_dialog import TrialDialog
from gluvo.desk.pages.try_values_dialog import TryValuesDialog
from gluvo.errors import GluvoError
from gluvo.measure.trace import Span
from gluvo.render.chain import run_chain
from gluvo.render.song import Renderer
from gluvo.session.records import Section, Session, Target
from gluvo.steps import STEP_KINDS, Band, Clipper, Glue, Limiter, MidSideEq, Saturation, Split, Trim, settings_of

from .conftest import RATE, material, music, one, sine
from .desk import Desk, key, shortcut

SPAN = Span(1.0, 5.0)


def song(*chain: object) -> Session:
    found = one(list(chain)).replace(sections=(Section(id="s", name="Chorus", start=SPAN.start, end=SPAN.end),))
    return found.looking(section="s")


@pytest.mark.parametrize("kind", STEP_KINDS, ids=lambda k: k.__name__)
def test_values_lie_even_around_the_present_one_and_inside_the_range(kind: type) -> None:
    for setting in settings_of(kind).values():
        if setting.kind != "number":
            now = getattr(kind(), setting.name)
            assert now in values_around(setting, now) and len(values_around(setting, now)) >= 2
            continue
        for now in (setting.low, setting.default, setting.high, setting.to_value(0.37)):
            values = values_around(setting, now)
            assert now in values and list(values) == sorted(set(values)) and 4 <= len(values) <= 5
            assert all(setting.low <= v <= setting.high for v in values)
            places = np.diff([setting.to_position(v) for v in values])
            assert places.min() > 0.05 and places.max() < 0.3


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("1 x 3", "“x” is no value"),
        ("1 3 9000", "beyond the range of Attack: 300 ms is the most"),
        ("5", "two to 9"),
        ("", "two to 9"),
        ("5 5", "two to 9"),
    ],
)
def test_what_cannot_be_tried_is_said(text: str, words: str) -> None:
    with pytest.raises(GluvoError, match=words.replace("(", r"\(")):
        values_typed(settings_of(Glue)["attack"], text)


def test_typed_values_are_read_as_a_ruler_reads_them() -> None:
    attack = settings_of(Glue)["attack"]
    assert values_typed(attack, "30; 3 0.3 3") == (0.3, 3.0, 30.0)
    assert values_typed(settings_of(Band)["freq"], "A2 1k 220,5")[0] == pytest.approx(110.0)
    with pytest.raises(GluvoError):
        values_typed(attack, " ".join(str(n) for n in range(1, MOST + 2)))


def test_a_value_is_one_of_a_step_or_a_band_and_lets_its_hold_go() -> None:
    eq = MidSideEq(id="e", bands=(Band(id=1, gain=-2.0), Band(id=2, gain=3.0)))
    split = Split(id="s2")
    session = song(Glue(id="g", ratio=2.0, hold_aim=True), eq, split)
    band = SettingPlace("e", "gain", 2)
    assert band.value(session) == 3.0 and with_value(session, band, -6.0).step("e").bands[1].gain == -6.0
    first = split.bands[0].id
    assert with_value(session, SettingPlace("s2", "mix", first), 40.0).item("s2").band(first).mix == 40.0
    assert not with_value(session, SettingPlace("g", "threshold"), -30.0).step("g").hold_aim
    assert with_value(session, SettingPlace("g", "attack"), 3.0).step("g").hold_aim
    assert SettingPlace("gone", "attack").setting(session) is None and SettingPlace("g", "no").setting(session) is None


def test_each_value_takes_as_much_as_now_and_is_as_if_it_had_been_set() -> None:
    renderer, loud_hits = Renderer(material(music(12.0))), Section(id="s", name="Chorus", start=1.0, end=11.0)
    session = song(Trim(id="t", gain=-2.0), Glue(id="g", ratio=4.0, threshold=-28.0, attack=20.0, release=150.0))
    session, span = session.replace(sections=(loud_hits,)), Span(1.0, 11.0)
    place, render = SettingPlace("g", "attack"), renderer.section(session, span)
    kept = kept_by(session.step("g"), place, render.joint("g"), span)
    assert kept is not None and kept.setting == "threshold" and "dB at peaks" in kept.words
    loud = render.joint("g").loudness(span)
    found = [tried_value(renderer, session, place, v, span, kept, loudness=loud) for v in (1.0, 20.0, 100.0)]
    for one_value, value in zip(found, (1.0, 20.0, 100.0), strict=True):
        step = one_value.session.step("g")
        assert isinstance(step, Glue) and step.attack == value and not step.hold_aim and step.held_in == ""
        assert one_value.reduced is not None and one_value.reduced.peaks == pytest.approx(kept.aim, abs=0.05)
        rendered = renderer.section(one_value.session, span).joint("g")
        assert rendered is not None and rendered.loudness(span) == pytest.approx(one_value.loudness, abs=1e-6)
    same = found[1].session.step("g")
    assert isinstance(same, Glue) and same.threshold == pytest.approx(-28.0, abs=0.1)
    told = {row.name: row.texts for row in rows(found)}
    assert "Reduction at peaks" not in told, "what is the same for all is left out"
    assert float(told["Punch kept"][0]) < float(told["Punch kept"][2])
    plain = [tried_value(renderer, session, place, v, span) for v in (1.0, 20.0, 100.0)]
    assert "Reduction at peaks" in {row.name for row in rows(plain)}


def test_a_held_loudness_is_held_for_each_and_new_sound_is_told() -> None:
    renderer = Renderer(material(music(6.0)))
    session = song(Saturation(id="s1", drive=3.0, hold_loudness=True, held_in="s"), Limiter(id="l"))
    found = [tried_value(renderer, session, SettingPlace("s1", "drive"), v, SPAN) for v in (0.0, 6.0, 12.0)]
    assert all(abs(one_value.louder) < 0.05 for one_value in found)
    told = {row.name: [float(t.replace("−", "-")) for t in row.texts] for row in rows(found) if "·" not in row.texts[0]}
    assert told["New sound"] == sorted(told["New sound"]) and told["Crest"] == sorted(told["Crest"], reverse=True)
    with pytest.raises(GluvoError, match="off, or gone"):
        off = session.with_step(msgspec.structs.replace(session.step("s1"), on=False))
        tried_value(renderer, off, SettingPlace("s1", "drive"), 3.0, SPAN)


# --- by hand ----------------------------------------------------------------------------------------------------


def dialog_of(desk: Desk) -> TryValuesDialog:
    found = QApplication.activeModalWidget()
    assert isinstance(found, TryValuesDialog)
    desk.wait(lambda: found.trying.done and not found.trying.why_not_blind())
    return found


@pytest.mark.thorough
def test_values_are_chosen_heard_and_taken_by_keys(desk: Desk) -> None:
    ruler = desk.window.shape.editor.controls["release"]
    ruler.setFocus()
    key(desk, "v")
    shown = dialog_of(desk)
    trying, table = shown.trying, shown.table
    assert "Glue on Mix bus · Release" in shown.windowTitle() and trying.keeps and len(table.rows) > 3
    before, was = trying.chosen, desk.session
    QTest.keyClick(table, Qt.Key.Key_Right)
    QTest.keyClick(table, Qt.Key.Key_H)
    assert trying.chosen == before + 1 and trying.sounding and desk.bench.listening.hunting
    desk.wait(lambda: desk.bench.engine.playing)
    QTest.keyClick(table, Qt.Key.Key_Left)
    QTest.keyClick(table, Qt.Key.Key_Left)
    assert trying.chosen == before - 1 and trying.sounding, "what is chosen is what is heard"
    assert desk.session == was, "nothing is edited yet"
    wanted, found = trying.values[trying.chosen], trying.tried[trying.chosen].session.step("glue-1")
    QTest.keyClick(table, Qt.Key.Key_Return)
    assert not shown.isVisible() and not desk.bench.listening.hunting
    now = desk.session.step("glue-1")
    assert isinstance(now, Glue) and now.release == wanted and now == found and now.threshold != -26.0
    assert desk.bench.document.undo_name == "Glue release"
    shortcut(desk, "Ctrl+Z")
    assert desk.session.step("glue-1") == was.step("glue-1")


@pytest.mark.thorough
def test_escape_leaves_all_as_it_was_and_typed_values_are_tried(desk: Desk) -> None:
    was = desk.session.strips
    desk.window.shape.editor.controls["attack"].try_values()
    shown = dialog_of(desk)
    QTest.keyClicks(shown.typed, "1 400")
    QTest.keyClick(shown.typed, Qt.Key.Key_Return)
    assert "300 ms is the most" in shown.words.text() and len(shown.trying.values) == 5 and shown.isVisible()
    shown.typed.clear()
    QTest.keyClicks(shown.typed, "1 5 60")
    QTest.keyClick(shown.typed, Qt.Key.Key_Return)
    desk.wait(lambda: shown.trying.done and shown.trying.values == (1.0, 5.0, 60.0))
    shown.keeps.click()
    assert not shown.trying.keeps
    desk.wait(lambda: shown.trying.done)
    assert "Reduction at peaks" in {row.name for row in shown.table.rows}
    QTest.keyClick(shown.table, Qt.Key.Key_Escape)
    assert not shown.isVisible() and desk.session.strips == was and not desk.bench.listening.hunting


@pytest.mark.thorough
def test_they_are_ranked_blind_and_the_best_is_chosen(desk: Desk) -> None:
    desk.window.shape.editor.controls["attack"].try_values()
    shown = dialog_of(desk)
    shown.blind.click()
    trial = QApplication.activeModalWidget()
    assert isinstance(trial, TrialDialog) and trial.running.places == 5
    best = trial.running.at(2)
    for pressed in (*"12345", "3"):
        QTest.keyClicks(trial, pressed)
    QTest.keyClick(trial, Qt.Key.Key_Return)
    for place in range(5):
        if trial.isVisible() and trial.running.open(place):
            QTest.keyClicks(trial, str(place + 1))
            QTest.keyClick(trial, Qt.Key.Key_Return)
    desk.wait(lambda: bool(desk.session.trials))
    assert shown.trying.chosen == best and desk.session.trials[0].names[best].startswith("Attack ")
    value, focused = shown.trying.values[best], shown.focusWidget()
    assert focused is not None
    QTest.keyClick(focused, Qt.Key.Key_Return)
    assert not shown.isVisible()
    step = desk.session.step("glue-1")
    assert isinstance(step, Glue) and step.attack == value


@pytest.mark.thorough
def test_what_has_no_setting_or_is_off_is_refused(desk: Desk) -> None:
    desk.bench.look(step="")
    shortcut(desk, "V")
    assert "no setting here" in desk.window.notice.text.text()
    desk.bench.look(step="glue-1")
    desk.bench.set_setting("glue-1", "on", False, "on")
    shortcut(desk, "V")
    assert "The step is off" in desk.window.notice.text.text()
    desk.bench.values_wanted.emit(SettingPlace("gone", "attack"))
    assert "is gone" in desk.window.notice.text.text()


# --- curves, and what louder costs -------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("step", "name", "values"),
    [
        (Glue(id="x", ratio=3.0, threshold=-30.0), "ratio", (1.5, 8.0)),
        (Glue(id="x", ratio=3.0, threshold=-30.0), "knee", (0.0, 24.0)),
        (Saturation(id="x", drive=6.0), "shape", ("soft", "edge")),
        (Clipper(id="x", drive=6.0), "knee", (0.0, 100.0)),
    ],
)
def test_a_setting_that_makes_a_curve_shows_it(step: object, name: str, values: tuple[object, ...]) -> None:
    renderer, session = Renderer(material(music(6.0))), song(step)
    found = [tried_value(renderer, session, SettingPlace("x", name), v, SPAN).transfer for v in values]
    assert all(curve is not None and len(curve.came) == len(curve.gives) for curve in found)
    assert np.abs(found[0].gives - found[1].gives).max() > 0.01


def test_a_curve_is_what_a_steady_tone_comes_out_at() -> None:
    step = Glue(ratio=4.0, threshold=-30.0, knee=6.0, attack=1.0, release=500.0, makeup=2.0, mix=70.0)
    curve = step.transfer()
    for level in (-40.0, -29.0, -12.0):
        out = run_chain([step], sine(1000.0, 2.0, level), RATE)[RATE:]
        told = float(np.interp(level, curve.came, curve.gives))
        assert 20 * np.log10(np.abs(out).max()) == pytest.approx(told, abs=0.25)
    assert np.abs(Saturation(drive=9.0, mix=50.0).transfer().gives).max() <= 1.0
    clipped = Clipper(drive=6.0, ceiling=-6.0).transfer()
    assert np.abs(clipped.gives).max() == pytest.approx(10 ** (-6.0 / 20), rel=1e-3)


def test_what_louder_costs_is_tried_as_values_are() -> None:
    renderer = Renderer(material(music(8.0)))
    session = song(Limiter(id="l", drive=2.0)).replace(target=Target(name="T", loudness=-10.0, true_peak=-1.0))
    place = louder_place(session)
    assert place is not None and place.values(session) == (-13.0, -12.0, -11.0, -10.0, -9.0)
    assert kept_by(session.item("l"), place, renderer.section(session, SPAN).joint("l"), SPAN) is None
    found = [tried_value(renderer, session, place, v, SPAN) for v in (-13.0, -10.0)]
    for one_value, wanted in zip(found, (-13.0, -10.0), strict=True):
        level = renderer.song(one_value.session).result.loudness()
        assert level == pytest.approx(wanted, abs=0.05) and not one_value.note
        assert place.taken(session, one_value.session).target == session.target
    assert found[1].reduced is not None and found[0].reduced is not None
    assert found[1].reduced.most > found[0].reduced.most
    far = tried_value(renderer, session, place, -2.0, SPAN)
    assert far.note.endswith("at most") and "−" in far.note
    assert louder_place(song(Trim(id="t"))) is None
    assert LoudnessPlace("gone", "loudness").owner(session) is None


@pytest.mark.thorough
def test_louder_is_tried_from_the_target_and_taken(desk: Desk) -> None:
    desk.bot.mouseClick(desk.window.shape.target.costs, Qt.MouseButton.LeftButton)
    shown = dialog_of(desk)
    assert "what louder costs, by the limiter on Mix bus" in shown.windowTitle()
    trying, table = shown.trying, shown.table
    assert len(trying.values) == 5 and trying.values[trying.chosen] == desk.session.target.loudness
    assert "Punch kept" in {row.name for row in table.rows} or "Crest" in {row.name for row in table.rows}
    QTest.keyClick(table, Qt.Key.Key_Left)
    QTest.keyClick(table, Qt.Key.Key_H)
    assert trying.sounding
    wanted = trying.values[trying.chosen]
    QTest.keyClick(table, Qt.Key.Key_Return)
    desk.settle()
    song_render = desk.bench.picture.song_render
    assert song_render is not None and song_render.result.loudness() == pytest.approx(wanted, abs=0.06)
    shortcut(desk, "Ctrl+Z")
    desk.bench.edit("No limiter", lambda s: s.without_step("limiter-1"))
    shortcut(desk, "Ctrl+Alt+R")
    assert "no limiter" in desk.window.notice.text.text()
