"""What the window has looked for on request: thresholds for an aim, the drive for a target, a start with two compressors."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from gluvo.advise.aim import Found, find_threshold
from gluvo.advise.hold import gentle_and_crushed
from gluvo.advise.loudness_target import Reached, driven, reach_target
from gluvo.desk.parts import figure
from gluvo.measure.trace import Span
from gluvo.progress import Progress
from gluvo.steps import Glue
from gluvo.workbench.tasks import SEARCHING

if TYPE_CHECKING:
    from gluvo.desk.workbench import Workbench


class Advice:
    """Looks for settings in the background, and puts them into the session as actions that can be undone."""

    def __init__(self, bench: Workbench) -> None:
        self._bench = bench

    def find_threshold(self, step_id: str) -> None:
        """Set a Glue's threshold so that it reduces by its aim over the section."""
        renderer, session, span = self._bench.renderer, self._bench.session, self._bench.span
        step = session.step(step_id)
        if renderer is None or not isinstance(step, Glue):
            return
        if step.slope == 0.0:
            self._bench.told.emit("At a ratio of 1 nothing is reduced. Raise the ratio first.", True)
            return
        plan = renderer.plan(session)
        if step_id not in plan.before:
            self._bench.told.emit("The step is off. Switch it on first.", True)
            return
        wanted = [plan.before[step_id], *([plan.keys[step_id]] if step_id in plan.keys else [])]
        stretch = span or Span(0.0, renderer.seconds)

        def work(check: Progress) -> Found:
            joints = renderer.joints(wanted, stretch, check, max(plan.result.memory, step.memory))
            before, *keys = (joints[node.key] for node in wanted)
            return find_threshold(step, before, stretch, check, keys[0] if keys else None)

        section = session.view.section

        def done(found: Found) -> None:
            now = self._bench.session.step(step_id)
            if now is None:
                return
            changed = msgspec.structs.replace(now, threshold=round(found.value, 3), held_in=section)
            self._bench.edit("Find threshold", lambda s: s.with_step(changed))
            if not found.met:
                self._bench.told.emit(
                    f"{step.aim:.1f} dB cannot be reached here; this is as near as it goes: {found.reached:.1f} dB.",
                    True,
                )

        self._bench.task(SEARCHING, "Finding the threshold", work, done)

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
                bench.told.emit(
                    f"{wanted} LUFS is out of reach. {figure(found.loudness, 2)} LUFS is as near as it comes: "
                    f"{found.why_not}.", True,
                )  # fmt: skip
            bench.reached.emit()

        self._bench.task(
            SEARCHING, f"Reaching {wanted} LUFS", lambda check: reach_target(renderer, session, span, check), done
        )

    def gentle_and_crushed(self, strip_id: str) -> None:
        """Add the two-compressor start to a strip; its aims are then found like any held setting."""
        if self._bench.edit("Gentle and crushed", lambda s: gentle_and_crushed(s, strip_id, s.view.section)):
            strip = self._bench.session.strip(strip_id)
            if strip is not None and len(strip.chain) > 1:
                self._bench.document.look(strip=strip_id, step=strip.chain[-2].id)
