"""Rulers for what belongs to the view: how one looks and listens, kept but not undone."""

from __future__ import annotations

from functools import partial

import msgspec

from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.model.workbench import Workbench
from gluvo.session.records import ViewPart
from gluvo.steps import settings_of


class ViewRulers:
    """A ruler for each number that a part of the `View` declares."""

    def __init__(self, bench: Workbench, part: ViewPart, kind: type[msgspec.Struct], width: int) -> None:
        """`part` names the field of the view; the rulers are `width` pixels wide where there is room."""
        self._bench, self._part = bench, part
        self.all = {name: Ruler(setting) for name, setting in settings_of(kind).items() if setting.kind == "number"}
        for name, ruler in self.all.items():
            ruler.setMinimumWidth(min(width, 120))
            ruler.setMaximumWidth(width)
            ruler.moved.connect(partial(self._set, name))

    def refresh(self) -> None:
        values = getattr(self._bench.session.view, self._part)
        for name, ruler in self.all.items():
            ruler.set_value(getattr(values, name))

    def _set(self, name: str, value: float) -> None:
        self._bench.adjust(self._part, **{name: value})
