"""Listening practice on the open song: a question at a time, made in the background, and what a round came to."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from random import Random, SystemRandom

import numpy as np
from PySide6.QtCore import QObject, Signal

from gluvo.advise.hold import held_session
from gluvo.advise.practice import (
    EXERCISES,
    Answer,
    Change,
    Exercise,
    Results,
    Round,
    Staircase,
    add_round,
    read_results,
    with_change,
)
from gluvo.compare.hearables import Stretch, TimeMap
from gluvo.compare.match import RESULT
from gluvo.deliver.encoding import Encoding, encoded
from gluvo.desk.model.workbench import Workbench
from gluvo.errors import GluvoError
from gluvo.measure.loudness import SILENT, integrated, loudest_span
from gluvo.measure.trace import Span, trace_of
from gluvo.opened.tasks import TRYING
from gluvo.progress import Progress
from gluvo.session.records import Session
from gluvo.session.sounds import Sound

QUESTIONS = 20
"""In a round."""
LISTENED = 12.0
"""Seconds of the loudest place that are looped where no section is chosen, or a long one."""
HIDDEN = "practice"
"""The id of an encoded sound while it is asked for."""


@dataclass(frozen=True)
class Question:
    """Two places, one of which has the hidden change; and how it is heard."""

    change: Change
    place: int
    """Which of the two has it: 1 or 2."""
    session: Session | None
    """With the change; None where it is a sound beside the song."""
    gain: float
    """dB that make it as loud as what it is compared with."""


class Practising(QObject):
    """One round of one exercise at a time."""

    changed = Signal()

    def __init__(self, bench: Workbench, parent: QObject | None = None, chance: Random | None = None) -> None:
        super().__init__(parent)
        self._bench = bench
        self._chance = chance or SystemRandom()
        self._base = bench.session
        self.span = self._span()
        self.exercise: Exercise = EXERCISES[0]
        self.stairs: Staircase | None = None
        """None while no round goes on."""
        self.question: Question | None = None
        """None while it is being made."""
        self.answers: list[Answer] = []
        self.listened: set[int] = set()
        self.heard = 0
        """0 is the song as it is; 1 and 2 are the places."""
        self.told = ""
        """What the last question was."""
        self.trouble = ""
        self.keeps = True
        """Whether rounds are written down."""
        self.results = Results()
        try:
            self.results = read_results()
        except GluvoError as error:
            self.trouble = f"{error} It is left alone, and what comes now is not kept."

    def _span(self) -> Span:
        bench = self._bench
        seconds = bench.renderer.seconds if bench.renderer is not None else 0.0
        span = bench.span or Span(0.0, seconds)
        render = bench.picture.best
        if span.seconds <= 2.0 * LISTENED or render is None:
            return span
        trace = render.result.section(span)
        start = span.start + loudest_span(trace, min(LISTENED, span.seconds))
        return Span(start, min(span.end, start + LISTENED))

    @property
    def running(self) -> bool:
        return self.stairs is not None

    @property
    def number(self) -> int:
        """Which question it is, from 1."""
        return len(self.answers) + 1

    # --- a round ---------------------------------------------------------------------------------------------

    def choose(self, n: int) -> None:
        """Choose an exercise; none while a round goes on."""
        if not self.running and 0 <= n < len(EXERCISES) and EXERCISES[n] is not self.exercise:
            self.exercise, self.told = EXERCISES[n], ""
            self.changed.emit()

    def begin(self) -> None:
        """Begin a round."""
        engine = self._bench.engine
        if self.running or engine is None:
            return
        self.stairs, self.answers, self.told = Staircase(self.exercise.sizes, self.exercise.start), [], ""
        self._bench.listening.loop_span(self.span)
        self._ask()

    def _ask(self) -> None:
        """Make the next question."""
        assert self.stairs is not None
        bench, base, span, exercise, size = self._bench, self._base, self.span, self.exercise, self.stairs.size
        renderer = bench.renderer
        self.question, self.listened, self.heard = None, set(), 0
        self._play(None, 0.0)
        change, place = exercise.change(size, self._chance), self._chance.randrange(1, 3)
        if renderer is None:
            return

        def work(check: Progress) -> tuple[Question, Sound | None]:
            plan = renderer.plan(base)
            before = renderer.joint(plan.result, span, lambda d: check(0.3 * d), plan.result.memory)
            level = before.loudness(span)
            if change.step is None:
                coded = encoded(
                    before.heard_in(span),
                    renderer.rate,
                    Encoding("mp3", round(change.size)),
                    lambda d: check(0.3 + 0.7 * d),
                )
                decoded = np.asarray(coded.decoded, dtype=np.float32)
                after = integrated(trace_of(decoded, renderer.rate))
                gain = level - after if min(level, after) > SILENT else 0.0
                return Question(change, place, None, gain), Sound(decoded, renderer.rate)
            held = held_session(renderer, with_change(base, change), lambda d: check(0.3 + 0.4 * d))
            rendered = renderer.section(held, span, lambda d: check(0.7 + 0.3 * d))
            after = rendered.result.loudness(span)
            gain = level - after if exercise.matched and min(level, after) > SILENT else 0.0
            return Question(change, place, held, gain), None

        def done(made: tuple[Question, Sound | None]) -> None:
            if self.stairs is None or self.exercise is not exercise:
                return
            self.question, sound = made
            if sound is not None:
                time = TimeMap((Stretch(span.start, span.end, 0.0, len(sound.samples) / sound.rate),))
                bench.listening.add_hidden(HIDDEN, sound, time)
            self.hear(1)

        bench.background.run(TRYING, "Making a question", work, done)
        self.changed.emit()

    def hear(self, place: int) -> None:
        """Hear the song as it is (0), or one of the two places."""
        if self.question is None or place not in (0, 1, 2):
            return
        self.heard = place
        self.listened.add(place)
        self._play(self.question if place == self.question.place else None, 0.0)
        self.changed.emit()

    def _play(self, question: Question | None, gain: float) -> None:
        listening = self._bench.listening
        if question is not None and question.session is None:
            listening.hunt(None)
            listening.hear_blind(HIDDEN, question.gain)
        else:
            listening.hear_blind(RESULT)
            listening.hunt(
                self._base if question is None else question.session, gain if question is None else question.gain
            )

    def answer(self) -> None:
        """Say that what is heard has been changed."""
        question, stairs = self.question, self.stairs
        if question is None or stairs is None or self.heard == 0:
            return
        if not {1, 2} <= self.listened:
            self.told = "Listen to both first: 1 and 2."
            self.changed.emit()
            return
        right = self.heard == question.place
        self.answers.append(Answer(size=question.change.size, freq=question.change.freq, right=right))
        stairs.answer(right)
        self.told = f"{'Right' if right else 'No'}: {question.place} had {question.change.words}."
        if len(self.answers) >= QUESTIONS:
            self.finish()
        else:
            self._ask()

    def finish(self) -> None:
        """End the round; what was answered is kept."""
        stairs = self.stairs
        if stairs is None:
            return
        self.stairs, self.question = None, None
        self._quiet()
        if self.answers:
            made = Round(
                exercise=self.exercise.id,
                made=datetime.now().isoformat(timespec="seconds"),
                song=self._base.name,
                answers=tuple(self.answers),
                threshold=stairs.threshold,
            )
            self._keep(made)
        self.changed.emit()

    def _keep(self, made: Round) -> None:
        self.results = self.results.with_round(made)
        if self.trouble or not self.keeps:
            return
        try:
            self.results = add_round(made)
        except GluvoError as error:
            self.trouble = f"{error} This round is not kept."

    def _quiet(self) -> None:
        listening = self._bench.listening
        self._bench.tasks.cancel_kind(TRYING)
        listening.hear_blind("")
        listening.hunt(None)
        listening.drop_hidden(HIDDEN)

    def end(self) -> None:
        """Leave: what goes on is finished, and the song is heard as before."""
        self.finish()
        self._quiet()
        self._bench.listening.loop_span(None)
