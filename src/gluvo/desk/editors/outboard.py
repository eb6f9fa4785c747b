"""Outboard: what went out and what came back, with what failed on the way; and what has changed since."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from gluvo.desk.controls.flow import Lines
from gluvo.desk.controls.widgets import Rows, button, clock, figure, label
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.outboard_files import ask_return, ask_send
from gluvo.desk.editors.pass_dialog import PassDialog
from gluvo.desk.editors.tone_change import ToneChange
from gluvo.measure.round_trip import SONG
from gluvo.steps import Outboard

WAY = (
    ("Sent", "When what flows in here was sent, and how long it was."),
    ("Came back", "The file that is heard in its place, and when it was taken."),
    ("Late by", "The way there and back; it is made good to a hundredth of a sample."),
    ("Clock", "By how much what came back takes longer than what was sent; it is made good."),
    ("Level", "By how much the pings came back louder; Level is set against it."),
    ("Polarity", "Whether it came back turned; Polarity is set against it."),
    ("Noise floor", "RMS in the silence after the first ping."),
    ("Went wrong", "What failed on the way."),
    ("Since then", "Whether what flows in now is still what was sent, and how it differs."),
)


class OutboardEditor(StepEditor[Outboard]):
    """Its way as figures, and under them what is done: send, bring back, pass through a device."""

    least = 420

    def build_views(self) -> None:
        self.way = QWidget()
        column = QVBoxLayout(self.way)
        column.setContentsMargins(0, 4, 0, 0)
        self.rows = Rows(WAY)
        self.rows.setAccessibleName("The way out and back")
        column.addWidget(self.rows)
        self.words = Lines(2, "caption")
        column.addWidget(self.words)
        column.addWidget(label("What it does to the tone", "caption"))
        self.tone = ToneChange(
            "What it does to the tone",
            "dB from what flows in to what comes out, over the section, smoothed to a third of an octave.",
        )
        column.addWidget(self.tone, 1)
        self.add_views([("way", "Way", self.way)])
        self.bench.outboards.changed.connect(self.refresh)

    def build_middle(self) -> None:
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        self.send = button(
            "Send…",
            "Write what flows in here to a WAV of 32-bit floats, between two short pings (Ctrl+Alt+U).",
            lambda: ask_send(self, self.bench, self.step_id),
            "main",
        )
        self.back = button(
            "Bring back…",
            "Lay a recording of what was sent into its place: any rate or depth, late, early or turned over (Ctrl+Alt+Y).",
            lambda: ask_return(self, self.bench, self.step_id),
        )
        self.take = button(
            "Pass…",
            "Send it through further channels of a device and take back what comes, in real time (Ctrl+Alt+G).",
            self._pass,
        )
        for made in (self.send, self.back, self.take):
            row.addWidget(made)
        row.addStretch(1)
        self.below_views.addWidget(holder)

    def _pass(self) -> None:
        dialog = PassDialog(self.window(), self.bench, self.step_id)
        dialog.show()

    def show_picture(self) -> None:
        step = self.step
        if step is None:
            return
        back = step.returned
        sent = step.sent or (back.sent if back is not None else None)
        values, tints = ["–"] * len(WAY), ["ink"] * len(WAY)
        if sent is not None:
            values[0] = _dated(clock(sent.frames / sent.rate), sent.made)
        if back is not None:
            values[1] = _dated(back.media.path.rsplit("/", 1)[-1], back.made)
            late = back.begins / (1.0 + back.drift * 1e-6) - SONG
            by_hand = back.begins == 0.0 and back.drift == 0.0
            values[2] = "laid in place already" if by_hand else f"{late * 1000:,.2f} ms".replace("-", "−")
            values[3] = f"{figure(back.drift, 2, signed=True)} ppm" if back.drift else "as the song's"
            values[4] = f"{figure(back.gain, 1, signed=True)} dB"
            values[5] = "turned over" if back.inverted else "as sent"
            values[6] = f"{figure(back.noise)} dBFS" if back.noise is not None else "not heard"
            values[7] = "; ".join(back.failed) or "nothing"
            tints[7] = "over" if back.failed else "good"
            found = self.bench.outboards.stale.get(step.id)
            values[8] = found.words if found is not None else "the same flows in"
            tints[8] = "over" if found is not None else "good"
        self.rows.set_values(values, tints)
        around = self.bench.picture.around
        if back is None:
            self.tone.show_tones(None, None, "Nothing came back yet.")
        elif around is None or around.step != step.id:
            self.tone.show_tones(None, None, "Being measured…")
        else:
            self.tone.show_tones(around.before, around.after, "There is no sound here.")
        self.back.setEnabled(sent is not None)
        self.words.setText(
            "Add other steps before this one first, then send: what comes back is of exactly that."
            if sent is None and back is None
            else "Sent, and not back yet: until then the sound passes as it is."
            if back is None
            else "What flows in has changed since it was sent. What came back stays as it is until it is sent again."
            if step.id in self.bench.outboards.stale
            else ""
        )

    def state_words(self, step: Outboard) -> list[str]:
        stale = self.bench.outboards.stale.get(step.id)
        return [f"not of what flows in now: {stale.words}"] if stale is not None else []


def _dated(what: str, made: str) -> str:
    """Something, and when it was made, where that is known."""
    return f"{what} · {made.replace('T', ' ')[:16]}" if made else what
