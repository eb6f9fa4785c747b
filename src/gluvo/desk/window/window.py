"""The window: pages under the bars that stay, the menus, and what is dropped on it."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from functools import partial
from pathlib import Path
from weakref import WeakKeyDictionary

from PySide6.QtCore import QByteArray, QElapsedTimer, QEvent, QSettings, QSize, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QGuiApplication, QKeyEvent, QResizeEvent
from PySide6.QtWidgets import (
    QApplication,
    QDialog,
    QMainWindow,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from gluvo.advise.loudness_target import NO_LIMITER
from gluvo.advise.try_values import SettingPlace, louder_place
from gluvo.desk.controls import dialogs
from gluvo.desk.controls.finder import Findable
from gluvo.desk.controls.theme import theme
from gluvo.desk.controls.widgets import line
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.outboard_files import chosen_outboard
from gluvo.desk.editors.pass_dialog import PassDialog
from gluvo.desk.model.following import Follower
from gluvo.desk.model.listening_time import ListeningTime
from gluvo.desk.model.said import Said
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.bias_dialog import try_bias
from gluvo.desk.pages.buses import BusesPage
from gluvo.desk.pages.by_section_dialogs import LiftsDialog, WhereDialog
from gluvo.desk.pages.compare.page import ComparePage
from gluvo.desk.pages.deliver.page import DeliverPage
from gluvo.desk.pages.draft_dialog import DraftDialog
from gluvo.desk.pages.moves_dialog import MovesDialog
from gluvo.desk.pages.notes_dialog import NotesDialog
from gluvo.desk.pages.practice_dialog import PracticeDialog
from gluvo.desk.pages.prints_dialog import PrintsDialog, show_prints
from gluvo.desk.pages.registry import PAGES, place_of
from gluvo.desk.pages.shape import ShapePage
from gluvo.desk.pages.try_values_dialog import TryValuesDialog
from gluvo.desk.window.actions import rank_alternatives
from gluvo.desk.window.album_window import AlbumWindow
from gluvo.desk.window.asking import ask
from gluvo.desk.window.audio_files import AudioFiles
from gluvo.desk.window.beginning import Beginning
from gluvo.desk.window.documents import Documents
from gluvo.desk.window.findables import findables
from gluvo.desk.window.fresh import start_fresh
from gluvo.desk.window.header import Header
from gluvo.desk.window.hear_row import HearRow
from gluvo.desk.window.menus import Entry, Menus
from gluvo.desk.window.meters_window import MetersWindow, full_screen
from gluvo.desk.window.notices import Notice, WorkLine
from gluvo.desk.window.reference_rows import ReferenceRows
from gluvo.desk.window.song_sections import SongSections
from gluvo.desk.window.timeline import Timeline
from gluvo.desk.window.tour import Tour
from gluvo.desk.window.what_is_this import WhatIsThis
from gluvo.errors import GluvoError
from gluvo.opened.tasks import BRINGING_IN, PASSING, WRITING
from gluvo.play.device import device_choices
from gluvo.play.engine import DIM_DB
from gluvo.play.meters import Readings
from gluvo.session.album import SUFFIX as ALBUM_SUFFIX
from gluvo.session.collect import ZIP, collect, unpacked
from gluvo.session.files import answered, reason_of
from gluvo.session.records import Reference, Stem
from gluvo.session.sounds import AUDIO_SUFFIXES
from gluvo.session.store import SUFFIX

TICK_MS = 33
FRAME = QSize(16, 48)
"""Pixels that a window manager may put around a window: a first window must not be larger than the screen."""
SMALLEST = (940, 500)
"""Pixels: a window at a scale of 2 on 1920 × 1080 has 960 × 540 of its own."""
LAST_SECONDS = 5.0
"""How long a window that is closed by the system tries to keep a copy of what is unsaved."""
CHECK_SECONDS = 1.0
"""Between looks at whether another window has taken the session over."""


class Window(QMainWindow):
    def __init__(self, bench: Workbench) -> None:
        with theme.afterwards():
            super().__init__()
            self._make(bench)
        geometry = self.settings.value("geometry")
        if not (isinstance(geometry, QByteArray) and self.restoreGeometry(geometry)):
            room = self.screen().availableSize() - FRAME
            self.resize(QSize(1280, 800).boundedTo(room.expandedTo(QSize(*SMALLEST))))
        self._show_what_can_be()

    def _make(self, bench: Workbench) -> None:
        self.bench = bench
        bench.setParent(self)  # what follows it goes with the window
        self.settings = QSettings("gluvo", "gluvo")
        self.meters: MetersWindow | None = None
        self.album: AlbumWindow | None = None
        self._had_focus: WeakKeyDictionary[QWidget, QWidget] = WeakKeyDictionary()
        """What had the focus last in each pane."""
        self.setMinimumSize(*SMALLEST)
        self.setAcceptDrops(True)
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.header, self.hear_row, self.timeline = Header(bench), HearRow(bench), Timeline(bench)
        self.pages = QStackedWidget()
        made = [page.make(bench) for page in PAGES]
        for page in made:
            self.pages.addWidget(page)
        self.buses = next(page for page in made if isinstance(page, BusesPage))
        self.shape = next(page for page in made if isinstance(page, ShapePage))
        self.deliver = next(page for page in made if isinstance(page, DeliverPage))
        self.compare = next(page for page in made if isinstance(page, ComparePage))
        bench.watching_out.stale_rows = self.deliver.delivery.stale_names
        self.deliver.delivery.changed.connect(bench.watching_out.look_if_stale)
        self.compare.branch_wanted.connect(self._branch)
        self.shape.target.costs_wanted.connect(self.try_loudness)
        self.buses.ledger.opened.connect(self.shape.open_step)
        bench.values_wanted.connect(self._try_values)
        self.timeline.note_wanted.connect(self.show_notes)
        self.shape.blind.connect(lambda: rank_alternatives(self))
        self._made = made
        rules = line(), line()
        self.reference_rows = ReferenceRows(bench, self.timeline)
        self._with_a_session = (self.hear_row, rules[0], self.timeline, rules[1])
        for widget in (self.header, line(), *self._with_a_session[:-1], self.reference_rows, rules[1]):
            column.addWidget(widget)
        column.addWidget(self.pages, 1)
        self.work = WorkLine(bench)
        column.addWidget(self.work)
        self.setCentralWidget(body)
        self.notice = Notice(body, self.pages)
        self.documents = Documents(self, bench, self.settings, self.notice)
        self.documents.saved.connect(self.header.refresh)
        self.documents.saved.connect(self._show_title)
        self.beginning = Beginning(self)
        self.pages.addWidget(self.beginning)
        self.menus = Menus(self, self, self.shape.ledger.add_menu(), self.findables)
        self._add_filled_menus()
        Follower(self, bench, self._show_what_can_be, session=lambda s: (bool(s.stems), s.view.page))
        Follower(self, bench, self._show_title, session=lambda s: (s.name,), besides=lambda: (bench.document.changed,))
        Follower(
            self,
            bench,
            self.menus.show_history,
            besides=lambda: (bench.document, bench.document.undo_name, bench.document.redo_name),
        )
        bench.told.connect(self.notice.take)
        bench.session_changed.connect(lambda *_: self.notice.look_again())
        bench.audio_changed.connect(self.notice.look_again)
        self.audio_files = AudioFiles(self, bench, self.notice)
        self.explainer = WhatIsThis(self, bench, lambda text: self.notice.tell(text, False))
        self.tour = Tour(self, body, self.settings)
        self.sections = SongSections(bench, self.timeline, self.notice, self.attempt)
        theme.changed.connect(self._dress)
        self._dress()
        self.ears = ListeningTime(float(str(self.settings.value("ears/last", 0.0) or 0.0)))
        self._covered = False
        """Whether the fresh-ears start was offered since something was heard."""
        self._since_check, self._asks, self._leaves = 0.0, True, False
        self.all_ended = True
        """Whether everything that ran has ended when the window was closed."""
        bench.background.changed.connect(self._go_if_written)
        self._clock = QElapsedTimer()
        self._clock.start()
        self._timer = QTimer(self, interval=TICK_MS)
        self._timer.timeout.connect(self._tick)
        self._timer.start()

    def _add_filled_menus(self) -> None:
        def recent() -> list[Entry]:
            return [
                (
                    str(r.path) if r.there else f"{r.path} (not found)",
                    partial(self.open_path, r.path) if r.there or r.unsaved else None,
                    False,
                )
                for r in self.documents.recent()
            ]

        def references() -> list[Entry]:
            return [
                (r.name, partial(self.audio_files.remove_reference, r.id), False) for r in self.bench.session.references
            ]

        def files() -> list[Entry]:
            session = self.bench.session
            owners: list[Stem | Reference] = [*session.stems, *session.references]
            return [(o.name, partial(self.audio_files.use_another, o.media.path), False) for o in owners]

        def devices() -> list[Entry]:
            now = self.bench.listening.device_choice
            return [(text, partial(self.choose_device, key), key == now) for key, text in device_choices()]

        self.menus.add_filled("File", "Open recent", "Save", recent, "None yet")
        self.menus.add_filled("File", "Use another file", "Locate missing audio…", files, "None")
        self.menus.add_filled("File", "Remove reference", "Locate missing audio…", references, "None")
        self.menus.add_filled("Listen", "Device", "", devices, "None")

    # --- what actions ask for ------------------------------------------------------------------------------

    def ask(self, what: str) -> None:
        """Ask for a file or a value, and do what is to be done with it; see `asking.QUESTIONS`."""
        ask(self, self, what)

    def save(self, *, elsewhere: bool = False) -> None:
        """Save the session, where it is or somewhere else."""
        if elsewhere:
            self.documents.save_as()
        else:
            self.documents.save()

    def open_demo(self) -> None:
        """Open the demo song."""
        self.attempt(self.documents.open_demo)

    def findables(self) -> list[Findable]:
        """What can be found besides actions."""
        return list(findables(self, self.bench, self.shape, self.deliver))

    def find_action(self, *, keys: bool = False) -> None:
        """Open the finder, or the page of keys."""
        self.menus.find(keys)

    def tell_of_itself(self, text: str) -> None:
        """Say that something went wrong inside, from whatever thread."""
        said = Said(text, True, "Report a problem…", lambda: self.ask("problem"))
        self.bench.told.emit(said)

    def known_of_itself(self) -> dict[str, str]:
        """What a report of a problem should tell of this window."""
        bench, screen = self.bench, self.screen()
        engine, renderer = bench.engine, bench.renderer
        found = {
            "Sound": f"{engine.device_name}, {engine.dropouts} dropouts"
            if engine is not None
            else "no session is open",
            "Screen": f"{screen.size().width()} × {screen.size().height()}, {QGuiApplication.platformName()}",
            "Window": f"{self.width()} × {self.height()}",
        }
        if renderer is not None:
            found["Song"] = f"{renderer.seconds:.0f} s at {renderer.rate} Hz, {len(bench.session.strips)} strips"
        return found

    def choose_device(self, name: str) -> None:
        """Play to a device from now on, and the next time."""
        self.settings.setValue("device", name)
        self.bench.listening.choose_device(name)

    # --- documents -----------------------------------------------------------------------------------------

    def open_path(self, path: Path) -> None:
        """Open a session; or make one, if it is audio. Trouble is told, and leaves things as they are."""

        def open_it() -> None:
            place = Path(os.path.abspath(path))  # noqa: PTH100, a link to a session is opened as what it is called
            if place.suffix == ALBUM_SUFFIX:
                self.show_album(place)
                return
            if place.suffix.lower() == ZIP:
                self.unpack(place)
                return
            if place.suffix.lower() == SUFFIX or (place.exists() and place.suffix.lower() not in AUDIO_SUFFIXES):
                if place.is_dir():
                    self.documents.new_from_stems(place)
                else:
                    self.documents.open(place)
            else:
                self.documents.new_from([place])

        self.attempt(open_it)

    def unpack(self, path: Path) -> None:
        """Unpack a collected session beside its zip file, and open it."""
        self.bench.background.run(
            BRINGING_IN,
            f"Unpacking {path.name}",
            lambda told: unpacked(path, path.parent, told),
            self.open_path,
        )

    def play_once(self) -> None:
        """Start playing as soon as there is something to play; only the first time."""
        if self.bench.engine is not None:
            self.bench.audio_changed.disconnect(self.play_once)
            self.bench.engine.play()

    def new_from(self, files: list[Path], top: Path | None = None) -> None:
        """A new session from a mix, or from stems in a folder `top`."""
        self.attempt(lambda: self.documents.new_from(files, top))

    def new_from_stems(self, folder: Path) -> None:
        """A new session from a folder of stems; folders inside it become buses."""
        self.attempt(lambda: self.documents.new_from_stems(folder))

    def _branch(self, version: str) -> None:
        """Go on with a version in a session of its own."""
        path = self.documents.branch(version)
        if path is not None:
            self.open_path(path)

    # --- events --------------------------------------------------------------------------------------------

    def _show_title(self) -> None:
        document = self.bench.document
        self.setWindowTitle(f"{document.session.name}{' *' if document.changed else ''} – Gluvo")

    def _show_what_can_be(self) -> None:
        """The pages of a session; or, where there is none, how to begin."""
        session = self.bench.session
        there = bool(session.stems)
        for widget in self._with_a_session:
            widget.setVisible(there)
        self.header.show_session(there)
        if there:
            self.pages.setCurrentIndex(place_of(session.view.page))
        else:
            self.pages.setCurrentWidget(self.beginning)
        self.menus.allow(there)

    def _tick(self) -> None:
        elapsed = self._clock.restart() / 1000.0
        self._since_check += elapsed
        if self._since_check > CHECK_SECONDS:
            self._since_check = 0.0
            self.bench.opening.check_ownership()
            self._save_ears()
        self.header.tick(self.ears.told())
        self.bench.watching_out.listen(self.ears.seconds / 60.0, self.ears.level)
        engine = self.bench.engine
        if engine is not None:
            self.timeline.show_position(engine.position)
            readings = engine.read()
            self.bench.live_figures.take(readings, elapsed, engine.step_ids)
            for page in self._made:
                page.tick(readings, elapsed)
            self.hear_row.tick(engine.held_back, elapsed)
            self._listen(readings, elapsed)
        self.bench.look_after()

    def _listen(self, readings: Readings, elapsed: float) -> None:
        """Count what is heard; where the ears have rested long, begin with them before anything else."""
        bench, view = self.bench, self.bench.session.view
        if self.ears.rested and not self._covered and bench.session.references and self.starts_fresh:
            self._covered = True
            start_fresh(self, bench)
        if bench.engine is not None and bench.engine.playing and len(readings.power):
            matched = bench.picture.gains.get(view.hear, 0.0) if view.level_matched else 0.0
            gain = matched + view.output_level + (DIM_DB if view.dim else 0.0)
            self.ears.hear(float(readings.power.mean()), gain, elapsed)
            self._covered = False
            if said := self.ears.reminder(self.reminds_every):
                self.notice.tell(said, False)

    def _save_ears(self) -> None:
        if self.ears.last:
            self.settings.setValue("ears/last", self.ears.last)

    @property
    def reminds_every(self) -> float:
        """Minutes of listening after which a break is recommended; 0 for never."""
        return float(str(self.settings.value("ears/remind", 0.0) or 0.0))

    @property
    def starts_fresh(self) -> bool:
        """Whether work begins blind after a long break."""
        return str(self.settings.value("ears/fresh", "yes")) == "yes"

    def resizeEvent(self, event: QResizeEvent) -> None:
        """A higher window gives the timeline some of its room, a low one takes it back; unless its height was set."""
        super().resizeEvent(event)
        if not self.timeline.by_hand:
            self.timeline.stretch(round(114 + 0.16 * (self.height() - 800)), by_hand=False)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and not event.isAutoRepeat():
            self.hear_row.momentary.saw(event)
        return super().event(event)

    def changeEvent(self, event: QEvent) -> None:
        if event.type() == QEvent.Type.ActivationChange and self.isActiveWindow():
            self.bench.opening.check_files()
        super().changeEvent(event)

    def attempt(self, action: Callable[[], None]) -> None:
        """Do something whose failure is the user's to know."""
        try:
            action()
        except GluvoError as error:
            self.notice.tell(str(error), True)
        except (OSError, RuntimeError) as error:  # a path that no system takes, or a link that leads in a circle
            self.notice.tell(f"That cannot be opened ({reason_of(error)}).", True)

    def _dress(self) -> None:
        self.menuBar().setStyleSheet("")
        self.update()

    def leave(self) -> None:
        """Leave what has the focus, and stop long work."""
        tasks = self.bench.tasks
        passing = next((t for t in tasks.shown() if t.kind is PASSING), None)
        tasks.cancel(passing)  # what sounds outside goes before what is measured meanwhile
        self.setFocus()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        event.acceptProposedAction()
        self.dropped(paths)

    def dropped(self, paths: list[Path]) -> None:
        """A session opens; a folder is stems; audio is a mix. If there is one already: on the Buses page stems, on the
        others references."""
        if not paths:
            return
        if paths[0].suffix.lower() == SUFFIX:
            self.open_path(paths[0])
        elif paths[0].is_dir():
            self.new_from_stems(paths[0])
        elif self.bench.session.stems and self.bench.session.view.page == "buses":
            self.audio_files.add_stems(paths)
        elif self.bench.session.stems:
            self.audio_files.add_references(paths)
        else:
            self.new_from(paths)

    def end(self) -> None:
        """Close, as the terminal or the system asks: what is unsaved is kept as a copy, and offered again. Files that are
        being written are finished first; asked once more, they are given up."""
        if self.bench.tasks.busy(WRITING) and self._asks:
            self._asks = False
            self._save_last_copy()
            self._leave_when_written()
            return
        self._asks = False
        self.close()
        QApplication.quit()

    def _save_last_copy(self) -> None:
        """Keep what is unsaved, if its folder answers."""
        with contextlib.suppress(GluvoError, TimeoutError):
            answered(self.bench.document.autosave, LAST_SECONDS)

    def _leave_when_written(self) -> None:
        self._leaves = True
        self.notice.tell("Gluvo closes when the files are written.", True)
        self._go_if_written()

    def _go_if_written(self) -> None:
        """Close, if that waits for files which are written now."""
        if self._leaves and not self.bench.tasks.busy(WRITING):
            self._leaves = False
            self.close()
            if not self._asks:
                QApplication.quit()

    def _may_close(self) -> bool:
        """Ask about files that are being written, and about unsaved work. False if the user would rather stay."""
        if self.bench.tasks.busy(WRITING):
            answer = dialogs.ask(
                self,
                "Files are being written",
                "Files are being written. Those that are not finished are given up if you stop now.",
                (
                    ("wait", "Wait, then close", "do"),
                    ("stop", "Stop and close", "lose"),
                    ("stay", "Cancel", "stay"),
                ),
            )
            if answer == "wait":
                self._leave_when_written()
            if answer != "stop":
                return False
        return self.documents.may_leave()

    def panes(self) -> list[QWidget]:
        """What F6 goes round: the Hear row, the timeline, and what the page is made of, as far as it is shown."""
        page = next(page for page in self._made if page.isVisible())
        inner: list[QWidget | None] = [page]
        if page is self.shape:
            inner = [self.shape.ledger, self.shape.editor, self.shape.target, self.shape.meters]
        elif page is self.buses:
            inner = [self.buses.tree, self.buses.ledger]
        return [pane for pane in (self.hear_row, self.timeline, *inner) if pane is not None and pane.isVisible()]

    def next_pane(self, by: int) -> None:
        """Give the focus to the next pane, or the one before: to what had it there last, or to its first control."""
        panes, now = self.panes(), self.focusWidget()
        at = next(
            (n for n, pane in enumerate(panes) if now is pane or (now is not None and pane.isAncestorOf(now))), -1
        )
        if now is not None and at >= 0:
            self._had_focus[panes[at]] = now
        pane = panes[(at + by) % len(panes)] if at >= 0 else panes[0 if by > 0 else -1]
        before = self._had_focus.get(pane)
        if before is not None and pane.isAncestorOf(before) and before.isVisible() and before.isEnabled():
            before.setFocus(Qt.FocusReason.OtherFocusReason)
        elif isinstance(pane, StepEditor):
            pane.begin()
        else:
            into = pane if pane.focusPolicy() & Qt.FocusPolicy.TabFocus else first_focus(pane)
            if into is not None:
                into.setFocus(Qt.FocusReason.OtherFocusReason)

    def to_editor(self) -> None:
        """Into the editor of the chosen step; from there back to its row."""
        now, editor = self.focusWidget(), self.shape.editor
        if now is not None and editor is not None and editor.isVisible() and editor.isAncestorOf(now):
            self.shape.ledger.list.setFocus(Qt.FocusReason.OtherFocusReason)
        else:
            self.shape.open_step()

    def toggle_full_screen(self) -> None:
        full_screen(self)

    def restore_meters(self) -> None:
        """The window of meters, if it stood open when the program was last closed."""
        if str(self.settings.value("meters/open", "false")).lower() == "true":
            self.show_meters(activates=False)  # it is the session that one has opened
            self.raise_()
            self.activateWindow()

    def show_meters(self, *, activates: bool = True) -> None:
        """The window of meters, or no longer; `activates`: whether it has the keys then."""
        if self.meters is not None and self.meters.isVisible():
            self.meters.close()
            return
        if self.meters is None:
            self.meters = MetersWindow(
                self.bench, self.bench.live_figures, self.settings, self.hear_row.hear_range.press
            )
            self.meters.closed.connect(lambda: self.settings.setValue("meters/open", False))
        self.meters.setAttribute(Qt.WidgetAttribute.WA_ShowWithoutActivating, not activates)
        self.meters.show()
        if activates:
            self.meters.raise_()
        self.settings.setValue("meters/open", True)

    def try_loudness(self) -> None:
        """What louder costs: the target's loudness and others, tried as values of a setting are."""
        place = louder_place(self.bench.session)
        if place is None:
            self.bench.refuse(NO_LIMITER)
        else:
            self._try_values(place)

    def _try_values(self, place: SettingPlace) -> None:
        """Values of a setting beside each other."""
        problem = "Bring in audio first." if self.bench.renderer is None else ""
        step = self.bench.session.item(place.step)
        if step is None or place.owner(self.bench.session) is None:
            problem = problem or "That setting is gone: there is nothing to be tried."
        elif not step.on:
            problem = problem or "The step is off. Switch it on first."
        if problem:
            self.bench.refuse(problem)
            return
        _open(TryValuesDialog(self, self.bench, place))

    def draft(self) -> None:
        """Draft a start for the chosen strip."""
        if self.bench.renderer is None:
            self.bench.refuse("Bring in audio first: a draft is made from what is heard.")
        else:
            _open(DraftDialog(self, self.bench, self.bench.session.view.strip))

    def collect(self, place: Path, flac: bool) -> None:
        """Copy the session and all its audio to one place, in the background."""
        bench, session, folder = self.bench, self.bench.session, self.bench.document.folder
        bench.background.run(
            WRITING,
            "Collecting the session",
            lambda progress: collect(session, folder, place, flac=flac, progress=progress),
            lambda made: bench.tell(f"The session and all its audio are in {made}.", False),
        )

    def show_prints(self) -> PrintsDialog | None:
        """The prints of the chosen stem."""
        return show_prints(self, self.bench)

    def take_pass(self) -> PassDialog | None:
        """A pass of the chosen Outboard through a device."""
        item = chosen_outboard(self.bench)
        if item is None:
            return None
        dialog = PassDialog(self, self.bench, item.id)
        dialog.show()
        return dialog

    def show_album(self, path: Path | None = None) -> AlbumWindow:
        """The window of albums; with one opened in it, if there is one. Raises `GluvoError` if it cannot be read."""
        if self.album is None:
            self.album = AlbumWindow(self.bench.background, self.bench.listening.device_choice, self._open_from_album)
            self.album.destroyed.connect(self._album_gone)
        if path is not None and self.album.may_leave():
            self.album.open(path)
        self.album.show()
        self.album.raise_()
        self.album.activateWindow()
        return self.album

    def _album_gone(self) -> None:
        self.album = None

    def _open_from_album(self, path: Path) -> None:
        self.open_path(path)
        self.raise_()
        self.activateWindow()

    def show_notes(self, id: str = "") -> NotesDialog:
        """The session's notes; one of them, if it is named."""
        dialog = self.findChild(NotesDialog)
        if dialog is None or not dialog.isVisible():
            dialog = NotesDialog(self, self.bench)
            _beside(dialog)
        else:
            dialog.raise_()
            dialog.activateWindow()
        dialog.choose(id)
        return dialog

    def lift_sections(self) -> None:
        """The chosen strip's level in each section."""
        if self.bench.renderer is None:
            self.bench.refuse("Bring in audio first: there is nothing that could be lifted.")
        else:
            _beside(LiftsDialog(self, self.bench))

    def where_it_works(self) -> None:
        """The sections that the chosen step works in."""
        if self.bench.session.item(self.bench.session.view.step) is None:
            self.bench.refuse("Choose a step first: then say in which sections it works.")
        else:
            _beside(WhereDialog(self, self.bench))

    def sum_moves(self) -> None:
        """The chosen strip's chain from In to Out."""
        strip = self.bench.session.strip(self.bench.session.view.strip)
        if self.bench.renderer is None:
            self.bench.refuse("Bring in audio first: there is nothing that is moved.")
        elif strip is None or not any(item.on for item in strip.chain):
            self.bench.refuse("The chosen strip has no step that is on: what comes in goes out.")
        else:
            _open(MovesDialog(self, self.bench, strip.id))

    def practise(self) -> None:
        """Listening practice on the open song."""
        if self.bench.renderer is None:
            self.bench.refuse("Bring in audio first: practice needs a song to be heard.")
        else:
            _open(PracticeDialog(self, self.bench))

    def loudness_bias(self) -> None:
        """A blind trial of a sound against itself, one of them louder."""
        if self.bench.renderer is None:
            self.bench.refuse("Bring in audio first: the trial needs a song to be heard.")
        else:
            try_bias(self, self.bench)

    def what_is_this(self) -> None:
        self.explainer.start()

    def tour_on(self) -> None:
        """Begin the tour, or go on with it; on the demo where nothing is open."""
        if not self.bench.session.stems:
            self.open_demo()
        self.tour.start()

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._asks:
            self._save_last_copy()
        elif not self._may_close():
            event.ignore()
            return
        if self.album is not None and not self.album.close():
            event.ignore()
            return
        self._timer.stop()
        self.settings.setValue("geometry", self.saveGeometry())
        self._save_ears()
        if self.meters is not None and self.meters.isVisible():
            self.meters.close()
            self.settings.setValue("meters/open", True)  # it comes back with the window
        self.hide()  # what runs may take a moment to end
        self.all_ended = self.bench.close()
        event.accept()


def _open(dialog: QDialog) -> None:
    """Show a dialog over the window; it is gone once it is closed."""
    dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    dialog.open()


def _beside(dialog: QDialog) -> None:
    """Show a dialog beside the window, which goes on; it is gone once it is closed."""
    dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    dialog.show()


def first_focus(pane: QWidget) -> QWidget | None:
    """The first control of a pane that can have the focus, in the order of Tab."""
    at = pane.nextInFocusChain()
    while at is not None and at is not pane:
        if pane.isAncestorOf(at) and at.isVisible() and at.isEnabled() and at.focusPolicy() & Qt.FocusPolicy.TabFocus:
            return at
        at = at.nextInFocusChain()
    return None
