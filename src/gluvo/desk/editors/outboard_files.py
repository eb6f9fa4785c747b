"""Where what is sent goes, and which file came back."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from gluvo.deliver.names import safe
from gluvo.desk.model.workbench import Workbench
from gluvo.session.sounds import AUDIO_SUFFIXES
from gluvo.steps import Outboard
from gluvo.steps.outboard import as_outboard

FILTER = f"Audio ({' '.join('*' + s for s in AUDIO_SUFFIXES)});;All files (*)"
NONE = "Choose an Outboard first; Add step has it."


def chosen_outboard(bench: Workbench) -> Outboard | None:
    """The Outboard that is chosen; tells if none is."""
    if (found := as_outboard(bench.session.item(bench.session.view.step))) is not None:
        return found
    bench.refuse(NONE)
    return None


def ask_send(parent: QWidget, bench: Workbench, step: str) -> None:
    """Ask where what flows in at a step goes, and send it."""
    item = bench.session.item(step)
    if item is None or bench.renderer is None:
        bench.refuse("Bring in audio first: there is nothing to send.")
        return
    start = bench.document.folder / f"{safe(f'{bench.session.name} - {item.called} - send')}.wav"
    found, _ = QFileDialog.getSaveFileName(parent, "Send what flows in", str(start), "WAV (*.wav)")
    if found:
        bench.outboards.send(step, Path(found) if found.lower().endswith(".wav") else Path(f"{found}.wav"))


def ask_return(parent: QWidget, bench: Workbench, step: str) -> None:
    """Ask for the file that came back, and lay it in place."""
    item = as_outboard(bench.session.item(step))
    if item is not None and item.sent is None:
        bench.refuse("Nothing has been sent here yet: send first, so that what comes back has its place.")
        return
    found, _ = QFileDialog.getOpenFileName(parent, "What came back", str(bench.document.folder), FILTER)
    if found:
        bench.outboards.bring_back(step, Path(found))
