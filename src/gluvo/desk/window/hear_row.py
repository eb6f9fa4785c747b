"""The Hear row, the bar under the header: what is heard, level match, monitor view and output."""

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

from gluvo.compare.hearables import CHOSEN, IN_THE_SONG, REFERENCES, SIDE_BY_SIDE, SONG, Hearable
from gluvo.compare.match import BAND, DETECTOR, RESULT, TAKEN
from gluvo.compare.monitor import MONITORS
from gluvo.compare.road import ROADS
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import ChoiceBox, Toggle, button, figure, label, menu_text, plain
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.hear_list import EVERY, Alternating, HearList, Momentary
from gluvo.desk.window.hear_range import HearRange
from gluvo.desk.window.road_dialog import RoadDialog
from gluvo.session.records import Session, View
from gluvo.steps import settings_of

FIXED = sum(hearable.listed and hearable.group == SONG for hearable in IN_THE_SONG)
"""How many of what can be heard are no references."""
BESIDE_THE_ROW = (CHOSEN, SIDE_BY_SIDE)
"""Groups that have keys of their own, and a button only where they are pinned."""
HELD_SECONDS = 2.0
ROAD, LEVELS = "road:", "levels"
"""How road tests stand in the list of monitor views."""


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
            "All that can be heard: search, hear, pin (G). What is pinned has a button and a key.",
            self.show_all,
            kind="reference",
            checkable=True,
        )
        self.more.hide()
        self._row.addWidget(self.more)
        self.apart = button("", "", lambda: bench.listening.hear(RESULT), "hear", checkable=True)
        self.apart.hide()
        self._row.addWidget(self.apart)
        self.swap = button("⇄", "", kind="plain")
        self.swap.setAccessibleName("Swap and alternate")
        self.swap.setToolTip(
            "Between what is heard and what was heard before (X): at once, at each turn of the loop, or every few seconds."
        )
        self.swap_menu = QMenu(self)
        self.swap_menu.aboutToShow.connect(self._fill_swap)
        self.swap.setMenu(self.swap_menu)
        self.swap.setStyleSheet("QPushButton::menu-indicator { width: 0; }")
        self._row.addWidget(self.swap)
        self.alternating, self.momentary = Alternating(bench), Momentary(bench, self)
        self._row.addStretch(1)
        self.matched = Toggle(
            "Level-matched",
            "Play everything equally loud, by the measured loudness of the section (M). Louder always "
            "sounds better; this takes that away.",
        )
        self.matched.toggled.connect(lambda on: bench.look(level_matched=on))
        self._row.addWidget(self.matched)
        self.match = button("▾", "", kind="plain")
        self.match.setFixedWidth(18)
        self.match.setAccessibleName("Match by")
        self._match_menu = QMenu(self)
        self.match.setMenu(self._match_menu)
        self.match.setStyleSheet("QPushButton::menu-indicator { width: 0; }")
        setting = settings_of(View)["match"]
        self.match.setToolTip(f"<b>Match by</b><br>{setting.tip}")
        for key, words in setting.options:
            action = self._match_menu.addAction(words[0].upper() + words[1:])
            action.setCheckable(True)
            action.setData(key)
            action.triggered.connect(lambda _=False, key=key: bench.look(match=key, level_matched=True))
        self._row.addWidget(self.match)
        self.monitor = ChoiceBox()
        self.monitor.setAccessibleName("Monitor view")
        self.monitor.setToolTip(
            "Which part of the sound is heard; or a road test, as on other loudspeakers and in other places."
        )
        self.monitor.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.monitor.setMinimumContentsLength(7)
        self.monitor.view().setMinimumWidth(230)
        for view in MONITORS:
            self._offer(view.name, view.key, view.tip)
        self.monitor.insertSeparator(self.monitor.count())
        for road in ROADS[1:]:
            self._offer(road.name, ROAD + road.key, f"Road test: {road.tip}")
        self.monitor.insertSeparator(self.monitor.count())
        self._offer("Road test levels…", LEVELS, "How loud music and noise are, and what falls under it.")
        self.monitor.activated.connect(self._choose_monitor)
        self._row.addWidget(self.monitor)
        self.road = label("road test", "trouble")
        self.road.setToolTip("What you hear is not what is written: a road test is on, for your ears only.")
        self.road.hide()
        self._row.addWidget(self.road)
        self.range = label("", "trouble")
        self.range.setToolTip("You hear one range alone, as long as Q is held. Not part of the sound.")
        self.range.hide()
        self._row.addWidget(self.range)
        self.hear_range = HearRange(bench, self._tell_range, self)
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
        Follower(self, bench, self._rebuild, besides=lambda: (bench.listening.hearables(),))
        Follower(self, bench, self.refresh, session=self._shown, picture=lambda p: (p.gains,))

    def _offer(self, name: str, data: str, tip: str) -> None:
        self.monitor.addItem(name, data)
        self.monitor.setItemData(self.monitor.count() - 1, tip, Qt.ItemDataRole.ToolTipRole)

    def _choose_monitor(self, index: int) -> None:
        data = str(self.monitor.itemData(index))
        if data == LEVELS:
            self.refresh()
            self.show_levels()
        elif data.startswith(ROAD):
            self._bench.look(monitor="stereo")
            self._bench.adjust("road", kind=data.removeprefix(ROAD))
        else:
            self._bench.adjust("road", kind="off")
            self._bench.look(monitor=data)

    def show_levels(self) -> None:
        """The levels of road tests, in a window that stays open."""
        RoadDialog(self, self._bench).show()

    @staticmethod
    def _shown(session: Session) -> tuple[object, ...]:
        view = session.view
        monitored = view.level_matched, view.match, view.monitor, view.road, view.dim, view.output_level
        return view.hear, view.band, session.item(view.step), *monitored

    def _in_row(self) -> list[Hearable]:
        """What has a button where there is room: all that has a key, but what has one of its own only if it is pinned."""
        pins = self._bench.session.view.pins
        return [h for h in self._bench.listening.hearables() if h.group not in BESIDE_THE_ROW or h.id in pins]

    def _rebuild(self) -> None:
        while (item := self._choices.takeAt(0)) is not None:
            widget = item.widget()
            if isinstance(widget, QPushButton):
                self._group.removeButton(widget)
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.buttons.clear()
        for heard in self._in_row()[:9]:
            kind = "hear" if heard.group in (SONG, *BESIDE_THE_ROW) else "reference"
            made = button("", "", kind=kind, checkable=True)
            made.clicked.connect(lambda _=False, path=heard.id: self._hear(path))
            self._group.addButton(made)
            self.buttons[heard.id] = made
            self._choices.addWidget(made)
            made.show()  # at once: what is not shown is told by the list of the rest
        self.refresh()
        self._fit()

    def _hear(self, path: str) -> None:
        self._bench.listening.hear(path)
        self.refresh()  # a version may have to be rendered first: until then the button tells what is heard

    def show_all(self) -> None:
        """All that can be heard, as a list to search in."""
        HearList(self, self._bench).exec()
        self.refresh()

    def _fill_swap(self) -> None:
        self.swap_menu.clear()
        names = dict(self._bench.listening.hear_choices())
        before = names.get(self._bench.session.view.heard, "")
        again = self.swap_menu.addAction(f"Hear {menu_text(before)}" if before else "Hear what was heard before")
        again.triggered.connect(self._bench.listening.hear_again)
        self.swap_menu.addSeparator()
        for every, words in EVERY:
            action = self.swap_menu.addAction(words)
            action.setCheckable(True)
            action.setChecked(self.alternating.every == every)
            action.triggered.connect(lambda _=False, every=every: self.alternating.set_every(every))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """References stand side by side where there is room, else in one list; less is said where there is little."""
        told = sum(
            w.sizeHint().width() + 6 for w in (self.guard, self.road, self.range, self.apart) if not w.isHidden()
        )
        narrow = self.width() - told < 1180
        self._caption.setVisible(not narrow)
        self._words(short=narrow)
        self.output.setFixedWidth(100 if narrow else 120)
        self.monitor.setMaximumWidth(92 if narrow else 140)
        names = [heard.id for heard in self._in_row()]
        others = [self.buttons[path] for path in names[:FIXED] if path in self.buttons]
        rest = (self.swap, self.matched, self.match, self.monitor, self.dim)
        room = self.width() - sum(w.sizeHint().width() + 6 for w in (*others, *rest)) - 44
        room -= told + self.output.minimumWidth() + (0 if narrow else self._caption.sizeHint().width() + 6)
        shown = 0
        for path in (path for path in names[FIXED:9] if path in self.buttons):
            room -= self.buttons[path].sizeHint().width() + 6
            last = shown + FIXED + 1 == len(names)
            self.buttons[path].setVisible(room > (0 if last else self.more.sizeHint().width()))
            shown += self.buttons[path].isVisibleTo(self)
        ids, hear = [h.id for h in self._bench.listening.hearables()], self._bench.session.view.hear
        self.more.setVisible(len(names) > FIXED + shown or (hear in ids and hear not in names))

    def _words(self, short: bool) -> None:
        """What the buttons say: key, name, and by how much it is turned up or down."""
        view, gains = self._bench.session.view, self._bench.picture.gains
        for n, heard in enumerate(self._in_row()[:9], start=1):
            made = self.buttons.get(heard.id)
            if made is None:
                continue
            gain = gains.get(heard.id) if view.level_matched else None
            applied = "" if gain is None else f"{figure(gain, 1, signed=True)} dB"
            made.setText(f"{n}  {menu_text(heard.name)}" + (f"  {applied[:-3]}" if applied and not short else ""))
            by = dict(settings_of(View)["match"].options)[view.match]
            matched = f" {applied} here, so that all is as loud as the rest by {by}." if applied else ""
            made.setToolTip(f"{plain(heard.tip)} Key {n}; held down, only while it is held.{matched}")

    def tick(self, held_back: int, elapsed: float) -> None:
        """Thirty times a second: tell for a while when the output guard has held back what the file would clip."""
        self.alternating.tick(elapsed)
        self.swap.setText("⇄" if not self.alternating.every else "⇄ on")
        self._told_for = max(0.0, self._told_for - elapsed)
        if held_back > self._held_back:
            self._told_for = HELD_SECONDS
        self._held_back = held_back
        if self.guard.isHidden() is (self._told_for > 0.0):
            self.guard.setVisible(self._told_for > 0.0)
            self._fit()  # what is told takes room from names, and cuts none

    def refresh(self) -> None:
        view = self._bench.session.view
        if list(self.buttons) != [h.id for h in self._in_row()[:9]]:
            self._rebuild()
            return
        self._group.setExclusive(False)  # a band or a detector that is heard is none of these
        for path, made in self.buttons.items():
            made.setChecked(path == view.hear)
        self._show_apart()  # what it takes of the room is counted
        self._fit()
        shown = {path for path, made in self.buttons.items() if not made.isHidden()}
        hidden = [h for h in self._bench.listening.hearables() if h.id not in shown]
        heard = next((h.name for h in hidden if h.id == view.hear), "")
        hidden = [h for h in hidden if h.group not in BESIDE_THE_ROW] or hidden
        self.more.setChecked(bool(heard))
        rest = "References" if all(h.group == REFERENCES for h in hidden) else "More"
        self.more.setText(f"{menu_text(heard) or rest} ▾")
        self._group.setExclusive(True)
        self.matched.set_on(view.level_matched)
        for action in self._match_menu.actions():
            action.setChecked(action.data() == view.match)
        on = view.road.kind != "off"
        self.monitor.setCurrentIndex(self.monitor.findData(ROAD + view.road.kind if on else view.monitor))
        self.road.setVisible(on)
        self.dim.setChecked(view.dim)
        self.output.set_value(view.output_level)

    def _tell_range(self, words: str) -> None:
        self.range.setText(words)
        self.range.setVisible(bool(words))
        self._fit()

    def _show_apart(self) -> None:
        """A detector or a band that is heard instead of a path of the row is named in it."""
        session = self._bench.session
        hear, step = session.view.hear, session.item(session.view.step)
        text = ""
        if hear == DETECTOR and step is not None:
            text = f"{step.ear_name} of {step.title}"
        elif hear == TAKEN and step is not None:
            text = f"Taken off by {step.title}"
        elif hear == BAND and step is not None and session.view.band in step.parts:
            number = step.parts.index(session.view.band) + 1
            text = f"Band {number} alone"
        self.apart.setVisible(bool(text))
        self.apart.setChecked(bool(text))
        self.apart.setText(text)
        self.apart.setToolTip(f"You hear this, and not the result: {text}. Press to hear the result again (1).")
