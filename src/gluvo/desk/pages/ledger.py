"""The ledger: the chain, with loudness and true peak at every joint."""

from __future__ import annotations

from typing import NamedTuple

import msgspec
from PySide6.QtCore import QEvent, QModelIndex, QPersistentModelIndex, QPoint, QPointF, QRectF, QSize, Qt, Signal
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

from gluvo.advise.shelf import BUILT_IN
from gluvo.desk.controls.keys import ENTERS, claimed
from gluvo.desk.controls.table import MOVES
from gluvo.desk.controls.theme import colours, font, theme
from gluvo.desk.controls.widgets import ChoiceBox, button, figure, label, line
from gluvo.desk.editors.preset_dialog import choose_preset, for_chain
from gluvo.desk.editors.step_menu import step_menu
from gluvo.desk.model.following import Follower, everything
from gluvo.desk.model.workbench import Workbench
from gluvo.session import alternatives, by_section, chains
from gluvo.session.clipboard import copied
from gluvo.session.presets import kind_of
from gluvo.session.records import Session, Stem
from gluvo.session.tree import children, names, rows
from gluvo.steps import ChainItem, Lane, Split
from gluvo.steps.base import ContainerRow

ID = Qt.ItemDataRole.UserRole
INSET = 14
"""Pixels by which what stands in a container is set in."""
Index = QModelIndex | QPersistentModelIndex


class Row(NamedTuple):
    """What a row of the ledger shows."""

    title: str
    words: str
    loudness: str = ""
    peak: str = ""
    current: bool = True
    """Whether the figures are of the present state."""
    over: bool = False
    """Whether the true peak is over full scale."""


class Ledger(QWidget):
    """Choose, open (Enter), add, remove, reorder (drag, or Alt with arrows), switch on and off, copy and paste."""

    opened = Signal()
    """The chosen row is to be worked on."""

    def __init__(self, bench: Workbench, chooses: bool = True) -> None:
        """`chooses`: whether another strip can be chosen at its head."""
        super().__init__()
        self._bench = bench
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 0, 8)
        column.setSpacing(2)
        head = QHBoxLayout()
        head.setContentsMargins(12, 0, 10, 0)
        self._caption = label("", "caption")
        self.title = label("", "title")
        self.chooser = ChoiceBox(self)
        self.chooser.setAccessibleName("Strip")
        self.chooser.setToolTip("Whose chain is shown: a stem's, a bus's, or the mix bus's (Ctrl+[ and Ctrl+]).")
        self.chooser.setMinimumWidth(110)
        self.chooser.setMaximumWidth(150)
        self.chooser.activated.connect(lambda n: bench.choose_strip(self.chooser.itemData(n)))
        self.title.setParent(self)
        (self.title if chooses else self.chooser).hide()
        head.addWidget(self.chooser if chooses else self.title)
        self.unmark = button(
            "",
            "Rows that are marked, here or in another chain: Out is without all of them (3), and they are copied, moved and "
            "switched together. Press to mark none any more (Ctrl+Shift+Space).",
            bench.marking.clear,
            "plain",
        )
        self.unmark.hide()
        head.addStretch(1)
        head.addWidget(self.unmark)
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
        foot.setSpacing(2)
        self.add_button = button(
            "+ Step", "Add a step after the chosen one. It changes nothing until you set it.", kind="plain"
        )
        self.add_button.setMenu(self.add_menu())
        self.add_button.setStyleSheet("QPushButton::menu-indicator { width: 0; }")
        self.lane_button = button(
            "+ Lane",
            "Add a lane around the chosen step: it leaves the chain before the step and comes back after it. "
            "Nothing of it is heard until you raise its level.",
            self.add_lane,
            "plain",
        )
        self.split_button = button(
            "+ Split",
            "Add a Split after the chosen step: two to five bands, each with steps of its own. Until a band does something "
            "it passes bit for bit.",
            kind="plain",
        )
        self.split_button.setMenu(self.split_menu())
        self.split_button.setStyleSheet("QPushButton::menu-indicator { width: 0; }")
        self.pair_button = button(
            "Gentle and crushed",
            "Add a gentle Glue (2 dB at peaks) and, in a lane at −14 dB beside it, one that crushes (12 dB); "
            "both hold their aim.",
            lambda: bench.advice.gentle_and_crushed(bench.session.view.strip),
            "plain",
        )
        self.remove_button = button("Remove", "Take the chosen step out of the chain (Delete).", self.remove, "plain")
        for widget in (self.add_button, self.lane_button, self.split_button, self.pair_button):
            foot.addWidget(widget)
        foot.addStretch(1)
        foot.addWidget(self.remove_button)
        column.addLayout(foot)
        self._named: list[tuple[str, str, str]] = []
        """Id, name and bus of the strips that there are to choose from."""
        Follower(self, bench, self._session_changed, session=self._shown)
        Follower(self, bench, self._refresh, picture=everything)
        theme.changed.connect(self.list.viewport().update)

    # --- actions -------------------------------------------------------------------------------------------

    def add_menu(self, inside: str = "", title: str = "Add step") -> QMenu:
        """The kinds of step that there are; to be put after the chosen one, or inside a row of a container."""
        menu = step_menu(self, lambda step: self.add(step, inside), title)
        if not inside:
            menu.addSeparator()
            chain = menu.addAction("Chain presets…")
            chain.setToolTip("Several steps by purpose, heard before they are taken (Ctrl+Alt+P).")
            chain.triggered.connect(lambda *_: self.choose_chain())
        return menu

    def choose_chain(self) -> None:
        """Choose among the presets of whole chains, by ear."""
        choose_preset(self, self._bench, for_chain())

    def split_menu(self) -> QMenu:
        """An empty Split, or one that makes a start; all of them are ordinary Splits afterwards."""
        menu = QMenu(self)
        menu.setToolTipsVisible(True)
        empty = menu.addAction("Empty, three bands")
        empty.setToolTip(Split.summary)
        empty.triggered.connect(lambda *_: self.add_split())
        menu.addSeparator()
        for preset in BUILT_IN:
            if preset.kind == kind_of(Split()):
                action = menu.addAction(preset.name)
                action.setToolTip(f"{preset.does} {preset.when}")
                action.triggered.connect(lambda _=False, preset=preset: self.add(preset.items[0]))
        return menu

    @property
    def chosen_id(self) -> str:
        """The id of what is chosen: of an item, or of a band's row."""
        return self._row_of(self._bench.session)

    @staticmethod
    def _row_of(session: Session) -> str:
        item = session.item(session.view.step)
        rows = item.told_rows if item is not None else ()
        return next((row.id for row in rows if row.part == session.view.band), session.view.step)

    def band_of(self, row_id: str) -> tuple[ChainItem, ContainerRow] | None:
        """The band whose row it is, and its container."""
        container = chains.container_of(self._bench.session.chain, row_id)
        rows = container.told_rows if container is not None else ()
        band = next((row for row in rows if row.id == row_id), None)
        return (container, band) if container is not None and band is not None else None

    def add(self, step: ChainItem, inside: str = "") -> None:
        """Put a step or lane in after the chosen one (as the first, if that is what comes in; as the first inside a lane,
        if one is named), and choose it."""
        session = self._bench.session
        after, band = self.chosen_id, self.band_of(self.chosen_id)
        if band is not None:  # what may not stand in it goes behind the Split
            container, _ = band
            after, inside = container.id, inside or (self.chosen_id if container.may_contain(step) else "")
        if new := self._bench.put_in(step, session.view.strip, after, inside):
            self._bench.look(step=new, band=0)

    def add_lane(self) -> None:
        """A lane around the chosen step."""
        number = sum(len(item.row_ids) == 1 for item in self._bench.session.items if item.contains_steps) + 1
        since = chains.before_which(self._bench.session.chain, self.chosen_id)
        self.add(Lane(name=f"Lane {number}", since=since))

    def add_split(self) -> None:
        """A Split after the chosen step."""
        self.add(Split())

    def remove(self) -> None:
        if self._bench.marking.ids:
            self._bench.marking.remove("")
            return
        if (found := self.band_of(self.chosen_id)) is not None:
            container, band = found
            left = container.without_part(band.part)
            if left == container:
                self._bench.refuse("A Split has at least two bands. Remove the Split to have the sound whole.")
                return
            self._bench.edit("Remove band", lambda s: s.with_step(left))
            self._bench.look(band=0)
            return
        step = self._bench.session.item(self.chosen_id)
        if step is None:
            return
        ids = [s.id for s in chains.flat(self._bench.session.chain)]
        index = ids.index(step.id)
        self._bench.edit(f"Remove {step.title}", lambda s: s.without_step(step.id))
        rest = [s.id for s in chains.flat(self._bench.session.chain)]
        self._bench.look(step=rest[min(index, len(rest) - 1)] if rest else "")

    def shift(self, by: int) -> None:
        """Move the chosen step, or all that is marked, earlier (−1) or later (1)."""
        self._bench.marking.shift(self.chosen_id, by)

    def switch(self, step_id: str | None = None) -> None:
        """Turn a step or band on or off; if none is named, all that is marked, or the chosen one."""
        if step_id is None and self._bench.marking.ids:
            self._bench.marking.switch("")
            return
        if (found := self.band_of(step_id or self.chosen_id)) is not None:
            container, band = found
            turned = container.with_row_on(band.part, not band.on)
            self._bench.edit(f"Band {'off' if band.on else 'on'}", lambda s: s.with_step(turned))
            return
        step = self._bench.session.item(step_id or self.chosen_id)
        if step is not None:
            changed = msgspec.structs.replace(step, on=not step.on)
            self._bench.edit(f"{step.title} {'on' if changed.on else 'off'}", lambda s: s.with_step(changed))

    def copy(self) -> bool:
        """Remember the chosen step, or all that is marked; whether there was anything."""
        return self._bench.marking.copy(self.chosen_id)

    def copy_chain(self) -> None:
        """Remember the whole chain."""
        strip = self._bench.session.strip(self._bench.session.view.strip)
        if strip is None or not strip.chain:
            self._bench.refuse("This chain has no steps yet.")
        else:
            QGuiApplication.clipboard().setText(copied(strip.chain))

    def cut(self) -> None:
        if self.copy():
            self.remove()

    def duplicate(self) -> None:
        """The chosen step, or all that is marked, once more."""
        self._bench.marking.duplicate(self.chosen_id)

    def paste(self) -> None:
        """Put in what was copied, after the chosen step."""
        after, inside = self.chosen_id, ""
        if (band := self.band_of(after)) is not None:
            after, inside = band[0].id, after
        self._bench.marking.paste(self._bench.session.view.strip, after, inside)

    def mark(self, row_id: str | None = None) -> None:
        """Mark a row (the chosen one), or take its mark away; that of what comes in stands for the whole chain."""
        chosen = self.chosen_id if row_id is None else row_id
        self._bench.marking.toggle(chosen or self._bench.session.view.strip)

    def mark_through(self, row_id: str) -> None:
        """Mark all rows from the chosen one to another."""
        rows = ["", *chains.listed(self._bench.session.chain)]
        if row_id in rows and self.chosen_id in rows:
            first, last = sorted((rows.index(self.chosen_id), rows.index(row_id)))
            self._bench.marking.add([id for id in rows[first : last + 1] if id])

    def dropped(self, ids: list[str]) -> None:
        """A drag has put the rows into this order."""
        moved = self.chosen_id
        if moved in ids:
            at = ids.index(moved)
            before, after = next(iter(ids[at + 1 :]), ""), ids[at - 1] if at else ""
            chain = chains.dropped(self._bench.session.chain, moved, before, after)
            self._bench.edit("Move step", lambda s: s.with_chain(s.view.strip, chain))
        self._rebuild()

    # --- keeping up ----------------------------------------------------------------------------------------

    def _chosen(self, item: QListWidgetItem | None) -> None:
        if item is None or self.list.filling:
            return
        if (found := self.band_of(item.data(ID))) is not None:
            self._bench.look(step=found[0].id, band=found[1].part)
            return
        step = self._bench.session.item(item.data(ID))
        if step is not None and step.told_rows:
            self._bench.look(step=item.data(ID), band=0)
        else:
            self._bench.look(step=item.data(ID))

    @staticmethod
    def _shown(session: Session) -> tuple[object, ...]:
        view = session.view
        return session.sound, session.section(view.section), view.strip, view.step, view.band, view.solo, view.marks

    def _session_changed(self) -> None:
        now = self._bench.session
        called = names(now)
        named = [(s.id, called[s.id], s.into) for s in now.strips]
        if named != self._named:
            self._named = named
            self.chooser.clear()
            for strip, _ in rows(now):
                self.chooser.addItem(called[strip.id], strip.id)
        strip = now.strip(now.view.strip) or now.mix
        self.chooser.setCurrentIndex(self.chooser.findData(strip.id))
        self.title.setText(strip.name)
        shown = [self.list.item(n).data(ID) for n in range(self.list.count())]
        if shown != ["", *chains.listed(now.chain)]:
            self._rebuild()
        current, chosen = self.list.currentItem(), self._row_of(now)
        if current is None or current.data(ID) != chosen:
            self._select(chosen)
        self._refresh()

    def _rebuild(self) -> None:
        self.list.filling = True
        self.list.clear()
        for row_id in ("", *chains.listed(self._bench.session.chain)):
            item = QListWidgetItem()
            item.setData(ID, row_id)
            step, band = self._bench.session.item(row_id), self.band_of(row_id)
            if step is None:
                item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsDragEnabled)
            tip = "The sound as it comes into this chain, before any step."
            if step is not None:
                tip = step.summary
            elif band is not None:
                tip = "A band of the Split: a step that is added while it is chosen goes into it. Delete takes it out."
            item.setToolTip(tip)
            self.list.addItem(item)
        self._select(self.chosen_id)
        self.list.filling = False

    def _select(self, step_id: str) -> None:
        for n in range(self.list.count()):
            if self.list.item(n).data(ID) == step_id:
                self.list.setCurrentRow(n)

    def _refresh(self) -> None:
        self._caption.setText(f"ledger · {self._bench.span_name}")
        count = len(self._bench.marking.ids)
        self.unmark.setText(f"{count} marked ✕")
        self.unmark.setVisible(count > 0)
        self._caption.setVisible(count == 0)  # there is not room for both
        self.remove_button.setEnabled(bool(self.chosen_id))
        self.pair_button.setVisible(not self._bench.session.chain)
        self.remove_button.setVisible(bool(self._bench.session.chain))
        for n in range(self.list.count()):
            item = self.list.item(n)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, self._spoken(item.data(ID)))
        self.list.viewport().update()

    def _spoken(self, row_id: str) -> str:
        """A row as it is read aloud: what it is, what it does, and its figures."""
        row = self.row(row_id)
        marks = self._bench.session.view.marks
        words = [row.title, "marked" if (row_id or self._bench.session.view.strip) in marks else "", row.words]
        words += [f"{row.loudness} LUFS", f"{row.peak} dBTP"] if row.current and row.loudness else []
        return ", ".join(word for word in words if word)

    # --- what the rows show --------------------------------------------------------------------------------

    def row(self, step_id: str) -> Row:
        """What stands in the row of a step or lane, or (without an id) of what comes in; with which of its alternatives it is,
        if it has some."""
        row, session = self._row(step_id), self._bench.session
        several = alternatives.found(session, step_id or session.view.strip)
        if several is None:
            return row
        return row._replace(
            words=f"{alternatives.name_of(several, several.chosen)} of {len(several.settings)} · {row.words}"
        )

    def _row(self, step_id: str) -> Row:
        bench = self._bench
        session, render = bench.session, bench.picture.best
        step = session.item(step_id)
        containers = chains.containers_of(session.chain, step_id)
        off = not all(holder.on for holder in containers)
        if (found := self.band_of(step_id)) is not None:
            return self._band_row(*found, off)
        if step is None:
            title, words = self._comes_in()
            joint = render.start(session.view.strip) if render is not None else None
        else:
            title, words = step.called, step.describe()
            inside = containers[-1] if containers else None
            bands = inside.told_rows if inside is not None else ()
            own = next((band for band in bands if any(s.id == step_id for s in band.steps)), None)
            off = off or (own is not None and not own.on)
            if not step.on or off:
                return Row(title, "off")
            joint = render.joint(step_id) if render is not None else None
            if (
                joint is None
                and inside is not None
                and (inside.is_transparent or (own is not None and own.is_transparent))
            ):
                return Row(title, words)
            if joint is not None and step.reduces:
                reduced = joint.taken_by(step, bench.span)
                idle = words if step.raises else f"{words} · idle"
                words = reduced.short if reduced is not None and reduced.most > 0.05 else idle
                if (wet := joint.wet_reduced(bench.span)) is not None and wet.most > 0.05:
                    words += f" · wet {wet.peaks:.1f}"
            for id in step.keys_from:
                key = names(session).get(id)
                words += f" · key {key}" if key is not None else " · its key is gone: listens to itself"
            if step_id in bench.outboards.stale:
                words += " · not of what flows in now"
            if where := by_section.where(session, step):
                title = f"{title} in {where}"
            if step_id in session.view.solo:
                words = f"heard alone · {words}"
        if joint is None:
            return Row(title, words, "…", "…", current=False)
        figures = joint.figures(bench.span)
        current = bench.picture.section_current or bench.picture.song_current
        peak = figures.true_peak
        return Row(title, words, figure(figures.integrated), figure(peak), current, round(peak, 1) > 0.0)

    def _comes_in(self) -> tuple[str, str]:
        session = self._bench.session
        strip = session.strip(session.view.strip)
        if isinstance(strip, Stem):
            missing = self._bench.audio.material is not None and strip.id in self._bench.audio.material.missing
            words = "its file is missing: silent" if missing else "as it came"
        else:
            words = ", ".join(s.name for s in children(session, session.view.strip)) or "nothing flows in"
        if strip is not None and strip.rides:
            words = f"lifted by section · {words}"
        if strip is not None and strip.amount != 100.0:
            words = f"chain at {strip.amount:.0f} % · {words}"
        return ("Source" if isinstance(strip, Stem) else "In"), words

    def _band_row(self, container: ChainItem, band: ContainerRow, off: bool) -> Row:
        bench, title, words = self._bench, band.name, band.words
        if not band.on or not container.on or off:
            return Row(title, f"{words} · off")
        if band.id in bench.session.view.solo:
            words = f"heard alone · {words}"
        render = bench.picture.best
        parts = render.plan.parts.get((container.id, band.part)) if render is not None else None
        joint = render.joints.get(parts[1].key) if render is not None and parts is not None else None
        if joint is None:
            return Row(title, words)
        figures = joint.figures(bench.span)
        current = bench.picture.section_current or bench.picture.song_current
        return Row(title, words, figure(figures.integrated), figure(figures.true_peak), current)

    def inset(self, row_id: str) -> int:
        """How deep it stands in containers; a step of a band deeper than the band."""
        chain = self._bench.session.chain
        depth = sum(1 + (len(holder.row_ids) > 1) for holder in chains.containers_of(chain, row_id))
        return depth - (self.band_of(row_id) is not None)


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
        held = event.modifiers()
        if item is not None and held & Qt.KeyboardModifier.ControlModifier:
            self._ledger.mark(item.data(ID))
            return
        if item is not None and held & Qt.KeyboardModifier.ShiftModifier:
            self._ledger.mark_through(item.data(ID))
            return
        if item is not None and self._is_switch(event):
            self._ledger.switch(item.data(ID))
            return
        super().mousePressEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.itemAt(event.position().toPoint()) is not None and not self._is_switch(event):
            self._ledger.opened.emit()

    def _is_switch(self, event: QMouseEvent) -> bool:
        """Whether the pointer is on what switches a row."""
        item = self.itemAt(event.position().toPoint())
        return (
            item is not None
            and bool(item.data(ID))
            and event.position().x() < 40 + INSET * self._ledger.inset(item.data(ID))
            and event.button() == Qt.MouseButton.LeftButton
        )

    def event(self, event: QEvent) -> bool:
        return claimed(event, (*MOVES, *ENTERS, Qt.Key.Key_Delete)) or super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        alt = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        if event.key() in ENTERS:
            self._ledger.opened.emit()
        elif event.key() == Qt.Key.Key_Delete:
            self._ledger.remove()
        elif alt and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._ledger.shift(-1 if event.key() == Qt.Key.Key_Up else 1)
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            beside = self.item(self.currentRow() + (-1 if event.key() == Qt.Key.Key_Up else 1))
            if beside is not None:
                self._ledger.mark_through(beside.data(ID))
                self.setCurrentItem(beside)
        else:
            super().keyPressEvent(event)

    def _menu(self, at: QPoint) -> None:
        ledger, menu = self._ledger, QMenu(self)
        for text, then in (
            ("Open", ledger.opened.emit),
            ("On / off", ledger.switch),
            ("Move earlier", lambda: ledger.shift(-1)),
            ("Move later", lambda: ledger.shift(1)),
            ("Mark", ledger.mark),
            ("Cut", ledger.cut),
            ("Copy", ledger.copy),
            ("Copy the whole chain", ledger.copy_chain),
            ("Paste", ledger.paste),
            ("Duplicate", ledger.duplicate),
            ("Remove", ledger.remove),
        ):
            menu.addAction(text).triggered.connect(lambda *_, then=then: then())
        menu.addMenu(ledger.add_menu())
        chosen = ledger._bench.session.item(ledger.chosen_id)
        if chosen is not None and len(chosen.row_ids) == 1:
            menu.addMenu(ledger.add_menu(ledger.chosen_id, "Add a step inside the lane"))
        menu.addAction("Add lane").triggered.connect(lambda *_: ledger.add_lane())
        menu.addAction("Add Split").triggered.connect(lambda *_: ledger.add_split())
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
        step = self._ledger._bench.session.item(step_id)
        inset = INSET * self._ledger.inset(step_id)
        band = self._ledger.band_of(step_id)
        title, words, loudness, peak, current, over = self._ledger.row(step_id)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if state & QStyle.StateFlag.State_Selected:
            painter.fillRect(box, c["wash"])
            painter.fillRect(QRectF(box.left(), box.top(), 3, box.height()), c["signal"])
        view = self._ledger._bench.session.view
        if (step_id or view.strip) in view.marks or view.strip in view.marks:
            whole = view.strip in view.marks  # a mark of the strip is one of all of its rows
            painter.setPen(QPen(c["ink"], 1.2))
            painter.setBrush(c["ink"] if not whole or not step_id else Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(box.left() + 8, box.top() + 10.5, 6, 6))
        painter.setPen(QPen(c["hair"], 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        on = step.on if step is not None else band is None or band[1].on
        known = step is not None or band is not None
        painter.setPen(QPen(c["signal" if known and on else "faint"], 1.5))
        painter.setBrush(c["signal"] if known and on else Qt.BrushStyle.NoBrush)
        middle = QPointF(box.left() + 26 + inset, box.top() + 14)
        if band is not None:
            painter.drawRect(QRectF(middle.x() - 5, middle.y() - 2, 10, 4))
        elif step is not None and step.contains_steps:  # where it comes back
            painter.drawRect(QRectF(middle.x() - 4, middle.y() - 4, 8, 8))
        else:
            painter.drawEllipse(middle, 4, 4)
        if inset:
            painter.setPen(QPen(c["rule"], 1.5))
            for left in range(26, 26 + inset, INSET):
                painter.drawLine(QPointF(box.left() + left, box.top()), QPointF(box.left() + left, box.top() + 14))
            end = QPointF(middle.x() - 6, middle.y())
            painter.drawLine(QPointF(middle.x() - INSET, middle.y()), end)
        painter.setFont(font(13))
        painter.setPen(c["ink" if on else "faint"])
        text = box.adjusted(44 + inset, 4, -126, 0)
        title = painter.fontMetrics().elidedText(title, Qt.TextElideMode.ElideRight, int(text.width()))
        painter.drawText(text, Qt.AlignmentFlag.AlignTop, title)
        painter.setFont(font(13))
        painter.setPen(c["ink" if current else "faint"])
        top = Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight
        painter.drawText(QRectF(box.right() - 120, box.top() + 4, 60, 20), top, loudness)
        if over:
            painter.setFont(font(13, bold=True))
            painter.setPen(c["over"])
        painter.drawText(QRectF(box.right() - 64, box.top() + 4, 52, 20), top, f"{peak}{' !' if over else ''}")
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        words = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(box.width() - 56 - inset))
        painter.drawText(box.adjusted(44 + inset, 22, -10, 0), Qt.AlignmentFlag.AlignTop, words)
        if state & QStyle.StateFlag.State_HasFocus:
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box.adjusted(4, 1, -1, -2))
        painter.restore()
