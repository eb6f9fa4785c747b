"""The steps. A new one is a file of its own and a name in `AnyStep`."""

from __future__ import annotations

from typing import get_args

from gluvo.steps.base import MAX_BLOCK, Processor, Step
from gluvo.steps.glue import Glue
from gluvo.steps.limiter import Limiter
from gluvo.steps.settings import Setting, settings_of
from gluvo.steps.trim import Trim

AnyStep = Trim | Glue | Limiter

STEP_KINDS: tuple[type[Step], ...] = get_args(AnyStep)

__all__ = [
    "MAX_BLOCK", "STEP_KINDS", "AnyStep", "Glue", "Limiter", "Processor", "Setting", "Step", "Trim", "settings_of"
]  # fmt: skip
