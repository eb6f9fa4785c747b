"""The tree of stems and buses, drawn as it flows into the mix bus."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRect, QRectF, QSize, Qt
from PySide6.QtGui import (
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QWheelEvent,
)
from PySide6.QtWidgets import QMenu, QSizePolicy, QWidget

from gluvo.desk.controls.theme import colours, theme
from gluvo.desk.controls.widgets import drawn, edit_in_place, menu_text
from gluvo.desk.model.following import Follower, everything
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.prints_dialog import show_prints
from gluvo.desk.pages.tree_drawing import HEAD, SWITCHES, Columns, TreeDrawing
from gluvo.play.meters import Readings
from gluvo.session import tree
from gluvo.session.records import MIX, AnyStrip, Bus, Session
from gluvo.steps import settings_of

LOWEST_ROW, HIGHEST_ROW = 26, 34
"""Pixels; rows get lower before the page has to scroll."""
FLOOR, CEILING = -60.0, 3.0
"""dBFS across a meter."""
HOLD_SECONDS, FALL = 1.5, 24.0
"""How long a peak is held, and how many dB a second a level falls."""


class TreeView(QWidget):
    """Click to choose; drag a name to let it flow elsewhere; drag fader and pan; letters switch; F2 renames.

    Strips that are marked are grouped, removed and heard out together; see `Marking`.
    """

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self.rows: list[tuple[AnyStrip, int]] = tree.rows(bench.session)
        """The strips as they flow, with their depth."""
        self._picture: QPixmap | None = None
        self._levels = np.full((0, 2), FLOOR)
        self._held = np.full((0, 2), FLOOR)
        self._held_for = np.zeros((0, 2))
        self._dragged: tuple[str, QPoint] | None = None
        self._target: tuple[str, str] | None = None
        """While a strip is dragged: the bus it would flow into, and what it would stand before."""
        self._sliding: tuple[str, str, float, float] | None = None
        """Strip, setting, where the drag began and the ruler's position there."""
        self.setMinimumWidth(600)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Stems and buses")
        self.setToolTip(
            "Every stem flows into a bus and every bus on into the mix; the lines are as thick as what flows is loud. "
            "Drag a name onto a bus to let it flow there; Ctrl-click or Shift-click marks several. Drag fader and pan sideways "
            "(Shift is fine, double-click resets). M mutes, S is heard alone, ø turns the polarity. Keys: up and down choose, "
            "Alt moves, F2 renames, Enter shows the chain."
        )
        Follower(self, bench, self._strips_changed, session=lambda s: (s.strips,))
        Follower(
            self, bench, self.redraw, session=lambda s: (s.view.strip, s.view.solo, s.view.marks), picture=everything
        )
        Follower(self, bench, self._audio_changed, besides=lambda: (bench.audio,))
        bench.watching_out.changed.connect(self.redraw)
        theme.changed.connect(self.redraw)

    # --- what is shown -------------------------------------------------------------------------------------

    @property
    def _row(self) -> int:
        """A row's height."""
        count = max(1, len(self._bench.session.strips))
        return min(HIGHEST_ROW, max(LOWEST_ROW, (self.height() - HEAD - 2) // count))

    @property
    def _columns(self) -> Columns:
        return Columns(self.width(), self._row)

    @property
    def chosen(self) -> AnyStrip:
        session = self._bench.session
        return session.strip(session.view.strip) or session.mix

    def sizeHint(self) -> QSize:
        return QSize(900, HEAD + LOWEST_ROW * len(self._bench.session.strips) + 2)

    def place_of(self, id: str, part: str = "name") -> QPoint:
        """The middle of a part of a strip's row: name, a column, or a switch. For those who click by program."""
        n, depth = next((n, d) for n, (s, d) in enumerate(self.rows) if s.id == id)
        top, columns = HEAD + n * self._row, self._columns
        if part == "name":
            return QPoint(round(self._columns.x_of(depth)) + 30, round(top + self._row / 2))
        if part in ("mute", "solo", "invert"):
            place = columns.switch([key for key, _ in SWITCHES].index(part), top)
        else:
            place = columns.cell(part, top)
        return place.center().toPoint()

    def redraw(self) -> None:
        self._picture = None
        self.setAccessibleDescription(self.describe())
        self.update()

    def describe(self) -> str:
        """The chosen strip as it is read aloud."""
        strip, bench = self.chosen, self._bench
        settings = settings_of(type(strip))
        words = [strip.name, "muted" if strip.mute else "", "marked" if strip.id in bench.session.view.marks else ""]
        words += ["has a watch-out"] if strip.id in self._bench.watching_out.strips() else []
        words += [f"fader {settings['fader'].show(strip.fader)} dB", f"pan {strip.pan:.0f} %"]
        render = bench.picture.best
        sent = render.sent(strip.id, bench.span) if render is not None else None
        words += [f"{sent.integrated:.1f} LUFS", f"{sent.true_peak:.1f} dBTP"] if sent is not None else []
        return ", ".join(word for word in words if word)

    def _strips_changed(self) -> None:
        session = self._bench.session
        self.rows = tree.rows(session)
        self.setMinimumHeight(self.sizeHint().height())
        self.updateGeometry()
        self.redraw()

    def _audio_changed(self) -> None:
        self._levels[:] = self._held[:] = FLOOR
        self.redraw()

    def resizeEvent(self, event: object) -> None:
        self._picture = None

    def tick(self, readings: Readings, elapsed: float) -> None:
        """The blocks since the last call: levels fall slowly, peaks are held."""
        count = len(self._bench.session.strips)
        if len(self._levels) != count:
            self._levels, self._held = np.full((count, 2), FLOOR), np.full((count, 2), FLOOR)
            self._held_for = np.zeros((count, 2))
        now = np.full((count, 2), FLOOR)
        if len(readings.strips):
            tops = readings.strips.max(axis=0)[:count]
            now[: len(tops)] = 20.0 * np.log10(np.maximum(tops, 1e-4))
        before = (self._levels.copy(), self._held.copy())
        self._levels = np.maximum(now, np.maximum(FLOOR, self._levels - FALL * elapsed))
        self._held_for += elapsed
        fresh = (now >= self._held) | (self._held_for > HOLD_SECONDS)
        self._held = np.where(fresh, self._levels, self._held)
        self._held_for[fresh] = 0.0
        if self.isVisible() and (
            np.abs(self._levels - before[0]).max(initial=0) > 0.05 or (self._held != before[1]).any()
        ):
            left, width = self._columns.meter
            self.update(QRect(int(left) - 2, HEAD, int(width) + 4, self.height() - HEAD))

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._picture is None:
            drawing = TreeDrawing(self._bench, self._columns, self.chosen.id)
            self._picture = drawn(self, drawing.draw)
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._picture)
        self._draw_meters(painter)
        if self._target is not None:
            self._draw_target(painter)
        if self.hasFocus():
            painter.setPen(QPen(colours()["signal"], 1, Qt.PenStyle.DotLine))
            painter.drawRect(1, 1, self.width() - 3, self.height() - 3)

    def _draw_meters(self, painter: QPainter) -> None:
        c, columns = colours(), self._columns
        left, width = columns.meter
        order = {s.id: n for n, s in enumerate(self._bench.session.strips)}

        def across(level: float) -> int:
            return round(width * min(1.0, max(0.0, (level - FLOOR) / (CEILING - FLOOR))))

        for n, (strip, _) in enumerate(self.rows):
            place = order[strip.id]
            for channel in range(2):
                y = HEAD + n * self._row + self._row // 2 - 7 + channel * 8
                painter.fillRect(QRectF(left, y, width, 6), c["hair"])
                if place < len(self._levels):
                    held = float(self._held[place, channel])
                    painter.fillRect(QRectF(left, y, across(float(self._levels[place, channel])), 6), c["signal"])
                    if held > FLOOR:
                        painter.fillRect(QRectF(left + across(held) - 1, y, 2, 6), c["over" if held > 0.0 else "ink"])
            full = left + across(0.0)
            painter.fillRect(QRectF(full, HEAD + n * self._row + self._row // 2 - 9, 1, 18), c["rule"])

    def _draw_target(self, painter: QPainter) -> None:
        """Where a dragged strip would go."""
        assert self._target is not None
        into, before = self._target
        rows = [s.id for s, _ in self.rows]
        painter.setPen(QPen(colours()["signal"], 2))
        if before:
            y = HEAD + rows.index(before) * self._row
            painter.drawLine(QPointF(8, y), QPointF(280, y))
        else:
            painter.drawRect(QRectF(4, HEAD + rows.index(into) * self._row + 2, 284, self._row - 4))

    # --- actions -------------------------------------------------------------------------------------------

    @property
    def marked(self) -> list[str]:
        """The strips that are marked, as they flow."""
        marks = self._bench.marking.ids
        return [s.id for s, _ in self.rows if s.id in marks]

    def mark(self) -> None:
        """Mark the chosen strip, which stands for its whole chain, or take its mark away."""
        self._bench.marking.toggle(self.chosen.id)

    def mark_through(self, id: str) -> None:
        """Mark all strips from the chosen one to another."""
        ids = [s.id for s, _ in self.rows]
        first, last = sorted((ids.index(self.chosen.id), ids.index(id)))
        self._bench.marking.add(ids[first : last + 1])

    def duplicate(self) -> None:
        """The chosen strip once more, with its chain; it shares its file."""
        self._bench.marking.duplicate_strip(self.chosen.id)

    def choose(self, by: int) -> None:
        """The strip above (−1) or below (1)."""
        ids = [s.id for s, _ in self.rows]
        index = min(max(0, ids.index(self.chosen.id) + by), len(ids) - 1)
        self._bench.choose_strip(ids[index])

    def rename(self) -> None:
        strip = self.chosen
        n, depth = next((n, d) for n, (s, d) in enumerate(self.rows) if s.id == strip.id)
        if not self.isVisible():
            self._bench.look(page="buses")
        edit_in_place(
            self,
            strip.name,
            QRect(round(self._columns.x_of(depth)) + 8, HEAD + n * self._row + 4, 180, self._row - 8),
            lambda name: self._bench.set_strip(strip.id, "name", name, "name"),
        )

    def group(self) -> None:
        """A new bus for the marked strips, or the chosen one."""
        members = self.marked or [self.chosen.id]
        if members == [MIX]:
            members = []
        known = {s.id for s in self._bench.session.strips}
        self._bench.edit("Group into a new bus", lambda s: tree.with_bus(s, "New bus", members))
        new = [s.id for s in self._bench.session.strips if s.id not in known]
        self._bench.marking.clear()
        if new:
            self._bench.choose_strip(new[0])

    def dissolve(self) -> None:
        strip = self.chosen
        if isinstance(strip, Bus) and strip.id != MIX:
            self._bench.edit(f"Dissolve {strip.name}", lambda s: tree.dissolved(s, strip.id))

    def remove(self) -> None:
        """The chosen strip, or all that are marked."""
        ids = [id for id in self.marked or [self.chosen.id] if id != MIX]

        def edit(session: Session) -> Session:
            for id in ids:
                session = tree.removed(session, id)
            return session

        name = self.chosen.name if ids == [self.chosen.id] else f"{len(ids)} strip{'' if len(ids) == 1 else 's'}"
        if ids:
            self._bench.edit(f"Remove {name}", edit)

    def mute(self) -> None:
        self._switch(self.chosen, "mute")

    def solo(self) -> None:
        self._switch(self.chosen, "solo")

    def invert(self) -> None:
        self._switch(self.chosen, "invert")

    def _switch(self, strip: AnyStrip, key: str) -> None:
        if key != "solo":
            self._bench.set_strip(strip.id, key, not getattr(strip, key), "polarity" if key == "invert" else key)
            self._bench.settle()
        elif strip.id != MIX:
            self._bench.solo(strip.id)

    def let_flow(self, id: str, into: str, before: str = "") -> None:
        """Let a strip flow into a bus, standing before another one there."""
        strip = self._bench.session.strip(id)
        if strip is not None:
            self._bench.edit(f"Move {strip.name}", lambda s: tree.moved(s, id, into, before))

    def shift(self, by: int) -> None:
        """Move the chosen strip among those that flow into the same bus."""
        session, strip = self._bench.session, self.chosen
        row = [s.id for s in tree.children(session, strip.into)]
        if strip.id in row:
            rest = [id for id in row if id != strip.id]
            index = min(max(0, row.index(strip.id) + by), len(rest))
            self.let_flow(strip.id, strip.into, rest[index] if index < len(rest) else "")

    # --- the mouse and the keyboard ------------------------------------------------------------------------

    def _row_at(self, y: float) -> AnyStrip | None:
        n = int((y - HEAD) // self._row)
        rows = self.rows
        return rows[n][0] if 0 <= n < len(rows) and y >= HEAD else None

    def _slider_at(self, at: QPointF) -> str:
        columns = self._columns
        return next(
            (
                name
                for name in ("fader", "pan")
                if columns.cell(name, 0).adjusted(-10, 0, 6, 0).left() <= at.x() <= columns.cell(name, 0).right() + 6
            ),
            "",
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        strip = self._row_at(at.y())
        if strip is None or event.button() != Qt.MouseButton.LeftButton:
            return
        columns, top = self._columns, HEAD + int((at.y() - HEAD) // self._row) * self._row
        for n, (key, _) in enumerate(SWITCHES):
            if columns.switch(n, top).adjusted(0, -4, 0, 4).contains(at):
                self._switch(strip, key)
                return
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._bench.marking.toggle(strip.id)
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier and not self._slider_at(at):  # there Shift is fine
            self.mark_through(strip.id)
            return
        self._bench.choose_strip(strip.id)
        if name := self._slider_at(at):
            self._sliding = (strip.id, name, at.x(), settings_of(type(strip))[name].to_position(getattr(strip, name)))
        elif at.x() < columns.switches:
            self._dragged = (strip.id, at.toPoint())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if self._sliding is not None:
            id, name, start, position = self._sliding
            strip = self._bench.session.strip(id)
            if strip is None:
                return
            setting = settings_of(type(strip))[name]
            pace = 2400.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 240.0
            value = setting.to_value(position + (at.x() - start) / pace)
            shown = setting.read(setting.show(value))
            self._bench.set_strip(id, name, value if shown is None else shown, name)
        elif self._dragged is not None:
            id, start_at = self._dragged
            if self._target is not None or (at.toPoint() - start_at).manhattanLength() > 8:
                self._target = self._drop_at(id, at.y())
                self.setCursor(
                    Qt.CursorShape.ForbiddenCursor if self._target is None else Qt.CursorShape.DragMoveCursor
                )
                self.update()
        else:
            self.setCursor(
                Qt.CursorShape.SizeHorCursor
                if self._slider_at(at) and self._row_at(at.y())
                else Qt.CursorShape.ArrowCursor
            )

    def _drop_at(self, id: str, y: float) -> tuple[str, str] | None:
        """Where a strip would go if it were let go here: into a bus, or before a stem where that flows."""
        over = self._row_at(y)
        if id == MIX or over is None or over.id in tree.below(self._bench.session, id):
            return None
        upper = (y - HEAD) % self._row < self._row / 3
        if isinstance(over, Bus) and (over.id == MIX or not upper):
            return over.id, ""
        return over.into, over.id

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._sliding is not None:
            self._bench.settle()
        if self._dragged is not None and self._target is not None:
            self.let_flow(self._dragged[0], *self._target)
        self._sliding = self._dragged = self._target = None
        self.setCursor(Qt.CursorShape.ArrowCursor)
        self.redraw()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        strip = self._row_at(at.y())
        if strip is None:
            return
        if name := self._slider_at(at):
            self._bench.set_strip(strip.id, name, 0.0, name)
            self._bench.settle()
        elif at.x() < self._columns.switches:
            self.rename()

    def wheelEvent(self, event: QWheelEvent) -> None:
        strip, name = self._row_at(event.position().y()), self._slider_at(event.position())
        chosen = strip is not None and self.hasFocus() and strip.id == self.chosen.id
        wanted = chosen or bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if strip is None or not name or not wanted:
            event.ignore()  # the page scrolls
            return
        setting = settings_of(type(strip))[name]
        fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        turn = event.angleDelta().y() or event.angleDelta().x()
        step = (setting.fine if fine else setting.fine * 5.0) * (1 if turn > 0 else -1)
        self._bench.set_strip(strip.id, name, round(setting.clamp(getattr(strip, name) + step), 3), name)
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys, alt = Qt.Key, bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        actions: dict[Qt.Key, Callable[[], object]] = {
            keys.Key_Up: lambda: self.shift(-1) if alt else self.choose(-1),
            keys.Key_Down: lambda: self.shift(1) if alt else self.choose(1),
            keys.Key_Delete: self.remove,
            keys.Key_Return: lambda: self._bench.look(page="shape"),
            keys.Key_Enter: lambda: self._bench.look(page="shape"),
        }
        if event.key() in actions:
            actions[keys(event.key())]()
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        strip = self._row_at(event.pos().y())
        if strip is not None:
            self._bench.choose_strip(strip.id)
            self.menu().exec(event.globalPos())

    def menu(self) -> QMenu:
        """What can be done with the chosen strip."""
        session, strip, menu = self._bench.session, self.chosen, QMenu(self)
        for text, then in (
            ("Rename", self.rename),
            ("Group into a new bus", self.group),
            ("Dissolve bus", self.dissolve),
            ("Duplicate", self.duplicate),
            ("Mark", self.mark),
            ("Remove", self.remove),
            ("Mute", self.mute),
            ("Hear alone", self.solo),
            ("Polarity", self.invert),
            ("Prints…", lambda: show_prints(self.window(), self._bench)),
            ("Gentle and crushed", lambda: self._bench.advice.gentle_and_crushed(strip.id)),
        ):
            menu.addAction(text).triggered.connect(lambda *_, then=then: then())
        into = menu.addMenu("Flow into")
        for bus in session.strips:
            if isinstance(bus, Bus) and bus.id not in tree.below(session, strip.id):
                into.addAction(menu_text(bus.name)).triggered.connect(lambda *_, id=bus.id: self.let_flow(strip.id, id))
        return menu
