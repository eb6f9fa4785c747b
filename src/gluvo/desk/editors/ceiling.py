"""The editors of what works against a ceiling: the limiter and the clipper."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout

from gluvo.advise.prices import Division, last_two
from gluvo.compare.match import TAKEN
from gluvo.desk.charts.hit_views import SpreadView
from gluvo.desk.charts.views import CaughtView, ReductionView
from gluvo.desk.controls.flow import Lines
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import figure
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.detector_monitor import show_ear, taken_toggle
from gluvo.desk.editors.place_table import PlaceTable
from gluvo.steps.ceiling import CeilingStep
from gluvo.steps.settings import settings_of

STEPS = (1.0, 2.0, 3.0)
"""dB of reduction whose shares of the time are told."""


class CeilingEditor(StepEditor[CeilingStep]):
    """What comes to a ceiling, what is taken off, how it is spread, and where most; and an ear for what is taken."""

    _tops: float | None = None

    def build_views(self) -> None:
        self.caught, self.reduction = CaughtView(), ReductionView()
        self.spread = SpreadView()
        self.catches = PlaceTable(
            "Hardest catches", "Taken off", "The ten places of the whole song where most is taken off, hardest first."
        )
        self.catches.wanted.connect(self.bench.listening.loop_place)
        self.add_views(
            [
                ("caught", "Peaks", self.caught),
                ("reduction", "Over time", self.reduction),
                ("spread", "Spread", self.spread),
                ("catches", "Hardest", self.catches),
            ]
        )

    def build_middle(self) -> None:
        self.aim = self.add_aim(
            "Find drive",
            "Set the drive so that this much is taken off in the section, as is said beside it (T).",
            "What is taken off in the section: what is passed 5 % of the time where there is signal, the largest, and the mean.",
        )
        row = QHBoxLayout()
        self.words = Lines(
            4 if self.step is not None and self.step.cuts_tops else 3, "caption"
        )  # they tell of samples, too
        row.addWidget(self.words, 1)
        self.ear = taken_toggle(self.bench)
        self.division = Ruler(settings_of(Division)["tops"])
        self.division.setFixedWidth(150)
        self.division.moved.connect(self._divide)
        self.division.settled.connect(self._divided)
        row.addWidget(self.division)
        row.addWidget(self.ear)
        self.below_views.addLayout(row)

    def _divide(self, tops: float) -> None:
        """While the ruler moves, only its pointer does; the search begins when it is let go."""
        self._tops = tops
        self.division.set_value(tops)

    def _divided(self) -> None:
        if self._tops is not None:
            self.bench.advice.divide(self._tops)
            self._tops = None

    def refresh(self) -> None:
        super().refresh()
        show_ear(self.bench, self.ear, TAKEN)

    def show_picture(self) -> None:
        step, span = self.step, self.bench.span
        if step is None:
            return
        before, after = self.joints()
        self.caught.show_peaks(self.section_trace(before), span, step.drive, step.ceiling, step.holds_true_peak)
        if after is None or before is None or after.reduction is None:
            return
        inner = after.within(span)
        self.reduction.show_reduction(after.reduction, span, after.start, None)
        reduced = after.reduced(span)
        if reduced is not None:
            self.spread.show_spread(
                after.reduction_in(span), step.aim if step.hold_aim else None, reduced.of(step.aim_by), step.aim_by
            )
            self.aim.words.setText(" · ".join([reduced.words, *filter(None, [self.reduction_moved(step)])]))
        drive = self.controls["drive"]
        assert isinstance(drive, Ruler)
        drive.set_note("held" if step.hold_aim else "")
        work, largest = after.reduction.working(inner), after.largest_reduction(span)
        where = self.bench.span_name
        if largest <= 0.0:
            done = f"Nothing is taken off in {where}: all of it lies under the ceiling."
        else:
            done = (
                f"In {where} it works "
                f"{work.times} time{'' if work.times == 1 else 's'}, {lasting(work.mean_seconds)} each"
            )
        lost = before.figures(span).plr - after.figures(span).plr
        hits = self.bench.picture.hits if self.bench.picture.hits_step == self.step_id else None
        costs = [
            f"Peak to loudness {figure(-lost)} dB",
            *([f"punch kept {100 * hits.punch_kept:.0f} %"] if hits else []),
        ]
        costs += self._division_words(step)
        self.words.setText(f"{done}\n" + " · ".join([*costs, *self._song_words(step)]))

    def _division_words(self, step: CeilingStep) -> list[str]:
        """Where the mix bus ends with two of these: which share of the work each does, and the ruler that divides it."""
        two, render = last_two(self.bench.session), self.bench.picture.song_render
        shown = two is not None and step.id in (two[0].id, two[1].id) and render is not None
        self.division.setVisible(shown)
        if two is None or render is None or not shown:
            return []
        joints = [render.joint(part.id) for part in two]
        if self._tops is None and joints[0] is not None:
            self.division.set_value(min(12.0, joints[0].largest_reduction()))
        means = [joint.largest_reduction() if joint is not None else 0.0 for joint in joints]
        own = means[0] if step.id == two[0].id else means[1]
        share = own / sum(means) if sum(means) > 0.0 else 0.0
        other = two[1] if step.id == two[0].id else two[0]
        return [f"{100.0 * share:.0f} % of the two's work, the rest by {other.title}"]

    def _song_words(self, step: CeilingStep) -> list[str]:
        """What it takes from the whole song, once that is known; the catches, too."""
        render = self.bench.picture.song_render
        song = render.joint(self.step_id) if render is not None else None
        if song is None or song.reduction is None:
            self.catches.show_found(())
            return []
        name = self.bench.session.section_name
        self.catches.show_found(tuple((c.seconds, f"{figure(c.taken)} dB", name(c.seconds)) for c in song.hardest()))
        words = []
        if step.cuts_tops:
            near = self.joints()[1]
            here = near.reduction.share_taken(near.within(self.bench.span)) if near and near.reduction else 0.0
            words.append(f"clipped {percent(here)} of the samples here, {percent(song.reduction.share_taken())} of all")
        if (shares := [song.reduction.share_over(db) for db in STEPS])[0] > 0.0:
            words.append("of the song over 1, 2, 3 dB " + ", ".join(percent(share) for share in shares))
        return words

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        super().tick(seconds, level, reduction)
        self.reduction.show_now(seconds)


def lasting(seconds: float) -> str:
    """A short time as people read it.

    >>> lasting(0.0123), lasting(2.9)
    ('12 ms', '2.9 s')
    """
    return f"{seconds:.1f} s" if seconds >= 1.0 else f"{1000.0 * seconds:.0f} ms"


def percent(share: float) -> str:
    """A share as people read it: with a digit more where it is small.

    >>> percent(0.0), percent(0.00004), percent(0.0123), percent(0.5)
    ('none', 'under 0.01 %', '1.23 %', '50.0 %')
    """
    if share <= 0.0:
        return "none"
    if share < 0.0001:
        return "under 0.01 %"
    return f"{100.0 * share:.2f} %" if share < 0.1 else f"{100.0 * share:.1f} %"
