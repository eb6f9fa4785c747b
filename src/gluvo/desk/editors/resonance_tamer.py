"""The editor of the resonance tamer."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QWidget

from gluvo.compare.match import TAKEN
from gluvo.desk.charts.band_views import TamingView
from gluvo.desk.charts.views import ReductionView
from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import figure
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.detector_monitor import show_ear, taken_toggle
from gluvo.dsp.taming import frame_length
from gluvo.steps import ResonanceTamer, settings_of
from gluvo.steps.resonance_tamer import PLACES, WHERE
from gluvo.steps.settings import hertz


class TamerEditor(StepEditor[ResonanceTamer]):
    """What is taken by frequency and on time; how much where is dragged on the first."""

    rarely = (WHERE,)

    def build_views(self) -> None:
        self.cuts, self.reduction = TamingView(PLACES), ReductionView()
        settings = settings_of(ResonanceTamer)

        def weigh(place: int, value: float) -> None:
            name = f"weight_{place + 1}"
            self.bench.set_setting(self.step_id, name, value, settings[name].label)

        self.cuts.weighted.connect(weigh)
        self.cuts.settled.connect(self.bench.settle)
        self.add_views([("cuts", "What it takes", self.cuts), ("reduction", "Over time", self.reduction)])

    def build_middle(self) -> None:
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        self.words = Elided("", "caption", 400)
        row.addWidget(self.words, 1)
        self.taken = taken_toggle(self.bench)
        row.addWidget(self.taken)
        self.below_views.addWidget(holder)

    def refresh(self) -> None:
        super().refresh()
        output, step = self.controls["output"], self.step
        assert isinstance(output, Ruler)
        output.set_note("held" if step is not None and step.hold_loudness else "")
        show_ear(self.bench, self.taken, TAKEN)

    def state_words(self, step: ResonanceTamer) -> list[str]:
        renderer = self.bench.renderer
        if step.idle or renderer is None:
            return []
        words = [f"{1000 * frame_length(renderer.rate) / renderer.rate:.0f} ms late, made good everywhere"]
        return [*words, f"output {figure(step.output, signed=True)} dB"] if step.hold_loudness else words

    def show_picture(self) -> None:
        step, picture, span = self.step, self.bench.picture, self.bench.span
        if step is None:
            return
        self.cuts.show_weights([100.0 * w for w in step.weights])
        around = picture.around if picture.around is not None and picture.around.step == self.step_id else None
        cuts = around.cuts if around is not None else None
        nothing = np.zeros(0)
        self.cuts.show_cuts(*((cuts.freqs, cuts.mean, cuts.most) if cuts is not None else (nothing,) * 3))
        _, after = self.joints()
        if after is not None:
            self.reduction.show_reduction(after.reduction, span, after.start, None)
        words = "nothing is taken"
        if cuts is not None and cuts.most.max(initial=0.0) > 0.0:
            place = int(np.argmax(cuts.mean))
            words = f"most around {hertz(float(cuts.freqs[place]))}: {cuts.mean[place]:.1f} dB on average, "
            words += f"at most {cuts.most.max():.1f} anywhere"
            if after is not None:
                words += f" · {figure(after.mean_reduction(span), 2)} dB of the whole"
        self.words.setText(words)

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        super().tick(seconds, level, reduction)
        self.reduction.show_now(seconds)
