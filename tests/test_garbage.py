"""Objects that only hold each other are freed on the window's thread, whatever other threads do."""

from __future__ import annotations

import gc
import threading
import time

import pytest
from PySide6.QtCore import QObject, Qt, QTimer
from PySide6.QtWidgets import QApplication, QDialog, QLabel
from pytestqt.qtbot import QtBot

from gluvo.desk.window.garbage import GarbageCollector

MANY = 200_000
"""So many objects are made that Python's own collector would have looked at all of them several times."""


class Told(QObject):
    """Notes on which threads objects were destroyed."""

    def __init__(self) -> None:
        super().__init__()
        self.threads: list[int] = []

    def left(self, kind: type[QObject]) -> None:
        """Make an object that nothing but itself holds."""
        made = kind()
        made.itself = made  # type: ignore[attr-defined]
        made.destroyed.connect(
            lambda *_: self.threads.append(threading.get_ident()), Qt.ConnectionType.DirectConnection
        )


def many() -> list[list[int]]:
    return [[i] for i in range(MANY)]


def test_no_other_thread_destroys_what_the_window_left(qtbot: QtBot, qapp: QApplication) -> None:
    told, kinds = Told(), (QObject, QTimer, QLabel, QDialog)
    for kind in kinds:
        told.left(kind)
    thread = threading.Thread(target=many)
    thread.start()
    thread.join()
    assert told.threads == []
    made = many()  # the same on this thread: it is the loop of events that has them looked at
    assert told.threads == [] and gc.get_count()[0] >= len(made)
    qtbot.waitUntil(lambda: len(told.threads) == len(kinds), timeout=20_000)
    assert set(told.threads) == {threading.get_ident()}


def test_all_objects_are_looked_at_for_a_small_share_of_the_time(
    qapp: QApplication, monkeypatch: pytest.MonkeyPatch
) -> None:
    now, looked = [1000.0], list[int]()

    def collect(generation: int = 2) -> int:
        looked.append(generation)
        now[0] += 0.1 if generation == 2 else 0.0
        return 0

    monkeypatch.setattr(time, "monotonic", lambda: now[0])
    monkeypatch.setattr(gc, "collect", collect)
    monkeypatch.setattr(gc, "get_count", lambda: (701, 11, 11))
    monkeypatch.setattr(gc, "get_threshold", lambda: (700, 10, 10))
    collector = GarbageCollector(qapp)
    for _ in range(500):
        collector.collect_due()
        now[0] += 0.2
    collector.deleteLater()
    assert looked.count(2) == 5 and set(looked) == {1, 2}  # 0.5 s of 100
