"""What a band of an equaliser does, in words."""

from __future__ import annotations

from gluvo.advise.step_analysis import StepAnalysis
from gluvo.advise.tone import Movement
from gluvo.desk.controls.widgets import figure
from gluvo.dsp.notes import note_of
from gluvo.steps import Band

PARTS = {"stereo": "the whole", "mid": "the mid", "side": "the side", "left": "the left", "right": "the right"}
LEAST = 0.005
"""dB; less is told as nothing."""


def change_words(change: float) -> str:
    """An amount of energy, in words."""
    if abs(change) < LEAST:
        return "changes nothing"
    return f"{'adds' if change > 0.0 else 'takes'} {figure(abs(change), 2 if abs(change) < 1.0 else 1)} dB"


def moves_words(band: Band, around: StepAnalysis, moves: Movement) -> str:
    """How far and how often a band moves."""
    way, moved = "sinks" if band.moves == "down" else "rises", around.moved.get(band.id)
    far = moved.short if moved is not None else f"{abs(moves.most):.1f} dB at most"
    return f"{way} by {far}, {100.0 * moves.share:.0f} % of the time"


def band_words(band: Band, around: StepAnalysis | None, section: str) -> str:
    """A line for the table."""
    if not band.on:
        return "off"
    if around is None or band.id not in around.costs:
        return ""
    cut = around.low_cuts.get(band.id)
    if cut is not None:
        taken = f"{change_words(cut.song)} of the song, {figure(abs(cut.section), 2)} dB of {section}"
        return (
            f"{taken} · {note_of(cut.lowest_played)} loses {figure(cut.note_loss)} dB" if cut.lowest_played else taken
        )
    cost, moves = around.costs[band.id], around.moves.get(band.id)
    words = [f"{change_words(cost.change)} of {PARTS[band.target]}"] if band.prototypes() else []
    if moves is not None:
        words.append(moves_words(band, around, moves))
    return " · ".join(words) or "nothing yet"


def band_sentence(band: Band, around: StepAnalysis | None, section: str) -> str:
    """All that is known of the chosen band."""
    if not band.on:
        return "This band is off."
    if around is None or band.id not in around.costs:
        return "Being measured …"
    cost, cut = around.costs[band.id], around.low_cuts.get(band.id)
    percent = abs(100.0 * cost.share)
    share = f"{figure(percent, 0 if percent >= 10.0 else 1 if percent >= 1.0 else 2)} % of all energy in {section}"
    first = change_words(cost.change)
    words = [f"{first[0].upper()}{first[1:]} of {PARTS[band.target]}, {share}"]
    if abs(cost.change) < LEAST:
        words = ["At rest it changes nothing"]
    if cut is not None:
        words.append(f"{change_words(cut.song)} of the whole song")
        words.append(cut.describe())
    moves = around.moves.get(band.id)
    if moves is not None:
        words.append(moves_words(band, around, moves))
    return " · ".join(words)
