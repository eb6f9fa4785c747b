"""What the Hear row offers, as places in the graph, and how loud each of them is."""

from __future__ import annotations

from collections.abc import Collection

from gluvo.compare.match import BAND, CHANGE, DETECTOR, RESULT, STEP_OUT, UNTOUCHED, Reading
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.plan import Node, Plan, less, mixed, run
from gluvo.render.song import Renderer
from gluvo.session.records import Session

QUIET_BY_NATURE = (CHANGE, DETECTOR, BAND)


def hear_nodes(session: Session, plan: Plan, have: Collection[str] | None = None) -> dict[str, Node]:
    """The paths of the Hear row, references aside. `plan` is the session's, with what is heard alone.

    Change only is the chosen step's output less its input, where it stands; Step out is the whole song without it.
    A band alone is what its equaliser gives with it less what it gives without it; made only while it is heard.
    """
    chosen = session.view.step
    paths = {RESULT: plan.result, UNTOUCHED: plan.untouched, STEP_OUT: plan.result, CHANGE: mixed("change", ())}
    if chosen in plan.after:
        without = Plan(session, have, solo=session.view.solo if plan.solo else (), without=chosen, tag="out:")
        paths[STEP_OUT] = without.result
        paths[CHANGE] = less("change", plan.after[chosen], plan.before[chosen])
        step = session.step(chosen)
        if step is not None and step.has_ear:
            paths[DETECTOR] = plan.ear(step)
        elif step is not None and session.view.band in step.parts and session.view.hear == BAND:
            others = run("band out", step.without_part(session.view.band), plan.before[chosen])
            paths[BAND] = less("band", plan.after[chosen], others)
    return paths


def hear_readings(
    renderer: Renderer, session: Session, span: Span | None, progress: Progress = no_progress
) -> dict[str, Reading]:
    """Loudness and peak of each path in a section (None: the whole song). What is heard alone does not count."""
    nodes = hear_nodes(session, renderer.plan(session), renderer.material.sounds)
    section = span or Span(0.0, renderer.seconds)
    joints = renderer.joints(nodes.values(), section, progress, nodes[RESULT].memory)
    readings = {}
    for path, node in nodes.items():
        f = joints[node.key].figures(section)
        readings[path] = Reading(f.integrated, f.true_peak, quiet_by_nature=path in QUIET_BY_NATURE)
    return readings
