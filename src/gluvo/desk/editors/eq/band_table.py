"""The bands of an equaliser as a table: every cell typed, chosen or nudged from the keyboard."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QColor, QContextMenuEvent, QFocusEvent, QKeyEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHeaderView,
    QLineEdit,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from gluvo.desk.controls.keys import TYPES, claimed
from gluvo.desk.controls.theme import colours, font, theme
from gluvo.desk.controls.widgets import Field, say_beside
from gluvo.desk.editors.eq.lane import SEMITONE, Gesture, rounded_freq
from gluvo.desk.editors.spectrum_view import PART_COLOURS
from gluvo.dsp.notes import note_of
from gluvo.steps import Band, MidSideEq, settings_of
from gluvo.steps.bands import MOVABLE, SLOPED, WITH_GAIN

BAND_COLUMNS = ("Band", "Shape", "Target", "Hz", "Note", "dB", "Q", "dB/oct", "Dynamic", "What it does")
FIELDS = ("on", "shape", "target", "freq", "freq", "gain", "q", "slope", "dynamic", "")
"""Which setting each column shows."""
WIDTHS = (58, 82, 66, 66, 50, 58, 54, 56, 66)
ROW_HEIGHT = 22
NOTE, WORDS = 4, len(BAND_COLUMNS) - 1
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
LEFT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
CHOICES = ("shape", "target", "slope")
SWITCHES = ("on", "dynamic")
MOVES = (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Home, Qt.Key.Key_End)
OWN_KEYS = (*MOVES, Qt.Key.Key_Insert, Qt.Key.Key_Delete, Qt.Key.Key_Backspace, *TYPES, Qt.Key.Key_Menu)
Index = QModelIndex | QPersistentModelIndex


def cell_text(band: Band, number: int, column: int) -> str:
    """What a cell shows; nothing where the setting does nothing."""
    name, settings = FIELDS[column], settings_of(Band)
    if column == 0:
        return f"{number}{'' if band.on else ' off'}{' ⇄' if band.twin else ''}"
    if column == NOTE:
        return note_of(band.freq)
    if name == "gain" and band.shape not in WITH_GAIN:
        return ""
    if name == "slope":
        return str(band.slope) if band.shape in SLOPED else ""
    if name == "dynamic":
        if band.shape not in MOVABLE:
            return ""
        return f"{'−' if band.moves == 'down' else '+'}{band.range:g} dB" if band.dynamic else "–"
    if name in CHOICES:
        return dict(settings[name].options)[str(getattr(band, name))]
    return settings[name].show(getattr(band, name)) if name else ""


def is_number(column: int) -> bool:
    """Whether a column holds figures, set to the right."""
    return FIELDS[column] in ("freq", "gain", "q", "slope") and column != NOTE


class BandTable(QTableWidget):
    """One row a band. Enter or F2 edits a cell, Alt with arrows nudges it, Insert adds a band, Del takes it out."""

    changed_band = Signal(object)
    """A `Gesture`."""
    settled = Signal()
    chosen = Signal(int)
    wanted = Signal()
    removed = Signal(int)
    asked = Signal(int, object)

    def __init__(self) -> None:
        super().__init__(0, len(BAND_COLUMNS))
        self.setHorizontalHeaderLabels(list(BAND_COLUMNS))
        self.setAccessibleName("Bands")
        self.setToolTip(
            "Enter or double-click edits a cell; frequencies may be typed as notes. Alt+↑↓ nudges it, Alt+Shift finely. Insert "
            "adds a band, Del takes it out, the menu key does more."
        )
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(ROW_HEIGHT)
        self.verticalHeader().setMinimumSectionSize(ROW_HEIGHT)
        header = self.horizontalHeader()
        for column, width in enumerate(WIDTHS):
            self.setColumnWidth(column, width)
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.Fixed)
        header.setSectionResizeMode(WORDS, QHeaderView.ResizeMode.Stretch)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        for column in filter(is_number, range(len(BAND_COLUMNS))):
            title = QTableWidgetItem(BAND_COLUMNS[column])
            title.setTextAlignment(RIGHT)
            self.setHorizontalHeaderItem(column, title)
        header.setHighlightSections(False)
        header.setFixedHeight(22)
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setItemDelegate(Cells(self))
        self.setTabKeyNavigation(False)
        self._step = MidSideEq()
        self._filling = False
        self.currentCellChanged.connect(self._moved)
        theme.changed.connect(self._colour)

    # --- what is shown -------------------------------------------------------------------------------------

    def show_step(self, step: MidSideEq, chosen: int, words: Callable[[Band], str]) -> None:
        """Show the bands; `words` tells of each what it does."""
        looks = [(band.on, band.target) for band in step.bands]
        fresh = looks != [(band.on, band.target) for band in self._step.bands] or self.rowCount() != len(step.bands)
        self._step = step
        self._filling = True
        if self.rowCount() != len(step.bands):
            self.setRowCount(len(step.bands))
        for row, band in enumerate(step.bands):
            for column in range(len(BAND_COLUMNS)):
                self._put(row, column, words(band) if column == WORDS else cell_text(band, row + 1, column))
        row = next((n for n, band in enumerate(step.bands) if band.id == chosen), -1)
        if row < 0:
            self.setCurrentIndex(QModelIndex())
            self.clearSelection()
        elif self.currentRow() != row:
            self.setCurrentCell(row, max(0, self.currentColumn()))
            self.scrollTo(self.currentIndex())
        self._filling = False
        if fresh:
            self._colour()

    def _put(self, row: int, column: int, text: str) -> None:
        item = self.item(row, column)
        if item is None:
            item = QTableWidgetItem()
            item.setTextAlignment(RIGHT if is_number(column) else LEFT)
            self.setItem(row, column, item)
        if item.text() != text:
            item.setText(text)
            item.setToolTip(text if column == WORDS else "")

    def _colour(self) -> None:
        c = colours()
        for row, band in enumerate(self._step.bands[: self.rowCount()]):
            for column in range(len(BAND_COLUMNS)):
                item = self.item(row, column)
                if item is None:
                    continue
                name = "ink" if band.on else "faint"
                if column == 2:
                    name = PART_COLOURS[band.target]
                elif column in (NOTE, WORDS):
                    name = "faint"
                item.setForeground(QColor(c[name]))
                if column in (0, 3, 5, 6):
                    item.setFont(font(13, bold=column == 0))

    def band(self, row: int) -> Band | None:
        return self._step.bands[row] if 0 <= row < len(self._step.bands) else None

    # --- what is done --------------------------------------------------------------------------------------

    def _moved(self, row: int, *_: int) -> None:
        band = self.band(row)
        if band is not None and not self._filling:
            self.chosen.emit(band.id)

    def take(self, row: int, column: int, text: str) -> None:
        """A cell was typed into, or one of its words chosen. What means nothing changes nothing."""
        band, name = self.band(row), FIELDS[column]
        if band is None or not name:
            return
        setting = settings_of(Band)[name]
        value: object
        if setting.kind == "choice":
            value = type(setting.default)(text)
        elif setting.kind == "number":
            value = setting.read(text)
            if beyond := setting.beyond(text):
                say_beside(self, beyond)
            if isinstance(value, float):
                value = rounded_freq(value) if name == "freq" else round(value, 2)
        else:
            value = text == "on"
        if value is not None and value != getattr(band, name):
            self.changed_band.emit(Gesture(band.id, {name: value}))
            self.settled.emit()

    def flip(self, row: int, column: int) -> None:
        """A switch's cell was pressed."""
        band, name = self.band(row), FIELDS[column]
        if band is not None and name in SWITCHES and (name == "on" or band.shape in MOVABLE):
            self.changed_band.emit(Gesture(band.id, {name: not getattr(band, name)}))
            self.settled.emit()

    def nudge(self, steps: int, fine: bool) -> None:
        """Move the current cell's value: numbers by their step, words to the next."""
        band, name = self.band(self.currentRow()), FIELDS[max(0, self.currentColumn())]
        if band is None or not name:
            return
        setting, now = settings_of(Band)[name], getattr(band, name)
        value: object
        if setting.kind == "switch":
            self.flip(self.currentRow(), self.currentColumn())
            return
        if setting.kind == "choice":
            keys = [key for key, _ in setting.options]
            index = keys.index(str(now)) + (-steps if name != "slope" else steps)
            value = type(setting.default)(keys[min(max(0, index), len(keys) - 1)])
        elif name == "freq":
            value = rounded_freq(now * SEMITONE ** (steps * (0.1 if fine else 1.0)))
        elif name == "q":
            value = round(setting.clamp(now * (1.02 if fine else 1.12) ** steps), 2)
        else:
            value = round(setting.clamp(now + steps * (0.1 if fine else 0.5)), 2)
        if value != now:
            self.changed_band.emit(Gesture(band.id, {name: value}))

    def event(self, event: QEvent) -> bool:
        return claimed(event, OWN_KEYS) or super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys, key, held = Qt.Key, event.key(), event.modifiers()
        row, column = self.currentRow(), self.currentColumn()
        if key in (keys.Key_Up, keys.Key_Down) and held & Qt.KeyboardModifier.AltModifier:
            self.nudge(1 if key == keys.Key_Up else -1, bool(held & Qt.KeyboardModifier.ShiftModifier))
        elif key == keys.Key_Insert:
            self.wanted.emit()
        elif key in (keys.Key_Delete, keys.Key_Backspace):
            band = self.band(row)
            if band is not None:
                self.removed.emit(band.id)
        elif key in TYPES and row >= 0:
            if FIELDS[column] in SWITCHES:
                self.flip(row, column)
            elif FIELDS[column]:
                self.edit(self.currentIndex())
        elif key == keys.Key_Menu:
            self._ask(row)
        elif key in MOVES:
            super().keyPressEvent(event)
        else:
            event.ignore()

    def mouseDoubleClickEvent(self, event: object) -> None:
        index = self.indexAt(event.position().toPoint())  # type: ignore[attr-defined]
        if index.isValid() and FIELDS[index.column()] in SWITCHES:
            self.flip(index.row(), index.column())
        elif index.isValid():
            super().mouseDoubleClickEvent(event)  # type: ignore[arg-type]
        else:
            self.wanted.emit()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self._ask(self.indexAt(event.pos()).row())

    def _ask(self, row: int) -> None:
        band = self.band(row)
        item = self.item(row, 1)
        place = self.viewport().mapToGlobal(self.visualItemRect(item).bottomLeft()) if item is not None else None
        self.asked.emit(band.id if band is not None else 0, place or self.mapToGlobal(self.rect().center()))

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        if self.currentRow() < 0 and self.rowCount():
            self.setCurrentCell(0, 3)


class Cells(QStyledItemDelegate):
    """Fields for numbers, lists for words."""

    def __init__(self, table: BandTable) -> None:
        super().__init__(table)
        self._table = table

    def createEditor(self, parent: QWidget, option: QStyleOptionViewItem, index: Index) -> QWidget | None:  # type: ignore[override]
        name = FIELDS[index.column()]
        band = self._table.band(index.row())
        if band is None or not name or name in SWITCHES or not index.data():
            return None
        if name in CHOICES:
            box = QComboBox(parent)
            box.setStyleSheet("padding: 0 4px;")
            for key, text in settings_of(Band)[name].options:
                box.addItem(text, key)
            box.setMinimumWidth(96)
            box.activated.connect(lambda _: self._taken(box))
            return box
        field = Field(parent)
        field.setFont(font(13, bold=True))
        return field

    def _taken(self, box: QComboBox) -> None:
        self.commitData.emit(box)
        self.closeEditor.emit(box)

    def setEditorData(self, editor: QWidget, index: Index) -> None:
        band, name = self._table.band(index.row()), FIELDS[index.column()]
        if isinstance(editor, QComboBox):
            editor.setCurrentIndex(max(0, editor.findData(str(getattr(band, name)))))
            editor.showPopup()
        elif isinstance(editor, QLineEdit):
            editor.setText(str(index.data()))
            editor.selectAll()

    def setModelData(self, editor: QWidget, model: object, index: Index) -> None:
        text = editor.currentData() if isinstance(editor, QComboBox) else editor.text()  # type: ignore[attr-defined]
        self._table.take(index.row(), index.column(), text)

    def updateEditorGeometry(self, editor: QWidget, option: QStyleOptionViewItem, index: Index) -> None:
        editor.setGeometry(option.rect.adjusted(0, 0, 0, 0))
