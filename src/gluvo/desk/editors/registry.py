"""The editors of the steps. A step that has none here gets a plain one."""

from __future__ import annotations

from typing import Any

from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.ceiling import CeilingEditor
from gluvo.desk.editors.de_esser import DeEsserEditor
from gluvo.desk.editors.eq.editor import EqEditor
from gluvo.desk.editors.glue import GlueEditor, LaneEditor
from gluvo.desk.editors.outboard import OutboardEditor
from gluvo.desk.editors.resonance_tamer import TamerEditor
from gluvo.desk.editors.saturation import SaturationEditor
from gluvo.desk.editors.split.editor import SplitEditor
from gluvo.desk.editors.transient_shaper import ShaperEditor
from gluvo.desk.editors.trim import TrimEditor
from gluvo.desk.editors.width import WidthEditor
from gluvo.desk.model.workbench import Workbench
from gluvo.steps import (
    ChainItem,
    Clipper,
    DeEsser,
    Glue,
    Lane,
    Limiter,
    MidSideEq,
    Outboard,
    ResonanceTamer,
    Saturation,
    Split,
    Step,
    TransientShaper,
    Trim,
    Width,
)

EDITORS: dict[type[Step], type[StepEditor[Any]]] = {
    Trim: TrimEditor,
    MidSideEq: EqEditor,
    Glue: GlueEditor,
    DeEsser: DeEsserEditor,
    ResonanceTamer: TamerEditor,
    TransientShaper: ShaperEditor,
    Saturation: SaturationEditor,
    Width: WidthEditor,
    Clipper: CeilingEditor,
    Limiter: CeilingEditor,
    Outboard: OutboardEditor,
    Lane: LaneEditor,
    Split: SplitEditor,
}
"""Steps with views of their own; others get a plain `StepEditor`."""


def editor_for(bench: Workbench, step: ChainItem) -> StepEditor[Any]:
    return EDITORS.get(type(step), StepEditor)(bench, step)
