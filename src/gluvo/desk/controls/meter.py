"""Level bars."""

from __future__ import annotations

from PySide6.QtGui import QPainter
from PySide6.QtWidgets import (
    QWidget,
)

from gluvo.desk.controls.theme import colours


class Meter(QWidget):
    """Two level bars with peaks held, and the true peak held."""

    FLOOR = -48.0

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(34)
        self.setMinimumWidth(120)
        self._levels = [self.FLOOR, self.FLOOR]
        self._held = [self.FLOOR, self.FLOOR]
        self._limit = -1.0
        self.setToolTip(
            "Level of what is heard, before the level match and the output level. The red line is the target's peak."
        )

    def show_levels(self, levels: list[float], held: list[float], limit: float) -> None:
        if (levels, held, limit) != (self._levels, self._held, self._limit):
            self._levels, self._held, self._limit = levels, held, limit
            self.update()

    def paintEvent(self, event: object) -> None:
        c, painter = colours(), QPainter(self)
        for n in range(2):
            y = 4 + n * 13
            painter.fillRect(0, y, self.width(), 9, c["hair"])
            painter.fillRect(0, y, round(self._x(self._levels[n])), 9, c["over" if self._held[n] > 0.0 else "signal"])
            painter.fillRect(round(self._x(self._held[n])) - 1, y, 2, 9, c["ink"])
        painter.fillRect(round(self._x(self._limit)), 2, 2, 26, c["over"])

    def _x(self, level: float) -> float:
        return self.width() * max(0.0, min(1.0, (level - self.FLOOR) / (3.0 - self.FLOOR)))
