"""The editor of the Width step."""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout, QWidget

from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import figure
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.image_view import CorrelationView, ImageView, Measured, ScatterView
from gluvo.measure.stereo import bands_of_tone
from gluvo.steps import Width, settings_of

LIVE_FRAMES, LIVE_POINTS = 4096, 1024
LIVE_EVERY = 2
FULL = ((20.0, 20_000.0),)


class WidthEditor(StepEditor[Width]):
    """The image by frequency with the correlation under it, or left against right."""

    def build_views(self) -> None:
        self.image, self.correlation, self.scatter = ImageView(), CorrelationView(), ScatterView()
        settings = settings_of(Width)
        self.image.changed_setting.connect(
            lambda name, value: self.bench.set_setting(self.step_id, name, value, settings[name].label)
        )
        self.image.settled.connect(self.bench.settle)
        both = QWidget()
        column = QVBoxLayout(both)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.image, 1)
        column.addWidget(self.correlation)
        self._measured: Measured | None = None
        self._ticks = 0
        self.add_views([("image", "Image", both), ("scatter", "Left against right", self.scatter)])

    def refresh(self) -> None:
        super().refresh()
        step = self.step
        if step is None:
            return
        used = int(step.bands)
        for n in range(1, 5):
            for name in (f"width_{n}", f"balance_{n}", f"crossover_{n}"):
                if name in self.controls:
                    self.controls[name].setEnabled(n < used if name.startswith("crossover") else n <= used)
            for name in (f"width_{n}", f"balance_{n}"):
                control = self.controls[name]
                assert isinstance(control, Ruler)
                control.set_note(step.ranges[n - 1] if n <= used else "")
        output = self.controls["output"]
        assert isinstance(output, Ruler)
        output.set_note("held" if step.hold_loudness else "")

    def show_picture(self) -> None:
        step, around = self.step, self.bench.picture.around
        if step is None:
            return
        mine = around if around is not None and around.step == self.step_id else None
        material = self.bench.audio.material
        if mine is None or material is None:
            self._measured = None
        elif self._measured is None or self._measured.tones[1] is not mine.after:
            self._measured = Measured.of((mine.before, mine.after), material.rate)
        self.image.show_step(step, self._measured)
        self.correlation.show_measured(self._measured)
        self.scatter.show_scatter(mine.scatter if mine is not None else None)
        self._show_state(step)

    def state_words(self, step: Width) -> list[str]:
        words = []
        if self._measured is not None:
            was, now = (bands_of_tone(tone, FULL)[0].mono_loss for tone in self._measured.tones)
            words.append(f"mono loses {figure(now, 2)} dB, was {figure(was, 2)}")
        if step.hold_loudness:
            words.append(f"output {figure(step.output, signed=True)} dB")
        return words

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        super().tick(seconds, level, reduction)
        self._ticks += 1
        engine = self.bench.engine
        if engine is None or not self.scatter.isVisible() or self._ticks % LIVE_EVERY:
            return
        tapped = engine.tapped(LIVE_FRAMES) if engine.playing else None
        self.scatter.show_live(tapped[1][:: LIVE_FRAMES // LIVE_POINTS] if tapped is not None else None)
