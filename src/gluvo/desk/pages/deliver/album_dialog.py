"""Several sessions delivered together: how loud each is, and what all are brought to."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtWidgets import QDialog, QFileDialog, QHBoxLayout, QProgressBar, QVBoxLayout, QWidget

from gluvo.advise.loudness_target import measured_by
from gluvo.deliver.batch import Delivered, Track, album_targets, deliver_track, spread, track_of
from gluvo.deliver.targets import all_targets, loudness_of, shortfalls
from gluvo.deliver.write import Written, clippings
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import ChoiceBox, Toggle, button, figure, label, plain
from gluvo.desk.model.workbench import Workbench
from gluvo.errors import GluvoError
from gluvo.opened.tasks import ALBUM_MEASURING, WRITING, Task
from gluvo.progress import Progress
from gluvo.session.records import Target

SONG_COLUMNS = (
    ("Song", 150),
    ("Integrated", 84),
    ("Loudest short-term", 116),
    ("dBTP", 66),
    ("Brought to", 84),
    ("Outcome", 0),
)
AS_THEY_ARE = "as their sessions say"


class AlbumDialog(QDialog):
    """A list of sessions with their loudness, a target for all, and where the files go."""

    def __init__(self, parent: QWidget, bench: Workbench) -> None:
        super().__init__(parent)
        self._bench = bench
        self.setWindowTitle("Deliver an album")
        self.setMinimumSize(760, 420)
        self.tracks: list[Track] = []
        self._outcomes: dict[Path, tuple[str, bool]] = {}
        self.folder = bench.document.folder / "Album"
        self._task: Task | None = None
        column = QVBoxLayout(self)
        top = QHBoxLayout()
        top.addWidget(button("Add sessions…", "Bring in sessions; each is rendered and measured.", self._add, "main"))
        self.drop = button("Remove", "Take the chosen one off the list (Delete).", self._remove)
        top.addWidget(self.drop)
        top.addStretch(1)
        self.spread = label("", "caption")
        top.addWidget(self.spread)
        column.addLayout(top)
        self.table = Table(
            "Songs of the album", "How loud each song is now, and what it is to be brought to.", SONG_COLUMNS
        )
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        row.addWidget(label("Bring all to"))
        self.target = ChoiceBox()
        self.target.setAccessibleName("Target of the album")
        self._targets = all_targets()
        self.target.addItems([AS_THEY_ARE, *(t.name for t in self._targets)])
        self.target.activated.connect(lambda _: self.refresh())
        row.addWidget(self.target)
        self.together = Toggle(
            "Keep differences",
            "Move all songs together, so that the loudest meets the target and the others stay softer.",
        )
        self.together.toggled.connect(lambda _: self.refresh())
        row.addWidget(self.together)
        row.addStretch(1)
        row.addWidget(button("Folder…", "Choose where the files are written.", self._choose_folder))
        column.addLayout(row)
        self.place = label("", "caption")
        column.addWidget(self.place)
        self.state = label("", "trouble")
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setTextVisible(False)
        column.addWidget(self.progress)
        last = QHBoxLayout()
        last.addStretch(1)
        self.write = button("Deliver", "Write every song's files; what is there is not touched.", self._deliver, "main")
        self.stop = button("Stop", "Stop what is being done.", self._stop)
        for made in (self.write, self.stop, button("Close", "Leave the album.", self.reject)):
            last.addWidget(made)
        column.addLayout(last)
        bench.background.changed.connect(self._show_progress)
        self.refresh()

    # --- the list ------------------------------------------------------------------------------------------

    def _add(self) -> None:
        found, _ = QFileDialog.getOpenFileNames(
            self, "Sessions", str(self._bench.document.folder), "Sessions (*.gluvo)"
        )
        self.take(tuple(Path(path) for path in found))

    def take(self, paths: Sequence[Path]) -> None:
        """Render and measure sessions, and put them on the list."""
        known = {track.path for track in self.tracks}
        wanted = [path for path in paths if path not in known]
        if not wanted:
            return

        def work(progress: Progress) -> tuple[list[Track], list[str]]:
            tracks, wrong = [], []
            for n, path in enumerate(wanted):
                try:
                    tracks.append(track_of(path, lambda d, n=n: progress((n + d) / len(wanted))))  # type: ignore[misc]
                except GluvoError as error:
                    wrong.append(str(error))
            return tracks, wrong

        def done(found: tuple[list[Track], list[str]]) -> None:
            self.tracks += found[0]
            self.state.setText(" ".join(found[1]))
            self.refresh()

        self._task = self._bench.background.run(ALBUM_MEASURING, "Measuring the album", work, done)
        self._show_progress()

    def _remove(self) -> None:
        row = self.table.currentRow()
        if 0 <= row < len(self.tracks):
            del self.tracks[row]
            self.refresh()

    def _choose_folder(self) -> None:
        found = QFileDialog.getExistingDirectory(self, "Where to write", str(self._bench.document.folder))
        if found:
            self.folder = Path(found)
            self.refresh()

    def aim(self) -> Target | None:
        """The target for all; None where each has its own."""
        index = self.target.currentIndex()
        return self._targets[index - 1] if index > 0 else None

    def aims(self) -> tuple[Target | None, ...]:
        """What each song is brought to."""
        aim = self.aim()
        return (None,) * len(self.tracks) if aim is None else album_targets(self.tracks, aim, self.together.on)

    # --- writing -------------------------------------------------------------------------------------------

    def _deliver(self) -> None:
        tracks, aims, folder = list(self.tracks), self.aims(), self.folder

        def work(progress: Progress) -> dict[Path, tuple[Delivered, ...] | str]:
            found: dict[Path, tuple[Delivered, ...] | str] = {}
            for n, (track, aim) in enumerate(zip(tracks, aims, strict=True)):
                try:
                    found[track.path] = deliver_track(
                        track,
                        aim,
                        folder,
                        progress=lambda d, n=n: progress((n + d) / len(tracks)),  # type: ignore[misc]
                    )
                except GluvoError as error:
                    found[track.path] = str(error)
            return found

        def done(found: dict[Path, tuple[Delivered, ...] | str]) -> None:
            self._outcomes = {path: _told(delivered) for path, delivered in found.items()}
            self.refresh()

        self._outcomes.clear()
        self._task = self._bench.background.run(WRITING, "Delivering the album", work, done)
        self._show_progress()

    def _stop(self) -> None:
        if self._task is not None:
            self._bench.tasks.cancel(self._task)

    # --- keeping up ----------------------------------------------------------------------------------------

    def _show_progress(self) -> None:
        task = self._task if self._task is not None and self._task in self._bench.tasks.shown() else None
        self.progress.setVisible(task is not None)
        self.progress.setValue(round(1000 * task.share) if task is not None else 0)
        self.stop.setEnabled(task is not None)
        self.write.setEnabled(task is None and bool(self.tracks))

    def refresh(self) -> None:
        aims, aim = self.aims(), self.aim()
        self.together.setEnabled(aim is not None)
        self.table.setRowCount(len(self.tracks))
        for n, (track, own) in enumerate(zip(self.tracks, aims, strict=True)):
            f = track.figures
            words, good = self._outcomes.get(track.path, ("", True))
            brought = own or track.session.target
            cells = (
                track.session.name,
                figure(f.integrated),
                figure(f.max_short_term),
                figure(f.true_peak, 2),
                f"{figure(brought.loudness)}" if own is not None else "as it is",
                words,
            )
            colours = [*["ink"] * 5, "good" if good else "over"]
            self.table.show_line(n, list(zip(cells, colours, strict=True)))
            first = self.table.item(n, 0)
            assert first is not None
            first.setToolTip(plain(str(track.path)))
        if self.tracks:
            by = aim or self.tracks[0].session.target
            levels = [loudness_of(t.figures, by) for t in self.tracks]
            short = [t.figures.max_short_term for t in self.tracks]
            self.spread.setText(
                f"{len(self.tracks)} songs · {spread(levels):.1f} LU apart by {measured_by(by).name.lower()}, "
                f"{spread(short):.1f} by the loudest short-term"
            )
        else:
            self.spread.setText("")
        self.place.setText(f"into {self.folder}")
        self._show_progress()


def _told(delivered: tuple[Delivered, ...] | str) -> tuple[str, bool]:
    """What became of a song, in words, and whether all is well."""
    if isinstance(delivered, str):
        return delivered, False
    wrong = [d.outcome.trouble for d in delivered if d.outcome.trouble]
    wrong += [
        f"{f.path.name}: {'; '.join([*reasons, *([d.explained] if d.explained else [])])}"
        for d in delivered
        for f in d.outcome.files
        if not f.section and (reasons := _reasons(d, f))
    ]
    count = sum(len(d.outcome.files) for d in delivered)
    return ("; ".join(wrong), False) if wrong else (f"{count} file{'' if count == 1 else 's'}, on target", True)


def _reasons(d: Delivered, file: Written) -> list[str]:
    """What is wrong with a file; a part of the song has no target."""
    return [*clippings([file]), *(shortfalls(file.figures, d.target) if d.row.of == "mix" else [])]
