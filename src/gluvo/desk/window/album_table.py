"""The table of an album's songs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from gluvo.compare.album_standings import Standing
from gluvo.desk.charts.album_views import ToneLine
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import figure, plain
from gluvo.session.album import Album, title_of

COLUMNS = (
    ("", 28),
    ("Song", 190),
    ("LUFS", 56),
    ("Lift", 50),
    ("dBTP", 56),
    ("PLR", 48),
    ("Tone against the others", 230),
    ("Width", 52),
    ("Gap after", 76),
    ("In words", 0),
)
TONE = 6
"""The column of the tone."""


class SongTable(Table):
    """A line a song: how it will stand, its tone against the others', and what differs in words."""

    def __init__(self) -> None:
        super().__init__(
            "Songs of the record",
            "Each song as it will stand. Enter or a double click opens it, J plays the join after it, Alt+↑ and Alt+↓ move it.",
            COLUMNS,
            40,
        )

    def show_songs(
        self, album: Album, found: Sequence[Standing | None], chosen: str, wrong: Mapping[str, str], measuring: bool
    ) -> None:
        """Each song as it will stand. `chosen`: its id; `wrong`: what is wrong with songs, by their ids."""
        tones = np.array([s.tone for s in found if s is not None])
        low, high = (tones.min(axis=0), tones.max(axis=0)) if len(tones) > 1 else (np.zeros(0), np.zeros(0))
        self.blockSignals(True)
        self.setRowCount(len(album.songs))
        for n, (song, standing) in enumerate(zip(album.songs, found, strict=True)):
            known, trouble = song.known, wrong.get(song.id, "")
            last = n == len(album.songs) - 1
            gap = "" if last else _gap_words(song.gap)
            if known is None or standing is None:
                words = trouble or ("being measured…" if measuring else "not measured")
                cells = [str(n + 1), title_of(song), *["–"] * 4, "", "–", gap, words]
                tints = [*["faint"] * 9, "over" if trouble else "faint"]
            else:
                cells = [
                    str(n + 1),
                    title_of(song),
                    figure(standing.loudness),
                    figure(song.lift, signed=True),
                    figure(standing.true_peak, 2),
                    figure(known.figures.get("plr", 0.0)),
                    "",
                    figure(known.figures.get("width", 0.0)),
                    gap,
                    trouble or standing.words,
                ]
                over = standing.true_peak > album.target.true_peak + 0.05
                tints = ["faint", "ink", "ink", "ink", "over" if over else "ink", "ink", "ink", "ink", "ink"]
                tints.append(
                    "over" if trouble else "mid" if standing.words and "near" not in standing.words else "faint"
                )
            self.show_line(n, list(zip(cells, tints, strict=True)))
            tone = self.cellWidget(n, TONE)
            if not isinstance(tone, ToneLine):
                tone = ToneLine()
                self.setCellWidget(n, TONE, tone)
            values = standing.tone.tolist() if standing is not None else []
            tone.show_tone(values, low.tolist(), high.tolist(), song.id == chosen)
            first = self.item(n, 1)
            if first is not None:
                first.setToolTip(plain(song.path))
        ids = [s.id for s in album.songs]
        if chosen in ids:
            self.setCurrentCell(ids.index(chosen), max(0, self.currentColumn()))
        self.blockSignals(False)


def _gap_words(gap: float) -> str:
    """What lies between two songs."""
    return f"{gap:.2f} s" if gap > 0.0 else "joined" if gap == 0.0 else f"over {-gap:.2f} s"
