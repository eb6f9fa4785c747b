"""The Deliver page: the files to be written, each with what was measured in it."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QProgressBar, QStackedLayout, QVBoxLayout, QWidget

from gluvo.deliver.names import safe
from gluvo.deliver.targets import shortfalls
from gluvo.desk.controls import dialogs
from gluvo.desk.controls.flow import Elided, Lines, scrolled
from gluvo.desk.controls.widgets import Rows, Segments, button, figure, label
from gluvo.desk.model.delivery import KEEP_BOTH, REPLACE, Delivery, at_home
from gluvo.desk.model.following import Follower, everything
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.base import PageWidget
from gluvo.desk.pages.deliver.album_dialog import AlbumDialog
from gluvo.desk.pages.deliver.costs_panel import CostsPanel
from gluvo.desk.pages.deliver.encode_panel import EncodePanel
from gluvo.desk.pages.deliver.loudness_view import LoudnessView
from gluvo.desk.pages.deliver.printing import print_report
from gluvo.desk.pages.deliver.row_panel import RowPanel
from gluvo.desk.pages.deliver.rows_table import RowsTable
from gluvo.desk.pages.deliver.tags_dialog import TagsDialog
from gluvo.errors import GluvoError
from gluvo.measure.figures import FIGURES
from gluvo.session.records import Tags

TOLD = tuple(
    FIGURES[key]
    for key in ("integrated", "true_peak", "loudness_range", "plr", "max_short_term", "loudest_rms", "mono_loss")
)
"""What is told of the whole song."""


class DeliverPage(PageWidget):
    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self.delivery = Delivery(bench)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        inner = QWidget()
        whole.addWidget(scrolled(inner))
        both = QHBoxLayout(inner)
        both.setContentsMargins(14, 10, 14, 10)
        both.setSpacing(20)
        column = QVBoxLayout()
        column.setSpacing(6)
        both.addLayout(column, 1)
        head = QHBoxLayout()
        head.addWidget(label("Deliverables", "title"))
        self.place = Elided("", "caption", 320)
        head.addSpacing(8)
        head.addWidget(self.place, 1)
        head.addWidget(button("Folder…", "Choose where the files are written.", self.choose_folder))
        head.addWidget(
            button("Tags…", "What the files tell of the song: title, artist, cover and more.", self.edit_tags)
        )
        head.addWidget(
            button("Report…", "Write all figures, steps, graphs and files as one HTML page.", self.write_report)
        )
        head.addWidget(button("Add", "Add a deliverable.", self.add))
        self.write = button(
            "Write", "Write and measure all files; the song is played once (Ctrl+E).", self.write_all, "main"
        )
        head.addWidget(self.write)
        column.addLayout(head)
        self.table = RowsTable(self.delivery)
        column.addWidget(self.table)
        self.left_out = Elided("", "warning", 800)
        column.addWidget(self.left_out)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setRange(0, 1000)
        self.cancel = button("Cancel", "Stop writing all. No half-written file is left.", lambda: self.delivery.stop())
        self._writing = QWidget()
        writing = QHBoxLayout(self._writing)
        writing.setContentsMargins(0, 0, 0, 0)
        writing.addWidget(self.progress, 1)
        writing.addWidget(self.cancel)
        self._writing.hide()
        column.addWidget(self._writing)
        self.status = label("", "caption")
        column.addWidget(self.status)
        views = QHBoxLayout()
        self.chooser = Segments(
            [("loudness", "Loudness over time"), ("costs", "What louder costs"), ("encode", "Encode check")],
            "What is shown below the list.",
        )
        views.addWidget(self.chooser)
        views.addStretch(1)
        views.addWidget(
            button(
                "Usual set",
                "Adds what is mostly asked for: the master, the song without voices and only they, and a file for each "
                "strip that flows into the mix bus, which add up to the master.",
                self.add_usual,
                "plain",
            )
        )
        views.addWidget(
            button(
                "Verify",
                "Read all that was delivered again: is it there, and as it was written?",
                self.delivery.delivered.verify,
                "plain",
            )
        )
        column.addLayout(views)
        self.views = QStackedLayout()
        self.views.addWidget(self._loudness())
        self.encode = EncodePanel(self.delivery)
        self.costs = CostsPanel(self.delivery)
        self.views.addWidget(self.costs)
        self.views.addWidget(self.encode)
        self.chooser.chosen.connect(lambda key: self.views.setCurrentIndex(("loudness", "costs", "encode").index(key)))
        self.chooser.set_chosen("loudness")
        column.addLayout(self.views, 1)
        self.panel = RowPanel(self.delivery)
        self.panel.setFixedWidth(372)
        both.addWidget(self.panel)
        self.table.chosen.connect(self.panel.show_row)
        self.table.wanted.connect(lambda id: self.write_rows([id]))
        Follower(self, bench, self._show_rows, session=lambda s: (s.deliverables, s.target, s.view.page))
        Follower(
            self,
            bench,
            self.refresh,
            session=lambda s: (s.sections, s.target, s.deliverables, s.strips, s.view.page, s.view.solo),
            picture=everything,
            besides=lambda: (bench.audio,),
        )
        self.delivery.changed.connect(self.refresh)

    def _loudness(self) -> QWidget:
        """The song's loudness over time, with its figures beside it."""
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        row.setSpacing(16)
        column.addLayout(row, 1)
        self.over_time = LoudnessView()
        self.over_time.setMinimumHeight(170)
        self.over_time.sought.connect(self._bench.listening.seek)
        row.addWidget(self.over_time, 1)
        right = QVBoxLayout()
        right.setSpacing(4)
        right.addWidget(label("The master now", "title"))
        self.rows = Rows([(figure.name, figure.tip) for figure in TOLD])
        self.rows.setFixedWidth(190)
        right.addWidget(self.rows)
        right.addStretch(1)
        row.addLayout(right)
        self.verdict = Elided("", "caption", 900)
        column.addWidget(self.verdict)
        self.notes = Lines(2, "caption")
        column.addWidget(self.notes)
        return holder

    def _show_rows(self) -> None:
        self.table.refresh()
        self.panel.show_row(self.table.current)

    # --- the list ------------------------------------------------------------------------------------------

    def add(self) -> None:
        id = self.delivery.add()
        self._show_rows()
        self.table.choose(id)

    def add_usual(self) -> None:
        """Add the rows of the usual set that are not there yet."""
        if not self.delivery.add_usual():
            self._bench.tell("All of the usual set is there.", False)
        self._bench.look(page="deliver")
        self._show_rows()

    def edit_tags(self) -> None:
        """Edit what the files tell of the song."""
        self.tags_dialog().exec()

    def tags_dialog(self) -> TagsDialog:
        """The dialog for that."""
        bench = self._bench

        def keep(tags: Tags) -> None:
            bench.edit("Tags", lambda s: s.replace(tags=tags))

        return TagsDialog(self, bench.session.tags, bench.document.folder, keep)

    def write_report(self) -> None:
        """Ask where the report goes, and write it."""
        folder = self._bench.document.folder
        start = folder / f"{safe(self._bench.session.name)} - report.html"
        found, kind = QFileDialog.getSaveFileName(self, "Write report", str(start), ";;".join(_report_kinds("html")))
        if found:
            self.delivery.reporting.write(Path(found).with_suffix(".html"), _report_kinds("html").get(kind, False))

    def deliver_album(self) -> None:
        """Deliver several sessions together."""
        AlbumDialog(self, self._bench).exec()

    def print_report(self) -> None:
        """Ask where the report goes as a PDF, and print it there."""
        folder = self._bench.document.folder
        start = folder / f"{safe(self._bench.session.name)} - report.pdf"
        found, kind = QFileDialog.getSaveFileName(self, "Print report", str(start), ";;".join(_report_kinds("pdf")))
        if found:
            try:
                client = _report_kinds("pdf").get(kind, False)
                print_report(self.delivery.reporting.material(client), Path(found).with_suffix(".pdf"))
            except GluvoError as error:
                self._bench.tell(str(error), True)

    def choose_folder(self) -> None:
        found = QFileDialog.getExistingDirectory(self, "Where to write", str(self._bench.document.folder))
        if found:
            self.use_folder(Path(found))

    def use_folder(self, folder: Path) -> None:
        """Write there from now on."""
        self.delivery.use_folder(folder)

    # --- writing -------------------------------------------------------------------------------------------

    def write_all(self) -> None:
        """Write all deliverables in the background."""
        self.write_rows(())

    def write_rows(self, ids: Collection[str]) -> None:
        """Write rows (all, if none are named); what is there already is asked about once."""
        try:
            named = self.delivery.planned(ids)
        except GluvoError as error:
            self._bench.tell(str(error), True)
            return
        there = [path for paths in named.values() for path in paths if path.exists()]
        existing = KEEP_BOTH
        if there:
            names = ", ".join(path.name for path in there[:4])
            names += f" and {len(there) - 4} more" if len(there) > 4 else ""
            verb, new = ("is", "the new one gets") if len(there) == 1 else ("are", "the new ones get")
            existing = dialogs.ask(
                self,
                "Files are there",
                f"{names} {verb} there already. Keep both, and {new} a number?",
                (
                    (KEEP_BOTH, "Keep both", "do"),
                    (REPLACE, "Replace", "lose"),
                    ("", "Write nothing", "stay"),
                ),
            )
        if existing:
            self.delivery.write(ids, existing)

    # --- keeping up ----------------------------------------------------------------------------------------

    def showEvent(self, event: object) -> None:
        self.delivery.delivered.look()
        self._show_rows()
        QTimer.singleShot(0, self.table.setFocus)
        self.refresh()

    def refresh(self) -> None:
        self.status.setText(self.delivery.said)
        if not self.isVisible():
            return
        bench, delivery = self._bench, self.delivery
        n = len(bench.session.deliverables)
        self.write.setText(f"Write {n} row{'' if n == 1 else 's'}")
        self.write.setEnabled(n > 0 and bench.audio.material is not None)
        self.place.setText(f"into {at_home(delivery.folder)}")
        self.table.refresh()
        self.panel.refresh()
        left_out = delivery.reporting.left_out()
        self.left_out.setText(left_out)
        self.left_out.setVisible(bool(left_out))
        share = delivery.share
        self._writing.setVisible(share is not None)
        self.progress.setValue(round(1000 * (share or 0.0)))
        self.status.setVisible(bool(delivery.said))
        song, target = bench.picture.song_render, bench.session.target
        if song is None:
            return
        before = song.untouched
        self.over_time.show_loudness(song.result.trace, before.trace, target, bench.session.sections)
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
            else f"Meets {target.name}: {figure(target.loudness)}, at most {figure(target.true_peak)} dBTP."
        )
        notes = delivery.reporting.notes()
        self.notes.setText(" ".join(notes))
        self.notes.setVisible(bool(notes))


def _report_kinds(suffix: str) -> dict[str, bool]:
    """The forms of a report to choose from, and whether each is for the client."""
    return {f"All of it (*.{suffix})": False, f"For the client, without chain and references (*.{suffix})": True}
