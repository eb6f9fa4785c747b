"""The kinds of step that there are, as a menu."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from PySide6.QtWidgets import QMenu, QWidget

from gluvo.steps import STEP_KINDS, ChainItem


def step_menu(parent: QWidget, add: Callable[[ChainItem], object], title: str = "Add step") -> QMenu:
    """A menu of all kinds of step; `add` takes a new one of the kind that is chosen."""
    menu = QMenu(title, parent)
    menu.setToolTipsVisible(True)
    for kind in STEP_KINDS:
        action = menu.addAction(kind.title)
        action.setToolTip(kind.summary)
        action.triggered.connect(lambda _=False, kind=kind: add(cast("ChainItem", kind())))
    return menu
