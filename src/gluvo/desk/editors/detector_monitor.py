"""Switches with which something of a step is heard alone: its detector, what it takes off, a band."""

from __future__ import annotations

from gluvo.compare.match import DETECTOR, RESULT, TAKEN
from gluvo.desk.controls.widgets import Toggle
from gluvo.desk.model.workbench import Workbench


def ear_toggle(bench: Workbench, path: str, text: str, tip: str) -> Toggle:
    """A switch that hears a hearable instead of the result; `show_ear` keeps it up to date."""
    made = Toggle(text, f"{tip} Not part of the sound.")
    made.toggled.connect(lambda on: bench.listening.hear(path if on else RESULT))
    return made


def taken_toggle(bench: Workbench) -> Toggle:
    """Hears what a step takes off."""
    tip = "Listen only to what is taken off: what comes in, as loud as it would come out, less what does come out."
    return ear_toggle(bench, TAKEN, "Hear what is taken", tip)


def detector_toggle(bench: Workbench, tip: str) -> Toggle:
    """Hears what a step's detector goes by."""
    return ear_toggle(bench, DETECTOR, "Hear detector", tip)


def show_ear(bench: Workbench, toggle: Toggle, path: str) -> None:
    toggle.set_on(bench.session.view.hear == path)
