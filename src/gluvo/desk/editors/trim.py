"""Trim with the room that it makes."""

from __future__ import annotations

from gluvo.desk.charts.views import CaughtView
from gluvo.desk.editors.base import StepEditor
from gluvo.steps import Trim


class TrimEditor(StepEditor[Trim]):
    """Trim with the room that it makes."""

    def build_views(self) -> None:
        self.peaks = CaughtView()
        self.peaks.setToolTip("The section's peaks after this gain, against full scale.")
        self.add_views([("peaks", "Peaks", self.peaks)])

    def show_picture(self) -> None:
        step = self.step
        if step is not None:
            before, _ = self.joints()
            self.peaks.show_peaks(self.section_trace(before), self.bench.span, step.gain, 0.0, True, "full scale")
