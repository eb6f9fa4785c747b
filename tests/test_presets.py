"""Presets: kept, read, refused, applied, and tried by ear."""

from __future__ import annotations

import json
from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QPushButton
from scipy import signal

from gluvo.advise.shelf import BUILT_IN
from gluvo.desk.editors import preset_dialog
from gluvo.desk.editors.preset_dialog import KeepDialog, PresetDialog, for_chain, for_item
from gluvo.errors import GluvoError, WriteError
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan
from gluvo.render.song import Renderer
from gluvo.session import presets
from gluvo.session.migrations import VERSION
from gluvo.session.presets import (
    CHAIN,
    SUFFIX,
    Preset,
    in_session,
    instead,
    kind_of,
    own_presets,
    preset_of,
    put_in,
    read_preset,
    save_preset,
    write_preset,
)
from gluvo.session.store import checked
from gluvo.steps import STEP_KINDS, Band, DeEsser, Glue, Lane, MidSideEq, Split, SplitBand, Trim

from .conftest import RATE, hold, material, music, one
from .desk import Desk, when_shown

KEY = Qt.Key


# --- what comes with the program -------------------------------------------------------------------------------------


def test_there_are_presets_for_every_step_and_for_chains() -> None:
    kinds = {preset.kind for preset in BUILT_IN}
    assert {kind_of(kind()) for kind in STEP_KINDS} | {"lane", "split", CHAIN} <= kinds
    names = [(preset.kind, preset.name) for preset in BUILT_IN]
    assert len(set(names)) == len(names)


@pytest.mark.parametrize("preset", BUILT_IN, ids=lambda p: p.name)
def test_each_says_what_it_is_for_and_can_be_put_in(preset: Preset) -> None:
    for words in (preset.does, preset.when, preset.when_not):
        assert words[0].isupper() and words.endswith(".") and len(words) > 15
    checked(in_session(preset))


@pytest.mark.parametrize("preset", BUILT_IN, ids=lambda p: p.name)
def test_nothing_is_reduced_before_a_threshold_was_found(preset: Preset) -> None:
    """What comes down to a threshold takes nothing of a song that is just under full scale; ceilings apart."""
    x = music(3.0)
    x *= 0.9 / np.abs(x).max()
    session = in_session(preset)
    for item in session.items:
        if isinstance(item, (Glue, DeEsser)):
            assert item.threshold == 0.0 and (item.hold_aim or item.hold_lift)
        if isinstance(item, MidSideEq):
            assert all(band.threshold == 0.0 for band in item.bands if band.dynamic)
    alone = [item for item in session.chain if isinstance(item, (Glue, DeEsser, Split))]
    for item in alone:
        render = Renderer(material(x)).song(one([item]))
        for id in [i.id for i in one([item]).items if i.reduces and not i.has_ceiling]:
            joint = render.joint(id)
            assert joint is None or joint.largest_reduction() < 0.5


@pytest.mark.sampled(4)
@pytest.mark.parametrize(
    "preset", [p for p in BUILT_IN if p.kind in ("glue", "split", "de_esser", CHAIN)], ids=lambda p: p.name
)
def test_what_is_held_is_found_for_the_song(preset: Preset) -> None:
    renderer = Renderer(material(music(6.0)))
    session = hold(renderer, put_in(one([]), preset, "mix"), None)
    render = renderer.song(session)
    for item in session.items:
        if isinstance(item, Glue) and item.hold_aim:
            joint = render.joint(item.id)
            assert joint is not None and joint.reduced().peaks == pytest.approx(item.aim, abs=0.15)


# --- files -----------------------------------------------------------------------------------------------------------


def mine() -> Preset:
    eq = MidSideEq(id="e", bands=(Band(id=1, gain=2.0, key="bus-1"),), held_in="section-1")
    split = Split(
        id="s",
        bands=(SplitBand(id=1, key="k", steps=(Glue(id="g", key="k", ratio=2.0),)), SplitBand(id=2)),
        crossovers=(300.0,),
    )
    lane = Lane(id="l", since="e", steps=(Trim(id="t", gain=-1.0),))
    return preset_of((eq, lane, split), "Mine: a/b", "It does something.")


def test_ones_own_are_kept_without_what_belongs_to_a_session(tmp_path: Path) -> None:
    path = save_preset(mine(), tmp_path)
    again = save_preset(mine(), tmp_path)
    assert path != again and path.parent == tmp_path and path.name.endswith(SUFFIX)
    found, troubles = own_presets(tmp_path)
    assert not troubles and [kept.preset for kept in found] == [mine(), mine()]
    eq, _, split = found[0].preset.items
    assert eq.held_in == "" and eq.bands[0].key == "" and split.bands[0].key == ""
    assert split.bands[0].steps[0].key == ""
    session = put_in(one([Trim(id="a"), Trim(id="b")]), found[0].preset, "mix", "a", "")
    chain = session.strip("mix").chain
    assert [type(i).__name__ for i in chain] == ["Trim", "MidSideEq", "Lane", "Split", "Trim"]
    assert chain[2].since == chain[1].id and len({i.id for i in session.items}) == len(session.items)
    checked(session)


def test_what_cannot_be_written_leaves_nothing_behind(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> None:
        raise WriteError("The disk is full.")

    kept = save_preset(mine(), tmp_path)
    content = kept.read_bytes()
    monkeypatch.setattr(presets, "preset_bytes", full)
    with pytest.raises(WriteError, match="full"):
        save_preset(mine(), tmp_path)
    assert [p.name for p in tmp_path.iterdir()] == [kept.name] and kept.read_bytes() == content


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"version": VERSION + 1}, "made by a newer Gluvo"),
        ({"version": 0}, "no valid version"),
        ({"version": "x"}, "no valid version"),
        ({"format": "gluvo-session"}, "is no Gluvo preset"),
        ({"items": []}, "makes no sense"),
        ({"items": [{"step": "glue", "ratio": 99.0}]}, "makes no sense"),
        ({"items": [{"step": "wobbler"}]}, "makes no sense"),
        ({"items": [{"step": "split", "crossovers": [4000.0, 100.0]}]}, "do not rise"),
        ({"name": ""}, "makes no sense"),
    ],
)
def test_files_that_make_no_sense_are_refused_with_a_sentence(
    tmp_path: Path, change: dict[str, object], words: str
) -> None:
    good = tmp_path / f"Good{SUFFIX}"
    write_preset(good, BUILT_IN[0])
    raw = json.loads(good.read_text()) | change
    bad = tmp_path / f"Bad{SUFFIX}"
    bad.write_text(json.dumps(raw))
    with pytest.raises(GluvoError, match=words) as told:
        read_preset(bad)
    assert str(told.value).startswith(bad.name) and str(told.value).endswith(".")
    found, troubles = own_presets(tmp_path)
    assert [kept.preset for kept in found] == [BUILT_IN[0]] and len(troubles) == 1 and bad.exists()


@pytest.mark.parametrize("content", [b"", b"not json", b"[1]", b"\xff\xfe", b"{" * 5000])
def test_what_is_no_preset_at_all_is_refused(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "x.json"
    path.write_bytes(content)
    with pytest.raises(GluvoError):
        read_preset(path)
    with pytest.raises(GluvoError, match="cannot be read"):
        read_preset(tmp_path / "gone.json")


def test_a_preset_takes_the_place_of_settings_and_keeps_the_rest() -> None:
    session = one([Glue(id="g", key="stem-1", ratio=9.0, on=False), Trim(id="t")])
    session = session.replace(
        strips=tuple(msgspec.structs.replace(s, chain=session.mix.chain) if s.id == "x" else s for s in session.strips)
    )
    preset = next(p for p in BUILT_IN if p.kind == "glue")
    after = instead(session, preset, "g").step("g")
    assert isinstance(after, Glue) and after.ratio == 2.0 and after.key == "stem-1" and not after.on
    assert instead(session, preset, "t") == session  # of another kind
    split = Split(id="s", bands=(SplitBand(id=4), SplitBand(id=9)), crossovers=(300.0,))
    start = next(p for p in BUILT_IN if p.name == "Even out three bands")
    made = instead(one([split]), start, "s").item("s")
    assert isinstance(made, Split) and len(made.bands) == 3 and all(band.steps[0].id for band in made.bands)
    checked(instead(one([split]), start, "s"))


# --- in the window ---------------------------------------------------------------------------------------------------


@pytest.fixture
def dialog(desk: Desk, tmp_path: Path) -> PresetDialog:
    item = desk.session.item("glue-1")
    assert item is not None
    made = PresetDialog(desk.window, desk.bench, for_item(item), tmp_path / "own")
    made.show()
    return made


def heard(desk: Desk) -> object:
    return desk.bench.listening._hunted


@pytest.mark.thorough
def test_presets_are_heard_as_loud_as_the_result_and_escape_gives_it_back(desk: Desk, dialog: PresetDialog) -> None:
    before = desk.session
    dialog.list.setFocus()
    QTest.keyClick(dialog.list, KEY.Key_Down)
    assert dialog.name.text() == "Hold a mix together" and dialog.texts["when_not"].text().endswith(".")
    desk.wait(lambda: heard(desk) is not None)
    tried, gain = desk.bench.listening._hunted, desk.bench.listening._hunted_gain
    assert tried is not None and gain is not None and "at peaks" in dialog.words.text()
    renderer, span = desk.bench.renderer, desk.bench.span
    assert renderer is not None
    levels = [renderer.joint(renderer.plan(s).result, span).loudness(span) for s in (tried, before)]
    assert levels[0] + gain == pytest.approx(levels[1], abs=0.05)
    step = tried.step("glue-1")
    assert isinstance(step, Glue) and step.threshold < 0.0 and step.held_in == "section-2"  # found, never guessed
    QTest.keyClick(dialog.list, KEY.Key_Down)
    desk.wait(lambda: heard(desk) is not tried)
    QTest.keyClick(dialog, KEY.Key_Escape)
    assert heard(desk) is None and desk.session == before and not dialog.isVisible()


@pytest.mark.thorough
def test_enter_takes_a_preset_and_undo_gives_the_settings_back(desk: Desk, dialog: PresetDialog) -> None:
    before = desk.session.step("glue-1")
    dialog.list.setFocus()
    QTest.keyClick(dialog.list, KEY.Key_Down)
    QTest.keyClick(dialog.list, KEY.Key_Down)
    QTest.keyClick(dialog.list, KEY.Key_Return)
    assert not dialog.isVisible() and heard(desk) is None
    desk.settle()
    now, render = desk.session.step("glue-1"), desk.bench.picture.best
    assert isinstance(now, Glue) and now.ratio == 4.0 and render is not None
    assert render.joint("glue-1").reduced(desk.bench.span).peaks == pytest.approx(4.0, abs=0.1)
    desk.bench.document.undo()
    assert desk.session.step("glue-1") == before


@pytest.mark.thorough
def test_space_plays_and_stops_in_the_dialog(desk: Desk, dialog: PresetDialog) -> None:
    engine = desk.bench.engine
    assert engine is not None
    QTest.keyClick(dialog.list, KEY.Key_Space)
    desk.wait(lambda: engine.playing)
    QTest.keyClick(dialog.list, KEY.Key_Space)
    desk.wait(lambda: not engine.playing)
    dialog.reject()


@pytest.mark.thorough
def test_ones_own_are_kept_listed_exported_and_taken_away(
    desk: Desk, dialog: PresetDialog, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def answer() -> None:
        asked = QApplication.activeModalWidget()
        assert isinstance(asked, KeepDialog) and not asked.keep.isEnabled()
        QTest.keyClicks(asked.name, "For the harbour")
        QTest.keyClicks(asked.does, "Holds the waves.")
        QTest.keyClick(asked.does, KEY.Key_Return)

    when_shown(desk, answer)
    dialog.keep.click()
    assert dialog.name.text() == "For the harbour" and dialog.texts["does"].text() == "Holds the waves."
    chosen = dialog.chosen
    assert chosen is not None and chosen[1] is not None and chosen[1].path.exists()
    kept = chosen[1].path
    other = tmp_path / f"Elsewhere{SUFFIX}"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(other), ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(other), ""))
    buttons = {made.text(): made for made in dialog.findChildren(QPushButton)}
    buttons["Export…"].click()
    assert read_preset(other) == chosen[0]
    buttons["Import…"].click()
    assert dialog.list.rowCount() == 6
    bad = tmp_path / f"Bad{SUFFIX}"
    bad.write_text(json.dumps(json.loads(other.read_text()) | {"version": 7}))
    dialog.import_from(bad)
    assert "newer Gluvo" in dialog.trouble.text() and dialog.list.rowCount() == 6
    wrong = tmp_path / f"Wrong{SUFFIX}"
    write_preset(wrong, BUILT_IN[0])
    dialog.import_from(wrong)
    assert "is for something else" in dialog.trouble.text()
    dialog.list.setCurrentCell(4, 0)
    monkeypatch.setattr(preset_dialog, "ask", lambda *_: "stay")
    dialog.forget.click()
    assert kept.exists()
    monkeypatch.setattr(preset_dialog, "ask", lambda *_: "lose")
    dialog.forget.click()
    assert dialog.list.rowCount() == 5
    dialog.reject()


@pytest.mark.thorough
def test_a_preset_that_finds_nothing_says_so_before_and_after_it_is_taken(empty_desk: Desk, tmp_path: Path) -> None:
    desk, dark = empty_desk, tmp_path / "Dark Water.wav"
    x = signal.sosfilt(signal.butter(8, 1000.0, fs=RATE, output="sos"), music(6.0), axis=0)
    soundfile.write(dark, x, RATE, "FLOAT")
    desk.open(dark)
    desk.bench.edit("Add a Split", lambda s: s.with_chain("mix", [Split(id="split-1")]))
    desk.bench.look(step="split-1")
    desk.settle()
    item = desk.session.item("split-1")
    assert item is not None
    made = PresetDialog(desk.window, desk.bench, for_item(item), tmp_path / "own")
    made.show()
    made.list.setFocus()
    names = [preset.name for preset, _ in made._lines]
    for _ in range(names.index("Soften the highs") + 1):
        QTest.keyClick(made.list, KEY.Key_Down)
    desk.wait(lambda: "softer than −50 dBFS" in made.words.text())
    QTest.keyClick(made.list, KEY.Key_Return)
    desk.settle()
    glue = next(item for item in desk.session.items if isinstance(item, Glue))
    desk.bench.look(step=glue.id)
    desk.settle()
    editor = desk.window.shape.editor
    assert editor is not None
    desk.wait(lambda: "finds nothing" in editor.state.text())


@pytest.mark.thorough
def test_a_chain_is_put_in_after_what_is_chosen(desk: Desk, tmp_path: Path) -> None:
    desk.bench.look(step="trim-1")
    made = PresetDialog(desk.window, desk.bench, for_chain(), tmp_path / "own")
    made.show()
    names = [preset.name for preset, _ in made._lines]
    made.list.setCurrentCell(names.index("A voice bus"), 0)
    made.take.click()
    desk.settle()
    kinds = [type(item).__name__ for item in desk.session.chain]
    assert kinds == ["Trim", "MidSideEq", "Glue", "DeEsser", "Saturation", "Glue", "Limiter"]
    assert desk.session.view.step == desk.session.chain[1].id
    whole = play_through(Plan(desk.session).result, desk.bench.audio.material)
    assert np.isfinite(whole).all()
