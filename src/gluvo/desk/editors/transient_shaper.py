"""The editor of the transient shaper."""

from __future__ import annotations

from gluvo.desk.charts.hit_views import HitsView
from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.widgets import figure
from gluvo.desk.editors.base import StepEditor
from gluvo.steps import TransientShaper


class ShaperEditor(StepEditor[TransientShaper]):
    """The mean hit before and after, and what it keeps or gains of its punch."""

    def build_views(self) -> None:
        self.hits = HitsView()
        self.add_views([("hits", "Hits", self.hits)])

    def build_middle(self) -> None:
        self.words = Elided("", "caption", 400)
        self.words.setToolTip(
            "Punch: the peak of the mean hit over what follows it 50–150 ms later, after the step ÷ before. Over 100 % it has "
            "become sharper."
        )
        self.below_views.addWidget(self.words)

    def show_picture(self) -> None:
        step, picture = self.step, self.bench.picture
        if step is None:
            return
        hits = picture.hits if picture.hits_step == self.step_id else None
        self.hits.show_hits(hits, step.length, self.bench.span_name)
        if hits is None:
            self.words.setText("")
            return
        before, after = self.joints()
        words = [f"punch kept {100 * hits.punch_kept:.0f} %"]
        if before is not None and after is not None:
            span = self.bench.span
            crest = after.figures(span).crest - before.figures(span).crest
            words.append(f"crest factor {figure(crest, 1, signed=True)} dB")
            peak = after.figures(span).true_peak - before.figures(span).true_peak
            words.append(f"true peak {figure(peak, 1, signed=True)} dB")
        self.words.setText(" · ".join(words))
