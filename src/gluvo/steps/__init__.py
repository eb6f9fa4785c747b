"""The steps; the lane, which holds steps beside the chain; and the split, which holds steps for each band."""

from __future__ import annotations

from gluvo.steps.bands import Band
from gluvo.steps.base import MAX_BLOCK, Processor, Step
from gluvo.steps.clipper import Clipper
from gluvo.steps.de_esser import DeEsser
from gluvo.steps.glue import Glue
from gluvo.steps.kinds import STEP_KINDS, AnyStep
from gluvo.steps.lane import Lane
from gluvo.steps.limiter import Limiter
from gluvo.steps.mid_side_eq import MidSideEq
from gluvo.steps.outboard import Outboard
from gluvo.steps.resonance_tamer import ResonanceTamer
from gluvo.steps.saturation import Saturation
from gluvo.steps.settings import Setting, settings_of
from gluvo.steps.split import Split, SplitBand
from gluvo.steps.transient_shaper import TransientShaper
from gluvo.steps.trim import Trim
from gluvo.steps.width import Width

ChainItem = AnyStep | Lane | Split
"""What stands in a chain."""

__all__ = [
    "MAX_BLOCK",
    "STEP_KINDS",
    "AnyStep",
    "Band",
    "ChainItem",
    "Clipper",
    "DeEsser",
    "Glue",
    "Lane",
    "Limiter",
    "MidSideEq",
    "Outboard",
    "Processor",
    "ResonanceTamer",
    "Saturation",
    "Setting",
    "Split",
    "SplitBand",
    "Step",
    "TransientShaper",
    "Trim",
    "Width",
    "settings_of",
]
