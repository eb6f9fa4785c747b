"""The editor that every step gets from the declarations of its settings: views above, settings in columns below."""

from __future__ import annotations

from typing import Any, ClassVar

from PySide6.QtWidgets import QHBoxLayout, QStackedLayout, QVBoxLayout, QWidget

from gluvo.advise.hold import holds
from gluvo.desk.parts import ChoiceRow, Segments, Toggle, button, figure, label, line
from gluvo.desk.ruler import Ruler
from gluvo.desk.spectrum_panel import SpectrumPanel
from gluvo.desk.workbench import Workbench
from gluvo.measure.trace import Trace
from gluvo.render.song import Joint
from gluvo.steps import ChainItem, Setting, Step, settings_of

WORTH_SAYING = 0.1
"""LU by which a hold in one section may move the whole song before it is said."""
MOST_ROWS = 6
"""Rulers in a column before it is split."""


class StepEditor(QWidget):
    """Made from the declared settings. Subclasses add views and controls."""

    wide: ClassVar[bool] = False
    """Whether it wants the place of the target panel, too."""

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
        self.hold_here = button(
            "Hold here", "Find the held settings in the section that is chosen now, and keep them to that.",
            lambda: bench.hold_here(self.step_id), "plain",
        )  # fmt: skip
        self.head.addWidget(self.hold_here)
        self.head.addStretch(1)
        self.column.addLayout(self.head)
        self.views = QStackedLayout()
        self.build_views()
        self.column.addLayout(self.views, 1)
        self.middle = QWidget()
        self.below_views = QVBoxLayout(self.middle)
        """For what stands between views and settings; a spectrum takes its place."""
        self.below_views.setContentsMargins(0, 0, 0, 0)
        self.column.addWidget(self.middle)
        self.build_middle()
        self.build_settings(type(step))

    # --- building ------------------------------------------------------------------------------------------

    def build_views(self) -> None:
        """Add views, with `add_views`."""
        self.add_views([])

    def build_settings(self, kind: type[Step]) -> None:
        """Add the settings, in columns by their groups."""
        columns = QHBoxLayout()
        columns.setSpacing(18)
        for title, settings in grouped(kind):
            columns.addLayout(self._settings_column(title, settings), 1)
        if columns.count() == 1:
            columns.addStretch(1)  # rulers as wide as a page are hard to read
        self.column.addLayout(columns)

    def build_middle(self) -> None:
        """Add what stands between views and settings, to `below_views`."""

    def add_views(self, views: list[tuple[str, str, QWidget]]) -> None:
        """Views by key, name and widget, with a chooser; the spectrum comes last."""
        self.spectrum = SpectrumPanel(self.bench, self.step_id)
        views = [*views, ("spectrum", "Spectrum", self.spectrum)]
        chooser = Segments([(key, name) for key, name, _ in views], "What is drawn here.")
        for _, _, view in views:
            self.views.addWidget(view)
        keys = [key for key, _, _ in views]
        chooser.chosen.connect(lambda key: self.views.setCurrentIndex(keys.index(key)))
        chooser.chosen.connect(lambda key: self.middle.setVisible(key != "spectrum"))
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
        self._show_state(step)
        self.spectrum.refresh()
        self.spectrum.show_picture()
        self.show_picture()

    def _show_state(self, step: ChainItem) -> None:
        """Whether it is on, and what its held settings belong to."""
        words = [] if step.on else ["off: the sound passes untouched"]
        held = holds(step)
        elsewhere = held and self.bench.held_name(step) != self.bench.span_name
        if held:
            words.append(f"held in {self.bench.held_name(step)}")
            if (moved := self._song_moved(step)) is not None:
                words.append(f"the whole song is {figure(moved, 1, 'LU', signed=True)}")
        self.state.setText(" · ".join(words))
        self.hold_here.setVisible(elsewhere)

    def _song_moved(self, step: ChainItem) -> float | None:
        """By how much a step held in one section moves the whole song's loudness, if by more than a trace."""
        song = self.bench.picture.song_render
        if song is None or not getattr(step, "hold_loudness", False):
            return None
        before, after = song.before(step.id), song.joint(step.id)
        if before is None or after is None:
            return None
        moved = after.figures().integrated - before.figures().integrated
        return moved if abs(moved) > WORTH_SAYING else None

    def show_picture(self) -> None:
        """Show what was measured."""

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        """Thirty times a second: where playing is, and the step's live detector level and reduction."""
        self.spectrum.tick()

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
