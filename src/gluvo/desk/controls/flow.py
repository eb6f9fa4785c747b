"""How a page finds room: cells that flow into as many columns as fit, groups that fold, words that are cut."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint, QRect, QSize, Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLayoutItem,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from gluvo.desk.controls.widgets import button, label, line, plain


class Flow(QLayout):
    """Puts widgets side by side and goes on below where there is no more room.

    With a `cell` width all get columns of equal width, as many as fit; without, each is as wide as it wants to be. `packed`
    columns are filled each for itself: what comes next stands where least stands above it.
    """

    def __init__(self, cell: int = 0, across: int = 14, down: int = 4, *, packed: bool = False) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._cell, self._across, self._down, self._packed = cell, across, down, packed
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._arranged(QRect(0, 0, width, 0), move=False)

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._arranged(rect, move=True)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        seen = [item.minimumSize() for item in self._items if not item.isEmpty()]
        if not seen:
            return QSize(0, 0)
        return QSize(
            max(self._cell, max(s.width() for s in seen)) if not self._cell else self._cell,
            max(s.height() for s in seen),
        )

    def _arranged(self, rect: QRect, move: bool) -> int:
        """The height that the items take in a width; moved there if asked."""
        items = [item for item in self._items if not item.isEmpty()]
        if not items:
            return 0
        if self._cell:
            least = max([self._cell, *(item.minimumSize().width() for item in items)])
            columns = max(1, min(len(items), (rect.width() + self._across) // (least + self._across)))
            width = (rect.width() - (columns - 1) * self._across) // columns
            if self._packed:
                return self._pack(items, rect, columns, width, move)
            rows = [items[n : n + columns] for n in range(0, len(items), columns)]
            places = [[(k * (width + self._across), width) for k in range(len(row))] for row in rows]
        else:
            rows, places = [], []
            at = rect.width() + 1
            for item in items:
                wide = min(item.sizeHint().width(), max(1, rect.width()))
                if at + wide > rect.width():
                    rows.append([])
                    places.append([])
                    at = 0
                rows[-1].append(item)
                places[-1].append((at, wide))
                at += wide + self._across
        y = 0
        for row, spots in zip(rows, places, strict=True):
            tall = max(_height(item, wide) for item, (_, wide) in zip(row, spots, strict=True))
            for item, (x, wide) in zip(row, spots, strict=True):
                if move:
                    own = tall if self._cell else _height(item, wide)
                    top = rect.y() + y + (0 if self._cell else (tall - own) // 2)
                    item.setGeometry(QRect(QPoint(rect.x() + x, top), QSize(wide, own)))
            y += tall + self._down
        return y - self._down

    def _pack(self, items: list[QLayoutItem], rect: QRect, columns: int, width: int, move: bool) -> int:
        filled = [0] * columns
        for item in items:
            column, tall = filled.index(min(filled)), _height(item, width)
            if move:
                x = rect.x() + column * (width + self._across)
                item.setGeometry(QRect(QPoint(x, rect.y() + filled[column]), QSize(width, tall)))
            filled[column] += tall + self._down
        return max(filled) - self._down


def _height(item: QLayoutItem, width: int) -> int:
    """How high an item wants to be at a width."""
    return item.heightForWidth(width) if item.hasHeightForWidth() else item.sizeHint().height()


class Elided(QLabel):
    """A line of plain text in as little room as there is: what does not fit is cut, and told by the tooltip, before its own
    words."""

    def __init__(
        self,
        text: str = "",
        role: str = "",
        wanted: int = 120,
        cut: Qt.TextElideMode = Qt.TextElideMode.ElideRight,
    ) -> None:
        """`wanted`: pixels that it asks for; it takes less where there is less. `cut`: which end is cut."""
        super().__init__()
        self._cut = cut
        self.setTextFormat(Qt.TextFormat.PlainText)
        if role:
            self.setProperty("role", role)
        self._wanted, self._whole, self._tip = wanted, "", ""
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.setText(text)

    def setText(self, text: str) -> None:
        if text != self._whole:
            self._whole = text
            self.setAccessibleName(text)
            self._show()
            self.updateGeometry()

    def text(self) -> str:
        """All of it, also what is cut."""
        return self._whole

    def setToolTip(self, tip: str) -> None:
        self._tip = tip
        self._show()

    def sizeHint(self) -> QSize:
        need = self.fontMetrics().horizontalAdvance(self._whole) + 4
        return QSize(min(need, max(self._wanted, 1)), super().sizeHint().height())

    def minimumSizeHint(self) -> QSize:
        return QSize(min(24, self.sizeHint().width()), super().minimumSizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._show()

    def _show(self) -> None:
        shown = self.fontMetrics().elidedText(self._whole, self._cut, max(0, self.width()))
        if shown != super().text():
            super().setText(shown)
        whole = "" if shown == self._whole else plain(self._whole)
        super().setToolTip("<br>".join(part for part in (whole, self._tip) if part))


class Lines(QLabel):
    """Plain text over so many lines, whose room is the same whatever it says; the tooltip has all of it."""

    def __init__(self, count: int, role: str = "") -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop)
        if role:
            self.setProperty("role", role)
        self._count = count
        self.setWordWrap(True)

    def setText(self, text: str) -> None:
        super().setText(text)
        self.setToolTip(plain(text))

    def sizeHint(self) -> QSize:
        return QSize(240, self._count * self.fontMetrics().lineSpacing() + 2)

    def minimumSizeHint(self) -> QSize:
        return QSize(80, self.sizeHint().height())

    def hasHeightForWidth(self) -> bool:
        return False


class Group(QWidget):
    """Settings under a title. One that can fold becomes a line that tells its state."""

    folded = Signal(bool)

    def __init__(self, title: str, cell: int, state: Callable[[], str] | None = None) -> None:
        """`cell`: the least width of a column. `state`: what a folded group says; without it, it cannot fold."""
        super().__init__()
        self._title, self._state = title, state
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        self.header = QWidget()
        """Its title, and what it tells when it is folded."""
        self.header.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        head = QHBoxLayout(self.header)
        head.setContentsMargins(0, 0, 0, 0)
        head.setSpacing(6)
        self.head = button(title, f"Show or fold “{title}”.", self.flip, "fold", checkable=True) if state else None
        self.title = label(title)
        self.title.setStyleSheet("font-weight: 600;")
        self.title.setMinimumHeight(24)
        head.addWidget(self.head or self.title)
        self.words = Elided("", "caption", 900)
        head.addWidget(self.words, 1)
        self._head_row = head
        column.addWidget(self.header)
        self.apart = False
        column.addWidget(line())
        self.content = QWidget()
        self.cells = Flow(cell)
        self.content.setLayout(self.cells)
        column.addWidget(self.content)
        self.set_folded(False)

    @property
    def is_folded(self) -> bool:
        return self.content.isHidden()

    def add(self, widget: QWidget) -> None:
        self.cells.addWidget(widget)

    def add_to_head(self, widget: QWidget) -> None:
        """Put something beside the title, to be there when it is folded, too."""
        self._head_row.addWidget(widget)

    def set_apart(self) -> QWidget:
        """Have its header stand elsewhere, where it is put: folded, nothing of it is here. Shown, it has a title of its own."""
        self.apart = True
        column = self.layout()
        assert isinstance(column, QVBoxLayout)
        column.removeWidget(self.header)
        if self.head is not None:
            column.insertWidget(0, self.title)
        self.set_folded(self.is_folded)
        return self.header

    def flip(self) -> None:
        self.set_folded(not self.is_folded)
        self.folded.emit(self.is_folded)

    def set_folded(self, folded: bool) -> None:
        """Fold it, or show it all; nothing is told."""
        self.content.setVisible(not folded)
        if self.apart:
            self.setVisible(not folded)
        if self.head is not None:
            self.head.setChecked(not folded)
            self.head.setText(f"{'▸' if folded else '▾'} {self._title}")
        self.refresh()
        self.updateGeometry()

    def refresh(self) -> None:
        """Tell its state anew, if it is folded."""
        self.words.setText(self._state() if self._state is not None and self.is_folded else "")


class Pane(QScrollArea):
    """A part of a page that is as high as what is in it, and scrolls where there is less room."""

    def __init__(self, inner: QWidget, least: int = 84) -> None:
        super().__init__()
        self._least, self._inner = least, inner
        self.setWidget(inner)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)

    def _height(self) -> int:
        inner = self._inner
        width = max(60, self.width())
        wanted = inner.heightForWidth(width) if inner.hasHeightForWidth() else inner.sizeHint().height()
        return max(1, wanted)

    def sizeHint(self) -> QSize:
        return QSize(200, self._height())

    def minimumSizeHint(self) -> QSize:
        return QSize(100, min(self._least, self._height()))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.size().width() != event.oldSize().width():
            self.updateGeometry()


class Place(QScrollArea):
    """Room for one widget at a time: as large as the room, and never lower than it can be, whatever it would like."""

    def __init__(self) -> None:
        super().__init__()
        self._holder = QWidget()
        self._inner: QWidget | None = None
        self.setWidget(self._holder)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._holder.resizeEvent = self._fit  # type: ignore[method-assign]

    def show_widget(self, inner: QWidget) -> None:
        """Put a widget in; the one before goes."""
        if self._inner is not None:
            self._inner.hide()
            self._inner.deleteLater()
        self._inner = inner
        inner.setParent(self._holder)
        self._holder.setMinimumHeight(inner.minimumHeight())
        self._fit(None)
        inner.show()

    def _fit(self, _: object) -> None:
        if self._inner is not None:
            self._inner.setGeometry(self._holder.rect())


def scrolled(inner: QWidget, least: int = 80) -> QScrollArea:
    """A widget that scrolls up and down where there is less room than it needs."""
    area = QScrollArea()
    area.setWidget(inner)
    area.setWidgetResizable(True)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setMinimumHeight(least)
    return area
