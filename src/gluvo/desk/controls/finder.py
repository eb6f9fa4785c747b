"""Finding: a page of all keys, and a field that finds actions, and whatever else is given to it, by a part of the name."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from PySide6.QtCore import QPoint, Qt, QTimer, Signal
from PySide6.QtGui import QAction, QKeyEvent
from PySide6.QtWidgets import QDialog, QHeaderView, QLineEdit, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from gluvo.desk.controls.theme import font
from gluvo.desk.controls.widgets import label

ROLE = Qt.ItemDataRole.UserRole


@dataclass(frozen=True)
class Findable:
    """Something that can be found and gone to, or done."""

    place: str
    """What it stands under."""
    name: str
    do: Callable[[], object]
    key: str = ""
    tip: str = ""
    can: bool = True
    """Whether it can be done now."""


@dataclass(frozen=True)
class Placed:
    """An action and where it stands in the menus."""

    place: str
    action: QAction

    @property
    def name(self) -> str:
        return self.action.text().replace("&&", "\0").replace("&", "").replace("\0", "&")

    @property
    def key(self) -> str:
        return self.action.shortcut().toString()

    def findable(self) -> Findable:
        action = self.action
        return Findable(self.place, self.name, action.trigger, self.key, action.statusTip(), action.isEnabled())


GESTURES: tuple[tuple[str, tuple[tuple[str, str], ...]], ...] = (
    (
        "On a ruler",
        (
            ("Drag", "moves along it; with Shift finely"),
            ("Ctrl+wheel", "a step; with Shift the last digit; without Ctrl where it has the focus"),
            ("←  →  ↑  ↓", "a step; with Shift the last digit"),
            ("Digits", "type a value"),
            ("Page up, page down", "ten steps"),
            ("Home, End", "the ends of its range"),
            ("Enter, F2", "types a value; Enter takes it, Escape does not"),
            ("Del", "the default, as a double-click"),
        ),
    ),
    (
        "In the ledger",
        (
            ("Enter, double-click", "opens the step"),
            ("Ctrl+B, click on its mark", "switches it on or off"),
            ("Del", "takes it out"),
            ("Ctrl+↑  Ctrl+↓", "moves it, in and out of lanes"),
            ("Drag", "moves it anywhere"),
        ),
    ),
    (
        "In an equaliser's lane",
        (
            ("Double-click", "adds a band"),
            ("Drag, wheel", "moves a band; the wheel is its Q"),
            ("H held, pointer", "hunts with a boosted bell; letting go leaves a cut"),
        ),
    ),
    (
        "In the table of bands",
        (
            ("Enter, F2", "types into a cell, or turns a switch over"),
            ("Alt+↑  Alt+↓", "nudges the cell; with Shift finely"),
            ("Insert, Del", "adds a band, takes it out"),
            ("Menu", "what else can be done with the band"),
        ),
    ),
    (
        "In an equaliser's lane",
        (
            ("← → ↑ ↓", "move the chosen band; with Shift finely"),
            ("Page up, page down", "its Q"),
            ("Ctrl+←  Ctrl+→", "choose another band"),
            ("Insert, Del", "adds a band, takes it out"),
        ),
    ),
    (
        "On crossovers",
        (
            ("Drag", "moves where two bands meet"),
            ("↑  ↓", "choose one"),
            ("←  →", "move it; with Shift finely"),
            ("Enter, F2", "types a frequency or a note"),
        ),
    ),
    (
        "On the blocks of the Resonance tamer",
        (
            ("Drag a top", "how much is done there"),
            ("←  →", "choose one"),
            ("↑  ↓", "move its top; with Shift finely"),
        ),
    ),
    (
        "In lists and tables",
        (
            ("↑ ↓ Home End", "choose a line"),
            ("Enter, double-click", "does what the list is for"),
            ("H", "hears the line, where it can be heard"),
            ("Del", "takes the line out, on the Deliver page"),
            ("←  →", "choose a column, in the figures of the Compare page"),
        ),
    ),
    (
        "In a blind trial",
        (
            ("1 2 3 …, ←  →", "hear one; X the unknown one"),
            ("Enter", "takes what is heard; N where there is no difference"),
            ("Space", "plays or stops"),
            ("Esc", "ends the trial"),
        ),
    ),
    (
        "On the timeline",
        (
            ("Click, drag", "goes there"),
            ("Click on a name", "chooses a section"),
            ("Shift-drag", "marks a section"),
            ("Drag an edge", "moves it; with Ctrl to hits"),
            ("Wheel", "zooms; with Shift along, with Ctrl the height of the waves"),
            ("Drag the lower edge", "makes it higher"),
        ),
    ),
    (
        "In the tree of buses",
        (
            ("Drag a name", "lets it flow elsewhere"),
            ("Ctrl-click", "marks several"),
            ("↑  ↓", "chooses; with Alt moves"),
            ("F2", "renames"),
            ("Enter", "shows the chain"),
        ),
    ),
)
"""What is no action: by place, keys or movement, and what they do."""


STEPS = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1, Qt.Key.Key_PageUp: -10, Qt.Key.Key_PageDown: 10}
"""Rows that a key moves by."""


class _Search(QLineEdit):
    """The field to search by; up and down move in the list below."""

    stepped = Signal(int)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        by = STEPS.get(Qt.Key(event.key()))
        if by is not None:
            self.stepped.emit(by)
        else:
            super().keyPressEvent(event)


class Finder(QDialog):
    """All actions by place with their keys, and a field that finds them. Enter does the chosen one.

    It pops up as a menu does: a popup has all keys from the moment that it is shown. A dialog has none until the window
    manager gives it the focus, and what is typed until then is lost.
    """

    def __init__(
        self, parent: QWidget, actions: Sequence[Placed], *, keys: bool, further: Iterable[Findable] = ()
    ) -> None:
        """`keys`: whether it is the page of keys, which also tells gestures; `further`: what else is found, which is shown
        once something is typed."""
        super().__init__(parent, Qt.WindowType.Popup)
        self.setWindowTitle("Keys" if keys else "Find")
        column = QVBoxLayout(self)
        self.tree = QTreeWidget()
        self.field = _Search()
        self.field.stepped.connect(self.step)
        self.field.setPlaceholderText("Part of a name or a key")
        self.field.setAccessibleName("Find")
        column.addWidget(self.field)
        column.addWidget(self.tree, 1)
        self.words = label("", "caption")
        column.addWidget(self.words)
        self.tree.setColumnCount(2)
        self.tree.setHeaderHidden(True)
        self.tree.setRootIsDecorated(False)
        self.tree.setIndentation(14)
        self.tree.setItemsExpandable(False)
        self.tree.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.tree.setAccessibleName("Actions")
        self.tree.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.tree.header().setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        self.tree.header().setStretchLastSection(False)
        self._heads: dict[str, QTreeWidgetItem] = {}
        self._rows: list[tuple[QTreeWidgetItem, QTreeWidgetItem]] = []
        self._findables: list[Findable] = []
        for placed in actions:
            if placed.action.isVisible():
                self._add(placed.findable())
        for place, rows in GESTURES if keys else ():
            for key, what in rows:
                self._row(place, what, key)
        self._further_from = len(self._rows)
        for found in further:
            self._add(found)
        self.tree.expandAll()
        self.tree.itemClicked.connect(lambda item, _: self._choose(item))
        self.tree.itemActivated.connect(lambda item, _: self._do(item))
        self.field.textChanged.connect(self.show_found)
        self.field.returnPressed.connect(lambda: self._do(self.tree.currentItem()))
        room = parent.size()
        self.resize(min(620, room.width() - 80), min(640 if keys else 420, room.height() - 80))
        self.move(parent.mapToGlobal(QPoint((room.width() - self.width()) // 2, (room.height() - self.height()) // 3)))
        self.field.setFocus()
        self.show_found("")

    def _add(self, found: Findable) -> None:
        item = self._row(found.place, found.name, found.key)
        item.setData(0, ROLE, len(self._findables))  # no object: Qt would have to look after it
        self._findables.append(found)
        item.setToolTip(0, found.tip)
        item.setDisabled(not found.can)

    def _row(self, place: str, text: str, key: str) -> QTreeWidgetItem:
        if place not in self._heads:
            head = QTreeWidgetItem(self.tree, [place])
            head.setFont(0, font(13, bold=True))
            head.setFlags(Qt.ItemFlag.ItemIsEnabled)
            self._heads[place] = head
        item = QTreeWidgetItem(self._heads[place], [text, key])
        self._rows.append((self._heads[place], item))
        item.setTextAlignment(1, Qt.AlignmentFlag.AlignRight)
        return item

    def rows(self) -> list[QTreeWidgetItem]:
        """The rows that are found, in their order."""
        return [item for _, item in self._rows if not item.isHidden()]

    def show_found(self, text: str) -> None:
        """Show only what holds every word of a text, in its name, its key or its place; of what is no action, at least one in
        its name. The one whose name has the last word is chosen."""
        words = text.lower().split()
        shown = set()
        for n, (head, item) in enumerate(self._rows):
            whole = f"{head.text(0)} {item.text(0)} {item.text(1)}".lower()
            named = n < self._further_from or any(word in item.text(0).lower() for word in words)
            there = named and all(word in whole for word in words)
            item.setHidden(not there)
            if there:
                shown.add(head.text(0))
        for place, head in self._heads.items():
            head.setHidden(place not in shown)
        can = [item for item in self.rows() if self._found_at(item) is not None and not item.isDisabled()]
        if words:
            typed, last = text.lower().strip(), words[-1]

            def fits(item: QTreeWidgetItem) -> tuple[bool, bool, bool]:
                name = item.text(0).lower()
                return name.startswith(typed), name == last, name.startswith(last)

            can.sort(key=fits, reverse=True)  # of those that fit alike the first stays first
        self.tree.setCurrentItem(next(iter(can), None))  # type: ignore[arg-type]
        self.words.setText("Enter does it, Escape closes." if shown else "Nothing here is called so. Escape closes.")

    def step(self, by: int) -> None:
        """Choose another one of the rows that are found."""
        rows = self.rows()
        if rows:
            now = next(
                (n for n, item in enumerate(rows) if item is self.tree.currentItem()), -1 if by > 0 else len(rows)
            )
            self.tree.setCurrentItem(rows[min(len(rows) - 1, max(0, now + by))])

    def _found_at(self, item: QTreeWidgetItem | None) -> Findable | None:
        """What a row stands for; None for heads and gestures."""
        number = item.data(0, ROLE) if item is not None else None
        return None if number is None else self._findables[number]

    def _choose(self, item: QTreeWidgetItem) -> None:
        self.tree.setCurrentItem(item)

    def _do(self, item: QTreeWidgetItem | None) -> None:
        found = self._found_at(item)
        if found is not None and found.can:
            self.accept()
            QTimer.singleShot(0, found.do)  # once this is gone, which is in the middle of a key
