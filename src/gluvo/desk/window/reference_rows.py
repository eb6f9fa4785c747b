"""References as rows under the timeline: their sections and waveforms, aligned to the song or in their own time."""

from __future__ import annotations

from functools import partial
from operator import attrgetter

import msgspec
import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QMenu, QSizePolicy, QVBoxLayout, QWidget

from gluvo.compare.references import paired, with_sections
from gluvo.desk.controls.keys import claimed
from gluvo.desk.controls.theme import colours, font, theme
from gluvo.desk.controls.widgets import drawn, edit_in_place
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.timeline import GRIP, Timeline
from gluvo.desk.window.timeline_drawing import MARGIN
from gluvo.dsp.kernel import Floats
from gluvo.measure.trace import Span
from gluvo.opened.audio import known_joint
from gluvo.session import sections
from gluvo.session.records import Reference, Section

ROW, RIBBON = 46, 14
MOST_ROWS = 4
"""So many are shown at once; those that are heard or pinned come first."""


class ReferenceRow(QWidget):
    """One reference. A click on a section's name pairs it with the chosen section of the song."""

    def __init__(self, bench: Workbench, timeline: Timeline, id: str) -> None:
        super().__init__()
        self._bench, self._timeline, self.id = bench, timeline, id
        self._picture: QPixmap | None = None
        self._edge: tuple[str, str] | None = None
        self._marking: tuple[float, float] | None = None
        self.setFixedHeight(ROW)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setToolTip(
            "A click on a section's name pairs it with the song's chosen section, a double-click renames it; drag its edges, "
            "Shift-drag marks a new one. A click below hears the reference from there on. Keys: ← → choose the section that is "
            "paired, F2 renames it, Del takes it away."
        )
        theme.changed.connect(self.redraw)

    @property
    def reference(self) -> Reference | None:
        return self._bench.session.reference(self.id)

    @property
    def length(self) -> float:
        sound = self._bench.audio.references.get(self.id)
        return sound.seconds if sound is not None else 1.0

    def redraw(self) -> None:
        """There is something else to show."""
        reference = self.reference
        self.setAccessibleName(f"Reference {reference.name}" if reference is not None else "Reference")
        self._picture = None
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(1000, ROW)

    # --- places --------------------------------------------------------------------------------------------

    @property
    def aligned(self) -> bool:
        """Whether what is heard against each section of the song stands under it."""
        return self._bench.session.view.rows == "aligned"

    @property
    def _shown(self) -> Span:
        return self._timeline.view if self.aligned else Span(0.0, self.length)

    @property
    def _inner(self) -> float:
        return max(1.0, self.width() - 2.0 * MARGIN)

    def x_at(self, seconds: float) -> float:
        """Where a time of the row is, in pixels: of the song where it is aligned, else the reference's own."""
        return MARGIN + (seconds - self._shown.start) / self._shown.seconds * self._inner

    def seconds(self, x: float) -> float:
        return self._shown.start + (x - MARGIN) / self._inner * self._shown.seconds

    def boxes(self) -> list[tuple[Section, float, float]]:
        """The sections and from where to where they are drawn, in seconds of the row."""
        reference = self.reference
        if reference is None:
            return []
        if not self.aligned:
            return [(s, s.start, s.end) for s in reference.sections]
        found = self._bench.picture.partners.get(self.id, {})
        there = ((s, found.get(s.id)) for s in self._bench.session.sections)
        return [(own, s.start, s.end) for s, own in there if own is not None]

    def own_times(self, seconds: Floats) -> Floats:
        """The reference's own times at places of the row."""
        if not self.aligned:
            return seconds
        found = seconds % self.length
        for own, start, end in self.boxes():
            inside = (seconds >= start) & (seconds < end)
            found[inside] = own.start + (seconds[inside] - start) % max(0.01, own.end - own.start)
        return found

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._picture is None:
            self._picture = drawn(self, self._draw)
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._picture)
        if self._marking is not None:
            left, right = sorted(self.x_at(t) for t in self._marking)
            painter.fillRect(QRectF(left, RIBBON + 4, right - left, ROW - RIBBON - 8), colours().soft("reference", 70))
        if self.hasFocus():
            painter.setPen(QPen(colours()["reference"], 1, Qt.PenStyle.DotLine))
            painter.drawRect(1, 1, self.width() - 3, self.height() - 3)

    def _draw(self, painter: QPainter) -> None:
        c, reference = colours(), self.reference
        sound = self._bench.audio.references.get(self.id)
        if reference is None:
            return
        painter.save()
        painter.setClipRect(QRectF(MARGIN, 0, self._inner, ROW))
        if sound is not None:
            self._draw_wave(painter)
        partner = self._bench.listening.partner(self.id)
        painter.setFont(font(11))
        for own, start, end in self.boxes():
            left, right = self.x_at(start), self.x_at(end)
            box = QRectF(left + 0.5, 2, max(2.0, right - left - 1.5), RIBBON)
            chosen = partner is not None and own.id == partner.id
            painter.fillRect(box, c["reference"] if chosen else c["hair"])
            painter.setPen(c["paper" if chosen else "ink"])
            inside = box.intersected(QRectF(MARGIN, 0, self._inner, 100)).adjusted(6, 0, -4, 0)
            words = painter.fontMetrics().elidedText(own.name, Qt.TextElideMode.ElideRight, int(max(0, inside.width())))
            painter.drawText(inside, Qt.AlignmentFlag.AlignVCenter, words)
        painter.restore()
        text = reference.name if sound is not None else f"{reference.name}: not found"
        painter.setFont(font(11))
        width = painter.fontMetrics().horizontalAdvance(text)
        painter.fillRect(QRectF(MARGIN, ROW - 17, width + 8, 15), c.soft("paper", 215))
        painter.setPen(c["reference"])
        painter.drawText(QRectF(MARGIN + 4, ROW - 18, width + 4, 16), Qt.AlignmentFlag.AlignVCenter, text)

    def _draw_wave(self, painter: QPainter) -> None:
        """The largest peak of each column, in the time that it is heard at."""
        joint = known_joint(self._bench.audio.references[self.id])
        if joint is None:
            return  # it comes with the first figures
        peaks, hop = joint.trace.sample_peak, joint.trace.hop_seconds
        columns = int(self._inner)
        if not len(peaks) or columns < 2:
            return
        times = self.own_times(self._shown.start + np.arange(columns) / self._inner * self._shown.seconds)
        first = np.clip((times / hop).astype(int), 0, len(peaks) - 1)
        span = max(1, int(self._shown.seconds / columns / hop))
        tall = np.lib.stride_tricks.sliding_window_view(np.pad(peaks, (0, span - 1)), span)[first].max(axis=1)
        middle, half = RIBBON + 3 + (ROW - RIBBON - 5) / 2.0, (ROW - RIBBON - 5) / 2.0
        xs = MARGIN + np.arange(columns) + 0.5
        up = [QPointF(x, middle - min(1.0, v) * half) for x, v in zip(xs.tolist(), tall.tolist(), strict=True)]
        down = [QPointF(x, middle + min(1.0, v) * half) for x, v in zip(xs.tolist(), tall.tolist(), strict=True)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colours().soft("reference", 120))
        painter.drawPolygon(QPolygonF([*up, *reversed(down)]))

    # --- what is done --------------------------------------------------------------------------------------

    def pair(self, own: str) -> None:
        """Pair a section of the reference with the song's chosen one."""
        section = self._bench.session.view.section
        if section:
            self._bench.edit("Pair sections", lambda s: paired(s, self.id, section, own))

    def _with(self, changed: tuple[Section, ...], action: str, together: str | None = None) -> None:
        self._bench.edit(action, lambda s: with_sections(s, self.id, changed), together)

    def rename(self, own: Section, left: float, right: float) -> None:
        """Open a field over a section's name."""

        def named(name: str) -> None:
            reference = self.reference
            if reference is not None:
                changed = tuple(
                    msgspec.structs.replace(s, name=name) if s.id == own.id else s for s in reference.sections
                )
                self._with(changed, "Rename section of a reference")

        box = QRectF(max(MARGIN, left), 0, max(90.0, right - left), RIBBON + 5)
        edit_in_place(self, own.name, box.toRect(), named)

    def remove(self, own: str) -> None:
        """Take a section of the reference away."""
        if (reference := self.reference) is not None:
            self._with(tuple(s for s in reference.sections if s.id != own), "Remove section of a reference")

    def _box_at(self, x: float) -> tuple[Section, float, float] | None:
        at = self.seconds(x)
        return next((box for box in self.boxes() if box[1] <= at < box[2]), None)

    def _edge_at(self, x: float) -> tuple[str, str] | None:
        if self.aligned:
            return None  # an edge has a time of its own only in the reference's time
        for own, start, end in self.boxes():
            for edge, at in (("start", start), ("end", end)):
                if abs(self.x_at(at) - x) <= GRIP:
                    return own.id, edge
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        x, y = event.position().x(), event.position().y()
        if y > RIBBON + 3 and event.modifiers() & Qt.KeyboardModifier.ShiftModifier and not self.aligned:
            self._marking = (self.seconds(x), self.seconds(x))
        elif y <= RIBBON + 3:
            self._edge = self._edge_at(x)
            box = self._box_at(x)
            if self._edge is None and box is not None:
                self.pair(box[0].id)
        else:
            self._bench.listening.hear(self.id)
            if self.aligned:
                self._bench.listening.seek(max(0.0, self.seconds(x)))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x, y = event.position().x(), event.position().y()
        on_edge = self._edge is not None or (y <= RIBBON + 3 and self._edge_at(x) is not None)
        self.setCursor(Qt.CursorShape.SizeHorCursor if on_edge else Qt.CursorShape.ArrowCursor)
        reference = self.reference
        if self._edge is not None and reference is not None:
            id, edge = self._edge
            moved = sections.edge_moved(reference.sections, id, edge, self.seconds(x), self.length)
            self._with(moved, "Move section edge of a reference", f"{id}.{edge}")
        elif self._marking is not None:
            self._marking = (self._marking[0], min(self.length, max(0.0, self.seconds(x))))
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        reference = self.reference
        if self._edge is not None:
            self._bench.settle()
        if self._marking is not None and reference is not None:
            start, end = sorted(self._marking)
            if end - start >= sections.SHORTEST:
                made = Section(
                    id=self._bench.session.fresh_id("part"),
                    name=f"Part {len(reference.sections) + 1}",
                    start=round(max(0.0, start), 4),
                    end=round(end, 4),
                )
                there = sorted((*reference.sections, made), key=lambda s: s.start)
                self._with(tuple(there), "Add section to a reference")
        self._edge = self._marking = None
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        box = self._box_at(event.position().x()) if event.position().y() <= RIBBON + 3 else None
        if box is not None:
            self.rename(box[0], self.x_at(box[1]), self.x_at(box[2]))

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu, box = QMenu(self), self._box_at(event.pos().x())
        if box is not None:
            own = box[0]
            menu.addAction("Pair with the chosen section").triggered.connect(partial(self._pair_of, own.id))
            menu.addAction("Rename").triggered.connect(
                lambda *_: self.rename(own, self.x_at(box[1]), self.x_at(box[2]))
            )
            menu.addAction("Remove").triggered.connect(lambda *_: self.remove(own.id))
        menu.exec(event.globalPos())

    def _pair_of(self, own: str, _checked: bool = False) -> None:
        self.pair(own)

    def event(self, event: QEvent) -> bool:
        mine = self.reference is not None and bool(self.reference.sections)
        return (mine and claimed(event, (Qt.Key.Key_F2, Qt.Key.Key_Delete))) or super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        reference, partner = self.reference, self._bench.listening.partner(self.id)
        key = event.key()
        if reference is None or not reference.sections:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            there = [s.id for s in reference.sections]
            at = there.index(partner.id) if partner is not None and partner.id in there else -1
            self.pair(there[(at + (1 if key == Qt.Key.Key_Right else -1)) % len(there)])
        elif key == Qt.Key.Key_F2 and partner is not None:
            box = next((b for b in self.boxes() if b[0].id == partner.id), (partner, 0.0, 1.0))
            self.rename(partner, self.x_at(box[1]), self.x_at(box[2]))
        elif key == Qt.Key.Key_Delete and partner is not None:
            self.remove(partner.id)
        else:
            super().keyPressEvent(event)


class ReferenceRows(QWidget):
    """All of them, folded away or not."""

    def __init__(self, bench: Workbench, timeline: Timeline) -> None:
        super().__init__()
        self._bench, self._timeline = bench, timeline
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 2)
        self._column.setSpacing(2)
        self.rows: dict[str, ReferenceRow] = {}
        looked = attrgetter("rows", "section", "hear", "pins")
        Follower(
            self,
            bench,
            self.refresh,
            session=lambda s: (s.references, *looked(s.view)),
            besides=lambda: (bench.audio.references,),
        )
        Follower(self, bench, self.redraw, picture=lambda p: (p.partners,), besides=self._measured)
        timeline.viewed.connect(self.redraw)
        self.refresh()

    def _measured(self) -> tuple[object, ...]:
        """Which of the references' waves are measured by now."""
        return (tuple(known_joint(sound) is not None for sound in self._bench.audio.references.values()),)

    def refresh(self) -> None:
        """Show the rows that there are."""
        session = self._bench.session
        on = session.view.rows != "folded" and bool(session.references)
        self.setVisible(on)
        first = {session.view.hear, *session.view.pins}
        there = sorted(session.references, key=lambda r: r.id not in first)[:MOST_ROWS]
        wanted = [r.id for r in session.references if r in there] if on else []
        if list(self.rows) != wanted:
            for row in self.rows.values():
                self._column.removeWidget(row)
                row.deleteLater()
            self.rows = {id: ReferenceRow(self._bench, self._timeline, id) for id in wanted}
            for row in self.rows.values():
                self._column.addWidget(row)
        self.redraw()

    def redraw(self) -> None:
        for row in self.rows.values():
            row.redraw()
