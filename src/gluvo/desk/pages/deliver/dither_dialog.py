"""The end of a file with each kind of dither, raised to be heard, and chosen blind if wanted."""

from __future__ import annotations

import secrets
from typing import Annotated

import msgspec
import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPen
from PySide6.QtWidgets import QButtonGroup, QDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from gluvo.compare.hearables import ENCODINGS, Hearable, Stretch, TimeMap
from gluvo.compare.match import RESULT
from gluvo.deliver.audition import KINDS, Kind, auditioned, end_of
from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.theme import colours
from gluvo.desk.controls.widgets import Toggle, button, label
from gluvo.desk.model.delivery import Delivery
from gluvo.dsp.dither import noise_of
from gluvo.measure.trace import Span
from gluvo.opened.audio import ExtraSound
from gluvo.opened.tasks import SEARCHING
from gluvo.progress import Progress
from gluvo.session.records import Deliverable
from gluvo.session.sounds import Sound
from gluvo.steps.settings import number, settings_of

LETTERS = "ABCDEFGH"


class Raising(msgspec.Struct, frozen=True):
    """How the end is heard."""

    raised: Annotated[
        float,
        number(
            "Raised by",
            "dB",
            0.0,
            72.0,
            "How much the end is raised. What is loud is held at −12 dBTP.",
            decimals=0,
            fine=1.0,
        ),
    ] = 48.0


class NoiseView(Chart):
    """Where each kind of dither has its noise, against TPDF's."""

    def __init__(self, rate: int, amount: float, parent: QWidget | None = None) -> None:
        ticks = (50, 200, 1000, 5000, 20_000)
        super().__init__(
            Axis(20.0, rate / 2.0, ticks, log=True), Axis(-36.0, 30.0, (-24, -12, 0, 12, 24), signed=True), parent
        )
        self._rate, self._amount = rate, amount
        self.setToolTip("The noise of each kind by frequency, in dB against that of TPDF: less where the ear is keen.")

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c, freqs = colours(), np.geomspace(20.0, self._rate / 2.0, 300)
        painter.setPen(QPen(c["faint"], 1.4))
        painter.drawPolyline(self.line(freqs, np.zeros(len(freqs))))
        for kind, colour in (("light", "mid"), ("ear", "side"), ("deep", "signal")):
            painter.setPen(QPen(c[colour], 1.8))
            painter.drawPolyline(self.line(freqs, noise_of(kind, self._amount, freqs, self._rate)))  # type: ignore[arg-type]

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        x = area.left() + 6
        for kind, colour in (("tpdf", "faint"), ("light", "mid"), ("ear", "side"), ("deep", "signal")):
            name = dict(KINDS)[kind]
            self.note(painter, x, area.top() + 10, name, colour)
            x += painter.fontMetrics().horizontalAdvance(name) + 14


class DitherDialog(QDialog):
    """Keys 1–5 hear a kind, Enter chooses what is heard, Escape leaves all as it was."""

    def __init__(self, parent: QWidget, delivery: Delivery, row: Deliverable) -> None:
        super().__init__(parent)
        self._delivery, self._row = delivery, row
        self.setWindowTitle(f"Hear the dither of {row.name}")
        self.setMinimumSize(520, 380)
        bench = delivery.bench
        self._rate = bench.renderer.rate if bench.renderer is not None else 48_000
        self.order = [kind for kind, _ in KINDS]
        self._heard = ""
        engine = bench.engine
        self._before = (engine.position, engine.playing) if engine is not None else (0.0, False)
        """Where playing was, and whether it did."""
        self.ready = False
        column = QVBoxLayout(self)
        column.addWidget(NoiseView(row.rate or self._rate, row.shaping / 100.0), 1)
        top = QHBoxLayout()
        self.raised = Ruler(settings_of(Raising)["raised"])
        self.raised.set_value(48.0)
        self.raised.setFixedWidth(170)
        self._by = 48.0
        self.raised.moved.connect(self._move)
        self.raised.settled.connect(self._make)
        top.addWidget(self.raised)
        self.blind = Toggle("Blind", "Hide which is which, in a new order; it is shown when you choose.")
        self.blind.toggled.connect(self._shuffle)
        top.addWidget(self.blind)
        top.addStretch(1)
        column.addLayout(top)
        line = QHBoxLayout()
        self._group = QButtonGroup(self)
        self.buttons: list[QPushButton] = []
        for n in range(len(KINDS)):
            made = button("", f"Hear it. Key {n + 1}.", kind="hear", checkable=True)
            made.clicked.connect(lambda _=False, n=n: self.hear(n))
            self._group.addButton(made)
            self.buttons.append(made)
            line.addWidget(made)
        column.addLayout(line)
        self.state = label("", "caption")
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        last = QHBoxLayout()
        last.addStretch(1)
        self.take = button("Choose this", "Use what is heard for this file (Enter).", self._choose, "main")
        last.addWidget(self.take)
        last.addWidget(button("Close", "Leave the file as it was.", self.reject))
        column.addLayout(last)
        self._names()
        self._make()

    def _names(self) -> None:
        names = dict(KINDS)
        for n, made in enumerate(self.buttons):
            text = LETTERS[n] if self.blind.on else names[self.order[n]]
            made.setText(f"{n + 1}  {text}")
            made.setEnabled(self.ready)
        self.take.setEnabled(self.ready and bool(self._heard))

    def _move(self, value: float) -> None:
        self._by = value
        self.raised.set_value(value)

    def _shuffle(self, _on: bool) -> None:
        """A new order when it is hidden, from the system's generator; the plain one when it is not."""
        self.order = [kind for kind, _ in KINDS]
        if self.blind.on:
            secrets.SystemRandom().shuffle(self.order)
        self._heard = ""
        self._delivery.bench.listening.hear(RESULT)
        self.state.setText("Keys 1 to 5 hear them. Enter chooses, and shows which it was." if self.blind.on else "")
        self._names()

    def _make(self) -> None:
        """Render the end, and every kind of it."""
        bench, row, by = self._delivery.bench, self._row, self._by
        renderer, session = bench.renderer, bench.session
        if renderer is None:
            return
        seconds = end_of(row, renderer.seconds)
        span = Span(renderer.seconds - seconds, renderer.seconds)

        def work(progress: Progress) -> dict[Kind, np.ndarray]:
            joint = renderer.joint(renderer.plan(session).result, None, progress)
            return auditioned(joint.heard_in(span).astype(np.float64), renderer.rate, row, by, progress)

        def done(found: dict[Kind, np.ndarray]) -> None:
            if not self.isVisible() and self.ready:
                return
            stretch = TimeMap((Stretch(span.start, span.end, 0.0, seconds),))
            for kind, audio in found.items():
                heard = Hearable(f"dither-{kind}", ENCODINGS, "Dither", "The end, raised.", time=stretch, listed=False)
                bench.listening.add_extra(ExtraSound(heard, Sound(audio, renderer.rate), matched=False))
            self.ready = True
            bench.listening.loop_span(span)
            self._names()

        bench.background.run(SEARCHING, "Dithering the end", work, done)

    def hear(self, n: int) -> None:
        """Hear one of them, by its place."""
        if self.ready and 0 <= n < len(self.order):
            self._heard = self.order[n]
            self.buttons[n].setChecked(True)
            self._delivery.bench.listening.hear(f"dither-{self._heard}")
            self._names()

    def _choose(self) -> None:
        if not self._heard:
            return
        self._delivery.change(self._row.id, "dither", self._heard)
        if self.blind.on:
            name = dict(KINDS)[self._heard]
            self.blind.set_on(False)
            self.order = [kind for kind, _ in KINDS]
            self._names()
            self.state.setText(f"It was: {name}. The file has it now.")
            return
        self.accept()

    def done(self, result: int) -> None:
        bench = self._delivery.bench
        bench.listening.loop_span(None)
        for kind, _ in KINDS:
            bench.listening.drop_extra(f"dither-{kind}")
        bench.listening.hear(RESULT)
        place, playing = self._before
        if self.ready and bench.engine is not None:
            bench.listening.seek(place)
            if not playing:
                bench.engine.stop()
        super().done(result)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.text().isdigit() and 1 <= int(event.text()) <= len(KINDS):
            self.hear(int(event.text()) - 1)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._choose()
        else:
            super().keyPressEvent(event)
