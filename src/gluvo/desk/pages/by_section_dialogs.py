"""What goes by the song's sections: the level of a strip in each, and where a step works."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import msgspec
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from gluvo.desk.controls.flow import Lines
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import Toggle, button, clock, label
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.session import by_section
from gluvo.session.records import LIFT, Bus, Section, Session
from gluvo.steps.base import SECTION_RAMP, Step
from gluvo.steps.settings import setting_of, settings_of

HIGHEST = 420
"""Pixels that the list of sections may be high."""
NO_SECTIONS = "This song has no sections yet. Propose some (Song menu), or Shift-drag over the timeline to mark one."


class _BySection(QDialog):
    """Rows for the sections of the song, and under them what is set for all; stays open beside the window. Space plays."""

    def __init__(self, parent: QWidget, bench: Workbench, title: str) -> None:
        super().__init__(parent)
        self._bench = bench
        self.setWindowTitle(title)
        self.setMinimumWidth(440)
        self.column = QVBoxLayout(self)
        self.head = label("", "title")
        self.words = Lines(2, "caption")
        self.rows = QVBoxLayout()
        inner = QWidget()
        inner.setLayout(self.rows)
        self.rows.setContentsMargins(0, 0, 8, 0)
        self.rows.setSpacing(4)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setFrameShape(QScrollArea.Shape.NoFrame)
        self._area.setWidget(inner)
        self.foot = QHBoxLayout()
        self.foot.setSpacing(16)
        last = QHBoxLayout()
        last.addStretch(1)
        last.addWidget(button("Close", "What was set stays; undo takes it back.", self.reject))
        self.column.addWidget(self.head)
        self.column.addWidget(self.words)
        self.column.addWidget(self._area, 1)
        self.column.addLayout(self.foot)
        self.column.addLayout(last)
        self._shown: tuple[Section, ...] | None = None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space:
            self._bench.listening.toggle_play()
        else:
            super().keyPressEvent(event)

    def begin(self) -> None:
        """Follow the session from now on."""
        bench = self._bench
        Follower(self, bench, self.refresh, session=lambda s: (s.sections, s.strips, s.view.strip, s.view.step))
        self.refresh()

    def refresh(self) -> None:
        sections = self._bench.session.sections
        if sections != self._shown:
            self._shown = sections
            while (item := self.rows.takeAt(0)) is not None:
                if (widget := item.widget()) is not None:
                    widget.deleteLater()
            self.forget()
            for section in sections:
                self.rows.addWidget(self.row(section))
            self.rows.addStretch(1)
            inner = self._area.widget()
            assert inner is not None
            self._area.setMinimumHeight(min(HIGHEST, inner.sizeHint().height() + 4))
        self.show_values()

    def forget(self) -> None:
        """The rows are made anew."""
        raise NotImplementedError

    def row(self, section: Section) -> QWidget:
        """A row of the list."""
        raise NotImplementedError

    def show_values(self) -> None:
        """Show the session in the rows that there are."""
        raise NotImplementedError


class LiftsDialog(_BySection):
    """The level of the chosen strip in each section."""

    def __init__(self, parent: QWidget, bench: Workbench) -> None:
        super().__init__(parent, bench, "Lifts by section")
        self.rulers: dict[str, Ruler] = {}
        declared = settings_of(Bus)
        self.ramp = Ruler(declared["ride_ramp"])
        self.ramp.moved.connect(partial(self._set, "ride_ramp", declared["ride_ramp"].label))
        self.ramp.settled.connect(bench.settle)
        self.before = Toggle(declared["ride_before"].label, declared["ride_before"].tip)
        self.before.toggled.connect(partial(self._set, "ride_before", declared["ride_before"].label))
        self.foot.addWidget(self.ramp)
        self.foot.addWidget(self.before)
        self.begin()

    def _set(self, name: str, what: str, value: float | bool) -> None:
        self._bench.set_strip(self._bench.session.view.strip, name, value, f"lifts: {what.lower()}")

    def forget(self) -> None:
        self.rulers.clear()

    def row(self, section: Section) -> QWidget:
        setting = replace(setting_of(section.id, LIFT, 0.0), label=section.name)
        ruler = self.rulers[section.id] = Ruler(setting)
        ruler.moved.connect(partial(self._lift, section.id))
        ruler.settled.connect(self._bench.settle)
        return ruler

    def _lift(self, section: str, gain: float) -> None:
        lift(self._bench, section, gain)

    def show_values(self) -> None:
        session = self._bench.session
        strip = session.strip(session.view.strip) or session.mix
        self.head.setText(f"{strip.name}, section by section")
        lifted = [s.name for s in session.sections if by_section.gain_of(strip, s.id)]
        self.words.setText(
            NO_SECTIONS
            if not session.sections
            else f"Lifted: {', '.join(lifted)}."
            if lifted
            else "No section is lifted."
        )
        for id, ruler in self.rulers.items():
            ruler.set_value(by_section.gain_of(strip, id))
        self.ramp.set_value(strip.ride_ramp)
        self.before.set_on(strip.ride_before)


def lift(bench: Workbench, section: str, gain: float) -> None:
    """Lift the chosen strip in a section, in dB; before its chain, where the first lift after it would pass a ceiling."""
    strip, found = bench.session.strip(bench.session.view.strip), bench.session.section(section)
    if strip is not None and found is not None:
        gain = round(min(max(gain, float(LIFT.ge or 0.0)), float(LIFT.le or 0.0)), 2)
        under_ceiling = not strip.rides and not strip.ride_before and any(i.on and i.has_ceiling for i in strip.chain)

        def edit(session: Session) -> Session:
            if under_ceiling:
                session = session.with_strip(msgspec.structs.replace(strip, ride_before=True))
            return by_section.with_gain(session, strip.id, section, gain)

        if bench.edit(f"Lift {strip.name} in {found.name}", edit, f"{strip.id}.lift.{section}") and under_ceiling:
            bench.tell(
                f"{strip.name} is lifted before its chain, so that nothing passes its ceiling. Shift+L lifts it after it.",
                False,
            )


class WhereDialog(_BySection):
    """The sections that the chosen step works in."""

    def __init__(self, parent: QWidget, bench: Workbench) -> None:
        super().__init__(parent, bench, "Where a step works")
        self.toggles: dict[str, Toggle] = {}
        self.ramp = Ruler(setting_of("section_ramp", SECTION_RAMP, 50.0))
        self.ramp.moved.connect(self._set_ramp)
        self.ramp.settled.connect(bench.settle)
        self.everywhere = button("The whole song", "It works everywhere again.", lambda: self._set(()))
        self.foot.addWidget(self.ramp)
        self.foot.addWidget(self.everywhere)
        self.foot.addStretch(1)
        self.begin()

    @property
    def _item(self) -> Step | None:
        return self._bench.session.item(self._bench.session.view.step)

    def forget(self) -> None:
        self.toggles.clear()

    def row(self, section: Section) -> QWidget:
        words = f"{section.name}   {clock(section.start)} – {clock(section.end)}"
        toggle = self.toggles[section.id] = Toggle(words, "Whether the step works in this section.")
        toggle.toggled.connect(partial(self._choose, section.id))
        return toggle

    def _choose(self, section: str, on: bool) -> None:
        item = self._item
        if item is not None:
            now = set(item.sections)
            self._set(now | {section} if on else now - {section})

    def _set(self, sections: set[str] | tuple[str, ...]) -> None:
        item = self._item
        if item is not None:
            self._bench.edit(f"{item.called} works in", lambda s: by_section.working_in(s, item.id, sections))

    def _set_ramp(self, value: float) -> None:
        item = self._item
        if item is not None:
            changed = msgspec.structs.replace(item, section_ramp=value)
            self._bench.edit(f"{item.called} ramp", lambda s: s.with_step(changed), f"{item.id}.section_ramp")

    def show_values(self) -> None:
        session, item = self._bench.session, self._item
        self.head.setText(item.called if item is not None else "No step is chosen")
        where = by_section.where(session, item) if item is not None else ""
        self.words.setText(
            NO_SECTIONS
            if not session.sections
            else f"Works in {where}. Elsewhere the sound passes by it, in step and bit for bit."
            if where
            else "Works in the whole song. Choose sections, and it works in those alone."
        )
        for id, toggle in self.toggles.items():
            toggle.set_on(item is not None and id in item.sections)
            toggle.setEnabled(item is not None)
        self.ramp.set_value(item.section_ramp if item is not None else 50.0)
        self.ramp.setEnabled(item is not None and bool(item.sections))
        self.everywhere.setEnabled(item is not None and bool(item.sections))
