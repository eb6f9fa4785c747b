"""What comes everywhere of a road test and a device that CONTRIBUTING asks one record for: run by `test_registries` with a
folder, in a process that knows them."""

from __future__ import annotations

import json
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests.changed_source import import_as

ROAD = """    Road("attic", "Attic", "As through a floor.", noise=room_noise),
"""
DEVICE = """
DEVICE_KINDS += (DeviceKind(lambda: ["wire"], lambda rate, _: SilentDevice(rate), lambda _: "A wire"),)
"""

import_as(
    {
        "gluvo.session.records": lambda source: source.replace('"quiet", "swapped"]', '"quiet", "swapped", "attic"]'),
        "gluvo.compare.road": lambda source: source.replace(
            ")\nassert tuple(road.key", f"{ROAD})\nassert tuple(road.key"
        ),
        "gluvo.play.device": lambda source: source + DEVICE,
    },
    {},
)  # also in the process that plays, which imports this file, too


def seen(folder: Path) -> dict[str, object]:
    """What comes of them everywhere."""
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QMenu

    from gluvo.desk.model.workbench import Workbench
    from gluvo.desk.window.app import application
    from gluvo.desk.window.window import Window
    from gluvo.play.process import Host
    from gluvo.session.store import read_session

    application()
    window = Window(Workbench("silent", Host()))
    window.show()
    window.open_path(folder / "Take.wav")
    while window.bench.audio.material is None or window.bench.background.busy:
        QTest.qWait(10)
    row = window.hear_row.monitor
    next(placed.action for placed in window.menus.placed if placed.action.text() == "Attic").trigger()
    menu = next(a.menu() for a in window.menus.menus["Listen"].actions() if a.text() == "Device")
    assert isinstance(menu, QMenu)
    menu.aboutToShow.emit()
    devices = {action.text(): action for action in menu.actions()}
    devices["A wire"].trigger()
    engine = window.bench.engine
    while engine.device_name == "starting":
        engine.read()
        QTest.qWait(10)
    engine.play()
    while not len(engine.read().power):
        QTest.qWait(10)
    shown = row.currentText()
    window.bench.document.save()
    path = window.bench.document.path
    window.close()
    return {
        "row": [row.itemText(n) for n in range(row.count())],
        "shown": shown,
        "devices": list(devices),
        "failed": engine.failed,
        "kept": read_session(path).session.view.road.kind,
        "chosen": window.bench.listening.device_choice,
    }


if __name__ == "__main__":
    Path(sys.argv[1], "seen.json").write_text(json.dumps(seen(Path(sys.argv[1]))))
