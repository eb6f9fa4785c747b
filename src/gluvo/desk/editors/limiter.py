"""Limiter with what it catches and what it takes."""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout, QWidget

from gluvo.desk.charts.views import CaughtView, ReductionView
from gluvo.desk.controls.parts import figure, label
from gluvo.desk.editors.base import StepEditor
from gluvo.steps import Limiter


class LimiterEditor(StepEditor[Limiter]):
    """Limiter with what it catches and what it takes."""

    def build_views(self) -> None:
        both = QWidget()
        column = QVBoxLayout(both)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self.caught, self.reduction = CaughtView(), ReductionView()
        column.addWidget(label("Peaks before the ceiling", "caption"))
        column.addWidget(self.caught, 1)
        column.addWidget(label("Reduction", "caption"))
        column.addWidget(self.reduction, 1)
        self.add_views([("caught", "Peaks and reduction", both)])

    def build_middle(self) -> None:
        self.words = label("", "caption")
        self.below_views.addWidget(self.words)

    def show_picture(self) -> None:
        step, span = self.step, self.bench.span
        if step is None:
            return
        before, after = self.joints()
        self.caught.show_peaks(self.section_trace(before), span, step.drive, step.ceiling, step.true_peak)
        if after is None or before is None:
            return
        self.reduction.show_reduction(after.reduction, span, after.start, None, 0.0)
        lost = before.figures(span).plr - after.figures(span).plr
        text = (
            f"In {self.bench.span_name}: {after.largest_reduction(span):.1f} dB off at most, "
            f"{after.mean_reduction(span):.2f} dB on average · peak to loudness {figure(-lost)} dB"
        )
        hits = self.bench.picture.hits if self.bench.picture.hits_step == self.step_id else None
        self.words.setText(text + (f" · punch kept {100 * hits.punch_kept:.0f} %" if hits else ""))

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        super().tick(seconds, level, reduction)
        self.reduction.show_now(seconds)
