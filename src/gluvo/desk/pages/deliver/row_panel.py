"""The settings of the chosen deliverable."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QMenu, QVBoxLayout, QWidget

from gluvo.deliver.formats import FORMATS
from gluvo.deliver.names import FIELDS
from gluvo.deliver.targets import all_targets
from gluvo.desk.controls.flow import Flow, Group, Lines, scrolled
from gluvo.desk.controls.keys import ENTERS
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import ChoiceBox, ChoiceRow, Toggle, button, label, plain
from gluvo.desk.model.delivery import Delivery
from gluvo.desk.pages.deliver.dither_dialog import DitherDialog
from gluvo.errors import GluvoError
from gluvo.session.records import FILE, KEEPS, MIX, PART, Deliverable, Target
from gluvo.session.tree import rows
from gluvo.steps.settings import Setting, settings_of

SONGS = "the song's own"
CELL, SIDE_BY_SIDE = 162, 330


class _Choosing(QMenu):
    """A menu that several things are chosen in: it closes with Escape, or by a click elsewhere."""

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        action = self.actionAt(event.position().toPoint())
        if action is not None and action.isCheckable():
            action.trigger()
        else:
            super().mouseReleaseEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        action = self.activeAction()
        if action is not None and action.isCheckable() and event.key() in (Qt.Key.Key_Space, *ENTERS):
            action.trigger()
        else:
            super().keyPressEvent(event)


class RowPanel(QWidget):
    """Made from the declarations of `Deliverable`; what the format has no use for is not shown."""

    def __init__(self, delivery: Delivery) -> None:
        super().__init__()
        self._delivery = delivery
        self._id = ""
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        head = QHBoxLayout()
        self.title = label("", "title")
        head.addWidget(self.title, 1)
        head.addWidget(button("Remove", "Take it off the list. Files that were written stay.", self._remove, "plain"))
        column.addLayout(head)
        top = QHBoxLayout()
        top.addWidget(label("Target"))
        self.target = ChoiceBox()
        self.target.setAccessibleName("Target of this row")
        self.target.setToolTip(
            "<b>Target</b><br>The song's own, or another that this file is brought to by the mix bus's last limiter; the "
            "session stays as it is."
        )
        self.target.activated.connect(self._choose_target)
        top.addWidget(self.target, 1)
        column.addLayout(top)
        named = QHBoxLayout()
        named.addWidget(label("Name"))
        self.pattern = QLineEdit()
        self.pattern.setAccessibleName("Name pattern")
        self.pattern.setMaxLength(200)
        fields = "<br>".join(f"{{{name}}}: {plain(words)}" for name, words in FIELDS.items())
        self.pattern.setToolTip(f"<b>Name of the file</b><br>Fields in braces are filled in:<br>{fields}")
        self.pattern.editingFinished.connect(self._set_pattern)
        named.addWidget(self.pattern, 1)
        column.addLayout(named)
        self.file = Lines(2, "caption")
        column.addWidget(self.file)
        ends = QHBoxLayout()
        self.ends = Lines(2, "caption")
        ends.addWidget(self.ends, 1)
        self.hear_start = button(
            "Hear the start",
            "Hear what this file will hold from its beginning, with its fade.",
            partial(self._hear, False),
        )
        self.hear_end = button("Hear the end", "Hear how this file will end, with its fade.", partial(self._hear, True))
        ends.addWidget(self.hear_start)
        ends.addWidget(self.hear_end)
        column.addLayout(ends)
        self.hear_dither = button(
            "Hear the dither…",
            "Hear the end of this file raised, as each kind of dither leaves it; blind, if you like.",
            self._hear_dither,
        )
        self.controls: dict[str, Ruler | Toggle | ChoiceRow] = {}
        self.strips = button(
            "Strips…",
            "Which strips this file is without, or holds, each with all that flows into it.",
            self._choose_strips,
        )
        self.section = ChoiceBox()
        self.section.setAccessibleName("Section of this row")
        self.section.setToolTip("<b>Section</b><br>The section that this file holds.")
        self.section.activated.connect(self._choose_section)
        beside = {"of": self.strips, "scope": self.section}
        inner = QWidget()
        flow = Flow(SIDE_BY_SIDE, across=18, down=4)
        inner.setLayout(flow)
        groups: dict[str, Group] = {}
        for setting in settings_of(Deliverable).values():
            group = groups.get(setting.group)
            if group is None:
                group = groups[setting.group] = Group(setting.group, CELL, None)
                flow.addWidget(group)
            group.add(self._control(setting))
            if setting.name in beside:
                group.add(beside[setting.name])
        groups[KEEPS].add(self.hear_dither)
        self.groups = groups
        column.addWidget(scrolled(inner, 120), 1)
        self._targets: list[Target] = []

    def _control(self, setting: Setting) -> QWidget:
        def change(value: Any) -> None:
            self._delivery.change(self._id, setting.name, value)

        made: Ruler | Toggle | ChoiceRow
        if setting.kind == "number":
            made = Ruler(setting)
            made.moved.connect(change)
            made.settled.connect(self._delivery.bench.settle)
        elif setting.kind == "switch":
            made = Toggle(setting.label, f"<b>{setting.label}</b><br>{setting.tip}")
            made.toggled.connect(change)
        else:
            made = ChoiceRow(setting, roomy=True)
            made.chosen.connect(change)
        self.controls[setting.name] = made
        return made

    @property
    def row(self) -> Deliverable | None:
        return next((d for d in self._delivery.bench.session.deliverables if d.id == self._id), None)

    def show_row(self, id: str) -> None:
        self._id = id
        self.refresh()

    def refresh(self) -> None:
        d = self.row
        self.setEnabled(d is not None)
        if d is None:
            self.title.setText("No file chosen")
            return
        format = FORMATS[d.format]
        self.title.setText(d.name)
        self._show_targets(d)
        if not self.pattern.hasFocus():
            self.pattern.setText(d.pattern)
        for name, control in self.controls.items():
            value = getattr(d, name)
            if isinstance(control, Toggle):
                control.set_on(value)
            else:
                control.set_value(value)
        whole = not format.lossy and d.bits != "32f"
        self.controls["bits"].setVisible(not format.lossy)
        self.controls["bit_rate"].setVisible(format.lossy)
        for name in ("dither", "keep_silence"):
            self.controls[name].setEnabled(whole)
        self.hear_dither.setEnabled(whole)
        self.controls["shaping"].setEnabled(whole and d.dither not in ("none", "tpdf"))
        session = self._delivery.bench.session
        count = sum(session.strip(id) is not None for id in d.strips)
        self.strips.setVisible(d.of != "mix")
        self.strips.setText("Strips…" if not count else f"{count} strip{'' if count == 1 else 's'}…")
        self.controls["through"].setVisible(d.of != "mix")
        self.section.setVisible(d.scope == "section")
        self._show_sections(d)
        self.ends.setText(self._delivery.ends.words(d))
        self.groups[FILE].updateGeometry()
        self.groups[PART].updateGeometry()
        try:
            first, *more = self._delivery.places(d)
            self.file.setText(first.name + (f" and {len(more)} more" if more else ""))
        except GluvoError as error:
            self.file.setText(str(error))

    def _show_sections(self, d: Deliverable) -> None:
        sections = self._delivery.bench.session.sections
        names = ["choose one…", *(s.name for s in sections)]
        if [self.section.itemText(n) for n in range(self.section.count())] != names:
            self.section.clear()
            self.section.addItems(names)
        self.section.setCurrentIndex(next((n for n, s in enumerate(sections, start=1) if s.id == d.section), 0))

    def _choose_section(self, index: int) -> None:
        sections = self._delivery.bench.session.sections
        if 0 < index <= len(sections):
            self._delivery.change(self._id, "section", sections[index - 1].id)

    def _hear(self, of_end: bool) -> None:
        self._delivery.ends.hear(self._id, of_end)

    def _choose_strips(self) -> None:
        """A menu of all strips, which stays open while they are chosen."""
        d = self.row
        if d is None:
            return
        menu = _Choosing(self)
        session = self._delivery.bench.session
        for strip, depth in rows(session):
            if strip.id == MIX:
                continue
            action = menu.addAction("    " * max(0, depth - 1) + strip.name + (" (muted)" if strip.mute else ""))
            action.setCheckable(True)
            action.setChecked(strip.id in d.strips)
            action.toggled.connect(lambda on, id=strip.id: self._set_strip(id, on))
        menu.exec(self.strips.mapToGlobal(self.strips.rect().bottomLeft()))

    def _set_strip(self, id: str, on: bool) -> None:
        d = self.row
        if d is not None:
            chosen = tuple(s for s in d.strips if s != id)
            self._delivery.change(self._id, "strips", (*chosen, id) if on else chosen)

    def _show_targets(self, d: Deliverable) -> None:
        targets = list(all_targets())
        if d.target is not None and d.target not in targets:
            targets.append(d.target)
        names = [SONGS, *(t.name for t in targets)]
        if [self.target.itemText(n) for n in range(self.target.count())] != names:
            self.target.clear()
            self.target.addItems(names)
        self._targets = targets
        self.target.setCurrentIndex(0 if d.target is None else 1 + targets.index(d.target))

    def _choose_target(self, index: int) -> None:
        self._delivery.change(self._id, "target", self._targets[index - 1] if index else None)

    def _set_pattern(self) -> None:
        d = self.row
        if d is not None and self.pattern.text() != d.pattern:
            self._delivery.change(self._id, "pattern", self.pattern.text())

    def _hear_dither(self) -> None:
        if (d := self.row) is not None:
            DitherDialog(self, self._delivery, d).exec()

    def _remove(self) -> None:
        self._delivery.remove(self._id)
