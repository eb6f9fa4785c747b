"""Objects that only hold each other, found and freed on the window's thread."""

from __future__ import annotations

import gc
import time

from PySide6.QtCore import QObject, QTimer

EVERY_MS = 200
SHARE = 1 / 200
"""The most of the time that looking at all objects may take."""


class GarbageCollector(QObject):
    """Python's collector of cyclic garbage, on the thread that it was made on and on no other.

    Left to itself it runs on whichever thread happens to make an object. A widget that it finds there is destroyed beside
    the thread that draws it, which sooner or later ends the process.
    """

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        self._all_from = 0.0
        timer = QTimer(self, interval=EVERY_MS)
        timer.timeout.connect(self.collect_due)
        timer.start()

    def collect_due(self) -> None:
        """Look at the generations of objects that are due by Python's own thresholds."""
        due = [made > most for made, most in zip(gc.get_count(), gc.get_threshold(), strict=True)]
        began = time.monotonic()
        if due[2] and began >= self._all_from:
            gc.collect()
            ended = time.monotonic()
            self._all_from = ended + (ended - began) / SHARE
        elif due[1]:
            gc.collect(1)
        elif due[0]:
            gc.collect(0)
