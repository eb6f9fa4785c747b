"""The row over an editor that stands there while there are alternatives: which there are, and what the next one has otherwise."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint, QRect
from PySide6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QWidget

from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.widgets import button, edit_in_place, label, menu_text
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.session import alternatives
from gluvo.session.versions import differences


class AlternativesRow(QWidget):
    """Click or A to hear another one; a right click, or the row's menu, renames it or takes it away."""

    def __init__(self, bench: Workbench, blind: Callable[[], object]) -> None:
        """`blind` puts all of them into a blind trial."""
        super().__init__()
        self._bench = bench
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 6, 16, 0)
        row.setSpacing(4)
        self.what = label("", "caption")
        row.addWidget(self.what)
        self._places = QHBoxLayout()
        self._places.setSpacing(2)
        row.addLayout(self._places)
        self.buttons: list[QPushButton] = []
        self.words = Elided("", "caption", 300)
        self.words.setToolTip(
            "What the next alternative has otherwise than this one. Rulers show it as a hollow pointer."
        )
        row.addWidget(self.words, 1)
        self.blind = button("Blind…", "Rank all of them blind, at equal loudness (Ctrl+Alt+T).", blind, "plain")
        self.more = button("…", "Rename or remove the present alternative, or make another one.", kind="plain")
        self.more.setAccessibleName("Alternatives menu")
        self.more.setFixedWidth(28)
        self.more.clicked.connect(lambda: self._ask(self._chosen, self.more.mapToGlobal(QPoint(0, self.more.height()))))
        row.addWidget(self.blind)
        row.addWidget(self.more)
        Follower(self, bench, self.refresh, session=lambda s: (s.strips, s.view.step, s.view.strip))
        self.refresh()

    @property
    def _chosen(self) -> int:
        found = self._bench.side_by_side.found
        return found.chosen if found is not None else 0

    def refresh(self) -> None:
        beside = self._bench.side_by_side
        found = beside.found
        self.setVisible(found is not None)
        if found is None:
            return
        names = [alternatives.name_of(found, n) for n in range(len(found.settings))]
        if [made.text() for made in self.buttons] != [menu_text(name) for name in names]:
            self._fill(names)
        for n, made in enumerate(self.buttons):
            made.setChecked(n == found.chosen)
        self.what.setText(beside.what)
        next_one, session = beside.beside, self._bench.session
        words = []
        if next_one is not None:
            words = [f"{d.what.lower()} {d.before} → {d.after}" for d in differences(session, next_one)]
        letter = alternatives.LETTERS[(found.chosen + 1) % len(found.settings)]
        self.words.setText(f"{letter} has {', '.join(words)}" if words else f"{letter} is the same so far")

    def _fill(self, names: list[str]) -> None:
        for made in self.buttons:
            made.hide()
            made.deleteLater()
        self.buttons = []
        for n, name in enumerate(names):
            made = button(
                menu_text(name),
                f"Have alternative {name} in the chain (A goes round them). At equal loudness, live; one undo.",
                lambda *_, n=n: self._choose(n),
                "hear",
                checkable=True,
            )
            made.setContextMenuPolicy(made.contextMenuPolicy().CustomContextMenu)
            made.customContextMenuRequested.connect(lambda at, n=n, made=made: self._ask(n, made.mapToGlobal(at)))
            self._places.addWidget(made)
            self.buttons.append(made)

    def _choose(self, n: int) -> None:
        self._bench.side_by_side.choose(n)
        self.refresh()  # also where it was chosen already: the button stays down

    def _ask(self, n: int, at: QPoint) -> None:
        menu, beside = QMenu(self), self._bench.side_by_side
        menu.addAction("Rename").triggered.connect(lambda *_: self.rename(n))
        menu.addAction("Remove").triggered.connect(lambda *_: beside.remove(n))
        menu.addAction("Another").triggered.connect(lambda *_: beside.another())
        menu.popup(at)

    def rename(self, n: int) -> None:
        """Give one of them a name, in its place."""
        found = self._bench.side_by_side.found
        if found is not None and n < len(self.buttons):
            box = self.buttons[n].geometry()
            edit_in_place(
                self,
                found.settings[n].name,
                QRect(box.left(), box.top(), max(140, box.width()), box.height()),
                lambda name: self._bench.side_by_side.rename(n, name),
            )
