"""One range of what plays, heard alone while a key is held."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QWidget

from gluvo.desk.charts.chart import ByFrequency
from gluvo.desk.editors.spectrum_view import difference
from gluvo.dsp.crossover import LinearBand
from gluvo.play.ears import EarParts, Ears, RangePart
from gluvo.play.engine import Engine, Monitoring
from gluvo.session.records import RoadTest
from gluvo.steps import MidSideEq

from .conftest import RATE, material, noise, one, sine
from .desk import LEFT, Desk, focus, key, move
from .test_play import pulled

KEYS = Qt.Key


def level(x: np.ndarray) -> float:
    return float(20.0 * np.log10(max(1e-9, np.sqrt((x[len(x) // 2 :] ** 2).mean()))))


@pytest.mark.parametrize("rate", [44_100, 48_000, 192_000])
def test_only_the_range_passes(rate: int) -> None:
    lost = {}
    for freq in (100.0, 500.0, 1000.0, 2000.0, 8000.0):
        x = sine(freq, 0.5, -12.0, rate)
        out, part = np.array(x), RangePart(400.0, 3000.0, rate)
        for at in range(0, len(out), 512):
            part.process(out[at : at + 512])
        lost[freq] = level(x) - level(out)
    assert lost[1000.0] < 0.1 and lost[2000.0] < 0.3 and lost[500.0] < 1.0
    assert lost[100.0] > 90.0 and lost[8000.0] > 60.0


def test_a_range_to_both_ends_is_all() -> None:
    x = noise(0.1)
    out = np.array(x)
    RangePart(20.0, 20_000.0, RATE).process(out)
    assert np.array_equal(out, x)


def test_a_range_that_moves_all_the_time_never_clicks() -> None:
    """On a steady tone, with a new range every few blocks, faster than it can fade."""
    x = sine(220.0, 6.0, -10.0)
    engine = Engine(material(x), {}, one([]))
    engine.listen(Monitoring())
    engine.play()
    heard = [pulled(engine, RATE)]
    for n in range(150):
        low = 150.0 + 100.0 * np.sin(n / 5.0)
        engine.listen(Monitoring(range=(low, 6.0 * low)))
        heard.append(pulled(engine, 512))
    engine.listen(Monitoring(range=None))
    heard.append(pulled(engine, RATE))
    y = np.concatenate(heard)
    high = LinearBand((4000.0,), 1, RATE, 48)
    out = np.zeros_like(y)
    for at in range(0, len(y), 4096):
        high.run(y[at : at + 4096], out[at : at + 4096])
    assert np.abs(out[RATE // 2 :]).max() < 10 ** (-60 / 20)
    assert np.array_equal(heard[-1][RATE // 2 :], pulled_plain(x)[len(y) - RATE // 2 : len(y)])


def pulled_plain(x: np.ndarray) -> np.ndarray:
    engine = Engine(material(x), {}, one([]))
    engine.listen(Monitoring())
    engine.play()
    return pulled(engine, 5 * RATE)


def test_what_is_wanted_while_it_fades_comes_next_and_only_the_last() -> None:
    ears = Ears(RATE, 960)
    first, second, third = (ears.made(RoadTest(), -20.0, (low, 4000.0)) for low in (100.0, 200.0, 300.0))
    block = noise(512 / RATE)
    ears.change(first)
    ears.process(np.array(block))
    ears.change(second)
    ears.change(third)
    for _ in range(4):
        ears.process(np.array(block))
    assert ears._range.now is third.range and not ears.open
    ears.change(EarParts())
    for _ in range(4):
        ears.process(np.array(block))
    assert ears.open


# --- in the window -----------------------------------------------------------------------------------------------


def shown(desk: Desk) -> QWidget:
    """A spectrum that is in sight."""
    return next(
        w
        for w in desk.window.findChildren(QWidget)
        if w.isVisible() and isinstance(w, ByFrequency) and w.frequency_at(QPointF(w.rect().center())) is not None
    )


def hold(desk: Desk) -> None:
    desk.window.activateWindow()
    QTest.qWaitForWindowActive(desk.window, 20_000)
    desk.window.setFocus()
    QTest.keyPress(focus(desk), KEYS.Key_Q)
    desk.wait(lambda: desk.window.hear_row.hear_range.held)


def let_go(desk: Desk) -> None:
    QTest.keyRelease(focus(desk), KEYS.Key_Q)
    desk.wait(lambda: not desk.window.hear_row.hear_range.held)


@pytest.mark.thorough
def test_a_drag_over_a_spectrum_is_heard_while_the_key_is_held(desk: Desk) -> None:
    desk.bench.edit("eq", lambda s: s.with_new_step(MidSideEq(), "mix"))
    step = next(item.id for item in desk.session.chain if isinstance(item, MidSideEq))
    desk.bench.look(step=step)
    desk.settle()
    chart, before = shown(desk), desk.session
    middle = QPointF(chart.rect().center())
    hold(desk)
    still = chart.grab().toImage()
    assert "drag" in desk.window.hear_row.range.text()
    QTest.mousePress(chart, LEFT, Qt.KeyboardModifier.NoModifier, middle.toPoint())
    move(chart, middle + QPointF(60.0, 0.0))
    heard = desk.bench.listening.range
    assert isinstance(chart, ByFrequency) and heard is not None
    assert heard == pytest.approx(
        (chart.frequency_at(QPointF(middle.toPoint())), chart.frequency_at(middle + QPointF(60.0, 0.0)))
    )
    assert desk.window.hear_row.range.text().startswith("only ") and chart.grab().toImage() != still
    QTest.mouseRelease(chart, LEFT, Qt.KeyboardModifier.NoModifier, middle.toPoint())
    assert desk.bench.listening.range == heard  # it goes on until the key is let go
    let_go(desk)
    assert desk.bench.listening.range is None and desk.window.hear_row.range.isHidden()
    assert desk.session.strips == before.strips and desk.session.view == before.view
    desk.window.setFocus()
    assert chart.grab().toImage() == still


@pytest.mark.thorough
def test_the_arrow_keys_move_it_and_escape_ends_it(desk: Desk) -> None:
    hold(desk)
    key(desk, KEYS.Key_Right)
    assert desk.bench.listening.range == (500.0, 2000.0)
    key(desk, KEYS.Key_Right)
    low, high = desk.bench.listening.range or (0.0, 0.0)
    assert low == pytest.approx(630.0, rel=0.01) and high == pytest.approx(2520.0, rel=0.01)
    for _ in range(40):
        key(desk, KEYS.Key_Right)
    low, high = desk.bench.listening.range or (0.0, 0.0)
    assert high <= 20_000.0 and low < high
    for _ in range(40):
        key(desk, KEYS.Key_Down)
    low, high = desk.bench.listening.range or (0.0, 0.0)
    assert high / low >= 2.0 ** (1.0 / 6.0)
    for _ in range(40):
        key(desk, KEYS.Key_Up)
    low, high = desk.bench.listening.range or (0.0, 0.0)
    assert 20.0 <= low < 100.0 and high <= 20_000.0
    key(desk, KEYS.Key_Escape)
    assert desk.bench.listening.range is None and not desk.window.hear_row.hear_range.held


@pytest.mark.thorough
def test_a_tap_changes_nothing_and_a_repeating_key_goes_on(desk: Desk) -> None:
    hold(desk)
    key(desk, KEYS.Key_Left)
    for _ in range(3):
        QTest.keyRelease(focus(desk), KEYS.Key_Q)
        QTest.keyPress(focus(desk), KEYS.Key_Q)
    assert desk.bench.listening.range is not None
    let_go(desk)
    assert desk.bench.listening.range is None
    hold(desk)
    let_go(desk)
    assert desk.bench.listening.range is None and desk.window.hear_row.range.isHidden()


@pytest.mark.thorough
def test_limits_stand_in_the_lanes_and_the_change_in_every_spectrum(desk: Desk) -> None:
    desk.bench.edit("eq", lambda s: s.with_new_step(MidSideEq(), "mix"))
    step = next(item.id for item in desk.session.chain if isinstance(item, MidSideEq))
    desk.bench.look(step=step)
    desk.settle()
    editor = desk.window.shape.editor
    lane = next(v for v in editor.lanes.values() if v.isVisible())
    still = lane.grab().toImage()
    editor.spectrum.add_limit(((100.0, -60.0), (5000.0, -70.0)))
    desk.settle()
    assert lane.grab().toImage() != still
    desk.bench.look(step="glue-1")
    desk.settle()
    glue = desk.window.shape.editor
    desk.bot.mouseClick(glue.chooser.button("spectrum"), LEFT)
    plain = glue.spectrum.view.grab().toImage()
    assert glue.spectrum.view.words == ""
    desk.bot.mouseClick(glue.spectrum.change, LEFT)
    desk.settle()
    assert glue.spectrum.view.words.startswith("change, ±") and glue.spectrum.view.grab().toImage() != plain
    change, reach = difference(np.full(5, -40.0), np.array([-39.0, -42.0, -40.0, -40.0, -40.0]))
    assert change.tolist() == [1.0, -2.0, 0.0, 0.0, 0.0] and reach == 3.0
