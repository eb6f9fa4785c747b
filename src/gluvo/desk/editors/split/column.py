"""One band of a Split as a column: what it does over the section, its steps with their main settings, and the band's own."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QMenu, QSizePolicy, QVBoxLayout, QWidget

from gluvo.advise.try_values import SettingPlace
from gluvo.compare.match import BAND, RESULT
from gluvo.desk.charts.change_spread import ChangeSpread
from gluvo.desk.controls.flow import Elided, Flow
from gluvo.desk.controls.widgets import Button, Toggle, button, line
from gluvo.desk.editors.key_choice import KeyChoice
from gluvo.desk.editors.setting_control import Control, offer_values, setting_control, show_second, show_value
from gluvo.desk.editors.step_menu import step_menu
from gluvo.desk.model.workbench import Workbench
from gluvo.dsp.kernel import Floats
from gluvo.session import chains
from gluvo.session.records import Session
from gluvo.steps import ChainItem, Split, SplitBand, Step, settings_of
from gluvo.steps.settings import hertz

ROOMY = 210
"""Pixels from which a column has room for its range."""
CELL = 112
"""Pixels that a setting needs at least."""


@dataclass(frozen=True)
class Does:
    """What a column has done by the editor, each for a band by its id."""

    change: Callable[[int, str, Any], object]
    """A setting of the band."""
    divide: Callable[[int], object]
    merge: Callable[[int], object]
    copy: Callable[[int, int], object]
    """Its chain and settings to another band."""
    remove: Callable[[int], object]


class StepName(Button):
    """The name of a step; Delete takes the step out, Alt with arrows moves it."""

    removed = Signal()
    moved = Signal(int)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        alt = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        if event.key() == Qt.Key.Key_Delete:
            self.removed.emit()
        elif alt and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.moved.emit(-1 if event.key() == Qt.Key.Key_Up else 1)
        else:
            super().keyPressEvent(event)


class StepBlock(QWidget):
    """A step of a band: its name, which leads to its own editor, and its main settings."""

    def __init__(self, bench: Workbench, step: Step) -> None:
        super().__init__()
        self._bench, self.step_id, self.kind = bench, step.id, type(step)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(0)
        head = QHBoxLayout()
        head.setSpacing(2)
        self.open = StepName(step.title)
        self.open.removed.connect(self.remove)
        self.open.moved.connect(self.shift)
        self.open.setProperty("kind", "plain")
        self.open.setToolTip(
            f"{step.title}: {step.summary}. Enter opens all of its settings and views; Delete takes it out, Alt with arrows "
            "moves it from band to band (a right click lists it)."
        )
        self.open.clicked.connect(lambda: bench.look(step=self.step_id))
        self.words = Elided("", "caption", 60)
        self.on = Toggle("", f"Whether this {step.title} is on.")
        self.on.setAccessibleName(f"{step.title} on")
        self.on.toggled.connect(partial(bench.set_setting, self.step_id, "on", label="on"))
        head.addWidget(self.open)
        head.addWidget(self.words, 1)
        head.addWidget(self.on)
        column.addLayout(head)
        column.addWidget(line())
        holder, flow = QWidget(), Flow(CELL, across=12, down=0)
        holder.setLayout(flow)
        self.controls: dict[str, Control] = {}
        for name, setting in settings_of(type(step)).items():
            if name in step.leading:
                change = partial(self._change, name, setting.label)
                made = self.controls[name] = setting_control(setting, change, bench.settle)
                offer_values(bench, made, partial(SettingPlace, step.id, name))
        for name in step.leading:
            flow.addWidget(self.controls[name])
        column.addWidget(holder)

    def _change(self, name: str, label: str, value: Any) -> None:
        self._bench.set_setting(self.step_id, name, value, label)

    def remove(self) -> None:
        """Take the step out of its band."""
        self._bench.edit(f"Remove {self.kind.title}", lambda session: session.without_step(self.step_id))

    def shift(self, by: int) -> None:
        """Move the step earlier or later; at the end of a band it goes into the next one."""

        def moved(session: Session) -> Session:
            strip = session.strip_with(self.step_id)
            if strip is None:
                return session
            return session.with_chain(strip.id, chains.moved(strip.chain, self.step_id, by))

        self._bench.edit("Move step", moved)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        menu.addAction("Open", self.open.click)
        menu.addAction("Move earlier", partial(self.shift, -1))
        menu.addAction("Move later", partial(self.shift, 1))
        menu.addAction("Remove", self.remove)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def refresh(self, step: Step, beside: Step | None) -> None:
        """`beside`: the step as the next alternative has it, if there is one."""
        self.on.set_on(step.on)
        self.words.setText(step.describe())
        for name, control in self.controls.items():
            show_value(control, getattr(step, name))
        show_second(self.controls, beside if type(beside) is type(step) else None)


class BandColumn(QWidget):
    """See the module."""

    def __init__(self, bench: Workbench, split: Split, band: SplitBand, does: Does) -> None:
        super().__init__()
        self._bench, self._split_id, self.band_id, self._does = bench, split.id, band.id, does
        self._reducing: tuple[str, ...] = ()
        self._gain, self._mix, self._amount = 0.0, 1.0, 1.0
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 4, 8, 8)
        column.setSpacing(4)
        head = QHBoxLayout()
        self.name = Button("")
        self.name.setProperty("kind", "plain")
        self.name.setToolTip("Choose this band: what is added from the ledger goes into it.")
        self.name.setCheckable(True)
        self.name.clicked.connect(self._choose)
        self.name.setSizePolicy(QSizePolicy.Policy.Minimum, QSizePolicy.Policy.Fixed)
        self.range = Elided("", "caption", 70)
        self.menu = QMenu(self)
        self.menu.setToolTipsVisible(True)
        self.menu.aboutToShow.connect(self._fill_menu)
        more = button(
            "…", "Split this band in two, merge it with the next, copy it to another, or take it out.", kind="plain"
        )
        more.setAccessibleName("Band menu")
        more.setMenu(self.menu)
        more.setFixedWidth(28)
        head.addWidget(self.name)
        self.add = button(
            "+ Step",
            "Add a step to this band, after those that it has. It changes nothing until you set it.",
            kind="plain",
        )
        self.add.setMenu(step_menu(self, self._add))
        for opens in (self.add, more):
            opens.setStyleSheet("QPushButton::menu-indicator { width: 0; }")
        self.add.setAccessibleName("Add a step to the band")
        head.addWidget(self.range, 1)
        head.addStretch(0)
        head.addWidget(self.add)
        head.addWidget(more)
        column.addLayout(head)
        self.spread = ChangeSpread()
        self.spread.setFixedHeight(100)
        self.words = Elided("", "caption", 80)
        column.addWidget(self.spread)
        column.addWidget(self.words)
        self._blocks_holder = QWidget()
        self._blocks = QVBoxLayout(self._blocks_holder)
        self._blocks.setContentsMargins(0, 0, 0, 0)
        self._blocks.setSpacing(4)
        self.blocks: list[StepBlock] = []
        column.addWidget(self._blocks_holder)
        switches, across = QWidget(), Flow(across=8, down=0)
        switches.setLayout(across)
        column.insertWidget(column.indexOf(self._blocks_holder), switches)  # in sight, however much stands in the band
        self.empty = Elided("The band passes as it came.", "caption", 80)
        column.addWidget(self.empty)
        column.addWidget(line())
        holder, flow = QWidget(), Flow(CELL, across=12, down=2)
        holder.setLayout(flow)
        settings = settings_of(SplitBand)
        self.controls = {
            name: setting_control(settings[name], partial(does.change, band.id, name), bench.settle)
            for name in ("mix", "gain", "target", "on")
        }
        self.alone = Toggle("Hear alone", "Listen to this band alone, or to several (for the ears only).")
        self.alone.toggled.connect(lambda _: bench.solo(self._row_id))
        self.change = Toggle(
            "Hear change", "Listen only to what is done in this band: what it gives less what came into it."
        )
        self.change.toggled.connect(self._hear_change)
        self.key = KeyChoice(
            "What the detectors in this band listen to: the band itself, or the same range of another stem or bus, as when a "
            "kick makes room in the bass. A step with a key of its own keeps that.",
            lambda id: does.change(self.band_id, "key", id),
            "the band",
        )
        for name in ("mix", "gain", "target"):
            flow.addWidget(self.controls[name])
        flow.addWidget(self.key)
        for widget in (self.controls["on"], self.alone, self.change):
            across.addWidget(widget)
        column.addWidget(holder)
        column.addStretch(1)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    @property
    def _row_id(self) -> str:
        return f"{self._split_id}/{self.band_id}"

    def minimumSizeHint(self) -> QSize:
        return QSize(100, super().minimumSizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Where there is little room, the range stands in the ledger and over the crossovers."""
        super().resizeEvent(event)
        roomy = self.width() >= ROOMY
        self.range.setVisible(roomy)
        self.add.setText("+ Step" if roomy else "+")

    # --- what is done with it ------------------------------------------------------------------------------

    def _add(self, step: ChainItem) -> None:
        bench, split = self._bench, self._bench.session.item(self._split_id)
        strip = bench.session.strip_with(self._split_id)
        band = split.band(self.band_id) if isinstance(split, Split) else None
        if strip is None or band is None:
            return
        last = band.steps[-1].id if band.steps else ""
        bench.put_in(step, strip.id, last, "" if last else self._row_id)

    def _fill_menu(self) -> None:
        split, menu, does = self._bench.session.item(self._split_id), self.menu, self._does
        menu.clear()
        if not isinstance(split, Split):
            return
        own = split.set_of(self.band_id)
        place, count = own.place(self.band_id), len(own.bands)
        divide = menu.addAction("Split in two", lambda: does.divide(self.band_id))
        divide.setEnabled(split.divided(self.band_id) is not split)
        if place + 1 < count and count > 2:
            menu.addAction(f"Merge with {own.names[place + 1]}", lambda: does.merge(self.band_id))
        copies = menu.addMenu("Copy to")
        for name, band in zip(split.names, split.all_bands, strict=True):
            if band.id != self.band_id:
                copies.addAction(name, partial(does.copy, self.band_id, band.id))
        remove = menu.addAction("Take out", lambda: does.remove(self.band_id))
        remove.setEnabled(count > 2)

    def _choose(self) -> None:
        self._bench.look(step=self._split_id, band=self.band_id)
        self.name.setChecked(True)

    def _hear_change(self, on: bool) -> None:
        self._bench.look(step=self._split_id, band=self.band_id)
        self._bench.listening.hear(BAND if on else RESULT)

    # --- keeping up ----------------------------------------------------------------------------------------

    def refresh(self, session: Session, split: Split, other: Split | None) -> None:
        """Show the band as it is, and as another Split has it, if one is given."""
        band = split.band(self.band_id)
        beside = other.band(self.band_id) if other is not None else None
        if band is None:
            return
        place = split.place(band.id)
        low, high = split.edges[place]
        self.name.setText(split.names[place])
        self.range.setText(f"{hertz(low)} – {hertz(high)}")
        view = session.view
        self.name.setChecked(view.band == band.id)
        if [(b.step_id, b.kind) for b in self.blocks] != [(s.id, type(s)) for s in band.steps]:
            for block in self.blocks:
                block.hide()
                block.deleteLater()
            self.blocks = [StepBlock(self._bench, step) for step in band.steps]
            for block in self.blocks:
                self._blocks.addWidget(block)
        for block, step in zip(self.blocks, band.steps, strict=True):
            block.refresh(
                step, next((s for s in beside.steps if s.id == step.id), None) if beside is not None else None
            )
        for name, control in self.controls.items():
            show_value(control, getattr(band, name))
        show_second(self.controls, beside)
        self.key.show_key(session, split.id, band.key)
        self.alone.set_on(self._row_id in view.solo)
        self.controls["target"].setVisible(not split.side_bands)
        self.change.set_on(view.hear == BAND and view.step == split.id and view.band == band.id)
        self.empty.setVisible(not band.steps)
        off = not band.on or not split.on
        self.empty.setText("Off: the band passes as it came." if off else "The band passes as it came.")
        self._reducing = tuple(step.id for step in band.steps if step.reduces and step.on and not off)
        self._gain = 0.0 if off else band.gain
        self._mix, self._amount = band.mix / 100.0, split.amount / 100.0

    def show_change(self, change: Floats | None) -> None:
        """`change`: dB from what came into the band to what it gives, of every 10 ms of the section."""
        self.spread.show_change(change)
        self.words.setText(self.spread.words or "nothing is changed")

    def tick(self, reductions: Mapping[str, float]) -> None:
        """The live reduction of each step that plays."""
        playing = [reductions[id] for id in self._reducing if id in reductions]
        if not playing:
            self.spread.show_live(None)
            return
        wet = 10.0 ** (-sum(playing) / 20.0)
        mixed = 10.0 ** (self._gain / 20.0) * (1.0 - self._mix + self._mix * wet)
        self.spread.show_live(20.0 * math.log10(max(abs(1.0 + self._amount * (mixed - 1.0)), 1e-6)))
