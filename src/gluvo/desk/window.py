"""The window: pages under the bars that stay, the menus, and what is dropped on it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QElapsedTimer, QSettings, QSize, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import (
    QFileDialog,
    QMainWindow,
    QMessageBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from gluvo.desk.bars import PAGES, Header, HearRow
from gluvo.desk.buses_page import BusesPage
from gluvo.desk.deliver_page import DeliverPage, unused
from gluvo.desk.menus import AUDIO_FILTER, SESSION_FILTER, Menus
from gluvo.desk.notices import Notice, WorkLine
from gluvo.desk.parts import line
from gluvo.desk.shape_page import ShapePage
from gluvo.desk.theme import theme
from gluvo.desk.timeline import Timeline
from gluvo.desk.workbench import LOUDEST_SECONDS, Workbench
from gluvo.errors import GluvoError
from gluvo.session.create import new_session, reference_of, stems_added, with_media
from gluvo.session.document import Document, autosave_of, recoverable
from gluvo.session.media import AUDIO_SUFFIXES, audio_files, media_of
from gluvo.session.records import Reference, Session, Stem
from gluvo.session.sections import read_csv, with_section, write_csv
from gluvo.session.store import SUFFIX

TICK_MS = 33
MOST_RECENT = 8


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
        self.buses, self.shape, self.deliver = BusesPage(bench), ShapePage(bench), DeliverPage(bench)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.buses)
        self.pages.addWidget(self.shape)
        self.pages.addWidget(self.deliver)
        self.notice = Notice()
        for widget in (self.header, line(), self.hear_row, line(), self.timeline, line(), self.notice):
            column.addWidget(widget)
        column.addWidget(self.pages, 1)
        self.work = WorkLine(bench)
        column.addWidget(self.work)
        self.setCentralWidget(body)
        self.menus = Menus(self)
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
            self.attempt(lambda: self._open_session(path))
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

    def new_from(self, files: list[Path], top: Path | None = None) -> None:
        """A new session from a mix, or from stems in a folder `top`; the files are read in the background."""
        if not self._may_leave():
            return
        first = files[0].resolve()
        top = top.resolve() if top is not None else None
        name = top.name if top is not None else first.stem if len(files) == 1 else first.parent.name
        path = unused((top or first.parent) / f"{name}{SUFFIX}")
        self.bench.task(
            "Reading audio", lambda _: new_session([f.resolve() for f in files], (), path.parent, name, top),
            lambda session: self.bench.open(Document(session, path)),  # type: ignore[arg-type]
        )  # fmt: skip

    def new_from_stems(self, folder: Path) -> None:
        """A new session from a folder of stems; folders inside it become buses."""
        self.attempt(lambda: self.new_from(audio_files(folder), folder))

    def add_stems(self, paths: list[Path]) -> None:
        """Bring further stems into the open session; read in the background."""
        session, folder = self.bench.session, self.bench.document.folder
        known = {s.id for s in session.stems}

        def done(found: object) -> None:
            assert isinstance(found, Session)
            new = tuple(s for s in found.stems if s.id not in known)
            self.bench.edit(
                f"Add {len(new)} stem{'s' if len(new) > 1 else ''}",
                lambda s: s.replace(rate=found.rate, strips=(*s.strips, *new)),
            )

        self.bench.task("Reading stems", lambda _: stems_added(session, [p.resolve() for p in paths], folder), done)

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
            if document.session.stems:
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
            self.attempt(document.save)

    # --- media ---------------------------------------------------------------------------------------------

    def add_references(self, paths: list[Path]) -> None:
        """Bring in tracks to compare with; read in the background."""
        session, folder = self.bench.session, self.bench.document.folder
        if not session.stems:
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
            folder = self.bench.document.folder
            media = media_of(path.resolve(), folder)

            def changed(session: Session) -> Session:
                return session.replace(
                    strips=tuple(
                        with_media(s, path.resolve(), folder) if isinstance(s, Stem) and s.media.path == old else s
                        for s in session.strips
                    ),
                    references=tuple(
                        Reference(id=r.id, name=r.name, media=media) if r.media.path == old else r
                        for r in session.references
                    ),
                )

            self.bench.edit(f"Locate {path.name}", changed)

        self.attempt(edit)

    # --- sections ------------------------------------------------------------------------------------------

    def choose_section(self, by: int) -> None:
        """The next or the previous section; past the ends lies the whole song."""
        ids = ["", *(s.id for s in self.bench.session.sections)]
        now = self.bench.session.view.section
        index = (ids.index(now) + by) % len(ids) if now in ids else 0
        self.bench.look(section=ids[index])
        section = self.bench.session.section(ids[index])
        if section is not None:
            self.bench.seek(section.start)

    def section_from_loudest(self, seconds: float = LOUDEST_SECONDS) -> None:
        """The loudest stretch of that length, as a section that is chosen."""
        start = self.bench.loudest(seconds)
        if start is None:
            self.notice.tell("The song is not measured yet, or shorter than that.", True)
            return
        self.add_section(f"Loudest {seconds:g} s", start, start + seconds)

    def section_from_view(self) -> None:
        """The stretch that the timeline shows, as a section."""
        view = self.timeline.view
        self.add_section(f"Section {len(self.bench.session.sections) + 1}", view.start, view.end)

    def add_section(self, name: str, start: float, end: float) -> None:
        session, made = with_section(self.bench.session, name, start, end)
        self.bench.edit("Add section", lambda s: s.replace(sections=session.sections))
        self.bench.look(section=made.id)

    def import_sections(self, path: Path) -> None:
        """Take the sections from a CSV file, in place of those that are there; can be undone."""

        def take() -> None:
            found = read_csv(path, self.bench.session)
            self.bench.look(section="")
            self.bench.edit("Import sections", lambda s: s.replace(sections=found.sections))

        self.attempt(take)

    def export_sections(self, path: Path) -> None:
        def give() -> None:
            write_csv(path, self.bench.session)
            self.notice.tell(f"Sections written to {path}.", False)

        self.attempt(give)

    def recent(self) -> list[Path]:
        """Sessions that were open lately and still exist, the last one first."""
        value = self.settings.value("recent") or []
        names = [value] if isinstance(value, str) else list(value)
        return [Path(n) for n in names if Path(n).exists()]

    def _remember(self, path: Path) -> None:
        others = [p for p in self.recent() if p != path.resolve()]
        self.settings.setValue("recent", [str(p) for p in (path.resolve(), *others)][:MOST_RECENT])

    # --- events --------------------------------------------------------------------------------------------

    def _session_changed(self, before: Session, now: Session) -> None:
        self.menus.show_history()
        document = self.bench.document
        self.setWindowTitle(f"{now.name}{' *' if document.changed else ''} – Gluvo")
        self.pages.setCurrentIndex([key for key, _ in PAGES].index(now.view.page))

    def _tick(self) -> None:
        elapsed = self._clock.restart() / 1000.0
        self.header.tick()
        engine = self.bench.engine
        if engine is not None:
            self.timeline.show_position(engine.position)
            readings = engine.read()
            self.shape.tick(readings, elapsed)
            self.buses.tick(readings, elapsed)

    def attempt(self, action: Callable[[], None]) -> None:
        """Do something whose failure is the user's to know."""
        try:
            action()
        except GluvoError as error:
            self.notice.tell(str(error), True)

    def _dress(self) -> None:
        self.menuBar().setStyleSheet("")
        self.update()

    def leave(self) -> None:
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
        """A session opens; a folder is stems; audio is a mix. If there is one already: on the Buses page stems, on the
        others references."""
        if not paths:
            return
        if paths[0].suffix.lower() == SUFFIX:
            self.open_path(paths[0])
        elif paths[0].is_dir():
            self.new_from_stems(paths[0])
        elif self.bench.session.stems and self.bench.session.view.page == "buses":
            self.add_stems(paths)
        elif self.bench.session.stems:
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
