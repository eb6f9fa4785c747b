"""The Shape page: ledger, editor of the chosen step, target."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from gluvo.desk.controls.flow import Place, scrolled
from gluvo.desk.controls.widgets import line
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.registry import editor_for
from gluvo.desk.editors.source import SourceEditor
from gluvo.desk.model.following import Follower, all_but_place, everything
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.alternatives_row import AlternativesRow
from gluvo.desk.pages.base import PageWidget
from gluvo.desk.pages.ledger import Ledger
from gluvo.desk.pages.meter_strip import MeterStrip
from gluvo.desk.pages.target_panel import TargetPanel
from gluvo.play.meters import Readings
from gluvo.steps import Split

NARROWEST = 940
LEDGER_WIDTHS, TARGET_WIDTHS = (252, 270), (240, 284)
"""Pixels at the narrowest window, and from 1280 on."""


class ShapePage(PageWidget):
    blind = Signal()
    """The alternatives at hand are to be ranked blind."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        self.live = bench.live_figures
        self.ledger, self.target = Ledger(bench), TargetPanel(bench, self.live)
        self.meters = MeterStrip(bench, self.live, upright=True)
        self._beside = scrolled(self.target)
        self._place = Place()
        self.alternatives = AlternativesRow(bench, self.blind.emit)
        middle = QWidget()
        column = QVBoxLayout(middle)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.alternatives)
        column.addWidget(self._place, 1)
        self._before_target = line(vertical=True)
        parts = (
            (self.ledger, 0),
            (line(vertical=True), 0),
            (middle, 1),
            (self._before_target, 0),
            (self._beside, 0),
            (self.meters, 0),
        )
        for widget, stretch in parts:
            row.addWidget(widget, stretch)
        self.editor: StepEditor[Any] | SourceEditor | None = None
        self.ledger.opened.connect(self.open_step)
        Follower(self, bench, self._follow, session=all_but_place)
        Follower(self, bench, self._refresh, picture=everything, besides=lambda: (bench.measurement.frozen,))

    def _follow(self) -> None:
        """Show the editor of the chosen step; make one if another step was chosen."""
        step = self._bench.session.item(self._bench.session.view.step)
        shown = getattr(self.editor, "step_id", "") if self.editor is not None else None
        if self.editor is None or shown != (step.id if step else "") or self.editor.kind is not type(step):
            self.editor = editor_for(self._bench, step) if step is not None else SourceEditor(self._bench)
            self._place.show_widget(self.editor)
            wide = isinstance(self.editor, StepEditor) and self.editor.wide
            self._beside.setVisible(not wide)
            self.meters.setVisible(wide)
        self._refresh()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """The sides give way before the middle does."""
        super().resizeEvent(event)
        share = min(1.0, max(0.0, (self.width() - NARROWEST) / (1280 - NARROWEST)))
        self.ledger.setFixedWidth(round(LEDGER_WIDTHS[0] + share * (LEDGER_WIDTHS[1] - LEDGER_WIDTHS[0])))
        self._beside.setFixedWidth(round(TARGET_WIDTHS[0] + share * (TARGET_WIDTHS[1] - TARGET_WIDTHS[0])))

    def open_step(self) -> None:
        """Work on the chosen step: its first setting gets the focus."""
        self._bench.look(page="shape")
        if isinstance(self.editor, StepEditor):
            self.editor.begin()

    def choose_preset(self) -> None:
        """Choose among the presets of the step that is looked at."""
        if isinstance(self.editor, StepEditor):
            self.editor.choose_preset()

    def _refresh(self) -> None:
        if self.editor is not None:
            self.editor.refresh()

    def tick(self, readings: Readings, elapsed: float) -> None:
        """Thirty times a second."""
        engine = self._bench.engine
        self.target.tick()
        self.meters.tick()
        if engine is None or self.editor is None:
            return
        level, reduction = None, 0.0
        ids, chosen = engine.step_ids, self._bench.session.view.step
        if engine.playing and chosen in ids and len(readings.seconds):
            place = ids.index(chosen)
            if place < readings.levels.shape[1]:
                level = float(np.max(readings.levels[:, place]))
                reduction = float(np.max(readings.reductions[:, place]))
        self.editor.tick(engine.position, level, reduction)
        if isinstance(self.editor, StepEditor) and issubclass(self.editor.kind, Split):
            playing = engine.playing and len(readings.seconds) > 0
            tops = readings.reductions.max(axis=0).tolist() if playing else []
            self.editor.tick_inside(dict(zip(ids, tops, strict=False)))
