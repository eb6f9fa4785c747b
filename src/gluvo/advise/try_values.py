"""Values of one setting beside each other: what the setting does, with everything else held as it is.

Each value is rendered over a section up to what comes out of its step; where a step takes or lifts level by an aim, it is
made to take as much as it takes now, so that the values differ in what they do and not in how much.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, cast

import msgspec
import numpy as np

from gluvo.advise.hold import held_session
from gluvo.advise.loudness_target import driven, hits_of_joints, reach_target
from gluvo.advise.prices import STEPS
from gluvo.dsp.kernel import Floats
from gluvo.errors import GluvoError
from gluvo.measure.harmonics import new_spectrum
from gluvo.measure.hits import Hits
from gluvo.measure.loudness import SILENT
from gluvo.measure.overview import REDUCED_BY, Reduced, ReducedBy
from gluvo.measure.trace import Span
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.render.song import Renderer
from gluvo.session.records import Session, Target
from gluvo.steps import Setting, Step, settings_of
from gluvo.steps.base import Transfer
from gluvo.steps.ceiling import last_limiter

USUAL, MOST = 5, 9
"""Values that are tried, if no others are typed, and at most."""
APART = 1.0 / 8.0
"""The part of its ruler by which they lie apart."""
THIRDS = 1000.0 * 2.0 ** (np.arange(-15, 13) / 3.0)
"""Hz, 31.25 to 16 k."""
RANGES = {"lows": (31.0, 250.0), "mids": (250.0, 4000.0), "highs": (4000.0, 16_500.0)}
"""Hz"""
SOME = 0.05
"""dB of reduction from which a step is held to as much."""


@dataclass(frozen=True)
class SettingPlace:
    """A setting of a step, or of a part of one that has settings of its own, such as a band."""

    step: str
    name: str
    part: int = 0

    def owner(self, session: Session) -> msgspec.Struct | None:
        """What has the setting; None if it is gone."""
        step = session.item(self.step)
        if step is None:
            return None
        found = step.settings_of_parts.get(self.part) if self.part else step
        return found if found is not None and self.name in settings_of(type(found)) else None

    def setting(self, session: Session) -> Setting | None:
        owner = self.owner(session)
        return settings_of(type(owner))[self.name] if owner is not None else None

    def value(self, session: Session) -> Any:
        return getattr(self.owner(session), self.name)

    def words(self, session: Session) -> str:
        """What it is called: its step, and its own name."""
        step, setting, strip = session.item(self.step), self.setting(session), session.strip_with(self.step)
        if step is None or setting is None or strip is None:
            return ""
        return f"{step.called} on {strip.name} · {setting.label}"

    @property
    def present(self) -> str:
        """What the present value is told to be."""
        return "as it is"

    def values(self, session: Session) -> tuple[Any, ...]:
        """The values that are tried if no others are typed."""
        setting = self.setting(session)
        return values_around(setting, self.value(session)) if setting is not None else ()

    def made(
        self,
        renderer: Renderer,
        session: Session,
        value: Any,
        kept: Kept | None,
        progress: Progress = no_progress,
    ) -> Made:
        """The session with a value, as it is to be kept, and a word on it. What is held is found, `kept` included."""
        with_it = with_value(session, self, value)
        solved = held_session(renderer, _keeping(with_it, self, kept, session.view.section), progress, up_to=self.step)
        step, now = solved.item(self.step), with_it.item(self.step)
        if kept is not None and step is not None and now is not None:  # it is as it was, but for what was found
            solved = solved.with_step(msgspec.structs.replace(now, **{kept.setting: getattr(step, kept.setting)}))
        return Made(solved)

    def taken(self, session: Session, made: Session) -> Session:
        """The open session with what was made of it for a value."""
        step = made.item(self.step)
        return session.with_step(step) if step is not None else session


@dataclass(frozen=True)
class Made:
    """A session with a value of a setting."""

    session: Session
    note: str = ""
    """A word on how far the value was met."""


@dataclass(frozen=True)
class LoudnessPlace(SettingPlace):
    """The target's loudness: what it takes to be louder. Each value is reached by the mix bus's last limiter, which is `step`,
    for the whole song."""

    def owner(self, session: Session) -> msgspec.Struct | None:
        return session.target if session.item(self.step) is not None else None

    def words(self, session: Session) -> str:
        return f"what louder costs, by the {session.item(self.step).title.lower()} on {session.mix.name}"  # type: ignore[union-attr]

    @property
    def present(self) -> str:
        return "the target"

    def values(self, session: Session) -> tuple[Any, ...]:
        setting, now = settings_of(Target)[self.name], session.target.loudness
        return tuple(dict.fromkeys(setting.clamp(now + step) for step in STEPS))

    def made(
        self, renderer: Renderer, session: Session, value: Any, kept: Kept | None, progress: Progress = no_progress
    ) -> Made:
        aim = session.replace(target=msgspec.structs.replace(session.target, loudness=value))
        reached = reach_target(renderer, aim, None, progress, self.step)
        note = "" if reached.met else f"{reached.loudness:.1f} at most".replace("-", "−")
        return Made(driven(session, reached.step, reached.drive, reached.ceiling), note)

    def taken(self, session: Session, made: Session) -> Session:
        return session.replace(strips=made.strips)


def louder_place(session: Session) -> LoudnessPlace | None:
    """Where it is tried what louder costs; None without a limiter that is on."""
    limiter = last_limiter(session.mix.chain)
    return LoudnessPlace(limiter.id, "loudness") if limiter is not None else None


def shown(setting: Setting, value: Any) -> str:
    """A value in words, with its unit."""
    if setting.kind == "switch":
        return "on" if value else "off"
    if setting.kind == "choice":
        return dict(setting.options)[str(value)]
    return f"{setting.show(value)} {setting.unit}".strip()


def values_around(setting: Setting, now: Any, count: int = USUAL) -> tuple[Any, ...]:
    """The present value and others to both sides of it, even on its ruler; of choices and switches all there are.

    >>> from gluvo.steps import Glue, settings_of
    >>> values_around(settings_of(Glue)["attack"], 30.0)
    (0.81, 2.7, 9.0, 30.0, 100.0)
    """
    if setting.kind == "switch":
        return (False, True)
    if setting.kind == "choice":
        return tuple(type(now)(key) for key, _ in setting.options)[:MOST]
    place = setting.to_position(now)
    below = min(count // 2, int(place / APART + 1e-9))
    above = min(count - 1 - below, int((1.0 - place) / APART + 1e-9))
    below = min(count - 1 - above, int(place / APART + 1e-9))
    found = {_rounded(setting, setting.to_value(place + k * APART)) for k in range(-below, above + 1) if k}
    return tuple(sorted({*found, float(now)}))


def _rounded(setting: Setting, value: float) -> float:
    """With two digits, or as many as the setting shows."""
    if value == 0.0:
        return 0.0
    digits = 1 - int(np.floor(np.log10(abs(value))))
    decimals = max(0, digits) if setting.scale == "log" else min(setting.decimals, max(0, digits))
    return setting.clamp(round(value, digits if setting.scale == "log" and digits < 0 else decimals))


def values_typed(setting: Setting, text: str) -> tuple[Any, ...]:
    """The values that a line of text lists, in rising order. Raises `GluvoError` with what cannot be, and what could."""
    words = [word for word in re.split(r"[;\s]+", text.strip()) if word]
    found = []
    for word in words:
        value = setting.read(word)
        if value is None:
            raise GluvoError(f"“{word}” is no value of {setting.label}. Type numbers with spaces between them.")
        if beyond := setting.beyond(word):
            raise GluvoError(f"“{word}” is beyond the range of {setting.label}: {beyond}")
        found.append(value)
    distinct = tuple(sorted(dict.fromkeys(found)))
    if not 2 <= len(distinct) <= MOST:
        raise GluvoError(f"Type two to {MOST} different values with spaces between them.")
    return distinct


def with_value(session: Session, place: SettingPlace, value: Any) -> Session:
    """The session with a value of the setting, which is no longer held then."""
    step = session.item(place.step)
    if step is None:
        return session
    if place.part:
        return session.with_step(step.with_part(place.part, **{place.name: value}))
    changes: dict[str, object] = {place.name: value, **step.by_hand.get(place.name, {})}
    if solved := step.solved_settings.get(place.name):
        changes[solved.switch] = False
    return session.with_step(msgspec.structs.replace(step, **changes))


@dataclass(frozen=True)
class Kept:
    """What a step takes now, which it takes with every value: the setting that is solved for that, and how much."""

    setting: str
    aim: float
    by: ReducedBy

    @property
    def words(self) -> str:
        return f"{self.aim:.1f} dB {REDUCED_BY[self.by]}"


def kept_by(step: Step | None, place: SettingPlace, after: Joint | None, span: Span | None) -> Kept | None:
    """What is to be kept while values of a setting are tried: what the step takes, where another of its settings can be solved
    for that and is not held anyway; None where there is nothing of the kind."""
    if step is None or after is None or place.part or place.name not in settings_of(type(step)):
        return None
    for name, solved in step.solved_settings.items():
        if solved.by not in ("reduction", "drive") or place.name in (name, solved.aim, solved.aim_by, solved.switch):
            continue
        reduced = after.taken_by(step, span)
        by = cast("ReducedBy", getattr(step, solved.aim_by)) if solved.aim_by else "mean"
        if getattr(step, solved.switch) or reduced is None or reduced.of(by) < SOME or step.not_solvable(name):
            return None
        return Kept(name, settings_of(type(step))[solved.aim].clamp(round(reduced.of(by), 2)), by)
    return None


def _keeping(session: Session, place: SettingPlace, kept: Kept | None, section: str) -> Session:
    """The session with what is kept held, so that it is solved for."""
    step = session.item(place.step)
    if step is None or kept is None:
        return session
    solved = step.solved_settings[kept.setting]
    changes: dict[str, object] = {solved.switch: True, solved.aim: kept.aim, "held_in": section}
    return session.with_step(msgspec.structs.replace(step, **changes))


@dataclass(frozen=True, eq=False)
class TriedValue:
    """What a value of a setting comes to in a section."""

    value: Any
    session: Session
    """With what is held found, and holding what the open one holds."""
    loudness: float
    """LUFS of what comes out of the step."""
    crest: float
    """dB"""
    true_peak: float
    """dBTP of what comes out of the step, were it as loud as what comes out of it now."""
    louder: float
    """dB by which the step makes it louder."""
    width: float
    """The side's part of all, %."""
    thirds: Floats
    """By how many dB the step changes each third of an octave at equal loudness; see `THIRDS`."""
    reduced: Reduced | None = None
    hits: Hits | None = None
    new_sound: float | None = None
    """What is in the output that no filter makes of the input, dB under it."""
    late: float = 0.0
    """ms"""
    transfer: Transfer | None = None
    """The static curve of the step, where the setting is one of those that make it."""
    note: str = ""
    """A word on how far the value was met."""

    def tone(self, part: str) -> float:
        """By how many dB it changes the lows, mids or highs at equal loudness."""
        low, high = RANGES[part]
        return float(self.thirds[(low <= THIRDS) & (high > THIRDS)].mean())

    @property
    def recovered(self) -> float | None:
        """What of the reduction that hits cause is let go again before the next one, as far as hits are looked at, 0–1; None
        where there are none."""
        if self.hits is None:
            return None
        times = self.hits.times
        curve = self.hits.reduction[(times >= 0.0) & (times <= self.hits.spacing)]
        most = float(curve.max(initial=0.0))
        return 1.0 - float(curve[-1]) / most if most >= SOME else None


def tried_value(
    renderer: Renderer,
    session: Session,
    place: SettingPlace,
    value: Any,
    span: Span | None,
    kept: Kept | None = None,
    progress: Progress = no_progress,
    loudness: float | None = None,
) -> TriedValue:
    """What a value comes to. `loudness`: of what comes out of the step now, LUFS. Raises `GluvoError` where the step is off or
    gone. Nothing that is the same with several values is rendered twice."""
    stretch = span or Span(0.0, renderer.seconds)
    if place.step not in renderer.plan(session).after:
        raise GluvoError("The step is off, or gone: there is nothing to be tried.")
    made = place.made(renderer, session, value, kept, progress)
    solved, plan = made.session, renderer.plan(made.session)
    step = solved.item(place.step)
    if step is None or place.step not in plan.after:
        raise GluvoError("The step is off, or gone: there is nothing to be tried.")
    pair = plan.before[place.step], plan.after[place.step]
    joints = renderer.joints(pair, stretch, progress, max(plan.result.memory, step.memory))
    before, after = (joints[node.key] for node in pair)
    figures, came = after.figures(stretch), before.loudness(stretch)
    level = figures.integrated
    gain = loudness - level if loudness is not None and min(loudness, level) > SILENT else 0.0
    tones = (joint.tone(stretch).smoothed("stereo", 3.0, THIRDS) for joint in (before, after))
    was, became = tones
    shift = came - level if min(came, level) > SILENT else 0.0
    hits = hits_of_joints(before, after, stretch) if after.reduction is not None or step.shapes_hits else None
    new = None
    if "new sound" in step.analyses:
        share = new_spectrum(before.heard_in(stretch), after.heard_in(stretch), renderer.rate).share
        new = float(10.0 * np.log10(max(share, 1e-12)))
    tone = after.tone(stretch)
    mid, side = tone.total("mid"), tone.total("side")
    return TriedValue(
        value,
        solved,
        level,
        figures.crest,
        figures.true_peak + gain,
        -shift,
        100.0 * side / max(mid + side, 1e-30),
        became - was + shift,
        after.taken_by(step, stretch) if step.reduces else None,
        hits,
        new,
        1000.0 * step.make(renderer.rate).latency / renderer.rate if not step.contains_steps else 0.0,
        step.transfer() if place.name in step.bent_by and not place.part else None,
        made.note,
    )


@dataclass(frozen=True)
class Row:
    """A measure of all the values."""

    name: str
    unit: str
    texts: tuple[str, ...]
    bars: tuple[float, ...] = ()
    """0–1, where lengths tell more than figures."""


def rows(tried: Sequence[TriedValue]) -> list[Row]:
    """What the values come to, measure by measure; what is the same for all is left out."""
    found: list[Row] = []

    def add(
        name: str,
        unit: str,
        values: Sequence[Sequence[float] | None],
        digits: int = 1,
        most: float = 0.0,
        signed: bool = False,
    ) -> None:
        """One measure, or several in a line."""
        there = [v for v in values if v is not None and np.isfinite(v).all()]
        if len(there) < len(values):
            return
        texts = tuple(" · ".join(_text(v, digits, signed) for v in several) for several in there)
        if len(set(texts)) > 1:
            bars = tuple(min(1.0, several[0] / most) for several in there) if most else ()
            found.append(Row(name, unit, texts, bars))

    def of_hits(read: Callable[[TriedValue], float | None]) -> list[Sequence[float] | None]:
        values = [read(t) for t in tried]
        return [(100.0 * v,) if v is not None else None for v in values]

    add("Reduction at peaks", "dB", [(t.reduced.peaks,) if t.reduced else None for t in tried])
    add("at most · on average", "dB", [(t.reduced.most, t.reduced.mean) if t.reduced else None for t in tried])
    add("Punch kept", "%", of_hits(lambda t: t.hits.punch_kept if t.hits else None), 0, 200.0)
    add("Pumping", "%", of_hits(lambda t: t.hits.pumping if t.hits else None), 0, 100.0)
    add("Recovered before next hit", "%", of_hits(lambda t: t.recovered), 0, 100.0)
    add("Crest", "dB", [(t.crest,) for t in tried])
    add("True peak, equally loud", "dBTP", [(t.true_peak,) for t in tried])
    add("Lows · mids · highs", "dB", [[t.tone(part) for part in RANGES] for t in tried], signed=True)
    add("Side's part", "%", [(t.width,) for t in tried])
    add("New sound", "dB", [(t.new_sound,) if t.new_sound is not None else None for t in tried])
    add("Late", "ms", [(t.late,) for t in tried])
    return found


def _text(value: float, digits: int, signed: bool) -> str:
    """A figure as it is told; zero has no sign."""
    text = f"{value:{'+' if signed else ''}.{digits}f}"
    return (text.lstrip("+-") if float(text) == 0.0 else text).replace("-", "−")
