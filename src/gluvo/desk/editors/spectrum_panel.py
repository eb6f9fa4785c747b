"""The spectrum with its controls: a view that every step has."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QMenu, QVBoxLayout, QWidget

from gluvo.compare.tones import Frozen
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import ChoiceRow, Toggle, button, menu_text
from gluvo.desk.editors.spectrum_view import LiveTone, SpectrumView
from gluvo.desk.model.workbench import Workbench
from gluvo.measure.figures import figures_of
from gluvo.measure.spectrum import Tone, tone_of
from gluvo.measure.trace import trace_of
from gluvo.opened.tasks import MEASURING
from gluvo.progress import Progress
from gluvo.session.records import Analyser, Limit
from gluvo.steps import settings_of

LIVE_FRAMES = 16_384
"""Frames that a live spectrum is taken of."""
LIVE_EVERY = 2
"""Ticks from one live spectrum to the next."""
OVER_CURVE = 3.0
"""dB by which a limit made from a curve lies over it."""
LIMIT_POINTS = 4
"""Every how many of the places that are drawn such a limit has a point: six to an octave."""


class LiveFeed:
    """Spectra of the last moments before and after the chosen step, a few times a second, while they are wanted."""

    def __init__(self, bench: Workbench) -> None:
        self._bench = bench
        self._ticks = 0
        self.before, self.after = LiveTone(), LiveTone()

    def tick(self, seen: bool) -> tuple[Tone, Tone] | None:
        """What to draw now; None while nothing plays or it is not shown."""
        engine, wanted = self._bench.engine, self._bench.session.view.analyser.live
        if engine is None or not seen or not wanted:
            return None
        self._ticks += 1
        tapped = engine.tapped(LIVE_FRAMES) if engine.playing and self._ticks % LIVE_EVERY == 0 else None
        if tapped is not None:
            for live, sound in zip((self.before, self.after), tapped, strict=True):
                live.push(tone_of(sound, engine.rate))
                live.hold(self._bench.session.view.analyser.hold)
        if self.before.tone is None or self.after.tone is None:
            return None
        return self.before.tone, self.after.tone


class SpectrumPanel(QWidget):
    """Part, slope, smoothing, live, hold, freeze and limits above the spectrum."""

    def __init__(self, bench: Workbench, step_id: str) -> None:
        super().__init__()
        self._bench, self._step_id = bench, step_id
        self.feed = LiveFeed(bench)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        row = QHBoxLayout()
        row.setSpacing(8)
        settings = settings_of(Analyser)
        self.part = ChoiceRow(settings["part"], named=False)
        self.part.chosen.connect(partial(self._set, "part"))
        row.addWidget(self.part)
        self.slope = Ruler(settings["slope"])
        self.slope.setFixedWidth(104)
        self.slope.moved.connect(partial(self._set, "slope"))
        row.addWidget(self.slope)
        self.fraction = ChoiceRow(settings["fraction"], named=False)
        self.fraction.chosen.connect(partial(self._set, "fraction"))
        row.addWidget(self.fraction)
        self.live, self.hold, self.corridor, self.change = (
            Toggle(settings[n].label, settings[n].tip) for n in ("live", "hold", "corridor", "change")
        )
        self.live.toggled.connect(partial(self._set, "live"))
        self.hold.toggled.connect(partial(self._set, "hold"))
        self.corridor.toggled.connect(partial(self._set, "corridor"))
        self.change.toggled.connect(partial(self._set, "change"))
        row.addWidget(self.live)
        row.addWidget(self.hold)
        row.addWidget(self.corridor)
        row.addWidget(self.change)
        row.addStretch(1)
        self.freeze = button("Freeze", "Keep a spectrum to compare with: what goes out now, or a reference.")
        self.freeze_menu = QMenu(self.freeze)
        self.freeze.setMenu(self.freeze_menu)
        self.freeze_menu.aboutToShow.connect(self._fill_freeze)
        row.addWidget(self.freeze)
        self.limit = button("Limits", "Lines that a spectrum should stay under. They are kept with the session.")
        self.limit_menu = QMenu(self.limit)
        self.limit.setMenu(self.limit_menu)
        self.limit_menu.aboutToShow.connect(self._fill_limits)
        row.addWidget(self.limit)
        column.addLayout(row)
        self.view = SpectrumView()
        self.view.drawn_limit.connect(self.add_limit)
        column.addWidget(self.view, 1)

    # --- settings ------------------------------------------------------------------------------------------

    def _set(self, name: str, value: Any) -> None:
        self._bench.adjust("analyser", **{name: value})

    def refresh(self) -> None:
        analyser = self._bench.session.view.analyser
        self.part.set_value(analyser.part)
        self.slope.set_value(analyser.slope)
        self.fraction.set_value(analyser.fraction)
        self.live.set_on(analyser.live)
        self.hold.set_on(analyser.hold)
        self.corridor.set_on(analyser.corridor)
        self.change.set_on(analyser.change)
        self.view.show_settings(analyser)
        self.view.show_limits(self._bench.session.limits)
        self.view.show_frozen(self._bench.measurement.frozen)

    def show_picture(self) -> None:
        around = self._bench.picture.around
        self.view.show_references(self._bench.picture.references)
        if around is not None and around.step == self._step_id:
            self.view.show_tones(around.before, around.after, around.loudness[1])
        else:
            self.view.show_tones(None, None, 0.0)

    def tick(self) -> None:
        """Thirty times a second."""
        live = self.feed.tick(self.isVisible())
        if live is not None:
            self.view.show_live(*live, self.feed.after.held)

    # --- to compare with -----------------------------------------------------------------------------------

    def _fill_freeze(self) -> None:
        menu, bench = self.freeze_menu, self._bench
        menu.clear()
        menu.addAction(f"What goes out now, in {menu_text(bench.span_name)}").triggered.connect(
            lambda *_: self.freeze_now()
        )
        for reference in bench.session.references:
            if reference.id in bench.audio.references:
                menu.addAction(f"Reference {menu_text(reference.name)}").triggered.connect(
                    lambda *_, id=reference.id, name=reference.name: self.freeze_reference(id, name)
                )
        if bench.measurement.frozen is not None:
            menu.addSeparator()
            menu.addAction(f"Let go of {menu_text(bench.measurement.frozen.name)}").triggered.connect(
                lambda *_: bench.measurement.freeze(None)
            )

    def freeze_now(self) -> None:
        """Keep what goes out of the step, averaged over the section or as it is live."""
        around = self._bench.picture.around
        live = self.feed.after.tone if self._bench.session.view.analyser.live else None
        if around is not None and around.step == self._step_id:
            name = f"{'live' if live else self._bench.span_name}, frozen"
            self._bench.measurement.freeze(Frozen(name, live or around.after, around.loudness[1]))

    def freeze_reference(self, id: str, name: str) -> None:
        """Keep the average spectrum of a reference, measured in the background."""
        sound = self._bench.audio.references[id]

        def work(check: Progress) -> Frozen:
            check(0.0)
            samples = np.asarray(sound.samples)
            tone = tone_of(samples, sound.rate)
            check(0.6)
            return Frozen(name, tone, figures_of(trace_of(samples, sound.rate)).integrated)

        self._bench.background.run(MEASURING, "Measuring the reference", work, self._bench.measurement.freeze)

    # --- limits --------------------------------------------------------------------------------------------

    def _fill_limits(self) -> None:
        menu = self.limit_menu
        menu.clear()
        draw = menu.addAction("Draw a line with the pointer")
        draw.setCheckable(True)
        draw.setChecked(self.view.drawing)
        draw.triggered.connect(self.draw_limits)
        menu.addAction(f"Line {OVER_CURVE:g} dB over what goes out").triggered.connect(
            lambda *_: self.limit_over_curve()
        )
        limits = self._bench.session.limits
        if limits:
            menu.addSeparator()
        for limit in limits:
            menu.addAction(f"Remove {menu_text(limit.name)}").triggered.connect(
                lambda *_, id=limit.id: self.remove_limit(id)
            )

    def draw_limits(self, on: bool) -> None:
        """Whether a drag over the spectrum draws a limit."""
        self.view.drawing = on
        self.limit.setText("Limits: drag" if on else "Limits")

    def limit_over_curve(self) -> None:
        """A limit a little over what goes out now, a point for every sixth of an octave."""
        around, view = self._bench.picture.around, self.view
        if around is not None and around.step == self._step_id:
            analyser = self._bench.session.view.analyser
            levels = around.after.smoothed(analyser.part, analyser.fraction, view.centres)
            near = np.lib.stride_tricks.sliding_window_view(
                np.pad(levels, LIMIT_POINTS, mode="edge"), 2 * LIMIT_POINTS + 1
            )
            levels = near.max(axis=1) + OVER_CURVE  # between its points as well
            pairs = zip(view.centres[::LIMIT_POINTS], levels[::LIMIT_POINTS], strict=True)
            self.add_limit(tuple((round(float(f), 2), round(float(v), 2)) for f, v in pairs))

    def add_limit(self, points: tuple[tuple[float, float], ...]) -> None:
        """Keep a drawn line."""
        bench = self._bench
        number = len(bench.session.limits) + 1
        made = Limit(id=bench.session.fresh_id("limit"), name=f"Limit {number}", points=points)
        bench.edit("Draw limit", lambda s: s.replace(limits=(*s.limits, made)))
        self.draw_limits(False)

    def remove_limit(self, id: str) -> None:
        self._bench.edit(
            "Remove limit", lambda s: s.replace(limits=tuple(limit for limit in s.limits if limit.id != id))
        )
