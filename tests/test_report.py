"""The report: whole, self-contained, and what it says is what was measured."""

from __future__ import annotations

import dataclasses
import datetime
import html.parser
import json
import re
from pathlib import Path

import msgspec
import pytest

from gluvo.advise.watchouts import KINDS, WatchOut
from gluvo.deliver import report
from gluvo.deliver.encoding import Encoding, encoded
from gluvo.deliver.write import prepared, write_rows
from gluvo.measure.figures import figures_of
from gluvo.measure.spectrum import spectrum
from gluvo.measure.trace import Span, trace_of
from gluvo.render.song import Renderer
from gluvo.session.records import MIX, Deliverable, Media, Reference, Tags, Trial
from gluvo.session.versions import kept
from gluvo.steps import Band, DeEsser, Glue, Limiter, MidSideEq, Split, SplitBand, Trim

from .conftest import RATE, material, music, one

NASTY = "<script>alert('x')</script> & “Kai”"


class Tags_(html.parser.HTMLParser):
    """Collects tags and checks that all are closed."""

    VOID = frozenset({"meta", "br", "link", "img", "line"})

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.seen: list[str] = []

    def handle_starttag(self, tag: str, attrs: object) -> None:
        self.seen.append(tag)
        if tag not in self.VOID:
            self.open.append(tag)

    def handle_startendtag(self, tag: str, attrs: object) -> None:
        self.seen.append(tag)

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> report.Material:
    song = material(music(6.0))
    chain = [
        Trim(id="t", gain=-2.0),
        MidSideEq(id="q", bands=(Band(id=1, freq=200.0, gain=-3.0),)),
        Glue(id="g", threshold=-30.0),
        Split(
            id="s",
            bands=(SplitBand(id=1, mix=60.0, steps=(DeEsser(id="d", range=4.0),)), SplitBand(id=2, gain=-1.0)),
            crossovers=(300.0,),
        ),
        Limiter(id="l", drive=9.0, ceiling=-1.0),
    ]
    reference = Reference(id="r", name=NASTY, media=Media(path="r.wav", size=1, sha256="a" * 64))
    session = one(chain).replace(
        name=NASTY,
        references=(reference,),
        deliverables=(Deliverable(id="d", name="Master"),),
        tags=Tags(artist="The Bollards", comment="a\nb"),
        trials=(Trial(id="trial-1", kind="abx", names=(NASTY, "Old"), answers=(1,) * 12),),
    )
    session, _ = kept(session, NASTY, "2026-11-25T10:00:00", {"integrated": -13.2}, "before lunch")
    renderer, folder = Renderer(song), tmp_path_factory.mktemp("out")
    row = prepared(renderer, session, session.deliverables[0], folder)
    outcome = write_rows(song, [row], folder)["d"]
    whole = renderer.song(session)
    other = music(5.0, seed=4)
    return report.Material(
        session,
        whole,
        "1.0",
        [("Master", session.target, f) for f in outcome.files],
        [encoded(whole.result.audio, RATE, Encoding("mp3", 128))],
        {"r": figures_of(trace_of(other, RATE))},
        {"r": spectrum(other, RATE, "mid", 3)},
        ("A note & more.",),
        datetime.date(2026, 11, 25),
    )


def test_it_is_one_whole_page_that_needs_nothing_else(made: report.Material) -> None:
    page = report.as_html(made)
    parser = Tags_()
    parser.feed(page)
    assert parser.open == []
    assert "script" not in parser.seen and "link" not in parser.seen and parser.seen.count("svg") == 2
    assert not re.findall(r"(?:src|href)\s*=", page)
    assert set(re.findall(r"https?://[^\s\"<]+", page)) == {"http://www.w3.org/2000/svg"}
    assert NASTY not in page and "&lt;script&gt;" in page


def test_it_says_what_was_measured(made: report.Material) -> None:
    page, plain = report.as_html(made), json.loads(report.as_json(made))
    result = made.song.result.figures()
    assert plain["result"]["integrated"] == pytest.approx(result.integrated)
    assert f"{result.integrated:.1f}".replace("-", "−") in page
    assert plain["source"]["true_peak"] == pytest.approx(made.song.untouched.figures().true_peak)
    (file,) = plain["files"]
    assert file["sha256"] in page and len(file["sha256"]) == 64 and file["frames"] == 6 * RATE
    steps = plain["strips"][0]["steps"]
    assert [s["step"] for s in steps] == ["Trim", "Mid-side EQ", "Glue", "Split", "De-esser", "Limiter"]
    assert steps[0]["did"]["loudness"] == pytest.approx(-2.0, abs=0.01)
    assert steps[0]["settings"] == {"Gain": "−2.00 dB"}
    assert "200 Hz" in steps[1]["settings"]["Band 1"]
    split = next(s for s in steps if s["step"] == "Split")["settings"]
    assert (
        split["Lows"] == "20–300 Hz · De-esser · mix 60 %" and split["Highs"] == "300–20000 Hz · as it came · −1.0 dB"
    )
    assert steps[-1]["did"]["largest_reduction"] > 1.0
    assert plain["encodings"][0]["name"] == "MP3 128" and plain["notes"] == ["A note & more."]
    assert plain["versions"][0]["figures"] == {"integrated": -13.2} and "before lunch" in page
    assert "12 of 12 right" in plain["trials"][0]["meaning"] and "12 of 12 right" in page
    assert "A note &amp; more." in page and "The Bollards" in page


def test_watch_outs_are_told_where_they_are_wanted(made: report.Material) -> None:
    assert "Watch-outs" not in report.as_html(made) and "watch_outs" not in report.told(made)
    assert "None was found." in report.as_html(dataclasses.replace(made, watch_outs=()))
    kind = next(k for k in KINDS if k.id == "headroom")
    one = WatchOut(kind.id, MIX, "g", "<b>0.2 dB</b> are left.", "It was hot.", 0.2, 1.0, "dB", Span(1.0, 2.0), 0.5)
    told = dataclasses.replace(made, watch_outs=(one,))
    page = report.as_html(told)
    assert "&lt;b&gt;0.2 dB&lt;/b&gt; are left." in page and "Mix bus · Glue" in page
    (plain,) = json.loads(report.as_json(told))["watch_outs"]
    assert (plain["id"], plain["step"], plain["value"], plain["limit"], plain["start"]) == (
        "headroom",
        "Glue",
        0.2,
        1.0,
        1.0,
    )


def test_both_files_are_written_whole_or_told(made: report.Material, tmp_path: Path) -> None:
    page, plain = report.write_report(made, tmp_path / "Quay.html")
    assert page.read_text() == report.as_html(made)
    assert msgspec.json.decode(plain.read_bytes())["format"] == "gluvo-report"
    with pytest.raises(Exception, match="cannot be written to"):
        report.write_report(made, tmp_path / "no" / "Quay.html")
