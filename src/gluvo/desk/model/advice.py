"""What the window has looked for on request: thresholds for an aim, the drive for a target, a start with two compressors."""

from __future__ import annotations

from typing import cast

import msgspec
from PySide6.QtCore import QObject, Signal

from gluvo.advise.aim import Found
from gluvo.advise.aimed import aimed, first_aimed
from gluvo.advise.hold import gentle_and_crushed, held_session
from gluvo.advise.loudness_target import Reached, driven, measured_by, reach_target
from gluvo.advise.prices import divided
from gluvo.desk.controls.widgets import figure
from gluvo.desk.model.background import Background
from gluvo.desk.model.open_session import OpenSession
from gluvo.measure.overview import REDUCED_BY
from gluvo.measure.trace import Span
from gluvo.opened.tasks import SEARCHING
from gluvo.progress import Progress
from gluvo.session.records import MIX, Session
from gluvo.steps import AnyStep, Limiter
from gluvo.steps.ceiling import last_limiter


class Advice(QObject):
    """Looks for settings in the background, and puts them into the session as actions that can be undone."""

    reached = Signal()
    """The target has been looked for."""

    def __init__(self, bench: OpenSession, background: Background) -> None:
        super().__init__(bench)
        self._bench, self._background = bench, background
        self.reach: tuple[str, Reached] | None = None
        """What was last found for the target, with the key of the sound that it made."""

    def forget(self) -> None:
        """What was found is of another session."""
        self.reach = None

    def find_threshold(self, step_id: str, setting: str = "") -> None:
        """Set a step's threshold or drive so that it takes or lifts by its aim over the section; or the threshold of an
        equaliser's chosen band, so that it moves by its aim. `setting`: which; if not said, the first that has an aim."""
        bench = self._bench
        renderer, session, span = bench.renderer, bench.session, bench.span
        item = session.item(step_id)
        if renderer is None or item is None:
            return
        if item.contains_steps:
            bench.refuse(
                f"A {item.title} has no threshold of its own. Choose a step in it that has one, such as a Glue."
            )
            return
        step = cast("AnyStep", item)
        setting = setting or first_aimed(step)
        ready, said = step.readied(setting)
        wish = aimed(ready, session.view.band, setting)
        if wish is None:
            bench.refuse(
                f"{step.title} has nothing to be found. Choose a Glue, a De-esser, a Limiter, a Clipper or a band that moves."
            )
            return
        plan = renderer.plan(session)
        off = "The step is off. Switch it on first." if step_id not in plan.before else ""
        if problem := wish.problem or off:
            bench.refuse(problem)
            return
        wanted = [plan.before[step_id], *plan.keys.get(step_id, ())]
        named = "drive" if setting == "drive" else "threshold"
        stretch, section = span or Span(0.0, renderer.seconds), session.view.section

        def work(check: Progress) -> Found:
            joints = renderer.joints(wanted, stretch, check, max(plan.result.memory, step.memory))
            before, *keys = (joints[node.key] for node in wanted)
            return wish.find(before, stretch, check, keys)

        def done(found: Found) -> None:
            now = bench.session.step(step_id)
            if now is None:
                return
            changed = cast("AnyStep", wish.put(now.readied(setting)[0], round(found.value, 3), section))
            if bench.edit(f"Find {named}", lambda s: s.with_step(changed)) and said:
                bench.tell(said, False)
            if not found.met:
                bench.refuse(
                    f"{wish.aim:.1f} dB {REDUCED_BY[wish.by]} cannot be reached here; this is as near as it goes: "
                    f"{found.reached:.1f} dB. "
                    f"{found.why_not}".rstrip()
                )

        self._background.run(SEARCHING, f"Finding the {named}", work, done)

    def reach_target(self) -> None:
        """Drive the last limiter to the target's loudness over the whole song. Where there is none, one is offered."""
        renderer, session, span = self._bench.renderer, self._bench.session, self._bench.span
        if renderer is None:
            return
        if last_limiter(session.mix.chain) is None:
            self._offer_limiter(session)
            return

        target, unit = session.target, measured_by(session.target).unit
        wanted = f"{figure(target.loudness)} {unit}"

        def work(check: Progress) -> tuple[Reached, Session]:
            held = held_session(renderer, session, check)  # what is held may still be being found
            return reach_target(renderer, held, span, check), held

        def done(found: tuple[Reached, Session]) -> None:
            bench, (reached, held) = self._bench, found
            if bench.session.step(reached.step) is not None and bench.renderer is not None:
                same = bench.session.sound == session.sound

                def drive(s: Session) -> Session:
                    start = s.replace(strips=held.strips) if same else s
                    return driven(start, reached.step, reached.drive, reached.ceiling)

                bench.edit(f"Reach {wanted}", drive)
                self.reach = bench.renderer.plan(bench.session).result.key, reached
            if not reached.met:
                near = abs(reached.loudness - target.loudness) <= target.tolerance
                verdict = "is not quite reached, but within the tolerance" if near else "is out of reach"
                words = f"{figure(reached.loudness, 2)} {unit} is as near as it comes: {reached.why_not}."
                if near:
                    bench.tell(f"{wanted} {verdict}. {words}", False)
                else:
                    bench.refuse(f"{wanted} {verdict}. {words}")
            self.reached.emit()

        self._background.run(SEARCHING, f"Reaching {wanted}", work, done)

    def _offer_limiter(self, session: Session) -> None:
        """Offer a limiter at the end of the mix bus, or to switch on the one that is there, and to reach the target then."""
        bench, chain = self._bench, session.mix.chain
        off = last_limiter(chain, off=True)

        def add() -> None:
            if off is None:
                bench.put_in(Limiter(ceiling=session.target.true_peak), MIX, chain[-1].id if chain else "")
            else:
                on = msgspec.structs.replace(off, on=True)
                bench.edit("Limiter on", lambda s: s.with_step(on))
            self.reach_target()

        what = "The mix bus has no limiter" if off is None else "The mix bus's limiter is off"
        words = "Add one and reach it" if off is None else "Switch it on and reach it"
        bench.refuse(f"{what}, so nothing can be driven to the target.", words, add)

    def divide(self, tops: float) -> None:
        """Give the first of the two that the mix bus ends with so many dB of the highest peak, and the last the rest."""
        renderer, session = self._bench.renderer, self._bench.session
        if renderer is None:
            return

        def done(found: Session) -> None:
            if self._bench.session.sound != session.sound:
                self._bench.tell("The chain was changed meanwhile, and stays as it is. Divide the work again.", True)
                return
            self._bench.edit(f"Tops of {tops:.1f} dB to the first", lambda s: s.replace(strips=found.strips))

        self._background.run(
            SEARCHING, "Dividing the work", lambda check: divided(renderer, session, tops, check), done
        )

    def gentle_and_crushed(self, strip_id: str) -> None:
        """Add the two-compressor start to a strip; its aims are then found like any held setting."""
        if self._bench.edit("Gentle and crushed", lambda s: gentle_and_crushed(s, strip_id, s.view.section)):
            strip = self._bench.session.strip(strip_id)
            if strip is not None and len(strip.chain) > 1:
                self._bench.look(strip=strip_id, step=strip.chain[-2].id)
