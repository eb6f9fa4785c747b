"""The editor of the chosen step: its views above, its settings in columns below.

Every step gets one from the declarations of its settings; a step with views of its own has a class here.
"""

from __future__ import annotations

from itertools import takewhile
from typing import Any

import msgspec
from PySide6.QtCore import QRect, Qt
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QStackedLayout, QVBoxLayout, QWidget

from gluvo.compare.match import DETECTOR, RESULT
from gluvo.desk.parts import ChoiceRow, Rows, Segments, Toggle, button, edit_in_place, figure, label, line
from gluvo.desk.ruler import Ruler
from gluvo.desk.views import CaughtView, HitsView, LaneView, ReductionView, SpreadView, TransferView
from gluvo.desk.workbench import Workbench
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Trace
from gluvo.render.song import Joint
from gluvo.session.records import Stem
from gluvo.session.tree import below, path, rows
from gluvo.steps import ChainItem, Glue, Lane, Limiter, Setting, Step, Trim, settings_of

MOST_ROWS = 6
"""Rulers in a column before it is split."""


class StepEditor(QWidget):
    """Made from the declared settings. Subclasses add views and controls."""

    def __init__(self, bench: Workbench, step: ChainItem) -> None:
        super().__init__()
        self.bench, self.step_id = bench, step.id
        self.controls: dict[str, Ruler | Toggle | ChoiceRow] = {}
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(16, 8, 16, 8)
        self.column.setSpacing(6)
        self.head = QHBoxLayout()
        self.title = label(step.title, "title")
        self.head.addWidget(self.title)
        self.state = label("", "caption")
        self.head.addSpacing(6)
        self.head.addWidget(self.state)
        self.head.addStretch(1)
        self.column.addLayout(self.head)
        self.views = QStackedLayout()
        self.build_views()
        if self.views.count():
            self.column.addLayout(self.views, 1)
        self.build_middle()
        columns = QHBoxLayout()
        columns.setSpacing(18)
        for title, settings in grouped(type(step)):
            columns.addLayout(self._settings_column(title, settings), 1)
        if columns.count() == 1:
            columns.addStretch(1)  # rulers as wide as a page are hard to read
        self.column.addLayout(columns)
        if not self.views.count():
            self.column.addStretch(1)

    # --- building ------------------------------------------------------------------------------------------

    def build_views(self) -> None:
        """Add views to the stack, and their chooser to the head."""

    def build_middle(self) -> None:
        """Add what stands between views and settings."""

    def add_views(self, views: list[tuple[str, str, QWidget]]) -> None:
        """Views by key, name and widget, with a chooser."""
        chooser = Segments([(key, name) for key, name, _ in views], "What is drawn here.")
        for _, _, view in views:
            self.views.addWidget(view)
        keys = [key for key, _, _ in views]
        chooser.chosen.connect(lambda key: self.views.setCurrentIndex(keys.index(key)))
        chooser.set_chosen(keys[0])
        self.chooser = chooser
        self.head.addWidget(chooser)

    def _settings_column(self, title: str, settings: list[Setting]) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(2)
        name = label(title)
        name.setStyleSheet("font-weight: 600;")
        column.addWidget(name)
        column.addWidget(line())
        toggles = QHBoxLayout()
        toggles.setSpacing(10)
        for setting in settings:
            control = self.control(setting)
            if setting.kind == "switch" and sum(s.kind == "switch" for s in settings) < 3:
                toggles.addWidget(control)
            else:
                column.addWidget(control)
        if toggles.count():
            toggles.addStretch(1)
            column.addLayout(toggles)
        for widget in self.further_controls(title):
            column.addWidget(widget)
        column.addStretch(1)
        return column

    def further_controls(self, title: str) -> list[QWidget]:
        """What stands under a column of settings besides them."""
        return []

    def control(self, setting: Setting) -> QWidget:
        """The control of a setting, wired to the session."""

        def change(value: Any) -> None:
            self.bench.set_setting(self.step_id, setting.name, value, setting.label)

        made: Ruler | Toggle | ChoiceRow
        if setting.kind == "number":
            made = Ruler(setting)
            made.moved.connect(change)
            made.settled.connect(self.bench.settle)
        elif setting.kind == "switch":
            made = Toggle(setting.label, f"<b>{setting.label}</b><br>{setting.tip}")
            made.toggled.connect(change)
        else:
            made = ChoiceRow(setting)
            made.chosen.connect(change)
        self.controls[setting.name] = made
        return made

    # --- keeping up ----------------------------------------------------------------------------------------

    @property
    def step(self) -> ChainItem | None:
        return self.bench.session.item(self.step_id)

    def refresh(self) -> None:
        """Show the step's settings as they are."""
        step = self.step
        if step is None:
            return
        for name, control in self.controls.items():
            value = getattr(step, name)
            if isinstance(control, Toggle):
                control.set_on(value)
            else:
                control.set_value(value)
        self.state.setText("off: the sound passes untouched" if not step.on else "")
        self.show_picture()

    def show_picture(self) -> None:
        """Show what was measured."""

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        """Thirty times a second: where playing is, and the step's live detector level and reduction."""

    def joints(self) -> tuple[Joint | None, Joint | None]:
        """The joints before and after the step."""
        render = self.bench.picture.best
        if render is None:
            return None, None
        return render.before(self.step_id), render.joint(self.step_id)

    def section_trace(self, joint: Joint | None) -> Trace | None:
        return joint.section(self.bench.span) if joint is not None else None


def grouped(kind: type[Step]) -> list[tuple[str, list[Setting]]]:
    """A step's settings by group; long groups go on in a second column. The aim has a place of its own."""
    groups: dict[str, list[Setting]] = {}
    for setting in settings_of(kind).values():
        groups.setdefault(setting.group, []).append(setting)
    groups.pop("Aim", None)
    result = []
    for title, settings in groups.items():
        if sum(s.kind != "switch" for s in settings) > MOST_ROWS:
            half = (len(settings) + 1) // 2
            result += [(title, settings[:half]), (" ", settings[half:])]
        else:
            result.append((title, settings))
    return result


class TrimEditor(StepEditor):
    """Trim with the room that it makes."""

    def build_views(self) -> None:
        self.peaks = CaughtView()
        self.peaks.setToolTip("The section's peaks after this gain, against full scale.")
        self.views.addWidget(self.peaks)

    def show_picture(self) -> None:
        step = self.step
        if isinstance(step, Trim):
            before, _ = self.joints()
            self.peaks.show_peaks(self.section_trace(before), self.bench.span, step.gain, 0.0, True, "full scale")


class GlueEditor(StepEditor):
    """Glue with hits, curve, spread and reduction; its aim, its key, and an ear for its detector."""

    def build_views(self) -> None:
        self.hits, self.transfer, self.spread, self.reduction = (
            HitsView(),
            TransferView(),
            SpreadView(),
            ReductionView(),
        )
        self.add_views([
            ("hits", "Hits", self.hits), ("transfer", "Transfer", self.transfer), ("spread", "Spread", self.spread),
            ("reduction", "Over time", self.reduction),
        ])  # fmt: skip

    def build_middle(self) -> None:
        row = QHBoxLayout()
        row.setSpacing(10)
        settings = settings_of(Glue)
        aim = self.control(settings["aim"])
        aim.setFixedWidth(150)
        row.addWidget(aim)
        self.where = label("", "caption")
        row.addWidget(self.where)
        self.find_button = button(
            "Find threshold", "Set the threshold so that the mean reduction over the section is this much (T).",
            lambda: self.bench.find_threshold(self.step_id), "main",
        )  # fmt: skip
        row.addWidget(self.find_button)
        row.addWidget(self.control(settings["hold_aim"]))
        row.addStretch(1)
        self.punch = QLabel()
        self.punch.setProperty("role", "caption")
        self.punch.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.punch.setToolTip(
            "Punch: the peak of the mean hit over what follows it 50–150 ms later, after the step ÷ before. Pumping: how "
            "much of the reduction's movement follows the beat."
        )
        row.addWidget(self.punch)
        self.column.addLayout(row)

    def further_controls(self, title: str) -> list[QWidget]:
        if title != " ":
            return []
        self.key = QComboBox()
        self.key.setAccessibleName("Key")
        self.key.setMaximumWidth(124)
        tip = (
            "<b>Key</b><br>What the detector listens to: the signal itself, or another stem or bus, as it comes out of its "
            "chain. The reduction then follows that, as when a bass makes room for a kick."
        )
        self.key.activated.connect(self._choose_key)
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 6, 0, 6)
        row.addWidget(label("Key"))
        row.addStretch(1)
        row.addWidget(self.key)
        for widget in (holder, self.key):
            widget.setToolTip(tip)
        self.ear = Toggle(
            "Hear detector",
            "Listen to what the detector hears: its key, cut, tilted and bent (H). Not part of the sound.",
        )
        self.ear.toggled.connect(lambda on: self.bench.hear(DETECTOR if on else RESULT))
        return [holder, self.ear]

    def _choose_key(self, index: int) -> None:
        self.bench.set_setting(self.step_id, "key", self.key.itemData(index), "key")
        self._show_key()

    def _show_key(self) -> None:
        """The strips that can be a key. One that is gone, or that depends on this Glue, stays out of the list."""
        session, step = self.bench.session, self.step
        own = session.strip_with(self.step_id)
        if not isinstance(step, Glue) or own is None:
            return
        names = [("", "itself")]
        names += [(s.id, s.name) for s, _ in rows(session) if s.id not in path(session, own.id)]
        if step.key and session.strip(step.key) is None:
            names.append((step.key, "gone"))
        if [(self.key.itemData(n), self.key.itemText(n)) for n in range(self.key.count())] != names:
            self.key.clear()
            for id, name in names:
                self.key.addItem(name, id)
        self.key.setCurrentIndex(max(0, self.key.findData(step.key)))

    def refresh(self) -> None:
        super().refresh()
        self._show_key()
        self.ear.set_on(self.bench.session.view.hear == DETECTOR)

    def show_picture(self) -> None:
        step, picture, span = self.step, self.bench.picture, self.bench.span
        if not isinstance(step, Glue):
            return
        self.where.setText(f"on average in {self.bench.span_name}")
        before, after = self.joints()
        mean = after.mean_reduction(span) if after else 0.0
        render = picture.best
        key = render.plan.keys.get(step.id) if render is not None else None
        heard = render.at(key) if render is not None and key is not None else before
        self.transfer.show_glue(step, self.section_trace(heard))
        if after is not None:
            self.reduction.show_reduction(after.reduction, span, after.start, step.aim, mean)
            self.spread.show_spread(after.reduction_in(span), step.aim, mean)
        hits = picture.hits if picture.hits_step == self.step_id else None
        self.hits.show_hits(hits, step.attack, self.bench.span_name)
        words = [f"{mean:.2f} dB off"] if after is not None else []
        if hits is not None:
            words += [f"punch kept {100 * hits.punch_kept:.0f} %", f"pumping {100 * hits.pumping:.0f} %"]
        self.punch.setText(" · ".join(words))
        threshold, makeup = self.controls["threshold"], self.controls["makeup"]
        assert isinstance(threshold, Ruler) and isinstance(makeup, Ruler)
        threshold.set_note("held" if step.hold_aim else "")
        makeup.set_note("held" if step.hold_loudness else "")

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        self.transfer.show_live(level, reduction)
        self.reduction.show_now(seconds)


class LaneEditor(StepEditor):
    """A lane: where it leaves the chain, how loud it comes back, and what it would add."""

    def build_views(self) -> None:
        self.view = LaneView()
        self.views.addWidget(self.view)
        self.head.addWidget(button("Rename", "Give the lane another name.", self.rename, "plain"))

    def build_middle(self) -> None:
        row = QHBoxLayout()
        row.setSpacing(10)
        row.addWidget(label("Leaves the chain after"))
        self.since = QComboBox()
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
        row.addStretch(1)
        self.added = label("", "caption")
        row.addWidget(self.added)
        self.column.addLayout(row)

    def rename(self) -> None:
        """Open a field for the lane's name."""
        step = self.step
        if isinstance(step, Lane):
            edit_in_place(
                self, step.name, QRect(16, 6, 200, 26),
                lambda name: self.bench.set_setting(self.step_id, "name", name, "name"),
            )  # fmt: skip

    def refresh(self) -> None:
        super().refresh()
        step = self.step
        if not isinstance(step, Lane):
            return
        self.title.setText(f"Lane “{step.name}”")
        chain = self.bench.session.chain
        earlier = takewhile(lambda item: item.id != step.id, chain)
        names = [("", "what comes in"), *((i.id, i.name if isinstance(i, Lane) else i.title) for i in earlier)]
        if [(self.since.itemData(n), self.since.itemText(n)) for n in range(self.since.count())] != names:
            self.since.clear()
            for id, name in names:
                self.since.addItem(name, id)
        self.since.setCurrentIndex(max(0, self.since.findData(step.since)))
        self.alone.set_on(step.id in self.bench.session.view.solo)

    def show_picture(self) -> None:
        step, render, span = self.step, self.bench.picture.best, self.bench.span
        if not isinstance(step, Lane) or render is None or step.id not in render.plan.lanes:
            return
        main, side = (render.at(node) for node in render.plan.lanes[step.id])
        both = render.joint(step.id)
        assert both is not None
        self.view.show_lane(main.section(span), side.section(span).scaled(step.gain), both.section(span), span)
        gained = both.figures(span).integrated - main.figures(span).integrated
        would = gained - step.blend
        words = "nothing of the lane is heard"
        if step.gain > 0.0 and main.figures(span).integrated > SILENT:
            words = f"would add {figure(would)} dB"
            words += " · held" if step.hold_loudness else f" · not held: {figure(gained)} dB louder"
        self.added.setText(words)
        blend = self.controls["blend"]
        assert isinstance(blend, Ruler)
        blend.set_note("held" if step.hold_loudness else "")


class LimiterEditor(StepEditor):
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
        self.views.addWidget(both)

    def build_middle(self) -> None:
        self.words = label("", "caption")
        self.column.addWidget(self.words)

    def show_picture(self) -> None:
        step, span = self.step, self.bench.span
        if not isinstance(step, Limiter):
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
        self.reduction.show_now(seconds)


class SourceEditor(QWidget):
    """What comes into a chain: how loud it is, how much room it has, and whether it was clipped."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 8, 16, 8)
        self.title = label("Source", "title")
        column.addWidget(self.title)
        self.file = label("", "caption")
        column.addWidget(self.file)
        self.peaks = CaughtView()
        self.peaks.setToolTip("The peaks in the section of what comes in, against full scale.")
        column.addWidget(self.peaks, 1)
        self.rows = Rows((
            ("Headroom", "How far the highest peak lies under full scale, between samples too."),
            ("Integrated loudness", "Of the whole song."),
            ("Crest factor", "Sample peak less RMS: how dynamic it is."),
            ("Correlation", "Of left and right: 1 is mono, 0 is wide, under 0 cancels in mono."),
            ("Flat tops", "Runs of samples cut off at the same height: it was clipped before it came here."),
        ))  # fmt: skip
        column.addWidget(self.rows)
        row = QHBoxLayout()
        self.room = button(
            "Trim to 6 dB of headroom",
            "Adds a Trim at the start so that the steps have about 6 dB of room.",
            self._make_room,
        )
        row.addWidget(self.room)
        row.addStretch(1)
        column.addLayout(row)

    def refresh(self) -> None:
        session, render, audio = self.bench.session, self.bench.picture.best, self.bench.audio
        strip = session.strip(session.view.strip) or session.mix
        stems = [s for s in session.stems if s.id in below(session, strip.id)]
        self.title.setText("Source" if isinstance(strip, Stem) else f"What comes into {strip.name}")
        names = ", ".join(stem.media.path.rsplit("/", 1)[-1] for stem in stems[:3])
        more = f" and {len(stems) - 3} more" if len(stems) > 3 else ""
        material = audio.material
        rate = f" · {material.rate / 1000:g} kHz · {material.seconds:.1f} s" if material else ""
        self.file.setText(f"{names}{more}{rate}")
        self.room.setEnabled(material is not None)
        joint = render.start(strip.id) if render is not None else None
        whole = (self.bench.picture.song_render or render) if render is not None else None
        song = whole.start(strip.id) if whole is not None else None
        if joint is None or song is None:
            return
        f = song.figures()
        flat = sum(len(audio.flat.get(stem.id, ())) for stem in stems)
        self.peaks.show_peaks(joint.section(self.bench.span), self.bench.span, 0.0, 0.0, True, "full scale")
        self.rows.set_values([
            f"{figure(-f.true_peak)} dB", f"{figure(f.integrated)} LUFS", f"{f.crest:.1f} dB",
            figure(f.correlation, 2), f"{flat} found" if flat else "none",
        ], ["over" if f.true_peak > 0 else "ink", "ink", "ink", "ink", "over" if flat else "ink"])  # fmt: skip

    def _make_room(self) -> None:
        session, render = self.bench.session, self.bench.picture.song_render
        joint = render.start(session.view.strip) if render is not None else None
        if joint is None:
            return
        gain = round(-6.0 - joint.figures().true_peak, 1)
        first = session.chain[0] if session.chain else None
        if isinstance(first, Trim):
            changed = msgspec.structs.replace(first, gain=gain)
            self.bench.edit("Make headroom", lambda s: s.with_step(changed))
        else:
            self.bench.edit("Make headroom", lambda s: s.with_new_step(Trim(gain=gain), s.view.strip))
        self.bench.look(step=self.bench.session.chain[0].id)

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        """Nothing here moves."""


EDITORS: dict[type[Step], type[StepEditor]] = {
    Trim: TrimEditor, Glue: GlueEditor, Limiter: LimiterEditor, Lane: LaneEditor
}  # fmt: skip
"""Steps with views of their own; others get a plain `StepEditor`."""


def editor_for(bench: Workbench, step: ChainItem) -> StepEditor:
    return EDITORS.get(type(step), StepEditor)(bench, step)
