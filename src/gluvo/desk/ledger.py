"""The ledger: the chain, with loudness and true peak at every joint."""

from __future__ import annotations

import msgspec
from PySide6.QtCore import QEvent, QModelIndex, QPersistentModelIndex, QPoint, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QGuiApplication, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from gluvo.desk.parts import button, figure, label, line
from gluvo.desk.theme import colours, font, theme
from gluvo.desk.workbench import Workbench
from gluvo.session.records import Session
from gluvo.steps import STEP_KINDS, AnyStep, Step

ID = Qt.ItemDataRole.UserRole
CLIPBOARD = "gluvo-step"
Index = QModelIndex | QPersistentModelIndex


class Ledger(QWidget):
    """Choose, add, remove, reorder (drag, or Alt with arrows), switch on and off (Enter), copy and paste."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 0, 8)
        column.setSpacing(2)
        head = QHBoxLayout()
        head.setContentsMargins(12, 0, 10, 0)
        self._caption = label("", "caption")
        head.addWidget(label("Mix bus", "title"))
        head.addStretch(1)
        head.addWidget(self._caption)
        column.addLayout(head)
        column.addWidget(_Heads())
        column.addWidget(line())
        self.list = _StepList(self)
        self.list.setItemDelegate(_RowPainter(self))
        self.list.currentItemChanged.connect(self._chosen)
        column.addWidget(self.list, 1)
        foot = QHBoxLayout()
        foot.setContentsMargins(8, 0, 8, 0)
        self.add_button = button(
            "+ Add step", "Add a step after the chosen one. It changes nothing until you set it.", kind="plain"
        )
        self.add_button.setMenu(self.add_menu())
        self.add_button.setStyleSheet("QPushButton::menu-indicator { width: 0; }")
        self.remove_button = button("Remove", "Take the chosen step out of the chain (Delete).", self.remove, "plain")
        foot.addWidget(self.add_button)
        foot.addStretch(1)
        foot.addWidget(self.remove_button)
        column.addLayout(foot)
        bench.session_changed.connect(self._session_changed)
        bench.picture_changed.connect(self._refresh)
        theme.changed.connect(self.list.viewport().update)

    # --- actions -------------------------------------------------------------------------------------------

    def add_menu(self) -> QMenu:
        """The kinds of step that there are."""
        menu = QMenu("Add step", self)
        menu.setToolTipsVisible(True)
        for kind in STEP_KINDS:
            action = menu.addAction(kind.title)
            action.setToolTip(kind.summary)
            action.triggered.connect(lambda _=False, kind=kind: self.add(kind()))
        return menu

    @property
    def chosen_id(self) -> str:
        return self._bench.session.view.step

    def add(self, step: Step) -> None:
        """Put a step in after the chosen one, and choose it."""
        session = self._bench.session
        ids = [s.id for s in session.chain]
        index = ids.index(self.chosen_id) + 1 if self.chosen_id in ids else (0 if self.chosen_id == "" else len(ids))
        if self.chosen_id == "" and ids:
            index = len(ids)
        self._bench.edit(f"Add {step.title}", lambda s: s.with_new_step(step, index))  # type: ignore[arg-type]
        self._bench.document.look(step=self._bench.session.chain[index].id)

    def remove(self) -> None:
        step = self._bench.session.step(self.chosen_id)
        if step is None:
            return
        ids = [s.id for s in self._bench.session.chain]
        index = ids.index(step.id)
        rest = ids[:index] + ids[index + 1 :]
        self._bench.edit(f"Remove {step.title}", lambda s: s.without_step(step.id))
        self._bench.document.look(step=rest[min(index, len(rest) - 1)] if rest else "")

    def shift(self, by: int) -> None:
        """Move the chosen step earlier (−1) or later (1)."""
        ids = [s.id for s in self._bench.session.chain]
        if self.chosen_id in ids:
            index = min(max(0, ids.index(self.chosen_id) + by), len(ids) - 1)
            self._bench.edit("Move step", lambda s: s.with_step_at(self.chosen_id, index))

    def switch(self, step_id: str | None = None) -> None:
        """Turn a step (the chosen one) on or off."""
        step = self._bench.session.step(step_id or self.chosen_id)
        if step is not None:
            changed = msgspec.structs.replace(step, on=not step.on)
            self._bench.edit(f"{step.title} {'on' if changed.on else 'off'}", lambda s: s.with_step(changed))

    def copy(self) -> None:
        step = self._bench.session.step(self.chosen_id)
        if step is not None:
            QGuiApplication.clipboard().setText(msgspec.json.encode({CLIPBOARD: step}).decode())

    def cut(self) -> None:
        self.copy()
        self.remove()

    def paste(self) -> None:
        """Put in the step that was copied, here or in another window. Other text is refused with a sentence."""
        try:
            raw = msgspec.json.decode(QGuiApplication.clipboard().text())
            step = msgspec.convert(raw[CLIPBOARD], AnyStep)
        except (msgspec.DecodeError, msgspec.ValidationError, KeyError, TypeError):
            self._bench.told.emit("The clipboard holds no step. Copy one from a ledger first.", True)
            return
        self.add(step)

    def dropped(self, ids: list[str]) -> None:
        """A drag has put the rows into this order."""
        moved = self.chosen_id
        if moved in ids:
            self._bench.edit("Move step", lambda s: s.with_step_at(moved, ids.index(moved)))
        self._rebuild()

    # --- keeping up ----------------------------------------------------------------------------------------

    def _chosen(self, item: QListWidgetItem | None) -> None:
        if item is not None and not self.list.filling:
            self._bench.document.look(step=item.data(ID))

    def _session_changed(self, before: Session, now: Session) -> None:
        rows = [self.list.item(n).data(ID) for n in range(self.list.count())]
        if rows != ["", *(s.id for s in now.chain)]:
            self._rebuild()
        current = self.list.currentItem()
        if current is None or current.data(ID) != now.view.step:
            self._select(now.view.step)
        self._refresh()

    def _rebuild(self) -> None:
        self.list.filling = True
        self.list.clear()
        for step_id in ("", *(s.id for s in self._bench.session.chain)):
            item = QListWidgetItem()
            item.setData(ID, step_id)
            if step_id == "":
                item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsDragEnabled)
            step = self._bench.session.step(step_id)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, step.title if step else "Source")
            item.setToolTip(step.summary if step else "The audio as it came, before any step.")
            self.list.addItem(item)
        self._select(self.chosen_id)
        self.list.filling = False

    def _select(self, step_id: str) -> None:
        for n in range(self.list.count()):
            if self.list.item(n).data(ID) == step_id:
                self.list.setCurrentRow(n)

    def _refresh(self) -> None:
        self._caption.setText(f"ledger · {self._bench.span_name}")
        self.remove_button.setEnabled(self._bench.session.step(self.chosen_id) is not None)
        self.list.viewport().update()

    # --- what the rows show --------------------------------------------------------------------------------

    def row(self, step_id: str) -> tuple[str, str, str, str, bool]:
        """Title, words below it, loudness, true peak, and whether the figures are of the present state."""
        bench = self._bench
        step = bench.session.step(step_id)
        render = bench.picture.best
        joint = render.joint(step_id) if render is not None else None
        if step is not None and not step.on:
            return step.title, "off", "", "", True
        title, words = "Source", "as it came"
        if step is not None:
            title, words = step.title, step.describe()
            if joint is not None and step.reduces:
                mean = joint.mean_reduction(bench.span)
                most = joint.largest_reduction(bench.span)
                words = f"{mean:.1f} dB off, at most {most:.1f}" if most > 0.05 else f"{words} · idle"
        if joint is None:
            return title, words, "…", "…", False
        figures = joint.figures(bench.span)
        current = bench.picture.section_current or bench.picture.song_current
        return title, words, figure(figures.integrated), figure(figures.true_peak), current


class _Heads(QWidget):
    """The column heads, over where the rows put their figures."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(22)

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        painter.setFont(font(11))
        painter.setPen(colours()["faint"])
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(44, 0, 90, self.height()), middle, "Step")
        right = self.width()
        painter.drawText(QRectF(right - 120, 0, 60, self.height()), middle | Qt.AlignmentFlag.AlignRight, "LUFS")
        painter.drawText(QRectF(right - 62, 0, 50, self.height()), middle | Qt.AlignmentFlag.AlignRight, "dBTP")


class _StepList(QListWidget):
    def __init__(self, ledger: Ledger) -> None:
        super().__init__()
        self._ledger = ledger
        self.filling = False
        self.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        self.setDefaultDropAction(Qt.DropAction.MoveAction)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setAccessibleName("Ledger")
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._menu)

    def dropEvent(self, event: object) -> None:
        super().dropEvent(event)  # type: ignore[arg-type]
        ids = [self.item(n).data(ID) for n in range(self.count())]
        self._ledger.dropped([i for i in ids if i])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        item = self.itemAt(event.position().toPoint())
        if (
            item is not None
            and item.data(ID)
            and event.position().x() < 40
            and event.button() == Qt.MouseButton.LeftButton
        ):
            self._ledger.switch(item.data(ID))
            return
        super().mousePressEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        alt = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._ledger.switch()
        elif event.key() == Qt.Key.Key_Delete:
            self._ledger.remove()
        elif alt and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._ledger.shift(-1 if event.key() == Qt.Key.Key_Up else 1)
        else:
            super().keyPressEvent(event)

    def _menu(self, at: QPoint) -> None:
        ledger, menu = self._ledger, QMenu(self)
        for text, then in (
            ("On / off", ledger.switch), ("Move earlier", lambda: ledger.shift(-1)), ("Move later", lambda: ledger.shift(1)),
            ("Cut", ledger.cut), ("Copy", ledger.copy), ("Paste", ledger.paste), ("Remove", ledger.remove),
        ):  # fmt: skip
            menu.addAction(text).triggered.connect(lambda *_, then=then: then())
        menu.addMenu(ledger.add_menu())
        menu.exec(self.viewport().mapToGlobal(at))

    def viewportEvent(self, event: QEvent) -> bool:
        if event.type() in (QEvent.Type.FocusIn, QEvent.Type.FocusOut):
            self.viewport().update()
        return super().viewportEvent(event)


class _RowPainter(QStyledItemDelegate):
    def __init__(self, ledger: Ledger) -> None:
        super().__init__(ledger)
        self._ledger = ledger

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(100, 41)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        c = colours()
        box = QRectF(option.rect)
        state = option.state
        step_id = str(index.data(ID))
        step = self._ledger._bench.session.step(step_id)
        title, words, loudness, peak, current = self._ledger.row(step_id)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if state & QStyle.StateFlag.State_Selected:
            painter.fillRect(box, c["wash"])
            painter.fillRect(QRectF(box.left(), box.top(), 3, box.height()), c["signal"])
        painter.setPen(QPen(c["hair"], 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        on = step is None or step.on
        painter.setPen(QPen(c["signal" if step is not None and on else "faint"], 1.5))
        painter.setBrush(c["signal"] if step is not None and on else Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(box.left() + 26, box.top() + 14), 4, 4)
        painter.setFont(font(13))
        painter.setPen(c["ink" if on else "faint"])
        text = box.adjusted(44, 4, -126, 0)
        painter.drawText(text, Qt.AlignmentFlag.AlignTop, title)
        painter.setFont(font(13))
        painter.setPen(c["ink" if current else "faint"])
        top = Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight
        painter.drawText(QRectF(box.right() - 120, box.top() + 4, 60, 20), top, loudness)
        over = peak not in ("", "…", "–") and float(peak.replace("−", "-")) > 0.0
        if over:
            painter.setFont(font(13, bold=True))
            painter.setPen(c["over"])
        painter.drawText(QRectF(box.right() - 64, box.top() + 4, 52, 20), top, f"{peak}{' !' if over else ''}")
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        words = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(box.width() - 56))
        painter.drawText(box.adjusted(44, 22, -10, 0), Qt.AlignmentFlag.AlignTop, words)
        if state & QStyle.StateFlag.State_HasFocus:
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box.adjusted(4, 1, -1, -2))
        painter.restore()
