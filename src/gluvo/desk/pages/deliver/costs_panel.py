"""What louder costs: the song at several loudnesses, each to be heard at equal loudness, and kept with one key."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from gluvo.compare.match import RESULT
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.theme import theme
from gluvo.desk.controls.widgets import button, figure, label
from gluvo.desk.model.delivery import Delivery
from gluvo.desk.model.following import Follower
from gluvo.desk.model.louder_costs import price_id

COST_COLUMNS = (
    ("Loudness", 150),
    ("dBTP", 70),
    ("Most off", 84),
    ("Mean off", 84),
    ("Peak to loudness", 116),
    ("Range", 70),
    ("Punch kept", 84),
    ("New sound", 84),
    ("", 0),
)


class CostsPanel(QWidget):
    def __init__(self, delivery: Delivery) -> None:
        super().__init__()
        self._delivery = delivery
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        head = QHBoxLayout()
        self.search = button(
            "Find prices",
            "Bring the song to its target, and to 1, 2 and 3 LU less and 1 more, and measure what each takes. Nothing is "
            "kept until you keep it.",
            delivery.costs.find,
            "main",
        )
        head.addWidget(self.search)
        self.state = label("", "caption")
        head.addWidget(self.state, 1)
        self.hear = button("Hear", "Hear the chosen line, as loud as all else (H); again for the result.", self._hear)
        self.keep = button("Keep", "Set the session so (Enter). It can be undone.", self._keep)
        head.addWidget(self.hear)
        head.addWidget(self.keep)
        column.addLayout(head)
        self.table = Table(
            "What louder costs",
            "The song as it is, and brought to its target, to 1, 2 and 3 LU less and to 1 more. H hears the chosen line, "
            "as loud as all else; Enter keeps it. Most and mean off: what is taken against the ceiling. New sound: what no "
            "filter could have made of what came in, against that.",
            COST_COLUMNS,
            hears=True,
        )
        self.table.entered.connect(delivery.costs.take)
        self.table.heard.connect(self._hear_line)
        column.addWidget(self.table, 1)
        delivery.changed.connect(self.refresh)
        Follower(self, delivery.bench, self.refresh, session=lambda s: (s.sound, s.target, s.view.hear))
        theme.changed.connect(self.refresh)

    def _hear(self) -> None:
        self._hear_line(self.table.currentRow())

    def _hear_line(self, row: int) -> None:
        bench = self._delivery.bench
        if 0 <= row < len(self._delivery.costs.lines):
            id = price_id(row)
            bench.listening.hear(RESULT if bench.session.view.hear == id else id)

    def _keep(self) -> None:
        self._delivery.costs.take(self.table.currentRow())

    def refresh(self) -> None:
        if not self.isVisible():
            return
        found, delivery = self._delivery.costs.lines, self._delivery
        fresh = self.table.rowCount() != len(found)
        self.table.setRowCount(len(found))
        target = delivery.bench.session.target
        now = found[0] if found else None
        for n, price in enumerate(found):
            name = "as it is" if price.wanted is None else f"{price.wanted - target.loudness:+.0f} LU".replace("-", "−")
            name = "the target" if price.wanted is not None and abs(price.wanted - target.loudness) < 0.01 else name
            heard = delivery.bench.session.view.hear == price_id(n)
            kept = "–" if price.punch_kept is None else f"{100.0 * price.punch_kept:.0f} %"
            cells = (
                f"{'▸ ' if heard else ''}{figure(price.level)} · {name}",
                figure(price.figures.true_peak, 2),
                f"{figure(price.largest)} dB",
                f"{figure(price.mean, 2)} dB",
                f"{figure(price.figures.plr)} dB ({figure(-price.plr_lost, signed=True)})",
                f"{figure(price.figures.loudness_range)} LU",
                kept,
                f"{figure(price.new_sound, 0)} dB" if price.new_sound > -119.0 else "none",
                "" if price.met else f"as near as it comes: {price.why_not}",
            )
            colour = "faint" if price is now else "ink"
            colours = ["signal" if heard else colour, *[colour] * 7, "over"]
            self.table.show_line(n, list(zip(cells, colours, strict=True)))
        if fresh and found:
            place = next((n for n, p in enumerate(found) if p.wanted == target.loudness), 0)
            self.table.setCurrentCell(place, 0)
        for made in (self.hear, self.keep):
            made.setEnabled(bool(found))
        stale = bool(found) and not delivery.costs.current
        self.state.setText("Of an earlier state of the song: find them again." if stale else "")

    def showEvent(self, event: object) -> None:
        self.refresh()
