"""The editors of the Glue and of the lane."""

from __future__ import annotations

import math
from itertools import takewhile

from PySide6.QtCore import QRect
from PySide6.QtWidgets import QComboBox, QWidget

from gluvo.advise.aim import NEAR
from gluvo.advise.step_analysis import StepAnalysis
from gluvo.compare.match import DETECTOR
from gluvo.desk.charts.detector_views import DetectorView, TwoPathsView
from gluvo.desk.charts.hit_views import HitsView, LaneView, SpreadView
from gluvo.desk.charts.views import ReductionView, TransferView
from gluvo.desk.controls.flow import Elided, Flow
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import ChoiceBox, Toggle, button, edit_in_place, figure, label
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.detector_monitor import detector_toggle, show_ear
from gluvo.desk.editors.key_choice import KeyChoice
from gluvo.desk.editors.step_menu import step_menu
from gluvo.dsp.compression import QUICKEST
from gluvo.measure.loudness import SILENT
from gluvo.measure.overview import REDUCED_BY
from gluvo.session import tree
from gluvo.steps import ChainItem, Glue, Lane, Setting
from gluvo.steps.glue import HEARS, LIFT, TONE


class GlueEditor(StepEditor[Glue]):
    """Glue with hits, curve, spread and reduction; its aim, its key, and an ear for its detector."""

    rarely = (HEARS, TONE, LIFT)

    def build_views(self) -> None:
        self.hits, self.transfer, self.spread, self.reduction = (
            HitsView(),
            TransferView(),
            SpreadView(),
            ReductionView(),
        )
        self.detector, self.paths = DetectorView(), TwoPathsView()
        self.add_views(
            [
                ("hits", "Hits", self.hits),
                ("transfer", "Transfer", self.transfer),
                ("spread", "Spread", self.spread),
                ("reduction", "Over time", self.reduction),
                ("detector", "Detector", self.detector),
                ("paths", "Two paths", self.paths),
            ]
        )
        self.chooser.chosen.connect(lambda _: self._want_shares())
        self.bench.reduction_shares.changed.connect(self._show_shares)

    def build_middle(self) -> None:
        self.aim = self.add_aim(
            "Find threshold",
            "Set the threshold so that the reduction over the section is this much, as is said beside it (T).",
            "What is taken off in the section, as it arrives after Mix: what is passed 5 % of the time where there is "
            "signal, the largest, and the mean. Punch: the peak of the mean hit over what follows it 50–150 ms later, after "
            "the step ÷ before. Pumping: how much of the reduction's movement follows the beat.",
        )

    def further_controls(self, title: str) -> list[QWidget]:
        if title == LIFT:
            tip = "Set the threshold under which it lifts so that the lift over the section is this much, as is said beside it."
            self.find_lift = button(
                "Find lift threshold", tip, lambda: self.bench.advice.find_threshold(self.step_id, "lift_threshold")
            )
            return [self.find_lift]
        if title == TONE:
            self.tone_ear = detector_toggle(self.bench, "Listen to what the detector hears, cut, leaned and bent (H).")
            return [self.tone_ear]
        if title != HEARS:
            return []
        self.key = KeyChoice(
            "What the detector listens to: the signal itself, or another stem or bus, as it comes out of its chain. The "
            "reduction then follows that, as when a bass makes room for a kick.",
            self._choose_key,
        )
        self.ear = detector_toggle(self.bench, "Listen to what the detector hears: its key, cut, tilted and bent (H).")
        return [self.key, self.ear]

    def _choose_key(self, key: str) -> None:
        self.bench.set_setting(self.step_id, "key", key, "key")
        self._show_key()

    def _show_key(self) -> None:
        step = self.step
        if step is not None:
            self.key.show_key(self.bench.session, self.step_id, step.key)

    def refresh(self) -> None:
        super().refresh()
        self._show_key()
        for ear in (self.ear, self.tone_ear):
            show_ear(self.bench, ear, DETECTOR)
        step = self.step
        if step is not None:  # what has no effect as things are does not look as though it had
            self.controls["look_ahead"].setEnabled(not step.feed_back)
            self.controls["ratio"].setEnabled(not step.limit)

    def show_picture(self) -> None:
        step, picture, span = self.step, self.bench.picture, self.bench.span
        if step is None:
            return
        _, after = self.joints()
        reduced = after.reduced(span) if after is not None else None
        mine = picture.hits_step == self.step_id
        lift = step.lift_curve if step.lifts else None
        self.transfer.show_curve(step.curve, picture.levels if mine else None, lift, step.mix / 100.0)
        around = picture.around if picture.around is not None and picture.around.step == self.step_id else None
        self._show_detector(step, around)
        if after is not None and reduced is not None:
            told = f"aim {step.aim:.1f} dB {REDUCED_BY[step.aim_by]} · {reduced.words}"
            self.reduction.show_reduction(after.reduction, span, after.start, step.aim, told)
            self.spread.show_spread(after.reduction_in(span), step.aim, reduced.of(step.aim_by), step.aim_by)
        hits = picture.hits if mine else None
        self.hits.show_hits(hits, step.attack, self.bench.span_name)
        words = [reduced.words] if reduced is not None else []
        if reduced is not None and after is not None and (wet := after.wet_reduced(span)) is not None:
            words[0] += f", wet {wet.of(step.aim_by):.1f}"
        if hits is not None:
            words += [f"punch kept {100 * hits.punch_kept:.0f} %", f"pumping {100 * hits.pumping:.0f} %"]
        if step.lifts and around is not None:
            bounded = step.hold_lift and around.lift.of(step.lift_aim_by) < step.lift_aim - NEAR
            words.insert(1, f"lifts {around.lift.short}" + (", more would raise what is loud" * bounded))
        if since := self.reduction_moved(step):
            words.insert(1, since)
        self.aim.words.setText(" · ".join(words))
        for switch, name in step.switches().items():
            found = self.controls[name]
            assert isinstance(found, Ruler)
            found.set_note("held" if getattr(step, switch) else "")
        attack, release = self.controls["attack"], self.controls["release"]
        assert isinstance(attack, Ruler) and isinstance(release, Ruler)
        back = step.feeds_back and step.slope > 0.0
        # in the loop the attack is slower inside the knee, and the release quicker as long as it is over the threshold
        attack.set_note(f"to {attack.setting.show(step.attack / (1.0 - step.slope))}" if back else "")
        quick = max(step.release * (1.0 - step.slope), step.release / QUICKEST)
        release.set_note(f"to {release.setting.show(quick)}" if back else "")

    def _show_detector(self, step: Glue, around: StepAnalysis | None) -> None:
        picture, span, rate = self.bench.picture, self.bench.span, self.bench.session.rate
        part = step.mode if step.mode in ("mid", "side") else "stereo"
        self.detector.show_tone(
            around.listened if around is not None else None, part, step.detector_sections(rate), rate
        )
        self.detector.show_drive(around.drive if around is not None else None)
        hits = picture.hits if picture.hits_step == self.step_id else None
        paths = around.paths if around is not None else None
        self.paths.show_paths(paths, hits, step.curve, span.start if span is not None else 0.0)
        self._want_shares()

    def _want_shares(self) -> None:
        """Have it looked for whose the reduction is, while that is looked at."""
        if self.detector.isVisible():
            self.bench.reduction_shares.want(self.step_id)
        self._show_shares()

    def _show_shares(self) -> None:
        self.detector.show_shares(self.bench.reduction_shares.words(self.step_id))

    def further_words(self, settings: list[Setting]) -> list[str]:
        step = self.step
        if step is None or not step.key or all(setting.group != HEARS for setting in settings):
            return []
        name = tree.names(self.bench.session).get(step.key)
        return [f"key {name}" if name is not None else "its key is gone"]

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        super().tick(seconds, level, reduction)
        self.transfer.show_live(level, reduction)
        self.reduction.show_now(seconds)
        self.paths.show_now(seconds)
        span, engine = self.bench.span, self.bench.engine
        start, end = (span.start, span.end) if span is not None else (0.0, math.inf)
        inside = engine is not None and engine.playing and start <= seconds < end
        self.hits.show_live(seconds - start if inside else None, reduction)
        threshold = self.controls["threshold"]
        assert isinstance(threshold, Ruler)
        threshold.set_live(level if inside else None)


class LaneEditor(StepEditor[Lane]):
    """A lane: where it leaves the chain, how loud it comes back, and what it would add."""

    def build_views(self) -> None:
        self.view = LaneView()
        self.add_views([("lane", "Lane", self.view)])
        inside = button("+ Step inside", "Add a step at the beginning of the lane.", kind="plain")
        self.inside_menu = step_menu(self, self._add_inside)
        inside.setMenu(self.inside_menu)
        self.head.addWidget(inside)
        self.head.addWidget(button("Rename", "Give the lane another name.", self.rename, "plain"))

    def build_middle(self) -> None:
        holder, row = QWidget(), Flow(across=10)
        holder.setLayout(row)
        row.addWidget(label("Leaves the chain after"))
        self.since = ChoiceBox()
        self.since.setMinimumContentsLength(8)
        self.since.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.since.setAccessibleName("Leaves the chain after")
        self.since.setToolTip("Where the lane begins. It comes back where it stands in the ledger.")
        self.since.activated.connect(
            lambda n: self.bench.set_setting(self.step_id, "since", self.since.itemData(n), "start")
        )
        row.addWidget(self.since)
        self.alone = Toggle(
            "Hear lane only",
            "Listen to the lane without the main chain. For the ears only: figures and files keep both.",
        )
        self.alone.toggled.connect(lambda _: self.bench.solo(self.step_id))
        row.addWidget(self.alone)
        self.added = Elided("", "caption", 400)
        row.addWidget(self.added)
        self.below_views.addWidget(holder)

    def _add_inside(self, step: ChainItem) -> None:
        strip = self.bench.session.strip_with(self.step_id)
        if strip is not None and (new := self.bench.put_in(step, strip.id, inside=self.step_id)):
            self.bench.look(step=new)

    def rename(self) -> None:
        """Open a field for the lane's name."""
        step = self.step
        if step is not None:
            edit_in_place(
                self,
                step.name,
                QRect(16, 6, 200, 26),
                lambda name: self.bench.set_setting(self.step_id, "name", name, "name"),
            )

    def refresh(self) -> None:
        super().refresh()
        step = self.step
        if step is None:
            return
        self.title.setText(step.called)
        chain = self.bench.session.chain
        earlier = takewhile(lambda item: item.id != step.id, chain)
        names = [("", "what comes in"), *((i.id, i.short_name) for i in earlier)]
        if [(self.since.itemData(n), self.since.itemText(n)) for n in range(self.since.count())] != names:
            self.since.clear()
            for id, name in names:
                self.since.addItem(name, id)
        self.since.setCurrentIndex(max(0, self.since.findData(step.since)))
        self.alone.set_on(step.id in self.bench.session.view.solo)

    def show_picture(self) -> None:
        step, render, span = self.step, self.bench.picture.best, self.bench.span
        if step is None or render is None or (step.id, 0) not in render.plan.parts:
            return
        main, side = (render.at(node) for node in render.plan.parts[step.id, 0])
        both = render.joint(step.id)
        assert both is not None
        self.view.show_lane(main.section(span), side.section(span).scaled(step.gain), both.section(span), span)
        gained = both.loudness(span) - main.loudness(span)
        would = gained - step.blend
        words = "nothing of the lane is heard"
        if step.gain > 0.0 and main.loudness(span) > SILENT:
            words = f"would add {figure(would)} dB"
            words += " · held" if step.hold_loudness else f" · not held: {figure(gained)} dB louder"
        self.added.setText(words)
        blend = self.controls["blend"]
        assert isinstance(blend, Ruler)
        blend.set_note("held" if step.hold_loudness else "")
