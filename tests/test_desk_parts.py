"""Widgets on their own: a real widget, a key or a click, what changed."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QApplication, QComboBox, QLabel, QWidget
from pytestqt.qtbot import QtBot

from gluvo.desk.charts.chart import Axis
from gluvo.desk.charts.hit_views import HitsView, LaneView, SpreadView
from gluvo.desk.charts.views import CaughtView, ReductionView, ToneView, TransferView
from gluvo.desk.controls.flow import Elided, Flow
from gluvo.desk.controls.widgets import ChoiceRow, Rows, Segments, Toggle, button, clock, figure
from gluvo.desk.model import live_figures
from gluvo.desk.model.delivery import at_home, unused
from gluvo.desk.model.live_figures import LiveFigures
from gluvo.measure.figures import figures_of
from gluvo.measure.hits import calm, hits_of
from gluvo.measure.loudness import SILENT, integrated
from gluvo.measure.overview import Reduction, ReductionTracer
from gluvo.measure.spectrum import spectrum
from gluvo.measure.trace import Span, trace_of
from gluvo.play.meters import Board, Meters, Readings
from gluvo.steps import Glue, Split, settings_of

from .conftest import RATE, music


def told(signal: Signal) -> list[object]:
    found: list[object] = []
    signal.connect(found.append)  # type: ignore[attr-defined]
    return found


def show(qtbot: QtBot, widget: QWidget, width: int = 420, height: int = 220) -> QWidget:
    qtbot.addWidget(widget)
    widget.resize(width, height)
    widget.show()
    return widget


def picture(widget: QWidget) -> bytes:
    return bytes(widget.grab().toImage().constBits())


def test_a_toggle_by_mouse_and_enter(qtbot: QtBot, qapp: QApplication) -> None:
    toggle = Toggle("Hold", "Keeps it.")
    show(qtbot, toggle, 90, 24)
    changes = told(toggle.toggled)
    off = picture(toggle)
    qtbot.mouseClick(toggle, Qt.MouseButton.LeftButton)
    assert changes == [True] and toggle.on and picture(toggle) != off
    qtbot.keyClick(toggle, Qt.Key.Key_Return)
    assert changes == [True, False]
    qtbot.keyClick(toggle, Qt.Key.Key_Space)  # Space is for play
    assert changes == [True, False]
    toggle.set_on(True)
    assert changes == [True, False] and toggle.accessibleDescription() == "on"


def test_segments_and_choices(qtbot: QtBot, qapp: QApplication) -> None:
    segments = Segments([("a", "One"), ("b", "Two")], "Choose.")
    show(qtbot, segments)
    chosen = told(segments.chosen)
    qtbot.mouseClick(segments.button("b"), Qt.MouseButton.LeftButton)
    assert chosen == ["b"] and segments.button("b").isChecked() and not segments.button("a").isChecked()
    row = ChoiceRow(settings_of(Split)["slope"])
    show(qtbot, row)
    picked = told(row.chosen)
    row.set_value(24)
    box = row.findChild(QComboBox)
    assert box is not None and box.currentText() == "24 dB/oct"
    box.activated.emit(0)
    assert picked == [12]


def test_enter_presses_a_button_and_space_does_not_steal(qtbot: QtBot, qapp: QApplication) -> None:
    pressed: list[int] = []
    made = button("Go", "Goes.", lambda: pressed.append(1))
    show(qtbot, made)
    qtbot.keyClick(made, Qt.Key.Key_Return)
    assert pressed == [1]


@pytest.mark.parametrize(
    ("value", "decimals", "text"),
    [(-14.04, 1, "−14.0"), (0.02, 1, "0.0"), (-0.04, 1, "0.0"), (3.456, 2, "3.46"), (-200.0, 1, "–")],
)
def test_figures_are_written_alike(value: float, decimals: int, text: str) -> None:
    assert figure(value, decimals) == text


def test_time_is_written_alike() -> None:
    assert (clock(0), clock(72.46), clock(61, False), clock(-1)) == ("0:00.0", "1:12.4", "1:01", "0:00.0")


def test_axes_go_both_ways() -> None:
    for axis in (Axis(-60.0, 3.0, ()), Axis(20.0, 20_000.0, (), log=True)):
        values = np.linspace(axis.low, axis.high, 7)
        assert [axis.value(axis.place(v)) for v in values] == pytest.approx(values.tolist())
        assert axis.places(values).tolist() == pytest.approx([axis.place(v) for v in values])
    assert [Axis(-6.0, 6.0, (), signed=s).text(v) for s, v in ((False, 2000.0), (False, -6.0), (True, 6.0))] == [
        "2k",
        "−6",
        "+6",
    ]


def test_views_show_what_they_are_given(qtbot: QtBot, qapp: QApplication) -> None:
    x = music(6.0)
    trace = trace_of(x, RATE)
    movement = np.abs(np.sin(np.arange(len(x)) / 9000.0)) * 4.0
    tracer = ReductionTracer(RATE, len(x))
    tracer.push(movement)
    reduction: Reduction = tracer.finish()
    hits = hits_of(x, x * 0.7, reduction.curve, reduction.curve_rate, RATE)
    assert hits is not None
    tones = [spectrum(music(3.0, seed=n), RATE) for n in range(3)]
    views = {
        HitsView: lambda v, n: v.show_hits(hits if n else None, 20.0, "Refrain"),
        TransferView: lambda v, n: v.show_curve(Glue(ratio=2.0 + n, threshold=-20.0).curve, np.full(50, -18.0 - n)),
        SpreadView: lambda v, n: v.show_spread(reduction.mean if n else np.zeros(0), 2.0, 2.1),
        LaneView: lambda v, n: v.show_lane(trace, trace.scaled(0.1 + 0.2 * n), trace.scaled(1.2), Span(0.0, 6.0)),
        ReductionView: lambda v, n: v.show_reduction(reduction if n else None, Span(1.0, 4.0), 0.0, 2.0, "aim 2.0 dB"),
        CaughtView: lambda v, n: v.show_peaks(trace if n else None, Span(0.0, 6.0), 6.0, -1.0, True),
        ToneView: lambda v, n: v.show_tone(tones[0] if n else None, tones[1:]),
    }
    for kind, give in views.items():
        view = kind()
        show(qtbot, view)
        empty = picture(view)
        give(view, 0)
        first = picture(view)
        give(view, 1)
        assert picture(view) not in (empty, first), kind
        assert view.toolTip()
    transfer = TransferView()
    show(qtbot, transfer)
    transfer.show_curve(Glue(ratio=4.0, threshold=-30.0).curve, None)
    still = picture(transfer)
    transfer.show_live(-12.0, 6.0)
    assert picture(transfer) != still


def test_a_calm_envelope_keeps_its_height() -> None:
    curve = np.where(np.arange(400) % 40 == 0, 0.0, -30.0)
    assert len(calm(curve)) == 400 and calm(curve)[50:350].min() > -30.0 and calm(curve).max() <= 0.0


def test_live_levels_hold_peaks_and_measure_loudness() -> None:
    def readings(peak: float, power: float) -> Readings:
        return Readings(
            np.array([0.1]),
            np.array([[peak, peak / 2]]),
            np.array([peak]),
            np.array([power]),
            np.array([[power, power / 4]]),
            np.array([power / 4]),
            np.full((1, 32), 3.0 if peak > 0.1 else 0.0),
            np.zeros((1, 32)),
            np.zeros((1, 4, 2)),
        )

    live = LiveFigures()
    live.take(readings(0.5, 0.01), 0.1, ("glue-1",))
    assert live.held[0] == pytest.approx(-6.02, abs=0.01) and live.held[1] == pytest.approx(-12.04, abs=0.01)
    assert live.reductions == {"glue-1": 3.0} and live.correlation == pytest.approx(0.5)
    for _ in range(5):
        live.take(readings(0.001, 1e-9), 0.1, ("glue-1",))
    assert live.held[0] == pytest.approx(-6.02, abs=0.01) and live.levels[0] < -12.0
    assert live.reductions["glue-1"] == 0.0
    for _ in range(30):
        live.take(readings(0.001, 1e-4), 0.1)
    assert live.held[0] < -50.0 and live.true_peak == 0.5
    assert live.loudness(3.0) == pytest.approx(-40.69, abs=0.05)
    assert live.rms == pytest.approx(10 * np.log10(1e-4 * 0.625), abs=0.05)
    assert len(live.history) == 36 and live.history[-1].short_term == live.loudness(3.0)
    live.reset()
    assert live.true_peak == 0.0 and live.integrated == SILENT and live.loudness(3.0) > -41.0
    live.forget()
    assert live.loudness(3.0) == SILENT


@pytest.mark.thorough
def test_three_hours_of_meters_cost_what_a_minute_does(monkeypatch: pytest.MonkeyPatch) -> None:
    """The loudness so far is reckoned seldom when much of it is there, and what is oldest makes room."""
    reckoned: list[int] = []

    def gated(power: np.ndarray) -> float:
        reckoned.append(len(power))
        return -20.0

    monkeypatch.setattr(live_figures, "gated", gated)
    live = LiveFigures()
    for n in range(live_figures.MOST_HOPS + 100):
        live._count(0.1, 0.01)
        if n > 100_000:
            assert live.integrated == -20.0
    assert 0 < len(reckoned) < 200 and live._hopped == live_figures.MOST_HOPS // 2 + 100


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_what_is_heard_is_measured_as_a_file_is(rate: int) -> None:
    """Loudness so far, RMS and correlation of what plays are those of the standard and of the whole."""
    x = music(12.0, rate) * np.repeat([1.0, 0.2, 0.6, 0.6], 3 * rate)[:, None]
    board, live = Board(), LiveFigures()
    meters = Meters(rate, board)
    for at in range(0, len(x), 480):
        meters.write(np.ascontiguousarray(x[at : at + 480]), (), ())
        if at % 4800 == 0:
            live.take(board.read(), 0.05)
    live.take(board.read(), 0.05)
    trace = trace_of(x, rate)
    assert live.integrated == pytest.approx(integrated(trace), abs=0.1)
    last = figures_of(trace, Span(9.0, 12.0))
    assert live.rms == pytest.approx(last.rms, abs=0.1) and live.correlation == pytest.approx(
        last.correlation, abs=0.01
    )
    heard = board.heard(4096)
    assert heard is not None and np.array_equal(heard, x[-4096:])


def test_packed_columns_are_filled_each_for_itself(qtbot: QtBot, qapp: QApplication) -> None:
    heights = {}
    for packed in (False, True):
        page, flow = QWidget(), Flow(100, across=10, down=6, packed=packed)
        qtbot.addWidget(page)
        page.setLayout(flow)
        boxes = [QWidget() for _ in range(4)]
        for box, tall in zip(boxes, (100, 40, 40, 20), strict=True):
            box.setFixedHeight(tall)
            flow.addWidget(box)
        page.resize(220, 300)
        page.show()
        qapp.processEvents()
        heights[packed] = flow.heightForWidth(220)
        places = [(box.x(), box.y()) for box in boxes]
        rects = [box.geometry() for box in boxes]
        assert not any(a.intersects(b) for n, a in enumerate(rects) for b in rects[n + 1 :])
    assert heights == {False: 100 + 6 + 40, True: 40 + 6 + 40 + 6 + 20}
    assert places == [(0, 0), (115, 0), (115, 46), (115, 92)]


def test_rows_repaint(qtbot: QtBot, qapp: QApplication) -> None:
    rows = Rows((("Peak", "How high."), ("Range", "How wide.")))
    show(qtbot, rows, 200, 50)
    rows.set_values(["−1.0", "7.4 LU"], ["over", "ink"])
    assert rows.values == ["−1.0", "7.4 LU"] and "How wide" in rows.toolTip()


def test_names_that_are_free(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "Master.wav"
    assert unused(path) == path
    path.touch()
    assert unused(path).name == "Master (2).wav"
    (tmp_path / "Master (2).wav").touch()
    assert unused(path).name == "Master (3).wav"
    monkeypatch.setenv("HOME", str(tmp_path))
    assert at_home(path) == "~/Master.wav" and at_home(tmp_path.parent) == str(tmp_path.parent)


def test_python_and_qt_count_their_references(qapp: QApplication) -> None:
    """A release of the bindings lost a reference to True at every emit, which ended the process in time."""
    import sys

    from PySide6.QtCore import QObject

    class Teller(QObject):
        said = Signal(bool)

    teller = Teller()
    before = sys.getrefcount(True)
    for _ in range(500):
        teller.said.emit(True)
    assert abs(sys.getrefcount(True) - before) < 50


@pytest.mark.parametrize("cut", [Qt.TextElideMode.ElideRight, Qt.TextElideMode.ElideLeft])
def test_what_does_not_fit_is_cut_at_the_end_that_matters_less(
    qtbot: QtBot, qapp: QApplication, cut: Qt.TextElideMode
) -> None:
    line = Elided("Silent device · 48 kHz · 5 dropouts", cut=cut)
    qtbot.addWidget(line)
    line.resize(400, 20)
    line.show()
    shown = QLabel.text(line)
    assert shown == line.text() and "Silent" not in line.toolTip()
    line.resize(110, 20)
    shown = QLabel.text(line)
    assert shown.endswith("dropouts") is (cut is Qt.TextElideMode.ElideLeft) and "…" in shown
    assert line.text().startswith("Silent") and line.text() in line.toolTip()
