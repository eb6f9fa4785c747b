"""What comes into a chain, before any step."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QStackedLayout, QVBoxLayout, QWidget

from gluvo.advise.source import ROOM, has_thresholds, with_room
from gluvo.desk.charts.views import CaughtView
from gluvo.desk.controls.flow import Elided, Flow
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import Rows, Segments, Toggle, button, clock, figure, label
from gluvo.desk.editors.place_table import PlaceTable
from gluvo.desk.model.workbench import Workbench
from gluvo.measure.loudness import LOUDEST_SECONDS, loudest_span
from gluvo.measure.overview import overs
from gluvo.measure.trace import Span
from gluvo.render.joint import Joint
from gluvo.session.prints import name_of
from gluvo.session.records import Bus, Stem
from gluvo.session.tree import below
from gluvo.steps import settings_of

MOST_TOPS = 50
"""Flat tops that are listed."""


class SourceEditor(QWidget):
    """What comes into a chain: how loud it is, how much room it has, and whether it was clipped."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.kind = type(None)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 8, 16, 8)
        self.title = label("Source", "title")
        column.addWidget(self.title)
        self.file = label("", "caption")
        column.addWidget(self.file)
        self.peaks = CaughtView()
        self.peaks.setToolTip("The peaks in the section of what comes in, against full scale.")
        self.faults = PlaceTable(
            "Flat tops and overs",
            "What is wrong",
            "Where the source is cut off flat, the longest first, and where it goes over full scale between samples.",
        )
        self.faults.wanted.connect(bench.listening.loop_place)
        self.views = QStackedLayout()
        self.views.addWidget(self.peaks)
        self.views.addWidget(self.faults)
        self.chooser = Segments([("peaks", "Peaks"), ("faults", "Flat tops and overs")], "What is drawn here.")
        self.chooser.chosen.connect(lambda key: self.views.setCurrentIndex(("peaks", "faults").index(key)))
        self.chooser.set_chosen("peaks")
        column.addWidget(self.chooser)
        column.addLayout(self.views, 1)
        self.rows = Rows(
            (
                ("Headroom", "How far the highest peak lies under full scale, between samples too."),
                ("Integrated loudness", "How loud the whole song is here."),
                ("Loudest span", "The loudest quarter minute of what comes in."),
                ("Crest factor", "Sample peak less RMS: how dynamic it is."),
                ("Correlation", "Of left and right: 1 is mono, 0 is wide, under 0 cancels in mono."),
                ("Flat tops", "Runs of samples cut off at the same height: it was clipped before it came here."),
            )
        )
        self.whose = label("", "caption")
        column.addWidget(self.whose)
        column.addWidget(self.rows)
        holder, row = QWidget(), Flow(across=10)
        holder.setLayout(row)
        self.setMinimumHeight(330)
        self.room = button(
            "Trim to 6 dB of headroom",
            "Adds a Trim at the start so that the steps have about 6 dB of room.",
            self._make_room,
            "main",
        )
        row.addWidget(self.room)
        self.along = Toggle(
            "Thresholds move along",
            "Thresholds of the steps after it go down by as much, in the same edit, so that they take as much off as before. "
            "Those behind a limiter or clipper stay.",
        )
        self.along.set_on(True)
        row.addWidget(self.along)
        setting = settings_of(Bus)["amount"]
        self.amount = Ruler(setting)
        self.amount.setFixedWidth(150)
        self.amount.moved.connect(
            lambda value: bench.set_strip(bench.session.view.strip, "amount", value, setting.label)
        )
        self.amount.settled.connect(bench.settle)
        self.hint = Elided("", "caption", 500)
        row.addWidget(label("The chain", "caption"))
        row.addWidget(self.amount)
        row.addWidget(self.hint)
        column.addWidget(holder)

    def refresh(self) -> None:
        session, render, audio = self.bench.session, self.bench.picture.best, self.bench.audio
        strip = session.strip(session.view.strip) or session.mix
        stems = [s for s in session.stems if s.id in below(session, strip.id)]
        self.title.setText("Source" if isinstance(strip, Stem) else f"What comes into {strip.name}")
        names = ", ".join(name_of(session, stem) for stem in stems[:3])
        more = f" and {len(stems) - 3} more" if len(stems) > 3 else ""
        material = audio.material
        rate = f" · {material.rate / 1000:g} kHz · {material.seconds:.1f} s" if material else ""
        self.file.setText(f"{names}{more}{rate}")
        self.room.setEnabled(material is not None)
        self.amount.set_value(strip.amount)
        self.along.setVisible(has_thresholds(session.chain))
        joint = render.start(strip.id) if render is not None else None
        whole = (self.bench.picture.song_render or render) if render is not None else None
        song = whole.start(strip.id) if whole is not None else None
        if joint is None or song is None:
            return
        f = song.figures()
        flat = sum(len(audio.flat.get(stem.id, ())) for stem in stems)
        self.peaks.show_peaks(joint.section(self.bench.span), self.bench.span, 0.0, 0.0, True, "full scale")
        self.rows.set_values(
            [
                f"{figure(-f.true_peak)} dB",
                f"{figure(f.integrated)} LUFS",
                self._loudest(song),
                f"{f.crest:.1f} dB",
                figure(f.correlation, 2),
                f"{flat} found" if flat else "none",
            ],
            ["over" if f.true_peak > 0 else "ink", "ink", "ink", "ink", "ink", "over" if flat else "ink"],
        )
        self.whose.setText(f"The peaks above are of {self.bench.span_name}; all figures below are of the whole song.")
        self.faults.show_found(self._faults(stems, song))
        little = -f.true_peak < ROOM - 0.5
        self.hint.setText(
            f"There {'is no' if f.true_peak > 0 else 'is little'} room for the steps to work in; one press makes it."
            if little and not session.chain
            else ""
        )

    def _faults(self, stems: Sequence[Stem], song: Joint) -> tuple[tuple[float, str, str], ...]:
        """Flat tops of the stems, the longest first, then what goes over full scale."""
        audio, name = self.bench.audio, self.bench.session.section_name
        rate = audio.material.rate if audio.material is not None else 48_000
        tops = [(top.length, s.offset + top.start / rate, s.name) for s in stems for top in audio.flat.get(s.id, ())]
        found = []
        for length, seconds, stem in sorted(tops, reverse=True)[:MOST_TOPS]:
            whose = f" in {stem}" if len(stems) > 1 else ""
            found.append((seconds, f"flat for {length} samples{whose}", name(seconds)))
        found += [(o.seconds, f"over by {o.taken:.2f} dB", name(o.seconds)) for o in overs(song.trace)]
        return tuple(found)

    @staticmethod
    def _loudest(song: Joint) -> str:
        """Where the loudest quarter minute begins and ends, and how loud it is."""
        length = min(LOUDEST_SECONDS, song.trace.seconds)
        start = loudest_span(song.trace, length)
        loudness = song.loudness(Span(start, start + length))
        return f"{clock(start, False)} – {clock(start + length, False)} at {figure(loudness)} LUFS"

    def _make_room(self) -> None:
        session, render = self.bench.session, self.bench.picture.song_render
        joint = render.start(session.view.strip) if render is not None else None
        if joint is None:
            return
        peak, along = joint.figures().true_peak, self.along.isVisible() and self.along.on
        self.bench.edit("Make headroom", lambda s: with_room(s, s.view.strip, peak, along))
        self.bench.look(step=self.bench.session.chain[0].id)

    def tick(self, seconds: float, level: float | None, reduction: float) -> None:
        """Nothing here moves."""
