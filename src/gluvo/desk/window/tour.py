"""The tour: the first steps inside the program, as quiet notes that point at the place and go on when the thing was done."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from PySide6.QtCore import QEvent, QObject, QPoint, QRect, QSettings, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout, QWidget

from gluvo.compare.match import UNTOUCHED
from gluvo.desk.controls.theme import colours
from gluvo.desk.controls.widgets import button, label
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.shape import ShapePage
from gluvo.session.records import Session
from gluvo.steps.ceiling import last_limiter
from gluvo.steps.mid_side_eq import equaliser

KEY = "tour/step"
"""Where it is kept how far one came."""
WIDE, AWAY = 330, 10
"""Pixels of a note, and between it and what it points at."""


class TourDesk(Protocol):
    """What notes point at: a window."""

    bench: Workbench

    @property
    def header(self) -> QWidget: ...
    @property
    def hear_row(self) -> QWidget: ...
    @property
    def shape(self) -> ShapePage: ...
    @property
    def pages(self) -> QWidget: ...


@dataclass(frozen=True)
class Stop:
    """One thing to be done."""

    title: str
    text: str
    place: Callable[[TourDesk], QWidget | None]
    done: Callable[[Session, Session], bool]
    """Whether it was done, by the session when the note appeared and as it is now."""


def _control(name: str) -> Callable[[TourDesk], QWidget | None]:
    """A control of the editor that is shown; the ledger where there is none of that name."""

    def find(desk: TourDesk) -> QWidget | None:
        editor = desk.shape.editor
        if isinstance(editor, StepEditor) and (found := editor.controls.get(name)) is not None and found.isVisible():
            return found
        return desk.shape.ledger if desk.shape.ledger.isVisible() else desk.pages

    return find


def _ledger(desk: TourDesk) -> QWidget | None:
    return desk.shape.ledger if desk.shape.ledger.isVisible() else desk.header


def _target(desk: TourDesk) -> QWidget | None:
    return desk.shape.target if desk.shape.target.isVisible() else desk.header


def _any_step(*settings: str) -> Callable[[Session, Session], bool]:
    """Whether one of these settings of a step that has them all is another."""

    def values(session: Session) -> dict[str, list[object]]:
        having = (item for item in session.items if all(hasattr(item, name) for name in settings))
        return {item.id: [getattr(item, name) for name in settings] for item in having}

    def done(before: Session, now: Session) -> bool:
        known = values(before)
        return any(id in known and known[id] != found for id, found in values(now).items())

    return done


def _drive(session: Session) -> tuple[float, int]:
    limiter = last_limiter(session.mix.chain)
    return (limiter.drive if limiter is not None else 0.0), len(session.mix.chain)


def _on_page(page: str) -> Callable[[Session, Session], bool]:
    return lambda _before, now: now.view.page == page


STOPS: tuple[Stop, ...] = (
    Stop(
        "Hear what was done",
        "Press 2: the untouched mix, as loud as the result and in time with it. 1 is the result again. Space plays and stops.",
        lambda desk: desk.hear_row,
        lambda _before, now: now.view.hear == UNTOUCHED,
    ),
    Stop(
        "Move a threshold",
        "Choose the Glue in the ledger on the left, and drag Threshold. The hits, the ledger and the target follow.",
        _control("threshold"),
        _any_step("threshold"),
    ),
    Stop(
        "Aim by what you read",
        "Type an aim under Reduce by and switch Hold on: the threshold is found for you from now on, whatever changes before it.",
        _control("hold_aim"),
        _any_step("aim", "hold_aim"),
    ),
    Stop(
        "Reach the target",
        "Press Ctrl+R. The limiter's drive is found on the whole song, and what it costs is told.",
        _target,
        lambda before, now: _drive(before) != _drive(now),
    ),
    Stop(
        "Shape the tone",
        "Choose the Mid-side EQ in the ledger. A double-click in a lane makes a bell; H, held, hunts for what disturbs.",
        _ledger,
        lambda _before, now: equaliser(now.item(now.view.step)) is not None,
    ),
    Stop(
        "Look upstream",
        "Press Ctrl+1: the buses, and what flows into the mix.",
        lambda desk: desk.header,
        _on_page("buses"),
    ),
    Stop(
        "Compare",
        "Press Ctrl+3: what differs from the references, in the sections that belong together, at equal loudness.",
        lambda desk: desk.header,
        _on_page("compare"),
    ),
    Stop(
        "Keep a version",
        "Press Ctrl+Alt+V and name it: the song as it is now can be heard against whatever comes, also blind.",
        lambda desk: desk.header,
        lambda before, now: len(now.versions) > len(before.versions),
    ),
    Stop(
        "See what is wrong",
        "Press Ctrl+5: what can be computed to be wrong. H hears one, B the song before and after, E makes the edit.",
        lambda desk: desk.header,
        _on_page("watch"),
    ),
    Stop(
        "Hand it over",
        "Press Ctrl+4: files are written, and measured by reading them back.",
        lambda desk: desk.header,
        _on_page("deliver"),
    ),
    Stop(
        "And then",
        "V tries values of a setting, Ctrl+Alt+N drafts a start, Shift+F1 tells what a control does, F1 lists all keys.",
        lambda desk: desk.header,
        lambda _before, _now: False,
    ),
)
"""In their order; a new one is a record here."""


class Pointer(QWidget):
    """A thin frame about what a note points at; it takes nothing from the mouse."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hide()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(QPen(colours()["signal"], 2))
        painter.drawRect(self.rect().adjusted(1, 1, -2, -2))


class Tour(QFrame):
    """A note at a time, over the window's body; nothing on the page moves for it."""

    def __init__(self, desk: TourDesk, body: QWidget, settings: QSettings) -> None:
        super().__init__(body)
        self._desk, self._body, self._settings = desk, body, settings
        self.setProperty("role", "notice")
        self.setFixedWidth(WIDE)
        self.pointer = Pointer(body)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 10, 14, 10)
        column.setSpacing(6)
        self.title = label("", "title")
        self.text = label("")
        self.text.setWordWrap(True)
        column.addWidget(self.title)
        column.addWidget(self.text)
        row = QHBoxLayout()
        self.count = label("", "caption")
        row.addWidget(self.count, 1)
        self.back = button("Back", "The note before.", lambda: self._go(self.place - 1), "plain")
        self.next = button("Next", "Go on without having done it.", lambda: self._go(self.place + 1), "plain")
        self.leave = button("Leave", "Leave the tour; Help › Tour takes it up here again.", self.stop, "plain")
        for made in (self.back, self.next, self.leave):
            row.addWidget(made)
        column.addLayout(row)
        self.place = 0
        self._before = Session()
        self.hide()
        body.installEventFilter(self)
        Follower(self, desk.bench, self._look, session=lambda s: (s,))

    @property
    def on(self) -> bool:
        return self.isVisible()

    def start(self) -> None:
        """Begin, or go on where one left; from the beginning where one came to the end."""
        kept = self._settings.value(KEY, 0)
        place = int(str(kept)) if str(kept).isdigit() else 0
        self._go(place if place < len(STOPS) - 1 else 0)

    def stop(self) -> None:
        """Leave."""
        self._settings.setValue(KEY, self.place)
        self.hide()
        self.pointer.hide()

    def _go(self, place: int) -> None:
        if place >= len(STOPS):
            self.place = len(STOPS) - 1
            self.stop()
            return
        self.place = max(0, place)
        stop = STOPS[self.place]
        self._before = self._desk.bench.session
        self.title.setText(stop.title)
        self.text.setText(stop.text)
        self.setAccessibleName(f"{stop.title}. {stop.text}")
        self.count.setText(f"{self.place + 1} of {len(STOPS)}")
        self.back.setEnabled(self.place > 0)
        last = self.place == len(STOPS) - 1
        self.next.setText("Done" if last else "Next")
        self.leave.setVisible(not last)
        self._settings.setValue(KEY, self.place)
        self.show()
        self._stand()

    def _look(self) -> None:
        """Go on if the thing was done."""
        if not self.on:
            return
        if STOPS[self.place].done(self._before, self._desk.bench.session):
            self._go(self.place + 1)
        else:
            self._stand()

    def _stand(self) -> None:
        """Beside what it points at, inside the body."""
        layout = self.layout()
        if layout is not None:
            layout.activate()
            self.resize(WIDE, layout.heightForWidth(WIDE))
        widget = STOPS[self.place].place(self._desk)
        if widget is None or not widget.isVisible():
            self.pointer.hide()
            self.move(self._body.width() - self.width() - 20, self._body.height() - self.height() - 40)
        else:
            at = QRect(widget.mapTo(self._body, QPoint(0, 0)), widget.size())
            self.pointer.setGeometry(at.adjusted(-3, -3, 3, 3).intersected(self._body.rect()))
            self.pointer.show()
            self.pointer.raise_()
            self.move(self._beside(at))
        self.raise_()

    def _beside(self, at: QRect) -> QPoint:
        """Below it, above it, or to its right or left: where there is room."""
        body, wide, high = self._body.rect(), self.width(), self.height()
        x = min(max(8, at.left()), body.right() - wide - 8)
        if at.bottom() + AWAY + high < body.bottom():
            return QPoint(x, at.bottom() + AWAY)
        y = min(max(8, at.top()), body.bottom() - high - 8)
        if at.right() + AWAY + wide < body.right():
            return QPoint(at.right() + AWAY, y)
        if at.left() - AWAY - wide > 0:
            return QPoint(at.left() - AWAY - wide, y)
        return QPoint(x, max(8, at.top() - AWAY - high))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize and self.on:
            self._stand()
        return False
