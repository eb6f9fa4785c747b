"""How loud each of what can be heard is."""

from __future__ import annotations

from gluvo.compare.hearables import IN_THE_SONG, nodes_of
from gluvo.compare.match import RESULT, Reading
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.song import Renderer
from gluvo.session.records import Session

DIFFERENCES = frozenset(hearable.id for hearable in IN_THE_SONG if hearable.is_difference)


def hear_readings(
    renderer: Renderer, session: Session, span: Span | None, progress: Progress = no_progress
) -> dict[str, Reading]:
    """Loudness and peak in a section (None: the whole song) of each hearable that lies in the song's graph. What is heard
    alone does not count."""
    nodes = nodes_of(session, renderer.plan(session), renderer.material.sounds)
    section = span or Span(0.0, renderer.seconds)
    joints = renderer.joints(nodes.values(), section, progress, nodes[RESULT].memory)
    readings = {}
    for id, node in nodes.items():
        f = joints[node.key].figures(section)
        readings[id] = Reading(f.integrated, f.true_peak, quiet_by_nature=id in DIFFERENCES)
    return readings
