"""Registries and rooms: what is a record in one place stands everywhere; containers of any kind; hearables while it plays."""

from __future__ import annotations

import ast
import dataclasses
import json
import os
import re
import subprocess
import sys
import threading
import tomllib
from collections import Counter
from collections.abc import Sequence
from importlib import metadata
from pathlib import Path
from typing import ClassVar, Self, get_args

import msgspec
import numpy as np
import pytest
import soundfile

from gluvo.compare import corridor
from gluvo.compare.corridor import Finding, findings
from gluvo.compare.hearables import IN_THE_SONG, REFERENCES, SIDE_BY_SIDE, Stretch, TimeMap, hearables
from gluvo.compare.match import RESULT
from gluvo.compare.profile import profile_of
from gluvo.deliver.formats import FORMATS, format_of
from gluvo.desk.pages import target_panel
from gluvo.errors import Cancelled, WriteError
from gluvo.measure.figures import FIGURES, Figures
from gluvo.measure.trace import Span, trace_of
from gluvo.opened.audio import OpenAudio
from gluvo.play.engine import Engine, Monitoring
from gluvo.play.playhead import NOWHERE, Playhead
from gluvo.progress import Progress
from gluvo.render.flow import CHUNK, rendered_joint
from gluvo.render.joint import Joint
from gluvo.render.plan import Plan, Run, Source
from gluvo.render.song import Renderer
from gluvo.session import chains
from gluvo.session.records import Deliverable, Media, Reference, View
from gluvo.session.sounds import Sound
from gluvo.steps import STEP_KINDS, Glue, Lane, Limiter, MidSideEq, Saturation, Step, Trim, settings_of
from gluvo.steps.base import MAX_BLOCK, N, Processor, Wiring

from .conftest import RATE, material, music, noise, one, sine
from .desk import Desk


def plain_name(requirement: str) -> str:
    """The name of a distribution in what is required of it, as all spell it."""
    return re.split(r"[^\w.-]", requirement)[0].lower().replace("_", "-")


@pytest.mark.thorough
def test_what_is_imported_is_declared() -> None:
    """Of the program's own libraries, or of theirs: what only tests have is not there where it is installed."""
    place = Path(__file__).parents[1]
    project = tomllib.loads((place / "pyproject.toml").read_text())["project"]
    declared = {plain_name(line) for line in project["dependencies"]}
    theirs = {plain_name(line) for name in declared for line in metadata.requires(name) or () if "extra" not in line}
    owners = metadata.packages_distributions()
    for path in sorted((place / "src").rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            names = [a.name for a in node.names] if isinstance(node, ast.Import) else []
            names += [node.module] if isinstance(node, ast.ImportFrom) and node.module and not node.level else []
            for name in {n.partition(".")[0] for n in names} - sys.stdlib_module_names - {"gluvo"}:
                assert {plain_name(owner) for owner in owners[name]} & (declared | theirs), f"{path.name}: {name}"


@pytest.mark.parametrize("module", ["gluvo.desk.window.app", "gluvo.play.server", "gluvo.cli"])
def test_what_takes_long_to_load_is_not_on_the_way_to_the_window(module: str) -> None:
    told = subprocess.run(
        [sys.executable, "-c", f"import sys, {module}; print(*sys.modules)"], capture_output=True, text=True, check=True
    )
    heavy = {"scipy.linalg", "scipy.optimize", "scipy.signal", "scipy.stats", "av", "jinja2", "numba"}
    assert module in told.stdout and not heavy & set(told.stdout.split())


# --- registries -------------------------------------------------------------------------------------------------


def test_every_figure_is_declared_and_told() -> None:
    assert list(FIGURES) == [field.name for field in msgspec.structs.fields(Figures)]
    for figure in FIGURES.values():
        assert figure.name and figure.tip.endswith(".") and figure.short
        assert figure.show(-12.346, unit=False) == f"−{12.346:.{figure.decimals}f}" and figure.show(-200.0) == "–"
    assert FIGURES["true_peak"].show(-0.001) == "0.00 dBTP"


@pytest.mark.thorough
def test_a_figure_more_in_the_target_panel_is_a_word(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(target_panel, "TOLD", (*target_panel.TOLD, FIGURES["crest"], FIGURES["correlation"]))
    panel = target_panel.TargetPanel(desk.bench, desk.window.shape.live)
    panel.refresh()
    assert not panel.grab().isNull()
    assert len(panel.rows.values) == len(target_panel.TOLD) + 1 and "–" not in panel.rows.values


@pytest.mark.parametrize("format", FORMATS.values(), ids=list(FORMATS))
def test_a_format_holds_what_it_says(format: object) -> None:
    for depth in get_args(Deliverable.__annotations__["bits"]) or ("16", "24", "32f"):
        row = Deliverable(id="d", name="D", format=format.key, bits=depth)  # type: ignore[attr-defined]
        if format.lossy or depth in format.depths:  # type: ignore[attr-defined]
            assert format_of(row) is format
        else:
            with pytest.raises(WriteError):
                format_of(row)


def test_steps_tell_what_they_can_do() -> None:
    every: tuple[type[Step], ...] = (*STEP_KINDS, Lane)
    for kind in every:
        settings = settings_of(kind)
        for switch, setting in kind.switches().items():
            assert settings[setting].kind == "number" and settings[switch].kind == "switch"
            assert set(kind(**{switch: True}).held_now) <= set(kind.solved_settings)
        assert all(isinstance(step, kind) for step in kind.examples()) and not kind().problem()
        plain, gain = kind().split_output_gain()
        assert gain == 1.0 and plain == kind()
    eq = MidSideEq()
    eq, band = eq.with_new_band(msgspec.structs.replace(next(iter(MidSideEq.examples()[1].bands)), id=0))  # type: ignore[attr-defined]
    assert eq.parts == (band.id,) and eq.without_part(band.id).parts == ()


@pytest.mark.parametrize(
    "step",
    [
        Saturation(id="s", drive=6.0, output=-3.0),
        Limiter(id="s", drive=9.0, output=2.0),
        Glue(id="s", ratio=3.0, threshold=-30.0, makeup=4.0),
        Glue(id="s", ratio=3.0, threshold=-30.0, makeup=4.0, mix=60.0),
        Glue(id="s", ratio=3.0, threshold=-30.0, makeup=4.0, mode="mid"),
    ],
    ids=lambda s: f"{type(s).__name__} {s.split_output_gain()[1]:.2f}",
)
def test_a_level_apart_is_the_level_inside(step: Step) -> None:
    """The graph runs a step without its level, and the level as a node of its own; its figures follow from the step's."""
    x = music(3.0)
    render = Renderer(material(x)).song(one([step]))
    node = render.plan.at_work["s"]
    inside = rendered_joint(Run("whole", "whole", (node.inputs[0],), step), [render.at(node.inputs[0])])
    found = render.joint("s")
    assert found is not None and np.abs(found.audio - inside.audio).max() < 1e-6
    assert found.figures().integrated == pytest.approx(inside.figures().integrated, abs=1e-4)
    assert found.figures().true_peak == pytest.approx(inside.figures().true_peak, abs=1e-4)
    assert found.mean_reduction() == pytest.approx(inside.mean_reduction(), abs=1e-6)


@pytest.mark.thorough
def test_menus_keys_and_finder_read_the_actions(desk: Desk) -> None:
    from gluvo.desk.pages.registry import PAGES
    from gluvo.desk.window.actions import ACTIONS, MENUS

    placed = {(p.place, p.name.split(" ")[0]) for p in desk.window.menus.placed}
    for action in ACTIONS:
        assert action.menu.split(" › ")[0] in MENUS and (action.menu, action.text.split(" ")[0]) in placed
    keys = Counter(action.key for action in ACTIONS if action.key)
    assert keys.most_common(1)[0][1] == 1
    assert desk.window.pages.count() == len(PAGES) + 1  # and how to begin
    for page in PAGES:
        desk.window.header.tabs[page.key].click()
        assert type(desk.window.pages.currentWidget()) is page.make
    desk.bench.look(page="a page of a later version")
    assert desk.window.pages.currentWidget() is desk.window.shape


@pytest.mark.thorough
def test_the_output_level_is_declared_once(desk: Desk) -> None:
    ruler = desk.window.hear_row.output
    assert ruler.setting is settings_of(View)["output_level"] and (ruler.setting.low, ruler.setting.high) == (
        -60.0,
        0.0,
    )


# --- containers -------------------------------------------------------------------------------------------------


class Halves(Step, tag="halves", frozen=True, kw_only=True):
    """A container with two rows: each takes half of the sound."""

    contains_steps: ClassVar[bool] = True
    first: tuple[Step, ...] = ()
    second: tuple[Step, ...] = ()

    @property
    def rows(self) -> tuple[tuple[Step, ...], ...]:
        return self.first, self.second

    def with_rows(self, rows: Sequence[Sequence[Step]]) -> Self:
        return msgspec.structs.replace(self, first=tuple(rows[0]), second=tuple(rows[1]))

    def wired(self, x: N, wiring: Wiring[N]) -> N:
        first, second = (
            wiring.through(row, wiring.run(Trim(id=f"half {n}", gain=-6.0), x)) for n, row in enumerate(self.rows)
        )
        return wiring.run(self, first, second)

    def make(self, rate: int) -> Processor:
        return _Both()


class _Both(Processor):
    def process(self, x: np.ndarray, out: np.ndarray) -> None:
        np.add(x, self.keys[0], out=out)


def steps(*ids: str) -> tuple[Trim, ...]:
    return tuple(Trim(id=id) for id in ids)


def ids(chain: Sequence[Step]) -> str:
    return "".join(item.id for item in chains.flat(chain))


def test_a_container_with_two_rows_is_treated_like_a_lane() -> None:
    halves = Halves(id="H", first=steps("a", "b"), second=steps("c"))
    chain: tuple[Step, ...] = (*steps("x"), halves, *steps("y"))
    assert ids(chain) == "xHabcy" and [i.id for i in chains.in_order(chain)] == list("xabcHy")
    assert chains.container_of(chain, "c") is halves and chains.container_of(chain, "y") is None
    assert ids(chains.without(chain, "b")) == "xHacy"
    assert ids(chains.inserted(chain, Trim(id="n"), "c")) == "xHabcny"
    assert ids(chains.inserted(chain, Trim(id="n"), inside="H")) == "xHnabcy"
    assert ids(chains.dropped(chain, "y", "c")) == "xHabyc"
    down, seen = chain, []
    for _ in range(7):
        down = chains.moved(down, "x", 1)
        holder = chains.container_of(down, "x")
        seen.append((ids(down), holder is not None))
    assert [where for where, _ in seen[:6]] == ["Hxabcy", "Haxbcy", "Habxcy", "Habxcy", "Habcxy", "Habcxy"]
    assert [inside for _, inside in seen[:6]] == [True, True, True, True, True, False] and seen[6][0] == "Habcyx"
    up = chain
    for _ in range(7):
        up = chains.moved(up, "y", -1)
    assert ids(up) == "yxHabc"


def test_a_container_with_two_rows_sounds_as_it_is_wired() -> None:
    halves = Halves(id="H", first=(Trim(id="a", gain=6.0),), second=(Glue(id="g", ratio=4.0, threshold=-40.0),))
    x = music(2.0)
    session = one([Trim(id="t"), halves])
    render = Renderer(material(x)).song(session)
    half = 10.0 ** (-6.0 / 20.0)
    plan = render.plan
    first, second = render.joint("a"), render.joint("g")
    assert first is not None and second is not None and plan.before["g"].inputs
    assert np.abs(first.audio - x * half / half).max() < 1e-6
    assert np.abs(render.result.audio - (first.audio + second.audio)).max() < 1e-6
    added = session.with_new_step(halves, "mix", "t")
    assert len({item.id for item in added.items}) == len(added.items) == 7


# --- nodes side by side -----------------------------------------------------------------------------------------


def test_nodes_side_by_side_are_those_one_after_the_other() -> None:
    """Over several turns, with latency in every step and longer than a turn in one."""
    x = noise((3 * CHUNK + 777) / RATE)
    chain = [
        Glue(id="g", ratio=2.0, threshold=-30.0, look_ahead=5.0),
        Limiter(id="l", drive=6.0, ceiling=-1.0),
        _Late(id="d"),
    ]
    render = Renderer(material(x)).song(one(chain))
    joint = render.at(render.plan.before["g"])
    for step in chain:
        node = render.plan.at_work[step.id]
        alone = rendered_joint(Run(node.key, node.name, (Source("", "", (), ""),), step), [joint])
        found = render.joint(step.id)
        assert found is not None and np.array_equal(alone.audio, found.audio)
        for name in ("weighted", "squares", "product", "sample_peak", "true_peak"):
            assert np.array_equal(getattr(alone.trace, name), getattr(found.trace, name)), name
        if step.reduces:
            assert alone.mean_reduction() == found.mean_reduction()
        joint = found


class _Late(Step, tag="late", frozen=True, kw_only=True):
    """Later than a turn is long."""

    def make(self, rate: int) -> Processor:
        return _LateProcessor()


class _LateProcessor(Processor):
    latency = CHUNK + 5 * MAX_BLOCK + 3

    def __init__(self) -> None:
        super().__init__()
        self._past = np.zeros((self.latency, 2))

    def process(self, x: np.ndarray, out: np.ndarray) -> None:
        both = np.concatenate([self._past, x])
        self._past = both[len(x) :].copy()
        out[:] = both[: len(x)]


class _Faulty(Step, tag="faulty", frozen=True, kw_only=True):
    fails_when_made: bool = False

    def make(self, rate: int) -> Processor:
        if self.fails_when_made:
            raise RuntimeError("made wrong")
        return _FaultyProcessor()


class _FaultyProcessor(Processor):
    def process(self, x: np.ndarray, out: np.ndarray) -> None:
        raise RuntimeError("went wrong")


@pytest.mark.parametrize("when_made", [True, False])
def test_a_node_that_fails_ends_all_of_them(when_made: bool) -> None:
    before = threading.active_count()
    renderer = Renderer(material(noise(2.0)))
    with pytest.raises(RuntimeError, match="wrong"):
        renderer.song(one([Trim(id="a"), _Faulty(id="f", fails_when_made=when_made), Trim(id="b", gain=1.0)]))
    assert threading.active_count() == before
    assert renderer.song(one([Trim(id="a")])).result.figures().integrated > -40.0


def test_nodes_can_be_stopped_at_any_turn() -> None:
    renderer = Renderer(material(noise(12.0)))
    session = one([Trim(id=f"t{n}", gain=0.5) for n in range(6)])
    for stop_after in (1, 3, 9):
        told: list[float] = []

        def progress(done: float, told: list[float] = told, stop_after: int = stop_after) -> None:
            told.append(done)
            if len(told) > stop_after:
                raise Cancelled("stopped")

        renderer.cache._joints.clear()
        with pytest.raises(Cancelled):
            renderer.song(session, progress)
        assert all(0.0 <= share <= 1.0 for share in told)
    assert renderer.song(session).joint("t5") is not None


# --- hearables --------------------------------------------------------------------------------------------------


def test_hearables_are_found_in_order() -> None:
    media = Media(path="r.wav", size=1, sha256="1" * 64)
    session = one([]).replace(
        references=(Reference(id="r1", name="Quay", media=media), Reference(id="r2", name="Pier", media=media))
    )
    found = hearables(session, {"r2"})
    assert [h.id for h in found] == [*(h.id for h in IN_THE_SONG if h.id != "wet" and h.group != SIDE_BY_SIDE), "r2"], (
        "there is no step with Mix, and there are no alternatives"
    )
    assert found[-1].group == REFERENCES and found[-1].node is None and found[0].node is not None
    plan = Plan(session)
    assert {h.id for h in found if h.listed} == {
        RESULT,
        "untouched",
        "step_out",
        "change",
        "up_to",
        "r2",
    } and plan.result


def test_hearables_come_and_go_while_it_plays() -> None:
    """The position goes on without a jump; what is let go gives way to the result; nothing clicks."""
    song, other = sine(220.0, 6.0, -12.0), sine(330.0, 2.0, -12.0)
    engine = Engine(material(song), {}, one([]))
    engine.listen(Monitoring())
    engine.play()
    heard, places = [], []

    def pull(blocks: int) -> None:
        for _ in range(blocks):
            block = np.zeros((512, 2))
            engine.pull(block)
            heard.append(block)
            places.append(engine.position)

    pull(20)
    engine.add_sound("r", Sound(other.astype(np.float32), RATE), TimeMap())
    engine.listen(Monitoring(path="r"))
    pull(40)
    engine.drop_sound("r")
    pull(40)
    assert np.diff(places) == pytest.approx(512 / RATE)
    x = np.concatenate(heard)[:, 0]
    steepest = 2 * np.pi * 330 / RATE * 10 ** (-12 / 20)
    assert np.abs(np.diff(x)).max() < 1.6 * steepest

    def pitch(part: np.ndarray) -> float:
        power = np.abs(np.fft.rfft(part * np.hanning(len(part)), 1 << 16))
        return float(np.argmax(power)) * RATE / (1 << 16)

    assert pitch(x[2000:10_000]) == pytest.approx(220.0, abs=2.0)
    assert pitch(x[14_000:28_000]) == pytest.approx(330.0, abs=2.0)
    assert pitch(x[-16_000:]) == pytest.approx(220.0, abs=2.0)
    assert engine.playing


def test_a_sound_beside_the_song_keeps_its_own_time() -> None:
    """Frame by frame where the map says; jumps are crossfaded over 10 ms."""
    own = np.stack([np.arange(RATE * 5) / (RATE * 5.0)] * 2, axis=1).astype(np.float32)  # tells where it is
    stretches = (Stretch(1.0, 2.0, 2.0, 2.25), Stretch(2.0, 2.5, 0.5, 1.5))
    rows = np.array([[s.start, s.end, s.own_start, s.own_end] for s in stretches])
    head, out = Playhead(RATE), np.zeros((4 * RATE, 2))
    frames = np.round(rows * RATE).astype(np.int64)
    for at in range(0, len(out), 480):
        head.read_beside(own, frames, out[at : at + 480])
        head.go_on(480)
    map_, fade = TimeMap(stretches), round(0.010 * RATE)
    wanted = np.array([map_.own(i / RATE, 5.0) for i in range(len(out))])
    jumps = np.flatnonzero(np.abs(np.diff(wanted)) > 0.01) + 1
    assert len(jumps) >= 5
    calm = np.ones(len(out), dtype=bool)
    for jump in jumps:
        calm[jump : jump + fade] = False
    assert np.abs(out[calm, 0] * 5.0 - wanted[calm]).max() < 1e-4
    assert np.abs(np.diff(out[:, 0])).max() < 1.5 / fade  # no step: at most a fade from one place to another
    head = Playhead(RATE)
    head.read_beside(own, NOWHERE, out[:480])
    assert np.array_equal(out[:480], own[:480].astype(np.float64))


@pytest.mark.thorough
def test_references_are_added_without_a_stop_in_playing(desk: Desk) -> None:
    engine = desk.bench.engine
    assert engine is not None
    engine.play()
    desk.wait(lambda: engine.playing and engine.position > 0.05)
    path, there = desk.bench.document.folder / "Reference.wav", set(desk.bench.audio.references)
    soundfile.write(path, music(2.0), RATE)
    desk.window.audio_files.add_references([path])
    desk.wait(lambda: len(desk.bench.audio.references) > len(there))
    (reference,) = set(desk.bench.audio.references) - there
    assert desk.bench.engine is engine and engine.playing and reference in engine.beside
    desk.bench.listening.hear(reference)
    desk.wait(lambda: desk.bench.session.view.hear == reference and reference in desk.window.hear_row.buttons)
    desk.window.audio_files.remove_reference(reference)
    desk.wait(lambda: set(desk.bench.audio.references) == there)
    assert desk.bench.engine is engine and engine.playing and reference not in engine.beside


def test_spans_and_maps_are_values() -> None:
    assert TimeMap() == TimeMap(()) and dataclasses.is_dataclass(Stretch(0.0, 1.0, 2.0, 3.0))
    assert TimeMap().own(7.5, 5.0) == 2.5 and TimeMap().own(1.0, 0.0) == 0.0 and Span(0.0, 1.0).seconds == 1.0


@pytest.mark.thorough
def test_a_reference_that_comes_while_audio_is_looked_at_is_kept(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    from gluvo.desk.model import opening
    from gluvo.opened.audio import analysed

    go_on, original = threading.Event(), analysed

    def slow(audio: OpenAudio, progress: Progress) -> OpenAudio:
        go_on.wait(20.0)
        return original(audio, progress)

    monkeypatch.setattr(opening, "analysed", slow)
    desk.bench.opening._to_analyse = True
    desk.bench.opening._analyse()
    before = set(desk.bench.audio.references)
    path = desk.bench.document.folder / "Late.wav"
    soundfile.write(path, music(2.0), RATE)
    desk.window.audio_files.add_references([path])
    desk.wait(lambda: len(desk.bench.audio.references) > len(before))
    go_on.set()
    (late,) = set(desk.bench.audio.references) - before
    desk.wait(lambda: late in desk.bench.audio.reference_figures)


@pytest.mark.thorough
def test_what_is_a_record_stands_in_all_places(tmp_path: Path) -> None:
    """Road test, device, hearable, page, action, preset, target and format, each added as CONTRIBUTING says."""
    soundfile.write(tmp_path / "Take.wav", music(5.0), RATE, "PCM_24")
    done = subprocess.run(
        [sys.executable, str(Path(__file__).with_name("with_new_records.py")), str(tmp_path)],
        env=os.environ | {"QT_QPA_PLATFORM": "offscreen", "XDG_CONFIG_HOME": str(tmp_path / "config")},
        capture_output=True,
        text=True,
        timeout=300,
    )
    assert done.returncode == 0, done.stderr
    told = json.loads((tmp_path / "seen.json").read_text())
    assert told["shown"] in told["row"] and "Attic" in told["shown"] and told["road"] == "attic"
    assert "A wire" in told["devices"] and told["device"] == "wire" and told["failed"] == ""
    assert "Interval" in told["hearables"] and told["silent"]
    assert told["name"] == "Nocturne" and told["page"] == "attic"
    assert told["target"] == "Attic" and told["preset"]
    assert told["format"] and told["trouble"] == [""] and [Path(n).suffix for n in told["written"]] == [".caf"]


def test_a_finding_is_a_function(monkeypatch: pytest.MonkeyPatch) -> None:
    x = music(4.0)
    profile = profile_of(Joint(x.astype(np.float32), trace_of(x, RATE)), None)
    monkeypatch.setattr(
        corridor, "FINDERS", (*corridor.FINDERS, lambda c: [Finding(f"{len(c.references)} at most.", 99.0)])
    )
    assert findings(profile, {"Old Pier": profile}, {})[0].text == "1 at most."
