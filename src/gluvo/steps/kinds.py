"""The steps that there are. A new one is a file of its own and a name in `AnyStep`."""

from __future__ import annotations

from typing import get_args

from gluvo.steps.base import Step
from gluvo.steps.clipper import Clipper
from gluvo.steps.de_esser import DeEsser
from gluvo.steps.glue import Glue
from gluvo.steps.limiter import Limiter
from gluvo.steps.mid_side_eq import MidSideEq
from gluvo.steps.outboard import Outboard
from gluvo.steps.resonance_tamer import ResonanceTamer
from gluvo.steps.saturation import Saturation
from gluvo.steps.transient_shaper import TransientShaper
from gluvo.steps.trim import Trim
from gluvo.steps.width import Width

AnyStep = (
    Trim
    | MidSideEq
    | Glue
    | DeEsser
    | ResonanceTamer
    | TransientShaper
    | Saturation
    | Width
    | Clipper
    | Limiter
    | Outboard
)

STEP_KINDS: tuple[type[Step], ...] = get_args(AnyStep)
