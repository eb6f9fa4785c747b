"""What differs, in plain words: Enter goes to where most of it arises."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from gluvo.compare.corridor import Finding
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import label
from gluvo.desk.model.comparing import Comparison
from gluvo.desk.model.workbench import Workbench
from gluvo.session import chains


class FindingsPanel(QWidget):
    """A line for each finding, the worst first."""

    marked = Signal(object)
    """A `Finding` is looked at, or None."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self._found: tuple[Finding, ...] = ()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.table = Table(
            "What differs",
            "Where the result leaves the references, the worst first. Choosing one marks it in the curves; Enter or a double "
            "click goes to the bus that most of it arises on, to its equaliser if it has one.",
            (("", 22), ("Against the references, in the paired sections", 0)),
            38,
        )
        self.table.setWordWrap(True)
        self.table.entered.connect(self._go)
        self.table.currentCellChanged.connect(lambda *_: self.marked.emit(self.chosen))
        column.addWidget(self.table, 1)
        self.state = label("Enter goes to where most of it arises.", "caption")
        column.addWidget(self.state)

    @property
    def chosen(self) -> Finding | None:
        row = self.table.currentRow()
        return self._found[row] if 0 <= row < len(self._found) else None

    def show_found(self, comparison: Comparison) -> None:
        if comparison.findings == self._found and self.table.rowCount() == len(self._found):
            return
        self._found = comparison.findings
        self.table.setRowCount(len(self._found))
        for n, finding in enumerate(self._found):
            mark, colour = (
                ("●", "mid") if finding.severity >= 1.0 else ("○", "mid") if finding.severity else ("✓", "good")
            )
            self.table.show_line(n, ((mark, colour), (finding.text, "ink")))
        self._fit()
        self.table.choose_first()
        self.state.setText(
            "Enter goes to where most of it arises."
            if self._found
            else "Nothing to compare with: add references, and pair their sections."
        )

    def _fit(self) -> None:
        """Each line as high as its words need."""
        self.table.resizeRowsToContents()

    def resizeEvent(self, event: object) -> None:
        self._fit()

    def _go(self, row: int) -> None:
        if not 0 <= row < len(self._found):
            return
        bench, strip = self._bench, self._bench.session.strip(self._found[row].bus or "mix")
        if strip is None:
            return
        items = chains.flat(strip.chain)
        equaliser = next((item.id for item in items if item.shapes_tone), None)
        step = equaliser or (items[0].id if items else "")
        bench.look(page="shape", strip=strip.id, step=step)
