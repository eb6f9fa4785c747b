"""The editor of the chosen step: its views above, its settings in columns below.

Every step gets one from the declarations of its settings; a step with views of its own has a class here.
"""

from __future__ import annotations

from typing import Any

import msgspec
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QStackedLayout, QVBoxLayout, QWidget

from gluvo.desk.parts import ChoiceRow, Rows, Segments, Toggle, button, figure, label, line
from gluvo.desk.ruler import Ruler
from gluvo.desk.views import CaughtView, HitsView, ReductionView, TransferView
from gluvo.desk.workbench import Workbench
from gluvo.measure.trace import Trace
from gluvo.render.song import Joint
from gluvo.steps import AnyStep, Glue, Limiter, Setting, Step, Trim, settings_of

MOST_ROWS = 6
"""Rulers in a column before it is split."""


class StepEditor(QWidget):
    """Made from the declared settings. Subclasses add views and controls."""

    def __init__(self, bench: Workbench, step: AnyStep) -> None:
        super().__init__()
        self.bench, self.step_id = bench, step.id
        self.controls: dict[str, Ruler | Toggle | ChoiceRow] = {}
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(16, 8, 16, 8)
        self.column.setSpacing(6)
        self.head = QHBoxLayout()
        self.head.addWidget(label(step.title, "title"))
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
        column.addStretch(1)
        return column

    def control(self, setting: Setting) -> QWidget:
        """The control of a setting, wired to the session."""

        def change(value: Any) -> None:
            self.bench.set_setting(self.step_id, setting.name, value, setting.label)

        made: Ruler | Toggle | ChoiceRow
        if setting.kind == "number":
            made = Ruler(setting)
            made.moved.connect(change)
            made.settled.connect(self.bench.document.settle)
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
    def step(self) -> AnyStep | None:
        return self.bench.session.step(self.step_id)

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
    """Glue with hits, curve and reduction; and its aim."""

    def build_views(self) -> None:
        self.hits, self.transfer, self.reduction = HitsView(), TransferView(), ReductionView()
        self.add_views([
            ("hits", "Hits", self.hits), ("transfer", "Transfer", self.transfer),
            ("reduction", "Reduction", self.reduction),
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

    def show_picture(self) -> None:
        step, picture = self.step, self.bench.picture
        if not isinstance(step, Glue):
            return
        self.where.setText(f"on average in {self.bench.span_name}")
        before, after = self.joints()
        mean = after.mean_reduction(self.bench.span) if after else 0.0
        self.transfer.show_glue(step, self.section_trace(before))
        if after is not None:
            self.reduction.show_reduction(after.reduction, self.bench.span, after.start, step.aim, mean)
        hits = picture.hits if picture.hits_step == self.step_id else None
        self.hits.show_hits(hits, step.attack, step.aim, self.bench.span_name)
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
    """What came in: how loud it is, how much room it has, and whether it was clipped."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 8, 16, 8)
        column.addWidget(label("Source", "title"))
        self.file = label("", "caption")
        column.addWidget(self.file)
        self.peaks = CaughtView()
        self.peaks.setToolTip("The source's peaks in the section, against full scale.")
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
        session, render, song = self.bench.session, self.bench.picture.best, self.bench.audio.song
        names = ", ".join(media.path.rsplit("/", 1)[-1] for media in session.sources[:3])
        more = f" and {len(session.sources) - 3} more" if len(session.sources) > 3 else ""
        rate = f" · {song.rate / 1000:g} kHz · {song.seconds:.1f} s" if song else ""
        self.file.setText(f"{names}{more}{rate}")
        self.room.setEnabled(song is not None)
        if render is None:
            return
        source = render.source
        whole = (self.bench.picture.song_render or render).source.figures()
        flat = len(self.bench.audio.flat)
        self.peaks.show_peaks(source.section(self.bench.span), self.bench.span, 0.0, 0.0, True, "full scale")
        self.rows.set_values([
            f"{figure(-whole.true_peak)} dB", f"{figure(whole.integrated)} LUFS", f"{whole.crest:.1f} dB",
            figure(whole.correlation, 2), f"{flat} found" if flat else "none",
        ], ["over" if whole.true_peak > 0 else "ink", "ink", "ink", "ink", "over" if flat else "ink"])  # fmt: skip

    def _make_room(self) -> None:
        render = self.bench.picture.song_render
        if render is None:
            return
        gain = round(-6.0 - render.source.figures().true_peak, 1)
        first = self.bench.session.chain[0] if self.bench.session.chain else None
        if isinstance(first, Trim):
            changed = msgspec.structs.replace(first, gain=gain)
            self.bench.edit("Make headroom", lambda s: s.with_step(changed))
        else:
            self.bench.edit("Make headroom", lambda s: s.with_new_step(Trim(gain=gain), 0))
        self.bench.document.look(step=self.bench.session.chain[0].id)

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        """Nothing here moves."""


EDITORS: dict[type[Step], type[StepEditor]] = {Trim: TrimEditor, Glue: GlueEditor, Limiter: LimiterEditor}
"""Steps with views of their own; others get a plain `StepEditor`."""


def editor_for(bench: Workbench, step: AnyStep) -> StepEditor:
    return EDITORS.get(type(step), StepEditor)(bench, step)
