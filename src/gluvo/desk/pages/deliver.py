"""The Deliver page: the files to be written, each with what was measured in it."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path

import msgspec
import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QProgressBar,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from gluvo.deliver.formats import FORMATS
from gluvo.deliver.targets import shortfalls
from gluvo.deliver.write import Written, file_name, write_deliverable
from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.controls.flow import Elided, scrolled
from gluvo.desk.controls.parts import Rows, Toggle, button, clock, figure, label, plain
from gluvo.desk.controls.theme import colours
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.base import PageWidget
from gluvo.errors import GluvoError
from gluvo.measure import loudness
from gluvo.measure.figures import FIGURES
from gluvo.measure.trace import Trace
from gluvo.progress import Progress
from gluvo.session.files import reason_of, refuse_own
from gluvo.session.media import place_of
from gluvo.session.records import Deliverable, Session
from gluvo.steps.settings import settings_of
from gluvo.workbench.tasks import WRITING, Task

COLUMNS = ("For", "Format", "Depth", "Rate", "Dither", "Measured in the file", "Against the target", "")
COLUMN_WIDTHS = (130, 78, 108, 122, 78, 236, 0, 76)
"""Pixels; 0 takes what is left."""
CHOICES = settings_of(Deliverable)
"""What can be chosen for a file."""


TOLD = tuple(
    FIGURES[key]
    for key in (
        "integrated",
        "true_peak",
        "sample_peak",
        "loudness_range",
        "plr",
        "max_momentary",
        "correlation",
        "mono_loss",
    )
)
"""What is told of the whole song."""


class DeliverPage(PageWidget):
    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self._written: dict[str, Written] = {}
        self._folder: Path | None = None
        self._tasks: list[Task] = []
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        inner = QWidget()
        whole.addWidget(scrolled(inner))
        column = QVBoxLayout(inner)
        column.setContentsMargins(14, 10, 14, 10)
        column.setSpacing(8)
        head = QHBoxLayout()
        head.addWidget(label("Deliverables", "title"))
        self.place = Elided("", "caption", 320)
        head.addSpacing(8)
        head.addWidget(self.place, 1)
        self.replace = Toggle("Replace files", "Write over files of the same name. Off, a number is added to the name.")
        head.addWidget(self.replace)
        head.addWidget(button("Folder…", "Choose where the files are written.", self.choose_folder))
        head.addWidget(button("Add", "Add a deliverable.", self.add))
        self.write = button("Write", "Render, write and measure all files (Ctrl+E).", self.write_all, "main")
        head.addWidget(self.write)
        column.addLayout(head)
        self.table = QTableWidget(0, len(COLUMNS))
        self.table.setHorizontalHeaderLabels(COLUMNS)
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.table.verticalHeader().setDefaultSectionSize(34)
        self.table.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        header = self.table.horizontalHeader()
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        header.setMinimumSectionSize(70)
        for n, width in enumerate(COLUMN_WIDTHS):
            if width:
                self.table.setColumnWidth(n, width)
            else:
                header.setSectionResizeMode(n, QHeaderView.ResizeMode.Stretch)
        self.table.cellChanged.connect(self._renamed)
        self.table.setMinimumHeight(110)
        column.addWidget(self.table, 2)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setRange(0, 1000)
        self.status = label("", "caption")
        self.cancel = button("Cancel", "Stop writing. No half-written file is left.", self._stop_writing)
        writing = QHBoxLayout()
        writing.addWidget(self.progress, 1)
        writing.addWidget(self.cancel)
        self._writing = QWidget()
        self._writing.setLayout(writing)
        writing.setContentsMargins(0, 0, 0, 0)
        self._writing.hide()
        column.addWidget(self._writing)
        column.addWidget(self.status)
        bottom = QHBoxLayout()
        bottom.setSpacing(24)
        left = QVBoxLayout()
        left.addWidget(label("Loudness over time", "title"))
        self.over_time = LoudnessView()
        self.over_time.setMinimumHeight(150)
        left.addWidget(self.over_time, 1)
        bottom.addLayout(left, 3)
        right = QVBoxLayout()
        right.addWidget(label("The master now", "title"))
        self.rows = Rows([(figure.name, figure.tip) for figure in TOLD])
        right.addWidget(self.rows)
        self.verdict = label("", "caption")
        self.verdict.setWordWrap(True)
        right.addWidget(self.verdict)
        right.addStretch(1)
        bottom.addLayout(right, 1)
        column.addLayout(bottom, 3)
        bench.session_changed.connect(self._session_changed)
        bench.picture_changed.connect(self.refresh)
        bench.tasks_changed.connect(self._show_progress)

    # --- the list ------------------------------------------------------------------------------------------

    def _session_changed(self, before: Session, now: Session) -> None:
        if before.strips != now.strips:
            if self._written:
                self._written.clear()  # they were of another sound
                self._show_written()
        if before.deliverables != now.deliverables:
            self._rebuild()
        self.refresh()

    def _rebuild(self) -> None:
        self.table.blockSignals(True)
        deliverables = self._bench.session.deliverables
        self.table.setRowCount(len(deliverables))
        for row, d in enumerate(deliverables):
            name = QTableWidgetItem(d.name)
            name.setToolTip("Double-click to rename; the name is part of the file's.")
            self.table.setItem(row, 0, name)
            for n, field in enumerate(CHOICES, start=1):
                box = QComboBox()
                box.setAccessibleName(f"{d.name}: {field}")
                setting = CHOICES[field]
                box.setToolTip(setting.tip)
                values = [type(setting.default)(key) for key, _ in setting.options]
                box.addItems([text for _, text in setting.options])
                box.setCurrentIndex(values.index(getattr(d, field)))
                box.activated.connect(
                    lambda index, d=d, field=field, values=values: self._change(d.id, field, values[index])
                )
                self.table.setCellWidget(row, n, _padded(box))
            for n in (5, 6):
                item = QTableWidgetItem("")
                item.setFlags(Qt.ItemFlag.ItemIsEnabled)
                self.table.setItem(row, n, item)
            remove = button(
                "Remove",
                f"Take {plain(d.name)} off the list. Files that were written stay.",
                partial(self.remove, d.id),
                "plain",
            )
            self.table.setCellWidget(row, 7, remove)
        self.table.blockSignals(False)
        self.table.setMaximumHeight(40 + 34 * max(2, len(deliverables)))
        self._show_written()

    def add(self) -> None:
        session = self._bench.session
        taken = {d.name for d in session.deliverables}
        name = next(
            f"Master {n}" if n > 1 else "Master"
            for n in range(1, 99)
            if (f"Master {n}" if n > 1 else "Master") not in taken
        )
        new = Deliverable(id=session.fresh_id("deliverable"), name=name)
        self._bench.edit("Add deliverable", lambda s: s.replace(deliverables=(*s.deliverables, new)))

    def remove(self, id: str) -> None:
        self._bench.edit(
            "Remove deliverable", lambda s: s.replace(deliverables=tuple(d for d in s.deliverables if d.id != id))
        )

    def _change(self, id: str, field: str, value: object) -> None:
        def changed(d: Deliverable) -> Deliverable:
            if d.id != id:
                return d
            d = msgspec.structs.replace(d, **{field: value})
            if d.bits not in FORMATS[d.format].depths:
                other = next(f.key for f in FORMATS.values() if d.bits in f.depths)
                changes = {"bits": FORMATS[d.format].depths[0]} if field == "format" else {"format": other}
                d = msgspec.structs.replace(d, **changes)
            if field == "bits":
                d = msgspec.structs.replace(d, dither="tpdf" if value == "16" else "none")
            return d

        self._written.pop(id, None)
        self._bench.edit(
            "Change deliverable", lambda s: s.replace(deliverables=tuple(changed(d) for d in s.deliverables))
        )

    def _renamed(self, row: int, column: int) -> None:
        item = self.table.item(row, column)
        if column == 0 and item is not None and item.text().strip():
            d = self._bench.session.deliverables[row]
            new = msgspec.structs.replace(d, name=item.text().strip())
            self._bench.edit(
                "Rename deliverable",
                lambda s: s.replace(deliverables=tuple(new if x.id == d.id else x for x in s.deliverables)),
            )

    # --- writing -------------------------------------------------------------------------------------------

    @property
    def folder(self) -> Path:
        return self._folder or self._bench.document.folder / "Deliverables"

    def choose_folder(self) -> None:
        found = QFileDialog.getExistingDirectory(self, "Where to write", str(self._bench.document.folder))
        if found:
            self.use_folder(Path(found))

    def use_folder(self, folder: Path) -> None:
        """Write there from now on."""
        self._folder = folder
        self.refresh()

    def write_all(self) -> None:
        """Write all deliverables in the background."""
        session, material, folder = self._bench.session, self._bench.audio.material, self.folder
        if material is None or not session.deliverables:
            self._bench.told.emit("There is nothing to write yet: bring in a mix and add a deliverable.", True)
            return
        replace = self.replace.on
        needed = [place_of(media, self._bench.document.folder) for media in session.media]
        needed.append(self._bench.document.path)
        names = [file_name(d, session.name) for d in session.deliverables]
        same = next((name for name in names if sum(n.lower() == name.lower() for n in names) > 1), None)
        if same is not None:
            self._bench.told.emit(
                f"Two deliverables would become one file, {same}. Give them different names or formats; nothing was written.",
                True,
            )
            return
        try:
            if replace:
                for name in names:
                    refuse_own(folder / name, needed)
        except GluvoError as error:
            self._bench.told.emit(f"{error} Nothing was written.", True)
            return

        def work(progress: Progress) -> dict[str, Written]:
            try:
                folder.mkdir(parents=True, exist_ok=True)
            except OSError as error:
                raise GluvoError(f"{folder} cannot be made ({reason_of(error)}).") from None
            written = {}
            for n, (d, name) in enumerate(zip(session.deliverables, names, strict=True)):
                path = folder / name if replace else unused(folder / name)
                refuse_own(path, needed)
                share = n / len(session.deliverables)
                written[d.id] = write_deliverable(
                    material,
                    session,
                    d,
                    path,
                    lambda x, share=share: progress(share + x / len(session.deliverables)),  # type: ignore[misc]
                )
            return written

        def done(result: dict[str, Written]) -> None:
            if session.strips == self._bench.session.strips:
                self._written = result
            self._show_written()
            files = f"{len(result)} file{'' if len(result) == 1 else 's'}"
            self.status.setText(f"{files} written to {at_home(folder)} and measured by reading back.")

        self.status.setText("")
        title = f"Writing {len(names)} file{'' if len(names) == 1 else 's'}"
        self._tasks.append(self._bench.task(WRITING, title, work, done))
        self._show_progress()

    def _show_progress(self) -> None:
        """How far the writing is; it waits for what was asked to be written before it."""
        shown = self._bench.tasks.shown()
        self._tasks = [task for task in self._tasks if task in shown]
        self._writing.setVisible(bool(self._tasks))
        if self._tasks:
            self.progress.setValue(round(1000 * self._tasks[0].share))

    def _stop_writing(self) -> None:
        for task in self._tasks:
            self._bench.tasks.cancel(task)

    def _show_written(self) -> None:
        target, c = self._bench.session.target, colours()
        self.table.blockSignals(True)
        for row, d in enumerate(self._bench.session.deliverables):
            written = self._written.get(d.id)
            measured, verdict = self.table.item(row, 5), self.table.item(row, 6)
            if measured is None or verdict is None:
                continue
            if written is None:
                measured.setText("not written yet")
                measured.setForeground(c["faint"])
                verdict.setText("")
                continue
            f = written.figures
            mended = f" · ceiling mended by {written.mended:.2f} dB" if written.mended else ""
            measured.setText(f"{figure(f.integrated)} LUFS · {figure(f.true_peak, 2)} dBTP{mended}")
            measured.setForeground(c["ink"])
            measured.setToolTip(plain(str(written.path)))
            reasons = shortfalls(f, target)
            verdict.setText(f"misses it: {'; '.join(reasons)}" if reasons else f"meets {target.name}")
            verdict.setToolTip("\n".join(reasons))
            verdict.setForeground(c["over" if reasons else "good"])
        self.table.blockSignals(False)

    # --- figures -------------------------------------------------------------------------------------------

    def showEvent(self, event: object) -> None:
        self.refresh()

    def refresh(self) -> None:
        if not self.isVisible():
            return
        n = len(self._bench.session.deliverables)
        self.write.setText(f"Write {n} file{'' if n == 1 else 's'}")
        self.write.setEnabled(n > 0 and self._bench.audio.material is not None)
        self.place.setText(f"into {at_home(self.folder)}")
        song, target = self._bench.picture.song_render, self._bench.session.target
        if song is None:
            return
        self.over_time.show_loudness(song.result.trace, target.loudness)
        f = song.result.figures()
        reasons = shortfalls(f, target)
        over = any("peak" in reason for reason in reasons)
        self.rows.set_values(
            [told.show(getattr(f, told.key)) for told in TOLD],
            ["over" if over and told.key == "true_peak" else "ink" for told in TOLD],
        )
        self.verdict.setText(
            f"Misses {target.name}: {'; '.join(reasons)}."
            if reasons
            else f"Meets {target.name}: {figure(target.loudness)} LUFS, at most {figure(target.true_peak)} dBTP."
        )


def at_home(path: Path) -> str:
    """A path as people write it: with a tilde for their home."""
    home = Path.home()
    return f"~/{path.relative_to(home)}" if path.is_relative_to(home) else str(path)


def unused(path: Path) -> Path:
    """The path, or the next one with a number that nothing has yet."""
    if not path.exists():
        return path
    return next(p for n in range(2, 10_000) if not (p := path.with_stem(f"{path.stem} ({n})")).exists())


def _padded(widget: QWidget) -> QWidget:
    holder = QWidget()
    row = QHBoxLayout(holder)
    row.setContentsMargins(2, 3, 6, 3)
    row.addWidget(widget)
    return holder


class LoudnessView(Chart):
    """Short-term loudness over the song, momentary behind it, the target across."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(0.0, 60.0, ()), Axis(-36.0, -4.0, (-6, -12, -18, -24, -30)), parent)
        self._short: tuple[np.ndarray, np.ndarray] | None = None
        self._momentary: tuple[np.ndarray, np.ndarray] | None = None
        self._target = -14.0
        self._trace: Trace | None = None
        self.setToolTip("Short-term loudness (3 s) over the song, momentary (400 ms) behind it.")

    def show_loudness(self, trace: Trace, target: float) -> None:
        self._target = target
        if trace is self._trace:
            self.changed()
            return
        self._trace = trace
        self._momentary = self._thinned(loudness.momentary(trace), 0.4, trace.hop_seconds)
        self._short = self._thinned(loudness.short_term(trace), 3.0, trace.hop_seconds)
        step = next(s for s in (5, 10, 20, 30, 60, 120, 300) if trace.seconds / s <= 12 or s == 300)
        self.x_axis = Axis(0.0, max(1.0, trace.seconds), [float(t) for t in np.arange(0, trace.seconds, step)])
        self.changed()

    @staticmethod
    def _thinned(values: Sequence[float] | np.ndarray, first: float, hop: float) -> tuple[np.ndarray, np.ndarray]:
        step = max(1, len(values) // 1000)
        return first + np.arange(len(values))[::step] * hop, np.asarray(values)[::step]

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._short is None or self._momentary is None:
            self.say(painter, "Nothing measured yet.")
            return
        painter.setPen(QPen(c.soft("faint", 150), 1))
        painter.drawPolyline(self.line(*self._momentary))
        painter.setPen(QPen(c["signal"], 2))
        painter.drawPolyline(self.line(*self._short))
        y = self.y_at(self._target)
        painter.setPen(QPen(c["ink"], 1.2, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
        self.note(painter, area.left(), y - 9, f"target {figure(self._target)} LUFS")

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        self.note(painter, area.left(), area.top() + 9, f"LUFS over {clock(self.x_axis.high, False)}")
