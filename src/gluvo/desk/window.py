"""The window: pages under the bars that stay, the menus, and what is dropped on it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QElapsedTimer, QSettings, QSize, QTimer
from PySide6.QtGui import QAction, QActionGroup, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QMessageBox,
    QProgressBar,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from gluvo import __version__
from gluvo.desk.bars import MONITORS, PAGES, Header, HearRow
from gluvo.desk.deliver_page import DeliverPage, unused
from gluvo.desk.parts import button, label, line
from gluvo.desk.shape_page import ShapePage
from gluvo.desk.theme import colours, theme
from gluvo.desk.timeline import Timeline
from gluvo.desk.workbench import LOUDEST_SECONDS, Workbench
from gluvo.errors import GluvoError
from gluvo.measure.trace import Span
from gluvo.play.device import SILENT, outputs
from gluvo.session.create import new_session, reference_of
from gluvo.session.document import Document, autosave_of, recoverable
from gluvo.session.media import AUDIO_SUFFIXES, audio_files, media_of
from gluvo.session.records import Reference, Section, Session
from gluvo.session.store import SUFFIX

TICK_MS = 33
MOST_RECENT = 8
AUDIO_FILTER = f"Audio ({' '.join('*' + s for s in AUDIO_SUFFIXES)});;All files (*)"
SESSION_FILTER = f"Gluvo sessions (*{SUFFIX})"


class Window(QMainWindow):
    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.settings = QSettings("gluvo", "gluvo")
        self.setMinimumSize(1120, 700)
        self.setAcceptDrops(True)
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.header, self.hear_row, self.timeline = Header(bench), HearRow(bench), Timeline(bench)
        self.shape, self.deliver = ShapePage(bench), DeliverPage(bench)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.shape)
        self.pages.addWidget(self.deliver)
        self.notice = Notice()
        for widget in (self.header, line(), self.hear_row, line(), self.timeline, line(), self.notice):
            column.addWidget(widget)
        column.addWidget(self.pages, 1)
        self.work = WorkLine(bench)
        column.addWidget(self.work)
        self.setCentralWidget(body)
        self._recent_menu = QMenu("Open recent", self)
        self._build_menus()
        bench.session_changed.connect(self._session_changed)
        bench.told.connect(self.notice.tell)
        bench.missing_found.connect(self._tell_missing)
        theme.changed.connect(self._dress)
        self._dress()
        self._clock = QElapsedTimer()
        self._clock.start()
        self._timer = QTimer(self, interval=TICK_MS)
        self._timer.timeout.connect(self._tick)
        self._timer.start()
        geometry = self.settings.value("geometry")
        if geometry:
            self.restoreGeometry(geometry)
        else:
            self.resize(QSize(1280, 800))

    # --- documents -----------------------------------------------------------------------------------------

    def open_path(self, path: Path) -> None:
        """Open a session; or make one, if it is audio. Trouble is told, and leaves things as they are."""
        path = path.resolve()
        if path.suffix.lower() == SUFFIX or (path.exists() and path.suffix.lower() not in AUDIO_SUFFIXES):
            self._try(lambda: self._open_session(path))
        else:
            self.new_from([path])

    def _open_session(self, path: Path) -> None:
        document = Document.open(path)
        if not self._may_leave():
            return
        if recoverable(path):
            answer = QMessageBox.question(
                self, "Unsaved work was found",
                f"Gluvo ended without saving “{document.session.name}”. Go on from the unsaved work?\n\n"
                "You can undo this. Choosing No keeps the copy until you next save.",
            )  # fmt: skip
            if answer == QMessageBox.StandardButton.Yes:
                document.recover()
        self.bench.open(document)
        self._remember(path)

    def play_once(self) -> None:
        """Start playing as soon as there is something to play; only the first time."""
        if self.bench.engine is not None:
            self.bench.audio_changed.disconnect(self.play_once)
            self.bench.engine.play()

    def new_from(self, files: list[Path]) -> None:
        """A new session from a mix, or from stems that are summed; the files are read in the background."""
        if not self._may_leave():
            return
        first = files[0].resolve()
        name = first.stem if len(files) == 1 else first.parent.name
        path = unused(first.parent / f"{name}{SUFFIX}")
        self.bench.task(
            "Reading audio", lambda _: new_session([f.resolve() for f in files], (), path.parent, name),
            lambda session: self.bench.open(Document(session, path)),  # type: ignore[arg-type]
        )  # fmt: skip

    def save(self) -> bool:
        """Save where the session belongs. False if that failed."""
        try:
            self.bench.document.save()
        except GluvoError as error:
            self.notice.tell(str(error), True)
            return False
        self._remember(self.bench.document.path)
        self.header.refresh()
        self.notice.tell(f"Saved as {self.bench.document.path}.", False)
        return True

    def save_as(self) -> bool:
        found, _ = QFileDialog.getSaveFileName(self, "Save as", str(self.bench.document.path), SESSION_FILTER)
        if not found:
            return False
        path = Path(found)
        path = path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)
        try:
            self.bench.document.save(path)
        except GluvoError as error:
            self.notice.tell(str(error), True)
            return False
        self._remember(path)
        return True

    def _may_leave(self) -> bool:
        """Ask about unsaved work. False if the user would rather stay."""
        document = self.bench.document
        if not document.changed:
            if document.session.sources:
                self._keep_view()
            return True
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self, "Save your work?", f"“{document.session.name}” has changes that are not saved.",
            buttons.Save | buttons.Discard | buttons.Cancel, buttons.Save,
        )  # fmt: skip
        if answer == buttons.Save:
            return self.save()
        if answer == buttons.Discard:
            document.discard_autosave()
            return True
        return False

    def _keep_view(self) -> None:
        """Keep where one was looking, if there is nothing else to save."""
        document = self.bench.document
        if self.bench.engine is not None:
            document.look(position=self.bench.engine.position)
        if document.path.exists() and not autosave_of(document.path).exists():
            self._try(document.save)

    # --- media ---------------------------------------------------------------------------------------------

    def add_references(self, paths: list[Path]) -> None:
        """Bring in tracks to compare with; read in the background."""
        session, folder = self.bench.session, self.bench.document.folder
        if not session.sources:
            self.notice.tell("Bring in a mix first; then references to compare it with.", True)
            return

        def work(_: object) -> object:
            return [reference_of(path.resolve(), folder, 0) for path in paths]

        def done(found: object) -> None:
            for reference in found:  # type: ignore[attr-defined]
                self.bench.edit(f"Add reference {reference.name}", partial(_with_reference, reference))

        self.bench.task("Reading references", work, done)

    def remove_reference(self, id: str) -> None:
        self.bench.edit(
            "Remove reference", lambda s: s.replace(references=tuple(r for r in s.references if r.id != id))
        )

    def _tell_missing(self) -> None:
        missing = self.bench.audio.missing
        names = ", ".join(media.path.rsplit("/", 1)[-1] for media, _ in missing[:3])
        more = f" and {len(missing) - 3} more" if len(missing) > 3 else ""
        self.notice.tell(f"Missing or unreadable: {names}{more}. {missing[0][1]}", True, "Locate…", self.locate)

    def locate(self) -> None:
        """Ask for the folder or file of each missing piece of audio."""
        for media, _ in self.bench.audio.missing:
            name = media.path.rsplit("/", 1)[-1]
            found, _filter = QFileDialog.getOpenFileName(
                self, f"Where is {name}?", str(self.bench.document.folder), AUDIO_FILTER
            )
            if not found:
                return
            self.relocate(media.path, Path(found))

    def relocate(self, old: str, path: Path) -> None:
        """Use another file in place of one that is missing."""

        def edit() -> None:
            media = media_of(path.resolve(), self.bench.document.folder)

            def changed(session: Session) -> Session:
                return session.replace(
                    sources=tuple(media if m.path == old else m for m in session.sources),
                    references=tuple(
                        Reference(id=r.id, name=r.name, media=media) if r.media.path == old else r
                        for r in session.references
                    ),
                )

            self.bench.edit(f"Locate {path.name}", changed)

        self._try(edit)

    # --- sections ------------------------------------------------------------------------------------------

    def choose_section(self, by: int) -> None:
        """The next or the previous section; past the ends lies the whole song."""
        ids = ["", *(s.id for s in self.bench.session.sections)]
        now = self.bench.session.view.section
        index = (ids.index(now) + by) % len(ids) if now in ids else 0
        self.bench.document.look(section=ids[index])
        section = self.bench.session.section(ids[index])
        if section is not None:
            self.bench.seek(section.start)

    def section_from_loudest(self) -> None:
        start = self.bench.loudest()
        if start is None:
            self.notice.tell("The song is not measured yet, or shorter than that.", True)
            return
        session = self.bench.session
        section = Section(
            id=session.fresh_id("section"), name=f"Loudest {LOUDEST_SECONDS:.0f} s", start=round(start, 3),
            end=round(start + LOUDEST_SECONDS, 3),
        )  # fmt: skip
        self.bench.edit("Add section", lambda s: s.replace(sections=(*s.sections, section)))
        self.bench.document.look(section=section.id)

    def section_from_view(self) -> None:
        """The stretch that the timeline shows, as a section."""
        view, session = self.timeline.view, self.bench.session
        number = len(session.sections) + 1
        section = Section(
            id=session.fresh_id("section"), name=f"Section {number}", start=round(view.start, 3), end=round(view.end, 3)
        )
        self.bench.edit("Add section", lambda s: s.replace(sections=(*s.sections, section)))
        self.bench.document.look(section=section.id)

    # --- menus ---------------------------------------------------------------------------------------------

    def _build_menus(self) -> None:
        ledger, bench, bar = self.shape.ledger, self.bench, self.menuBar()
        file = bar.addMenu("&File")
        self._action(file, "New from a mix…", "Ctrl+N", self._ask_mix, "Start a session with a stereo mix.")
        self._action(
            file,
            "New from stems…",
            "Ctrl+Shift+N",
            self._ask_stems,
            "Start a session with a folder of stems, which are summed.",
        )
        self._action(file, "Open…", "Ctrl+O", self._ask_open, "Open a session.")
        file.addMenu(self._recent_menu)
        self._recent_menu.aboutToShow.connect(self._fill_recent)
        file.addSeparator()
        self._action(file, "Save", "Ctrl+S", self.save, "Save the session.")
        self._action(file, "Save as…", "Ctrl+Shift+S", self.save_as, "Save the session somewhere else.")
        file.addSeparator()
        self._action(file, "Add references…", "Ctrl+Shift+R", self._ask_references, "Bring in tracks to compare with.")
        self._reference_menu = file.addMenu("Remove reference")
        self._reference_menu.aboutToShow.connect(self._fill_references)
        self._action(file, "Locate missing audio…", "", self.locate, "Say where files are that were not found.")
        file.addSeparator()
        self._action(file, "Write all deliverables", "Ctrl+E", self.deliver.write_all, "Render, write and measure.")
        file.addSeparator()
        self._action(file, "Stop long work", "Esc", self._escape, "Stop reading, searching or writing.")
        self._action(file, "Quit", "Ctrl+Q", self.close, "Close Gluvo.")
        edit = bar.addMenu("&Edit")
        self._undo = self._action(edit, "Undo", "Ctrl+Z", lambda: bench.document.undo(), "")
        self._redo = self._action(edit, "Redo", "Ctrl+Shift+Z", lambda: bench.document.redo(), "")
        edit.addSeparator()
        self._action(edit, "Cut step", "Ctrl+X", ledger.cut, "Take the chosen step out, to put it in elsewhere.")
        self._action(edit, "Copy step", "Ctrl+C", ledger.copy, "Remember the chosen step.")
        self._action(edit, "Paste step", "Ctrl+V", ledger.paste, "Put the remembered step in after the chosen one.")
        chain = bar.addMenu("&Chain")
        chain.addMenu(ledger.add_menu())
        self._action(chain, "Remove step", "Ctrl+Backspace", ledger.remove, "Take the chosen step out.")
        self._action(
            chain,
            "Step on or off",
            "Ctrl+B",
            lambda: ledger.switch(),
            "Let the sound pass the chosen step untouched, or not.",
        )
        self._action(chain, "Move step earlier", "Ctrl+Up", lambda: ledger.shift(-1), "")
        self._action(chain, "Move step later", "Ctrl+Down", lambda: ledger.shift(1), "")
        self._action(chain, "Previous step", "[", lambda: self._choose_step(-1), "")
        self._action(chain, "Next step", "]", lambda: self._choose_step(1), "")
        chain.addSeparator()
        self._action(
            chain,
            "Find threshold",
            "T",
            lambda: bench.find_threshold(bench.session.view.step),
            "For the aim of the chosen Glue.",
        )
        self._action(chain, "Reach the target's loudness", "Ctrl+R", bench.reach_target, "Drive the last limiter.")
        listen = bar.addMenu("&Listen")
        self._action(listen, "Play or stop", "Space", bench.toggle_play, "")
        self._action(listen, "Loop", "L", lambda: bench.document.look(loop=not bench.session.view.loop), "")
        self._action(listen, "To the section's start", "Home", self._to_start, "")
        listen.addSeparator()
        for n in range(1, 10):
            action = self._action(listen, f"Hear {n}", str(n), partial(self._hear, n), "")
            action.setVisible(n <= 4)
            if n <= 4:
                action.setText(f"Hear {('the result', 'untouched', 'without the step', 'the change only')[n - 1]}")
        self._action(
            listen,
            "Level-matched",
            "M",
            lambda: bench.document.look(level_matched=not bench.session.view.level_matched),
            "",
        )
        monitor = listen.addMenu("Monitor view")
        for key, text, tip in MONITORS:
            self._action(
                monitor,
                text,
                f"Alt+{MONITORS.index((key, text, tip)) + 1}",
                partial(bench.document.look, monitor=key),
                tip,
            )
        self._action(listen, "Dim", "D", lambda: bench.document.look(dim=not bench.session.view.dim), "")
        self._device_menu = listen.addMenu("Device")
        self._device_menu.aboutToShow.connect(self._fill_devices)
        song = bar.addMenu("&Song")
        self._action(song, "Next section", "N", lambda: self.choose_section(1), "")
        self._action(song, "Previous section", "P", lambda: self.choose_section(-1), "")
        self._action(song, "Whole song", "W", lambda: bench.document.look(section=""), "")
        self._action(song, f"Loudest {LOUDEST_SECONDS:.0f} s as a section", "Ctrl+L", self.section_from_loudest, "")
        self._action(song, "What is in view as a section", "Ctrl+Shift+L", self.section_from_view, "")
        song.addSeparator()
        self._action(song, "Zoom in", "Ctrl++", lambda: self.timeline.zoom(0.5), "")
        self._action(song, "Zoom out", "Ctrl+-", lambda: self.timeline.zoom(2.0), "")
        self._action(song, "Zoom to the section", "Ctrl+G", lambda: self.timeline.zoom_to(bench.span), "")
        self._action(song, "Zoom to samples", "Ctrl+Shift+G", self._zoom_to_samples, "")
        self._action(song, "All of the song", "Ctrl+0", lambda: self.timeline.zoom_to(None), "")
        view = bar.addMenu("&View")
        for n, (key, text) in enumerate(PAGES, start=1):
            self._action(view, text, f"Ctrl+{n}", partial(bench.document.look, page=key), "")
        view.addSeparator()
        group = QActionGroup(self)
        for text, night in (("As the desktop", None), ("Day", False), ("Night", True)):
            action = self._action(view, text, "", partial(self._choose_theme, night), "")
            action.setCheckable(True)
            action.setChecked(theme.forced is night)
            group.addAction(action)
        help_menu = bar.addMenu("&Help")
        self._action(help_menu, "Keys", "F1", self._show_keys, "")
        self._action(help_menu, "About Gluvo", "", self._about, "")

    def _action(self, menu: QMenu, text: str, key: str, then: Callable[[], object], tip: str) -> QAction:
        action = QAction(text, self)
        if key:
            action.setShortcut(QKeySequence(key))
        if tip:
            action.setToolTip(tip)
            action.setStatusTip(tip)
        action.triggered.connect(lambda *_: then())
        menu.addAction(action)
        self.addAction(action)
        return action

    def _ask_mix(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self, "A stereo mix", "", AUDIO_FILTER)
        if found:
            self.new_from([Path(found)])

    def _ask_stems(self) -> None:
        found = QFileDialog.getExistingDirectory(self, "A folder of stems")
        if found:
            self._try(lambda: self.new_from(audio_files(Path(found))))

    def _ask_open(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self, "Open a session", "", f"{SESSION_FILTER};;{AUDIO_FILTER}")
        if found:
            self.open_path(Path(found))

    def _ask_references(self) -> None:
        found, _ = QFileDialog.getOpenFileNames(self, "Tracks to compare with", "", AUDIO_FILTER)
        if found:
            self.add_references([Path(f) for f in found])

    def recent(self) -> list[Path]:
        """Sessions that were open lately and still exist, the last one first."""
        value = self.settings.value("recent") or []
        names = [value] if isinstance(value, str) else list(value)
        return [Path(n) for n in names if Path(n).exists()]

    def _remember(self, path: Path) -> None:
        others = [p for p in self.recent() if p != path.resolve()]
        self.settings.setValue("recent", [str(p) for p in (path.resolve(), *others)][:MOST_RECENT])

    def _fill_recent(self) -> None:
        self._recent_menu.clear()
        for path in self.recent():
            self._recent_menu.addAction(str(path)).triggered.connect(lambda _=False, path=path: self.open_path(path))
        if self._recent_menu.isEmpty():
            self._recent_menu.addAction("None yet").setEnabled(False)

    def _fill_references(self) -> None:
        self._reference_menu.clear()
        for r in self.bench.session.references:
            self._reference_menu.addAction(r.name).triggered.connect(lambda _=False, id=r.id: self.remove_reference(id))
        if self._reference_menu.isEmpty():
            self._reference_menu.addAction("None").setEnabled(False)

    def _fill_devices(self) -> None:
        self._device_menu.clear()
        names = [("", "Default"), (SILENT, "Silent device"), *((name, name) for _, name in outputs())]
        for key, text in names:
            action = self._device_menu.addAction(text)
            action.setCheckable(True)
            action.setChecked(key == self.bench.device_choice)
            action.triggered.connect(lambda _=False, key=key: self._choose_device(key))

    def _choose_device(self, key: str) -> None:
        self.settings.setValue("device", key)
        self.bench.choose_device(key)

    def _choose_theme(self, night: bool | None) -> None:
        self.settings.setValue("night", {None: "", False: "day", True: "night"}[night])
        theme.force(night)

    def _choose_step(self, by: int) -> None:
        ids = ["", *(s.id for s in self.bench.session.chain)]
        now = self.bench.session.view.step
        index = ids.index(now) + by if now in ids else 0
        self.bench.document.look(step=ids[min(max(0, index), len(ids) - 1)])

    def _hear(self, n: int) -> None:
        choices = self.bench.hear_choices()
        if n <= len(choices):
            self.bench.hear(choices[n - 1][0])

    def _to_start(self) -> None:
        span = self.bench.span
        self.bench.seek(span.start if span else 0.0)

    def _zoom_to_samples(self) -> None:
        song, engine = self.bench.audio.song, self.bench.engine
        if song is not None and engine is not None:
            at = engine.position
            flat = self.bench.audio.flat
            if flat:  # the nearest flat top, since that is what one zooms in to see
                at = min((t.start / song.rate for t in flat), key=lambda s: abs(s - at))
            self.timeline.zoom_to(Span(at - 60 / song.rate, at + 100 / song.rate))

    def _show_keys(self) -> None:
        rows = []
        for action in self.actions():
            key = action.shortcut().toString()
            if key and action.isVisible():
                rows.append(
                    f"<tr><td style='padding-right:24px'><b>{key}</b></td><td>{action.text().replace('&', '')}</td></tr>"
                )
        half = (len(rows) + 1) // 2
        tables = "".join(
            f"<td style='padding-right:36px'><table>{''.join(part)}</table></td>" for part in (rows[:half], rows[half:])
        )
        QMessageBox.information(self, "Keys", f"<table><tr>{tables}</tr></table>")

    def _about(self) -> None:
        QMessageBox.about(
            self, "Gluvo", f"<b>Gluvo {__version__}</b><br>From a stereo mix to a loud, checked master.<br><br>MIT licence. "
            "Set in IBM Plex Sans Condensed (SIL Open Font License).",
        )  # fmt: skip

    # --- events --------------------------------------------------------------------------------------------

    def _session_changed(self, before: Session, now: Session) -> None:
        document = self.bench.document
        for action, word, name in ((self._undo, "Undo", document.undo_name), (self._redo, "Redo", document.redo_name)):
            action.setEnabled(name is not None)
            action.setText(f"{word} {name}" if name else word)
        self.setWindowTitle(f"{now.name}{' *' if document.changed else ''} – Gluvo")
        self.pages.setCurrentIndex([key for key, _ in PAGES].index(now.view.page))

    def _tick(self) -> None:
        elapsed = self._clock.restart() / 1000.0
        self.header.tick()
        engine = self.bench.engine
        if engine is not None:
            self.timeline.show_position(engine.position)
            self.shape.tick(engine.read(), elapsed)

    def _try(self, action: Callable[[], None]) -> None:
        """Do something whose failure is the user's to know."""
        try:
            action()
        except GluvoError as error:
            self.notice.tell(str(error), True)

    def _dress(self) -> None:
        self.menuBar().setStyleSheet("")
        self.update()

    def _escape(self) -> None:
        """Leave what has the focus, and stop long work."""
        self.bench.cancel_task()
        self.setFocus()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        event.acceptProposedAction()
        self.dropped(paths)

    def dropped(self, paths: list[Path]) -> None:
        """A session opens; a folder is stems; audio is a mix, or references if there is a mix already."""
        if not paths:
            return
        if paths[0].suffix.lower() == SUFFIX:
            self.open_path(paths[0])
        elif paths[0].is_dir():
            self._try(lambda: self.new_from(audio_files(paths[0])))
        elif self.bench.session.sources:
            self.add_references(paths)
        else:
            self.new_from(paths)

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_leave():
            event.ignore()
            return
        self._timer.stop()
        self.settings.setValue("geometry", self.saveGeometry())
        self.bench.close()
        event.accept()


def _with_reference(reference: Reference, session: Session) -> Session:
    new = Reference(id=session.fresh_id("reference"), name=reference.name, media=reference.media)
    return session.replace(references=(*session.references, new))


class Notice(QWidget):
    """A sentence under the timeline, with something to do about it if there is."""

    def __init__(self) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 5, 10, 5)
        self.text = label("")
        self.text.setWordWrap(True)
        row.addWidget(self.text, 1)
        self.act = button("", "")
        row.addWidget(self.act)
        row.addWidget(button("Close", "Take this message away.", self.hide, "plain"))
        self._then: Callable[[], None] | None = None
        self.act.clicked.connect(lambda: self._then() if self._then else None)
        self._timer = QTimer(self, singleShot=True, interval=6000)
        self._timer.timeout.connect(self.hide)
        self.hide()

    def tell(self, text: str, trouble: bool, act: str = "", then: Callable[[], None] | None = None) -> None:
        """Show a sentence; good news goes away by itself."""
        c = colours()
        self.text.setText(f"<b style='color:{c.over}'>Please note:</b> {text}" if trouble else text)
        self.setAccessibleName(text)
        self.act.setVisible(bool(act))
        self.act.setText(act)
        self._then = then
        self.show()
        if trouble:
            self._timer.stop()
        else:
            self._timer.start()


class WorkLine(QWidget):
    """What goes on in the background, and a way to stop it. Always there, so that nothing jumps."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.setFixedHeight(20)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 12, 2)
        self.text = label("", "caption")
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(160)
        self.bar.setRange(0, 1000)
        self.stop = button("Stop", "Stop this (Esc).", bench.cancel_task, "plain")
        self.stop.setStyleSheet("padding: 0 4px; font-size: 11px;")
        row.addWidget(self.text)
        row.addWidget(self.bar)
        row.addWidget(self.stop)
        row.addStretch(1)
        bench.progressed.connect(self.show_progress)
        self.show_progress("", 0.0)

    def show_progress(self, what: str, share: float) -> None:
        self.text.setText(what)
        self.bar.setValue(round(1000 * share))
        self.bar.setVisible(bool(what))
        self.stop.setVisible(bool(what) and not what.startswith("Measuring"))
