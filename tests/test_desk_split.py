"""Control by band in the window: the Split, the De-esser, the tamer, the shaper, the lift, keys, and what drives a Glue."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit, QMenu

from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.theme import colours
from gluvo.desk.editors.de_esser import DeEsserEditor
from gluvo.desk.editors.eq.editor import EqEditor
from gluvo.desk.editors.glue import GlueEditor
from gluvo.desk.editors.resonance_tamer import TamerEditor
from gluvo.desk.editors.source import SourceEditor
from gluvo.desk.editors.split.column import BandColumn
from gluvo.desk.editors.split.editor import SplitEditor
from gluvo.desk.editors.transient_shaper import ShaperEditor
from gluvo.session import chains, tree
from gluvo.steps import Band, DeEsser, Glue, MidSideEq, ResonanceTamer, Split, Step, TransientShaper, Trim
from gluvo.steps.split import APART

from .desk import LEFT, NONE, Desk, drag, key, shortcut

KEY = Qt.Key


@pytest.fixture
def bands(desk: Desk) -> Desk:
    """The window with an empty Split behind the Trim."""
    desk.bench.look(step="trim-1")
    shortcut(desk, "Ctrl+Alt+S")
    desk.settle()
    return desk


def split(desk: Desk) -> Split:
    return next(item for item in desk.session.chain if isinstance(item, Split))


def editor(desk: Desk) -> SplitEditor:
    found = desk.window.shape.editor
    assert isinstance(found, SplitEditor)
    return found


def column(desk: Desk, n: int) -> BandColumn:
    return editor(desk).columns.columns[n]


def add(desk: Desk, n: int, title: str) -> Step:
    """Add a step to a band by its column's menu."""
    known = {item.id for item in desk.session.items}
    next(a for a in column(desk, n).add.menu().actions() if a.text() == title).trigger()
    desk.settle()
    return next(item for item in desk.session.items if item.id not in known)


def rows(desk: Desk) -> list[str]:
    ledger = desk.window.shape.ledger
    return [ledger.row(ledger.list.item(n).data(Qt.ItemDataRole.UserRole)).title for n in range(ledger.list.count())]


def choose_row(desk: Desk, title: str) -> None:
    """Choose a row of the ledger with the mouse."""
    ledger = desk.window.shape.ledger
    item = ledger.list.item(rows(desk).index(title))
    ledger.list.scrollToItem(item)
    place = ledger.list.visualItemRect(item)
    desk.bot.mouseClick(ledger.list.viewport(), LEFT, NONE, QPoint(place.center().x(), place.center().y()))
    QApplication.processEvents()


def menu_of(desk: Desk, n: int, text: str) -> None:
    """Choose an entry of a band's menu."""
    menu = column(desk, n).menu
    menu.aboutToShow.emit()
    for action in menu.actions():
        inner = action.menu()
        found = inner.actions() if isinstance(inner, QMenu) else [action]
        for one in found:
            if one.text() == text:
                assert one.isEnabled()
                one.trigger()
                desk.settle()
                return
    raise AssertionError(f"no {text} in the menu")


# --- the Split -----------------------------------------------------------------------------------------------------


@pytest.mark.thorough
def test_a_split_is_added_and_stands_in_the_ledger_with_its_bands(bands: Desk) -> None:
    assert rows(bands) == ["In", "Trim", "Split", "Lows", "Mids", "Highs", "Glue", "Limiter"]
    assert "passes as it came" in editor(bands).state.text() and split(bands).is_transparent
    glue = add(bands, 0, "Glue")
    assert chains.container_of(bands.session.chain, glue.id) is not None
    assert rows(bands)[2:7] == ["Split", "Lows", "Glue", "Mids", "Highs"]
    assert split(bands).is_transparent and editor(bands).columns.columns[0].blocks[0].step_id == glue.id
    bands.bench.set_setting(glue.id, "ratio", 4.0, "ratio")
    bands.bench.set_setting(glue.id, "threshold", -40.0, "threshold")
    bands.settle()
    assert not split(bands).is_transparent and "passes" not in editor(bands).state.text()
    ledger = bands.window.shape.ledger
    lows = ledger.row(split(bands).row_id(1))
    assert lows.loudness not in ("", "…") and "20 Hz – 160 Hz" in lows.words
    assert "dB off" in column(bands, 0).words.text() and column(bands, 1).words.text() == "nothing is changed"


@pytest.mark.thorough
def test_crossovers_are_dragged_stepped_wheeled_and_typed(bands: Desk) -> None:
    chart = editor(bands).crossings
    start = QPointF(chart.x_at(160.0), chart.area.center().y())
    drag(bands, chart, start, QPointF(chart.x_at(400.0) - start.x(), 0.0))
    assert split(bands).crossovers[0] == pytest.approx(400.0, rel=0.03)
    bands.bench.document.undo()
    assert split(bands).crossovers[0] == 160.0  # one gesture is one action
    chart.setFocus()
    QTest.keyClick(chart, KEY.Key_Right)
    assert split(bands).crossovers[0] == pytest.approx(161.6, rel=0.002)
    QTest.keyClick(chart, KEY.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert split(bands).crossovers[0] == pytest.approx(161.4, rel=0.002)
    QTest.keyClick(chart, KEY.Key_Up)
    QTest.keyClick(chart, KEY.Key_PageDown)
    assert split(bands).crossovers[1] == pytest.approx(4000.0 / 1.01**10, rel=0.003)
    QTest.keyClick(chart, KEY.Key_Return)
    field = chart.findChild(QLineEdit)
    assert field is not None
    QTest.keyClicks(field, "5k")
    QTest.keyClick(field, KEY.Key_Return)
    assert split(bands).crossovers[1] == 5000.0
    place = QPointF(chart.x_at(5000.0), chart.area.center().y())
    wheel = QWheelEvent(
        place, QPointF(chart.mapToGlobal(place)), QPoint(), QPoint(0, 120), Qt.MouseButton.NoButton, NONE,
        Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(chart, wheel)
    assert split(bands).crossovers[1] == pytest.approx(5050.0, rel=0.003)
    chart.moved.emit(0, 20_000.0)
    low, high = split(bands).crossovers
    assert high / low == pytest.approx(APART, rel=0.01)  # never over its neighbour
    assert f"{high / 1000:.3g} kHz" in column(bands, 2).range.text()


@pytest.mark.thorough
def test_columns_stand_under_their_bands_and_are_wide_enough(bands: Desk) -> None:
    for size in ((1280, 800), (1024, 700), (960, 540)):
        bands.window.resize(*size)
        QApplication.processEvents()
        for count in (2, 5, 3):
            editor(bands).count.button(str(count)).click()
            QApplication.processEvents()
            columns = editor(bands).columns.columns
            assert len(columns) == count == len(split(bands).bands)
            lefts = [c.geometry().left() for c in columns]
            assert lefts == sorted(lefts) and all(c.width() >= 100 for c in columns)
            assert columns[-1].geometry().right() <= editor(bands).columns.width()
    chart, shown = editor(bands).crossings, editor(bands).columns
    assert len(shown.edges()) == 3 and abs(shown.edges()[1][0] - chart.x_at(split(bands).crossovers[0])) < 120


@pytest.mark.thorough
def test_a_bands_settings_are_set_in_its_column(bands: Desk) -> None:
    trim = add(bands, 1, "Trim")
    mids = column(bands, 1)
    gain = mids.controls["gain"]
    assert isinstance(gain, Ruler)
    gain.setFocus()
    for _ in range(3):
        QTest.keyClick(gain, KEY.Key_Right)
    assert split(bands).bands[1].gain > 0.0
    mix = mids.controls["mix"]
    assert isinstance(mix, Ruler)
    mix.type_value("40")
    field = mix.findChild(QLineEdit)
    assert field is not None
    QTest.keyClick(field, KEY.Key_Return)
    assert split(bands).bands[1].mix == 40.0
    block = mids.blocks[0]
    own = block.controls["gain"]
    assert isinstance(own, Ruler)
    own.setFocus()
    QTest.keyClick(own, KEY.Key_Home)
    assert bands.session.step(trim.id).gain == -48.0
    mids.controls["target"].chosen.emit("side")
    assert split(bands).bands[1].target == "side"
    mids.controls["on"].click()
    assert not split(bands).bands[1].on and "Off" in mids.empty.text()
    for _ in range(7):
        bands.bench.document.undo()
    bands.settle()
    assert split(bands).bands[1].gain == 0.0 and split(bands).bands[1].on
    block = column(bands, 1).blocks[0]
    block.open.click()
    assert bands.session.view.step == trim.id  # the way into its own editor


@pytest.mark.thorough
def test_steps_in_a_column_are_moved_and_taken_out_by_key(bands: Desk) -> None:
    add(bands, 0, "Glue")
    block = column(bands, 0).blocks[0]
    block.open.setFocus()
    QTest.keyClick(block.open, KEY.Key_Down, Qt.KeyboardModifier.AltModifier)
    assert [len(b.steps) for b in split(bands).bands] == [0, 1, 0]
    block = column(bands, 1).blocks[0]
    block.open.setFocus()
    QTest.keyClick(block.open, KEY.Key_Delete)
    assert [len(b.steps) for b in split(bands).bands] == [0, 0, 0] and not column(bands, 1).blocks
    bands.bench.document.undo()
    assert [len(b.steps) for b in split(bands).bands] == [0, 1, 0]


@pytest.mark.thorough
def test_bands_are_split_merged_copied_and_taken_out(bands: Desk) -> None:
    add(bands, 0, "Glue")
    menu_of(bands, 0, "Split in two")
    assert len(split(bands).bands) == 4 and split(bands).bands[0].steps and not split(bands).bands[1].steps
    menu_of(bands, 0, "High mids")  # copied to there
    copies = [band.steps for band in split(bands).bands]
    assert isinstance(copies[2][0], Glue) and copies[2][0].id != copies[0][0].id
    menu_of(bands, 1, "Merge with High mids")
    assert [len(b.steps) for b in split(bands).bands] == [1, 1, 0]
    told: list[str] = []
    bands.bench.told.connect(lambda said: told.append(said.text))
    menu_of(bands, 1, "Take out")
    assert told == ["A step went with its band. Undo brings it back."]
    assert [len(b.steps) for b in split(bands).bands] == [1, 0] and len(split(bands).crossovers) == 1
    for _ in range(4):
        bands.bench.document.undo()
    assert len(split(bands).bands) == 3


@pytest.mark.thorough
def test_what_is_heard_alone_is_heard_from_the_device(bands: Desk) -> None:
    add(bands, 0, "Trim")
    inner = split(bands).bands[0].steps[0]
    bands.bench.set_setting(inner.id, "gain", -12.0, "gain")
    bands.settle()
    column(bands, 2).alone.click()
    row = split(bands).row_id(3)
    assert bands.session.view.solo == (row,)
    ledger = bands.window.shape.ledger
    assert "heard alone" in ledger.row(row).words
    bands.bench.listening.toggle_play()
    engine = bands.bench.engine
    assert engine is not None
    bands.wait(lambda: engine.playing and engine.position > 3.2)
    column(bands, 2).alone.click()
    column(bands, 0).change.click()
    assert bands.session.view.hear == "band" and bands.session.view.band == 1 and column(bands, 0).change.on
    column(bands, 0).change.click()
    assert bands.session.view.hear == "result" and not bands.session.view.solo
    bands.bench.listening.toggle_play()


@pytest.mark.thorough
def test_the_live_mark_follows_what_the_steps_take(bands: Desk) -> None:
    glue = add(bands, 0, "Glue")
    bands.bench.set_setting(glue.id, "ratio", 8.0, "ratio")
    bands.bench.set_setting(glue.id, "threshold", -40.0, "threshold")
    bands.settle()
    spread = column(bands, 0).spread
    assert "dB off" in spread.words and spread._live is None
    bands.bench.listening.toggle_play()
    bands.wait(lambda: spread._live is not None and spread._live < -1.0)
    bands.bench.listening.toggle_play()
    bands.wait(lambda: spread._live is None)


@pytest.mark.thorough
def test_the_ledger_works_on_bands_by_keyboard(bands: Desk) -> None:
    ledger = bands.window.shape.ledger
    choose_row(bands, "Mids")
    assert bands.session.view.band == 2 and bands.session.view.step == split(bands).id
    ledger.add(Trim(gain=-3.0))
    assert (
        isinstance(split(bands).bands[1].steps[0], Trim)
        and bands.session.view.step == split(bands).bands[1].steps[0].id
    )
    ledger.copy()
    choose_row(bands, "Highs")
    ledger.paste()
    assert split(bands).bands[2].steps[0].gain == -3.0
    ledger.list.setFocus()
    QTest.keyClick(ledger.list, KEY.Key_Up, Qt.KeyboardModifier.AltModifier)
    assert [len(b.steps) for b in split(bands).bands] == [0, 2, 0]
    choose_row(bands, "Highs")
    shortcut(bands, "Ctrl+B")
    ledger.list.setFocus()
    assert not split(bands).bands[2].on and ledger.row(split(bands).row_id(3)).words.endswith("off")
    QTest.keyClick(ledger.list, KEY.Key_Delete)
    assert len(split(bands).bands) == 2 and bands.session.view.band == 0
    choose_row(bands, "Lows")
    QTest.keyClick(ledger.list, KEY.Key_Delete)
    assert len(split(bands).bands) == 2  # there are at least two, and that is said
    shown = [ledger.list.item(n).data(Qt.ItemDataRole.UserRole) for n in range(ledger.list.count())]
    moved = split(bands).bands[1].steps[0].id
    bands.bench.look(step=moved)
    shown.remove(moved)
    shown.insert(shown.index(split(bands).row_id(1)) + 1, moved)
    ledger.dropped([id for id in shown if id])
    assert [len(b.steps) for b in split(bands).bands] == [1, 1]


@pytest.mark.thorough
@pytest.mark.parametrize("start", ["Even out three bands", "Tighten the lows", "Soften the highs", "Three-band peaks"])
def test_starts_are_ordinary_splits_that_find_their_thresholds(desk: Desk, start: str) -> None:
    desk.bench.look(step="trim-1")
    menu = desk.window.shape.ledger.split_button.menu()
    next(a for a in menu.actions() if a.text() == start).trigger()
    desk.settle()
    made = split(desk)
    render = desk.bench.picture.best
    assert render is not None and made.id == desk.session.view.step
    for band in made.bands:
        for step in band.steps:
            if isinstance(step, Glue):
                joint = render.joint(step.id)
                assert joint is not None and step.held_in == "section-2"
                assert joint.reduced(desk.bench.span).peaks == pytest.approx(step.aim, abs=0.1)
    desk.bench.document.undo()
    assert not any(isinstance(item, Split) for item in desk.session.chain)


# --- the other steps -----------------------------------------------------------------------------------------------


def with_step(desk: Desk, step: Step) -> None:
    desk.bench.look(step="trim-1")
    desk.window.shape.ledger.add(step)
    desk.settle()


@pytest.mark.thorough
def test_the_de_esser_finds_its_threshold_and_shows_where_it_works(desk: Desk) -> None:
    with_step(desk, DeEsser(range=8.0, threshold=0.0, aim=1.0))
    shown = desk.window.shape.editor
    assert isinstance(shown, DeEsserEditor) and shown.aim.words.text().startswith("does not work")
    shown.aim.find_button.click()
    desk.settle()
    step = desk.session.step(desk.session.view.step)
    assert isinstance(step, DeEsser) and step.threshold < 0.0
    assert "times" in shown.aim.words.text() and len(shown.sibilants._places) > 2
    image, wanted = shown.sibilants.grab().toImage(), colours()["reduction"]
    marked = round(shown.sibilants.x_at(shown.sibilants._places[1][0])) + 1
    assert any(image.pixelColor(marked, y) == wanted for y in range(image.height() - 112, image.height()))
    shown.chooser.button("list").click()
    assert shown.list.rowCount() == len(shown.sibilants._places)
    shown.list.setFocus()
    QTest.keyClick(shown.list, KEY.Key_Return)
    assert desk.bench.listening.passing is not None
    desk.bench.listening.toggle_play()
    shown.taken.click()
    assert desk.session.view.hear == "taken"
    shown.ear.click()
    assert desk.session.view.hear == "detector" and not shown.taken.on
    shown.ear.click()
    hold = shown.controls["hold_aim"]
    hold.click()
    desk.settle()
    desk.bench.set_setting(step.id, "low", 3000.0, "from")
    desk.settle()
    again = desk.session.step(step.id)
    assert (
        isinstance(again, DeEsser)
        and again.threshold != step.threshold
        and "1.0 dB off at peaks" in shown.aim.words.text()
    )


@pytest.mark.thorough
def test_the_tamers_weights_are_dragged_and_stepped(desk: Desk) -> None:
    with_step(desk, ResonanceTamer(at_most=12.0, stands_out=4.0))
    shown = desk.window.shape.editor
    assert isinstance(shown, TamerEditor)
    assert shown.words.text().startswith("most around") and shown.cuts._most.max() > 1.0

    def weights() -> tuple[float, ...]:
        step = desk.session.step(desk.session.view.step)
        assert isinstance(step, ResonanceTamer)
        return step.weights

    chart = shown.cuts
    top = QPointF(chart.block(1).center().x(), chart.top_of(1))
    drag(desk, chart, top, QPointF(0.0, chart.block(1).bottom() - top.y()))
    assert weights()[1] < 0.03 and weights()[2] == 1.0
    chart.setFocus()
    QTest.keyClick(chart, KEY.Key_Right)
    QTest.keyClick(chart, KEY.Key_Up)
    assert weights()[2] == pytest.approx(1.05)
    before = chart._most.copy()
    desk.settle()
    assert not np.array_equal(before, chart._most)
    shown.taken.click()
    assert desk.session.view.hear == "taken"
    assert "ms late" in shown.state.text()


@pytest.mark.thorough
def test_the_shaper_tells_what_becomes_of_the_punch(desk: Desk) -> None:
    with_step(desk, TransientShaper(attack=6.0))
    shown = desk.window.shape.editor
    assert isinstance(shown, ShaperEditor) and shown.hits._hits is not None
    kept = float(shown.words.text().split("punch kept ")[1].split(" %")[0])
    assert kept > 110.0
    shown.controls["attack"].setFocus()
    QTest.keyClick(shown.controls["attack"], KEY.Key_Home)
    desk.settle()
    assert float(shown.words.text().split("punch kept ")[1].split(" %")[0]) < 90.0


@pytest.mark.thorough
def test_a_glue_shows_what_drives_it_and_lifts_by_its_aim(desk: Desk) -> None:
    desk.bench.look(step="glue-1")
    desk.settle()
    shown = desk.window.shape.editor
    assert isinstance(shown, GlueEditor)
    shown.chooser.button("detector").click()
    assert shown.detector.isVisible() and "below 150 Hz" in shown.detector.words
    lows = float(shown.detector.words.split("below 150 Hz ")[1].split(" %")[0])
    desk.bench.set_setting("glue-1", "low_cut", 400.0, "low cut")
    desk.settle()
    assert float(shown.detector.words.split("below 150 Hz ")[1].split(" %")[0]) < lows
    told: list[str] = []
    desk.bench.told.connect(lambda said: told.append(said.text))
    shown.find_lift.click()
    desk.wait(lambda: bool(told))
    assert "lift ratio of 1" in told[0] and desk.session.step("glue-1").lift_ratio == 2.0
    desk.bench.set_setting("glue-1", "lift_ratio", 3.0, "lift ratio")
    desk.settle()
    shown.find_lift.click()
    desk.wait(lambda: "More would raise what is loud" in told[-1])  # the section is about as loud all along
    desk.bench.set_setting("glue-1", "lift_aim", 0.2, "lift by")
    shown.find_lift.click()
    desk.settle()
    desk.wait(lambda: "0.2 mean" in shown.aim.words.text())
    desk.bench.set_setting("glue-1", "hold_lift", True, "hold")
    desk.settle()
    held = desk.session.step("glue-1")
    desk.bench.set_setting("glue-1", "tilt", 3.0, "tilt")
    desk.settle()
    again = desk.session.step("glue-1")
    assert isinstance(held, Glue) and isinstance(again, Glue) and held.lift_threshold != again.lift_threshold


@pytest.mark.thorough
def test_keys_are_offered_for_bands_and_refused_where_they_would_go_in_circles(desk: Desk) -> None:
    desk.bench.edit("Bus", lambda s: tree.with_bus(s, "Low", [s.stems[0].id]))
    desk.settle()
    with_step(desk, MidSideEq(bands=(Band(id=1, dynamic=True, ratio=4.0, threshold=-50.0),)))
    desk.bench.look(band=1)
    shown = desk.window.shape.editor
    assert isinstance(shown, EqEditor)
    offered = [shown.key.box.itemText(n) for n in range(shown.key.box.count())]
    assert offered[0] == "itself" and "Low" in offered and "Mix bus" not in offered
    shown.key.box.activated.emit(offered.index("Low"))
    desk.settle()
    eq = desk.session.step(desk.session.view.step)
    bus = next(s.id for s in desk.session.strips if s.name == "Low")
    assert isinstance(eq, MidSideEq) and eq.bands[0].key == bus and eq.keys_from == (bus,)
    assert "key Low" in desk.window.shape.ledger.row(eq.id).words
    desk.window.shape.ledger.add_split()
    first = column(desk, 0)
    names = [first.key.box.itemText(n) for n in range(first.key.box.count())]
    first.key.box.activated.emit(names.index("Low"))
    assert split(desk).bands[0].key == bus
    told: list[str] = []
    desk.bench.told.connect(lambda said: told.append(said.text))
    circle = Split(id="circle", bands=(split(desk).bands[0], split(desk).bands[1]), crossovers=(300.0,))
    desk.bench.edit("Circle", lambda s: s.with_chain(bus, (circle,)))
    assert told and "already depends" in told[0] and not desk.session.strip(bus).chain


@pytest.mark.thorough
def test_everything_of_a_split_is_reached_by_tab(bands: Desk) -> None:
    add(bands, 0, "Glue")
    seen: set[str] = set()
    editor(bands).crossings.setFocus()
    for _ in range(60):
        widget = bands.window.focusWidget()
        assert widget is not None
        seen.add(widget.accessibleName() or widget.toolTip()[:20])
        QTest.keyClick(widget, KEY.Key_Tab)
    for name in ("Mix", "Gain", "Hear alone", "Hear change", "Key", "Band menu", "Reduce by", "Hold"):
        assert name in seen, (name, sorted(seen))


@pytest.mark.thorough
def test_mid_and_side_get_bands_of_their_own(bands: Desk) -> None:
    shown = editor(bands)
    add(bands, 0, "Glue")
    assert shown.parts.chosen_key == "stereo" and column(bands, 0).controls["target"].isVisible()
    bands.bot.mouseClick(shown.parts.button("side"), LEFT)
    bands.settle()
    made = split(bands)
    assert len(made.side_bands) == 3 and made.side_crossovers == made.crossovers and made.bands[0].steps
    assert [c.name.text() for c in shown.columns.columns] == ["Side lows", "Side mids", "Side highs"]
    assert not column(bands, 0).controls["target"].isVisible()
    add(bands, 2, "Trim")
    bands.bot.mouseClick(shown.count.button("2"), LEFT)
    assert len(split(bands).side_bands) == 2 and len(split(bands).bands) == 3
    shown.crossings.setFocus()
    QTest.keyClick(shown.crossings, KEY.Key_Right)
    assert split(bands).side_crossovers[0] == pytest.approx(made.side_crossovers[0] * 1.01, abs=0.1)
    assert split(bands).crossovers == made.crossovers
    bands.bot.mouseClick(shown.parts.button("mid"), LEFT)
    assert column(bands, 0).name.text() == "Mid lows" and column(bands, 0).blocks
    told: list[str] = []
    bands.bench.told.connect(lambda said: told.append(said.text))
    bands.bot.mouseClick(shown.parts.button("stereo"), LEFT)
    assert not split(bands).side_bands and told == ["A step went with its band. Undo brings it back."]
    shortcut(bands, "Ctrl+Z")
    assert len(split(bands).side_bands) == 2
    bands.settle()
    assert "Side lows" in " ".join(rows(bands))


@pytest.mark.thorough
def test_what_is_heard_of_a_band_is_in_sight_and_so_is_its_threshold(bands: Desk) -> None:
    for n in range(3):
        add(bands, n, "Glue")
    window = bands.window.rect()
    for n in range(3):
        shown = column(bands, n)
        for switch in (shown.alone, shown.change):
            assert window.contains(switch.mapTo(bands.window, switch.rect().bottomRight()))
            assert not switch.visibleRegion().isEmpty()
        assert {"threshold", "ratio"} <= set(shown.blocks[0].controls)


@pytest.mark.thorough
def test_amounts_are_typed_of_a_split_and_a_chain(bands: Desk) -> None:
    amount = editor(bands).controls["amount"]
    amount.setFocus()
    for pressed in ("7", "0", KEY.Key_Return):
        key(bands, pressed)
    assert split(bands).amount == 70.0
    bands.bench.look(step="")
    source = bands.window.shape.editor
    assert isinstance(source, SourceEditor)
    source.amount.setFocus()
    for pressed in ("1", "4", "0", KEY.Key_Return):
        key(bands, pressed)
    bands.settle()
    assert bands.session.mix.amount == 140.0 and bands.bench.document.undo_name == "Mix bus amount"
    ledger = bands.window.shape.ledger
    assert "chain at 140 %" in ledger.row("").words
    shortcut(bands, "Ctrl+Z")
    assert bands.session.mix.amount == 100.0 and source.amount.value == 100.0
