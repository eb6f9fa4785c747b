"""The right side of the Shape page: what is heard now, and the whole song against its target."""

from __future__ import annotations

import msgspec
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from gluvo.advise.loudness_target import measured_by
from gluvo.deliver.targets import PEAK_TOLERANCE, all_targets, loudness_of
from gluvo.desk.charts.views import ToneView
from gluvo.desk.controls.flow import Elided, Lines
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import ChoiceBox, ChoiceRow, Rows, button, figure, label, plain, set_role
from gluvo.desk.model.following import Follower, everything
from gluvo.desk.model.live_figures import LiveFigures
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.meter_strip import MeterStrip
from gluvo.desk.pages.targets_dialog import TargetsDialog
from gluvo.measure.figures import FIGURES
from gluvo.session.records import MIX, Target
from gluvo.steps import Limiter, settings_of

OWN, EDIT = "Own", "\0edit"
TOLD = tuple(FIGURES[key] for key in ("true_peak", "loudness_range", "plr", "max_short_term"))
"""What is told of the whole song besides its loudness."""


class BigFigure(QWidget):
    """The one figure that matters most, with what it is beside it."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(50)
        self._figure, self._lines, self._colour = "…", ("", ""), "faint"

    def show_figure(self, text: str, what: str, verdict: str, colour: str) -> None:
        self._figure, self._lines, self._colour = text, (what, verdict), colour
        self.setAccessibleName(f"{text} {what}, {verdict}")
        self.update()

    @property
    def text(self) -> str:
        return self._figure

    def paintEvent(self, event: object) -> None:
        c, painter = colours(), QPainter(self)
        painter.setFont(font(38, bold=True))
        painter.setPen(c["ink"])
        painter.drawText(QRectF(0, 0, self.width(), 50), Qt.AlignmentFlag.AlignVCenter, self._figure)
        left = painter.fontMetrics().horizontalAdvance("−88.8") + 12
        room = self.width() - left
        for top, line, colour, bold in ((10, self._lines[0], "faint", False), (26, self._lines[1], self._colour, True)):
            painter.setFont(font(11, bold=bold))
            painter.setPen(c[colour])
            shown = painter.fontMetrics().elidedText(line, Qt.TextElideMode.ElideRight, room)
            painter.drawText(QRectF(left, top, room, 15), Qt.AlignmentFlag.AlignVCenter, shown)


class TargetPanel(QWidget):
    """Live meters, the target, the whole song's figures, and its tone against the references."""

    costs_wanted = Signal()
    """What louder costs is to be shown."""

    def __init__(self, bench: Workbench, live: LiveFigures) -> None:
        super().__init__()
        self._bench = bench
        self._planned: tuple[object, str] | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        column.setSpacing(4)
        self.meters = MeterStrip(bench, live, upright=False)
        column.addWidget(self.meters)
        head = QHBoxLayout()
        head.addWidget(label("Target", "title"))
        self.choice = ChoiceBox()
        self.choice.setAccessibleName("Target")
        self.choice.setMinimumContentsLength(8)
        self.choice.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.choice.setToolTip("Where the song's loudness and peaks should end up.")
        self._targets: tuple[Target, ...] = ()
        self._fill_targets()
        self.choice.activated.connect(self._choose)
        head.addWidget(self.choice, 1)
        column.addLayout(head)
        self._own = QWidget()
        both = QVBoxLayout(self._own)
        both.setContentsMargins(0, 2, 0, 0)
        both.setSpacing(0)
        self.own_measure = ChoiceRow(settings_of(Target)["measure"], roomy=True)
        self.own_measure.chosen.connect(lambda value: self._set_own("measure", value))
        both.addWidget(self.own_measure)
        own = QHBoxLayout()
        own.setSpacing(16)
        both.addLayout(own)
        self.own_loudness, self.own_peak = (
            Ruler(settings_of(Target)["loudness"]),
            Ruler(settings_of(Target)["true_peak"]),
        )
        for ruler, name in ((self.own_loudness, "loudness"), (self.own_peak, "true_peak")):
            ruler.moved.connect(lambda value, name=name: self._set_own(name, value))
            ruler.settled.connect(bench.settle)
            own.addWidget(ruler)
        column.addWidget(self._own)
        self.integrated = BigFigure()
        column.addWidget(self.integrated)
        self.rows = Rows(
            (
                *((told.name, told.tip) for told in TOLD),
                ("Headroom", "How far the true peak of what comes into the mix chain lies under full scale."),
            )
        )
        column.addWidget(self.rows)
        self.reach = button("Reach the target", "", bench.advice.reach_target, "main")
        column.addWidget(self.reach)
        self.costs = button(
            "What louder costs…", "See and hear what this loudness takes, a little less, and more.", kind="plain"
        )
        self.costs.clicked.connect(self.costs_wanted)
        column.addWidget(self.costs)
        self.cost = Lines(2, "caption")
        column.addWidget(self.cost)
        tone_head = QHBoxLayout()
        tone_head.addWidget(label("Tone against references", "title"))
        tone_head.addStretch(1)
        tone_head.addWidget(Elided("dB, 4.5 dB/oct", "caption"))
        column.addLayout(tone_head)
        self.tone = ToneView()
        self.tone.setMinimumHeight(100)
        column.addWidget(self.tone, 1)
        Follower(self, bench, self.refresh, session=lambda s: (s.target, s.sound), picture=everything)
        bench.advice.reached.connect(self.refresh)

    def _fill_targets(self) -> None:
        """The targets that there are, the user's own among them."""
        targets = all_targets()
        if targets == self._targets:
            return
        self._targets = targets
        self.choice.clear()
        for n, target in enumerate(targets):
            self.choice.addItem(
                f"{target.name}  {target.loudness:g} / {target.true_peak:g}".replace("-", "−"), target.name
            )
            tip = "\n".join(words for words in (target.note, target.source) if words)
            self.choice.setItemData(n, plain(tip), Qt.ItemDataRole.ToolTipRole)
        self.choice.addItem("Own", OWN)
        self.choice.addItem("Edit targets…", EDIT)

    def edit_targets(self) -> None:
        """Add, change and remove targets."""
        TargetsDialog(self).exec()
        self._fill_targets()
        now = self._bench.session.target
        changed = next((t for t in self._targets if t.name == now.name), now)
        if changed != now:
            self._bench.edit(f"Target {changed.name}", lambda s: s.replace(target=changed))
        self.refresh()

    def _choose(self, index: int) -> None:
        name = self.choice.itemData(index)
        if name == EDIT:
            self.refresh()
            self.edit_targets()
            return
        now = self._bench.session.target
        own = msgspec.structs.replace(now, name=OWN, note="", source="")
        target = next((t for t in self._targets if t.name == name), own)
        self._bench.edit(f"Target {target.name}", lambda s: s.replace(target=target))

    def _set_own(self, name: str, value: float) -> None:
        now = self._bench.session.target
        target = msgspec.structs.replace(now, name=OWN, note="", source="", **{name: value})
        self._bench.edit("Own target", lambda s: s.replace(target=target), f"target.{name}")

    def _show_cost(self) -> None:
        """What reaching the target has cost, as long as the sound is the one that came of it."""
        bench = self._bench
        found = (
            bench.advice.reach[1] if bench.advice.reach is not None and self._is_now(bench.advice.reach[0]) else None
        )
        self.cost.setVisible(found is not None)
        if found is None:
            self.cost.setText("")
            return
        cost = found.cost
        kept = "" if cost.punch_kept is None else f", punch kept {100.0 * cost.punch_kept:.0f} %"
        plain = not 0.0 <= found.drive <= settings_of(Limiter)["drive"].high
        less = f"{figure(found.drive, signed=True)} dB into the limiter. " if plain else ""
        target = bench.session.target
        words = "" if found.met else f"{figure(found.loudness, 2)} {measured_by(target).unit} is as near as it comes. "
        near = abs(found.loudness - target.loudness) <= target.tolerance
        set_role(self.cost, "caption" if near else "trouble")
        self.cost.setText(
            f"{words}{less}Cost: {cost.largest:.1f} dB at most, {cost.mean:.1f} on average; peak to loudness "
            f"{figure(-cost.plr_lost)} dB{kept}."
        )

    def _is_now(self, key: str) -> bool:
        """Whether the song sounds as it did then."""
        bench = self._bench
        if bench.renderer is None:
            return False
        if self._planned is None or self._planned[0] != bench.session.sound:
            self._planned = bench.session.sound, bench.renderer.plan(bench.session).result.key
        return self._planned[1] == key

    def refresh(self) -> None:
        session, picture = self._bench.session, self._bench.picture
        target = session.target
        self._fill_targets()
        names = [t.name for t in self._targets]
        self.choice.setCurrentIndex(names.index(target.name) if target.name in names else len(names))
        self._own.setVisible(target.name == OWN)
        self.own_measure.set_value(target.measure)
        self.own_loudness.set_unit(measured_by(target).unit)
        self.own_loudness.set_value(target.loudness)
        self.own_peak.set_value(target.true_peak)
        self._show_cost()
        wanted = figure(target.loudness)
        by = measured_by(target)
        self.reach.setText(f"Reach {wanted} {by.unit}")
        self.reach.setToolTip(
            f"Find the last limiter's drive for which the whole song's {by.name.lower()} is {wanted} {by.unit}, at a ceiling of "
            f"{figure(target.true_peak)} dBTP (Ctrl+R)."
        )
        song = picture.song_render
        if song is None:
            self.integrated.show_figure("…", "LUFS, whole song", "measuring", "faint")
            self.rows.set_values(["…"] * 5)
        else:
            f, source = song.result.figures(), (song.start(MIX) or song.untouched).figures()
            level = loudness_of(f, target)
            miss = level - target.loudness
            close = abs(miss) <= target.tolerance
            verdict = (
                "on target" if abs(miss) < 0.05 else f"{abs(miss):.1f} LU {'over' if miss > 0 else 'under'} target"
            )
            if not picture.song_current:
                verdict = "measuring…"
            self.integrated.show_figure(
                figure(level),
                f"{by.unit}, {'whole song' if target.measure == 'integrated' else by.name.lower()}",
                verdict,
                "faint" if not picture.song_current else "good" if close else "over" if miss > 0 else "mid",
            )
            over = f.true_peak > target.true_peak + PEAK_TOLERANCE
            self.rows.set_values(
                [
                    *(
                        f"{'over: ' if over and told.key == 'true_peak' else ''}{told.show(getattr(f, told.key))}"
                        for told in TOLD
                    ),
                    f"{-source.true_peak:.1f} dB".replace("-", "−"),
                ],
                [
                    *("over" if over and told.key == "true_peak" else "ink" for told in TOLD),
                    "over" if source.true_peak > 0.0 else "ink",
                ],
            )
        self.tone.show_tone(picture.tone, [reference.thirds for reference in picture.references])

    def tick(self) -> None:
        """Thirty times a second."""
        self.meters.tick()
