"""What the window has looked for on request: thresholds for an aim, the drive for a target, a start with two compressors."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol, cast

from gluvo.advise.aim import Found
from gluvo.advise.aimed import aimed
from gluvo.advise.hold import gentle_and_crushed
from gluvo.advise.loudness_target import Reached, driven, reach_target
from gluvo.advise.prices import divided
from gluvo.desk.controls.parts import figure
from gluvo.measure.trace import Span
from gluvo.progress import Progress
from gluvo.render.song import Renderer
from gluvo.session.records import Session
from gluvo.steps import AnyStep
from gluvo.workbench.tasks import SEARCHING, Kind


class Asked(Protocol):
    """What advice asks of the bench, and does on it."""

    reach: tuple[str, Reached] | None

    @property
    def session(self) -> Session: ...
    @property
    def renderer(self) -> Renderer | None: ...
    @property
    def span(self) -> Span | None: ...
    def edit(self, action: str, edit: Callable[[Session], Session], together: str | None = None) -> bool: ...
    def look(self, **changes: object) -> None: ...
    def task(
        self, kind: Kind, title: str, work: Callable[[Progress], Any], done: Callable[[Any], object]
    ) -> object: ...
    def tell(self, text: str, trouble: bool) -> None: ...
    def tell_reached(self) -> None: ...


class Advice:
    """Looks for settings in the background, and puts them into the session as actions that can be undone."""

    def __init__(self, bench: Asked) -> None:
        self._bench = bench

    def find_threshold(self, step_id: str, setting: str = "threshold") -> None:
        """Set a step's threshold so that it takes or lifts by its aim over the section; or that of an equaliser's chosen
        band, so that it moves by its aim."""
        bench = self._bench
        renderer, session, span = bench.renderer, bench.session, bench.span
        step = session.step(step_id)
        wish = aimed(step, session.view.band, setting)
        if renderer is None or step is None or wish is None:
            return
        plan = renderer.plan(session)
        off = "The step is off. Switch it on first." if step_id not in plan.before else ""
        if problem := wish.problem or off:
            bench.tell(problem, True)
            return
        wanted = [plan.before[step_id], *plan.keys.get(step_id, ())]
        stretch, section = span or Span(0.0, renderer.seconds), session.view.section

        def work(check: Progress) -> Found:
            joints = renderer.joints(wanted, stretch, check, max(plan.result.memory, step.memory))
            before, *keys = (joints[node.key] for node in wanted)
            return wish.find(before, stretch, check, keys)

        def done(found: Found) -> None:
            now = bench.session.step(step_id)
            if now is None:
                return
            changed = cast("AnyStep", wish.put(now, round(found.value, 3), section))
            bench.edit("Find threshold", lambda s: s.with_step(changed))
            if not found.met:
                bench.tell(
                    f"{wish.aim:.1f} dB cannot be reached here; this is as near as it goes: {found.reached:.1f} dB.",
                    True,
                )

        bench.task(SEARCHING, "Finding the threshold", work, done)

    def reach_target(self) -> None:
        """Drive the last limiter to the target's loudness over the whole song."""
        renderer, session, span = self._bench.renderer, self._bench.session, self._bench.span
        if renderer is None:
            return

        wanted = figure(session.target.loudness)

        def done(found: Reached) -> None:
            bench = self._bench
            if bench.session.step(found.step) is not None and bench.renderer is not None:
                bench.edit(f"Reach {wanted} LUFS", lambda s: driven(s, found.step, found.drive, found.ceiling))
                bench.reach = bench.renderer.plan(bench.session).result.key, found
            if not found.met:
                bench.tell(
                    f"{wanted} LUFS is out of reach. {figure(found.loudness, 2)} LUFS is as near as it comes: "
                    f"{found.why_not}.",
                    True,
                )
            bench.tell_reached()

        self._bench.task(
            SEARCHING, f"Reaching {wanted} LUFS", lambda check: reach_target(renderer, session, span, check), done
        )

    def divide(self, tops: float) -> None:
        """Give the first of the two that the mix bus ends with so many dB of the highest peak, and the last the rest."""
        renderer, session = self._bench.renderer, self._bench.session
        if renderer is None:
            return

        def done(found: Session) -> None:
            if self._bench.session.strips != session.strips:
                self._bench.tell("The chain was changed meanwhile, and stays as it is. Divide the work again.", True)
                return
            self._bench.edit(f"Tops of {tops:.1f} dB to the first", lambda s: s.replace(strips=found.strips))

        self._bench.task(SEARCHING, "Dividing the work", lambda check: divided(renderer, session, tops, check), done)

    def gentle_and_crushed(self, strip_id: str) -> None:
        """Add the two-compressor start to a strip; its aims are then found like any held setting."""
        if self._bench.edit("Gentle and crushed", lambda s: gentle_and_crushed(s, strip_id, s.view.section)):
            strip = self._bench.session.strip(strip_id)
            if strip is not None and len(strip.chain) > 1:
                self._bench.look(strip=strip_id, step=strip.chain[-2].id)
