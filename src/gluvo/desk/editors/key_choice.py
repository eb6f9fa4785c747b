"""What a detector listens to: the signal itself, or another stem or bus."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QWidget

from gluvo.desk.controls.widgets import ChoiceBox, label
from gluvo.session import tree
from gluvo.session.records import Session
from gluvo.session.tree import path, rows


class KeyChoice(QWidget):
    """A list of the strips that can be a key. Those that depend on the step stay out of it."""

    def __init__(self, tip: str, change: Callable[[str], object], itself: str = "itself") -> None:
        """`change` takes the id of a strip, or nothing for `itself`."""
        super().__init__()
        self._itself = itself
        self.box = ChoiceBox()
        self.box.setAccessibleName("Key")
        self.box.setMaximumWidth(124)
        self.box.setMinimumContentsLength(6)
        self.box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.box.activated.connect(lambda n: change(self.box.itemData(n)))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 6, 0, 6)
        row.addWidget(label("Key"))
        row.addStretch(1)
        row.addWidget(self.box)
        for widget in (self, self.box):
            widget.setToolTip(f"<b>Key</b><br>{tip}")

    def show_key(self, session: Session, step_id: str, key: str) -> None:
        """Show the key of a step among the strips that can be one; a key that is gone stands there as such."""
        own = session.strip_with(step_id)
        if own is None:
            return
        names = [("", self._itself)]
        told = tree.names(session)
        names += [(s.id, told[s.id]) for s, _ in rows(session) if s.id not in path(session, own.id)]
        if key and session.strip(key) is None:
            names.append((key, "gone"))
        if [(self.box.itemData(n), self.box.itemText(n)) for n in range(self.box.count())] != names:
            self.box.clear()
            for id, name in names:
                self.box.addItem(name, id)
        self.box.setCurrentIndex(max(0, self.box.findData(key)))
