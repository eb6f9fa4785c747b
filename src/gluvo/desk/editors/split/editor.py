"""The editor of the Split: one spectrum over all, and under the span of each band its column."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from functools import partial
from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import QPointF, QRect, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QFrame, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from gluvo.desk.controls.theme import colours
from gluvo.desk.controls.widgets import ChoiceRow, Segments
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.split.column import BandColumn, Does
from gluvo.desk.editors.split.crossings import Crossings
from gluvo.desk.model.workbench import Workbench
from gluvo.dsp.kernel import Floats
from gluvo.measure.overview import heard_hops
from gluvo.measure.trace import Span
from gluvo.render.joint import Joint
from gluvo.session.records import Session
from gluvo.steps import Split, SplitBand, Step, settings_of
from gluvo.steps.split import MOST_BANDS, BandSet

LEAST_COLUMN = 150
"""Pixels under which a column does not shrink, however narrow its band; its mark then leads to it aslant."""
LEAD = 16
"""Pixels from the spectrum to the columns, in which the marks lead to their edges."""
SPECTRUM_HEIGHT = 140


class Columns(QWidget):
    """Columns as wide as their bands lie in the spectrum above, with lines from the crossovers to their edges."""

    def __init__(self) -> None:
        super().__init__()
        self.columns: list[BandColumn] = []
        self._marks: list[float] = []
        self._ends = 0.0, 100.0
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Preferred)

    def show_columns(self, columns: Sequence[BandColumn]) -> None:
        for old in self.columns:
            if old not in columns:
                old.hide()
                old.deleteLater()
        self.columns = list(columns)
        for column in columns:
            column.setParent(self)
            column.show()
        self.arrange(self._marks, self._ends)

    def arrange(self, marks: Sequence[float], ends: tuple[float, float]) -> None:
        """`marks`: where the crossovers stand, in pixels; `ends`: where the spectrum begins and ends."""
        self._marks, self._ends = list(marks), ends
        for column, (left, right) in zip(self.columns, self.edges(), strict=False):
            column.setGeometry(QRect(left, LEAD, right - left, max(self.height() - LEAD, self._wanted() - LEAD)))
        self.setMinimumHeight(self._wanted())
        self.update()

    def edges(self) -> list[tuple[int, int]]:
        """Where each column begins and ends: as its band does, but no narrower than can be used."""
        count = len(self.columns)
        if not count or len(self._marks) != count - 1:
            return []
        left, right = 0.0, float(self.width())
        least = min(LEAST_COLUMN, (right - left) / count)
        places = [left, *self._marks, right]
        for n in range(1, count):  # wide enough from the left, then from the right
            places[n] = max(places[n], places[n - 1] + least)
        for n in range(count - 1, 0, -1):
            places[n] = min(places[n], places[n + 1] - least)
        return [(round(a), round(b)) for a, b in itertools.pairwise(places)]

    def _wanted(self) -> int:
        heights = [
            max(column.sizeHint().height(), column.heightForWidth(max(100, right - left)))
            for column, (left, right) in zip(self.columns, self.edges(), strict=False)
        ]
        return LEAD + max(heights, default=0)

    def sizeHint(self) -> QSize:
        return QSize(400, self._wanted())

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.arrange(self._marks, self._ends)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colours()["rule"], 1))
        for mark, (left, _) in zip(self._marks, self.edges()[1:], strict=False):
            painter.drawLine(QPointF(mark, 0.0), QPointF(left + 0.5, LEAD))
            painter.drawLine(QPointF(left + 0.5, LEAD), QPointF(left + 0.5, self.height()))


class SplitEditor(StepEditor[Split]):
    """Bands, or the spectrum with all of its controls."""

    wide = True

    def __init__(self, bench: Workbench, step: Split) -> None:
        self._part = int(step.set_of(bench.session.view.band).part == "side")
        """Which of the Split's sets is shown: its first, or the side's."""
        super().__init__(bench, step)

    def build_views(self) -> None:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.crossings = Crossings()
        self.crossings.setFixedHeight(SPECTRUM_HEIGHT)
        self.crossings.moved.connect(self._move_crossover)
        self.crossings.settled.connect(self.bench.settle)
        column.addWidget(self.crossings)
        self.columns = Columns()
        self.area = QScrollArea()
        self.area.setWidget(self.columns)
        self.area.setWidgetResizable(True)
        self.area.setFrameShape(QFrame.Shape.NoFrame)
        self.area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column.addWidget(self.area, 1)
        settings = settings_of(Split)
        self.count = Segments(
            [(str(n), str(n)) for n in range(2, MOST_BANDS + 1)],
            "How many bands. One more divides the widest; one less merges the highest into its neighbour.",
        )
        self.count.chosen.connect(lambda n: self._set_count(int(n)))
        self.head.addWidget(self.count)
        for name in ("slope", "phase"):
            made = ChoiceRow(settings[name], named=False, roomy=True)
            made.chosen.connect(lambda value, name=name: self.bench.set_setting(self.step_id, name, value, name))
            self.controls[name] = made
            self.head.addWidget(made)
        self.parts = Segments(
            [("stereo", "Stereo"), ("mid", "Mid"), ("side", "Side")],
            "All of the sound divided alike; or mid and side each by crossovers of its own, with the phase of both turned "
            "alike. Those of mid or of side are shown.",
        )
        self.parts.chosen.connect(self._set_part)
        self.head.addWidget(self.parts)
        amount = self.control(settings["amount"])
        amount.setFixedWidth(118)
        self.head.addWidget(amount)
        self.head.addSpacing(6)
        self.add_views([("bands", "Bands", page)])
        self.does = Does(self._change, self._divide, self._merge, self._copy, self._remove)

    def build_settings(self, kind: type[Step]) -> None:
        """The Split's own settings stand at its head."""

    def squeezed(self) -> list[Segments]:
        return [self.chooser, self.parts, self.count]

    @property
    def shown(self) -> BandSet | None:
        """The set of bands that is shown."""
        step = self.step
        return step.sets[min(self._part, len(step.sets) - 1)] if step is not None else None

    def _set_part(self, part: str) -> None:
        """Divide all alike, or mid and side each for itself, and show one of them."""
        step = self.step
        if step is None:
            return
        self._part = int(part == "side")
        if bool(step.side_bands) is (part == "stereo"):
            apart = part != "stereo"
            self._edit("Mid and side apart" if apart else "All in stereo", lambda split: split.with_side(apart))
        self.bench.look(band=0)
        self.refresh()

    # --- what can be done ----------------------------------------------------------------------------------

    def _edit(self, action: str, change: Any, together: str = "") -> None:
        """Put the Split into the session as `change` leaves it."""

        def edit(session: Session) -> Session:
            now = session.item(self.step_id)
            return session.with_step(change(now)) if isinstance(now, Split) else session

        before = self.step
        self.bench.edit(action, edit, f"{self.step_id}.{together}" if together else None)
        gone = sum(map(len, before.rows)) - sum(map(len, self.step.rows)) if before is not None and self.step else 0
        if gone > 0:
            what = "A step went" if gone == 1 else f"{gone} steps went"
            self.bench.tell(f"{what} with its band. Undo brings it back.", False)

    def _change(self, band: int, name: str, value: Any) -> None:
        label = settings_of(SplitBand)[name].label.lower() if name in settings_of(SplitBand) else name
        where = self._name(band)
        self._edit(f"{where} {label}", lambda split: split.with_band(band, **{name: value}), f"{band}.{name}")

    def _name(self, band: int) -> str:
        step = self.step
        return step.names[step.place(band)] if step is not None else ""

    def _move_crossover(self, place: int, freq: float) -> None:
        freq = round(freq, 1)
        step = self.step
        part = min(self._part, len(step.sets) - 1) if step is not None else 0
        self._edit("Move crossover", lambda split: split.with_crossover(place, freq, part), f"crossover.{part}.{place}")

    def _divide(self, band: int) -> None:
        self._edit(f"Split {self._name(band)} in two", lambda split: split.divided(band))

    def _merge(self, band: int) -> None:
        self._edit(f"Merge {self._name(band)} with the next", lambda split: split.merged(band))

    def _remove(self, band: int) -> None:
        self._edit(f"Take out {self._name(band)}", lambda split: split.without_part(band))

    def _copy(self, band: int, to: int) -> None:
        """Copies of the steps of a band, with ids of their own, and its settings, in place of another's."""
        self.bench.edit(
            f"Copy {self._name(band)} to {self._name(to)}", lambda session: copied(session, self.step_id, band, to)
        )

    def _set_count(self, count: int) -> None:
        def change(split: Split) -> Split:
            part = min(self._part, len(split.sets) - 1)
            while len((now := split.sets[part]).bands) < count:
                widest = max(range(len(now.bands)), key=lambda n: now.edges[n][1] / now.edges[n][0])
                more = split.divided(now.bands[widest].id)
                if more is split:
                    break
                split = more
            while len(split.sets[part].bands) > count:
                split = split.merged(split.sets[part].bands[-2].id)
            return split

        self._edit(f"{count} bands", change)

    # --- keeping up ----------------------------------------------------------------------------------------

    def refresh(self) -> None:
        step, shown = self.step, self.shown
        if step is not None and shown is not None:
            ids = [band.id for band in shown.bands]
            if [column.band_id for column in self.columns.columns] != ids:
                known = {column.band_id: column for column in self.columns.columns}
                self.columns.show_columns(
                    [known.get(band.id) or BandColumn(self.bench, step, band, self.does) for band in shown.bands]
                )
            self.count.set_chosen(str(len(shown.bands)))
            self.parts.set_chosen(shown.part)
            for column in self.columns.columns:
                column.refresh(self.bench.session, step, self.beside)
            self.crossings.show_crossovers(shown.crossovers)
            analyser = msgspec.structs.replace(
                self.bench.session.view.analyser, live=False, corridor=False, change=False
            )
            if shown.part != "stereo":
                analyser = msgspec.structs.replace(analyser, part=shown.part)
            self.crossings.show_settings(analyser)
            self._arrange()
        super().refresh()

    def _arrange(self) -> None:
        shown = self.shown
        if shown is not None:
            area = self.crossings.area
            marks = [self.crossings.x_at(freq) for freq in shown.crossovers]
            self.columns.arrange(marks, (area.left(), area.right()))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._arrange()

    def state_words(self, step: Split) -> list[str]:
        if step.is_transparent:
            return ["passes as it came, bit for bit, until a band does something"]
        around, renderer = self.bench.picture.around, self.bench.renderer
        late = around.late[0] if around is not None and around.step == self.step_id else 0
        return (
            [f"{1000 * late / renderer.rate:.0f} ms late, made good everywhere"]
            if late and renderer is not None
            else []
        )

    def show_picture(self) -> None:
        render, span = self.bench.picture.best, self.bench.span
        around = self.bench.picture.around
        if around is not None and around.step == self.step_id:
            self.crossings.show_tones(around.before, around.after, around.loudness[1])
        for column in self.columns.columns:
            parts = render.plan.parts.get((self.step_id, column.band_id)) if render is not None else None
            came, gives = (render.joints.get(n.key) for n in parts) if render is not None and parts else (None, None)
            change = None
            if came is not None and gives is not None and came is not gives:
                change = gives.once(("change", came.trace, span), partial(change_of, came, gives, span))
            column.show_change(change)

    def tick_inside(self, reductions: Mapping[str, float]) -> None:
        for column in self.columns.columns:
            column.tick(reductions)


def change_of(came: Joint, gives: Joint, span: Span | None) -> Floats:
    """By how many dB the level differs after from before, of every 10 ms of a span in which there was signal."""
    traces = came.section(span), gives.section(span)
    count = min(len(trace.squares) for trace in traces)
    heard = heard_hops(traces[0])[:count]
    before, after = (trace.squares[:count].mean(axis=1)[heard] for trace in traces)
    return np.asarray(10.0 * np.log10(np.maximum(after, 1e-20) / np.maximum(before, 1e-20)))


def copied(session: Session, split_id: str, band: int, to: int) -> Session:
    """A band of a Split made like another one, its place aside; the copies of its steps have ids of their own."""
    split, strip = session.item(split_id), session.strip_with(split_id)
    source = split.band(band) if isinstance(split, Split) else None
    if not isinstance(split, Split) or source is None or strip is None or split.band(to) is None:
        return session
    changes = {name: getattr(source, name) for name in ("on", "mix", "gain", "target", "key")}
    session = session.with_step(split.with_band(to, steps=(), **changes))
    last = ""
    for step in source.steps:
        known = {item.id for item in session.items}
        session = session.with_new_step(step, strip.id, last, "" if last else split.row_id(to))
        last = next(item.id for item in session.items if item.id not in known)
    return session
