"""The editor of the De-esser."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QWidget

from gluvo.advise.step_analysis import Worked
from gluvo.compare.match import DETECTOR, TAKEN
from gluvo.desk.charts.band_views import SibilantsView
from gluvo.desk.charts.hit_views import SpreadView
from gluvo.desk.charts.views import TransferView
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.detector_monitor import detector_toggle, show_ear, taken_toggle
from gluvo.desk.editors.key_choice import KeyChoice
from gluvo.desk.editors.place_table import PlaceTable
from gluvo.steps import DeEsser
from gluvo.steps.de_esser import HEARS, WORKS


class DeEsserEditor(StepEditor[DeEsser]):
    """Sibilants on time and as a list, how far it works, and ears for what it hears and what it takes."""

    def build_views(self) -> None:
        page = QWidget()
        row = QHBoxLayout(page)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        self.sibilants = SibilantsView()
        self.list = PlaceTable(
            "Sibilants", "Taken off", "Every sharp sound of the section that was lowered, hardest first."
        )
        self.list.wanted.connect(self.bench.listening.loop_place)
        row.addWidget(self.sibilants, 1)
        self.spread, self.transfer = SpreadView(), TransferView("level relative to the voice, dB")
        self.add_views(
            [
                ("sibilants", "Sibilants", page),
                ("list", "Hardest", self.list),
                ("spread", "Spread", self.spread),
                ("transfer", "Transfer", self.transfer),
            ]
        )

    def build_middle(self) -> None:
        self.aim = self.add_aim(
            "Find threshold",
            "Set the threshold so that this much is taken where it works, as is said beside it (T).",
            "How often and how far it works in the section: what is passed 5 % of the time that it works, the largest, and the "
            "mean while it works.",
        )

    def further_controls(self, title: str) -> list[QWidget]:
        if title != HEARS:
            return []
        self.key = KeyChoice(
            "What the detector listens to: the signal itself, or another stem or bus, such as a voice in a mix that it is in.",
            lambda id: self.bench.set_setting(self.step_id, "key", id, "key"),
        )
        self.ear = detector_toggle(self.bench, "Listen to the range that the detector goes by (H).")
        self.taken = taken_toggle(self.bench)
        return [self.key, self.ear, self.taken]

    def refresh(self) -> None:
        super().refresh()
        step = self.step
        if step is not None:
            self.key.show_key(self.bench.session, self.step_id, step.key)
        show_ear(self.bench, self.ear, DETECTOR)
        show_ear(self.bench, self.taken, TAKEN)

    def show_picture(self) -> None:
        step, picture, span = self.step, self.bench.picture, self.bench.span
        if step is None:
            return
        before, after = self.joints()
        around = picture.around if picture.around is not None and picture.around.step == self.step_id else None
        worked = around.worked if around is not None else None
        self.transfer.show_curve(step.curve, picture.levels if picture.hits_step == self.step_id else None)
        if after is not None and before is not None:
            taken = worked.taken.of(step.aim_by) if worked is not None else 0.0
            self.sibilants.show_reduction(after.reduction, span, after.start, None)
            self.sibilants.show_voice(before.section(span).sample_peak, worked.places if worked is not None else ())
            values = after.reduction_in(span)
            self.spread.show_spread(values[values > WORKS], step.aim if step.hold_aim else None, taken, step.aim_by)
        name = self.bench.session.section_name
        places = sorted(worked.places, key=lambda p: -p[2]) if worked is not None else []
        self.list.show_found(tuple((start, f"{most:.1f} dB", name(start)) for start, _, most in places))
        self.aim.words.setText(self._words(worked) if worked is not None and step.range > 0.0 else "nothing is taken")
        threshold = self.controls["threshold"]
        assert isinstance(threshold, Ruler)
        threshold.set_note("held" if step.hold_aim else "")

    def _words(self, worked: Worked) -> str:
        count = len(worked.places)
        if not count:
            return f"does not work in {self.bench.span_name}"
        times = "once" if count == 1 else f"{count} times"
        return f"{times}, {100 * worked.share:.0f} % of the time · {worked.taken.words}"

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        super().tick(seconds, level, reduction)
        self.transfer.show_live(level, reduction)
        self.sibilants.show_now(seconds)
