"""The user's own targets: added, changed, removed, taken from a file and given to one."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QVBoxLayout,
    QWidget,
)

from gluvo.deliver.targets import TARGETS, own_targets, read_targets, save_targets, write_targets
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import ChoiceRow, button, label, plain
from gluvo.errors import GluvoError
from gluvo.session.records import Target
from gluvo.steps.settings import settings_of

SHIPPED = {t.name.lower() for t in TARGETS}


class TargetsDialog(QDialog):
    """A list and a form. What comes with the program can be looked at, and taken as a start."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Targets")
        self.setMinimumSize(640, 420)
        self.trouble = label("", "trouble")
        self.trouble.setWordWrap(True)
        try:
            self._own = list(own_targets())
        except GluvoError as error:
            self._own = []
            self.trouble.setText(
                f"{error} Your own targets are not shown; that file is set aside when new ones are kept."
            )
        both = QHBoxLayout(self)
        left = QVBoxLayout()
        both.addLayout(left, 2)
        self.list = QListWidget()
        self.list.setAccessibleName("Targets")
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.list.currentRowChanged.connect(self._show)
        left.addWidget(self.list, 1)
        row = QHBoxLayout()
        self.remove = button("Remove", "Take your own target off the list.", self._remove)
        for made in (
            button("Add", "A new target, from the one that is chosen.", self._add, "main"),
            self.remove,
            button("Import…", "Take targets from a JSON file; those of the same name are replaced.", self._import),
            button("Export…", "Write your own targets to a JSON file.", self._export),
        ):
            row.addWidget(made)
        left.addLayout(row)
        right = QVBoxLayout()
        both.addLayout(right, 3)
        self.name, self.note, self.source = QLineEdit(), QLineEdit(), QLineEdit()
        self.controls: dict[str, Ruler | ChoiceRow] = {}
        self._tips: dict[QLineEdit, str] = {}
        lines = (
            ("Name", self.name, "What it is called."),
            ("Note", self.note, "What it is for."),
            ("Source", self.source, "The public document that gives the figures."),
        )
        for words, line, tip in lines[:1]:
            self._line(right, words, line, tip, 120)
        for name, setting in settings_of(Target).items():
            if setting.kind == "number":
                ruler = Ruler(setting)
                ruler.moved.connect(lambda value, name=name: self._change(name, value))
                self.controls[name] = ruler
                right.addWidget(ruler)
            else:
                chooser = ChoiceRow(setting, roomy=True)
                chooser.chosen.connect(lambda value, name=name: self._change(name, value))
                self.controls[name] = chooser
                right.addWidget(chooser)
        for words, line, tip in lines[1:]:
            self._line(right, words, line, tip, 1000)
        self.name.editingFinished.connect(lambda: self._change("name", self.name.text().strip()))
        self.note.editingFinished.connect(lambda: self._change("note", self.note.text().strip()))
        self.source.editingFinished.connect(lambda: self._change("source", self.source.text().strip()))
        right.addStretch(1)
        right.addWidget(self.trouble)
        close = QHBoxLayout()
        close.addStretch(1)
        close.addWidget(button("Close", "Your targets are kept.", self.accept))
        right.addLayout(close)
        self._fill(0)

    def _line(self, column: QVBoxLayout, words: str, line: QLineEdit, tip: str, most: int) -> None:
        line.setMaxLength(most)
        self._tips[line] = tip
        line.setAccessibleName(words)
        row = QHBoxLayout()
        row.addWidget(label(words))
        row.addWidget(line, 1)
        column.addLayout(row)

    @property
    def _all(self) -> list[Target]:
        return [*TARGETS, *self._own]

    def _fill(self, row: int) -> None:
        self.list.blockSignals(True)
        self.list.clear()
        self.list.addItems([t.name + ("" if n < len(TARGETS) else "  (own)") for n, t in enumerate(self._all)])
        self.list.blockSignals(False)
        self.list.setCurrentRow(min(row, self.list.count() - 1))

    def _show(self, row: int) -> None:
        if not 0 <= row < len(self._all):
            return
        target, own = self._all[row], row >= len(TARGETS)
        for name, control in self.controls.items():
            control.set_value(getattr(target, name))
            control.setEnabled(own)
        for line, value in ((self.name, target.name), (self.note, target.note), (self.source, target.source)):
            line.setText(value)
            line.setCursorPosition(0)
            line.setReadOnly(not own)
            line.setToolTip(
                plain(
                    self._tips[line]
                    if own
                    else f"{value}\nIt comes with the program: Add makes one of your own from it."
                )
            )
        self.remove.setEnabled(own)

    def _change(self, name: str, value: object) -> None:
        row = self.list.currentRow() - len(TARGETS)
        if not 0 <= row < len(self._own) or getattr(self._own[row], name) == value:
            return
        others = SHIPPED | {t.name.lower() for n, t in enumerate(self._own) if n != row}
        if name == "name" and (not value or str(value).lower() in others):
            self.trouble.setText("Every target needs a name of its own.")
            self._show(self.list.currentRow())
            return
        self._own[row] = msgspec.structs.replace(self._own[row], **{name: value})
        self._keep()
        if name == "name":
            self._fill(self.list.currentRow())

    def _add(self) -> None:
        start = self._all[max(0, self.list.currentRow())]
        taken = {t.name.lower() for t in self._all}
        names = (f"{start.name} {n}" for n in range(2, 1000))
        name = next(n for n in names if n.lower() not in taken)
        self._own.append(msgspec.structs.replace(start, name=name[:120], note="", source=""))
        self._keep()
        self._fill(self.list.count())
        self.list.setCurrentRow(self.list.count() - 1)
        self.name.setFocus(Qt.FocusReason.OtherFocusReason)
        self.name.selectAll()

    def _remove(self) -> None:
        row = self.list.currentRow() - len(TARGETS)
        if 0 <= row < len(self._own):
            del self._own[row]
            self._keep()
            self._fill(self.list.currentRow())

    def _import(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self, "Import targets", "", "Targets (*.json)")
        if found:
            self.take_from(Path(found))

    def take_from(self, path: Path) -> None:
        """Take targets from a file; those of the same name are replaced, those that come with the program stay."""
        try:
            found = read_targets(path)
        except GluvoError as error:
            self.trouble.setText(str(error))
            return
        come = [t for t in found if t.name.lower() not in SHIPPED]
        names = {t.name.lower() for t in come}
        self._own = [t for t in self._own if t.name.lower() not in names] + come
        self._keep()
        self._fill(self.list.count())
        left = ", ".join(t.name for t in found if t not in come)
        if left and not self.trouble.text():
            self.trouble.setText(f"Left out, since they come with the program: {left}.")

    def _export(self) -> None:
        found, _ = QFileDialog.getSaveFileName(self, "Export targets", "targets.json", "Targets (*.json)")
        if found:
            self._trying(lambda: write_targets(Path(found), self._own))

    def _keep(self) -> None:
        self._trying(lambda: save_targets(self._own))

    def _trying(self, act: Callable[[], object]) -> None:
        try:
            act()
            self.trouble.setText("")
        except GluvoError as error:
            self.trouble.setText(str(error))
