"""Makes a draft, and a session of what is kept of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from gluvo.advise.drafts.base import Draft, KeptParts, Look, Part, Proposer
from gluvo.advise.drafts.loudness import loudness, reached
from gluvo.advise.drafts.mends import mends
from gluvo.advise.drafts.reduction import reduction
from gluvo.advise.drafts.strength import strengthened
from gluvo.advise.drafts.tone import tone
from gluvo.advise.hold import held_session
from gluvo.advise.watchouts import Finder, Scene, WatchOut
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.render.song import Renderer
from gluvo.session.records import Session
from gluvo.session.tree import children

PROPOSERS: tuple[Proposer, ...] = (mends, reduction, tone, loudness)
"""In the order of the chain that they make."""
MOST_TOLD = 4
ROUNDS = 4
"""So often a part that brings a watch-out with it is left out at most."""


def draft_start(
    scene: Scene,
    strip: str,
    finder: Finder,
    references: Sequence[Joint] = (),
    progress: Progress = no_progress,
) -> Draft:
    """A start for a strip: what it asks for, and nothing else. A part that brings a new watch-out with it is left out.

    `references`: whole, for the mix bus. Empty where nothing asks for anything.
    """
    found = finder.find(scene, lambda d: progress(0.3 * d))
    look = Look(scene, strip, found, references)
    parts: list[Part] = []
    for n, proposer in enumerate(PROPOSERS):
        progress(0.3 + 0.1 * n / len(PROPOSERS))
        parts += proposer(look)
    draft = Draft(strip, tuple(parts))
    for n in range(ROUNDS):
        if not draft.parts:
            break
        share = 0.4 + 0.6 * n / ROUNDS

        def inside(d: float, share: float = share) -> None:
            progress(share + 0.6 / ROUNDS * d)

        bad = _worsens(draft, scene, found, finder, inside)
        if bad is None:
            break
        draft = replace(draft, parts=tuple(p for k, p in enumerate(draft.parts) if k != bad))
    progress(1.0)
    return replace(draft, told=_told(scene, strip, draft, found))


def drafted(
    renderer: Renderer,
    session: Session,
    draft: Draft,
    kept: KeptParts,
    strength: float,
    progress: Progress = no_progress,
) -> Session:
    """The session with the parts of a draft that are kept, at a strength in %: what is held found, and its target reached
    where that is one of them; that has no strength, but the target's."""
    parts = [part for n, part in enumerate(draft.parts) if n in kept]
    made = session
    if draft.replaces:
        made = made.with_chain(draft.strip, ())
    for part in parts:
        made = strengthened(made, part.edit(made), 1.0 if part.reaches else strength / 100.0)
    made = held_session(renderer, made, lambda d: progress(0.5 * d))
    if any(part.reaches for part in parts):
        made = reached(renderer, session, made, lambda d: progress(0.5 + 0.5 * d))
    return made


def _worsens(draft: Draft, scene: Scene, before: Sequence[WatchOut], finder: Finder, progress: Progress) -> int | None:
    """The place of a part that brings a watch-out with it that was not there; None where none does."""
    every = range(len(draft.parts))
    made = drafted(scene.renderer, scene.session, draft, every, 100.0, lambda d: progress(0.4 * d))
    render = scene.renderer.song(made, lambda d: progress(0.4 + 0.3 * d))
    there = replace(scene, session=made, render=render)
    after = finder.find(there, lambda d: progress(0.7 + 0.3 * d))
    known = {_about(one) for one in before}
    new = [one for one in after if _about(one) not in known]
    if not new:
        return None
    steps = _steps_of(draft, scene.session)
    for one in new:
        for n in every:
            if one.step and one.step in steps[n]:
                return n
    return draft.parts.index(min(draft.parts, key=lambda part: part.reaches))  # what it is for stays longest


def _about(one: WatchOut) -> tuple[str, str]:
    return one.kind, one.strip


def _steps_of(draft: Draft, session: Session) -> list[set[str]]:
    """The ids of what each part makes or changes."""
    found = []
    for part in draft.parts:
        made = part.edit(session)
        found.append({item.id for item in made.items if session.item(item.id) != item})
        session = made
    return found


def _told(scene: Scene, strip: str, draft: Draft, found: Sequence[WatchOut]) -> tuple[WatchOut, ...]:
    """What is wrong further up, most audible first, and what is wrong here and is not mended by the draft."""
    inside, waiting = {strip}, [strip]
    while waiting:
        for child in children(scene.session, waiting.pop()):
            inside.add(child.id)
            waiting.append(child.id)
    mended = {part.why for part in draft.parts}
    return tuple(one for one in found if one.strip in inside and one.text not in mended)[:MOST_TOLD]
