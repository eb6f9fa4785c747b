"""What the window has looked for on request: thresholds for an aim, the drive for a target, a start with two compressors."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from gluvo.advise.aim import Found, find_threshold
from gluvo.advise.hold import gentle_and_crushed
from gluvo.advise.loudness_target import Reached, reach_target
from gluvo.measure.trace import Span
from gluvo.render.chain import Progress
from gluvo.steps import Glue

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

        def work(check: Progress) -> object:
            joints = renderer.joints(wanted, stretch, check)
            before, *keys = (joints[node.key] for node in wanted)
            return find_threshold(step, before, stretch, check, keys[0] if keys else None)

        def done(found: object) -> None:
            assert isinstance(found, Found)
            now = self._bench.session.step(step_id)
            if now is None:
                return
            changed = msgspec.structs.replace(now, threshold=round(found.value, 3))
            self._bench.edit("Find threshold", lambda s: s.with_step(changed))
            if not found.met:
                self._bench.told.emit(
                    f"{step.aim:.1f} dB cannot be reached here; this is as near as it goes: {found.reached:.1f} dB.",
                    True,
                )

        self._bench.task("Finding the threshold", work, done)

    def reach_target(self) -> None:
        """Drive the last limiter to the target's loudness over the whole song."""
        renderer, session, span = self._bench.renderer, self._bench.session, self._bench.span
        if renderer is None:
            return

        def done(result: object) -> None:
            assert isinstance(result, Reached)
            step = self._bench.session.step(result.step)
            if step is not None:
                changed = msgspec.structs.replace(step, drive=round(result.drive, 3), ceiling=result.ceiling)
                self._bench.edit(f"Reach {session.target.loudness:.1f} LUFS", lambda s: s.with_step(changed))
            self._bench.reached.emit(result)

        self._bench.task(
            f"Reaching {session.target.loudness:.1f} LUFS".replace("-", "−"),
            lambda check: reach_target(renderer, session, span, check), done,
        )  # fmt: skip

    def gentle_and_crushed(self, strip_id: str) -> None:
        """Add the two-compressor start to a strip; its aims are then found like any held setting."""
        if self._bench.edit("Gentle and crushed", lambda s: gentle_and_crushed(s, strip_id)):
            strip = self._bench.session.strip(strip_id)
            if strip is not None and len(strip.chain) > 1:
                self._bench.document.look(strip=strip_id, step=strip.chain[-2].id)
