"""Pictures of every main view, from the demo."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from gluvo.errors import GluvoError

if TYPE_CHECKING:
    from gluvo.desk.window.window import Window

PATIENCE = 60.0
"""Seconds for which a view waits while nothing is worked on."""


def write_shots(folder: Path) -> Iterator[Path]:
    """Write a PNG of each view at 1280 × 800; yields each path. Needs no screen. The user's settings are left alone."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QSettings

    from gluvo.advise.shelf import BUILT_IN
    from gluvo.advise.try_values import SettingPlace
    from gluvo.compare.trial import Running
    from gluvo.deliver.encoding import Encoding
    from gluvo.demo.session import demo_session
    from gluvo.desk.controls.theme import theme
    from gluvo.desk.model.workbench import Workbench
    from gluvo.desk.pages.compare.trial_dialog import TrialDialog
    from gluvo.desk.pages.try_values_dialog import TryValuesDialog
    from gluvo.desk.window.app import application
    from gluvo.desk.window.window import Window
    from gluvo.play.device import SILENT
    from gluvo.session.document import Document
    from gluvo.session.store import read_session

    folder.mkdir(parents=True, exist_ok=True)
    demo = demo_session()
    app = application()
    with tempfile.TemporaryDirectory() as scratch:
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, scratch)
        bench = Workbench(SILENT, autosaves=False)
        window = Window(bench)
        window.resize(1280, 800)
        window.show()

        def wait(condition: Callable[[], bool]) -> None:
            idle, before = 0.0, time.monotonic()
            while not condition():
                app.processEvents()
                time.sleep(0.005)
                now = time.monotonic()
                idle, before = idle + (0.0 if bench.background.busy else now - before), now
                if idle > PATIENCE:
                    raise GluvoError("A view waited for what never came.")
            app.processEvents()

        def settled() -> bool:
            return bench.picture.song_current and bench.picture.tone is not None and not bench.background.busy

        def shot(name: str) -> Path:
            app.processEvents()
            path = folder / f"{name}.png"
            window.grab().save(str(path))
            return path

        try:
            theme.force(False)
            app.processEvents()
            yield shot("beginning")
            loaded = read_session(demo)
            bench.open(Document(loaded.session, demo, loaded.kept, saved=True))
            wait(settled)
            bench.advice.reach_target()
            wait(lambda: bench.document.undo_name is not None)
            wait(settled)
            bench.listening.toggle_play()
            start = time.monotonic()
            wait(lambda: time.monotonic() - start > 3.4)
            yield shot("shape")
            window.show_meters()
            meters = window.meters
            assert meters is not None
            meters.resize(1280, 800)
            start = time.monotonic()
            wait(lambda: time.monotonic() - start > 20.0)
            standing = folder / "meters.png"
            meters.grab().save(str(standing))
            meters.close()
            yield standing
            bench.look(page="buses", strip="kit", step="glue-2")
            wait(settled)
            yield shot("buses")
            bench.look(page="shape")
            wait(settled)
            dialog = TryValuesDialog(window, bench, SettingPlace("glue-2", "attack"))
            dialog.open()
            wait(lambda: dialog.trying.done and not dialog.trying.why_not_blind())
            values = folder / "try-values.png"
            dialog.grab().save(str(values))
            dialog.reject()
            yield values
            bench.look(page="watch", strip="mix", step="glue-1")
            wait(lambda: settled() and bench.watching_out.current)
            yield shot("watch-outs")
            bench.look(page="shape")
            wait(settled)
            yield from _drafted(folder, window, wait)
            yield from _practised(folder, window, wait)
            theme.force(True)
            yield shot("shape-night")
            theme.force(False)
            bench.look(step="limiter-1")
            wait(settled)
            yield shot("limiter")
            bench.look(step="eq-1", band=2)
            wait(settled)
            yield shot("mid-side-eq")
            bench.look(step="saturation-1")
            wait(settled)
            yield shot("saturation")
            bench.look(step="width-1")
            wait(settled)
            yield shot("width")
            yield from _put_in_order(folder, window, wait)
            bench.look(strip="mix", step="eq-1")
            even = next(p for p in BUILT_IN if p.name == "Even out three bands")
            window.shape.ledger.add(even.items[0])
            wait(settled)
            yield shot("split")
            bench.document.undo()
            bench.look(step="width-1")
            wait(settled)
            bench.versions.keep("Before lunch", "a little softer")
            bench.set_setting("glue-1", "ratio", 2.6, "Ratio")
            bench.look(page="compare", rows="aligned")
            comparing = window.compare.comparing
            wait(lambda: settled() and comparing.current and len(comparing.found.columns) == 5)
            yield shot("compare")
            there = {h.id: h for h in bench.listening.hearables()}
            trial = TrialDialog(window, bench, [there["result"], there["untouched"]], Running("abx", 2, 12))
            trial.open()
            app.processEvents()
            picture = folder / "blind-trial.png"
            trial.grab().save(str(picture))
            trial.reject()
            yield picture
            bench.look(page="deliver")
            window.deliver.use_folder(Path(scratch))
            window.deliver.write_all()
            wait(lambda: window.deliver.delivery.said != "" and not bench.background.busy)
            window.deliver.delivery.said = window.deliver.delivery.said.replace(scratch, "Deliverables")
            window.deliver.delivery.use_folder(None)
            yield shot("deliver")
            wait(settled)
            window.deliver.chooser.button("encode").click()
            window.deliver.delivery.encode_check.check(
                [Encoding("mp3", 128), Encoding("aac", 192), Encoding("opus", 128)]
            )
            wait(lambda: len(window.deliver.delivery.encode_check.found) == 3 and settled())
            window.deliver.delivery.encode_check.find_margin(tuple(window.deliver.delivery.encode_check.found), -1.0)
            wait(lambda: window.deliver.delivery.encode_check.margin is not None and not bench.background.busy)
            yield shot("encode-check")
        finally:  # also when it gives up: what runs ends before the process does
            theme.force(None)
            window._timer.stop()
            bench.close()


def _drafted(folder: Path, window: Window, wait: Callable[[Callable[[], bool]], None]) -> Iterator[Path]:
    from gluvo.desk.pages.draft_dialog import DraftDialog

    strip = next(s.id for s in window.bench.session.strips if s.name == "Accordion")
    dialog = DraftDialog(window, window.bench, strip)
    dialog.open()
    wait(lambda: dialog.drafting.made is not None)
    dialog.grab().save(str(folder / "draft.png"))
    dialog.reject()
    yield folder / "draft.png"


def _practised(folder: Path, window: Window, wait: Callable[[Callable[[], bool]], None]) -> Iterator[Path]:
    """With results that are made up, and none of the user's own."""
    from random import Random

    from gluvo.advise.practice import EXERCISES, Answer, Results, Round
    from gluvo.desk.model.practising import Practising
    from gluvo.desk.pages.practice_dialog import PracticeDialog

    chance = Random(5)
    answers = [
        Answer(size=3.0, freq=f, right=chance.random() < 0.55 + 0.05 * n) for n, f in enumerate(EXERCISES[0].freqs * 6)
    ]
    rounds = [Round(exercise="band", answers=tuple(answers[n::3]), threshold=3.1 - 0.5 * n) for n in range(3)]
    rounds += [Round(exercise="level", threshold=0.6), Round(exercise="width", threshold=2.2)]
    practising = Practising(window.bench, None, Random(3))
    practising.results, practising.keeps = Results(rounds=tuple(rounds)), False
    dialog = PracticeDialog(window, window.bench, practising)
    dialog.open()
    practising.begin()
    wait(lambda: practising.question is not None)
    dialog.grab().save(str(folder / "practice.png"))
    dialog.reject()
    yield folder / "practice.png"


def _put_in_order(folder: Path, window: Window, wait: Callable[[Callable[[], bool]], None]) -> Iterator[Path]:
    """The window of an album, with the demo song among its references."""
    from gluvo.session.album import moved, replaced
    from gluvo.session.media import place_of

    bench = window.bench
    desk = window.show_album()
    desk.resize(1280, 800)
    record = desk.record
    desk.take([bench.document.path, *(place_of(r.media, bench.document.folder) for r in bench.session.references)])
    wait(lambda: all(song.known is not None for song in record.album.songs) and not record.measuring)
    record.edit("Order", lambda a: moved(replaced(a, name="Harbour Days", levels="keep"), a.songs[0].id, 1))
    desk.choose(record.album.songs[0].id)
    desk.hear_join()
    wait(lambda: record.join is not None)
    record.stop()
    path = folder / "album.png"
    desk.grab().save(str(path))
    record.new()  # it is nobody's to keep
    desk.close()
    yield path
