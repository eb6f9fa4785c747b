"""Values of one setting that are tried: made in the background, heard at equal loudness, and one of them taken."""

from __future__ import annotations

import time
from collections.abc import Sequence
from datetime import datetime
from functools import partial
from typing import Any

from PySide6.QtCore import QObject, Signal

from gluvo.advise.try_values import (
    Kept,
    SettingPlace,
    TriedValue,
    kept_by,
    shown,
    tried_value,
    values_typed,
)
from gluvo.compare.trial import MOST_CANDIDATES, Running, finished
from gluvo.desk.model.workbench import Workbench
from gluvo.errors import GluvoError
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Span
from gluvo.opened.tasks import TRYING
from gluvo.progress import Progress
from gluvo.steps import Setting


class TryingValues(QObject):
    """Of one setting of the open session, in the chosen section."""

    changed = Signal()
    """More is known of them."""

    def __init__(self, bench: Workbench, place: SettingPlace, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._bench, self.place = bench, place
        session = bench.session
        found = place.setting(session)
        if found is None:
            raise GluvoError("That setting is gone: there is nothing to be tried.")
        self.setting: Setting = found
        self.now = place.value(session)
        self.title = place.words(session)
        self.values: tuple[Any, ...] = place.values(session)
        self.chosen = self.values.index(self.now) if self.now in self.values else 0
        self.tried: dict[int, TriedValue] = {}
        """By their place among the values."""
        self.trouble = ""
        self.seconds = 0.0
        """For which they were made."""
        self.heard = False
        """Whether the chosen one is heard; what is open, otherwise."""
        self._gains: dict[int, float] = {}
        render = bench.picture.best
        after = render.joint(place.step) if render is not None else None
        self.kept: Kept | None = kept_by(session.item(place.step), place, after, bench.span)
        """What the step takes, where it can be made to take as much with every value."""
        self.keeps = self.kept is not None

    @property
    def done(self) -> bool:
        return len(self.tried) == len(self.values)

    def words_of(self, n: int) -> str:
        """A value in words."""
        return shown(self.setting, self.values[n])

    def make(self) -> None:
        """Make all of them anew; what is the same as before is not rendered again."""
        bench, renderer, session = self._bench, self._bench.renderer, self._bench.session
        self.tried, self._gains, self.trouble = {}, {}, ""
        if renderer is None:
            return
        span, values, kept = bench.span, self.values, self.kept if self.keeps else None
        stretch, began = span or Span(0.0, renderer.seconds), time.monotonic()
        order = sorted(range(len(values)), key=lambda n: (values[n] != self.now, abs(n - self.chosen)))

        def work(check: Progress) -> None:
            plan, known = renderer.plan(session), None
            if self.place.step in plan.after:
                lead = plan.result.memory
                known = renderer.joint(plan.after[self.place.step], stretch, check, lead).loudness(stretch)
            made: dict[int, TriedValue] = {}
            for n in order:
                made[n] = tried_value(renderer, session, self.place, values[n], span, kept, check, known)
                bench.background.on_window(partial(self._found, values, n, made[n], began))
            before = renderer.joint(plan.result, stretch, check).loudness(stretch)
            for n in order:
                after = renderer.joint(renderer.plan(made[n].session).result, stretch, check).loudness(stretch)
                gain = before - after if min(before, after) > SILENT else 0.0
                bench.background.on_window(partial(self._matched, values, n, gain))

        bench.background.run(TRYING, f"Trying {self.setting.label}", work, lambda _: None)
        self.changed.emit()

    def _found(self, values: tuple[Any, ...], n: int, one: TriedValue, began: float) -> None:
        if values is self.values:
            self.tried[n], self.seconds = one, time.monotonic() - began
            self.changed.emit()

    def _matched(self, values: tuple[Any, ...], n: int, gain: float) -> None:
        if values is self.values:
            self._gains[n] = gain
            if self.heard and n == self.chosen:
                self._play()
            self.changed.emit()

    def _fail(self, words: str) -> None:
        self.trouble = words
        self.changed.emit()

    # --- what the user does --------------------------------------------------------------------------------

    def type_values(self, text: str) -> None:
        """Other values, as they are typed; what cannot be is told, and changes nothing."""
        try:
            self.values = values_typed(self.setting, text)
        except GluvoError as error:
            self._fail(str(error))
            return
        self.chosen = min(range(len(self.values)), key=lambda n: abs(float(self.values[n]) - float(self.now)))
        self.make()

    def use_even(self) -> None:
        """The present value and those around it again."""
        self.values = self.place.values(self._bench.session)
        self.chosen = self.values.index(self.now) if self.now in self.values else 0
        self.make()

    def keep_reduction(self, keeps: bool) -> None:
        """Whether the step takes as much with every value as it takes now."""
        self.keeps = keeps and self.kept is not None
        self.make()

    def choose(self, n: int) -> None:
        """Look at one; if one is heard, it is this one from now on."""
        self.chosen = min(max(0, n), len(self.values) - 1)
        if self.heard:
            self._play()
        self.changed.emit()

    def hear(self, on: bool) -> None:
        """Hear the chosen one at equal loudness, or what is open again."""
        self.heard = on
        if on:
            self._play()
            if self._bench.engine is not None and not self._bench.engine.playing:
                self._bench.engine.play()
        else:
            self._bench.listening.hunt(None)
        self.changed.emit()

    def _play(self) -> None:
        """Play the chosen one; as soon as it is known how loud it is."""
        one, gain = self.tried.get(self.chosen), self._gains.get(self.chosen)
        if one is not None and gain is not None:
            self._bench.listening.hunt(one.session, gain)

    @property
    def sounding(self) -> bool:
        """Whether the chosen one is what is heard now."""
        return self.heard and self.chosen in self._gains

    def take(self) -> bool:
        """Set the chosen value, and what was found to keep the reduction; whether it could be."""
        one = self.tried.get(self.chosen)
        step = one.session.item(self.place.step) if one is not None else None
        if step is None:
            return False
        made = one.session if one is not None else None
        assert made is not None
        return self._bench.edit(f"{step.title} {self.setting.label.lower()}", lambda s: self.place.taken(s, made))

    def end(self) -> None:
        """Hear what is open again, and make no more."""
        self.heard = False
        self._bench.listening.hunt(None)
        self._bench.tasks.cancel_kind(TRYING)

    # --- blind ---------------------------------------------------------------------------------------------

    def why_not_blind(self) -> str:
        """Why they cannot be ranked blind now, in a sentence; nothing if they can."""
        if len(self.values) > MOST_CANDIDATES:
            return f"At most {MOST_CANDIDATES} can be ranked blind: type fewer values."
        return "" if self.done and len(self._gains) == len(self.values) else "They are still being measured."

    def running(self) -> Running:
        return Running("rank", len(self.values), 1)

    def hear_one(self, n: int) -> None:
        """Hear one of them without choosing it."""
        self._bench.listening.hunt(self.tried[n].session, self._gains[n])

    def ranked(self, running: Running) -> None:
        """Keep what a blind trial came to, and choose the best."""
        bench = self._bench
        bench.listening.hunt(None)
        names = [f"{self.setting.label} {self.words_of(n)}" for n in range(len(self.values))]
        made = datetime.now().isoformat(timespec="seconds")
        trial = finished(running, bench.session.fresh_id("trial"), names, made)
        if trial.answers:
            bench.keep(lambda s: s.replace(trials=(*s.trials, trial)))
            self.choose(trial.answers[0])

    def names(self) -> Sequence[str]:
        return [self.words_of(n) for n in range(len(self.values))]
