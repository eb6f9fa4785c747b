"""What drafts come to: songs that nothing was calibrated on, without any chain, with three faults put in, each with a draft for
all strips in turn, the mix bus last. Tells loudness, true peak, what was lost of peak to loudness, reduction at peaks, and
watch-outs before and after.

Usage: python benchmarks/drafts.py [--songs 10] [--session FILE.gluvo ...]
"""

from __future__ import annotations

import argparse
import sys
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from gluvo.advise.drafts import Part, draft_start, drafted
from gluvo.advise.watchouts import KINDS, Finder, Scene
from gluvo.measure.overview import Reduced, heard_hops
from gluvo.opened.watching import scene_of
from gluvo.render.reduction import taken_along
from gluvo.render.song import Rendered
from gluvo.session.records import MIX, Session
from gluvo.session.store import read_session

sys.path.insert(0, str(Path(__file__).parent))
from watchouts import FAULTS, STYLES, Stems, scene, session_of, song  # the songs are made there

FIRST_SEED = 9000
"""No song of a seed from here on was looked at when limits were set."""


def reduced_of(render: Rendered) -> float:
    """dB that all steps of the mix chain but its limiter take at peaks."""
    taken = taken_along(render, MIX)
    if taken is None:
        return 0.0
    heard = heard_hops(render.result.trace)
    count = min(len(taken.mean), len(heard))
    return Reduced.among(taken.mean[:count][heard[:count]]).peaks


def tried(name: str, there: Scene) -> bool:
    """Draft, and tell; whether all promises are kept."""
    finder = Finder(KINDS)
    before_kinds = {(w.kind, w.strip) for w in finder.find(there)}
    after, seconds, parts = there, 0.0, list[Part]()
    for strip in (*(s.id for s in there.session.stems), MIX):
        began = time.monotonic()
        draft = draft_start(after, strip, finder)
        seconds = max(seconds, time.monotonic() - began)
        parts += draft.parts
        made: Session = drafted(after.renderer, after.session, draft, range(len(draft.parts)), 100.0)
        render = after.renderer.song(made)
        untouched, after = after.render, replace(after, session=made, render=render)
    after_kinds = {(w.kind, w.strip) for w in finder.find(after)}
    was, now = untouched.result.figures(), render.result.figures()
    lost, new = was.plr - now.plr, after_kinds - before_kinds
    good = reduced_of(render) <= 3.05
    good = good and now.true_peak <= made.target.true_peak + 0.05 and lost <= 3.05 and not new
    good = good and now.integrated <= made.target.loudness + made.target.tolerance
    print(
        f"{name:22} {len(parts)} parts, {seconds:4.1f} s · {was.integrated:6.1f} → {now.integrated:6.1f} LUFS · "
        f"{now.true_peak:5.2f} dBTP · PLR {was.plr:4.1f} − {lost:4.1f} · {reduced_of(render):3.1f} dB at peaks · "
        f"watch-outs {len(before_kinds)} → {len(after_kinds)}{' NEW ' + str(new) if new else ''}{'' if good else '  NOT KEPT'}"
    )
    for part in parts:
        print(f"    {part.title}  [{part.figures}]")
    return good


def faulty(stems: Stems) -> Stems:
    """Three faults in three stems, at their middle strength."""
    made, random = stems, np.random.default_rng(5)
    for kind in ("rumble", "resonance", "sibilance"):
        if kind != "sibilance" or "Voice" in stems:
            made, _ = FAULTS[kind](made, 1, random)
    return made


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--songs", type=int, default=10)
    parser.add_argument("--session", type=Path, action="append", default=[])
    asked = parser.parse_args()
    kept = []
    for n in range(asked.songs):
        name, style = list(STYLES.items())[n % len(STYLES)]
        stems = faulty(song(style, FIRST_SEED + n))
        kept.append(tried(f"{name} {n}", scene(stems, session_of(stems))))
    for path in asked.session:
        session = read_session(path).session
        kept.append(tried(path.stem, scene_of(session, path.resolve().parent)))
    print(f"all promises kept: {sum(kept)} of {len(kept)}")


if __name__ == "__main__":
    main()
