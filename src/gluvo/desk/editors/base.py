"""The editor that every step gets from the declarations of its settings: views above, settings in columns below."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any, ClassVar, Generic, TypeVar, cast

from msgspec.structs import replace
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QLayout, QSizePolicy, QStackedLayout, QVBoxLayout, QWidget

from gluvo.advise.aim import unmet
from gluvo.advise.hold import holds
from gluvo.advise.try_values import SettingPlace
from gluvo.desk.charts.chart import Chart
from gluvo.desk.controls.flow import Elided, Flow, Group, Pane
from gluvo.desk.controls.widgets import Segments, button, figure, label
from gluvo.desk.editors.aim_row import AimRow
from gluvo.desk.editors.preset_dialog import choose_preset, for_item
from gluvo.desk.editors.setting_control import Control, offer_values, setting_control, show_second, show_value
from gluvo.desk.editors.spectrum_panel import SpectrumPanel
from gluvo.desk.model.workbench import Workbench
from gluvo.measure.trace import Span, Trace
from gluvo.render.joint import Joint
from gluvo.session import alternatives
from gluvo.steps import ChainItem, Setting, Step, settings_of

WORTH_SAYING = 0.1
"""LU by which a hold in one section may move the whole song before it is said."""
MARGIN = 16
CELL, SIDE_BY_SIDE, FOLDED = 138, 290, 190
"""Pixels: the least width of a setting, of a group beside another one, and of the line of one that is folded."""

S = TypeVar("S", bound=Step)
"""The step that an editor is for."""

_folded: dict[tuple[type[Step], str], bool] = {}
"""Which groups of which kinds of step the user has folded or shown, as long as the program runs."""


LEAST_RANGE = 140
"""Pixels that a chart has for its range, at least."""
MOVED = 0.1
"""dB that are worth a word."""


@dataclass(frozen=True)
class _Read:
    """What a step took at peaks, dB, and when."""

    place: tuple[int, int]
    """In the history."""
    step: Step
    span: Span | None
    peaks: float


class StepEditor(QWidget, Generic[S]):
    """Made from the declared settings. Subclasses add views and controls."""

    wide: ClassVar[bool] = False
    """Whether it wants the place of the target panel, too."""
    least: ClassVar[int] = 330
    """Pixels under which it is not squeezed further, but scrolls."""
    rarely: ClassVar[tuple[str, ...]] = ()
    """The titles of groups that are rarely touched: they begin as a line that tells their state."""

    def __init__(self, bench: Workbench, step: ChainItem) -> None:
        super().__init__()
        self.bench, self.step_id = bench, step.id
        self.kind = type(step)
        self.controls: dict[str, Control] = {}
        self._read: _Read | None = None
        self._read_before: _Read | None = None
        """What was read of the reduction now and before the last action."""
        self._since = ""
        self.groups: dict[str, Group] = {}
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(MARGIN, 8, MARGIN, 8)
        self.column.setSpacing(6)
        self.setMinimumHeight(self.least)
        self.head = QHBoxLayout()
        self.title = label(step.title, "title")
        self.head.addWidget(self.title)
        self.presets = button(
            "Presets…",
            "Settings by purpose, each heard before it is taken (Ctrl+Shift+P).",
            self.choose_preset,
            "plain",
        )
        self.head.addWidget(self.presets)
        self.another = button(
            "+ Alternative",
            "Settings side by side: another one, as this is now, to be changed and compared at equal loudness "
            "(Ctrl+Alt+A, then A).",
            bench.side_by_side.another,
            "plain",
        )
        self.head.addWidget(self.another)
        self.state = Elided("", "caption", 900)
        self.head.addStretch(1)
        self._below_head = QWidget()
        below = QHBoxLayout(self._below_head)
        below.setContentsMargins(0, 0, 0, 0)
        below.addWidget(self.state, 1)
        self.hold_here = button(
            "Hold here",
            "Find the held settings in the section that is chosen now, and keep them to that.",
            lambda: bench.hold_here(self.step_id),
            "plain",
        )
        below.addWidget(self.hold_here)
        self.column.addLayout(self.head)
        self.column.addWidget(self._below_head)
        self.views = QStackedLayout()
        self.build_views()
        self.column.addLayout(self.views, 1)
        self.middle = QWidget()
        self.below_views = QVBoxLayout(self.middle)
        """For what stands between views and settings; a spectrum takes its place."""
        self.below_views.setContentsMargins(0, 0, 0, 0)
        self.column.addWidget(self.middle)
        self.build_middle()
        self.middle.setVisible(self.below_views.count() > 0)
        self.build_settings(type(step))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit_head()

    def _fit_head(self) -> None:
        """Where there is little room, presets and another alternative have their keys and the menu, and what is one of several
        words becomes a list."""
        squeezed = self.squeezed()
        for segments in squeezed:
            segments.set_compact(False)
        there = alternatives.found(self.bench.session, self.step_id) is not None
        self.another.setVisible(False)
        self.presets.setVisible(False)
        for segments in squeezed:
            if self.head.sizeHint().width() > self.width() - 2 * MARGIN:
                segments.set_compact(True)
                self.head.invalidate()
        room = self.width() - 2 * MARGIN - self.head.sizeHint().width()
        for widget, wanted in ((self.presets, True), (self.another, not there)):
            room -= widget.sizeHint().width() + self.head.spacing()
            widget.setVisible(wanted and room >= 0)

    def squeezed(self) -> list[Segments]:
        """What becomes a list where there is little room, first those that are needed least."""
        return [self.chooser]

    def begin(self) -> None:
        """Give the focus to what is worked on first."""
        first = next((c for c in self.controls.values() if c.isVisible() and c.isEnabled()), None)
        if first is not None:
            first.setFocus()

    def add_aim(self, named: str, tip: str, words_tip: str) -> AimRow:
        """The row of its aim, under the views; see `AimRow`."""
        settings = settings_of(self.kind)
        controls = (
            self.control(settings["aim"]),
            self.control(settings["aim_by"], named=False),
            self.control(settings["hold_aim"]),
        )
        row = AimRow(controls, lambda: self.bench.advice.find_threshold(self.step_id), named, tip)
        row.words.setToolTip(words_tip)
        self.column.insertWidget(self.column.indexOf(self.middle), row)  # in sight beside every view
        return row

    def choose_preset(self) -> None:
        """Choose among the presets of this kind of step, by ear."""
        item = self.bench.session.item(self.step_id)
        if item is not None:
            choose_preset(self, self.bench, for_item(item))

    # --- building ------------------------------------------------------------------------------------------

    def build_views(self) -> None:
        """Add views, with `add_views`."""
        self.add_views([])

    def build_settings(self, kind: type[Step]) -> None:
        """Add the settings by their groups: side by side as far as they fit, and scrolling where there is less room."""
        inner = QWidget()
        pane = QVBoxLayout(inner)
        pane.setContentsMargins(0, 0, 6, 2)
        pane.setSpacing(6)
        beside = QWidget()
        row = Flow(SIDE_BY_SIDE, across=22, down=6, packed=True)
        beside.setLayout(row)
        heads = QWidget()
        headers = Flow(FOLDED, across=16, down=2)
        heads.setLayout(headers)
        if len(self.rarely) > 1:
            pane.addWidget(heads)
        for title, settings in grouped(kind):
            folds = title in self.rarely
            group = Group(title, CELL, partial(self._group_words, settings) if folds else None)
            self.groups[title] = group
            for widget in self._group_controls(title, settings):
                group.add(widget)
            if folds:
                group.set_folded(_folded.get((kind, title), True))
                group.folded.connect(partial(self._fold, kind, title))
                if len(self.rarely) > 1:  # side by side as lines, one below the other when they are shown
                    headers.addWidget(group.set_apart())
                pane.addWidget(group)
            else:
                row.addWidget(group)
        pane.addWidget(beside)
        self.pane = Pane(inner)
        self.column.addWidget(self.pane)

    def _fold(self, kind: type[Step], title: str, folded: bool) -> None:
        _folded[kind, title] = folded
        self.pane.updateGeometry()

    def _group_words(self, settings: list[Setting]) -> str:
        """What in a group is not as a new step has it."""
        step = self.step
        if step is None:
            return ""
        words = []
        for setting in settings:
            value = getattr(step, setting.name)
            if value == setting.default:
                continue
            if setting.kind == "switch":
                words.append(setting.label.lower() if value else f"no {setting.label.lower()}")
            elif setting.kind == "choice":
                words.append(f"{setting.label.lower()} {dict(setting.options)[str(value)]}")
            else:
                words.append(f"{setting.label.lower()} {setting.show(value)} {setting.unit}".strip())
        return " · ".join([*words, *self.further_words(settings)]) or "as new"

    def further_words(self, settings: list[Setting]) -> list[str]:
        """What else a folded group tells."""
        return []

    def build_middle(self) -> None:
        """Add what stands between views and settings, to `below_views`."""

    def add_views(self, views: list[tuple[str, str, QWidget]]) -> None:
        """Views by key, name and widget, with a chooser; the spectrum comes last."""
        self.spectrum = SpectrumPanel(self.bench, self.step_id)
        views = [*views, ("spectrum", "Spectrum", self.spectrum)]
        chooser = Segments([(key, name) for key, name, _ in views], "What is drawn here.")
        for _, name, view in views:
            for shown in (view, *view.findChildren(Chart)):
                if not shown.accessibleName():
                    shown.setAccessibleName(name)
            if isinstance(view, Chart):
                view.setMinimumHeight(LEAST_RANGE + view.top + view.bottom)
            elif (layout := view.layout()) is not None:
                layout.setVerticalSizeConstraint(QLayout.SizeConstraint.SetMinimumSize)
            policy = view.sizePolicy()  # it takes what the settings leave, and what it must have
            policy.setVerticalPolicy(QSizePolicy.Policy.Ignored)
            view.setSizePolicy(policy)
            self.views.addWidget(view)
        keys = [key for key, _, _ in views]
        chooser.chosen.connect(lambda key: self.views.setCurrentIndex(keys.index(key)))
        chooser.chosen.connect(lambda key: self.middle.setVisible(key != "spectrum" and self.below_views.count() > 0))
        chooser.set_chosen(keys[0])
        self.chooser = chooser
        self.head.addWidget(chooser)

    def _group_controls(self, title: str, settings: list[Setting]) -> list[QWidget]:
        """The controls of a group; switches come last."""
        found = [self.control(s) for s in sorted(settings, key=lambda s: s.kind == "switch")]
        return [*found, *self.further_controls(title)]

    def further_controls(self, title: str) -> list[QWidget]:
        """What stands under a column of settings besides them."""
        return []

    def control(self, setting: Setting, *, named: bool = True) -> QWidget:
        """The control of a setting, wired to the session; of a choice also without its name."""

        def change(value: Any) -> None:
            self.bench.set_setting(self.step_id, setting.name, value, setting.label)

        made = self.controls[setting.name] = setting_control(setting, change, self.bench.settle, named=named)
        offer_values(self.bench, made, lambda: SettingPlace(self.step_id, setting.name))
        return made

    # --- keeping up ----------------------------------------------------------------------------------------

    @property
    def step(self) -> S | None:
        """The step as it now is; None once it is gone, or another one has its name."""
        found = self.bench.session.item(self.step_id)
        return cast("S", found) if type(found) is self.kind else None

    @property
    def beside(self) -> S | None:
        """The step as the next alternative has it; None where there is none."""
        other = self.bench.side_by_side.beside
        found = other.item(self.step_id) if other is not None else None
        return cast("S", found) if type(found) is self.kind else None

    def refresh(self) -> None:
        """Show the step's settings as they are."""
        step = self.step
        if step is None:
            return
        for name, control in self.controls.items():
            show_value(control, getattr(step, name))
        show_second(self.controls, self.beside)
        self._show_state(step)
        for group in self.groups.values():
            group.refresh()
        self.spectrum.refresh()
        self.spectrum.show_picture()
        self.show_picture()
        self._fit_head()

    def _show_state(self, step: S) -> None:
        """Whether it is on, and what its held settings belong to."""
        words = self.state_words(step) if step.on else ["off: the sound passes untouched"]
        held = holds(step)
        elsewhere = held and self.bench.held_name(step) != self.bench.span_name
        if held:
            words.append(f"held in {self.bench.held_name(step)}")
            words += self._held_moved(step)
            if not elsewhere and (short := self._unmet(step)):
                words.append(short)
            if (moved := self._song_moved(step)) is not None:
                words.append(f"the whole song is {figure(moved, 1, 'LU', signed=True)}")
            if (higher := self._peak_raised(step)) is not None:
                words.append(f"its true peak rises by {figure(higher, 1, 'dB')} at equal loudness")
        self.state.setText(" · ".join(words))
        self._below_head.setVisible(bool(words))
        self.hold_here.setVisible(elsewhere)

    def _held_moved(self, step: S) -> list[str]:
        """Which held settings the last action has moved, where that was one of something else; and by how much."""
        document = self.bench.document
        before, action = document.before, document.undo_name
        was = before.item(step.id) if before is not None else None
        rest = dict.fromkeys(step.solved_settings, 0.0)
        if type(was) is not type(step) or replace(was, **rest) != replace(step, **rest):
            return []
        moved = {name: getattr(step, name) - getattr(was, name) for name in step.held_now}
        settings = settings_of(type(step))
        return [
            f"{settings[name].label.lower()} {figure(by, 1, 'dB', signed=True)} since “{action}”"
            for name, by in moved.items()
            if abs(by) >= MOVED
        ]

    def reduction_moved(self, step: S) -> str:
        """By how much more or less it takes at peaks since the last action, where that was one of something else and nothing
        holds it."""
        _, after = self.joints()
        span, document = self.bench.span, self.bench.document
        reduced = after.taken_by(step, span) if after is not None and step.reduces else None
        if reduced is None or not self.bench.picture.section_current:
            return self._since
        read = _Read(document.place_in_history, step, span, reduced.peaks)
        if self._read is not None and self._read.place != read.place:
            self._read_before = self._read
        self._read = read
        before, by = self._read_before, 0.0
        held = any(step.solved_settings[name].aim for name in step.held_now)
        if before is not None and (before.step, before.span) == (step, span) and not held:
            by = read.peaks - before.peaks
        words = f"{figure(by, 1, 'dB', signed=True)} of reduction at peaks since “{document.undo_name}”"
        self._since = words if abs(by) >= MOVED and document.undo_name else ""
        return self._since

    def _unmet(self, step: S) -> str:
        """What there is to say of its aim where that is not met in what is shown."""
        before, after = self.joints()
        return unmet(step, before, after, self.bench.span) if before is not None and after is not None else ""

    def state_words(self, step: S) -> list[str]:
        """What stands beside the title while the step is on."""
        return []

    def _song_moved(self, step: S) -> float | None:
        """By how much a step held in one section moves the whole song's loudness, if by more than a trace."""
        song = self.bench.picture.song_render
        if song is None or not getattr(step, "hold_loudness", False):
            return None
        before, after = song.before(step.id), song.joint(step.id)
        if before is None or after is None:
            return None
        moved = after.loudness() - before.loudness()
        return moved if abs(moved) > WORTH_SAYING else None

    def _peak_raised(self, step: S) -> float | None:
        """By how much a step that holds the loudness raises the section's true peak, if by more than a trace."""
        before, after = self.joints()
        if before is None or after is None or not getattr(step, "hold_loudness", False):
            return None
        span = self.bench.span
        raised = after.figures(span).true_peak - before.figures(span).true_peak
        return raised if raised > WORTH_SAYING else None

    def show_picture(self) -> None:
        """Show what was measured."""

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        """Thirty times a second: where playing is, and the step's live detector level and reduction."""
        self.spectrum.tick()

    def tick_inside(self, reductions: Mapping[str, float]) -> None:
        """After `tick`, for containers: the live reduction of each step that plays, by its id."""

    def joints(self) -> tuple[Joint | None, Joint | None]:
        """The joints before and after the step."""
        render = self.bench.picture.best
        if render is None:
            return None, None
        return render.before(self.step_id), render.joint(self.step_id)

    def section_trace(self, joint: Joint | None) -> Trace | None:
        return joint.section(self.bench.span) if joint is not None else None


def grouped(kind: type[Step]) -> list[tuple[str, list[Setting]]]:
    """A step's settings by group. The aim has a place of its own."""
    groups: dict[str, list[Setting]] = {}
    for setting in settings_of(kind).values():
        groups.setdefault(setting.group, []).append(setting)
    groups.pop("Aim", None)
    return list(groups.items())
