"""What rings in the section, with a cut and an ear for each."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import Signal

from gluvo.desk.controls.table import Table
from gluvo.desk.controls.theme import theme
from gluvo.desk.controls.widgets import button, figure
from gluvo.desk.editors.spectrum_view import PART_COLOURS
from gluvo.dsp.notes import note_of
from gluvo.measure.resonances import Resonance

RESONANCE_COLUMNS = (
    ("Part", 60),
    ("Hz", 70),
    ("Note", 60),
    ("Stands out", 90),
    ("Of the time", 90),
    ("Q", 60),
    ("", 64),
    ("", 64),
)


class ResonanceTable(Table):
    """Enter cuts the chosen one, H lets it be heard raised; so do its buttons."""

    wanted = Signal(object)
    """A `Resonance` is to be cut."""
    listened = Signal(object)
    """A `Resonance` is to be heard, or no longer if it is heard already."""

    def __init__(self) -> None:
        super().__init__(
            "Resonances",
            "Places that stand 4 dB or more over their surroundings for at least half of the section, in what comes out of "
            "the step. Long notes do so, too: listen before you cut. H lets the chosen one be heard raised, Enter cuts it by "
            "half of what stands out.",
            RESONANCE_COLUMNS,
            26,
            hears=True,
        )
        self.entered.connect(lambda row: self.wanted.emit(self._found[row]))
        self.heard.connect(lambda row: self.listened.emit(self._found[row]))
        self._found: Sequence[Resonance] = ()
        theme.changed.connect(self._fill)

    def show_found(self, found: Sequence[Resonance]) -> None:
        if found != self._found:
            self._found = found
            self._fill()

    def _fill(self) -> None:
        self.setRowCount(len(self._found))
        for row, r in enumerate(self._found):
            cells = (
                (r.part, PART_COLOURS[r.part]),
                (f"{r.freq:.0f}", "ink"),
                (note_of(r.freq), "ink"),
                (f"{figure(r.prominence)} dB", "ink"),
                (f"{100 * r.steady:.0f} %", "ink"),
                (figure(r.q), "ink"),
            )
            self.show_line(row, cells)
            cut = button("Cut", "Put a bell here that takes half of it away.", partial(self.wanted.emit, r), "plain")
            hear = button(
                "Hear", "Hear it raised, as in a hunt; again to stop.", partial(self.listened.emit, r), "plain"
            )
            self.setCellWidget(row, len(cells), cut)
            self.setCellWidget(row, len(cells) + 1, hear)
        self.choose_first()
