"""The levels of road tests, and what of the song falls under the noise."""

from __future__ import annotations

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QDialog, QHBoxLayout, QVBoxLayout, QWidget

from gluvo.compare.road import Masked, masked, road_of
from gluvo.desk.controls.flow import Lines
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import Toggle, button, label
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.opened.tasks import MEASURING
from gluvo.progress import Progress
from gluvo.session.records import RoadTest
from gluvo.steps.settings import settings_of

SOON_MS = 300


class RoadDialog(QDialog):
    """Stays open beside the window; what it sets is heard at once."""

    def __init__(self, parent: QWidget, bench: Workbench) -> None:
        super().__init__(parent)
        self._bench = bench
        self.setWindowTitle("Road test levels")
        self.setMinimumWidth(420)
        column = QVBoxLayout(self)
        self.head = label("", "title")
        column.addWidget(self.head)
        declared = settings_of(RoadTest)
        self.rulers: dict[str, Ruler] = {}
        row = QHBoxLayout()
        row.setSpacing(16)
        for name in ("play_level", "noise_level", "quiet"):
            ruler = self.rulers[name] = Ruler(declared[name])
            ruler.moved.connect(lambda value, name=name: self._set(name, value))
            row.addWidget(ruler)
        column.addLayout(row)
        self.distorts = Toggle("Small speaker bends", declared["distorts"].tip)
        self.distorts.toggled.connect(lambda on: self._set("distorts", on))
        column.addWidget(self.distorts)
        self.words = Lines(3, "caption")
        column.addWidget(self.words)
        last = QHBoxLayout()
        last.addStretch(1)
        last.addWidget(button("End the road test", "Hear it as it is again.", self._end))
        last.addWidget(button("Close", "The road test goes on.", self.reject))
        column.addLayout(last)
        self._timer = QTimer(self, singleShot=True, interval=SOON_MS)
        self._timer.timeout.connect(self._measure)
        Follower(self, bench, self._changed, session=lambda s: (s.view.road, s.view.section))
        self.refresh()
        self._timer.start()

    def _set(self, name: str, value: float | bool) -> None:
        self._bench.adjust("road", **{name: value})

    def _end(self) -> None:
        self._bench.adjust("road", kind="off")
        self.reject()

    def _changed(self) -> None:
        self.refresh()
        self._timer.start()

    def refresh(self) -> None:
        settings = self._bench.session.view.road
        self.head.setText(road_of(settings).name if settings.kind != "off" else "No road test is on")
        noisy = road_of(settings).noise is not None
        for name, ruler in self.rulers.items():
            ruler.set_value(getattr(settings, name))
            ruler.setEnabled(noisy if name != "quiet" else settings.kind == "quiet")
        self.distorts.set_on(settings.distorts)
        self.distorts.setEnabled(settings.kind == "small")

    def _measure(self) -> None:
        """What falls under the noise, in the background."""
        bench, settings = self._bench, self._bench.session.view.road
        render, span = bench.picture.best, bench.span
        if road_of(settings).noise is None or render is None:
            self.words.setText(road_of(settings).tip)
            return

        def work(check: Progress) -> Masked | None:
            check(0.0)
            x = render.result.heard_in(span)
            return masked(x, render.result.rate, settings, render.result.loudness(span))

        def done(found: Masked | None) -> None:
            if found is None or settings != self._bench.session.view.road:
                return
            parts = ", ".join(f"{name} {100.0 * share:.0f} %" for name, share in found.by_band)
            self.words.setText(
                f"In {bench.span_name} {100.0 * found.share:.0f} % of what sounds falls under this noise, by time and third "
                f"octave: {parts}."
            )

        self.words.setText("Measuring what falls under the noise…")
        bench.background.run(MEASURING, "Measuring against noise", work, done)
