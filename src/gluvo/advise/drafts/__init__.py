"""Drafts: a start for a strip that explains itself, made of ordinary steps, and nothing where nothing is asked for.

What proposes parts is a file here and a line in `draft.PROPOSERS`.
"""

from gluvo.advise.drafts.as_in import Model, draft_as_in, strip_like
from gluvo.advise.drafts.base import MOST_STRENGTH, Draft, Part
from gluvo.advise.drafts.draft import draft_start, drafted
from gluvo.advise.drafts.loudness import MOST_LOST

__all__ = [
    "MOST_LOST",
    "MOST_STRENGTH",
    "Draft",
    "Model",
    "Part",
    "draft_as_in",
    "draft_start",
    "drafted",
    "strip_like",
]
