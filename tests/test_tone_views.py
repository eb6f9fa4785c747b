"""What the tone views work out before they draw: words, scales, live spectra, marks."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication, QComboBox, QPushButton
from pytestqt.qtbot import QtBot

from gluvo.advise.step_analysis import StepAnalysis
from gluvo.advise.tone import BandCost, LowCutCost, Movement
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import Toggle, figure
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.eq.band_table import FIELDS, cell_text
from gluvo.desk.editors.eq.band_words import band_sentence, band_words, change_words
from gluvo.desk.editors.eq.curves import GAIN_RANGES, gain_range
from gluvo.desk.editors.eq.lane import EqLane, rounded_freq
from gluvo.desk.editors.image_view import Measured, ScatterView, spread
from gluvo.desk.editors.spectrum_view import LiveTone, SpectrumView, described, lifted
from gluvo.measure.resonances import Resonance
from gluvo.measure.spectrum import tone_of
from gluvo.measure.stereo import scatter_of
from gluvo.session.records import Analyser, Limit
from gluvo.session.store import read_session
from gluvo.steps import Band, MidSideEq, Saturation, Width, settings_of

from .conftest import RATE, music, noise, sine
from .desk import Desk


def around(**parts: object) -> StepAnalysis:
    tone = tone_of(noise(1.0), RATE)
    return StepAnalysis("eq-1", tone, tone, (-20.0, -20.0), **parts)


# --- words -------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (0.0, "changes nothing"),
        (-0.004, "changes nothing"),
        (-0.32, "takes 0.32 dB"),
        (2.46, "adds 2.5 dB"),
        (-14.0, "takes 14.0 dB"),
    ],
)
def test_amounts_in_words(change: float, words: str) -> None:
    assert change_words(change) == words


def test_a_band_tells_what_it_does() -> None:
    bell = Band(id=1, target="side", freq=900.0, gain=-3.0)
    found = around(costs={1: BandCost(-1.8, -0.06)})
    assert band_words(bell, found, "Refrain") == "takes 1.8 dB of the side"
    assert band_sentence(bell, found, "Refrain") == "Takes 1.8 dB of the side, 6.0 % of all energy in Refrain"
    assert band_words(bell, None, "Refrain") == "" and "measured" in band_sentence(bell, None, "Refrain")
    off = Band(id=1, on=False)
    assert band_words(off, found, "Refrain") == "off" and "off" in band_sentence(off, found, "Refrain")
    flat = around(costs={1: BandCost(0.0, 0.0)})
    assert band_words(Band(id=1), flat, "Refrain") == "nothing yet"


def test_a_moving_band_tells_how_far_and_how_often() -> None:
    band = Band(id=3, target="mid", dynamic=True)
    found = around(costs={3: BandCost(0.0, 0.0)}, moves={3: Movement(-3.14, 0.41)})
    assert band_words(band, found, "Verse") == "sinks by 3.1 dB at most, 41 % of the time"
    assert (
        band_sentence(band, found, "Verse") == "At rest it changes nothing · sinks by 3.1 dB at most, 41 % of the time"
    )


def test_a_low_cut_tells_song_section_and_note() -> None:
    band = Band(id=2, shape="low_cut", freq=45.0)
    cut = LowCutCost(-0.31, -0.12, 47.0, 41.2, 4.6)
    found = around(costs={2: BandCost(-0.12, -0.03)}, low_cuts={2: cut})
    assert band_words(band, found, "Verse") == "takes 0.31 dB of the song, 0.12 dB of Verse · E1 loses 4.6 dB"
    sentence = band_sentence(band, found, "Verse")
    assert "takes 0.31 dB of the whole song" in sentence and "under F♯1 over 1 dB goes" in sentence
    assert cut.lowest_hurt == "E1" and LowCutCost(0.0, 0.0, 0.0, 0.0, 0.0).describe() == "takes nothing that is played"


def test_cells_show_only_what_does_something() -> None:
    column = {name: FIELDS.index(name) for name in FIELDS if name}
    cut = Band(id=1, shape="low_cut", freq=25.0, q=0.71, slope=24, on=False, twin=2)
    assert cell_text(cut, 3, 0) == "3 off ⇄"
    assert [cell_text(cut, 3, column[n]) for n in ("gain", "slope", "dynamic", "shape")] == ["", "24", "", "low cut"]
    bell = Band(id=1, freq=4500.0, gain=1.5, dynamic=True, moves="up", range=4.0)
    assert [cell_text(bell, 1, column[n]) for n in ("gain", "slope", "dynamic")] == ["+1.50", "", "+4 dB"]
    assert cell_text(bell, 1, 4) == "C♯8"


def test_figures_with_a_sign() -> None:
    assert [figure(v, signed=True) for v in (0.93, -0.93, 0.0, 0.01)] == ["+0.9", "−0.9", "0.0", "0.0"]
    assert described(440.0) == "440 Hz · A4" and described(12_000.0).startswith("12.0 kHz")


# --- scales ------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("bands", "top"),
    [
        ((), 6.0),
        ((Band(id=1, gain=5.0),), 6.0),
        ((Band(id=1, gain=-6.0),), 12.0),
        ((Band(id=1, gain=-4.0), Band(id=2, gain=-4.0)), 12.0),
        ((Band(id=1, gain=2.0, dynamic=True, range=12.0),), 24.0),
        ((Band(id=1, shape="low_cut", slope=96),), 6.0),
        ((Band(id=1, gain=24.0), Band(id=2, gain=24.0)), 48.0),
    ],
)
def test_the_lanes_reach_as_far_as_their_bands(bands: tuple[Band, ...], top: float) -> None:
    assert gain_range(MidSideEq(bands=bands), RATE) == top and top in GAIN_RANGES


def test_frequencies_keep_the_digits_that_are_shown() -> None:
    assert [rounded_freq(f) for f in (27.456, 440.123, 4512.7, 3.0, 99_999.0)] == [27.46, 440.1, 4513.0, 10.0, 20_000.0]


def test_a_slope_turns_about_one_kilohertz() -> None:
    assert lifted(np.array([500.0, 1000.0, 4000.0]), 3.0).tolist() == [-3.0, 0.0, 6.0]
    assert spread(np.array([-60.0, -36.0, -15.0, 6.0, 20.0])).tolist() == [0.0, 0.0, 0.5, 1.0, 1.0]


# --- live --------------------------------------------------------------------------------------------------


def test_live_spectra_come_in_calmly_and_hold_their_highest() -> None:
    loud, quiet = (tone_of(sine(1000, 0.35, level), RATE) for level in (-12.0, -60.0))
    live = LiveTone()
    live.push(quiet)
    assert live.tone is quiet and live.held is None
    for _ in range(20):
        live.push(loud)
        live.hold(True)
    assert live.tone.total("stereo") == pytest.approx(loud.total("stereo"), rel=1e-2)
    for _ in range(20):
        live.push(quiet)
        live.hold(True)
    assert live.held is not None
    assert live.tone.total("stereo") < 1e-3 * live.held.total("stereo")
    live.hold(False)
    assert live.held is None


def test_a_limit_tells_where_it_is_passed(qtbot: QtBot, qapp: QApplication) -> None:
    view = SpectrumView()
    qtbot.addWidget(view)
    view.resize(600, 240)
    tone = tone_of(noise(4.0, 0.1) + sine(1000, 4.0, -12.0), RATE)
    level = float(tone.smoothed("stereo", 12, np.array([3000.0]))[0])
    view.show_settings(Analyser(part="stereo", slope=0.0))
    view.show_tones(tone, tone, -20.0)
    over = Limit(id="limit-1", name="Lid", points=((100.0, level + 6.0), (10_000.0, level + 6.0)))
    view.show_limits((over, Limit(id="limit-2", name="High", points=((2000.0, level + 6.0), (9000.0, level + 6.0)))))
    ((limit, by, freq),) = view.over_limits()
    assert limit is over and freq == pytest.approx(1000.0, rel=0.03) and by > 6.0
    view.show_settings(Analyser(part="side", slope=4.0))  # the tone is not in the side, and slopes move both alike
    assert view.over_limits() == []


# --- lanes and the scatter ---------------------------------------------------------------------------------


def test_marks_lie_on_the_curve_and_inside_the_lane(qtbot: QtBot, qapp: QApplication) -> None:
    lane = EqLane("mid", last=True)
    qtbot.addWidget(lane)
    lane.resize(800, 160)
    bands = (
        Band(id=1, target="mid", freq=500.0, gain=4.0),
        Band(id=2, shape="low_cut", freq=40.0, slope=96, q=0.71),
        Band(id=3, target="side", freq=3000.0, gain=4.0),
    )
    step = MidSideEq(bands=bands)
    lane.show_step(step, RATE, 1, gain_range(step, RATE))
    assert [number for number, _ in lane.bands] == [1, 2]  # side's is elsewhere
    assert lane.mark_at(bands[0]).y() == pytest.approx(lane.y_at(4.0), abs=1.5)
    for band in bands[:2]:
        mark = lane.mark_at(band)
        assert lane.area.contains(mark) and lane.band_at(mark) == band
    assert lane.band_at(QPointF(lane.x_at(8000.0), lane.y_at(0.0))) is None
    assert lane.freq_at(lane.x_at(1234.0)) == pytest.approx(1234.0, rel=1e-6)
    assert lane.gain_at(lane.y_at(-2.5)) == pytest.approx(-2.5)


def test_resonances_are_marked_in_their_own_lane(qtbot: QtBot, qapp: QApplication) -> None:
    found = [Resonance(261.0, 8.0, 0.7, 20.0, "mid"), Resonance(104.0, 19.0, 0.99, 10.0, "side")]
    for target, marks in (("mid", 1), ("side", 1), ("stereo", 1), ("left", 0)):
        lane = EqLane(target, last=True)
        qtbot.addWidget(lane)
        lane.resize(800, 160)
        plain = lane.grab().toImage()
        lane.show_resonances(found)
        assert len(lane._resonances) == marks
        assert (lane.grab().toImage() != plain) is bool(marks)


def test_the_scatter_is_upright_for_mono_and_flat_for_what_cancels(qtbot: QtBot, qapp: QApplication) -> None:
    view = ScatterView()
    qtbot.addWidget(view)
    hiss = noise(1.0, 0.2)[:, :1]
    for right, upright in ((1.0, True), (-1.0, False)):
        scatter = scatter_of(hiss * np.array([1.0, right]))
        view.show_scatter(scatter)
        mid, side = (np.count_nonzero(scatter.density.sum(axis=axis)) for axis in (1, 0))  # rows are of mid
        assert bool(mid > 20 * side) is upright and bool(side > 20 * mid) is not upright


def test_the_image_is_measured_once_for_both_views() -> None:
    tones = tone_of(music(3.0), RATE), tone_of(music(3.0) * np.array([1.0, 0.5]), RATE)
    measured = Measured.of(tones, RATE)
    assert measured.tones is tones and measured.before.freqs.tolist() == measured.after.freqs.tolist()
    assert (measured.after.width > measured.before.width - 1e-9).mean() >= 0.75  # a louder side widens


# --- everything can be reached -----------------------------------------------------------------------------


@pytest.mark.thorough
def test_every_control_of_the_tone_steps_has_a_tip_and_a_focus(desk: Desk) -> None:
    for step in (MidSideEq(bands=(Band(id=1),)), Saturation(drive=3.0), Width(bands=4)):
        desk.bench.edit("x", lambda s, step=step: s.with_new_step(step, "mix"))
        desk.bench.look(step=desk.session.mix.chain[0].id)
        QApplication.processEvents()
        editor = desk.window.shape.editor
        assert isinstance(editor, StepEditor)
        seen = 0
        for view in editor.chooser._buttons:
            editor.chooser.button(view).click()
            QApplication.processEvents()
            for widget in (w for kind in (QPushButton, QComboBox, Toggle, Ruler) for w in editor.findChildren(kind)):
                if widget.isVisible() and widget.parentWidget().isVisible():
                    seen += 1
                    assert widget.toolTip(), (type(step), widget)
                    assert widget.focusPolicy() & Qt.FocusPolicy.TabFocus, (type(step), widget)
        assert seen > 15
        for name in settings_of(type(step)):
            assert name in editor.controls, (type(step), name)  # no setting is left out


@pytest.mark.thorough
def test_how_one_looks_is_kept_but_not_undone(desk: Desk) -> None:
    undo = desk.bench.document.undo_name
    desk.bench.adjust("analyser", slope=4.5, fraction=24, live=True)
    desk.bench.adjust("hunting", gain=14.0)
    desk.bench.adjust("tone", freq=440.0)
    assert desk.bench.document.undo_name == undo
    assert desk.window.documents.save()
    view = read_session(desk.bench.document.path).session.view
    assert (view.analyser.slope, view.analyser.fraction, view.analyser.live) == (4.5, 24, True)
    assert (view.hunting.gain, view.tone.freq) == (14.0, 440.0)
