"""Listening practice: hidden changes to be found, at a difficulty that follows the ear."""

from gluvo.advise.practice.exercises import EXERCISES, Change, Exercise, with_change
from gluvo.advise.practice.results import Answer, Results, Round, add_round, by_frequency, read_results
from gluvo.advise.practice.staircase import Staircase

__all__ = [
    "EXERCISES",
    "Answer",
    "Change",
    "Exercise",
    "Results",
    "Round",
    "Staircase",
    "add_round",
    "by_frequency",
    "read_results",
    "with_change",
]
