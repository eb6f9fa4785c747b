"""Opening, saving and leaving sessions, so that nothing that a user made is lost on the way."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

from PySide6.QtCore import QObject, QSettings, Signal
from PySide6.QtWidgets import QFileDialog, QWidget

from gluvo.desk.controls import dialogs
from gluvo.desk.model.patience import AT_ONCE, Patience
from gluvo.desk.model.said import Said
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.asking import SESSION_FILTER
from gluvo.desk.window.notices import Notice
from gluvo.errors import ChangedOutside, GluvoError, SessionError
from gluvo.opened.tasks import BRINGING_IN
from gluvo.session.copies import copies_left, discard
from gluvo.session.create import new_session
from gluvo.session.document import BESIDE, Document, relocated
from gluvo.session.files import answered, fitting, numbered
from gluvo.session.lock import is_held
from gluvo.session.media import audio_files
from gluvo.session.records import Session
from gluvo.session.store import SUFFIX, read_session, write_session
from gluvo.session.versions import state_of

MOST_RECENT = 8
T = TypeVar("T")


@dataclass(frozen=True)
class Recent:
    """A session that was open lately."""

    path: Path
    there: bool
    unsaved: bool
    """Whether unsaved work on it was left behind."""


class Documents(QObject):
    """What a window does with session files."""

    saved = Signal()

    def __init__(self, window: QWidget, bench: Workbench, settings: QSettings, notice: Notice) -> None:
        """`window`: what questions are asked over; `notice`: where is told what there is to be told."""
        super().__init__(window)
        self._window, self._bench, self._settings, self._notice = window, bench, settings, notice
        self._patience = Patience()

    def _attempt(self, action: Callable[[], object]) -> None:
        """Do something whose failure is the user's to know."""
        try:
            action()
        except GluvoError as error:
            self._notice.tell(str(error), True)

    # --- opening -------------------------------------------------------------------------------------------

    def open(self, path: Path) -> None:
        """Open a session; what is open now is saved or given up first, if the user says so. Raises `GluvoError`."""
        bench = self._bench
        if path.exists() or not copies_left(path, None):
            read_session(path)  # a file that cannot be read is told before anything is asked
        if not self.may_leave():
            return
        same = path.resolve() == bench.document.path.resolve()
        lock = bench.document.lock if same and bench.document.lock is not None and bench.document.lock.mine else None
        if path.exists():
            document = Document.open(path, lock)
        else:
            left = next((copy for copy in copies_left(path, None) if copy.session is not None), None)
            if left is None or left.session is None:
                raise SessionError(f"{path.name} was never saved, and what was left of it cannot be read.")
            document = Document.new(left.session, path)
            document.go_on_from(left)
            document.notes.append("This session was never saved. It goes on from the work that was left.")
            self._show(document)
            return
        self._offer_copies(document)
        self._show(document)

    def _show(self, document: Document) -> None:
        """Let the window work on a document, and say what there is to be said of it."""
        notice = self._notice
        notice.clear()
        self._bench.open(document)
        for note in document.notes:
            notice.tell(note, True)
        if document.read_only:
            notice.take(
                Said(
                    "This session is open in another window. Here it can be heard and looked at, not changed.",
                    act="Take over",
                    then=self._bench.take_over,
                    solved=lambda: not self._bench.document.read_only,
                )
            )
        self.remember(document.path)

    def _offer_copies(self, document: Document) -> None:
        """Ask about unsaved work that was left, the newest first, until one is taken."""
        for left in document.copies_left():
            if left.session is None:
                document.notes.append(
                    f"Unsaved work on this session was left, but cannot be read: {left.problem} It is kept as "
                    f"{left.path.name}."
                )
                continue
            answer = dialogs.ask(
                self._window,
                "Unsaved work was found",
                f"Gluvo ended without saving “{document.session.name}”. Go on from the unsaved work? You can undo this.",
                (
                    ("take", "Go on from it", "do"),
                    ("later", "Not now, keep it", "stay"),
                    ("lose", "Discard it", "lose"),
                ),
            )
            if answer == "lose":
                discard(left.path)
            elif answer == "take":
                document.recover(left)
                return

    def new_from(self, files: list[Path], top: Path | None = None) -> None:
        """A new session from a mix, or from stems in a folder `top`; the files are read in the background."""
        if not self.may_leave():
            return
        first = files[0].resolve()
        top = top.resolve() if top is not None else None
        name = top.name if top is not None else first.stem if len(files) == 1 else first.parent.name
        path = free((top or first.parent) / f"{fitting(name, ' ' * BESIDE)}{SUFFIX}")

        refused: list[str] = []

        def done(session: Session) -> None:
            document = Document.new(session, free(path))
            document.notes += refused
            self._show(document)
            self._bench.autosaving.autosave_now()

        self._bench.background.run(
            BRINGING_IN,
            "Bringing in " + (first.name if len(files) == 1 else f"{len(files)} stems"),
            lambda told: new_session([f.resolve() for f in files], (), path.parent, name, top, told, refused),
            done,
        )

    def new_from_stems(self, folder: Path) -> None:
        """A new session from a folder of stems; folders inside it become buses. Raises `GluvoError`."""
        self.new_from(audio_files(folder), folder)

    def open_demo(self) -> None:
        """Make the demo song, if it is not there yet, and open it."""
        from gluvo.demo.session import demo_session  # not needed on the way to the window

        self._bench.background.run(
            BRINGING_IN,
            "Making the demo song",
            lambda told: demo_session(None, told),
            lambda path: self._attempt(lambda: self.open(path)),
        )

    # --- saving --------------------------------------------------------------------------------------------

    def save(self) -> bool:
        """Save where the session belongs. False if that failed, or was not wanted after all."""
        document = self._bench.document
        if not document.session.stems:
            return False
        if document.read_only:
            return self.save_as()
        try:
            self._write()
        except ChangedOutside as error:
            return self._save_changed(str(error))
        except GluvoError as error:
            self._notice.tell(str(error), True)
            return False
        self._saved()
        return True

    def _write(self, path: Path | None = None, *, replace: bool = False) -> None:
        """Save the document; see `Document.save`."""
        document = self._bench.document
        self._patiently(lambda: document.write(path, replace=replace))()
        self._bench.autosaving.saved()

    def _patiently(self, work: Callable[[], T]) -> T:
        """What some work on the session's folder comes to; see `Patience`."""
        return self._patience(work, self._bench.document.folder)

    def _save_changed(self, what: str) -> bool:
        """The file has been changed by somebody else: nothing of either is lost unless the user says so."""
        document = self._bench.document
        answer = dialogs.ask(
            self._window,
            "The file has changed",
            f"{what} What should become of your work?",
            (
                ("copy", "Keep mine as a copy", "do"),
                ("theirs", "Take what is on disk", "other"),
                ("replace", "Replace it with mine", "lose"),
                ("stay", "Cancel", "stay"),
            ),
        )
        try:
            if answer == "copy":
                self._write(free(document.path))
            elif answer == "theirs":
                document.take_theirs()
            elif answer == "replace":
                self._write(replace=True)
            else:
                return False
        except GluvoError as error:
            self._notice.tell(str(error), True)
            return False
        self._saved()
        return True

    def save_as(self) -> bool:
        """Save under another name. False if that failed, or was not wanted after all."""
        found, _ = QFileDialog.getSaveFileName(
            self._window, "Save as", str(free(self._bench.document.path)), SESSION_FILTER
        )
        return bool(found) and self.save_under(Path(found))

    def branch(self, version: str) -> Path | None:
        """Ask where a session of its own goes that begins as a version is, and write it; where it is then."""
        start = str(free(self._bench.document.path))
        found, _ = QFileDialog.getSaveFileName(self._window, "Branch to", start, SESSION_FILTER)
        return self.branch_to(Path(found), version) if found else None

    def branch_to(self, path: Path, version: str) -> Path | None:
        """Write a session that begins as a version is; None where that failed. The open one stays as it is."""
        document = self._bench.document
        path = path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)
        try:
            if path.exists():
                raise SessionError(f"{path.name} is there already. Choose another name for the branch.")
            state = relocated(state_of(document.session, version), document.folder, path.parent)
            write_session(path, state.replace(name=path.stem), document.kept)
        except GluvoError as error:
            self._notice.tell(str(error), True)
            return None
        return path

    def save_under(self, path: Path) -> bool:
        """Save as a file that was asked for; its ending is added if it lacks it, and what then is there is asked about."""
        whole = path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)
        if whole != path and whole.exists():
            answer = dialogs.ask(
                self._window,
                "Replace the file?",
                f"{whole.name} exists already in {whole.parent}.",
                (("stay", "Cancel", "stay"), ("replace", "Replace it", "lose")),
            )
            if answer != "replace":
                return False
        try:
            self._write(whole)
        except GluvoError as error:
            self._notice.tell(str(error), True)
            return False
        self._saved()
        return True

    def _saved(self) -> None:
        self._bench.opening.check_files()
        self.remember(self._bench.document.path)
        self.saved.emit()
        self._notice.tell(f"Saved as {self._bench.document.path}.", False)

    def may_leave(self) -> bool:
        """Ask about unsaved work. False if the user would rather stay."""
        document = self._bench.document
        if not document.session.stems:
            return True
        if not document.changed:
            self._save_view()
            return True
        answer = dialogs.ask(
            self._window,
            "Save your work?",
            f"“{document.session.name}” has changes that are not saved.",
            (("save", "Save", "do"), ("discard", "Discard", "lose"), ("stay", "Cancel", "stay")),
        )
        if answer == "save":
            return self.save()
        if answer == "discard":
            self._attempt(lambda: self._patiently(document.discard_autosave))
            return True
        return False

    def _save_view(self) -> None:
        """Keep where one was looking, beside the session, which stays as it is."""
        document = self._bench.document
        if self._bench.engine is not None:
            document.look(position=self._bench.engine.position)
        self._attempt(lambda: self._patiently(document.save_history))

    # --- what was open lately ------------------------------------------------------------------------------

    def recent(self) -> list[Recent]:
        """Sessions that were open lately, the last one first, with those that have gone."""
        value = self._settings.value("recent")
        names = [value] if isinstance(value, str) else value if isinstance(value, list) else []
        found = []
        for path in (Path(name) for name in names if isinstance(name, str) and name and "\0" not in name):
            there = _exists(path)
            unsaved = bool(copies_left(path, None)) and not is_held(path) if there or _exists(path.parent) else False
            found.append(Recent(path, there, unsaved))
        return found

    def remember(self, path: Path) -> None:
        """Note that a session was open."""
        others = [r.path for r in self.recent() if r.path != path.resolve()]
        self._settings.setValue("recent", [str(p) for p in (path.resolve(), *others)][:MOST_RECENT])

    def forget(self, path: Path) -> None:
        """Take a session off the list."""
        self._settings.setValue("recent", [str(r.path) for r in self.recent() if r.path != path])


def free(path: Path) -> Path:
    """The path, or the next one with a number, that no file, unsaved work or other window has."""

    def taken(candidate: Path) -> bool:
        return candidate.exists() or is_held(candidate) or bool(copies_left(candidate, None))

    if not taken(path):
        return path
    return next(p for p in numbered(path) if p != path and not taken(p))


def _exists(path: Path) -> bool:
    try:
        return answered(path.exists, AT_ONCE)
    except (OSError, ValueError):
        return False
