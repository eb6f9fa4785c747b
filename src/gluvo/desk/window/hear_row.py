"""The bar below: what is heard, and how."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QVBoxLayout,
)

from gluvo.compare.hearables import REFERENCES, SONG
from gluvo.compare.match import BAND, DETECTOR, RESULT, TAKEN
from gluvo.compare.monitor import MONITORS
from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.parts import Toggle, button, figure, label, menu_text, plain
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.model.workbench import Workbench
from gluvo.session.records import Session, View
from gluvo.steps import settings_of

FIXED = 4
"""How many of what can be heard are no references."""
HELD_SECONDS = 2.0


class HearRow(QFrame):
    """What is heard: keys 1–9, at equal loudness if wanted."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self.setProperty("role", "sheet")
        self.setFixedHeight(46)
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(12, 0, 12, 0)
        self._row.setSpacing(5)
        self._held_back, self._told_for = 0, 0.0
        self._choices = QHBoxLayout()
        self._choices.setSpacing(5)
        self._caption = label("Hear", "caption")
        self._row.addWidget(self._caption)
        self._row.addLayout(self._choices)
        self.more = button(
            "References ▾",
            "References, and encodings that were tried; they have keys, too.",
            kind="reference",
            checkable=True,
        )
        self.more_menu = QMenu(self)
        self.more.setMenu(self.more_menu)
        self.more.setStyleSheet("QPushButton::menu-indicator { width: 0; }")
        self.more.hide()
        self._row.addWidget(self.more)
        self.apart = button("", "", lambda: bench.hear(RESULT), "hear", checkable=True)
        self.apart.hide()
        self._row.addWidget(self.apart)
        self._row.addStretch(1)
        self.matched = Toggle(
            "Level-matched",
            "Play everything equally loud, by the measured loudness of the section (M). Louder always "
            "sounds better; this takes that away.",
        )
        self.matched.toggled.connect(lambda on: bench.look(level_matched=on))
        self._row.addWidget(self.matched)
        self._applied = Elided("", "caption", 84)
        self._row.addWidget(self._applied)
        self.monitor = QComboBox()
        self.monitor.setAccessibleName("Monitor view")
        self.monitor.setToolTip("Which part of the sound is heard.")
        for view in MONITORS:
            self.monitor.addItem(view.name, view.key)
            self.monitor.setItemData(self.monitor.count() - 1, view.tip, Qt.ItemDataRole.ToolTipRole)
        self.monitor.activated.connect(lambda n: bench.look(monitor=MONITORS[n].key))
        self._row.addWidget(self.monitor)
        self.guard = label("over full scale: held back", "trouble")
        self.guard.setToolTip(
            "What you hear would pass full scale, and is turned down for the loudspeakers' sake. A file would be clipped: "
            "give it less gain, or a limiter."
        )
        self.guard.hide()
        self._row.addWidget(self.guard)
        self.dim = button("Dim", "Play 20 dB softer (D).", checkable=True)
        self.dim.clicked.connect(lambda on: bench.look(dim=on))
        self._row.addWidget(self.dim)
        self.output = Ruler(settings_of(View)["output_level"])
        self.output.setFixedWidth(120)
        self.output.moved.connect(lambda value: bench.look(output_level=value))
        holder = QVBoxLayout()
        holder.setContentsMargins(0, 3, 0, 0)
        holder.addWidget(self.output)
        self._row.addLayout(holder)
        self.buttons: dict[str, QPushButton] = {}
        self._group = QButtonGroup(self)
        bench.audio_changed.connect(self._rebuild)
        bench.session_changed.connect(self._session_changed)
        bench.picture_changed.connect(self.refresh)

    def _session_changed(self, before: Session, now: Session) -> None:
        if before.references != now.references:
            self._rebuild()
        self.refresh()

    def _rebuild(self) -> None:
        while (item := self._choices.takeAt(0)) is not None:
            widget = item.widget()
            if isinstance(widget, QPushButton):
                self._group.removeButton(widget)
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.buttons.clear()
        for n, heard in enumerate(self._bench.hearables()[:9], start=1):
            kind = "hear" if heard.group == SONG else "reference"
            made = button(f"{n}  {menu_text(heard.name)}", f"{plain(heard.tip)} Key {n}.", kind=kind, checkable=True)
            made.clicked.connect(lambda _=False, path=heard.id: self._bench.hear(path))
            self._group.addButton(made)
            self.buttons[heard.id] = made
            self._choices.addWidget(made)
        self.more_menu.clear()
        for n, (path, name) in enumerate(self._bench.hear_choices()[FIXED:], start=FIXED + 1):
            key = f"\t{n}" if n < 10 else ""
            self.more_menu.addAction(f"{menu_text(name)}{key}").triggered.connect(
                lambda *_, path=path: self._bench.hear(path)
            )
        self.refresh()
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """References stand side by side where there is room, else in one list; less is said where there is little."""
        narrow = self.width() < 1180
        self._caption.setVisible(not narrow)
        self._applied.setVisible(self.width() >= 1060)
        self.output.setFixedWidth(100 if narrow else 120)
        self.monitor.setMaximumWidth(92 if narrow else 140)
        names = [path for path, _ in self._bench.hear_choices()]
        references = [self.buttons[path] for path in names[FIXED:] if path in self.buttons]
        others = [self.buttons[path] for path in names[:FIXED] if path in self.buttons]
        rest = (self.matched, self.monitor, self.dim, self.output)
        taken = sum(w.sizeHint().width() + 6 for w in (*others, *rest)) + 140
        wide = taken + sum(w.sizeHint().width() + 6 for w in references) > self.width() or len(names) > 9
        for made in references:
            made.setVisible(not wide)
        self.more.setVisible(wide and len(names) > FIXED)

    def tick(self, held_back: int, elapsed: float) -> None:
        """Thirty times a second: tell for a while when the output guard has held back what the file would clip."""
        self._told_for = max(0.0, self._told_for - elapsed)
        if held_back > self._held_back:
            self._told_for = HELD_SECONDS
        self._held_back = held_back
        self.guard.setVisible(self._told_for > 0.0)

    def refresh(self) -> None:
        view = self._bench.session.view
        self._group.setExclusive(False)  # a band or a detector that is heard is none of these
        for path, made in self.buttons.items():
            made.setChecked(path == view.hear)
        heard = next((name for path, name in self._bench.hear_choices()[FIXED:] if path == view.hear), "")
        self.more.setChecked(bool(heard))
        others = self._bench.hearables()[FIXED:]
        rest = "References" if all(h.group == REFERENCES for h in others) else "More"
        self.more.setText(f"{menu_text(heard) or rest} ▾")
        self._group.setExclusive(True)
        self._show_apart()
        self.matched.set_on(view.level_matched)
        gain = self._bench.picture.gains.get(view.hear)
        sign = "+" if gain is not None and gain > 0.05 else ""
        self._applied.setText(
            f"{sign}{figure(gain)} dB here" if view.level_matched and gain is not None else "as it is"
        )
        self._applied.setToolTip("The gain that makes what is heard as loud as the untouched song in this section.")
        self.monitor.setCurrentIndex([m.key for m in MONITORS].index(view.monitor))
        self.dim.setChecked(view.dim)
        self.output.set_value(view.output_level)

    def _show_apart(self) -> None:
        """A detector or a band that is heard instead of a path of the row is named in it."""
        session = self._bench.session
        hear, step = session.view.hear, session.item(session.view.step)
        text = ""
        if hear == DETECTOR and step is not None:
            text = f"Detector of {step.title}"
        elif hear == TAKEN and step is not None:
            text = f"Taken off by {step.title}"
        elif hear == BAND and step is not None and session.view.band in step.parts:
            number = step.parts.index(session.view.band) + 1
            text = f"Band {number} alone"
        self.apart.setVisible(bool(text))
        self.apart.setChecked(bool(text))
        self.apart.setText(text)
        self.apart.setToolTip(f"You hear this, and not the result: {text}. Press to hear the result again (1).")
