"""The report of a record: one HTML page that needs nothing else."""

from __future__ import annotations

from collections.abc import Sequence

from markupsafe import Markup, escape

from gluvo.deliver.album_layout import DeliveredTrack, Placed
from gluvo.deliver.write import clippings
from gluvo.session.album import Album, title_of

STYLE = """
body { background: #F2EFE7; color: #22303C; font: 14px/1.45 "IBM Plex Sans Condensed", sans-serif; margin: 32px auto;
  max-width: 980px; padding: 0 20px; }
h1 { font-size: 26px; margin: 0; } h2 { font-size: 17px; margin: 30px 0 6px; border-bottom: 1px solid #CFC8B8; }
table { border-collapse: collapse; width: 100%; font-variant-numeric: tabular-nums; }
th { text-align: left; font-weight: normal; color: #66727D; font-size: 12px; }
td, th { padding: 3px 10px 3px 0; border-bottom: 1px solid #E3DDCF; vertical-align: top; }
.faint { color: #66727D; } .over { color: #BF232B; } .hash { font: 11px monospace; color: #66727D; word-break: break-all; }
@media print { body { background: white; margin: 0 auto; } h2 { break-after: avoid; } tr { break-inside: avoid; } }
"""


PAGE = """<!DOCTYPE html><html lang="en"><head><meta charset="utf-8"><title>{name}</title><style>{style}</style></head><body>
<h1>{name}</h1><p class="faint">{about}</p>
<h2>Songs</h2><table><tr><th></th><th>Song</th><th>Begins</th><th>Length</th><th>LUFS</th><th>dBTP</th><th>Moved by</th>
<th>In words</th><th>ISRC</th></tr>{songs}</table>
<h2>Files</h2><table><tr><th>File</th><th>Rate, frames</th><th>LUFS</th><th>dBTP</th></tr>{files}</table>
<p class="faint">Gluvo {gluvo}</p></body></html>
"""


def album_page(
    album: Album,
    where: Sequence[Placed],
    rate: int,
    tracks: Sequence[DeliveredTrack],
    whole: DeliveredTrack | None,
    gluvo: str,
) -> str:
    """The page."""
    end = where[-1].start + where[-1].frames if where else 0
    songs = [
        _row(
            n,
            title_of(one.song),
            f"{_clock(one.start / rate)} ({one.start})",
            _clock(one.frames / rate),
            _figure(one.standing.loudness),
            _figure(one.standing.true_peak, 2),
            f"{_figure(one.standing.gain)} dB",
            one.standing.words,
            one.song.isrc,
        )
        for n, one in enumerate(where, start=1)
    ]
    files = [_file(album, track) for track in (*tracks, *([whole] if whole is not None else []))]
    return str(
        Markup(PAGE).format(
            style=Markup(STYLE),
            name=album.name,
            about=f"{len(where)} songs · {_clock(end / rate)} · {rate} Hz",
            songs=Markup("").join(songs),
            files=Markup("").join(files),
            gluvo=gluvo,
        )
    )


def _file(album: Album, track: DeliveredTrack) -> Markup:
    w = track.written
    over = Markup(" class='over'") if w.clipped or w.figures.true_peak > album.target.true_peak + 0.05 else ""
    cells = Markup("<td>{}<br><span class='hash'>{}</span></td><td>{} Hz, {}</td><td>{}</td><td{}>{}</td>").format(
        w.path.name,
        track.sha256,
        w.rate,
        w.frames,
        _figure(w.figures.integrated),
        over,
        ", ".join([_figure(w.figures.true_peak, 2), *clippings([w])]),
    )
    return Markup("<tr>{}</tr>").format(cells)


def _row(*cells: object) -> Markup:
    return Markup("<tr>") + Markup("").join(Markup("<td>{}</td>").format(escape(c)) for c in cells) + Markup("</tr>")


def _figure(value: float, decimals: int = 1) -> str:
    return f"{value:.{decimals}f}".replace("-", "−")


def _clock(seconds: float) -> str:
    return f"{int(seconds) // 60}:{seconds % 60:06.3f}"
