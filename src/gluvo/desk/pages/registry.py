"""The pages of the window, in the order of their tabs and keys. A new page is a file here and a record in `PAGES`."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.base import PageWidget
from gluvo.desk.pages.buses import BusesPage
from gluvo.desk.pages.compare.page import ComparePage
from gluvo.desk.pages.deliver.page import DeliverPage
from gluvo.desk.pages.shape import ShapePage
from gluvo.desk.pages.watch import WatchPage


@dataclass(frozen=True)
class Page:
    """A page, and how it is named."""

    key: str
    """How sessions call it."""
    name: str
    tip: str
    make: Callable[[Workbench], PageWidget]
    has_tab: bool = True
    """Whether it has a tab; what has none is reached by a button and a key."""


PAGES: tuple[Page, ...] = (
    Page("buses", "Buses", "Where the sound flows: stems, buses, faders.", BusesPage),
    Page("shape", "Shape", "The chain of one strip, step by step, and how near the song is to its target.", ShapePage),
    Page("compare", "Compare", "Result, references, versions and encodings side by side.", ComparePage),
    Page("deliver", "Deliver", "The files that are handed over, and what was measured of them.", DeliverPage),
    Page(
        "watch", "Watch-outs", "What is wrong with this song, with its evidence, and an edit for it.", WatchPage, False
    ),
)


def place_of(key: str) -> int:
    """Where a page stands; where there is none of that name, the second one, on which the work is done."""
    return next((n for n, page in enumerate(PAGES) if page.key == key), 1)
