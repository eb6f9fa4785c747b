"""The audio files of the open session: brought in, found again where they have moved, and told of where they are others."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import msgspec
from PySide6.QtWidgets import QFileDialog, QWidget

from gluvo.desk.model.said import Said
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.notices import Notice
from gluvo.errors import AudioFileError
from gluvo.opened.tasks import ADDING
from gluvo.progress import Progress
from gluvo.session.create import reference_of, stems_added, with_reference
from gluvo.session.media import media_of
from gluvo.session.media_places import with_media
from gluvo.session.records import Media, Reference, Session, Stem
from gluvo.session.sounds import AUDIO_SUFFIXES, header_of

AUDIO_FILTER = f"Audio ({' '.join('*' + s for s in AUDIO_SUFFIXES)});;All files (*)"


class AudioFiles:
    """Brings files in, in the background, and asks for those that are missing."""

    def __init__(self, window: QWidget, bench: Workbench, notice: Notice) -> None:
        """`window`: over which it asks."""
        self._window, self._bench, self._notice = window, bench, notice
        bench.opening.missing_found.connect(self.tell_missing)
        bench.opening.changed_found.connect(self.tell_changed)
        bench.opening.spoilt_found.connect(self.tell_spoilt)

    def add_stems(self, paths: list[Path]) -> None:
        """Bring further stems into the open session; read in the background."""
        session, folder = self._bench.session, self._bench.document.folder
        known = {s.id for s in session.stems}
        refused: list[str] = []

        def done(found: Session) -> None:
            self._tell_refused(refused)
            new = tuple(s for s in found.stems if s.id not in known)
            self._bench.edit(
                f"Add {len(new)} stem{'s' if len(new) > 1 else ''}",
                lambda s: s.replace(rate=found.rate, strips=(*s.strips, *new)),
            )

        self._bench.background.run(
            ADDING,
            "Bringing in stems",
            lambda told: stems_added(session, [p.resolve() for p in paths], folder, told, refused),
            done,
        )

    def _tell_refused(self, refused: list[str]) -> None:
        """Tell of files that could not be taken, each in its sentence."""
        for sentence in refused[::-1]:
            self._bench.tell(sentence, True)

    def add_references(self, paths: list[Path]) -> None:
        """Bring in tracks to compare with; read in the background."""
        session, folder = self._bench.session, self._bench.document.folder
        if not session.stems:
            self._notice.tell("Bring in a mix first; then references to compare it with.", True)
            return

        refused: list[str] = []

        def work(told: Progress) -> list[Reference]:
            found = []
            for n, path in enumerate(paths):
                try:
                    found.append(reference_of(path.resolve(), folder, lambda d, n=n: told((n + d) / len(paths))))  # type: ignore[misc]
                except AudioFileError as error:
                    refused.append(str(error))
            return found

        def done(found: list[Reference]) -> None:
            self._tell_refused(refused)
            for reference in found:
                self._bench.edit(f"Add reference {reference.name}", partial(with_reference, reference=reference))

        self._bench.background.run(ADDING, "Bringing in references", work, done)

    def remove_reference(self, id: str) -> None:
        self._bench.edit(
            "Remove reference", lambda s: s.replace(references=tuple(r for r in s.references if r.id != id))
        )

    def tell_missing(self) -> None:
        missing = self._bench.audio.missing
        names = ", ".join(media.path.rsplit("/", 1)[-1] for media, _ in missing[:3])
        more = f" and {len(missing) - 3} more" if len(missing) > 3 else ""
        audio = self._bench.audio
        self._notice.take(
            Said(
                f"Missing or unreadable: {names}{more}. {missing[0][1]}",
                act="Locate…",
                then=self.locate,
                solved=lambda: self._bench.audio is not audio,
            )
        )

    def locate(self) -> None:
        """Ask for the folder or file of each missing piece of audio."""
        for media, _ in self._bench.audio.missing:
            name = media.path.rsplit("/", 1)[-1]
            found, _filter = QFileDialog.getOpenFileName(
                self._window, f"Where is {name}?", str(self._bench.document.folder), AUDIO_FILTER
            )
            if not found:
                return
            self.relocate(media.path, Path(found))

    def relocate(self, old: str, path: Path) -> None:
        """Use another file in place of one that is missing; it is read in the background."""
        folder = self._bench.document.folder

        def changed(session: Session, media: Media, mono: bool) -> Session:
            strips = tuple(
                msgspec.structs.replace(s, mono=mono) if isinstance(s, Stem) and s.media.path == old else s
                for s in session.strips
            )
            found = session.replace(
                strips=strips,
                prints=tuple(
                    msgspec.structs.replace(p, mono=mono) if p.media.path == old else p for p in session.prints
                ),
            )
            now = found.replace(versions=(), deliveries=())  # what was kept stays what it was
            now = with_media(now, lambda m: media if m.path == old else m)
            return now.replace(versions=found.versions, deliveries=found.deliveries)

        self._bench.background.run(
            ADDING,
            f"Bringing in {path.name}",
            lambda told: (media_of(path.resolve(), folder, told), header_of(path).channels == 1),
            lambda found: self._bench.edit(f"Locate {path.name}", lambda s: changed(s, *found)),
        )

    def tell_changed(self) -> None:
        """Audio files are others than were brought in: they are taken as they are now only if the user says so."""
        changed = list(self._bench.audio.changed.values())
        more = (
            f" {len(changed) - 1} more {'has' if len(changed) == 2 else 'have'} changed, too."
            if len(changed) > 1
            else ""
        )
        silent = (self._bench.audio.missing and " Until it is taken, it is silent.") or " What plays is what it was."
        told = self._bench.audio.changed
        self._notice.take(
            Said(
                f"{changed[0].words}{more}{silent}",
                act="Take as it is now",
                then=self._bench.opening.take_changed,
                solved=lambda: self._bench.audio.changed != told,
            )
        )

    def tell_spoilt(self) -> None:
        """Files that were read are gone or damaged: what plays is in memory, but the session could not be opened again."""
        for path, words in self._bench.audio.spoilt.items():
            self._notice.take(
                Said(
                    f"{words} What plays is what it was; the session needs the file when it is opened again.",
                    act="Use another file…",
                    then=partial(self.use_another, path),
                    solved=lambda path=path: path not in self._bench.audio.spoilt,  # type: ignore[misc]
                )
            )

    def use_another(self, path: str) -> None:
        """Ask for a file to be used in place of one of the session's, by its path there."""
        name = path.rsplit("/", 1)[-1]
        found, _filter = QFileDialog.getOpenFileName(
            self._window, f"Instead of {name}", str(self._bench.document.folder), AUDIO_FILTER
        )
        if found:
            self.relocate(path, Path(found))
