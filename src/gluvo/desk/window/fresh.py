"""The fresh-ears start: after a long break the result and a reference are heard blind, before any figure is seen."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QDialog, QWidget

from gluvo.compare.hearables import REFERENCES, Hearable
from gluvo.compare.match import RESULT
from gluvo.compare.trial import NO_DIFFERENCE, Running
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.compare.trial_dialog import TrialDialog

SAID = "Your ears are fresh. Before you look at anything: your result and a reference, equally loud. Escape goes on without."


def start_fresh(window: QWidget, bench: Workbench) -> TrialDialog | None:
    """Cover the window and let the result be heard against the reference that is pinned first, or stands first."""
    there = {h.id: h for h in bench.listening.hearables()}
    references = [h for h in there.values() if h.group == REFERENCES]
    pinned = [there[id] for id in bench.session.view.pins if id in there and there[id].group == REFERENCES]
    if RESULT not in there or not references:
        return None
    candidates = [there[RESULT], (pinned or references)[0]]
    dialog = TrialDialog(window, bench, candidates, Running("ab", 2, 1), SAID)

    def told(result: int) -> None:
        answers = dialog.running.answers
        if result == QDialog.DialogCode.Accepted and answers:
            better = "neither" if answers[0] == NO_DIFFERENCE else candidates[answers[0]].name
            bench.tell(
                f"With fresh ears you preferred {better}; the other was {_other(answers[0], candidates)}.", False
            )

    dialog.finished.connect(told)
    dialog.open()
    return dialog


def _other(answer: int, candidates: Sequence[Hearable]) -> str:
    return " or ".join(c.name for n, c in enumerate(candidates) if n != answer)
