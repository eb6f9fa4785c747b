"""Hands and ears without a mouse or a screen: names and values in Qt's accessibility tree, and keys from pane to pane."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QAccessible, QAccessibleInterface
from PySide6.QtWidgets import QAbstractItemView, QScrollArea, QWidget

from gluvo.desk.charts.chart import Chart
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.pages.registry import PAGES
from gluvo.steps import STEP_KINDS

from .desk import Desk, focus, key, shortcut

TEXT = QAccessible.Text


def tree(widget: QWidget) -> Iterator[tuple[QWidget, str, str]]:
    """Each visible widget under one, as Qt tells a screen reader of it: its name and what else is said."""
    root = QAccessible.queryAccessibleInterface(widget)
    assert root is not None
    ahead: list[QAccessibleInterface] = [root]
    while ahead:
        one = ahead.pop()
        found = one.object()
        if isinstance(found, QWidget) and not found.isVisible():
            continue
        if isinstance(found, QWidget):
            yield found, one.text(TEXT.Name), one.text(TEXT.Description)
        ahead += [child for n in range(one.childCount()) if (child := one.child(n)) is not None and child.isValid()]


def unnamed(widget: QWidget) -> list[str]:
    """What can have the focus, or is a chart, and has no name."""
    passes = (QScrollArea, QAbstractItemView)
    return [
        f"{type(w).__name__} {w.toolTip()[:40]}"
        for w, name, _ in tree(widget)
        if not name.strip()
        and (isinstance(w, Chart) or w.focusPolicy() & Qt.FocusPolicy.TabFocus)
        and not isinstance(w.parent(), passes)
        and not (isinstance(w, QScrollArea) and not w.accessibleName())
    ]


@pytest.mark.thorough
@pytest.mark.parametrize("page", [page.key for page in PAGES])
def test_everything_on_a_page_has_a_name(full_desk: Desk, page: str) -> None:
    full_desk.bench.look(page=page)
    full_desk.settle()
    assert not unnamed(full_desk.window)


@pytest.mark.thorough
def test_rulers_and_rows_tell_their_values(full_desk: Desk) -> None:
    desk = full_desk
    for step in [i.id for i in desk.session.chain]:
        desk.bench.look(page="shape", step=step)
        desk.settle()
        rulers = [(w, name, said) for w, name, said in tree(desk.window) if isinstance(w, Ruler)]
        assert rulers
        for ruler, name, said in rulers:
            assert name == ruler.setting.label and said.startswith(ruler.setting.show(ruler.value)), name
            assert ruler.setting.unit in said
    rows = desk.window.shape.ledger.list
    spoken = [rows.item(n).data(Qt.ItemDataRole.AccessibleTextRole) for n in range(rows.count())]
    assert all("LUFS" in words and "dBTP" in words for words in spoken)
    shortcut(desk, "Ctrl+Space")
    assert any("marked" in rows.item(n).data(Qt.ItemDataRole.AccessibleTextRole) for n in range(rows.count()))
    desk.bench.look(page="buses")
    desk.settle()
    said = next(said for w, _, said in tree(desk.window) if w is desk.window.buses.tree)
    assert "fader" in said and "LUFS" in said
    desk.bench.look(page="shape", step="glue-1")
    desk.settle()
    charts = {name: said for w, name, said in tree(desk.window) if isinstance(w, Chart)}
    assert "punch kept" in charts["Hits"]


@pytest.mark.thorough
@pytest.mark.parametrize("kind", STEP_KINDS, ids=lambda k: k.__name__)
def test_every_editor_names_its_controls(desk: Desk, kind: type) -> None:
    desk.window.shape.ledger.add(kind())
    desk.settle()
    editor = desk.window.shape.editor
    assert isinstance(editor, StepEditor) and not unnamed(editor)
    assert all(said for w, _, said in tree(editor) if isinstance(w, Ruler))


@pytest.mark.thorough
def test_panes_are_gone_round_by_a_key_and_remember_where_one_was(desk: Desk) -> None:
    window = desk.window
    window.shape.ledger.list.setFocus()
    seen = []
    for _ in range(len(window.panes())):
        key(desk, Qt.Key.Key_F6)
        at = focus(desk)
        seen.append(next(n for n, pane in enumerate(window.panes()) if pane is at or pane.isAncestorOf(at)))
    assert sorted(seen) == list(range(len(window.panes()))), "each is come to once"
    assert window.shape.ledger.list.hasFocus()
    ratio = window.shape.editor.controls["ratio"]
    ratio.setFocus()
    key(desk, Qt.Key.Key_F6)
    key(desk, Qt.Key.Key_F6, Qt.KeyboardModifier.ShiftModifier)
    assert ratio.hasFocus(), "where one was last"
    key(desk, "e")
    assert window.shape.ledger.list.hasFocus()
    key(desk, "e")
    now = window.focusWidget()
    assert now is not None and window.shape.editor.isAncestorOf(now)
