"""Targets: where loudness and peaks should end up, and whether they did."""

from __future__ import annotations

import functools
import itertools
from collections.abc import Sequence
from pathlib import Path

import msgspec
import platformdirs

from gluvo.advise.loudness_target import measured_by
from gluvo.errors import GluvoError
from gluvo.measure.figures import Figures
from gluvo.session.codec import Format
from gluvo.session.files import read_whole, reason_of, replacing
from gluvo.session.migrations import VERSION
from gluvo.session.records import Target

TARGETS: tuple[Target, ...] = (
    Target(
        name="Streaming",
        loudness=-14.0,
        true_peak=-1.0,
        tolerance=0.5,
        note="Music on demand, by albums: the loudest track of one.",
        source="AES TD1008 (2021): album normalisation, loudest track −14 LUFS, at most −1 dBTP.",
    ),
    Target(
        name="Streaming, single",
        loudness=-16.0,
        true_peak=-1.0,
        tolerance=0.5,
        note="Music on demand, track by track.",
        source="AES TD1008 (2021): track normalisation −16 LUFS, at most −1 dBTP.",
    ),
    Target(
        name="Broadcast",
        loudness=-23.0,
        true_peak=-1.0,
        tolerance=0.5,
        note="European broadcast.",
        source="EBU R 128 (2023): −23.0 LUFS ±0.5 LU, at most −1 dBTP in production.",
    ),
    Target(
        name="Broadcast, US",
        loudness=-24.0,
        true_peak=-2.0,
        tolerance=2.0,
        note="Digital television in the United States.",
        source="ATSC A/85:2013: −24 LKFS ±2, at most −2 dBTP.",
    ),
    Target(
        name="Podcast",
        loudness=-18.0,
        true_peak=-1.0,
        tolerance=2.0,
        note="Streams and files for mobile listening.",
        source="AES TD1004.1.15-10 (2015): −16 to −20 LUFS, at most −1 dBTP.",
    ),
)
"""Those that come with the program: each has figures that a public document gives. Discs, clubs and cinemas have none such
in LUFS; who wants one adds it."""

PEAK_TOLERANCE = 0.05
"""dB that a measured true peak may lie over a ceiling: interpolators differ by this much."""


MOST_BYTES = 4 << 20
"""No file of targets is larger."""


class _File(msgspec.Struct, frozen=True):
    """Targets as they are kept and exchanged."""

    targets: tuple[Target, ...] = ()
    format: str = "gluvo-targets"
    version: int = VERSION


FORMAT = Format("gluvo-targets", _File, "file of targets", unversioned=3)


def _place() -> Path:
    return Path(platformdirs.user_config_dir("gluvo", appauthor=False)) / "targets.json"


def own_targets() -> tuple[Target, ...]:
    """The user's own; none where there is no file of them. Raises `GluvoError` if it cannot be read."""
    return read_targets(_place()) if _place().exists() else ()


@functools.lru_cache(maxsize=4)
def _kept(path: Path, *_stamp: int) -> tuple[Target, ...]:
    """As `read_targets`, read once as long as the file is not written to: screens ask at every change."""
    return read_targets(path)


def all_targets() -> tuple[Target, ...]:
    """The user's own, and those that come with the program whose names they do not take."""
    try:
        stat = _place().stat()
        own = _kept(_place(), stat.st_mtime_ns, stat.st_size, stat.st_ino)
    except (GluvoError, OSError):  # told where they are edited; what comes with the program is there in any case
        own = ()
    taken = {t.name.lower() for t in own}
    return (*(t for t in TARGETS if t.name.lower() not in taken), *own)


def save_targets(targets: Sequence[Target]) -> None:
    """Keep the user's own; a file that is there and cannot be read is set aside under another name. Raises `GluvoError` if
    they cannot be written."""
    place = _place()
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        try:
            own_targets()
        except GluvoError:
            place.rename(
                next(p for n in itertools.count(1) if not (p := place.with_suffix(f".unread-{n}.json")).exists())
            )
    except OSError as error:
        raise GluvoError(f"{place} cannot be written ({reason_of(error)}).") from None
    write_targets(place, targets)


def write_targets(path: Path, targets: Sequence[Target]) -> None:
    """Write targets as JSON. Raises `WriteError` if they cannot be written."""
    with replacing(path) as file:
        file.write(FORMAT.encoded(_File(tuple(targets))))


def read_targets(path: Path) -> tuple[Target, ...]:
    """Read targets from JSON. Raises `GluvoError` with what is wrong."""
    try:
        found = FORMAT.decoded(read_whole(path, MOST_BYTES), path.name).record
    except (OSError, ValueError) as error:
        raise GluvoError(f"{path.name} cannot be read ({reason_of(error)}).") from None
    names = [t.name.strip().lower() for t in found.targets]
    if "" in names or len(set(names)) != len(names):
        raise GluvoError(f"{path.name} has two targets of the same name, or one without.")
    return found.targets


def target_named(name: str) -> Target | None:
    """A target by its name, however it is capitalised."""
    return next((t for t in all_targets() if t.name.lower() == name.strip().lower()), None)


def loudness_of(figures: Figures, target: Target) -> float:
    """How loud something is, by a target's measure."""
    return float(getattr(figures, measured_by(target).key))


def shortfalls(figures: Figures, target: Target) -> list[str]:
    """Why a piece of audio does not meet a target; nothing if it does."""
    reasons = []
    figure, level = measured_by(target), loudness_of(figures, target)
    miss = level - target.loudness
    if abs(miss) > target.tolerance:
        what = "loudness" if target.measure == "integrated" else figure.name.lower()
        reasons.append(
            f"{what} is {figure.show(level)}, {abs(miss):.1f} LU {'over' if miss > 0 else 'under'} "
            f"the target of {target.loudness:.1f} {figure.unit}"
        )
    over = figures.true_peak - target.true_peak
    if over > PEAK_TOLERANCE:
        reasons.append(
            f"true peak is {figures.true_peak:.2f} dBTP, {over:.2f} dB over the limit of {target.true_peak:.1f} dBTP"
        )
    return [reason.replace("-", "−") for reason in reasons]
