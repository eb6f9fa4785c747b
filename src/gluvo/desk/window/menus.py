"""The menus, built from the actions."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QActionGroup, QKeySequence
from PySide6.QtWidgets import QMainWindow, QMenu

from gluvo.desk.controls.finder import Findable, Finder, Placed
from gluvo.desk.controls.widgets import menu_text
from gluvo.desk.window.actions import ACTIONS, MENUS, Action, Desk

Entry = tuple[str, Callable[[], object] | None, bool]
"""A line of a menu that is filled when it opens: its words, what it does (nothing, if it cannot be done), and whether it
is the one that is chosen."""


class Menus:
    """A window's menus. What is done by them, the desk does."""

    def __init__(
        self, window: QMainWindow, desk: Desk, add_menu: QMenu, further: Callable[[], Iterable[Findable]]
    ) -> None:
        """`add_menu`: the steps that can be added; `further`: what is found besides actions."""
        self._window, self._desk, self._further = window, desk, further
        self.placed: list[Placed] = []
        """Every action, with where it stands."""
        self._always: set[QAction] = set()
        self._filled: list[QMenu] = []
        """Menus that are filled when they open."""
        self.menus: dict[str, QMenu] = {}
        for title in MENUS:
            self.menus[title] = window.menuBar().addMenu(f"&{title}")
        self._add_menu = add_menu
        self.menus["Chain"].addMenu(add_menu)
        for action in add_menu.actions():
            if not action.isSeparator():
                self.placed.append(Placed("Chain › Add step", action))
        self._groups: dict[str, QActionGroup] = {}
        made = {(record.menu, record.text): self._add(record) for record in ACTIONS}
        self.placed.sort(key=lambda placed: MENUS.index(placed.place.partition(" › ")[0]))
        self.undo, self.redo = made["Edit", "Undo"], made["Edit", "Redo"]

    def _menu(self, title: str) -> QMenu:
        if title not in self.menus:
            outer, _, inner = title.rpartition(" › ")
            self.menus[title] = self._menu(outer).addMenu(inner)
        return self.menus[title]

    def _add(self, record: Action) -> QAction:
        menu, action = self._menu(record.menu), QAction(record.text, self._window)
        if record.rule and not record.hidden:
            menu.addSeparator()
        if record.key:
            action.setShortcut(QKeySequence(record.key))
        action.setAutoRepeat(not record.once)
        if record.tip:
            action.setToolTip(record.tip)
            action.setStatusTip(record.tip)
        if record.is_chosen is not None:
            action.setCheckable(True)
            action.setChecked(record.is_chosen(self._desk))
            self._groups.setdefault(record.menu, QActionGroup(self._window)).addAction(action)
        action.triggered.connect(lambda *_: record.do(self._desk))
        if not record.hidden:  # an action that is not visible could not be triggered: Qt does not enable it
            menu.addAction(action)
        self._window.addAction(action)
        self.placed.append(Placed(record.menu, action))
        if record.always:
            self._always.add(action)
        return action

    def add_filled(self, place: str, title: str, before: str, fill: Callable[[], list[Entry]], empty: str) -> None:
        """A menu inside another one, before an action of it (at its end, if there is none of that name), that is filled
        each time it opens; `empty` stands in it where there is nothing."""
        outer = self._menu(place)
        inner = QMenu(title, self._window)
        at = next((action for action in outer.actions() if action.text() == before), None)
        if at is None:
            outer.addMenu(inner)
        else:
            outer.insertMenu(at, inner)

        def show() -> None:
            inner.clear()
            for text, do, chosen in fill():
                action = inner.addAction(menu_text(text))
                action.setEnabled(do is not None)
                action.setCheckable(chosen)
                action.setChecked(chosen)
                if do is not None:
                    action.triggered.connect(lambda *_, do=do: do())
            if inner.isEmpty():
                inner.addAction(empty).setEnabled(False)

        inner.aboutToShow.connect(show)
        self._filled.append(inner)

    def allow(self, session: bool) -> None:
        """Offer what can be done: without a session only how to begin."""
        for placed in self.placed:
            if placed.action not in self._always:
                placed.action.setEnabled(session)
        self._add_menu.setEnabled(session)
        self.show_history()

    def show_history(self) -> None:
        """Name what undo and redo would do."""
        document = self._desk.bench.document
        for action, word, name in ((self.undo, "Undo", document.undo_name), (self.redo, "Redo", document.redo_name)):
            action.setEnabled(name is not None)
            action.setText(f"{word} {menu_text(name)}" if name else word)

    def find(self, keys: bool = False) -> Finder:
        """Open the finder, or the page of keys."""
        further = () if keys else self._further()
        finder = Finder(self._window, self.placed, keys=keys, further=further)
        finder.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        finder.show()
        return finder
