"""Outboard by file: what flows in at a step goes out between pings, and what a unit made of it comes back in step."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np
import soundfile

from gluvo.compare.print_changes import BANDS, band_powers
from gluvo.deliver.writers import write_floats
from gluvo.dsp.db import db_of, gain_of
from gluvo.dsp.warping import read_at
from gluvo.errors import AudioFileError, SessionError, WriteError
from gluvo.measure.flattops import FlatTopCounter
from gluvo.measure.loudness import SILENT, integrated
from gluvo.measure.round_trip import MOST_DRIFT, SONG, framed, round_trip
from gluvo.measure.same_song import same_song
from gluvo.measure.trace import Span, trace_of
from gluvo.progress import Progress, no_progress
from gluvo.render.plan import Node
from gluvo.render.song import Renderer
from gluvo.session.files import reason_of, refuse_own, replacing
from gluvo.session.media import media_of, place_of
from gluvo.session.records import Media, Session
from gluvo.session.sounds import Sound, header_of, read_sound, resampled
from gluvo.steps import Outboard
from gluvo.steps.outboard import as_outboard
from gluvo.steps.recorded import Return, Sent

ALIKE = 1e-4
"""The part by which both channels may differ and be called the same."""
AUDIBLE = -60.0
"""dBFS, RMS, under which what came back is called silent."""
NEAR = 0.005
"""Seconds within which the music and a ping agree on where it lies."""
PUNCH_FADE = 0.02
"""Seconds in which what was taken anew comes in and goes."""
NO_FILE = Media(path="-", size=0, sha256="0" * 64)
"""In place of a file that is not known yet, or that there is none of."""
LITTLE = 0.05
"""dB and LU that are worth a word."""


def outboard_of(session: Session, step: str) -> Outboard:
    """The Outboard of that id. Raises `SessionError` where there is none."""
    found = as_outboard(session.item(step))
    if found is None:
        raise SessionError(f"There is no Outboard called “{step}” in {session.name}.")
    return found


def flowing_in(renderer: Renderer, session: Session, step: str) -> Node:
    """What flows in at an Outboard, whether that is on or off. Raises `SessionError` where nothing does."""
    item = outboard_of(session, step)
    plan = renderer.plan(session.with_step(msgspec.structs.replace(item, on=True)))
    if step not in plan.before:
        raise SessionError(f"Nothing flows in at {item.called}: its strip, or what it is in, is muted or off.")
    return plan.before[step]


def send(
    renderer: Renderer,
    session: Session,
    step: str,
    path: Path,
    folder: Path,
    made: str,
    progress: Progress = no_progress,
) -> Session:
    """Write what flows in at an Outboard as a WAV of 32-bit floats, between pings, and have the session remember what went
    out. Raises `SessionError` and `WriteError`."""
    item = outboard_of(session, step)
    refuse_own(path, [place_of(media, folder) for media in session.media])
    node = flowing_in(renderer, session, step)
    joint = renderer.joint(node, None, lambda d: progress(0.7 * d))
    audio = np.asarray(joint.audio)
    try:
        with replacing(path) as file:
            write_floats(file, framed(audio, renderer.rate), renderer.rate)
    except (OSError, soundfile.LibsndfileError) as error:
        raise WriteError(f"{path.name} could not be written ({reason_of(error)}).") from None
    progress(0.9)
    sent = what_goes(node.key, audio, renderer.rate, made)
    sent = msgspec.structs.replace(sent, media=media_of(path, folder))
    return session.with_step(msgspec.structs.replace(item, sent=sent))


def what_goes(key: str, audio: np.ndarray, rate: int, made: str) -> Sent:
    """The record of what goes out, its file aside."""
    difference = float(np.abs(audio[:, 0] - audio[:, 1]).max(initial=0.0))
    loudness, tone = _sounds_like(audio, rate)
    return Sent(
        media=NO_FILE,
        key=key,
        rate=rate,
        frames=len(audio),
        loudness=loudness,
        tone=tone,
        mono=difference <= ALIKE * float(np.abs(audio).max(initial=0.0)),
        made=made,
    )


def bring_back(
    session: Session,
    step: str,
    path: Path,
    folder: Path,
    made: str,
    sent: np.ndarray | None = None,
    progress: Progress = no_progress,
) -> Session:
    """Lay a file that came back into an Outboard's place. `sent`: the song as it went out, (frames, 2), which it is lined up by
    where a ping is missing. Raises `AudioFileError` and `SessionError` with what is wrong with it."""
    item = outboard_of(session, step)
    if item.sent is None:
        raise SessionError(
            f"Nothing has been sent by {item.called} yet: send first, so that what comes back has its place."
        )
    media = media_of(path, folder, lambda d: progress(0.3 * d))
    header = header_of(path)
    came = read_sound(path, None, lambda d: progress(0.3 + 0.3 * d))
    found = returned(item.sent, came, header.channels == 1, sent, path.name, lambda d: progress(0.6 + 0.4 * d))
    back = msgspec.structs.replace(found, media=media, made=made)
    return session.with_step(with_return(item, back))


def with_return(item: Outboard, back: Return) -> Outboard:
    """An Outboard with what came back, as loud and the same way round as it was sent."""
    gain = round(min(24.0, max(-24.0, -back.gain)), 2)
    return msgspec.structs.replace(item, returned=back, gain=gain, invert=back.inverted, shift=0.0, on=True)


def returned(
    went: Sent, came: Sound, mono: bool, sent: np.ndarray | None, name: str, progress: Progress = no_progress
) -> Return:
    """How what came back lies against what went out; its file aside. Raises `AudioFileError` where nothing of it is there."""
    x = came.samples
    if db_of(float(np.sqrt(np.mean(x.astype(np.float64) ** 2)))) < AUDIBLE:
        raise AudioFileError(f"{name} is silent: nothing came back. Check what is connected, and its levels.")
    failed: list[str] = []
    seconds = went.frames / went.rate
    trip = round_trip(x, came.rate, seconds)
    progress(0.4)
    begins, drift, gain, inverted = (
        (trip.begins, trip.drift, trip.gain, trip.inverted) if trip else (0.0, 0.0, 0.0, False)
    )
    if trip is None or trip.pings < 2:
        same = _by_the_music(went, came, sent, lambda d: progress(0.4 + 0.4 * d))
        if trip is None and same is None:
            raise AudioFileError(
                f"Nothing of what was sent is found in {name}: neither its pings nor the music. Is it another song's?"
            )
        if trip is None and same is not None:
            begins, drift, gain, inverted = same
            failed.append("no ping: lined up by the music")
        elif same is not None and abs(same[0] - begins) < seconds * MOST_DRIFT + NEAR:
            begins, drift = same[:2]
            failed.append("a ping is missing: lined up by the music")
        else:
            failed.append("a ping is missing: how far the clocks are apart is not known")
    tops = FlatTopCounter()
    tops.push(x.astype(np.float64))
    tops.push(np.zeros((0, 2)), last=True)
    if tops.count:
        failed.append(f"clipped {tops.count} time{'' if tops.count == 1 else 's'}")
    peak = float(np.abs(x).max())
    if not went.mono and (mono or float(np.abs(x[:, 0] - x[:, 1]).max()) <= ALIKE * peak):
        failed.append("mono came back")
    elif float(np.abs(x).max(axis=0).min()) < 1e-3 * peak:
        failed.append("one channel came back silent")
    short = seconds - (came.seconds - begins) / (1.0 + drift * 1e-6)
    if short > 0.01:
        failed.append(f"ends {short:.1f} s before the song does")
    if begins < -0.01:
        failed.append(f"began {-begins:.1f} s after the song did")
    progress(1.0)
    return Return(
        media=NO_FILE,
        sent=went,
        begins=round(float(begins), 9),
        drift=round(float(drift), 4) if abs(drift) >= 0.01 else 0.0,
        gain=round(float(gain), 2),
        inverted=inverted,
        noise=round(float(trip.noise), 1) if trip is not None and trip.noise is not None else None,
        failed=tuple(failed),
    )


def punched(
    there: np.ndarray, was: Return, came: np.ndarray, new: Return, span: Span, first: int, rate: int
) -> np.ndarray:
    """What came back before, laid into the song (frames, 2), with a stretch of it taken anew, as loud and the same way round.
    `came`: what was recorded of the song from its frame `first` on."""
    whole = np.array(there, dtype=np.float32)
    a, b = round(span.start * rate), min(len(whole), round(span.end * rate))
    fade = min(round(PUNCH_FADE * rate), (b - a) // 2)
    start = new.begins * rate + (a - first) * (1.0 + new.drift * 1e-6)
    part = read_at(came, start, 1.0 + new.drift * 1e-6, b - a).astype(np.float64)
    part *= gain_of(was.gain - new.gain) * (-1.0 if was.inverted is not new.inverted else 1.0)
    share = np.ones(b - a)
    if fade:
        up = np.sin(0.5 * np.pi * (np.arange(fade) + 0.5) / fade) ** 2
        share[:fade], share[-fade:] = up, up[::-1]
    whole[a:b] = (1.0 - share)[:, None] * whole[a:b] + share[:, None] * part
    return whole


@dataclass(frozen=True)
class Stale:
    """How what flows in now is another sound than what went out."""

    words: str


def stale(
    renderer: Renderer, session: Session, step: str, folder: Path, progress: Progress = no_progress
) -> Stale | None:
    """What has become of the sound since it was sent; None where it is the same."""
    item = outboard_of(session, step)
    went = item.returned.sent if item.returned is not None else item.sent
    if went is None:
        return None
    node = flowing_in(renderer, session, step)
    if node.key == went.key:
        return None
    now = np.asarray(renderer.joint(node, None, lambda d: progress(0.6 * d)).audio)
    told = []
    loudness, tone = _sounds_like(now, renderer.rate)
    if min(loudness, went.loudness) > SILENT and abs(change := loudness - went.loudness) >= LITTLE:
        told.append(f"{abs(change):.1f} LU {'louder' if change > 0 else 'softer'}")
    by_band = [
        (b - a - (loudness - went.loudness), band) for a, b, (band, _, _) in zip(went.tone, tone, BANDS, strict=False)
    ]
    strongest = max(by_band, key=lambda pair: abs(pair[0]), default=(0.0, ""))
    if abs(strongest[0]) >= 10 * LITTLE:
        told.append(f"{strongest[1]} {strongest[0]:+.1f} dB".replace("-", "−"))
    if len(now) != went.frames:
        told.append("of another length")
    difference = _difference(now, went, renderer.rate, folder)
    progress(1.0)
    if difference is not None:
        if difference < -120.0:
            return None
        told.append(
            f"the difference lies {difference:.0f} dB under it".replace("-", "") if difference < 0 else "another sound"
        )
    return Stale(", ".join(told) or "so little that it is not measured")


def _difference(now: np.ndarray, went: Sent, rate: int, folder: Path) -> float | None:
    """dB by which what flows in now differs from what went out, against that; None where that file is gone."""
    try:
        file = read_sound(place_of(went.media, folder))
    except (AudioFileError, OSError):
        return None
    first = round(SONG * went.rate)
    then = file.samples[first : first + went.frames].astype(np.float64)
    if file.rate != rate or len(then) != went.frames:
        return None
    n = min(len(now), len(then))
    power = float(np.mean(then[:n] ** 2))
    return 10.0 * float(np.log10(max(float(np.mean((now[:n] - then[:n]) ** 2)), 1e-30) / max(power, 1e-30)))


def _by_the_music(
    went: Sent, came: Sound, sent: np.ndarray | None, progress: Progress
) -> tuple[float, float, float, bool] | None:
    """Where the song begins, its drift, gain and polarity, found by the music itself."""
    if sent is None:
        return None
    heard = came if came.rate == went.rate else Sound(resampled(came.samples, came.rate, went.rate), went.rate)
    same = same_song(np.asarray(sent), heard.samples, went.rate, progress)
    if same is None:
        return None
    return same.seconds, same.slower * 1e6, same.gain, same.inverted


def _sounds_like(audio: np.ndarray, rate: int) -> tuple[float, tuple[float, ...]]:
    """Loudness in LUFS, and power in each of the ranges that tone is told by, dB."""
    tone = (round(10.0 * float(np.log10(max(power, 1e-20))), 3) for power in band_powers(audio, rate))
    return round(float(integrated(trace_of(audio, rate))), 3), tuple(tone)
