"""The window of meters: what it shows is what is heard, and it stands where it stood."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from gluvo.desk.window.meters_window import CENTRES, MetersView, MetersWindow
from gluvo.steps import Glue, Trim

from .conftest import RATE, noise
from .desk import Desk, shortcut


def shown(desk: Desk) -> MetersWindow:
    shortcut(desk, "F9")
    window = desk.window.meters
    assert window is not None and window.isVisible()
    return window


def picture(view: MetersView) -> bytes:
    return bytes(view.grab().toImage().constBits())


@pytest.mark.thorough
def test_it_shows_what_plays_and_starts_over(desk: Desk) -> None:
    window = shown(desk)
    view = window.view
    assert "–" in dict((name, value) for name, value, _ in view.figures())["Short-term"]
    still = picture(view)
    desk.bench.listening.toggle_play()
    live = desk.bench.live_figures
    desk.wait(lambda: len(live.history) > 12 and view._image is not None and live.reductions.get("glue-1", 0.0) > 0.5)
    assert picture(view) != still
    told = {name: value for name, value, _ in view.figures()}
    assert all(value != "–" for value in told.values()) and "Momentary" in view.describe()
    assert any(point.reductions.get("glue-1", 0.0) > 0.5 for point in live.history)
    desk.bench.listening.toggle_play()
    desk.wait(lambda: not desk.bench.engine.playing and not len(desk.bench.engine.read().seconds))
    QTest.mouseClick(view, Qt.MouseButton.LeftButton)
    assert live.true_peak == 0.0 and dict((n, v) for n, v, _ in view.figures())["So far"] == "–"
    shortcut(desk, "F9")
    assert not window.isVisible()


@pytest.mark.thorough
def test_its_tone_and_image_are_those_of_the_sound(desk: Desk) -> None:
    view = MetersView(desk.bench, desk.bench.live_figures)
    pink = noise(1.0, 0.2)
    mono = np.repeat(pink[:, :1], 2, axis=1)
    one = view._next(mono, RATE)
    assert one.side.max() < 1e-6 and one.correlations == pytest.approx((1.0,) * 5, abs=1e-3)
    view._image = None
    turned = view._next(mono * [1.0, -1.0], RATE)
    assert turned.side.min() > 1.0 - 1e-6 and turned.correlations == pytest.approx((-1.0,) * 5, abs=1e-3)
    view._image = None
    steep = view._next(pink, RATE).levels  # white: 4.5 dB an octave up as it is shown
    high, low = (float(np.interp(f, CENTRES, steep)) for f in (8000.0, 500.0))
    assert high - low == pytest.approx(4 * 4.5, abs=2.5)


def test_steps_of_one_name_are_told_apart_and_chains_without_any_say_so(desk: Desk) -> None:
    window = shown(desk)
    desk.bench.edit("Add", lambda s: s.with_new_step(Glue(ratio=2.0), "mix", "glue-1"))
    assert [name for _, name in window.view.steps()] == ["Glue 1", "Glue 2", "Limiter"]
    desk.bench.edit("Plain", lambda s: s.with_chain("mix", [Trim(id="only")]))
    assert window.view.steps() == [] and picture(window.view)


@pytest.mark.thorough
def test_it_stands_where_it_stood_and_f11_fills_the_screen(desk: Desk) -> None:
    window = shown(desk)
    window.resize(900, 600)
    window.activateWindow()
    QTest.qWaitForWindowActive(window, 20_000)
    QTest.keyClick(window.view, Qt.Key.Key_F11)
    desk.wait(window.isFullScreen)
    QTest.keyClick(window.view, Qt.Key.Key_Escape)
    desk.wait(lambda: not window.isFullScreen())
    desk.wait(lambda: window.size().width() == 900)
    window.close()
    assert str(desk.window.settings.value("meters/open")).lower() == "false"
    again = MetersWindow(
        desk.bench, desk.bench.live_figures, desk.window.settings, desk.window.hear_row.hear_range.press
    )
    assert (again.width(), again.height()) == (900, 600)
    shown(desk)
    assert str(desk.window.settings.value("meters/open")).lower() == "true"
