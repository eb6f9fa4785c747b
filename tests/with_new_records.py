"""What comes everywhere of what CONTRIBUTING asks one record, or a record and a word, for: run by `test_registries` with a
folder, in a process that knows all of them."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests.changed_source import import_as


def with_text(text: str, before: str = "") -> Callable[[str], str]:
    """A source with some text before other text of it, or at its end."""
    return lambda source: source.replace(before, f"{text}{before}", 1) if before else source + text


def two(*changes: Callable[[str], str]) -> Callable[[str], str]:
    """One change after the other."""

    def change(source: str) -> str:
        for one in changes:
            changed = one(source)
            assert changed != source
            source = changed
        return source

    return change


HEARABLE = """    Hearable("interval", SONG, "Interval", "The silence between two songs.", lambda _: mixed("interval", ())),
"""
PAGE = """

class AtticPage(PageWidget):
    def __init__(self, bench: Workbench) -> None:
        super().__init__()


PAGES += (Page("attic", "Attic page", "What is kept.", AtticPage),)
"""
ACTION = """
ACTIONS += (Action("Song", "Name it Nocturne", "", lambda d: d.bench.edit("Name", lambda s: s.replace(name="Nocturne"))),)
"""
PRESET = """    _preset("Softer", "6 dB less.", "In front of anything.", "It is soft.", Trim(gain=-6.0), Trim(swap=True)),
"""
TARGET = """    Target(name="Attic", loudness=-20.0, true_peak=-3.0, note="Made up.", source="Nowhere."),
"""
FORMAT = """        Format("caf", "CAF", ".caf", soundfile_writer("CAF", WHOLE), ("24", "16")),
"""

import_as(
    {
        "gluvo.session.records": two(
            with_text(', "attic"', ']\n"""See `compare.road'),
            with_text(', "caf"', ']\n"""See `deliver.formats'),
            with_text('                ("caf", "CAF"),\n', '                ("mp3", "MP3"),'),
        ),
        "gluvo.compare.road": with_text(
            '    Road("attic", "Attic", "As through a floor.", noise=room_noise),\n', ")\nassert tuple(road.key"
        ),
        "gluvo.compare.hearables": with_text(HEARABLE, "    Hearable(\n        DETECTOR,"),
        "gluvo.play.device": with_text(
            '\nDEVICE_KINDS += (DeviceKind(lambda: ["wire"], lambda rate, _: SilentDevice(rate), lambda _: "A wire"),)\n'
        ),
        "gluvo.desk.pages.registry": with_text(PAGE, "\n\ndef place_of"),
        "gluvo.desk.window.actions": with_text(ACTION),
        "gluvo.advise.shelf": with_text(PRESET, '    _preset(\n        "A voice bus"'),
        "gluvo.deliver.targets": with_text(TARGET, '    Target(\n        name="Streaming"'),
        "gluvo.deliver.formats": with_text(FORMAT, '        Format("wav"'),
    },
    {},
)  # also in the process that plays, which imports this file, too


def seen(folder: Path) -> dict[str, object]:
    """What comes of them everywhere."""
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QComboBox, QMenu

    from gluvo.desk.model.workbench import Workbench
    from gluvo.desk.window.app import application
    from gluvo.desk.window.window import Window
    from gluvo.play.process import Host
    from gluvo.session.store import read_session

    application()
    window = Window(Workbench("silent", Host()))
    bench = window.bench
    window.show()
    window.open_path(folder / "Take.wav")
    while bench.audio.material is None or bench.background.busy:
        QTest.qWait(10)

    def trigger(text: str) -> None:
        next(placed.action for placed in window.menus.placed if placed.action.text() == text).trigger()

    row = window.hear_row.monitor
    trigger("Attic")
    shown = row.currentText()
    menu = next(a.menu() for a in window.menus.menus["Listen"].actions() if a.text() == "Device")
    assert isinstance(menu, QMenu)
    menu.aboutToShow.emit()
    devices = {action.text(): action for action in menu.actions()}
    devices["A wire"].trigger()
    engine = bench.engine
    assert engine is not None
    while engine.device_name == "starting":
        engine.read()
        QTest.qWait(10)
    bench.listening.hear("interval")
    engine.play()
    while not len(power := engine.read().power):
        QTest.qWait(10)
    trigger("Name it Nocturne")
    trigger("Attic page")
    page = bench.session.view.page
    targets = window.shape.target.choice
    targets.activated.emit(targets.findData("Attic"))
    found = {f"{f.place} {f.name}" for f in window.findables()}
    delivery = window.deliver.delivery
    id = delivery.add()
    delivery.change(id, "format", "caf")
    window.deliver.table.refresh()
    delivery.write([id])
    while not delivery.results:
        QTest.qWait(10)
    formats = window.deliver.panel.controls["format"].findChild(QComboBox)
    assert formats is not None
    bench.document.save()
    path = bench.document.path
    window.close()
    saved = read_session(path).session
    return {
        "row": [row.itemText(n) for n in range(row.count())],
        "shown": shown,
        "devices": list(devices),
        "failed": engine.failed,
        "road": saved.view.road.kind,
        "device": bench.listening.device_choice,
        "hearables": [name for _, name in bench.listening.hear_choices()],
        "silent": bool((power == 0.0).all()),
        "name": saved.name,
        "page": page,
        "target": saved.target.name,
        "preset": any("Softer" in name for name in found),
        "format": formats.findText("CAF") >= 0,
        "written": [file.path.name for result in delivery.results.values() for file in result.outcome.files],
        "trouble": [result.outcome.trouble for result in delivery.results.values()],
    }


if __name__ == "__main__":
    Path(sys.argv[1], "seen.json").write_text(json.dumps(seen(Path(sys.argv[1]))))
