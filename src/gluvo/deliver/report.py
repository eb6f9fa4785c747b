"""The report of a session: one HTML file that needs nothing else, and the same as JSON."""

from __future__ import annotations

import datetime
import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
from markupsafe import Markup

from gluvo.advise.loudness_target import measured_by
from gluvo.advise.watchouts import WatchOut
from gluvo.compare.trial import meaning
from gluvo.deliver.encoding import BANDS, Encoded
from gluvo.deliver.formats import FORMATS
from gluvo.deliver.targets import loudness_of, shortfalls
from gluvo.deliver.write import Written, clippings
from gluvo.measure import loudness
from gluvo.measure.figures import FIGURES, Figures
from gluvo.measure.loudness import SILENT
from gluvo.measure.spectrum import Spectrum, spectrum
from gluvo.measure.trace import Trace
from gluvo.render.song import Rendered
from gluvo.session import by_section, chains, notes
from gluvo.session.deliveries import changes_since
from gluvo.session.files import replacing
from gluvo.session.records import Deliverable, Note, Session, Target
from gluvo.session.song_parts import muted
from gluvo.steps import Step
from gluvo.steps.settings import settings_of

if TYPE_CHECKING:
    import jinja2

TOLD = (
    "integrated",
    "max_short_term",
    "max_momentary",
    "loudness_range",
    "loudest_rms",
    "true_peak",
    "sample_peak",
    "plr",
    "crest",
    "correlation",
    "width",
    "mono_loss",
    "seconds",
)
"""The figures that are told of source and result."""
WIDTH, HEIGHT = 900.0, 220.0
"""Of a graph, in its own units."""


@dataclass(frozen=True)
class Material:
    """What a report is made of."""

    session: Session
    song: Rendered
    version: str
    files: Sequence[tuple[str, Target, Written]] = ()
    """What was written: the row's name, its target, and the file."""
    encodings: Sequence[Encoded] = ()
    references: Mapping[str, Figures] = field(default_factory=dict)
    reference_tone: Mapping[str, Spectrum] = field(default_factory=dict)
    notes: Sequence[str] = ()
    day: datetime.date | None = None
    watch_outs: Sequence[WatchOut] | None = None
    """None where they are not to be told."""
    parts: Mapping[str, str] = field(default_factory=dict)
    """What of the song the files of some rows hold, by the rows' names."""
    client: bool = False
    """Whether it is for the client: what was made, how it measures and what was written to one another, and nothing of how."""


FOR_CLIENT = (
    "format",
    "session",
    "day",
    "gluvo",
    "tags",
    "job",
    "target",
    "verdict",
    "source",
    "result",
    "files",
    "muted",
    "notes",
    "session_notes",
)
"""What the client's form tells."""


def told(material: Material) -> dict[str, Any]:
    """The report as plain data, as it is written to JSON."""
    everything = _told(material)
    return {key: everything[key] for key in FOR_CLIENT} if material.client else everything


def _told(material: Material) -> dict[str, Any]:
    session, song = material.session, material.song
    source, result = song.untouched.figures(), song.result.figures()
    target = session.target
    return {
        "format": "gluvo-report",
        "session": session.name,
        "day": (material.day or datetime.date.today()).isoformat(),
        "gluvo": material.version,
        "tags": {k: v for k, v in msgspec.to_builtins(session.tags).items() if v},
        "target": msgspec.to_builtins(target),
        "verdict": shortfalls(result, target),
        "source": msgspec.to_builtins(source),
        "result": msgspec.to_builtins(result),
        "references": {
            r.name: msgspec.to_builtins(material.references[r.id])
            for r in session.references
            if r.id in material.references
        },
        "strips": [_strip(material, strip.id) for strip in session.strips if strip.chain or strip.rides],
        "audio": [
            {"path": m.path, "sha256": m.sha256, "bytes": m.size, "seconds": m.seconds, "loudness": m.loudness}
            for m in session.media
        ],
        "job": msgspec.to_builtins(session.job),
        "files": [
            _file(session, name, aim, written, material.parts.get(name, "")) for name, aim, written in material.files
        ],
        "deliveries": [
            {
                "made": d.made,
                "row": d.row.name,
                "files": [
                    {"file": f.media.path, "sha256": f.media.sha256, "figures": dict(f.figures)} for f in d.files
                ],
                "changed_since": list(changes_since(session, d)),
            }
            for d in session.deliveries
        ],
        "muted": list(muted(session)),
        "encodings": [
            {
                "name": e.encoding.name,
                "true_peak": e.figures.true_peak,
                "integrated": e.figures.integrated,
                "louder": e.louder,
                "lost": {band: v for (band, _, _), v in zip(BANDS, e.lost, strict=True) if np.isfinite(v)},
            }
            for e in material.encodings
        ],
        "versions": [
            {"name": v.name, "made": v.made, "note": v.note, "figures": dict(v.figures)} for v in session.versions
        ],
        "trials": [
            {
                "made": t.made,
                "kind": t.kind,
                "candidates": list(t.names),
                "answers": len(t.answers),
                "meaning": meaning(t),
            }
            for t in session.trials
        ],
        "notes": [] if material.client else list(material.notes),
        "session_notes": [_note(session, n) for n in notes.in_order(session) if n.client or not material.client],
    } | ({} if material.watch_outs is None else {"watch_outs": [_watch_out(session, w) for w in material.watch_outs]})


def _note(session: Session, note: Note) -> dict[str, Any]:
    return {
        "where": notes.where(session, note),
        "at": notes.start_of(session, note),
        "text": note.text,
        "made": note.made,
        "client": note.client,
        "done": note.done,
    }


def _watch_out(session: Session, one: WatchOut) -> dict[str, Any]:
    strip, step = session.strip(one.strip), session.item(one.step)
    return {
        "id": one.kind,
        "strip": strip.name if strip is not None else "",
        "step": step.title if step is not None else "",
        "text": one.text,
        "detail": one.detail,
        "value": float(one.value),
        "limit": float(one.limit),
        "unit": one.unit,
        "start": one.span.start,
        "end": one.span.end,
    }


def _strip(material: Material, id: str) -> dict[str, Any]:
    strip = material.session.strip(id)
    assert strip is not None
    items = []
    for item in chains.flat(strip.chain):
        before, after = material.song.before(item.id), material.song.joint(item.id)
        did: dict[str, float] = {}
        if before is not None and after is not None:
            b, a = before.figures(), after.figures()
            if b.integrated > SILENT and a.integrated > SILENT:
                did = {"loudness": a.integrated - b.integrated, "true_peak": a.true_peak - b.true_peak}
            if after.reduction is not None:
                did |= {"largest_reduction": after.largest_reduction(), "mean_reduction": after.mean_reduction()}
            if (wet := after.wet_reduced()) is not None:
                did |= {"largest_wet_reduction": wet.most, "mean_wet_reduction": wet.mean}
        items.append(
            {
                "step": item.title,
                "on": item.on,
                "settings": _settings(item),
                "words": item.describe(),
                "works_in": by_section.where(material.session, item),
                "did": did,
            }
        )
    names = {s.id: s.name for s in material.session.sections}
    lifts = [{"section": names[lift.section], "gain": lift.gain} for lift in strip.rides if lift.section in names]
    return {"name": strip.name, "fader": strip.fader, "lifts": lifts, "steps": items}


def _settings(item: Step) -> dict[str, str]:
    """What is not as in a new step, in words."""
    words = {}
    for name, setting in settings_of(type(item)).items():
        value = getattr(item, name)
        if value == setting.default:
            continue
        if setting.kind == "number":
            words[setting.label] = f"{setting.show(value)} {setting.unit}".strip()
        elif setting.kind == "choice":
            words[setting.label] = dict(setting.options)[str(value)]
        else:
            words[setting.label] = "on" if value else "off"
    return words | dict(item.part_words())


def _file(session: Session, name: str, target: Target, written: Written, part: str) -> dict[str, Any]:
    """`part`: what of the song it holds, in words, if it is not all of it."""
    digest = hashlib.sha256()
    try:
        with written.path.open("rb") as file:
            while block := file.read(1 << 22):
                digest.update(block)
        value = digest.hexdigest()
    except OSError:
        value = ""  # it has been moved since
    row = next((d for d in session.deliverables if d.name == name), None)
    return {
        "row": name,
        "file": written.path.name,
        "depth": depth_of(row) if row is not None else "",
        "dither": dither_of(row) if row is not None else "",
        "section": written.section,
        "part": part,
        "rate": written.rate,
        "frames": written.frames,
        "mended": written.mended,
        "clipped": written.clipped,
        "sha256": value,
        "target": target.name,
        "verdict": [
            *clippings([written]),
            *([] if written.section or part else shortfalls(written.figures, target)),
        ],
        "figures": msgspec.to_builtins(written.figures),
    }


def depth_of(row: Deliverable) -> str:
    """How many bits a row's files have, or a second of them, in words."""
    declared = settings_of(Deliverable)
    if not FORMATS[row.format].lossy:
        return dict(declared["bits"].options)[row.bits]
    return f"{row.bit_rate} kbit/s"


def dither_of(row: Deliverable) -> str:
    """The dither of a row's files, in words; nothing where there is none."""
    if FORMATS[row.format].lossy or row.dither == "none" or row.bits == "32f":
        return ""
    return dict(settings_of(Deliverable)["dither"].options)[row.dither]


def as_json(material: Material) -> bytes:
    return msgspec.json.format(msgspec.json.encode(told(material)), indent=2)


def as_html(material: Material) -> str:
    """The report as one HTML file, without scripts and without anything from elsewhere."""
    data, session = told(material), material.session
    shown = [FIGURES[key] for key in TOLD]
    source, result = material.song.untouched.figures(), material.song.result.figures()
    references = [(r.name, material.references[r.id]) for r in session.references if r.id in material.references]
    tone = {r.name: material.reference_tone[r.id] for r in session.references if r.id in material.reference_tone}
    if material.client:
        references, tone = [], {}
    columns = [("Source", source), ("Result", result), *references]
    return (
        _environment()
        .get_template("report.html.j2")
        .render(
            data=data,
            figures=[(f.name, [f.show(getattr(v, f.key)) for _, v in columns]) for f in shown],
            columns=[name for name, _ in columns],
            level=measured_by(session.target).show(loudness_of(result, session.target)),
            measure=measured_by(session.target),
            bands=[name for name, _, _ in BANDS],
            encodings=[
                (e.encoding.name, FIGURES["true_peak"].show(e.figures.true_peak), e.louder, e.lost)
                for e in material.encodings
            ],
            loudness=loudness_graph(material.song.result.trace, material.song.untouched.trace, session),
            spectrum=spectrum_graph(
                spectrum(material.song.result.heard_in(None), material.song.result.rate, "mid", 3),
                tone,
            ),
            show=lambda key, value: FIGURES[key].show(value),
            signed=_signed,
            linked=_linked,
            client=material.client,
        )
    )


def _linked(text: str) -> Markup:
    """A note's text, its web addresses to be followed, its lines as they were."""
    made, at = Markup(""), 0
    for found in notes.LINK.finditer(text):
        made += text[at : found.start()]
        made += Markup('<a href="{0}">{0}</a>').format(found[0])
        at = found.end()
    return Markup("<br>").join((made + text[at:]).split("\n"))


def _signed(value: float, decimals: int = 1) -> str:
    text = f"{value:+.{decimals}f}"
    return (text if float(text) else f"{0.0:.{decimals}f}").replace("-", "−")


def _environment() -> jinja2.Environment:
    import jinja2  # here, since it takes long to load

    return jinja2.Environment(
        loader=jinja2.FileSystemLoader(Path(__file__).parent), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )


class Graph:
    """A drawing of lines over a grid, as SVG."""

    def __init__(self, x: tuple[float, float], y: tuple[float, float], log: bool = False) -> None:
        self._x, self._y, self._log = x, y, log
        self._parts: list[str] = []

    def at(self, x: float, y: float) -> tuple[float, float]:
        low, high = self._x
        share = np.log(max(x, 1e-9) / low) / np.log(high / low) if self._log else (x - low) / (high - low)
        down = (self._y[1] - min(max(y, self._y[0]), self._y[1])) / (self._y[1] - self._y[0])
        return 46.0 + float(share) * (WIDTH - 56.0), 10.0 + down * (HEIGHT - 34.0)

    def grid(self, xs: Sequence[tuple[float, str]], ys: Sequence[tuple[float, str]]) -> None:
        for value, text in ys:
            left, y = self.at(self._x[0], value)
            self._parts.append(
                f'<line x1="{left:.1f}" y1="{y:.1f}" x2="{WIDTH - 10:.1f}" y2="{y:.1f}" stroke="#E3DDCF"/>'
            )
            self._parts.append(f'<text x="40" y="{y + 4:.1f}" text-anchor="end">{text}</text>')
        for value, text in xs:
            x, bottom = self.at(value, self._y[0])
            self._parts.append(f'<line x1="{x:.1f}" y1="10" x2="{x:.1f}" y2="{bottom:.1f}" stroke="#E3DDCF"/>')
            self._parts.append(f'<text x="{x:.1f}" y="{HEIGHT - 8:.1f}" text-anchor="middle">{text}</text>')

    def line(self, xs: np.ndarray, ys: np.ndarray, colour: str, width: float = 1.6, dashed: bool = False) -> None:
        points = " ".join(
            f"{x:.1f},{y:.1f}" for x, y in (self.at(float(a), float(b)) for a, b in zip(xs, ys, strict=True))
        )
        dash = ' stroke-dasharray="5 4"' if dashed else ""
        self._parts.append(f'<polyline points="{points}" fill="none" stroke="{colour}" stroke-width="{width}"{dash}/>')

    def svg(self) -> str:
        body = "".join(self._parts)
        return (
            f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH:.0f} {HEIGHT:.0f}" width="{WIDTH:.0f}" '
            f'height="{HEIGHT:.0f}" font-family="sans-serif" font-size="11" fill="#66727D">{body}</svg>'
        )


def loudness_graph(trace: Trace, before: Trace, session: Session) -> Markup:
    """Short-term loudness of result and source, integrated as it builds up, and the target."""
    short, untouched = loudness.short_term(trace), loudness.short_term(before)
    heard = short[short > -70.0]
    loudest = max(float(heard.max(initial=-20.0)), session.target.loudness, float(untouched.max(initial=-20.0)))
    top = max(0.0, 6.0 * np.ceil((loudest + 1.0) / 6.0))
    low, end = top - 36.0, max(1.0, trace.seconds)
    graph = Graph((0.0, end), (low, top))
    step = next(s for s in (5, 10, 20, 30, 60, 120, 300, 600, 1800) if end / s <= 12 or s == 1800)
    graph.grid(
        [(float(t), f"{int(t) // 60}:{int(t) % 60:02d}") for t in np.arange(0, end, step)],
        [(float(v), f"{v:g}".replace("-", "−")) for v in np.arange(low, top + 1, 6.0)],
    )
    for values, colour, width in ((untouched, "#93A0AB", 1.2), (short, "#23688C", 1.8)):
        thin = max(1, len(values) // 600)
        graph.line(3.0 + np.arange(len(values))[::thin] * trace.hop_seconds, values[::thin], colour, width)
    graph.line(*loudness.building_up(trace), "#22303C", 1.4)
    graph.line(np.array([0.0, end]), np.array([session.target.loudness] * 2), "#22303C", 1.0, dashed=True)
    return Markup(graph.svg())


def spectrum_graph(tone: Spectrum, references: Mapping[str, Spectrum]) -> Markup:
    """The result's spectrum and the references', each about its own middle, tilted by 4.5 dB an octave."""
    graph = Graph((20.0, 20_000.0), (-24.0, 18.0), log=True)
    graph.grid(
        [(f, f"{f / 1000:g}k" if f >= 1000 else f"{f:g}") for f in (50.0, 100.0, 200.0, 500.0, 1e3, 2e3, 5e3, 1e4)],
        [(float(v), f"{v:+g}".replace("-", "−") if v else "0") for v in (-18, -12, -6, 0, 6, 12)],
    )
    for drawn, colour in (*((s, "#6B4C92") for s in references.values()), (tone, "#23688C")):
        freqs = np.asarray(drawn.freqs)
        inside = (freqs >= 20.0) & (freqs <= 20_000.0)
        tilted = np.asarray(drawn.levels)[inside] + 4.5 * np.log2(freqs[inside] / 1000.0)
        graph.line(freqs[inside], tilted - np.median(tilted), colour)
    return Markup(graph.svg())


KINDS = (".html", ".json", ".pdf")
"""What a report can be written as, by the endings of files."""


def write_one(material: Material, path: Path) -> None:
    """Write a report as what the ending of `path` says, .html or .json. Raises `WriteError` if it cannot be written."""
    content = as_json(material) if path.suffix.lower() == ".json" else as_html(material).encode()
    with replacing(path) as file:
        file.write(content)


def write_report(material: Material, path: Path) -> tuple[Path, Path]:
    """Write the HTML, and the JSON beside it; their paths. Raises `WriteError` if they cannot be written."""
    beside = path.with_suffix(".json")
    html, plain = as_html(material).encode(), as_json(material)
    for place, content in ((path, html), (beside, plain)):
        with replacing(place) as file:
            file.write(content)
    return path, beside
