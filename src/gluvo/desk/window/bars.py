"""The two bars that stay on every page: the header and the Hear row."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter, QResizeEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from gluvo.compare.match import BAND, DETECTOR, RESULT
from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.parts import Toggle, button, clock, figure, label, menu_text, plain
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.theme import colours, theme
from gluvo.desk.model.workbench import Workbench
from gluvo.session.records import Session
from gluvo.steps import MidSideEq, Setting

PAGES = (("buses", "Buses"), ("shape", "Shape"), ("deliver", "Deliver"))
MONITORS = (
    ("stereo", "Stereo", "Both channels, as they are."),
    ("mid", "Mid", "What both sides share."),
    ("side", "Side", "What differs between the sides; nothing of the middle."),
    ("left", "Left", "The left channel in both ears."),
    ("right", "Right", "The right channel in both ears."),
    ("mono", "Mono", "Both channels summed, as one loudspeaker would."),
)
FIXED = 4
"""How many of what can be heard are no references."""
HELD_SECONDS = 2.0
OUTPUT = Setting(
    "output_level",
    "Output",
    "How loud Gluvo plays. Nothing that is rendered or measured depends on it.",
    "number",
    0.0,
    unit="dB",
    low=-60.0,
    high=0.0,
)


class Header(QWidget):
    """Session, pages, transport, device."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self.setFixedHeight(44)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 0, 12, 0)
        row.setSpacing(8)
        row.addWidget(Brand())
        self._name = Elided("", "caption", 210)
        self._name.setStyleSheet("font-size: 13px;")
        row.addWidget(self._name, 2)
        self._tabs = QButtonGroup(self)
        self.tabs: dict[str, QPushButton] = {}
        for n, (key, text) in enumerate(PAGES):
            tab = button(text, f"The {text} page (Ctrl+{n + 1}).", kind="tab", checkable=True)
            tab.clicked.connect(lambda _=False, key=key: bench.look(page=key))
            self._tabs.addButton(tab)
            self.tabs[key] = tab
            row.addWidget(tab)
        row.addStretch(1)
        row.addSpacing(4)
        self.play = button("▶", "Play or stop (Space).", bench.toggle_play, "main")
        self.play.setFixedWidth(36)
        self.play.setAccessibleName("Play")
        row.addWidget(self.play)
        self.loop = Toggle("Loop", "Play the chosen section, or the whole song, over and over (L).")
        self.loop.toggled.connect(lambda on: bench.look(loop=on))
        self._position = label("0:00.0")
        self._position.setStyleSheet("font-size: 17px; font-weight: 600;")
        self._position.setFixedWidth(66)
        self._position.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row.addWidget(self._position)
        self._where = Elided("", "", 190)
        row.addWidget(self._where, 2)
        row.addWidget(self.loop)
        self._device = Elided("", "caption", 230)
        self._device.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row.addWidget(self._device, 2)
        self._with_a_session = (
            self._name,
            *self.tabs.values(),
            self.play,
            self._position,
            self._where,
            self.loop,
            self._device,
        )
        bench.session_changed.connect(lambda *_: self.refresh())
        bench.audio_changed.connect(self.refresh)

    def show_session(self, there: bool) -> None:
        """Pages, transport and device, or (without a session) only the name of the program."""
        for widget in self._with_a_session:
            widget.setVisible(there)

    def refresh(self) -> None:
        session = self._bench.session
        document = self._bench.document
        state = "reading only" if document.read_only else "not saved yet" if document.changed else "saved"
        text = f"{session.name} · {state}"
        self._name.setText(text)
        self._name.setToolTip(plain(str(self._bench.document.path)))
        self.tabs[session.view.page].setChecked(True)
        self.loop.set_on(session.view.loop)
        song = self._bench.audio.material
        doing = "looping" if session.view.loop else "in"
        self._where.setText(f"/ {clock(song.seconds, False) if song else '0:00'} · {doing} {self._bench.span_name}")

    def tick(self) -> None:
        """Thirty times a second."""
        engine = self._bench.engine
        if engine is None:
            self._device.setText("no audio")
            return
        self._position.setText(clock(engine.position))
        playing = "■" if engine.playing else "▶"
        if self.play.text() != playing:
            self.play.setText(playing)
        n = engine.dropouts
        text = (
            engine.failed or f"{engine.device_name} · {engine.rate / 1000:g} kHz · {n} dropout{'' if n == 1 else 's'}"
        )
        self._device.setText(text)
        self._device.setToolTip(f"{plain(text)}<br>Where the sound goes, and how often it was late (Listen › Device).")


class Brand(QLabel):
    """The name, with its one coloured letter."""

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("role", "brand")
        theme.changed.connect(self._dress)
        self._dress()

    def _dress(self) -> None:
        self.setText(f"gluv<span style='color:{colours().signal}'>o</span>")


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
        self.more = button("References ▾", "The references; they have keys as well.", kind="reference", checkable=True)
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
        for key, text, tip in MONITORS:
            self.monitor.addItem(text, key)
            self.monitor.setItemData(self.monitor.count() - 1, tip, Qt.ItemDataRole.ToolTipRole)
        self.monitor.activated.connect(lambda n: bench.look(monitor=MONITORS[n][0]))
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
        self.output = Ruler(OUTPUT)
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
        tips = {
            "result": "The song after all steps.",
            "untouched": "The song as it came.",
            "step_out": "The result without the chosen step.",
            "change": "Only what the chosen step adds and takes away: its output less its input.",
        }
        for n, (path, name) in enumerate(self._bench.hear_choices()[:9], start=1):
            tip = tips.get(path, f"The reference {plain(name)}.")
            made = button(
                f"{n}  {menu_text(name)}", f"{tip} Key {n}.", kind="hear" if n < 5 else "reference", checkable=True
            )
            made.clicked.connect(lambda _=False, path=path: self._bench.hear(path))
            self._group.addButton(made)
            self.buttons[path] = made
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
        self.more.setText(f"{menu_text(heard) or 'References'} ▾")
        self._group.setExclusive(True)
        self._show_apart()
        self.matched.set_on(view.level_matched)
        gain = self._bench.picture.gains.get(view.hear)
        sign = "+" if gain is not None and gain > 0.05 else ""
        self._applied.setText(
            f"{sign}{figure(gain)} dB here" if view.level_matched and gain is not None else "as it is"
        )
        self._applied.setToolTip("The gain that makes what is heard as loud as the untouched song in this section.")
        self.monitor.setCurrentIndex([key for key, _, _ in MONITORS].index(view.monitor))
        self.dim.setChecked(view.dim)
        self.output.set_value(view.output_level)

    def _show_apart(self) -> None:
        """A detector or a band that is heard instead of a path of the row is named in it."""
        session = self._bench.session
        hear, step = session.view.hear, session.item(session.view.step)
        text = ""
        if hear == DETECTOR and step is not None:
            text = f"Detector of {step.title}"
        elif hear == BAND and isinstance(step, MidSideEq):
            number = next((n for n, band in enumerate(step.bands, start=1) if band.id == session.view.band), 0)
            text = f"Band {number} alone"
        self.apart.setVisible(bool(text))
        self.apart.setChecked(bool(text))
        self.apart.setText(text)
        self.apart.setToolTip(f"You hear this, and not the result: {text}. Press to hear the result again (1).")


class Meter(QWidget):
    """Two level bars with peaks held, and the true peak held."""

    FLOOR = -48.0

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(34)
        self.setMinimumWidth(120)
        self._levels = [self.FLOOR, self.FLOOR]
        self._held = [self.FLOOR, self.FLOOR]
        self._limit = -1.0
        self.setToolTip(
            "Level of what is heard, before the level match and the output level. The red line is the target's peak."
        )

    def show_levels(self, levels: list[float], held: list[float], limit: float) -> None:
        if (levels, held, limit) != (self._levels, self._held, self._limit):
            self._levels, self._held, self._limit = levels, held, limit
            self.update()

    def paintEvent(self, event: object) -> None:
        c, painter = colours(), QPainter(self)
        for n in range(2):
            y = 4 + n * 13
            painter.fillRect(0, y, self.width(), 9, c["hair"])
            painter.fillRect(0, y, round(self._x(self._levels[n])), 9, c["over" if self._held[n] > 0.0 else "signal"])
            painter.fillRect(round(self._x(self._held[n])) - 1, y, 2, 9, c["ink"])
        painter.fillRect(round(self._x(self._limit)), 2, 2, 26, c["over"])

    def _x(self, level: float) -> float:
        return self.width() * max(0.0, min(1.0, (level - self.FLOOR) / (3.0 - self.FLOOR)))
