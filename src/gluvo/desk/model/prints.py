"""Prints of the open session's stems: taken, lined up, told apart, heard and chosen."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from gluvo.compare.print_changes import PrintChange, print_change
from gluvo.desk.model.background import Background
from gluvo.desk.model.open_session import OpenSession
from gluvo.errors import AudioFileError, SessionError
from gluvo.opened.tasks import ADDING, COMPARING_PRINTS
from gluvo.progress import Progress
from gluvo.session import prints
from gluvo.session.media import media_of, place_of
from gluvo.session.records import Media, Print, Session, Stem
from gluvo.session.sounds import Sound, header_of, read_sound
from gluvo.session.versions import differences
from gluvo.steps.settings import MOST_NAME

MOST_TOLD = 6
"""Settings that are told to have moved."""


@dataclass(frozen=True)
class _Came:
    """A file that was read to be a print."""

    stem: str
    path: Path
    media: Media
    mono: bool
    change: PrintChange


class Prints:
    """Taking and choosing are edits; what a print has otherwise than the one in place is found in the background."""

    def __init__(self, bench: OpenSession, background: Background) -> None:
        self._bench, self._background = bench, background
        self._changes: dict[tuple[str, str], PrintChange] = {}
        """By the digests of two prints' audio, what the second has otherwise."""
        self._tells = False
        """Whether what moves next of the held settings is told, since another print has come."""

    @property
    def stem(self) -> Stem | None:
        """The stem whose prints are at hand: the chosen one, or the only one."""
        session = self._bench.session
        strip = session.strip(session.view.strip)
        if isinstance(strip, Stem):
            return strip
        return session.stems[0] if len(session.stems) == 1 else None

    # --- taking --------------------------------------------------------------------------------------------

    def take(self, files: Sequence[Path], of: Stem | None = None) -> None:
        """Take files as new prints: one is of the stem `of` (the one at hand), several each of the stem that is called alike."""
        session, folder, audio = self._bench.session, self._bench.document.folder, self._bench.audio
        try:
            placed = placed_at(session, files, of or self.stem)
        except SessionError as error:
            self._bench.refuse(str(error))
            return
        refused: list[str] = []

        def work(told: Progress) -> list[_Came]:
            came = []
            for n, (id, path) in enumerate(placed.items()):
                inside: Progress = lambda d, n=n: told((n + d) / len(placed))  # type: ignore[misc]  # noqa: E731
                stem = session.strip(id)
                assert isinstance(stem, Stem)
                try:
                    media = media_of(path.resolve(), folder, lambda d, inside=inside: inside(0.3 * d))  # type: ignore[misc]
                    known = audio.material.sounds.get(id) if audio.material is not None else None
                    rate = audio.material.rate if audio.material is not None else session.rate or None
                    old = known or read_sound(place_of(stem.media, folder), rate)
                    new = read_sound(path, old.rate)
                    change = print_change(old, new, lambda d, inside=inside: inside(0.4 + 0.6 * d))  # type: ignore[misc]
                    came.append(_Came(id, path, media, header_of(path).channels == 1, change))
                except AudioFileError as error:
                    refused.append(str(error))
            return came

        def done(came: list[_Came]) -> None:
            for sentence in refused[::-1]:
                self._bench.tell(sentence, True)
            if came:
                self._put(came)

        self._background.run(ADDING, "Bringing in prints", work, done)

    def _put(self, came: Sequence[_Came]) -> None:
        bench, told = self._bench, list[str]()
        made = datetime.now().isoformat(timespec="seconds")
        now, refused = bench.session, list[str]()
        for one in came:
            stem = now.strip(one.stem)
            if not isinstance(stem, Stem):
                continue
            offset = round(min(max(stem.offset - one.change.later, -600.0), 600.0), 9)
            before = stem.media.sha256
            try:
                now, new = prints.with_print(
                    now, one.stem, one.path.stem[:MOST_NAME], one.media, offset, one.mono, made
                )
            except SessionError as error:
                refused.append(str(error))
                continue
            self._changes[before, one.media.sha256] = one.change
            told.append(f"{stem.name}, {new.name}: {one.change.words()}.")
        if told:
            title = f"New print of {len(told)} stems" if len(told) > 1 else f"New print: {came[0].path.stem}"
            self._tells = True
            if bench.edit(title, lambda _: now):
                bench.tell(" ".join(told), False)
        for sentence in refused:
            bench.tell(sentence, True)

    # --- choosing ------------------------------------------------------------------------------------------

    def choose(self, id: str) -> None:
        """Have another print in its stem's place."""
        wanted = prints.found(self._bench.session, id)
        if wanted is None:
            return
        stem = self._bench.session.strip(wanted.stem)
        self._tells = True
        self._bench.edit(f"{stem.name if stem else ''}: {wanted.name}", lambda s: prints.choosing(s, id))

    def next(self) -> None:
        """Have the next print of the stem at hand, round and round."""
        stem = self.stem
        other = prints.after(self._bench.session, stem.id) if stem is not None else None
        if other is None:
            self._bench.refuse(
                "There is one print only of what is chosen. Choose a stem, and take another (Ctrl+Alt+I)."
            )
        else:
            self.choose(other.id)

    def rename(self, id: str, name: str) -> None:
        self._bench.edit("Name of a print", lambda s: prints.renamed(s, id, name))

    def remove(self, id: str) -> None:
        """Take a print out of the session; its file stays."""
        self._bench.edit("Remove a print", lambda s: prints.without(s, id))

    # --- telling them apart --------------------------------------------------------------------------------

    def change(self, old: Print, new: Print) -> PrintChange | None:
        """What one print has otherwise than another; None while it is found out."""
        key = old.media.sha256, new.media.sha256
        if key in self._changes or key[0] == key[1]:
            return self._changes.get(key)
        folder, material = self._bench.document.folder, self._bench.audio.material
        rate = material.rate if material is not None else None

        def work(check: Progress) -> PrintChange:
            sounds = list[Sound]()
            for one in (old, new):
                sounds.append(read_sound(place_of(one.media, folder), rate or (sounds[0].rate if sounds else None)))
            return print_change(sounds[0], sounds[1], check)

        def done(found: PrintChange) -> None:
            self._changes[key] = found
            self._bench.audio_changed.emit()

        self._background.run(COMPARING_PRINTS, f"Comparing {new.name}", work, done)
        return None

    def tell_moved(self, before: Session, held: Session) -> None:
        """Held settings were found anew; where that is for another print, say which have moved."""
        if not self._tells:
            return
        self._tells = False
        moved = [f"{d.where} {d.what} {d.before} → {d.after}" for d in differences(before, held)]
        if moved:
            more = f" and {len(moved) - MOST_TOLD} more" if len(moved) > MOST_TOLD else ""
            self._bench.tell(f"Found anew for this print: {'; '.join(moved[:MOST_TOLD])}{more}.", False)


def placed_at(session: Session, files: Sequence[Path], chosen: Stem | None) -> Mapping[str, Path]:
    """Which stem each file is a print of, by the stems' ids. Raises `SessionError` where that cannot be told.

    A single one is of the chosen stem; others are of stems whose name, or whose file's, theirs begins or ends with.
    """
    if not session.stems:
        raise SessionError("There is nothing yet that could have another print. Bring in a mix first.")
    if len(files) == 1 and chosen is not None:
        return {chosen.id: files[0]}
    placed: dict[str, Path] = {}
    for path in files:
        called = path.stem.casefold()
        alike = [
            (max(map(len, names)), stem)
            for stem in session.stems
            if (
                names := [
                    n
                    for n in (stem.name.casefold(), Path(stem.media.path).stem.casefold())
                    if n and (called.startswith(n) or called.endswith(n))
                ]
            )
        ]
        if not alike:
            raise SessionError(
                f"Which stem is {path.name} a print of? Choose the stem first, or call the file like it."
            )
        stem = max(alike, key=lambda pair: pair[0])[1]
        if stem.id in placed:
            raise SessionError(f"{placed[stem.id].name} and {path.name} would both be prints of {stem.name}.")
        placed[stem.id] = path
    return placed
