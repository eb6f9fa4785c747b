"""Tonal match: an equaliser from the difference to references, heard before it is kept."""

from __future__ import annotations

from dataclasses import replace

import msgspec
import numpy as np
from PySide6.QtCore import QRectF, Qt, QTimer
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from gluvo.advise.adaptive_tone import Adapted, adapted
from gluvo.advise.tonal_match import MatchSettings, TonalMatch, tonal_match, with_match
from gluvo.compare.match import RESULT
from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.controls.flow import Lines
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.theme import colours
from gluvo.desk.controls.widgets import ChoiceBox, Toggle, button, figure, label
from gluvo.desk.model.comparing import Comparing
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.measure.trace import Span
from gluvo.opened.audio import joint_of
from gluvo.opened.tasks import SEARCHING
from gluvo.progress import Progress
from gluvo.session.records import Session
from gluvo.steps.settings import settings_of

ALL = "all references"
SOON_MS = 250


class MatchView(Chart):
    """What is to be made up, what the bands do, and what remains."""

    def __init__(self) -> None:
        super().__init__(
            Axis(25.0, 18_000.0, (50, 200, 1000, 5000), log=True), Axis(-8.0, 8.0, (-6, -3, 0, 3, 6), signed=True)
        )
        self._found: TonalMatch | None = None
        self.setMinimumHeight(110)
        self.setToolTip(
            "By frequency, dB: what is to be made up (violet), what the bands do (blue), and what then remains of the "
            "difference (orange). Mid is drawn solid, side dashed."
        )

    def show_match(self, found: TonalMatch | None) -> None:
        self._found = found
        self.changed()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._found is None:
            self.say(painter, "Find a match to see what would be made up.")
            return
        for part in self._found.components:
            dash = Qt.PenStyle.DashLine if part.part == "side" else Qt.PenStyle.SolidLine
            for values, colour, width in (
                (part.wanted, "reference", 1.4),
                (part.made, "signal", 2.0),
                (part.remains, "mid", 1.2),
            ):
                painter.setPen(QPen(c[colour], width, dash))
                painter.drawPolyline(self.line(part.centres, np.asarray(values)))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        if self._found is not None:
            for n, (text, colour) in enumerate((("to make up", "reference"), ("bands", "signal"), ("remains", "mid"))):
                self.note(painter, area.left() + (0, 74, 122)[n], area.bottom() - 10, text, colour)


class MatchPanel(QWidget):
    """What is heard here is not part of the session until it is added."""

    def __init__(self, bench: Workbench, comparing: Comparing) -> None:
        super().__init__()
        self._bench, self._comparing = bench, comparing
        self.settings = MatchSettings()
        self.found: TonalMatch | None = None
        self.moves: tuple[Adapted, ...] = ()
        """What its bands do where they move."""
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        row = QHBoxLayout()
        row.addWidget(label("Towards"))
        self.towards = ChoiceBox()
        self.towards.setAccessibleName("Towards")
        self.towards.setToolTip("Whose tone is aimed at, in the sections that are paired with the chosen one.")
        self.towards.activated.connect(lambda _: self._soon())
        row.addWidget(self.towards, 1)
        column.addLayout(row)
        row = QHBoxLayout()
        declared = settings_of(MatchSettings)
        self.amount, self.bands = Ruler(declared["amount"]), Ruler(declared["bands"])
        for name, ruler in (("amount", self.amount), ("bands", self.bands)):
            ruler.set_value(getattr(self.settings, name))
            ruler.moved.connect(lambda value, name=name: self._set(name, value))
            row.addWidget(ruler)
        column.addLayout(row)
        row = QHBoxLayout()
        self.apart = Toggle("Mid and side apart", declared["apart"].tip)
        self.whole = Toggle("Below 30 Hz, above 16 kHz", declared["whole"].tip)
        self.adaptive = Toggle("Only where it departs", declared["adaptive"].tip)
        for name, toggle in (("apart", self.apart), ("whole", self.whole), ("adaptive", self.adaptive)):
            toggle.toggled.connect(lambda on, name=name: self._set(name, on))
            row.addWidget(toggle)
        row.addStretch(1)
        column.addLayout(row)
        self.view = MatchView()
        column.addWidget(self.view, 1)
        self.words = Lines(4, "caption")
        column.addWidget(self.words)
        row = QHBoxLayout()
        self.search = button(
            "Find match", "Fit bands to the difference between the result and the references.", self.look_for, "main"
        )
        self.ear = button(
            "Hear it", "Play with the match in place, before it is kept; again for without.", checkable=True
        )
        self.ear.toggled.connect(self._hear)
        self.add = button(
            "Add as Mid-side EQ",
            "Put it into the mix bus's chain, before the limiter; it can be edited and undone.",
            self._add,
        )
        for made in (self.search, self.ear, self.add):
            row.addWidget(made)
        row.addStretch(1)
        column.addLayout(row)
        self._timer = QTimer(self, singleShot=True, interval=SOON_MS)
        self._timer.timeout.connect(self.look_for)
        comparing.changed.connect(self.refresh)
        Follower(self, bench, self._forget, session=lambda s: (s.sound, s.view.section))

    def _forget(self) -> None:
        """What was found is of another sound."""
        self.ear.setChecked(False)
        self.found, self.moves = None, ()
        self.refresh()

    def _set(self, name: str, value: float | bool) -> None:
        wanted = round(value) if name == "bands" else value
        self.settings = msgspec.structs.replace(self.settings, **{name: wanted})
        if name in ("amount", "bands"):
            (self.amount if name == "amount" else self.bands).set_value(float(wanted))
        self._soon()

    def _soon(self) -> None:
        if self.found is not None:
            self._timer.start()

    def look_for(self) -> None:
        """Look for bands; what was found is shown, and heard if one listens."""
        comparison, settings, rate = self._comparing.found, self.settings, self._bench.renderer
        own = comparison.column(RESULT)
        if own is None or rate is None:
            self._bench.tell("There is nothing to match yet: wait until the section is measured.", True)
            return
        towards = self.towards.currentData()
        chosen = [c for c in comparison.references if towards in (ALL, c.hearable.id)]
        references = [(c.profile.tone, c.profile.figures.integrated) for c in chosen]

        session, span, audio = self._bench.session, self._bench.span, self._bench.audio
        theirs = [
            (joint_of(audio.references[c.hearable.id]), c.span) for c in chosen if c.hearable.id in audio.references
        ]

        def work(check: Progress) -> tuple[TonalMatch, tuple[Adapted, ...]]:
            match = tonal_match(own.profile.tone, references, rate.rate, settings, lambda d: check(0.6 * d))
            if not settings.adaptive:
                return match, ()
            placed, id = with_match(session, match.step)
            plan = rate.plan(placed)
            stretch = span or Span(0.0, rate.seconds)
            before = rate.joint(plan.before[id], stretch, lambda d: check(0.6 + 0.2 * d), plan.result.memory)
            step, moves = adapted(match.step, (before, span), theirs, lambda d: check(0.8 + 0.2 * d))
            return replace(match, step=step), moves

        def done(result: tuple[TonalMatch, tuple[Adapted, ...]]) -> None:
            self.found, self.moves = result
            if self.ear.isChecked():
                self._hear(True)
            self.refresh()

        self._bench.background.run(SEARCHING, "Matching the tone", work, done)

    def _hear(self, on: bool) -> None:
        if on and self.found is not None:
            self._bench.listening.hear(RESULT)
            self._bench.listening.hunt(with_match(self._bench.session, self.found.step)[0])
        else:
            self._bench.listening.hunt(None)

    def _add(self) -> None:
        if self.found is None:
            return
        step = self.found.step
        self.ear.setChecked(False)
        made: list[str] = []

        def edit(session: Session) -> Session:
            changed, id = with_match(session, step)
            made.append(id)
            return changed

        if self._bench.edit("Match tone", edit) and made:
            self._bench.look(page="shape", strip="mix", step=made[-1])

    def refresh(self) -> None:
        if not self.isVisible():
            return
        references = self._comparing.found.references
        wanted = [("All references", ALL), *((c.hearable.name, c.hearable.id) for c in references)]
        if [(self.towards.itemText(n), self.towards.itemData(n)) for n in range(self.towards.count())] != wanted:
            self.towards.clear()
            for words, data in wanted:
                self.towards.addItem(words, data)
        self.search.setEnabled(bool(references))
        found = self.found
        for made in (self.ear, self.add):
            made.setEnabled(found is not None and bool(found.step.bands))
        self.view.show_match(found)
        if found is None:
            self.words.setText("" if references else "Nothing to match to: add references, and pair their sections.")
            return
        if self.moves:
            self.words.setText("\n".join(one.words() for one in self.moves))
            return
        bands = ", ".join(
            f"{b.freq:.0f} Hz {figure(b.gain, 1, signed=True)} dB" + (f" ({b.target})" if b.target != "stereo" else "")
            for b in found.step.bands
        )
        self.words.setText(f"{bands or 'No band is needed.'}\nAt most {found.error:.1f} dB remain of that difference.")

    def showEvent(self, event: object) -> None:
        self.refresh()

    def hideEvent(self, event: object) -> None:
        self.ear.setChecked(False)
