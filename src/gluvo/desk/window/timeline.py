"""The song from left to right: sections, the source's waveform inside the result's, reduction below."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QWheelEvent,
)
from PySide6.QtWidgets import QMenu, QSizePolicy, QToolTip, QWidget

from gluvo.compare.hearables import SONG
from gluvo.compare.match import RESULT
from gluvo.desk.controls.keys import claimed
from gluvo.desk.controls.theme import colours, font, theme
from gluvo.desk.controls.widgets import drawn, edit_in_place, plain
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.by_section_dialogs import lift
from gluvo.desk.window.timeline_drawing import CAPTION, MARGIN, NOTE, RIBBON, TimelineDrawing
from gluvo.measure.hits import find_onsets
from gluvo.measure.trace import Span
from gluvo.render.reduction import taken_along, taken_by
from gluvo.session import by_section, notes, sections
from gluvo.session.records import AnyStrip, Note, Section

GRIP = 4
"""Pixels to either side of a section's edge where it can be taken."""
CLOSEST = 48
"""Frames across the whole width at the closest zoom."""
LOWEST, HIGHEST = 78, 420
"""Pixels that the timeline may be high."""
MARK = 70
"""Half of what the name of what plays may take at the playhead's foot, in pixels."""
LIFTED_FROM = 4
"""Pixels by which a section's block is moved up or down before that lifts it."""
DB_A_PIXEL = 0.1
EDGE = 5
"""Pixels at the lower edge by which it is made higher."""
MOST_SHOWN = 500
"""Characters of a note that are shown over its mark."""
MOST_WAVES = 64.0
"""How much larger than its row the waveform can be drawn."""
OWN_KEYS = tuple(getattr(Qt.Key, f"Key_{name}") for name in ("Left", "Right", "Home", "Plus", "Equal", "Minus", "0"))


class Timeline(QWidget):
    """Click to go somewhere, click a section to choose it, double-click it to zoom to it, wheel to zoom."""

    viewed = Signal()
    """Another stretch of the song is in view."""
    note_wanted = Signal(str)
    """A note, by its id, is to be read."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self._view = Span(0.0, 1.0)
        self._mark = "", "ink"
        self._position = 0.0
        self._playhead = 0.0
        """Where the playhead is drawn: never further than can be seen from where it plays."""
        self._picture: QPixmap | None = None
        self._words: QPixmap | None = None
        self._waves_zoom = 1.0
        self._stretching: tuple[float, int] | None = None
        self.by_hand = False
        """Whether its height was set by hand."""
        self._pan: tuple[float, Span] | None = None
        self._reduction: np.ndarray | None = None
        self._step_reduction: np.ndarray | None = None
        self._edge: tuple[str, str] | None = None
        self._lifting: tuple[str, float, float, bool] | None = None
        """The section whose block was taken, where, its lift then, and whether it has been moved."""
        self._marking: tuple[float, float] | None = None
        self.setFixedHeight(114)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Timeline")
        self.setToolTip(
            "Click to go there. Click a section's name to choose it, double-click to zoom to it; drag its edges (they snap "
            "to zero crossings, with Ctrl to hits). Drag its name up or down: there the chosen strip gets louder or softer "
            "(with Shift finely). Shift-drag marks a new section. Triangles are notes: click one to go there, double-click to "
            "read it. Wheel zooms down to samples, Shift-wheel or middle drag moves along, Ctrl-wheel draws the waves larger. "
            "Drag the lower edge to make it higher. Keys: arrows move, + and − zoom, 0 shows all."
        )
        Follower(self, bench, self._audio_changed, besides=lambda: (bench.audio.material,))
        Follower(
            self,
            bench,
            self._chain_changed,
            session=lambda s: (s.view.strip, s.view.step),
            picture=lambda p: (p.song_render, p.untouched),
        )
        Follower(
            self,
            bench,
            self._redraw,
            session=lambda s: (s.sections, s.view.section, s.strip(s.view.strip), s.view.step, s.notes),
        )
        Follower(
            self,
            bench,
            self._follow_heard,
            session=lambda s: (s.view.hear,),
            besides=lambda: (bench.listening.hearables(),),
        )
        bench.opening.analysis_changed.connect(self._redraw)
        theme.changed.connect(self._redraw)

    def sizeHint(self) -> QSize:
        return QSize(1000, self.height())

    def stretch(self, height: int, by_hand: bool = True) -> None:
        """Make it so many pixels high."""
        self.by_hand = self.by_hand or by_hand
        self.setFixedHeight(min(HIGHEST, max(LOWEST, height)))
        self._redraw()

    def zoom_waves(self, factor: float) -> None:
        """Draw the waveform larger or smaller, without being louder."""
        self._waves_zoom = min(MOST_WAVES, max(1.0, self._waves_zoom * factor))
        self._redraw()

    # --- what is shown -------------------------------------------------------------------------------------

    @property
    def length(self) -> float:
        song = self._bench.audio.material
        return song.seconds if song else 1.0

    @property
    def view(self) -> Span:
        """The stretch of the song in view."""
        return self._view

    def show_position(self, seconds: float) -> None:
        """Move the playhead; only the strips where it was and is are painted."""
        self._position = seconds
        old, new = self._x(self._playhead), self._x(seconds)
        if abs(new - old) > 0.2:  # in a long song the steps are smaller, and add up
            self._playhead = seconds
            for x in (old, new):
                self.update(int(x) - 3, 0, 7, self.height())
                if self._mark[0]:
                    self.update(int(x) - MARK, self.height() - CAPTION, 2 * MARK, CAPTION)

    def zoom(self, factor: float, at: float | None = None) -> None:
        """Show `factor` times as much, keeping a moment in place."""
        at = self._position if at is None else at
        song = self._bench.audio.material
        least = CLOSEST / song.rate if song else 0.01
        width = min(self.length, max(least, self._view.seconds * factor))
        share = (at - self._view.start) / self._view.seconds
        self._set_view(at - share * width, width)

    def zoom_to(self, span: Span | None) -> None:
        """Show a span with a little around it; None shows all."""
        if span is None:
            self._set_view(0.0, self.length)
        else:
            margin = 0.04 * span.seconds
            self._set_view(span.start - margin, span.seconds + 2 * margin)

    def _set_view(self, start: float, width: float) -> None:
        width = min(width, self.length)
        start = min(max(0.0, start), self.length - width)
        self._view = Span(start, start + width)
        self.viewed.emit()
        self._redraw()

    def _audio_changed(self) -> None:
        self._reduction = None
        self.zoom_to(None)

    def _chain_changed(self) -> None:
        self._add_up()
        self._redraw()

    def _add_up(self) -> None:
        """The reduction of the chosen strip's chain, and of the chosen step in it."""
        song, view = self._bench.picture.song_render, self._bench.session.view
        self._reduction = self._step_reduction = None
        if song is None or view.strip not in song.plan.strips:
            return
        along, chosen = taken_along(song, view.strip), taken_by(song, view.step)
        self._reduction = along.most if along is not None else None
        self._step_reduction = chosen.most if chosen is not None else None

    def _redraw(self) -> None:
        self._picture = self._words = None
        self.update()

    def resizeEvent(self, event: object) -> None:
        self._picture = self._words = None

    # --- places --------------------------------------------------------------------------------------------

    @property
    def _width(self) -> float:
        return max(1.0, self.width() - 2.0 * MARGIN)

    def _x(self, seconds: float) -> float:
        return MARGIN + (seconds - self._view.start) / self._view.seconds * self._width

    def _seconds(self, x: float) -> float:
        return self._view.start + (x - MARGIN) / self._width * self._view.seconds

    def _section_at(self, x: float) -> Section | None:
        at = self._seconds(x)
        return next((s for s in self._bench.session.sections if s.start <= at < s.end), None)

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._picture is None or self._words is None:
            self._picture, self._words = drawn(self, self._drawing.draw), drawn(self, self._drawing.draw_words)
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._picture)
        c, x = colours(), self._x(self._playhead)
        mark, colour = self._mark
        in_sight = MARGIN - 1 <= x <= self.width() - MARGIN + 1
        if in_sight:
            painter.setPen(QPen(c[colour], 2))
            painter.drawLine(QPointF(x, RIBBON[0] + RIBBON[1]), QPointF(x, self.height() - CAPTION))
        painter.drawPixmap(0, 0, self._words)
        if in_sight and mark:
            self._write_heard(painter, x, mark, colour)
        if self._marking is not None:
            left, right = sorted(self._x(t) for t in self._marking)
            top, tall = self._drawing.waves
            painter.fillRect(QRectF(left, top, right - left, tall), c.soft("signal", 60))
        if self.hasFocus():
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.drawRect(1, 1, self.width() - 3, self.height() - 3)

    def _follow_heard(self) -> None:
        """What plays, where it is not the result, and the colour of its kind; kept, as it is drawn with the playhead."""
        hear, before = self._bench.session.view.hear, self._mark
        found = next((h for h in self._bench.listening.hearables() if h.id == hear), None) if hear != RESULT else None
        self._mark = ("", "ink") if found is None else (found.name, "ink" if found.group == SONG else "reference")
        if self._mark != before:
            self.update()

    def _write_heard(self, painter: QPainter, x: float, text: str, colour: str) -> None:
        """The name of what plays, at the playhead's foot."""
        painter.setFont(font(11))
        text = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, 2 * MARK - 16)
        width = painter.fontMetrics().horizontalAdvance(text) + 8
        left = min(max(MARGIN, x - width / 2), self.width() - MARGIN - width)
        box = QRectF(left, self.height() - CAPTION, width, CAPTION - 1)
        painter.fillRect(box, colours()[colour])
        painter.setPen(colours()["paper"])
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    @property
    def _drawing(self) -> TimelineDrawing:
        return TimelineDrawing(
            self._bench,
            self._view,
            self.width(),
            self.height(),
            self._reduction,
            self._step_reduction,
            self._waves_zoom,
        )

    # --- sections ------------------------------------------------------------------------------------------

    def _edge_at(self, x: float) -> tuple[str, str] | None:
        """The section and which of its edges lies under a place in the ribbon; the chosen section's first."""
        chosen = self._bench.session.view.section
        for section in sorted(self._bench.session.sections, key=lambda s: s.id != chosen):
            for edge in ("start", "end"):
                if abs(self._x(getattr(section, edge)) - x) <= GRIP:
                    return section.id, edge
        return None

    def snapped(self, seconds: float, to_hit: bool) -> float:
        """The nearest zero crossing of the untouched song, or (if asked) hit, near a time; itself if there is none."""
        render, song = self._bench.picture.song_render, self._bench.audio.material
        if render is None or song is None:
            return seconds
        reach = max(0.3 if to_hit else 0.005, GRIP / self._width * self._view.seconds)
        frames = Span(seconds - reach, seconds + reach).frames(song.rate, song.frames)
        x = np.asarray(render.untouched.audio[frames], dtype=np.float64)
        if to_hit:
            places = frames.start / song.rate + find_onsets(x[: round(4 * song.rate)], song.rate)
        else:
            sign = np.signbit(x.sum(axis=1))
            places = (frames.start + 1 + np.flatnonzero(sign[1:] != sign[:-1])) / song.rate
        return float(places[np.argmin(np.abs(places - seconds))]) if len(places) else seconds

    def rename(self, id: str) -> None:
        """Open a field over a section's name; Enter takes it, Escape does not."""
        section = self._bench.session.section(id)
        if section is None:
            return
        left = max(MARGIN, self._x(section.start))
        width = max(90.0, min(self.width() - MARGIN, self._x(section.end)) - left)
        edit_in_place(
            self,
            section.name,
            QRectF(left, RIBBON[0] - 2, width, RIBBON[1] + 5).toRect(),
            lambda name: self._bench.edit("Rename section", lambda s: sections.renamed(s, id, name)),
        )

    def type_lift(self, id: str) -> None:
        """Open a field over a section, for how many dB the chosen strip is lifted there."""
        section = self._bench.session.section(id)
        if section is None:
            self._bench.refuse("Choose a section first: its level is what is lifted.")
            return
        left = max(MARGIN, self._x(section.start))
        field = QRectF(left, RIBBON[0] - 2, 90.0, RIBBON[1] + 5).toRect()
        now = by_section.gain_of(self._strip, id)

        def take(text: str) -> None:
            try:
                gain = float(text.replace("−", "-").replace(",", ".").replace("dB", "").strip() or 0.0)
            except ValueError:
                self._bench.refuse(f"“{text}” is no number of dB.")
                return
            lift(self._bench, id, gain)
            self._bench.settle()

        edit_in_place(self, f"{now:+.1f} dB", field, take)

    def remove(self, id: str) -> None:
        self._bench.set_sections("Remove section", sections.without(self._bench.session.sections, id))

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        section = self._section_at(event.pos().x())
        if section is None or event.pos().y() > RIBBON[0] + RIBBON[1] + 2:
            return
        menu = QMenu(self)
        for text, then in (
            ("Rename", lambda: self.rename(section.id)),
            (f"Lift {self._strip.name} there…", lambda: self.type_lift(section.id)),
            ("Zoom to it", lambda: self.zoom_to(Span(section.start, section.end))),
            ("Remove", lambda: self.remove(section.id)),
        ):
            menu.addAction(text).triggered.connect(lambda *_, then=then: then())
        menu.exec(event.globalPos())

    # --- the mouse and the keyboard ------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        x, y = event.position().x(), event.position().y()
        in_ribbon = y < RIBBON[0] + RIBBON[1] + 2
        if event.button() == Qt.MouseButton.MiddleButton:
            self._pan = (x, self._view)
        elif event.button() == Qt.MouseButton.LeftButton and y >= self.height() - EDGE:
            self._stretching = (event.globalPosition().y(), self.height())
        elif event.button() == Qt.MouseButton.LeftButton:
            if not in_ribbon and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                at = self.snapped(self._seconds(x), to_hit=False)
                self._marking = (at, at)
                return
            self._edge = self._edge_at(x) if in_ribbon else None
            section = self._section_at(x) if in_ribbon else None
            if self._edge is not None:
                return
            note = self._note_at(event.position())
            if section is not None:
                self._lifting = (section.id, y, by_section.gain_of(self._strip, section.id), False)
            elif note is not None and note.at is not None:
                self._bench.listening.seek(min(self.length, note.at))
            else:
                self._bench.listening.seek(min(self.length, max(0.0, self._seconds(x))))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x, y = event.position().x(), event.position().y()
        in_ribbon = y < RIBBON[0] + RIBBON[1] + 2
        on_edge = self._edge is not None or (in_ribbon and self._edge_at(x) is not None)
        at_foot = self._stretching is not None or (not event.buttons() and y >= self.height() - EDGE)
        shapes = Qt.CursorShape
        self.setCursor(shapes.SizeVerCursor if at_foot else shapes.SizeHorCursor if on_edge else shapes.ArrowCursor)
        if self._stretching is not None:
            begin, tall = self._stretching
            self.stretch(tall + round(event.globalPosition().y() - begin))
            return
        to_hit = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if self._pan is not None:
            begin, view = self._pan
            self._set_view(view.start - (x - begin) / self._width * view.seconds, view.seconds)
        elif self._edge is not None:
            id, edge = self._edge
            at = self.snapped(self._seconds(x), to_hit)
            self._bench.edit(
                "Move section edge", lambda s: sections.with_edge(s, id, edge, at, self.length), f"{id}.{edge}"
            )
        elif self._lifting is not None:
            self._drag_lift(y, finely=bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        elif self._marking is not None:
            self._marking = (self._marking[0], self.snapped(self._seconds(x), to_hit))
            self.update()
        elif event.buttons() & Qt.MouseButton.LeftButton and not in_ribbon:
            self._bench.listening.seek(min(self.length, max(0.0, self._seconds(x))))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._edge is not None:
            self._bench.settle()
        if self._lifting is not None:
            id, *_, moved = self._lifting
            self._bench.settle() if moved else self._choose(id)
        if self._marking is not None:
            start, end = sorted(self._marking)
            if end - start >= sections.SHORTEST:
                session, made = sections.with_section(
                    self._bench.session, f"Section {len(self._bench.session.sections) + 1}", start, end
                )
                self._bench.edit("Add section", lambda s: s.replace(sections=session.sections))
                self._bench.look(section=made.id)
        self._pan = self._edge = self._marking = self._stretching = self._lifting = None
        self._redraw()

    @property
    def _strip(self) -> AnyStrip:
        """The strip that is lifted: the chosen one."""
        session = self._bench.session
        return session.strip(session.view.strip) or session.mix

    def _note_at(self, place: QPointF) -> Note | None:
        """The note whose mark lies under a place."""
        top = self._drawing.waves[0]
        if not top - 1 <= place.y() <= top + NOTE + 3:
            return None
        near = [(abs(self._x(n.at) - place.x()), n) for n in self._bench.session.notes if n.at is not None]
        found = min(near, key=lambda pair: pair[0], default=None)
        return found[1] if found is not None and found[0] <= NOTE else None

    def _choose(self, id: str) -> None:
        """Choose a section, or no longer."""
        section = self._bench.session.section(id)
        if section is not None:
            same = id == self._bench.session.view.section
            self._bench.look(section="" if same else id)
            if not same:
                self._bench.listening.seek(section.start)

    def _drag_lift(self, y: float, finely: bool) -> None:
        assert self._lifting is not None
        id, begun, gain, moved = self._lifting
        if moved or abs(y - begun) >= LIFTED_FROM:
            self._lifting = (id, begun, gain, True)
            lift(self._bench, id, gain + (begun - y) * DB_A_PIXEL * (0.2 if finely else 1.0))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if event.position().y() < RIBBON[0] + RIBBON[1] + 2:
            section = self._section_at(event.position().x())
            if section is not None:
                self._bench.look(section=section.id)
                self.zoom_to(Span(section.start, section.end))
        elif (note := self._note_at(event.position())) is not None:
            self.note_wanted.emit(note.id)

    def wheelEvent(self, event: QWheelEvent) -> None:
        turn = event.angleDelta().y() or event.angleDelta().x()
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom_waves(1.25 ** (turn / 120.0))
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier or event.angleDelta().x():
            self._set_view(self._view.start - turn / 1200.0 * self._view.seconds, self._view.seconds)
        else:
            self.zoom(0.8 ** (turn / 120.0), self._seconds(event.position().x()))
        event.accept()

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent) and (note := self._note_at(QPointF(event.pos()))) is not None:
            who = " (client)" if note.client else ""
            words = f"{notes.where(self._bench.session, note)}{who}: {note.text[:MOST_SHOWN]}\nDouble-click opens it."
            QToolTip.showText(event.globalPos(), plain(words), self)
            return True
        return claimed(event, OWN_KEYS) or super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys, step = Qt.Key, self._view.seconds / 50.0
        actions = {
            keys.Key_Left: lambda: self._bench.listening.seek(max(0.0, self._position - step)),
            keys.Key_Right: lambda: self._bench.listening.seek(min(self.length, self._position + step)),
            keys.Key_Home: lambda: self._bench.listening.seek(0.0),
            keys.Key_Plus: lambda: self.zoom(0.5),
            keys.Key_Equal: lambda: self.zoom(0.5),
            keys.Key_Minus: lambda: self.zoom(2.0),
            keys.Key_0: lambda: self.zoom_to(None),
        }
        if event.key() in actions:
            actions[keys(event.key())]()
        else:
            super().keyPressEvent(event)
