"""Loudness bias: a blind trial of a sound against itself, one of them 1 dB louder; afterwards it is told what happened."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from gluvo.compare.hearables import SIDE_BY_SIDE, Hearable
from gluvo.compare.trial import NO_DIFFERENCE, SURE, Running, finished, p_value
from gluvo.desk.controls import dialogs
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.compare.trial_dialog import TrialDialog

TRIES, LOUDER = 8, 1.0
"""How often it is asked, and dB."""
SOFT, LOUD = "soft", "loud"


def try_bias(parent: QWidget, bench: Workbench) -> str:
    """Make the trial; what is told of it, nothing where it was stopped before the first answer."""
    session = bench.session
    candidates = [Hearable(id, SIDE_BY_SIDE, name, "") for id, name in ((SOFT, "the softer"), (LOUD, "the louder"))]
    running = Running("ab", 2, TRIES)

    def hear(id: str) -> None:
        bench.listening.hunt(session, -LOUDER if id == SOFT else 0.0)

    trial = TrialDialog(parent, bench, candidates, running, "Two versions of what you hear.", hear)
    trial.exec()
    bench.listening.hunt(None)
    if not running.answers:
        return ""
    told = what_happened(running)
    dialogs.ask(parent, "Loudness bias", told, (("close", "Close", "stay"),))
    return told


def what_happened(running: Running) -> str:
    """What came out, in sentences."""
    answers = running.answers
    loud, soft, none = (answers.count(n) for n in (1, 0, NO_DIFFERENCE))
    counted = f"The louder was better {loud} of {len(answers)} times, the softer {soft}"
    counted += f", and {none} times there was no difference." if none else "."
    same = f"Both were the same sound; one was {LOUDER:.0f} dB louder."
    trial = finished(running, "bias", ("the softer", "the louder"), "")
    if loud > soft and p_value(trial) < SURE:
        means = "Louder won without being better: that is what a comparison without a level match finds."
    elif soft > loud and p_value(trial) < SURE:
        means = "You took the softer one for the better: the louder one may have been too loud for your room."
    elif none > len(answers) // 2:
        means = "You were not led by it this time."
    else:
        means = f"That may be chance (p = {p_value(trial):.2f}); many are led by a difference that they do not notice."
    return f"{same} {counted} {means} In Gluvo everything is compared at equal loudness; M turns that off."
