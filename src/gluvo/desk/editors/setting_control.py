"""The control of a declared setting."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from gluvo.advise.try_values import SettingPlace
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import ChoiceRow, Toggle
from gluvo.desk.model.workbench import Workbench
from gluvo.steps import Setting

Control = Ruler | Toggle | ChoiceRow


def setting_control(
    setting: Setting, change: Callable[[Any], object], settle: Callable[[], object], *, named: bool = True
) -> Control:
    """A ruler, a switch or a choice, also one without its name; `change` takes what the user sets, `settle` is called when a
    gesture has ended."""
    if setting.kind == "number":
        ruler = Ruler(setting)
        ruler.moved.connect(change)
        ruler.settled.connect(settle)
        return ruler
    if setting.kind == "switch":
        toggle = Toggle(setting.label, f"<b>{setting.label}</b><br>{setting.tip}")
        toggle.toggled.connect(change)
        return toggle
    choice = ChoiceRow(setting, named=named, roomy=not named)
    choice.chosen.connect(change)
    return choice


def offer_values(bench: Workbench, control: Control, place: Callable[[], SettingPlace]) -> None:
    """Let the values of a control's setting be tried: from its menu, where it has one, and by the key for it."""
    control.try_values = lambda: bench.values_wanted.emit(place())  # type: ignore[union-attr]


def show_second(controls: Mapping[str, Control], other: object) -> None:
    """Show what a record of the same kind has, as second pointers; None shows none."""
    for name, control in controls.items():
        if isinstance(control, Ruler):
            control.set_second(float(getattr(other, name)) if other is not None else None)


def show_value(control: Control, value: Any) -> None:
    """Show a value; nothing is told."""
    if isinstance(control, Toggle):
        control.set_on(value)
    else:
        control.set_value(value)
