"""A real window with a small song in it."""

from __future__ import annotations

import atexit
import functools
import shutil
import tempfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import pytest
import soundfile
from PySide6.QtCore import QEvent, QPointF, QSettings, Qt, QTimer
from PySide6.QtGui import QKeySequence, QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit, QWidget
from pytestqt.exceptions import TimeoutError as WaitedTooLong
from pytestqt.qtbot import QtBot

from gluvo.desk.controls import dialogs
from gluvo.desk.controls.theme import theme
from gluvo.desk.editors.eq.editor import EqEditor
from gluvo.desk.model import opening
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.app import application
from gluvo.desk.window.garbage import GarbageCollector
from gluvo.desk.window.window import Window
from gluvo.play.process import Host
from gluvo.render.cache import Cache
from gluvo.render.song import Renderer
from gluvo.session.create import new_session
from gluvo.session.media import Material
from gluvo.session.records import Section, Session
from gluvo.session.store import write_session
from gluvo.steps import (
    Band,
    DeEsser,
    Glue,
    Lane,
    Limiter,
    MidSideEq,
    ResonanceTamer,
    Saturation,
    Split,
    SplitBand,
    TransientShaper,
    Trim,
    Width,
)

from .conftest import RATE, music


@pytest.fixture(autouse=True)
def table_is_shown(monkeypatch: pytest.MonkeyPatch) -> None:
    """Equalisers have their table of bands beside the lanes, however little room there is."""
    monkeypatch.setattr(EqEditor, "table_shown", True)


@pytest.fixture(scope="session")
def qapp() -> QApplication:
    return application()


@pytest.fixture(autouse=True)
def nothing_piles_up() -> Iterator[None]:
    """What tests without a loop of events leave behind is freed between them, on the thread that has made widgets."""
    yield
    app = QApplication.instance()
    if app is not None and (collector := app.findChild(GarbageCollector)) is not None:
        collector.collect_due()


LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier


class LastingHost(Host):
    """One process that plays for all windows of a test run, as it does for all sessions of a window."""

    _now: LastingHost | None = None

    @classmethod
    def running(cls) -> LastingHost:
        if cls._now is None or not cls._now._process.is_alive():
            cls._now = cls()
        return cls._now

    def close(self) -> None:
        self.answers()  # nothing is left for the next window


_CACHES: dict[int, Cache] = {}


def renderer_of_all(material: Material, cache: Cache | None = None) -> Renderer:
    """A renderer that shares what was rendered with all windows of a test run: what a node is called by tells its audio."""
    shared = _CACHES.setdefault(material.rate, Cache(budget=400_000_000))
    return Renderer(material, shared if cache is None else cache)


@functools.cache
def _made_once() -> tuple[Session, Path]:
    """The small session in a folder of its own, from which it is copied."""
    folder = Path(tempfile.mkdtemp(prefix="small-session-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    soundfile.write(folder / "Harbour Take.wav", music(8.0), RATE, "PCM_24")
    soundfile.write(folder / "Old Pier.wav", music(5.0, seed=9) * 1.1, RATE, "PCM_24")
    session = new_session([folder / "Harbour Take.wav"], [folder / "Old Pier.wav"], folder, "Harbour Take")
    session = session.replace(
        sections=(
            Section(id="section-1", name="Verse", start=0.0, end=3.0),
            Section(id="section-2", name="Refrain", start=3.0, end=7.5),
        ),
    )
    chain = (
        Trim(id="trim-1", gain=-6.0),
        Glue(id="glue-1", ratio=3.0, threshold=-26.0, aim=2.0),
        Limiter(id="limiter-1", drive=4.0, ceiling=-1.0),
    )
    session = session.with_chain("mix", chain).looking(section="section-2", step="glue-1", loop=True, position=3.0)
    path = folder / "Harbour Take.gluvo"
    write_session(path, session)
    return session, path


def small_session(folder: Path) -> tuple[Session, Path]:
    """A saved session of eight seconds with a chain, sections and a reference."""
    session, made = _made_once()
    for file in made.parent.iterdir():
        shutil.copy(file, folder / file.name)
    return session, folder / made.name


def answering(monkeypatch: pytest.MonkeyPatch, answer: str) -> list[str]:
    """Answer all questions with a choice, by its key or by what it does; the texts that were asked are collected."""
    asked: list[str] = []

    def ask(_parent: object, _title: str, text: str, choices: Sequence[tuple[str, str, str]]) -> str:
        asked.append(text)
        return next((key for key, _, role in choices if answer in (key, role)), choices[-1][0])

    monkeypatch.setattr(dialogs, "ask", ask)
    return asked


class Desk:
    """The window and what tests do with it."""

    def __init__(self, qtbot: QtBot, window: Window) -> None:
        self.bot, self.window, self.bench = qtbot, window, window.bench

    @property
    def session(self) -> Session:
        return self.bench.session

    def wait(self, condition: Callable[[], bool]) -> None:
        try:
            self.bot.waitUntil(condition, timeout=120_000)
        except WaitedTooLong:
            pytest.fail(f"It did not come to that. {self._state()}")

    def _state(self) -> str:
        """What the window does, for whoever looks for what a test waits for."""
        fields = [f for f in self.window.findChildren(QLineEdit) if f.isVisible()]
        return (
            f"Tasks: {[(t.title, t.share) for t in self.bench.tasks.shown()]}, "
            f"busy: {self.bench.background.busy}; notice: {self.window.notice.text.text()!r}; "
            f"focus: {self.window.focusWidget()}, {QApplication.focusWidget()}, active: {QApplication.activeWindow()}, "
            f"modal: {QApplication.activeModalWidget()}; fields: {[(f.text(), f.parent()) for f in fields]}"
        )

    def settle(self) -> None:
        """Until everything is measured."""
        self.wait(lambda: self.bench.picture.song_current and not self.bench.background.busy)
        QApplication.processEvents()

    def open(self, path: Path, *, measured: bool = True) -> None:
        """Open a session; `measured`: and wait until all of it is."""
        self.window.open_path(path)
        self.wait(lambda: self.bench.audio.material is not None)
        if measured:
            self.settle()


@pytest.fixture
def empty_desk(qtbot: QtBot, qapp: QApplication, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Desk]:
    """A window with nothing in it."""
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(tmp_path / "settings"))
    answering(monkeypatch, "lose")
    theme.force(False)
    monkeypatch.setattr(opening, "Renderer", renderer_of_all)
    window = Window(Workbench("silent", LastingHost.running()))
    window.resize(1280, 800)
    window.show()
    qtbot.waitExposed(window)
    yield Desk(qtbot, window)
    window.close()
    window.deleteLater()
    QApplication.sendPostedEvents(
        None, QEvent.Type.DeferredDelete.value
    )  # else it stays, and is dressed with all to come
    QApplication.processEvents()


@pytest.fixture
def desk(empty_desk: Desk, tmp_path: Path) -> Desk:
    """A window with a small session open and measured."""
    _, path = small_session(tmp_path)
    empty_desk.open(path)
    return empty_desk


def when_shown(desk: Desk, act: Callable[[], None]) -> None:
    """Act in the next dialog or menu that comes up and takes all input, as soon as it is there; if that fails, it is closed,
    so that the test ends."""

    def look() -> None:
        shown = QApplication.activePopupWidget() or QApplication.activeModalWidget()
        if shown is None:
            return
        asked.stop()
        try:
            act()
        except BaseException:
            shown.close()
            raise

    asked = QTimer(desk.window, interval=20)
    asked.timeout.connect(look)
    asked.start()


def move(widget: QWidget, place: QPointF, held: Qt.KeyboardModifier = NONE, buttons: Qt.MouseButton = LEFT) -> None:
    event = QMouseEvent(
        QEvent.Type.MouseMove, place, QPointF(widget.mapToGlobal(place)), Qt.MouseButton.NoButton, buttons, held
    )
    QApplication.sendEvent(widget, event)


def drag(desk: Desk, widget: QWidget, start: QPointF, by: QPointF, held: Qt.KeyboardModifier = NONE) -> None:
    desk.bot.mousePress(widget, LEFT, held, start.toPoint())
    for share in (0.25, 0.5, 0.75, 1.0):
        move(widget, QPointF(start.toPoint()) + by * share, held)
    desk.bot.mouseRelease(widget, LEFT, held, (start + by).toPoint())


def focus(desk: Desk) -> QWidget:
    """What has the focus in the window, whether the window itself has it or not: tests share one screen."""
    return desk.window.focusWidget() or desk.window


def key(desk: Desk, pressed: Qt.Key | str, held: Qt.KeyboardModifier = NONE) -> None:
    """A real key event for whatever has the focus, shortcuts of the window first, as a keyboard sends it."""
    if QApplication.activeModalWidget() is None and not desk.window.isActiveWindow():
        desk.window.activateWindow()  # shortcuts are for the window that is active
        QTest.qWaitForWindowActive(desk.window, 20_000)
    target = focus(desk)
    if isinstance(pressed, str):
        QTest.keyClicks(target, pressed, held)
    else:
        QTest.keyClick(target, pressed, held)


def shortcut(desk: Desk, keys: str) -> None:
    """Press a key of the window's, written as in the menus, with no control having the focus."""
    desk.window.setFocus()
    pressed = QKeySequence(keys)[0]
    key(desk, pressed.key(), pressed.keyboardModifiers())


@pytest.fixture
def full_desk(empty_desk: Desk, tmp_path: Path) -> Desk:
    """A session with every kind of step, a lane and deliverables."""
    session, path = small_session(tmp_path)
    chain = (
        Trim(id="trim-1", gain=-6.0),
        MidSideEq(
            id="eq-1", bands=(Band(id=1, gain=-2.0, q=2.0), Band(id=2, freq=4000.0, dynamic=True, threshold=-40.0))
        ),
        Glue(id="glue-1", ratio=3.0, threshold=-26.0, aim=2.0),
        Lane(
            id="lane-1",
            name="Crushed",
            level=-20.0,
            since="glue-1",
            steps=(Glue(id="glue-2", ratio=8.0, threshold=-30.0),),
        ),
        Split(
            id="split-1",
            bands=(
                SplitBand(id=1, steps=(Glue(id="glue-3", ratio=3.0, threshold=-30.0), Trim(id="trim-2"))),
                SplitBand(id=2, gain=1.0),
                SplitBand(id=3, target="side", mix=60.0, steps=(DeEsser(id="de_esser-1", range=4.0),)),
                SplitBand(id=4),
            ),
            crossovers=(160.0, 900.0, 4000.0),
        ),
        ResonanceTamer(id="tamer-1", at_most=4.0),
        TransientShaper(id="shaper-1", attack=2.0),
        Saturation(id="saturation-1", drive=3.0),
        Width(id="width-1", bands=2, width_2=120.0),
        Limiter(id="limiter-1", drive=4.0, ceiling=-1.0),
    )
    write_session(path, session.with_chain("mix", chain).looking(step="glue-1"))
    empty_desk.open(path)
    empty_desk.window.activateWindow()
    return empty_desk
