"""Comparing in a real window: the Hear row, references by section."""

from __future__ import annotations

import csv
import threading
from functools import partial
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from gluvo.compare.match import RESULT, STEP_OUT, UNTOUCHED, UP_TO
from gluvo.compare.profile import LINES
from gluvo.compare.references import paired, with_sections
from gluvo.desk.pages.compare.page import ComparePage
from gluvo.desk.pages.compare.trial_dialog import TrialDialog
from gluvo.desk.window.hear_list import LOOPS, HearList
from gluvo.desk.window.road_dialog import RoadDialog
from gluvo.session.records import Section
from gluvo.session.store import read_session
from gluvo.session.versions import state_of
from gluvo.steps import MidSideEq, Trim

from .conftest import RATE
from .desk import LEFT, Desk, answering, drag, shortcut, when_shown

KEYS = Qt.Key


# --- the Hear row ------------------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_keys_go_to_and_fro_and_round(desk: Desk) -> None:
    shortcut(desk, "3")
    shortcut(desk, "2")
    shortcut(desk, "X")
    assert desk.session.view.hear == STEP_OUT
    shortcut(desk, "X")
    assert desk.session.view.hear == UNTOUCHED
    ids = [h.id for h in desk.bench.listening.hearables()]
    for n in range(2, 2 + len(ids)):
        shortcut(desk, "K")
        assert desk.session.view.hear == ids[n % len(ids)]
    shortcut(desk, "J")
    assert desk.session.view.hear == RESULT


@pytest.mark.thorough
def test_what_is_heard_alternates_by_itself(desk: Desk) -> None:
    row, engine = desk.window.hear_row, desk.bench.engine
    assert engine is not None
    desk.bench.listening.hear(UNTOUCHED)
    desk.bench.listening.hear(RESULT)
    row.alternating.set_every(2.0)
    row.alternating.tick(5.0)
    assert desk.session.view.hear == RESULT  # nothing plays
    engine.play()
    desk.wait(lambda: engine.playing)
    row.alternating.tick(1.5)
    assert desk.session.view.hear == RESULT
    row.alternating.tick(1.0)
    assert desk.session.view.hear == UNTOUCHED
    shortcut(desk, "Shift+X")
    assert row.alternating.every == 0.0
    shortcut(desk, "Shift+X")
    assert row.alternating.every == LOOPS
    engine.seek(7.2)  # near the end of the loop
    desk.wait(lambda: desk.session.view.hear == RESULT)
    engine.stop()


@pytest.mark.thorough
def test_all_that_can_be_heard_is_searched_and_pinned(desk: Desk) -> None:
    dialog = HearList(desk.window, desk.bench)
    dialog.show()
    QTest.keyClicks(dialog.search, "pier")
    assert dialog.table.rowCount() == 1 and "Old Pier" in dialog.table.item(0, 2).text()
    QTest.keyClick(dialog, KEYS.Key_Return)
    assert desk.session.view.hear == "reference-1"
    QTest.keyClick(dialog, KEYS.Key_P, Qt.KeyboardModifier.ControlModifier)
    assert desk.session.view.pins == ("reference-1",) and dialog.table.item(0, 1).text() == "•"
    dialog.pin.click()
    assert desk.session.view.pins == ()
    QTest.keyClicks(dialog.search, " zzz")
    assert dialog.table.rowCount() == 0
    QTest.keyClick(dialog, KEYS.Key_Return)
    dialog.reject()


@pytest.mark.thorough
def test_what_the_match_goes_by_is_chosen_in_the_row(desk: Desk) -> None:
    before = dict(desk.bench.picture.gains)
    action = next(a for a in desk.window.hear_row._match_menu.actions() if a.data() == "above")
    action.trigger()
    assert desk.session.view.match == "above"
    desk.settle()
    assert desk.bench.picture.gains != before and action.isChecked()


# --- references --------------------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_a_reference_jumps_to_its_partner_and_goes_round_with_it(desk: Desk) -> None:
    bench, engine = desk.bench, desk.bench.engine
    assert engine is not None
    own = desk.session.references[0].sections[0]
    bench.edit("Pair", lambda s: paired(s, "reference-1", "section-2", own.id))
    desk.settle()
    assert bench.listening.partner("reference-1") == own
    bench.listening.hear("reference-1")
    section = desk.session.section("section-2")
    assert section is not None and bench.listening.looped is not None
    assert bench.listening.looped.seconds == pytest.approx(own.end - own.start)
    engine.seek(section.start + 4.7)
    engine.play()
    desk.wait(lambda: engine.playing and engine.position >= section.start + 4.7)
    bench.listening.hear(RESULT)  # its loop ends before that: it goes on inside
    desk.wait(lambda: section.start <= engine.position < section.end)
    engine.stop()


@pytest.mark.thorough
def test_references_of_any_kind_are_taken_or_refused(desk: Desk) -> None:
    folder = desk.bench.document.folder
    t = np.arange(2 * 44_100) / 44_100
    soundfile.write(folder / "Short.wav", 0.3 * np.sin(2 * np.pi * 440 * t), 44_100)  # 2 s, mono
    soundfile.write(folder / "Low.wav", 0.3 * np.sin(2 * np.pi * 440 * t), 8000)
    soundfile.write(folder / "Silent.flac", np.zeros((RATE * 3, 2)), RATE)
    t = np.arange(3 * 192_000) / 192_000
    soundfile.write(folder / "High.wav", 0.3 * np.sin(2 * np.pi * np.outer(t, [440, 441])), 192_000, "PCM_24")
    whole = (folder / "High.wav").read_bytes()
    (folder / "Half.flac").write_bytes((folder / "Silent.flac").read_bytes()[:-30])
    (folder / "Torn.wav").write_bytes(whole[: len(whole) // 2])
    told: list[str] = []
    desk.bench.told.connect(lambda said: told.append(said.text))
    for name in ("Short.wav", "Silent.flac", "High.wav", "Low.wav", "Torn.wav", "Half.flac"):
        desk.window.audio_files.add_references([folder / name])
        desk.wait(lambda: not desk.bench.background.busy)
    desk.settle()
    names = {r.name for r in desk.session.references}
    assert {"Short", "Silent", "High"} <= names and "Low" not in names
    assert any("Low.wav is at 8 kHz" in text for text in told)
    gains = desk.bench.picture.gains
    by_name = {r.name: r.id for r in desk.session.references}
    assert gains[by_name["Silent"]] == 0.0 and all(np.isfinite(g) for g in gains.values())
    for reference in desk.session.references:
        desk.bench.listening.hear(reference.id)
        QApplication.processEvents()
        assert all(0.0 <= s.start < s.end for s in reference.sections)
    (folder / "Short.wav").unlink()
    desk.bench.opening.reload()
    desk.wait(lambda: not desk.bench.background.busy)
    assert any("Short.wav" in media.path for media, _ in desk.bench.audio.missing)
    assert by_name["Short"] not in {h.id for h in desk.bench.listening.hearables()}


@pytest.mark.thorough
def test_the_bench_is_busy_until_what_was_found_is_taken_in(desk: Desk) -> None:
    desk.bench.opening.reload()
    deadline = threading.Event()
    tries = 0
    while desk.bench.tasks.busy():  # the window takes nothing in meanwhile
        tries += 1
        assert not deadline.wait(0.01) and tries < 3000
    before = desk.bench.audio
    assert desk.bench.background.busy
    desk.wait(lambda: not desk.bench.background.busy)
    assert desk.bench.audio is not before


@pytest.mark.thorough
def test_references_stand_below_the_song_and_are_paired_there(desk: Desk) -> None:
    rows, bench = desk.window.reference_rows, desk.bench
    assert not rows.isVisible()
    shortcut(desk, "Y")
    QApplication.processEvents()
    row = rows.rows["reference-1"]
    assert rows.isVisible() and row.aligned and len(row.boxes()) == 2  # one for each section of the song
    shortcut(desk, "Shift+Y")
    whole = row.boxes()[0]
    assert not row.aligned and whole[1:] == (whole[0].start, whole[0].end)
    # mark a part of it, rename it, drag its edge, pair with it
    left, right = row.x_at(1.0), row.x_at(3.0)
    shift = Qt.KeyboardModifier.ShiftModifier
    drag(desk, row, QPointF(left, 35.0), QPointF(right - left, 0.0), shift)
    made = next(s for s in desk.session.references[0].sections if s.name == "Part 2")
    assert (made.start, made.end) == (pytest.approx(1.0, abs=0.02), pytest.approx(3.0, abs=0.02))
    only = tuple(s for s in desk.session.references[0].sections if s.id == made.id)
    bench.edit("One section", lambda s: with_sections(s, "reference-1", only))
    drag(desk, row, QPointF(row.x_at(made.end), 8.0), QPointF(60.0, 0.0))
    moved = desk.session.references[0].sections[0]
    assert moved.end == pytest.approx(row.seconds(row.x_at(made.end) + 60.0), abs=0.02)
    desk.bot.mouseClick(row, LEFT, pos=QPoint(round(row.x_at(2.0)), 8))
    assert desk.session.references[0].pairs[0].own == made.id
    desk.settle()
    assert bench.listening.partner("reference-1") == desk.session.references[0].sections[0]
    row.setFocus()
    QTest.keyClick(row, KEYS.Key_Delete)
    assert desk.session.references[0].sections == () and desk.session.references[0].pairs == ()
    shortcut(desk, "Y")
    assert not rows.isVisible()


# --- the Compare page --------------------------------------------------------------------------------------------------


@pytest.fixture
def page(desk: Desk) -> ComparePage:
    """The Compare page, measured."""
    desk.bench.look(page="compare")
    compared(desk)
    return desk.window.compare


def compared(desk: Desk) -> None:
    desk.settle()
    page = desk.window.compare
    desk.wait(lambda: page.comparing.current and bool(page.comparing.found.columns) and not desk.bench.background.busy)


def test_figures_are_told_with_their_difference_to_the_chosen_column(desk: Desk, page: ComparePage) -> None:
    table, found = page.table, page.comparing.found
    assert [c.hearable.id for c in found.columns] == [RESULT, UNTOUCHED, "reference-1"]
    line, base, other = LINES[0], found.columns[0], found.columns[1]
    apart = line.take(other.profile) - line.take(base.profile)
    assert table.item(0, 1).text() == line.show(line.take(base.profile))
    assert table.item(0, 2).text().endswith(f"({apart:+.1f})".replace("-", "−"))
    table.setFocus()
    QTest.keyClick(table, KEYS.Key_Right)
    assert table.chosen == UNTOUCHED and "(" not in table.item(0, 2).text() and "(" in table.item(0, 1).text()
    song = desk.bench.picture.section_render
    assert song is not None
    assert line.take(base.profile) == pytest.approx(song.result.figures(desk.bench.span).integrated, abs=0.01)


@pytest.mark.thorough
def test_curves_are_switched_on_and_off_singly_and_exported(desk: Desk, page: ComparePage, tmp_path: Path) -> None:
    page.toggles[UNTOUCHED].click()
    assert [c.hearable.id for c in page.curves._shown()] == [RESULT, "reference-1"]
    for key in ("loudness", "width", "crest", "tone"):
        desk.bot.mouseClick(page.kind.button(key), LEFT)
        before = page.curves.grab().toImage()
        page.toggles["reference-1"].click()
        assert page.curves.grab().toImage() != before, key
        page.toggles["reference-1"].click()
    for name in ("c.csv", "c.png", "c.svg"):
        page.export(tmp_path / name)
        assert (tmp_path / name).stat().st_size > 500
    rows = list(csv.reader((tmp_path / "c.csv").open()))
    assert rows[0][2:] == ["Result", "Untouched", "Old Pier"] and rows[1][0] == "Integrated loudness"
    page.export(tmp_path / "c.txt")
    assert not (tmp_path / "c.txt").exists()
    page.export(tmp_path / "no such folder" / "c.csv")
    assert not (tmp_path / "no such folder").exists()


@pytest.mark.thorough
def test_a_finding_leads_to_where_it_arises(desk: Desk, page: ComparePage) -> None:
    found = page.comparing.found.findings
    assert found and page.findings.table.rowCount() == len(found)
    row = next((n for n, f in enumerate(found) if f.freq), None)
    assert row is not None
    page.findings.table.setCurrentCell(row, 0)
    assert page.curves._marked == found[row]
    QTest.keyClick(page.findings.table, KEYS.Key_Return)
    assert desk.session.view.page == "shape"


def test_pairs_and_trim_are_set_on_the_page(desk: Desk, page: ComparePage) -> None:
    desk.bot.mouseClick(page.chooser.button("pairs"), LEFT)
    chooser = page.pairs._choosers["section-1", "reference-1"]
    assert chooser.itemText(0).endswith("nearest")
    chooser.setCurrentIndex(1)
    chooser.activated.emit(1)
    assert desk.session.references[0].pairs[0].section == "section-1"
    gain = desk.bench.picture.gains["reference-1"]
    page.pairs.trim.moved.emit(-3.0)
    compared(desk)
    assert desk.bench.picture.gains["reference-1"] - gain == pytest.approx(-3.0, abs=0.2)


@pytest.mark.thorough
def test_a_match_is_heard_kept_and_undone(desk: Desk, page: ComparePage) -> None:
    desk.bot.mouseClick(page.chooser.button("match"), LEFT)
    panel, before = page.match, desk.session
    panel.amount.moved.emit(100.0)
    panel.search.click()
    desk.wait(lambda: panel.found is not None and not desk.bench.background.busy)
    panel.ear.click()
    assert (
        desk.bench.listening._hunted is not None
        and len(desk.bench.listening._hunted.mix.chain) == len(before.mix.chain) + 1
    )
    assert desk.session.strips == before.strips  # nothing is kept yet
    panel.add.click()
    assert desk.bench.listening._hunted is None and isinstance(desk.session.mix.chain[-2], MidSideEq)
    assert desk.session.view.page == "shape"
    desk.bench.document.undo()
    assert desk.session.strips == before.strips


@pytest.mark.thorough
def test_versions_are_kept_heard_and_gone_back_to(
    desk: Desk, page: ComparePage, monkeypatch: pytest.MonkeyPatch
) -> None:
    bench, panel = desk.bench, page.versions
    page.show_panel("versions")
    bench.versions.keep("Before lunch", "softer")
    version = desk.session.versions[0]
    assert version.figures["integrated"] == pytest.approx(
        bench.picture.song_render.result.figures().integrated,
        abs=0.01,
    )
    bench.set_setting("trim-1", "gain", -9.0, "Gain")
    compared(desk)
    assert panel.table.item(0, 0).text() == "Before lunch" and panel.table.item(0, 6).text() == "1"
    assert panel.changes.item(0, 0).text() == "Mix bus, Trim" and "1 difference" in panel.head.text()
    panel.table.setFocus()
    QTest.keyClick(panel.table, KEYS.Key_H)
    desk.wait(lambda: desk.session.view.hear == version.id)
    desk.wait(lambda: version.id in bench.picture.gains and not bench.background.busy)
    heard = bench.listening.extras[version.id].sound.samples
    again = state_of(desk.session, version.id)
    assert bench.renderer is not None
    assert np.array_equal(heard, bench.renderer.joint(bench.renderer.plan(again).result).audio)
    QTest.keyClick(panel.changes, KEYS.Key_Return)
    trim = desk.session.step("trim-1")
    assert isinstance(trim, Trim) and trim.gain == -6.0
    bench.document.undo()
    QTest.keyClick(panel.table, KEYS.Key_Return)
    assert desk.session.strips == again.strips and bench.document.undo_name == "Go back to Before lunch"
    while bench.document.undo_name is not None:
        bench.document.undo()
    assert desk.session.versions == (version,)  # undo does not take a version back
    answering(monkeypatch, "stay")
    panel.drop.click()
    assert desk.session.versions
    answering(monkeypatch, "remove")
    panel.drop.click()
    assert not desk.session.versions and version.id not in bench.listening.extras


@pytest.mark.thorough
def test_a_branch_is_a_session_of_its_own(desk: Desk, page: ComparePage, tmp_path: Path) -> None:
    desk.bench.versions.keep("Loud")
    desk.bench.set_setting("trim-1", "gain", -9.0, "Gain")
    folder = tmp_path / "branch"
    folder.mkdir()
    path = desk.window.documents.branch_to(folder / "Loud", "version-1")
    assert path is not None and desk.window.documents.branch_to(folder / "Loud", "version-1") is None
    made = read_session(path).session
    assert made.name == "Loud" and made.step("trim-1").gain == -6.0
    desk.window.documents.save()
    desk.open(path)
    assert not desk.bench.audio.missing and desk.bench.audio.material is not None


@pytest.mark.thorough
@pytest.mark.parametrize("kind", ["ab", "abx", "rank"])
def test_a_blind_trial_takes_keys_and_is_kept(desk: Desk, page: ComparePage, kind: str) -> None:
    bench, panel = desk.bench, page.trial
    page.show_panel("trial")
    desk.bot.mouseClick(panel.kind.button(kind), LEFT)
    panel.choose([RESULT, UNTOUCHED, "reference-1"] if kind == "rank" else [RESULT, UNTOUCHED])
    assert panel.start.isEnabled()
    panel.tries.moved.emit(2.0)
    seen: list[str] = []

    def answer() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, TrialDialog)
        QTest.keyClick(dialog, KEYS.Key_Return)  # nothing was compared yet
        assert dialog.running.answers == [] and "Listen to each" in dialog._told
        while dialog.isVisible():
            for n in range(dialog.running.places):
                QTest.keyClick(dialog, KEYS(KEYS.Key_1 + n))
                assert bench.listening.blind == dialog._candidates[dialog.running.at(n)].id
                assert desk.session.view.hear == RESULT  # nothing on screen tells
                seen.append(desk.window.windowTitle() + dialog.windowTitle())
            free = next(n for n in range(dialog.running.places) if dialog.running.open(n))
            QTest.keyClick(dialog, KEYS(KEYS.Key_1 + free))
            QTest.keyClick(dialog, KEYS.Key_Return)

    when_shown(desk, answer)
    panel.start.click()
    trial = desk.session.trials[0]
    assert trial.kind == kind and len(trial.answers) == (3 if kind == "rank" else 2) and len(set(seen)) == 1
    assert not bench.listening.blind and panel.table.rowCount() == 1
    bench.document.undo()
    assert desk.session.trials == (trial,)


@pytest.mark.thorough
def test_what_is_out_and_up_to_here_are_ranked_blind_and_compared(desk: Desk, page: ComparePage) -> None:
    bench, panel = desk.bench, page.trial
    bench.marking.add(["glue-1", "limiter-1"])
    page.show_panel("trial")
    desk.bot.mouseClick(panel.kind.button("rank"), LEFT)
    panel.choose([RESULT, STEP_OUT, UP_TO])
    assert [h.name for h in panel.chosen] == ["Result", "Out · 2 steps", "Up to here"]

    def answer() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, TrialDialog) and dialog._began
        matched = {id: bench.picture.gains[id] for id in (RESULT, STEP_OUT, UP_TO)}
        assert len(set(matched.values())) > 1
        for n in range(3):
            QTest.keyClick(dialog, KEYS(KEYS.Key_1 + n))
        for n in (2, 0):
            QTest.keyClick(dialog, KEYS(KEYS.Key_1 + n))
            QTest.keyClick(dialog, KEYS.Key_Return)

    when_shown(desk, answer)
    panel.start.click()
    desk.wait(lambda: bool(desk.session.trials))  # it is made and measured first
    assert not desk.session.view.at_hand and len(desk.session.trials[0].answers) == 3
    bench.look(pins=("up_to",))
    desk.wait(lambda: page.comparing.current and len(page.comparing.found.columns) == 5)
    assert {c.hearable.id for c in page.comparing.found.columns} == {
        RESULT,
        "untouched",
        STEP_OUT,
        UP_TO,
        "reference-1",
    }


@pytest.mark.thorough
def test_a_trial_stopped_half_way_keeps_what_was_answered(desk: Desk, page: ComparePage) -> None:
    page.show_panel("trial")
    page.trial.choose([RESULT, UNTOUCHED])

    def answer(times: int) -> None:
        dialog = QApplication.activeModalWidget()
        for _ in range(times):
            for pressed in (KEYS.Key_1, KEYS.Key_2, KEYS.Key_N):
                QTest.keyClick(dialog, pressed)
        QTest.keyClick(dialog, KEYS.Key_Escape)

    for times in (0, 3):
        when_shown(desk, partial(answer, times))
        page.trial.start.click()
    assert [t.answers for t in desk.session.trials] == [(-1, -1, -1)]
    assert "Stopped after 3 of 12" in page.trial.table.item(0, 1).text()


# --- ears and road tests -----------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_a_road_test_is_marked_and_ends(desk: Desk) -> None:
    row = desk.window.hear_row
    at = row.monitor.findData("road:car")
    row.monitor.setCurrentIndex(at)
    row.monitor.activated.emit(at)
    assert desk.session.view.road.kind == "car" and row.road.isVisible() and row.monitor.currentText() == "Car"
    dialog = RoadDialog(desk.window, desk.bench)
    dialog.show()
    desk.wait(lambda: "falls under this noise" in dialog.words.text())
    before = dialog.words.text()
    dialog.rulers["noise_level"].moved.emit(88.0)
    desk.wait(lambda: "falls under this noise" in dialog.words.text() and dialog.words.text() != before)
    dialog.reject()
    row.monitor.activated.emit(row.monitor.findData("mono"))
    assert desk.session.view.road.kind == "off" and not row.road.isVisible() and desk.session.view.monitor == "mono"


@pytest.mark.thorough
def test_rested_ears_begin_blind(desk: Desk) -> None:
    window = desk.window
    window.ears.last = window.ears._now() - 4000.0
    desk.wait(lambda: isinstance(QApplication.activeModalWidget(), TrialDialog))
    dialog = QApplication.activeModalWidget()
    assert isinstance(dialog, TrialDialog)
    desk.wait(lambda: dialog._began)
    for pressed in (KEYS.Key_2, KEYS.Key_1, KEYS.Key_Return):
        QTest.keyClick(dialog, pressed)
    assert not dialog.isVisible() and "With fresh ears you preferred" in window.notice.text.text()
    window.settings.setValue("ears/fresh", "no")
    window.ears.last, window._covered = window.ears._now() - 4000.0, False
    window._tick()
    assert QApplication.activeModalWidget() is None


@pytest.mark.thorough
def test_a_reference_that_is_the_same_song_is_heard_in_step(desk: Desk) -> None:
    bench = desk.bench
    rng = np.random.default_rng(5)
    x = soundfile.read(bench.document.folder / "Harbour Take.wav")[0]
    x = x * np.interp(np.arange(len(x)), np.arange(0, len(x), 4000), rng.uniform(0.3, 1.0, -(-len(x) // 4000)))[:, None]
    x = np.concatenate([x, x[::-1] * 0.7, x * 0.4 + x[::-1] * 0.5])  # never the same twice
    folder = bench.document.folder
    soundfile.write(folder / "Long.wav", x, RATE, "PCM_24")
    late = np.concatenate([np.zeros((2400, 2)), -0.5 * x])
    soundfile.write(folder / "Long master.wav", late, RATE, "PCM_24")
    desk.window.open_path(folder / "Long.wav")
    desk.wait(lambda: bench.session.name == "Long" and bench.picture.song_current)
    bench.edit("Sections", lambda s: s.replace(sections=(Section(id="a", name="Verse", start=2.0, end=9.0),)))
    told: list[str] = []
    bench.told.connect(lambda said: told.append(said.text))
    desk.window.audio_files.add_references([folder / "Long master.wav"])
    desk.wait(lambda: bool(bench.picture.same))
    (id,) = bench.picture.same
    same = bench.picture.same[id]
    assert same.frames == 2400 and same.inverted and same.gain == pytest.approx(-6.02, abs=0.01)
    assert any(
        "is the same song" in t and "50.0 ms later" in t and "turned over" in t and "6.0 dB softer" in t for t in told
    )
    partner = bench.picture.partners[id]["a"]
    assert (partner.start, partner.end) == pytest.approx((2.05, 9.05))
    bench.look(page="compare")
    page = desk.window.compare
    page.show_panel("pairs")
    chooser = page.pairs._choosers["a", id]
    assert (
        not chooser.isEnabled()
        and "the same song" in chooser.currentText()
        and "the same song" in page.pairs.state.text()
    )
    bench.listening.hear(id)
    bench.listening.toggle_play()
    desk.wait(lambda: bench.engine.playing and bench.engine.heard(4096) is not None and bench.engine.position > 0.6)
    heard = bench.engine.heard(4096)
    places = np.correlate(late[: 4 * RATE, 0], heard[:, 0], "valid")
    energy = np.sqrt(
        np.convolve(late[: 4 * RATE, 0] ** 2, np.ones(4096), "valid") * float(heard[:, 0] @ heard[:, 0]) + 1e-12
    )
    assert float((places / energy).max()) > 0.999, "what is heard is the reference, as it is"
    bench.listening.toggle_play()
