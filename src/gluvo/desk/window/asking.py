"""Questions that the menus ask: for a file, a folder, a length."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QInputDialog, QMessageBox, QWidget

from gluvo import __version__
from gluvo.desk.editors.outboard_files import ask_return, ask_send, chosen_outboard
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.notes_dialog import ask_for_comments
from gluvo.desk.pages.prints_dialog import ask_for_prints
from gluvo.desk.window.audio_files import AUDIO_FILTER, AudioFiles
from gluvo.desk.window.help import ProblemDialog, open_guide
from gluvo.desk.window.song_sections import SongSections
from gluvo.measure.loudness import LOUDEST_SECONDS
from gluvo.session.album import SUFFIX as ALBUM_SUFFIX
from gluvo.session.collect import ZIP
from gluvo.session.store import SUFFIX

SESSION_FILTER = f"Gluvo sessions (*{SUFFIX})"
OPENS = f"Sessions, albums, collected sessions (*{SUFFIX} *{ALBUM_SUFFIX} *{ZIP})"
CSV_FILTER = "Sections (*.csv);;All files (*)"
COLLECTED = {
    "A folder, audio as it is (*)": (True, False),
    "A folder, plain audio as FLAC (*)": (True, True),
    "A zip file, audio as it is (*.zip)": (False, False),
    "A zip file, plain audio as FLAC (*.zip)": (False, True),
}
"""How a session can be collected: whether into a folder, and whether plain audio is packed."""


class Answering(Protocol):
    """What is done with the answers."""

    bench: Workbench
    audio_files: AudioFiles
    sections: SongSections

    def new_from(self, files: list[Path], top: Path | None = None) -> None: ...
    def new_from_stems(self, folder: Path) -> None: ...
    def open_path(self, path: Path) -> None: ...
    def collect(self, place: Path, flac: bool) -> None: ...
    def known_of_itself(self) -> dict[str, str]: ...


def ask(parent: QWidget, desk: Answering, what: str) -> None:
    """Ask one of the `QUESTIONS` and do with the answer what is to be done; nothing, if there is none."""
    QUESTIONS[what](parent, desk)


def _mix(parent: QWidget, desk: Answering) -> None:
    found, _ = QFileDialog.getOpenFileName(parent, "A stereo mix", "", AUDIO_FILTER)
    if found:
        desk.new_from([Path(found)])


def _stems(parent: QWidget, desk: Answering) -> None:
    found = QFileDialog.getExistingDirectory(parent, "A folder of stems")
    if found:
        desk.new_from_stems(Path(found))


def _session(parent: QWidget, desk: Answering) -> None:
    found, _ = QFileDialog.getOpenFileName(parent, "Open a session", "", f"{OPENS};;{AUDIO_FILTER}")
    if found:
        desk.open_path(Path(found))


def _more_stems(parent: QWidget, desk: Answering) -> None:
    found, _ = QFileDialog.getOpenFileNames(parent, "Further stems", "", AUDIO_FILTER)
    if found:
        desk.audio_files.add_stems([Path(f) for f in found])


def _prints(parent: QWidget, desk: Answering) -> None:
    ask_for_prints(parent, desk.bench)


def _comments(parent: QWidget, desk: Answering) -> None:
    ask_for_comments(parent, desk.bench)


def _send(parent: QWidget, desk: Answering) -> None:
    if (item := chosen_outboard(desk.bench)) is not None:
        ask_send(parent, desk.bench, item.id)


def _return(parent: QWidget, desk: Answering) -> None:
    if (item := chosen_outboard(desk.bench)) is not None:
        ask_return(parent, desk.bench, item.id)


def _references(parent: QWidget, desk: Answering) -> None:
    found, _ = QFileDialog.getOpenFileNames(parent, "Tracks to compare with", "", AUDIO_FILTER)
    if found:
        desk.audio_files.add_references([Path(f) for f in found])


def _loudest(parent: QWidget, desk: Answering) -> None:
    seconds, given = QInputDialog.getDouble(parent, "Loudest span", "Seconds", LOUDEST_SECONDS, 1.0, 600.0, 1)
    if given:
        desk.sections.from_loudest(seconds)


def _import(parent: QWidget, desk: Answering) -> None:
    found, _ = QFileDialog.getOpenFileName(parent, "Sections", "", CSV_FILTER)
    if found:
        desk.sections.bring_in(Path(found))


def _export(parent: QWidget, desk: Answering) -> None:
    found, _ = QFileDialog.getSaveFileName(parent, "Sections", "Sections.csv", CSV_FILTER)
    if found:
        desk.sections.give_out(Path(found))


def _collect(parent: QWidget, desk: Answering) -> None:
    found, kind = QFileDialog.getSaveFileName(
        parent, "Collect into a folder or a zip file that is not there yet", "", ";;".join(COLLECTED)
    )
    if found:
        folder, flac = COLLECTED[kind]
        desk.collect(Path(found) if folder or found.lower().endswith(".zip") else Path(f"{found}.zip"), flac)


def _about(parent: QWidget, _desk: Answering) -> None:
    QMessageBox.about(
        parent,
        "Gluvo",
        f"<b>Gluvo {__version__}</b><br>From a stereo mix to a loud, checked master.<br><br>"
        "MIT licence. Set in IBM Plex Sans Condensed (SIL Open Font License).",
    )


def _guide(parent: QWidget, _desk: Answering) -> None:
    open_guide(parent)


def _problem(parent: QWidget, desk: Answering) -> None:
    dialog = ProblemDialog(parent, desk.known_of_itself())
    dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    dialog.exec()


QUESTIONS: dict[str, Callable[[QWidget, Answering], None]] = {
    "mix": _mix,
    "stems": _stems,
    "session": _session,
    "more stems": _more_stems,
    "prints": _prints,
    "comments": _comments,
    "send": _send,
    "return": _return,
    "references": _references,
    "loudest": _loudest,
    "import sections": _import,
    "export sections": _export,
    "collect": _collect,
    "about": _about,
    "guide": _guide,
    "problem": _problem,
}
