"""The encode check: what each lossy format does to the master, to be heard, and the margin that it needs."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from gluvo.compare.match import RESULT
from gluvo.deliver.encoding import BANDS, LOST, Encoded, Encoding
from gluvo.deliver.formats import FORMATS
from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.theme import theme
from gluvo.desk.controls.widgets import ChoiceBox, button, figure, label
from gluvo.desk.model.delivery import Delivery
from gluvo.session.records import Deliverable, Target
from gluvo.steps.settings import settings_of

ENCODING_COLUMNS = (
    ("Encoding", 0),
    ("Decoded dBTP", 0),
    ("Loudness", 0),
    *((name, 0) for name, _, _ in BANDS),
    ("", 88),
    ("", 88),
)


class EncodePanel(QWidget):
    """A line for each encoding; what was lost by band, and an ear for it."""

    def __init__(self, delivery: Delivery) -> None:
        super().__init__()
        self._delivery = delivery
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        top = QHBoxLayout()
        self.format, self.bit_rate = ChoiceBox(), ChoiceBox()
        self.format.setAccessibleName("Format to check")
        self.bit_rate.setAccessibleName("Bit rate to check")
        for found in FORMATS.values():
            if found.lossy:
                self.format.addItem(found.name, found.key)
        for rate, words in settings_of(Deliverable)["bit_rate"].options:
            self.bit_rate.addItem(words, int(rate))
        self.bit_rate.setCurrentIndex(2)
        top.addWidget(self.format)
        top.addWidget(self.bit_rate)
        top.addWidget(
            button(
                "Check", "Encode the result so, decode it again, align it to the sample and measure it.", self._check
            )
        )
        self.all = button(
            "Check the list's", "Check every lossy encoding that the deliverables ask for.", self._check_all
        )
        top.addWidget(self.all)
        top.addStretch(1)
        self.state = label("", "caption")
        top.addWidget(self.state)
        column.addLayout(top)
        self.table = Table(
            "Encodings",
            "What differs between the decoded file and the master, by band, in dB against the master there: −40 is hardly "
            "anything, 0 is all of it. H hears the chosen one decoded, Enter only what was lost; both also stand in the "
            "Hear row under “More”.",
            ENCODING_COLUMNS,
            28,
            hears=True,
        )
        self.table.heard.connect(lambda row: self._hear(self._found[row].encoding.id))
        self.table.entered.connect(lambda row: self._hear(self._found[row].encoding.id + LOST))
        self._found: list[Encoded] = []
        column.addWidget(self.table, 1)
        bottom = QHBoxLayout()
        self.highest = Ruler(settings_of(Target)["true_peak"])
        self.highest.setFixedWidth(150)
        self.highest.set_value(delivery.bench.session.target.true_peak)
        self.highest.setToolTip("<b>Keep decoded peaks under</b><br>What no encoding may pass, dBTP.")
        self._limit = delivery.bench.session.target.true_peak
        self.highest.moved.connect(self._set_limit)
        bottom.addWidget(label("Keep decoded peaks under"))
        bottom.addWidget(self.highest)
        self.search = button(
            "Find margin",
            "Look for the smallest margin, so the highest ceiling, at which every encoding above stays under this.",
            self._find,
        )
        bottom.addWidget(self.search)
        self.margin = Elided("", "caption", 600)
        bottom.addWidget(self.margin, 1)
        self.use = button(
            "Use it", "Give this margin to every lossy deliverable.", delivery.encode_check.use_margin, "main"
        )
        bottom.addWidget(self.use)
        column.addLayout(bottom)
        delivery.changed.connect(self.refresh)
        theme.changed.connect(self.refresh)
        self.refresh()

    def _set_limit(self, value: float) -> None:
        self._limit = value

    def chosen(self) -> Encoding:
        """The encoding that the choices stand at."""
        return Encoding(str(self.format.currentData()), int(self.bit_rate.currentData()))

    def _check(self) -> None:
        self._delivery.encode_check.check([self.chosen()])

    def _check_all(self) -> None:
        self._delivery.encode_check.check(self._delivery.encode_check.lossy())

    def _find(self) -> None:
        wanted = tuple(self._delivery.encode_check.found) or self._delivery.encode_check.lossy() or (self.chosen(),)
        self._delivery.encode_check.find_margin(wanted, self._limit)

    def _hear(self, id: str) -> None:
        bench = self._delivery.bench
        bench.listening.hear(RESULT if bench.session.view.hear == id else id)

    def refresh(self) -> None:
        if not self.isVisible():
            return
        delivery = self._delivery
        self.all.setEnabled(bool(delivery.encode_check.lossy()))
        found = self._found = list(delivery.encode_check.found.values())
        self.table.setRowCount(len(found))
        for n, one in enumerate(found):
            high = one.figures.true_peak
            cells = [
                (one.encoding.name, "ink"),
                (f"{figure(high, 2)} ({figure(one.over, 2, signed=True)})", "over" if high > self._limit else "good"),
                (f"{figure(one.louder, 2, signed=True)} LU", "ink"),
                *((f"{figure(v, 0)} dB" if v > -120.0 else "–", "ink" if v > -12.0 else "faint") for v in one.lost),
            ]
            self.table.show_line(n, cells)
            for column, (id, words) in enumerate(
                ((one.encoding.id, "Hear"), (one.encoding.id + LOST, "Hear lost")), start=len(cells)
            ):
                made = button(words, "Hear it, level-matched and in time; again for the result.", kind="plain")
                made.clicked.connect(lambda _=False, id=id: self._hear(id))
                self.table.setCellWidget(n, column, made)
        self.table.choose_first()
        stale = found and not delivery.encode_check.current
        self.state.setText("Of an earlier state of the song: check again." if stale else "")
        margin = delivery.encode_check.margin
        self.use.setVisible(margin is not None and margin.met and bool(delivery.encode_check.lossy()))
        if margin is None:
            self.margin.setText("")
        else:
            peaks = " · ".join(f"{e.name} {figure(p, 2)}" for e, p in margin.peaks)
            least = "no margin is needed" if margin.margin == 0.0 else f"a margin of {margin.margin:.2f} dB would do"
            self.margin.setText(
                f"{least}: {peaks} dBTP" if margin.met else f"not even {margin.margin:.1f} dB do: {peaks} dBTP"
            )

    def showEvent(self, event: object) -> None:
        self.refresh()
