"""The editor of the Saturation: its curve with a test tone, and what it adds to the music."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec
import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget
from shiboken6 import isValid

from gluvo.compare.match import DETECTOR
from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import figure
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.detector_monitor import ear_toggle, show_ear
from gluvo.desk.editors.spectrum_view import PART_COLOURS, frequency_axis, lifted
from gluvo.desk.editors.view_rulers import ViewRulers
from gluvo.dsp.db import gain_of, power_db
from gluvo.measure.bend import BENDS_MUCH, BINS, REACH, Bend
from gluvo.measure.harmonics import MOST, Harmonics, NewSound, harmonics_of
from gluvo.opened.tasks import DRAWING
from gluvo.progress import Progress, no_progress
from gluvo.render.chain import run_chain
from gluvo.session.records import TestTone
from gluvo.steps import Saturation
from gluvo.steps.saturation import AFTER, CURVE, curve_of

TONE_SECONDS = 0.35
LEVELS = 0.42
"""Of a curve's height, which the most frequent level takes."""
FLOOR = -120.0
"""dB under the tone to which harmonics are drawn."""


class CurveView(Chart):
    """What comes out for what goes in, and how far the test tone reaches on it."""

    def __init__(self) -> None:
        ticks = (-1.0, -0.5, 0.0, 0.5, 1.0)
        super().__init__(Axis(-1.25, 1.25, ticks), Axis(-1.25, 1.25, ticks))
        self._x = np.linspace(-1.25, 1.25, 501)
        self._y = self._x
        self._reach = 0.25
        self._bend: Bend | None = None
        self.setToolTip(
            "The wave that comes out (up) for the wave that goes in (across), with mix and output. The grey line is untouched; "
            "the wash is as far as the test tone reaches. Under the curve: how often the music of the section stands at each "
            "level where it comes to the curve, and how much of the time it is bent."
        )

    def show_curve(self, step: Saturation, reach: float) -> None:
        """`reach`: the test tone's amplitude."""
        self._y, self._reach = curve_of(step, self._x), reach
        self.changed()

    def show_bend(self, bend: Bend | None) -> None:
        """How far the music goes into the curve."""
        if bend is not self._bend:
            self._bend = bend
            self.changed()

    @property
    def words(self) -> str:
        """What the chart says, in a sentence."""
        bend = self._bend
        if bend is None:
            return ""
        return f"bent {_percent(bend.bends)} of the time, by {BENDS_MUCH:g} dB or more {_percent(bend.bends_much)}"

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._bend is not None:
            wide, high = 2.0 * REACH / BINS, LEVELS * area.height() / float(self._bend.levels.max()) ** 0.5
            for n, share in enumerate(self._bend.levels.tolist()):
                left, right = self.x_at(-REACH + n * wide), self.x_at(-REACH + (n + 1) * wide)
                tall = share**0.5 * high  # what is loud is rare: its root shows it
                painter.fillRect(QRectF(left, area.bottom() - tall, right - left, tall), c.soft("faint", 90))
        left, right = self.x_at(-self._reach), self.x_at(self._reach)
        painter.fillRect(QRectF(left, area.top(), right - left, area.height()), c.soft("signal", 26))
        painter.setPen(QPen(c["rule"], 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(self.x_at(-1.25), self.y_at(-1.25)), QPointF(self.x_at(1.25), self.y_at(1.25)))
        painter.setPen(QPen(c["signal"], 2))
        painter.drawPolyline(self.line(self._x, np.clip(self._y, -1.4, 1.4)))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        self.note(painter, area.left(), area.top() + 9, "out")
        self.note(painter, area.right(), area.bottom() - 9, "in", right=True)
        if self._bend is not None:
            self.note(painter, area.left(), area.bottom() + 11, self.words, "ink")


def _percent(share: float) -> str:
    return f"{100.0 * share:.0f} %" if share >= 0.095 or share == 0.0 else f"{max(0.1, 100.0 * share):.1f} %"


class HarmonicsView(Chart):
    """The harmonics of the test tone, as bars under it."""

    def __init__(self) -> None:
        super().__init__(Axis(0.4, MOST + 0.6, ()), Axis(FLOOR, 6.0, (0, -20, -40, -60, -80, -100, -120)))
        self._found: Harmonics | None = None
        self.setToolTip(
            "The test tone run through this step alone: harmonics 2 to 10 in dB under it, and all of them together (THD). Even "
            "ones are drawn in another colour than odd ones: they sound fuller, odd ones harder."
        )

    def show_harmonics(self, found: Harmonics) -> None:
        self._found = found
        self.changed()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c, found = colours(), self._found
        if found is None:
            return
        width = area.width() / (MOST + 0.2) * 0.56
        for number, level in enumerate((0.0, *found.levels), start=1):
            if level <= FLOOR:
                continue
            x, y = self.x_at(float(number)), self.y_at(level)
            name = "faint" if number == 1 else "mid" if number % 2 == 0 else "signal"
            painter.fillRect(QRectF(x - width / 2, y, width, area.bottom() - y), c.soft(name, 70))
            painter.fillRect(QRectF(x - width / 2, y, width, 2), c[name])

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        found = self._found
        if found is None:
            return
        c = colours()
        painter.setFont(font(11))
        for number, level in enumerate((0.0, *found.levels), start=1):
            x = self.x_at(float(number))
            painter.setPen(c["faint"])
            painter.drawText(QRectF(x - 20, area.bottom() + 3, 40, 16), Qt.AlignmentFlag.AlignHCenter, str(number))
            if number > 1 and level > FLOOR:
                painter.setPen(c["ink"])
                y = max(area.top() + 8, self.y_at(level) - 9)
                painter.drawText(QRectF(x - 24, y - 8, 48, 16), Qt.AlignmentFlag.AlignCenter, figure(level, 0))
        text = f"THD {100.0 * found.thd:.3g} %" if found.thd >= 1e-5 else "THD under 0.001 %"
        self.note(painter, area.right(), area.top() + 9, text, "ink", right=True)


class AddedView(Chart):
    """What the step made on the music itself: the sound that came in, and what is new in what goes out."""

    RANGE = 90.0

    def __init__(self) -> None:
        super().__init__(frequency_axis(), Axis(-120.0, -30.0, ()))
        self._new: Mapping[str, NewSound] = {}
        self._slope = 3.0
        self.setToolTip(
            "Grey: the mid of the music in the section. Lines: what is new in mid and side, which no equaliser could have made: "
            "harmonics, and what lies between them. Dotted: all that was changed, level and tone too."
        )

    def show_new(self, new: Mapping[str, NewSound], slope: float) -> None:
        if new is self._new and slope == self._slope:
            return
        self._new, self._slope = new, slope
        if "mid" in new:
            top = 6.0 * np.ceil((float((new["mid"].before + lifted(new["mid"].freqs, slope)).max()) + 5.0) / 6.0)
            self.y_axis = Axis(top - self.RANGE, top, [top - 15.0 * k for k in range(7)])
        self.changed()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if "mid" not in self._new:
            self.say(painter, "Nothing measured here yet: the step is off, or still being rendered.")
            return
        mid = self._new["mid"]
        lift = lifted(mid.freqs, self._slope)
        painter.fillPath(self.filled(self.line(mid.freqs, mid.before + lift), self.y_axis.low), c.soft("faint", 60))
        for part, new in self._new.items():
            colour = PART_COLOURS[part]
            painter.setPen(QPen(c.soft(colour, 150), 1, Qt.PenStyle.DotLine))
            painter.drawPolyline(self.line(new.freqs, new.change + lift))
            painter.setPen(QPen(c[colour], 2))
            painter.drawPolyline(self.line(new.freqs, new.new + lift))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        y = area.top() + 10
        for part, new in self._new.items():
            self.note(painter, area.right(), y, f"{part}: {share_words(new)}", part, right=True)
            y += 16


def share_words(new: NewSound) -> str:
    """How much is new, in words."""
    if new.share <= 1e-12:
        return "nothing new"
    return f"new sound at {figure(float(power_db(np.array([new.share]))[0]))} dB ({100.0 * new.share**0.5:.2g} %)"


class SaturationEditor(StepEditor[Saturation]):
    """Curve and harmonics of a test tone, or what is added to the music."""

    rarely = (AFTER,)

    def build_views(self) -> None:
        tone = QWidget()
        column = QVBoxLayout(tone)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        both = QHBoxLayout()
        both.setSpacing(8)
        self.curve, self.harmonics, self.added = CurveView(), HarmonicsView(), AddedView()
        both.addWidget(self.curve, 4)
        both.addWidget(self.harmonics, 5)
        column.addLayout(both, 1)
        row = QHBoxLayout()
        row.setSpacing(14)
        self.tone_rulers = ViewRulers(self.bench, "tone", TestTone, 170)
        for ruler in self.tone_rulers.all.values():
            row.addWidget(ruler)
        self._heard: tuple[bytes, TestTone, int] | None = None
        self.tone_words = Elided("", "caption", 140)
        row.addWidget(self.tone_words, 1)
        column.addLayout(row)
        self.add_views([("tone", "Test tone", tone), ("added", "On the music", self.added)])

    def further_controls(self, title: str) -> list[QWidget]:
        if title != CURVE:
            return []
        tip = "Listen only to what the curve makes that is no gain: what of the wave it bends (H)."
        self.bent_alone = ear_toggle(self.bench, DETECTOR, "Hear what bends", tip)
        return [self.bent_alone]

    def refresh(self) -> None:
        super().refresh()
        show_ear(self.bench, self.bent_alone, DETECTOR)
        step, tone = self.step, self.bench.session.view.tone
        if step is None:
            return
        self.tone_rulers.refresh()
        self.curve.show_curve(step, gain_of(tone.level))
        material = self.bench.audio.material
        key = step.sound_key(), tone, material.rate if material is not None else 48_000
        if key != self._heard:
            self._heard = key

            def work(check: Progress) -> Harmonics:
                return tone_harmonics(step, tone, key[2], check)

            self.bench.background.run(DRAWING, "Bending the test tone", work, lambda found: self._show_tone(key, found))
        output = self.controls["output"]
        assert isinstance(output, Ruler)
        output.set_note("held" if step.hold_loudness else "")

    def _show_tone(self, key: tuple[bytes, TestTone, int], found: Harmonics) -> None:
        if key == self._heard and isValid(self):
            self.harmonics.show_harmonics(found)
            self.tone_words.setText(f"comes out at {figure(found.level)} dBFS")

    def show_picture(self) -> None:
        around, step = self.bench.picture.around, self.step
        if step is None or around is None or around.step != self.step_id:
            return
        self.added.show_new(around.new, self.bench.session.view.analyser.slope)
        self.curve.show_bend(around.bend)
        self._show_state(step)

    def state_words(self, step: Saturation) -> list[str]:
        around = self.bench.picture.around
        mine = around is not None and around.step == self.step_id and "mid" in around.new
        words = [share_words(around.new["mid"])] if mine and around is not None else []
        if step.hold_loudness:
            words.append(f"output {figure(step.output, signed=True)} dB")
        return words


def tone_harmonics(step: Saturation, tone: TestTone, rate: int, progress: Progress = no_progress) -> Harmonics:
    """The test tone through the step alone."""
    t = np.arange(round(max(TONE_SECONDS, 12.0 / tone.freq) * rate)) / rate
    wave = gain_of(tone.level) * np.sin(2.0 * np.pi * tone.freq * t)
    out = run_chain([msgspec.structs.replace(step, on=True)], np.stack([wave, wave], axis=1), rate, progress)
    return harmonics_of(out[:, 0], rate, tone.freq)
