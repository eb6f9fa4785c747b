"""Comparing in a real window: the Hear row, references by section."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from gluvo.compare.match import RESULT, STEP_OUT, UNTOUCHED
from gluvo.compare.references import paired
from gluvo.desk.window import hear_list
from gluvo.desk.window.hear_list import LOOPS, HearList

from .conftest import RATE
from .desk import Desk, shortcut

KEYS = Qt.Key


# --- the Hear row ------------------------------------------------------------------------------------------------------


def test_a_key_held_down_is_heard_only_as_long(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    now = [100.0]
    monkeypatch.setattr(hear_list, "monotonic", lambda: now[0])
    for held, heard in ((0.1, UNTOUCHED), (0.8, RESULT)):
        desk.bench.hear(RESULT)
        shortcut(desk, "2")
        assert desk.session.view.hear == UNTOUCHED
        now[0] += held
        QTest.keyRelease(desk.window, KEYS.Key_2)
        assert desk.session.view.hear == heard
    QTest.keyRelease(desk.window, KEYS.Key_2)  # a key that was let go already means nothing
    assert desk.session.view.hear == RESULT


def test_keys_go_to_and_fro_and_round(desk: Desk) -> None:
    shortcut(desk, "3")
    shortcut(desk, "2")
    shortcut(desk, "X")
    assert desk.session.view.hear == STEP_OUT
    shortcut(desk, "X")
    assert desk.session.view.hear == UNTOUCHED
    ids = [h.id for h in desk.bench.hearables()]
    for n in range(2, 2 + len(ids)):
        shortcut(desk, "K")
        assert desk.session.view.hear == ids[n % len(ids)]
    shortcut(desk, "J")
    assert desk.session.view.hear == RESULT


def test_what_is_heard_alternates_by_itself(desk: Desk) -> None:
    row, engine = desk.window.hear_row, desk.bench.engine
    assert engine is not None
    desk.bench.hear(UNTOUCHED)
    desk.bench.hear(RESULT)
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


def test_what_the_match_goes_by_is_chosen_in_the_row(desk: Desk) -> None:
    before = dict(desk.bench.picture.gains)
    action = next(a for a in desk.window.hear_row._match_menu.actions() if a.data() == "above")
    action.trigger()
    assert desk.session.view.match == "above"
    desk.settle()
    assert desk.bench.picture.gains != before and action.isChecked()


# --- references --------------------------------------------------------------------------------------------------------


def test_a_reference_jumps_to_its_partner_and_goes_round_with_it(desk: Desk) -> None:
    bench, engine = desk.bench, desk.bench.engine
    assert engine is not None
    own = desk.session.references[0].sections[0]
    bench.edit("Pair", lambda s: paired(s, "reference-1", "section-2", own.id))
    desk.settle()
    assert bench.partner("reference-1") == own
    bench.hear("reference-1")
    section = desk.session.section("section-2")
    assert section is not None and bench._looped is not None
    assert bench._looped.seconds == pytest.approx(own.end - own.start)
    engine.seek(section.start + 4.7)
    engine.play()
    desk.wait(lambda: engine.playing and engine.position >= section.start + 4.7)
    bench.hear(RESULT)  # its loop ends before that: it goes on inside
    desk.wait(lambda: section.start <= engine.position < section.end)
    engine.stop()


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
    desk.bench.told.connect(lambda text, _trouble: told.append(text))
    for name in ("Short.wav", "Silent.flac", "High.wav", "Low.wav", "Torn.wav", "Half.flac"):
        desk.window.add_references([folder / name])
        desk.wait(lambda: not desk.bench.busy)
    desk.settle()
    names = {r.name for r in desk.session.references}
    assert {"Short", "Silent", "High"} <= names and "Low" not in names
    assert any("Low.wav is at 8 kHz" in text for text in told)
    gains = desk.bench.picture.gains
    by_name = {r.name: r.id for r in desk.session.references}
    assert gains[by_name["Silent"]] == 0.0 and all(np.isfinite(g) for g in gains.values())
    for reference in desk.session.references:
        desk.bench.hear(reference.id)
        QApplication.processEvents()
        assert all(0.0 <= s.start < s.end for s in reference.sections)
    (folder / "Short.wav").unlink()
    desk.bench.reload_audio()
    desk.wait(lambda: not desk.bench.busy)
    assert any("Short.wav" in media.path for media, _ in desk.bench.audio.missing)
    assert by_name["Short"] not in {h.id for h in desk.bench.hearables()}
