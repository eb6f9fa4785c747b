"""Sections in pairs: what of each reference is heard against each section of the song."""

from __future__ import annotations

from functools import partial

import msgspec
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from gluvo.compare.references import paired, same_words, with_sections
from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import ChoiceBox, button, clock, plain
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.opened.audio import known_joint
from gluvo.session import sections
from gluvo.session.records import Reference, Section
from gluvo.steps.settings import settings_of

NEAREST = ""


class PairsPanel(QWidget):
    """A line for each section of the song, a column for each reference."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.table = Table(
            "Sections in pairs",
            "What is heard of each reference against each section of the song. “nearest” is the section of the same rank in "
            "the order of loudness. Enter or a double click goes to the section.",
            (("Song", 110),),
            30,
        )
        self.table.entered.connect(self._go)
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        self.reference = ChoiceBox()
        self.reference.setAccessibleName("Reference")
        self.reference.setToolTip("The reference whose trim and sections are set here.")
        self.reference.currentIndexChanged.connect(lambda _: self._show_reference())
        row.addWidget(self.reference, 1)
        self.trim = Ruler(settings_of(Reference)["trim"])
        self.trim.setFixedWidth(140)
        self.trim.moved.connect(self._trim)
        self.trim.settled.connect(bench.settle)
        row.addWidget(self.trim)
        row.addWidget(
            button(
                "Propose sections",
                "Divide the reference anew where its loudness or density changes; its pairs are forgotten.",
                self._propose,
            )
        )
        column.addLayout(row)
        self.state = Elided("", "caption", 500)
        column.addWidget(self.state)
        self._choosers: dict[tuple[str, str], QComboBox] = {}
        self._shown: object = None
        Follower(
            self,
            bench,
            self.refresh,
            session=lambda s: (s.sections, s.references, s.view.section),
            picture=lambda p: (p.partners, p.same),
        )

    def _go(self, row: int) -> None:
        there = self._bench.session.sections
        if 0 <= row < len(there):
            self._bench.look(section=there[row].id)
            self._bench.listening.seek(there[row].start)

    def refresh(self) -> None:
        if not self.isVisible():
            return
        session = self._bench.session
        shown = session.sections, session.references
        if shown != self._shown:
            self._shown = shown
            self._rebuild()
        for (section, reference), chooser in self._choosers.items():
            self._fill(chooser, section, reference)
        at = next((n for n, s in enumerate(session.sections) if s.id == session.view.section), -1)
        if at >= 0 and self.table.currentRow() != at:
            self.table.setCurrentCell(at, 0)
        self._show_reference()

    def _rebuild(self) -> None:
        session = self._bench.session
        names = [r.name for r in session.references]
        self.table.setRowCount(0)
        self.table.setColumnCount(1 + len(names))
        self.table.setHorizontalHeaderLabels(["Song", *names])
        header = self.table.horizontalHeader()
        for n in range(1, 1 + len(names)):
            header.setSectionResizeMode(n, header.ResizeMode.Stretch)
        self.table.setRowCount(len(session.sections))
        self._choosers.clear()
        for row, section in enumerate(session.sections):
            self.table.show_line(row, [(section.name, "ink")])
            for n, reference in enumerate(session.references, start=1):
                chooser = ChoiceBox()
                chooser.setAccessibleName(f"{section.name} against {reference.name}")
                chooser.activated.connect(partial(self._pair, chooser, section.id, reference.id))
                self._choosers[section.id, reference.id] = chooser
                self.table.setCellWidget(row, n, chooser)
        before = self.reference.currentIndex()
        self.reference.blockSignals(True)
        self.reference.clear()
        self.reference.addItems(names)
        self.reference.setCurrentIndex(min(max(0, before), len(names) - 1))
        self.reference.blockSignals(False)

    def _fill(self, chooser: QComboBox, section: str, id: str) -> None:
        bench = self._bench
        reference = bench.session.reference(id)
        if reference is None or chooser.view().isVisible():
            return
        own = next((pair.own for pair in reference.pairs if pair.section == section), NEAREST)
        nearest = bench.picture.partners.get(id, {}).get(section)
        auto = "nearest" if own or nearest is None else f"{told(nearest)}, nearest"
        wanted = [(auto, NEAREST), *((told(s), s.id) for s in reference.sections)]
        if id in bench.picture.same:  # it is never heard against anything but itself
            wanted = [("in step: the same song", NEAREST)]
        chooser.setEnabled(len(wanted) > 1 or id not in bench.picture.same)
        if [(chooser.itemText(n), chooser.itemData(n)) for n in range(chooser.count())] != wanted:
            chooser.clear()
            for words, data in wanted:
                chooser.addItem(words, data)
        chooser.setCurrentIndex(next((n for n, (_, data) in enumerate(wanted) if data == own), 0))
        chooser.setToolTip(plain(chooser.currentText()))

    def _pair(self, chooser: QComboBox, section: str, reference: str, _index: int = 0) -> None:
        own = str(chooser.currentData())
        self._bench.edit("Pair sections", lambda s: paired(s, reference, section, own))

    # --- the reference that is set -------------------------------------------------------------------------

    @property
    def chosen(self) -> Reference | None:
        """The reference whose trim and sections are set."""
        there, n = self._bench.session.references, self.reference.currentIndex()
        return there[n] if 0 <= n < len(there) else None

    def _show_reference(self) -> None:
        reference = self.chosen
        for widget in (self.trim, self.reference):
            widget.setEnabled(reference is not None)
        if reference is None:
            self.state.setText("No references yet: drop tracks on the window, or add them (Ctrl+Shift+R).")
            return
        self.trim.set_value(reference.trim)
        same = self._bench.picture.same.get(reference.id)
        if same is not None:
            self.state.setText(same_words(reference.name, same))
            return
        count = len(reference.sections)
        self.state.setText(
            f"{reference.name} has {count} section{'' if count == 1 else 's'}: "
            + ", ".join(told(s) for s in reference.sections)
        )

    def _trim(self, value: float) -> None:
        if (reference := self.chosen) is not None:
            changed = msgspec.structs.replace(reference, trim=value)
            self._bench.edit(f"Trim of {reference.name}", lambda s: s.with_reference(changed), f"{reference.id}.trim")

    def _propose(self) -> None:
        reference, bench = self.chosen, self._bench
        if reference is None or reference.id not in bench.audio.references:
            return
        joint = known_joint(bench.audio.references[reference.id])
        if joint is None:
            bench.tell(f"{reference.name} is still being measured.", False)
            return
        made = sections.proposed(bench.session, joint.trace)
        bench.edit(f"Propose sections of {reference.name}", lambda s: with_sections(s, reference.id, made))

    def showEvent(self, event: object) -> None:
        self.refresh()


def told(section: Section) -> str:
    """A section's name and where it begins."""
    return f"{section.name} {clock(section.start, tenths=False)}"
