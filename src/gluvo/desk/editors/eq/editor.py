"""The editor of the Mid-side EQ: lanes of curves, the bands as a table, the hunt, and what rings."""

from __future__ import annotations

from functools import partial
from typing import Any

import msgspec
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QHideEvent, QResizeEvent
from PySide6.QtWidgets import (
    QStackedLayout,
    QVBoxLayout,
    QWidget,
)

from gluvo.advise.tone import cut_for
from gluvo.advise.try_values import SettingPlace
from gluvo.compare.match import BAND, RESULT
from gluvo.desk.charts.level_spread import LevelSpread
from gluvo.desk.controls.flow import Flow, Group, Pane
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import ChoiceRow, Segments, Toggle, button, figure, label, set_role
from gluvo.desk.editors.base import SIDE_BY_SIDE, StepEditor
from gluvo.desk.editors.eq.band_edits import BandEdits
from gluvo.desk.editors.eq.band_table import BandTable
from gluvo.desk.editors.eq.band_words import band_sentence, band_words
from gluvo.desk.editors.eq.curves import gain_range
from gluvo.desk.editors.eq.hunt import Hunt, HuntKeys, HuntRow, Watching
from gluvo.desk.editors.eq.lane import EqLane, Gesture
from gluvo.desk.editors.eq.phase_lane import PhaseLane
from gluvo.desk.editors.eq.resonance_table import ResonanceTable
from gluvo.desk.editors.key_choice import KeyChoice
from gluvo.desk.editors.setting_control import offer_values, show_second
from gluvo.desk.editors.spectrum_panel import LiveFeed
from gluvo.measure.resonances import Resonance
from gluvo.session.records import Analyser
from gluvo.steps import Band, MidSideEq, Step, settings_of
from gluvo.steps.bands import MOVABLE, SLOPED, TARGETS, WITH_GAIN

LANES: dict[str, tuple[str, ...]] = {
    "joined": ("stereo",),
    "mid_side": ("mid", "side"),
    "left_right": ("left", "right"),
}
ROOM_FOR_TABLE = 640
"""Pixels of an editor from which the table of bands is there to begin with."""
BAND_RULERS = ("freq", "gain", "q")
LEAST_MOVE = 0.05
"""dB from which a band that moves is drawn as moved."""
MOVING_RULERS = ("threshold", "ratio", "range", "attack", "release", "aim")
NARROW_CELL = 104
"""Pixels: the least width of a setting of a band."""


class EqEditor(StepEditor[MidSideEq]):
    """Mid and side as lanes on one frequency axis; marks and table show the same bands."""

    wide = True
    table_shown: bool | None = None
    """Whether the user has the table of bands shown or folded."""
    moving_folded = True
    """Whether the settings of moving bands are folded; kept as long as the program runs."""
    least = 450

    # --- building ------------------------------------------------------------------------------------------

    def build_views(self) -> None:
        self.bands = BandEdits(self.bench, self.step_id)
        self.hunt = Hunt(self.bench, self.step_id)
        self._live = LiveFeed(self.bench)
        self.split = "joined"
        self.hunt_button = button(
            "Hunt",
            "Sweep a boosted bell over the curves to find what disturbs: press, sweep and let go to cut. Or hold H "
            "and move the pointer, or the arrow keys. Never stored; the sound gets no louder than it was.",
            self.toggle_hunt,
            checkable=True,
        )
        self.ringing = button(
            "Resonances",
            "What stands out of its surroundings for most of the section (R).",
            self.toggle_resonances,
            checkable=True,
        )
        self.alone = button(
            "Hear band", "Only what the chosen band adds or takes away (B).", self.hear_band, checkable=True
        )
        self.live = Toggle("Live", settings_of(Analyser)["live"].tip)
        self.live.toggled.connect(lambda on: self.bench.adjust("analyser", live=on))
        self.lane_choice = Segments(
            [("joined", "Joined"), ("mid_side", "Mid / side"), ("left_right", "Left / right")],
            "Which lanes are drawn. Lanes that have bands of their own are always there.",
        )
        self.lane_choice.chosen.connect(self.show_lanes)
        self.phase_choice = button("Phase: off", "Draw the phase, the group delay, or neither.", self.next_phase)
        self._phase_shown = 0
        self.table_choice = button(
            "Table", "Show the bands as a table, or leave its room to the curves.", self.fold_table, checkable=True
        )
        holder, tools = QWidget(), Flow(across=6, down=2)
        holder.setLayout(tools)
        shown = (self.hunt_button, self.ringing, self.alone, self.table_choice)
        for widget in (*shown, self.live, self.lane_choice, self.phase_choice):
            tools.addWidget(widget)
        self.column.addWidget(holder)
        self.lanes = {target: self._lane(target) for target, _ in TARGETS}
        curves = Watching()
        column = QVBoxLayout(curves)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        curves.keys = HuntKeys(self.hunt, list(self.lanes.values()), self._hunt_start)
        curves.keys.left.connect(lambda: self.set_hunting(False))
        self.hunt_row = HuntRow(self.bench)
        self.hunt_row.hide()
        column.addWidget(self.hunt_row)
        for lane in self.lanes.values():
            column.addWidget(lane, 1)
        self.phase_lane = PhaseLane()
        self.phase_lane.hide()
        column.addWidget(self.phase_lane)
        self.add_views([("curves", "Curves", curves)])
        self.chooser.chosen.connect(self._show_tools)

    def _show_tools(self, view: str) -> None:
        """The spectrum has controls of its own."""
        tools: tuple[QWidget, ...] = (self.live, self.lane_choice, self.phase_choice)
        for widget in tools:
            widget.setVisible(view == "curves")

    def _lane(self, target: str) -> EqLane:
        lane = EqLane(target, last=False)
        lane.changed_band.connect(self.bands.take)
        lane.settled.connect(self.bench.settle)
        lane.chosen.connect(self.bands.choose)
        lane.wanted.connect(lambda freq, gain, target=target: self.bands.add(target, freq, gain))
        lane.removed.connect(self.bands.remove)
        lane.asked.connect(self.ask)
        lane.stepped.connect(self.bands.step)
        lane.hunted.connect(partial(self._hunted, lane))
        return lane

    def build_middle(self) -> None:
        self.words = label("", "caption")
        self.column.addWidget(self.words)
        self.table = BandTable()
        self.table.changed_band.connect(self.bands.take)
        self.table.settled.connect(self.bench.settle)
        self.table.chosen.connect(self.bands.choose)
        self.table.wanted.connect(self.add_here)
        self.table.removed.connect(self.bands.remove)
        self.table.asked.connect(self.ask)
        self.resonances = ResonanceTable()
        self.resonances.wanted.connect(self.cut_resonance)
        self.resonances.listened.connect(self._hear_resonance)
        place = self._table_place = QWidget()
        place.setMinimumHeight(70)
        place.setMaximumHeight(134)
        self.tables = QStackedLayout(place)
        self.tables.addWidget(self.table)
        self.tables.addWidget(self.resonances)
        self.column.addWidget(place)
        self._show_table()

    def fold_table(self) -> None:
        """Show the table of bands, or leave its room to the lanes; as long as the program runs."""
        EqEditor.table_shown = self._table_place.isHidden()
        self._show_table()

    def _show_table(self) -> None:
        """Where nothing was chosen, the table stands there if lanes and settings have room beside it."""
        shown = EqEditor.table_shown if EqEditor.table_shown is not None else self.height() >= ROOM_FOR_TABLE
        ringing = self.tables.currentIndex() == 1  # what rings is shown where it is asked for
        self._table_place.setVisible(shown or ringing)
        self.table_choice.setChecked(shown)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._show_table()

    def build_settings(self, kind: type[Step]) -> None:
        bands, all_bands = settings_of(Band), settings_of(kind)
        self.rulers: dict[str, Ruler] = {}
        self.choices: dict[str, ChoiceRow] = {}
        for name in (*BAND_RULERS, *MOVING_RULERS):
            ruler = Ruler(bands[name])
            ruler.moved.connect(partial(self._set_band, name))
            ruler.settled.connect(self.bench.settle)
            offer_values(self.bench, ruler, partial(self._band_place, name))
            self.rulers[name] = ruler
        for name in ("slope", "moves", "aim_by"):
            choice = ChoiceRow(bands[name], named=False)
            choice.chosen.connect(partial(self._set_band, name))
            self.choices[name] = choice
        self.on, self.dynamic = (
            Toggle(bands[n].label, f"<b>{bands[n].label}</b><br>{bands[n].tip}") for n in ("on", "dynamic")
        )
        self.on.toggled.connect(partial(self._set_band, "on"))
        self.dynamic.toggled.connect(partial(self._set_band, "dynamic"))
        self.key = KeyChoice(
            "What moves the band: the level of its range in the signal itself, or in another stem or bus, as when the voice "
            "makes room for itself in the guitars.",
            partial(self._set_band, "key"),
        )
        self.levels = LevelSpread()
        self.find_level = button(
            "Find threshold",
            "Set the threshold so that the band moves by this much over the section, as is said beside it (T).",
            lambda: self.bench.advice.find_threshold(self.step_id),
        )
        strength, output, hold = (self.control(all_bands[n]) for n in ("strength", "output", "hold_loudness"))
        phase = ChoiceRow(all_bands["phase"], named=False)
        phase.chosen.connect(lambda value: self.bench.set_setting(self.step_id, "phase", value, "phase"))
        self.controls["phase"] = phase
        inner = QWidget()
        pane = QVBoxLayout(inner)
        pane.setContentsMargins(0, 0, 6, 2)
        pane.setSpacing(6)
        beside, holder = Flow(SIDE_BY_SIDE, across=22, down=6), QWidget()
        holder.setLayout(beside)
        one, every = Group("Band", NARROW_CELL), Group("All bands", NARROW_CELL)
        self.band_title = one.title
        one.add_to_head(self.on)
        for widget in (*(self.rulers[n] for n in BAND_RULERS), self.choices["slope"]):
            one.add(widget)
        for widget in (strength, output, phase, hold):
            every.add(widget)
        beside.addWidget(one)
        beside.addWidget(every)
        pane.addWidget(holder)
        self.moving = Group("When it moves", NARROW_CELL, self._moving_words)
        self.moving.add_to_head(self.dynamic)
        for widget in (
            self.rulers["threshold"],
            self.levels,
            *(self.rulers[n] for n in MOVING_RULERS if n != "threshold"),
            self.choices["aim_by"],
            self.find_level,
            self.choices["moves"],
            self.key,
        ):
            self.moving.add(widget)
        self.moving.set_folded(EqEditor.moving_folded)
        self.moving.folded.connect(self._fold_moving)
        self.dynamic.toggled.connect(lambda on: self._fold_moving(not on))
        pane.addWidget(self.moving)
        self.pane = Pane(inner)
        self.column.addWidget(self.pane)

    def _fold_moving(self, folded: bool) -> None:
        EqEditor.moving_folded = folded
        if self.moving.is_folded is not folded:
            self.moving.set_folded(folded)
        self.pane.updateGeometry()

    def _moving_words(self) -> str:
        """How the chosen band moves, for the line that its settings fold to."""
        band = self.bands.chosen if self.bands.eq is not None else None
        if band is None or not band.dynamic or band.shape not in MOVABLE:
            return ""
        way = "sinks" if band.moves == "down" else "rises"
        return f"{way} by up to {band.range:g} dB over {figure(band.threshold)} dBFS, {band.ratio:.1f} : 1"

    def begin(self) -> None:
        lanes = [lane for lane in self.lanes.values() if lane.isVisible()]
        (self.table if self.table.isVisible() or not lanes else lanes[0]).setFocus()

    # --- the bands -----------------------------------------------------------------------------------------

    def _band_place(self, name: str) -> SettingPlace:
        """Where a setting of the chosen band is."""
        return SettingPlace(self.step_id, name, self.bench.session.view.band)

    def _set_band(self, name: str, value: Any) -> None:
        band = self.bands.chosen
        if band is not None:
            self.bands.take(Gesture(band.id, {name: value}))

    def add_here(self) -> None:
        """A bell that does nothing yet, on the target that is worked on."""
        self.bands.add(self._first_target(), 1000.0, 0.0)

    def ask(self, id: int, place: QPoint) -> None:
        """The menu of a band."""
        menu = self.bands.menu(self, id, self._first_target())
        menu.addSeparator()
        if id:
            menu.addAction("Hear alone\tB").triggered.connect(lambda *_: self.hear_band())
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(place)

    def _first_target(self) -> str:
        """The target of a band that is added without pointing at a lane."""
        band = self.bands.chosen
        return band.target if band is not None else self._shown()[0]

    # --- listening -----------------------------------------------------------------------------------------

    def hear_band(self) -> None:
        """Hear only what the chosen band does, or the result again."""
        now = self.bench.session.view.hear
        self.bench.listening.hear(RESULT if now == BAND or self.bands.chosen is None else BAND)
        self.refresh()

    def toggle_hunt(self) -> None:
        self.set_hunting(self.hunt_row.isHidden())

    def set_hunting(self, on: bool) -> None:
        """Whether presses on the lanes hunt."""
        self.hunt_button.setChecked(on)
        self.hunt_row.setVisible(on)
        for lane in self.lanes.values():
            lane.hunting = on
        if not on:
            self.hunt.leave()

    def _hunted(self, pressed: EqLane, place: QPointF | None) -> None:
        """The pointer sweeps, from the lane where it was pressed into any other; None when it is let go."""
        if place is not None:
            shown = (lane for lane in self.lanes.values() if lane.isVisible())
            lane = next((lane for lane in shown if lane.rect().contains(lane.mapFromGlobal(place).toPoint())), pressed)
            self.hunt.to(lane.target, lane.freq_at(lane.mapFromGlobal(place).x()))
        elif self.hunt.place is not None:
            self.hunt.cut()

    def _hunt_start(self) -> tuple[str, float]:
        band = self.bands.chosen
        return self._first_target(), band.freq if band is not None else 1000.0

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self.hunt.leave()

    # --- resonances ----------------------------------------------------------------------------------------

    def toggle_resonances(self) -> None:
        """Show what rings in place of the bands, or the bands again."""
        shown = self.tables.currentIndex() == 0
        self.tables.setCurrentIndex(1 if shown else 0)
        self.ringing.setChecked(shown)
        self._show_table()
        (self.resonances if shown else self.table).setFocus()
        self.show_picture()
        if not shown:
            self.hunt.leave()

    def cut_resonance(self, resonance: Resonance) -> None:
        band = cut_for(resonance)
        if band.target == "mid" and self._shown() == LANES["joined"]:
            band = msgspec.structs.replace(band, target="stereo")
        self.bands.put(band, "Cut resonance")

    def _hear_resonance(self, resonance: Resonance) -> None:
        place = resonance.part, resonance.freq
        if self.hunt.place == place:
            self.hunt.leave()
        else:
            self.hunt.to(*place)

    # --- keeping up ----------------------------------------------------------------------------------------

    def show_lanes(self, which: str) -> None:
        self.split = which
        self.refresh()

    def _shown(self) -> tuple[str, ...]:
        """The lanes that are drawn: those that are asked for, and those that have bands."""
        eq = self.bands.eq
        targets = {band.target for band in eq.bands} if eq is not None else set()
        shown: tuple[str, ...] = LANES[self.split] if self.split != "joined" else ()
        for lanes in (LANES["mid_side"], LANES["left_right"]):
            if targets & set(lanes) and lanes[0] not in shown:
                shown = (*shown, *lanes)
        return tuple(t for t, _ in TARGETS if t in shown) or LANES["joined"]

    def next_phase(self) -> None:
        """Draw the phase, then the group delay, then neither."""
        self._phase_shown = (self._phase_shown + 1) % 3
        self.phase_choice.setText(("Phase: off", "Phase", "Group delay")[self._phase_shown])
        self.refresh()

    def refresh(self) -> None:
        eq = self.bands.eq
        if eq is None:
            return
        super().refresh()
        view, shown, band = self.bench.session.view, self._shown(), self.bands.chosen
        self.lane_choice.set_chosen(self.split if shown == LANES["joined"] or self.split != "joined" else _kind(shown))
        self.live.set_on(view.analyser.live)
        for target, lane in self.lanes.items():
            lane.set_last(target == shown[-1] and not self._phase_shown)
            lane.setVisible(target in shown)
        rate = self._rate
        self.phase_lane.setVisible(bool(self._phase_shown))
        if self._phase_shown:
            around = self.bench.picture.around
            late = around.late[0] if around is not None and around.step == self.step_id else 0
            self.phase_lane.show_step(eq, rate, shown, delay=self._phase_shown == 2, late=late)
        self.hunt_row.refresh()
        top = gain_range(eq, rate)
        for target in shown:
            self.lanes[target].show_step(eq, rate, view.band, top)
        self.alone.setEnabled(band is not None)
        self.alone.setChecked(view.hear == BAND)
        number = next((n for n, b in enumerate(eq.bands, start=1) if b.id == view.band), 0)
        takes = band is not None and band.shape in ("low_cut", "high_cut", "notch")
        self.alone.setText(f"Hear what {number} takes" if takes else f"Hear band {number or ''}".strip())
        self._show_band(band, number)

    @property
    def _rate(self) -> int:
        material = self.bench.audio.material
        return material.rate if material is not None else 48_000

    def _show_band(self, band: Band | None, number: int) -> None:
        self.band_title.setText(
            f"Band {number} · {band.describe()} on {band.target}" if band is not None else "No band chosen"
        )
        shown = band or Band()
        moves = band is not None and shown.shape in MOVABLE
        for name, ruler in self.rulers.items():
            ruler.set_value(float(getattr(shown, name)))
            useful = moves and shown.dynamic if name in MOVING_RULERS else band is not None
            ruler.setEnabled(useful and (name != "gain" or shown.shape in WITH_GAIN))
        other = self.beside.band(shown.id) if self.beside is not None and band is not None else None
        show_second(self.rulers, other)
        self.choices["slope"].set_value(shown.slope)
        self.choices["slope"].setEnabled(band is not None and shown.shape in SLOPED)
        for name in ("moves", "aim_by"):
            self.choices[name].set_value(getattr(shown, name))
            self.choices[name].setEnabled(moves and shown.dynamic)
        self.on.set_on(band is not None and shown.on)
        self.on.setEnabled(band is not None)
        self.dynamic.set_on(moves and shown.dynamic)
        self.dynamic.setEnabled(moves)
        following = moves and shown.dynamic
        self.key.show_key(self.bench.session, self.step_id, shown.key)
        self.key.setEnabled(following)
        self.find_level.setEnabled(following)
        around = self.bench.picture.around
        mine = around is not None and around.step == self.step_id and following
        levels = around.band_levels.get(shown.id) if mine and around is not None else None
        self.levels.show_levels(levels, shown.threshold)
        self.moving.refresh()

    def show_picture(self) -> None:
        eq, around = self.bands.eq, self.bench.picture.around
        if eq is None:
            return
        mine = around if around is not None and around.step == self.step_id else None
        analyser = self.bench.session.view.analyser
        for target in self._shown():
            lane = self.lanes[target]
            lane.show_tones(mine.before if mine else None, mine.after if mine else None, analyser)
            lane.show_references(self.bench.picture.references, mine.loudness[1] if mine else 0.0)
            lane.show_limits(self.bench.session.limits)
            lane.show_resonances(mine.resonances if mine and self.ringing.isChecked() else ())
        name = self.bench.span_name
        self.table.show_step(eq, self.bench.session.view.band, lambda band: band_words(band, mine, name))
        band = self.bands.chosen
        empty = "Double-click in a lane, or press Insert, for a band. Hunt finds what disturbs; Resonances lists what rings."
        self.words.setText(band_sentence(band, mine, name) if band is not None else empty if not eq.bands else "")
        cut = mine.low_cuts.get(band.id) if mine is not None and band is not None else None
        set_role(
            self.words, "warning" if cut is not None and band is not None and band.on and cut.lowest_hurt else "caption"
        )
        found = mine.resonances if mine else ()
        self.resonances.show_found(found)
        self.ringing.setText(f"Resonances {len(found)}" if mine else "Resonances")
        output = self.controls["output"]
        assert isinstance(output, Ruler)
        output.set_note("held" if eq.hold_loudness else "")
        late, apart = mine.late if mine is not None else (0, 0.0)
        self.state.setToolTip(
            f"Linear phase comes late, which is made good everywhere; it is within {max(apart, 0.01):.2f} dB of the curve."
            if late
            else "The output that keeps the section as loud as it was."
        )
        self._show_state(eq)

    def state_words(self, step: MidSideEq) -> list[str]:
        around = self.bench.picture.around
        late = around.late[0] if around is not None and around.step == self.step_id else 0
        words = [f"{1000 * late / self._rate:.0f} ms late"] if late else []
        if step.hold_loudness:
            words.append(f"output {figure(step.output, signed=True)} dB")
        return words

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        super().tick(seconds, level, reduction)
        live = self._live.tick(any(lane.isVisible() for lane in self.lanes.values()))
        eq, engine = self.bands.eq, self.bench.engine
        moves: dict[int, float] = {}
        if eq is not None and engine is not None and engine.playing:
            moved = zip(eq.bands, engine.moves(), strict=False)
            moves = {band.id: value for band, value in moved if band.moving and abs(value) > LEAST_MOVE}
        for lane in self.lanes.values():
            if lane.isVisible():
                lane.show_moves(moves)
                lane.show_live(*(live or (None, None)))


def _kind(shown: tuple[str, ...]) -> str:
    return "mid_side" if "mid" in shown else "left_right"
