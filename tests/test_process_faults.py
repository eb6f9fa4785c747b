"""The program goes on: killed and hung audio processes, full caches, storms of edits, closing in whatever state."""

from __future__ import annotations

import itertools
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QEvent, QObject, QSettings, Qt, QTimer
from PySide6.QtWidgets import QApplication

from gluvo.deliver import rows
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.app import check_display
from gluvo.desk.window.window import Window
from gluvo.errors import DeviceError, GluvoError
from gluvo.measure.trace import Span
from gluvo.opened.tasks import WRITING
from gluvo.play import remote as host_module
from gluvo.play.engine import Engine, Monitoring
from gluvo.play.process import Host
from gluvo.play.remote import RemoteEngine
from gluvo.play.requests import Change, ChooseDevice
from gluvo.play.server import _bare
from gluvo.render.cache import Cache
from gluvo.render.song import Renderer
from gluvo.session import scratch
from gluvo.session.records import Session
from gluvo.session.store import read_session
from gluvo.steps import Glue, Limiter, Trim

from .conftest import RATE, material, music, noise, one, until
from .desk import Desk, LastingHost, answering, shortcut, small_session

# --- the audio process -------------------------------------------------------------------------------------------------


def looked_after(engine: RemoteEngine, condition: Callable[[], object], seconds: float = 120.0) -> None:
    """Do what a window's tick does, until something holds."""
    until(lambda: engine.read() is not None and condition(), seconds)


@pytest.mark.thorough
@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSTOP])
def test_a_process_that_ends_or_hangs_is_started_again_at_the_same_place(
    how: signal.Signals, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(host_module, "SILENT_SECONDS", 2.0)
    host = Host()
    engine = RemoteEngine(host, material(music(6.0)), {}, one([Trim(id="t")]), "silent")
    engine.loop(2.0, 5.0)
    engine.listen(Monitoring())
    engine.seek(2.0)
    engine.play()
    looked_after(engine, lambda: engine.playing and engine.position > 2.3)
    first = host._process.pid
    os.kill(first, how)
    for n in range(300):  # a full pipe holds nobody up: the process that reads it stands still until it is looked after
        engine.change(one([Trim(id="t", gain=-0.01 * n)]))
    looked_after(engine, lambda: host._process.pid != first)
    assert "started again" in engine.take_event() and engine.take_event() == ""
    looked_after(engine, lambda: engine.device_name == "Silent device" and len(engine.read().power) > 0)
    assert engine.playing and 2.0 <= engine.position <= 5.0
    engine.close()
    host.close()
    assert not host.alive


def test_a_process_that_keeps_ending_is_given_up(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(host_module, "MOST_REVIVALS", 2)
    host = Host()
    engine = RemoteEngine(host, material(noise(1.0)), {}, one([]), "silent")
    engine._revived = type(engine._revived)(maxlen=2)
    while not engine._given_up:
        host._process.kill()
        host._process.join()
        engine.read()
    assert "again and again" in engine.take_event() and not engine.playing and "no sound" in engine.failed
    engine.close()
    host.close()


def test_nothing_that_is_asked_for_ends_the_process() -> None:
    host = Host()
    engine = RemoteEngine(host, material(music(3.0)), {}, one([Trim(id="t")]), "silent")
    engine.play()
    for seconds in (1e300, float("inf"), float("nan"), -1e9):
        engine.seek(seconds)
        engine.loop(seconds, seconds)
    host.send(Change("no session at all"))
    host.send("nonsense")
    host.send(ChooseDevice("a device that is not there"))
    assert host.wait(60.0) and host.alive
    looked_after(engine, lambda: engine.event != "")
    assert "could not be played" in engine.take_event()
    engine.no_loop()
    engine.seek(1.0)
    engine.play()
    until(lambda: len(engine.read().power) > 0)  # each reading is told once
    engine.close()
    host.close()


class Failing:
    """A device that fails after some blocks."""

    name, rate = "failing", RATE

    def __init__(self, error: Exception) -> None:
        self.error, self.left = error, 3

    def write(self, _: np.ndarray) -> bool:
        self.left -= 1
        if self.left < 0:
            raise self.error
        return False

    def close(self) -> None: ...


@pytest.mark.parametrize(("error", "broken"), [(DeviceError("The cable is out."), False), (ValueError("odd"), True)])
def test_a_failing_device_ends_no_more_than_its_thread(error: Exception, broken: bool) -> None:
    engine = Engine(material(noise(1.0)), {}, one([]))
    engine.output.start(Failing(error))
    assert engine.output.thread is not None
    engine.output.thread.join(10.0)
    assert engine.output.failed and engine.output.broken is broken
    engine.output.close()


# --- room --------------------------------------------------------------------------------------------------------------


def descriptors() -> int:
    return len(list(Path("/proc/self/fd").iterdir()))


@pytest.mark.thorough
def test_edits_without_end_keep_within_bounds() -> None:
    x = music(6.0)
    renderer = Renderer(material(x), Cache(budget=400_000_000, memory=40_000_000, most=60))
    span, before = Span(2.0, 5.0), 0
    for n in range(60):
        chain = [Trim(id="t", gain=-0.01 * n), Glue(id="g", ratio=2.0, threshold=-30.0), Limiter(id="l")]
        renderer.section(one(chain), span).result.figures(span, 1.0 + 0.001 * n)
        if n == 20:
            before = descriptors()
        cache = renderer.cache
        assert len(cache) <= 60 and cache.heap <= 40_000_000 + 4_000_000 and cache.bytes <= 400_000_000
    assert descriptors() <= before
    joint = renderer.joint(renderer.plan(one([])).result, span)
    for n in range(500):
        joint.figures(Span(2.0, 2.5 + 0.01 * n), 1.0)
    assert len(joint._known) <= 64


def test_a_stretch_goes_with_its_song() -> None:
    renderer = Renderer(material(noise(8.0)), Cache(most=3))
    plan = renderer.plan(one([Trim(id="t", gain=-1.0)]))
    renderer.joint(plan.result)
    cut = renderer.joint(plan.result, Span(6.0, 7.0))
    assert cut.part_of is not None and len(renderer.cache) >= 2
    for n in range(4):
        renderer.joint(renderer.plan(one([Trim(id="t", gain=-2.0 - n)])).result)
    assert all(
        j.part_of is None or j.part_of in renderer.cache._joints.values() for j in renderer.cache._joints.values()
    )


def test_a_cache_folder_that_cannot_be_used_is_told_once(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setattr(scratch, "IN_MEMORY", 0)
    (tmp_path / "file").touch()
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "file"))
    scratch.trouble()
    made = scratch.scratch((2_000_000, 2))
    made[:] = 1.0
    assert "kept in memory" in scratch.trouble() and scratch.trouble() == ""


def test_the_engine_without_room_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    def none(*_: object, **__: object) -> None:
        raise MemoryError("neither memory nor the disk has room for audio that processes share")

    monkeypatch.setattr(host_module, "address_of", none)
    with pytest.raises(GluvoError, match="Nothing can be played"):
        RemoteEngine(LastingHost.running(), material(noise(1.0)), {}, one([]))


# --- the window --------------------------------------------------------------------------------------------------------


class Turns(QObject):
    """What the window's own thread computes at one go, in seconds of processor time, turn by turn."""

    def __init__(self, app: QApplication) -> None:
        super().__init__()
        self.took: list[float] = []
        self._began = time.thread_time()
        dispatcher = app.eventDispatcher()
        dispatcher.awake.connect(self._look)
        dispatcher.aboutToBlock.connect(self._look)

    def _look(self) -> None:
        now = time.thread_time()  # what is waited for between two turns takes none of it
        self.took.append(now - self._began)
        self._began = now


@pytest.mark.thorough
def test_the_window_answers_during_a_storm_of_edits_and_resizes(desk: Desk, tmp_path: Path) -> None:
    """While renders, a search and writing go on, no turn of the window computes for anywhere near a second."""
    turns = Turns(QApplication.instance())
    desk.window.deliver.use_folder(tmp_path / "out")
    desk.window.deliver.write_all()
    storm = QTimer(desk.window, interval=0)
    edits = iter(range(60))

    def edit() -> None:
        n = next(edits, None)
        if n is None:
            storm.stop()
            return
        desk.bench.set_setting("glue-1", "threshold", -20.0 - 0.2 * n, "threshold")
        if n % 10 == 0:
            desk.window.resize(1100 + n, 720 + n)
            desk.bench.look(step=("glue-1", "limiter-1", "trim-1")[n // 10 % 3])
        if n == 30:
            desk.bench.look(step="glue-1")
            shortcut(desk, "T")

    storm.timeout.connect(edit)
    storm.start()
    desk.wait(lambda: not storm.isActive() and not desk.bench.background.busy)
    # a machine that stands still, or the collector of a whole test run, may take a turn or three; edits are sixty
    assert len(turns.took) > 60 and sorted(turns.took)[-4] < 0.7
    desk.wait(lambda: "measured" in desk.window.deliver.status.text())


@pytest.mark.thorough
def test_finding_a_threshold_does_not_stop_the_writing(
    desk: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    page, disk = desk.window.deliver, threading.Event()
    put = rows._Out.push

    def push(file: rows._Out, at: int, block: np.ndarray) -> None:
        assert disk.wait(120.0)  # a disk that takes the sound when it is let
        put(file, at, block)

    monkeypatch.setattr(rows._Out, "push", push)
    page.use_folder(tmp_path / "out")
    page.add()
    desk.bench.look(page="deliver")
    shortcut(desk, "W")  # the window is active from here on
    desk.settle()
    page.write_all()
    assert desk.bench.tasks.busy(WRITING)
    for n in range(3):
        desk.bench.look(step=("trim-1", "glue-1")[n % 2], page="deliver")
    desk.bench.look(step="glue-1")
    shortcut(desk, "T")

    def threshold() -> float:
        glue = desk.session.step("glue-1")
        assert isinstance(glue, Glue)
        return glue.threshold

    def writing() -> list[Any]:
        return [line for line in desk.window.work.lines if line.task is not None and line.task.kind is WRITING]

    try:
        desk.wait(lambda: bool(writing()))
        told = writing()
        assert told[0].task.title.startswith("Writing") and told[0].stop.isVisible()
        desk.wait(lambda: threshold() != -26.0)
        assert desk.bench.tasks.busy(WRITING)
        disk.set()
        desk.wait(lambda: "measured" in page.status.text())
        desk.wait(lambda: not desk.bench.background.busy)
        assert len(list((tmp_path / "out").iterdir())) == 2
        disk.clear()
        page.write_all()
        desk.wait(lambda: bool(writing()))
        desk.bot.mouseClick(writing()[0].stop, Qt.MouseButton.LeftButton)
    finally:
        disk.set()
    desk.wait(lambda: not desk.bench.background.busy)
    assert not list((tmp_path / "out").glob(".*"))


def test_deliverables_never_meet_one_another_or_the_session(desk: Desk, tmp_path: Path) -> None:
    page, notice = desk.window.deliver, desk.window.notice
    page.add()
    first, second = desk.session.deliverables
    page.table.item(0, 0).setText("Same")
    page.table.item(1, 0).setText("same")
    page.use_folder(tmp_path / "out")
    page.write_all()
    assert "one file" in notice.text.text() and not (tmp_path / "out").exists()
    desk.bench.edit("x", lambda s: s.replace(name="Harbour Take"))
    own = tmp_path / "Harbour Take - Copy.wav"
    os.link(tmp_path / "Harbour Take.wav", own)
    page.delivery.remove(second.id)
    page.table.item(0, 0).setText("Copy")
    page.use_folder(tmp_path)
    before = own.read_bytes()
    page.write_all()
    assert "never written over" in notice.text.text() and own.read_bytes() == before and first.id


@pytest.mark.thorough
def test_a_stem_that_changes_while_it_is_open_is_told(desk: Desk, tmp_path: Path) -> None:
    shown = desk.bench.picture.song_render
    assert shown is not None
    loud = shown.result.figures().integrated
    soundfile.write(tmp_path / "Harbour Take.wav", music(9.0) * 0.5, RATE, "PCM_24")
    QApplication.sendEvent(desk.window, QEvent(QEvent.Type.ActivationChange))
    desk.bench.opening.check_files()
    desk.wait(lambda: "has changed" in desk.window.notice.text.text())
    now = desk.bench.picture.song_render
    assert now is not None and now.result.figures().integrated == loud  # nothing is mixed
    desk.bot.mouseClick(desk.window.notice.act, Qt.MouseButton.LeftButton)
    desk.wait(lambda: desk.bench.audio.material is not None and desk.bench.audio.material.seconds > 8.9)
    desk.settle()
    assert desk.bench.document.undo_name == "Take changed audio" and not desk.bench.audio.changed


@pytest.mark.thorough
def test_autosave_does_not_starve(desk: Desk) -> None:
    """However many edits follow, a copy is never more than a few seconds old."""
    seen: set[float] = set()
    gains = itertools.count(1)

    def edited() -> bool:
        desk.bench.set_setting("trim-1", "gain", -0.001 * next(gains), "Gain")
        for copy in desk.bench.document.folder.glob(".*.autosave"):
            seen.add(read_session(copy).session.step("trim-1").gain)
        return len(seen) >= 2

    desk.wait(edited)


@pytest.mark.thorough
def test_closing_is_quick_whatever_the_audio_process_does(empty_desk: Desk, tmp_path: Path) -> None:
    _, path = small_session(tmp_path)
    host = Host()
    window = Window(Workbench("silent", host))
    window.open_path(path)
    empty_desk.wait(lambda: window.bench.audio.material is not None)
    os.kill(host._process.pid, signal.SIGSTOP)
    window.close()
    assert not host.alive


@pytest.mark.thorough
def test_discarding_on_a_disk_that_cannot_be_written(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    desk.bench.set_setting("trim-1", "gain", -9.0, "Gain")
    desk.bench.document.autosave()

    def refused(*_: object, **__: object) -> None:
        raise OSError(30, "Read-only file system")

    monkeypatch.setattr(Path, "unlink", refused)
    answering(monkeypatch, "lose")
    assert desk.window.close()


@pytest.mark.thorough
def test_broken_settings_are_no_trouble(desk: Desk) -> None:
    for key, value in (("geometry", "nonsense"), ("recent", 7), ("night", ["x"]), ("device", "none such")):
        QSettings("gluvo", "gluvo").setValue(key, value)
    other = Window(Workbench("silent", LastingHost.running()))
    assert other.documents.recent() == []
    other.close()


@pytest.mark.parametrize(("display", "says"), [("", "no display"), (":99876", "cannot be opened")])
def test_without_a_display(display: str, says: str, monkeypatch: pytest.MonkeyPatch) -> None:
    for name, value in (("DISPLAY", display), ("WAYLAND_DISPLAY", ""), ("QT_QPA_PLATFORM", "xcb")):
        monkeypatch.setenv(name, value)
    with pytest.raises(GluvoError, match=says):
        check_display()


def gluvo(*args: str, **environment: str) -> subprocess.Popen[str]:
    return subprocess.Popen(
        [sys.executable, "-m", "gluvo", *args],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env={**os.environ, **environment},
    )


@pytest.mark.thorough
def test_ctrl_c_closes_both_processes_in_order(tmp_path: Path) -> None:
    _, path = small_session(tmp_path)
    process = gluvo(str(path), QT_QPA_PLATFORM="offscreen")
    children = Path(f"/proc/{process.pid}/task/{process.pid}/children")
    lock = path.with_name(f".{path.name}.lock")
    until(lock.exists)
    audio = [int(pid) for pid in children.read_text().split()]
    process.send_signal(signal.SIGINT)
    _, errors = process.communicate(timeout=30)
    assert process.returncode == 0 and "Traceback" not in errors and not lock.exists()
    assert not any(
        Path(f"/proc/{pid}/exe").exists() and "gluvo" in Path(f"/proc/{pid}/cmdline").read_text() for pid in audio
    )


STOPPED_WHILE_LOADING = """
import os, signal, sys
import gluvo.start
class Finder:
    def find_spec(self, name, path, target=None):
        if name == "click":
            os.kill(os.getpid(), signal.SIGINT)
sys.meta_path.insert(0, Finder())
gluvo.start.main()
"""


def test_ctrl_c_while_the_program_is_still_being_loaded() -> None:
    done = subprocess.run([sys.executable, "-c", STOPPED_WHILE_LOADING], capture_output=True, text=True, timeout=60)
    assert (done.returncode, done.stdout, done.stderr) == (2, "", "gluvo: stopped\n")


def test_a_session_without_any_step_is_what_a_faulty_one_is_played_as() -> None:
    bare = _bare(one([Trim(id="t"), Limiter(id="l")]))
    assert isinstance(bare, Session) and not any(s.chain for s in bare.strips)
