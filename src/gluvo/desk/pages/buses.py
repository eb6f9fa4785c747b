"""The Buses page: the tree as it flows into the mix bus, the chosen strip's chain and fader, the mix bus's room."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from gluvo.desk.controls.flow import scrolled
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import Rows, Toggle, figure, label, line
from gluvo.desk.model.following import Follower, everything
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.base import PageWidget
from gluvo.desk.pages.ledger import Ledger
from gluvo.desk.pages.target_panel import BigFigure
from gluvo.desk.pages.tree_view import TreeView
from gluvo.play.meters import Readings
from gluvo.session.records import MIX, Stem
from gluvo.steps import Lane, settings_of
from gluvo.steps.lane import first_lane

SIDE_WIDTH = 324
LITTLE_ROOM = 3.0
"""dB of headroom under which it is said to be little."""


class BusesPage(PageWidget):
    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        self.tree = TreeView(bench)
        scroll = QScrollArea()
        scroll.setWidget(self.tree)
        scroll.setWidgetResizable(True)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        row.addWidget(scroll, 1)
        row.addWidget(line(vertical=True))
        side = QWidget()
        self._side = scrolled(side)
        self._side.setFixedWidth(SIDE_WIDTH)
        column = QVBoxLayout(side)
        column.setContentsMargins(0, 0, 0, 8)
        column.setSpacing(6)
        self.ledger = Ledger(bench, chooses=False)
        self.ledger.setMinimumHeight(170)
        column.addWidget(self.ledger, 1)
        column.addWidget(line())
        column.addWidget(self._fader_row())
        column.addWidget(line())
        column.addWidget(self._room_row())
        row.addWidget(self._side)
        Follower(
            self,
            bench,
            self.refresh,
            session=lambda s: (s.strips, s.view.strip, s.view.step, s.view.solo),
            picture=everything,
        )

    def _fader_row(self) -> QWidget:
        part = QWidget()
        grid = QGridLayout(part)
        grid.setContentsMargins(12, 2, 12, 2)
        grid.setHorizontalSpacing(16)
        grid.setVerticalSpacing(2)
        settings = settings_of(Stem)
        self.fader, self.pan, self.offset = (Ruler(settings[name]) for name in ("fader", "pan", "offset"))
        self.lane = Ruler(replace(settings_of(Lane)["level"], label="Lane level"))
        for n, ruler in enumerate((self.fader, self.pan, self.lane, self.offset)):
            grid.addWidget(ruler, n // 2, n % 2)
            ruler.settled.connect(self._bench.settle)
        for name, ruler in (("fader", self.fader), ("pan", self.pan), ("offset", self.offset)):
            label_text = settings[name].label.lower()
            ruler.moved.connect(
                lambda value, name=name, text=label_text: self._bench.set_strip(
                    self._bench.session.view.strip, name, value, text
                )
            )
        self.lane.moved.connect(self._set_lane)
        self.mute = Toggle("Mute", f"{settings['mute'].tip} (Shift+M)")
        self.alone = Toggle(
            "Hear alone",
            "Hear only this, in its place. For the ears only: figures and files keep everything. (Shift+S)",
        )
        self.polarity = Toggle("Polarity", f"{settings['invert'].tip} (Shift+P)")
        switches = QHBoxLayout()
        switches.setSpacing(12)
        for toggle, then in (
            (self.mute, self.tree.mute),
            (self.alone, self.tree.solo),
            (self.polarity, self.tree.invert),
        ):
            toggle.toggled.connect(lambda _, then=then: then())
            switches.addWidget(toggle)
        switches.addStretch(1)
        grid.addLayout(switches, 2, 0, 1, 2)
        self.words = label("", "caption")
        for widget in (self.lane, self.offset, self.words):  # what is not there for a strip leaves its place
            kept = widget.sizePolicy()
            kept.setRetainSizeWhenHidden(True)
            widget.setSizePolicy(kept)
        grid.addWidget(self.words, 3, 0, 1, 2)
        return part

    def _room_row(self) -> QWidget:
        part = QWidget()
        column = QVBoxLayout(part)
        column.setContentsMargins(12, 2, 12, 0)
        column.setSpacing(2)
        column.addWidget(label("Mix bus headroom", "title"))
        self.room = BigFigure()
        column.addWidget(self.room)
        self.rows = Rows(
            (
                ("Into the mix chain", "Loudness of what comes into the mix bus's chain, whole song."),
                ("Out of it", "Loudness and true peak of what comes out of it, whole song."),
            )
        )
        column.addWidget(self.rows)
        return part

    def _lane_item(self) -> Lane | None:
        """The lane whose level is at hand: the chosen one, or the chain's first."""
        session = self._bench.session
        chosen = session.item(session.view.step)
        return first_lane(([chosen] if chosen is not None else []), session.chain)

    def _set_lane(self, value: float) -> None:
        lane = self._lane_item()
        if lane is not None:
            self._bench.set_setting(lane.id, "level", value, "Level")

    def refresh(self) -> None:
        session, bench = self._bench.session, self._bench
        strip = session.strip(session.view.strip) or session.mix
        self.fader.set_value(strip.fader)
        self.pan.set_value(strip.pan)
        self.offset.setVisible(isinstance(strip, Stem))
        if isinstance(strip, Stem):
            self.offset.set_value(strip.offset)
        lane = self._lane_item()
        self.lane.setVisible(lane is not None)
        self.words.setVisible(lane is not None)
        if lane is not None:
            self.lane.set_value(lane.level)
            held = "held: the lane would have added" if lane.hold_loudness else "not held; blend"
            self.words.setText(
                f"Lane “{lane.name}” · {held} {figure(-lane.blend if lane.hold_loudness else lane.blend)} dB"
            )
        self.mute.set_on(strip.mute)
        self.alone.set_on(strip.id in session.view.solo)
        self.alone.setEnabled(strip.id != MIX)
        self.polarity.set_on(strip.invert)
        song = bench.picture.song_render
        start = song.start(MIX) if song is not None else None
        if song is None or start is None:
            self.room.show_figure("…", "dB under full scale", "measuring", "faint")
            self.rows.set_values(["…"] * 2)
            return
        f, out = start.figures(), song.result.figures()
        if f.true_peak > 0.0:
            state, colour = "over full scale", "over"
        elif f.true_peak > -LITTLE_ROOM:
            state, colour = "little before the mix chain", "mid"
        else:
            state, colour = "before the mix chain", "good"
        if not bench.picture.song_current:
            state, colour = "measuring…", "faint"
        self.room.show_figure(figure(-f.true_peak), "dB under full scale, true peak, whole song", state, colour)
        self.rows.set_values(
            [
                f"{figure(f.integrated)} LUFS",
                f"{figure(out.integrated)} LUFS · {figure(out.true_peak)} dBTP",
            ]
        )

    def tick(self, readings: Readings, elapsed: float) -> None:
        """Thirty times a second."""
        self.tree.tick(readings, elapsed)
