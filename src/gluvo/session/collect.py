"""A session and all audio that it needs in one folder or one zip file, which opens elsewhere as it is."""

from __future__ import annotations

import contextlib
import os
import shutil
import stat
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec
import soundfile

from gluvo.errors import AudioFileError, SessionError, WriteError
from gluvo.progress import Progress, no_progress
from gluvo.session.digests import digest_of
from gluvo.session.files import fitting, reason_of, working_folder
from gluvo.session.media import place_of
from gluvo.session.media_places import with_media
from gluvo.session.records import Media, Session, Tags
from gluvo.session.store import SUFFIX, session_bytes, write_bytes

AUDIO = "Audio"
"""The folder that the audio is put into."""
ZIP = ".zip"
PACKED = {
    "WAV": ("PCM_16", "PCM_24", "PCM_S8", "PCM_U8"),
    "WAVEX": ("PCM_16", "PCM_24"),
    "AIFF": ("PCM_16", "PCM_24", "PCM_S8"),
}
"""What FLAC holds without loss: formats and their depths, as libsndfile names them."""
DEPTHS = {"PCM_S8": "PCM_16", "PCM_U8": "PCM_16"}
BLOCK = 1 << 16


def collect(
    session: Session, folder: Path, place: Path, *, flac: bool = False, progress: Progress = no_progress
) -> Path:
    """Copy a session of a `folder` and all its audio to a `place` that is not there yet: a folder, or a zip file if it is
    called so; the session's file in it, or the zip. `flac`: plain files become FLAC where that holds them to the sample.

    Every copy is checked. Raises `SessionError` for audio that is not there or has changed, `WriteError` for what cannot be
    written, and what `progress` raises; then nothing is left.
    """
    if place.exists():
        raise WriteError(f"{place.name} is there already. Choose a name that is not taken.")
    with contextlib.ExitStack() as rest:
        try:
            place.parent.mkdir(parents=True, exist_ok=True)
            work = rest.enter_context(working_folder(place.parent, place.name))
        except OSError as error:
            raise WriteError(f"{place.parent} cannot be written to ({reason_of(error)}).") from None
        try:
            made = _gathered(session, folder, work / "all", flac, progress)
            if place.suffix.lower() == ZIP:
                return _packed(work / "all", work / "packed", place)
            (work / "all").chmod(0o777 & ~_mask())
            (work / "all").rename(place)
        except (OSError, soundfile.LibsndfileError) as error:
            raise WriteError(f"{place.name} could not be written ({reason_of(error)}). Nothing was left.") from None
        return place / made.name


def _gathered(session: Session, folder: Path, into: Path, flac: bool, progress: Progress) -> Path:
    """Everything in a folder of its own; the session's file."""
    (into / AUDIO).mkdir(parents=True)
    taken: set[str] = set()
    done: dict[str, Media] = {}
    media = [m for m in dict.fromkeys(session.media)]
    for n, one in enumerate(media):
        inside: Progress = lambda d, n=n: progress((n + d) / len(media))  # type: ignore[misc]  # noqa: E731
        source = place_of(one, folder)
        name = next(_names(Path(one.path).name, taken))
        try:
            found, _ = digest_of(source, lambda d, inside=inside: inside(0.4 * d))  # type: ignore[misc]
        except AudioFileError as error:
            raise SessionError(f"Nothing was collected. {error}") from None
        if found != one.sha256:
            raise SessionError(
                f"Nothing was collected: {source.name} has changed since it was brought in. Take it first."
            )
        path = _as_flac(source, into / AUDIO / name, inside) if flac else None
        if path is None:
            path = into / AUDIO / name
            shutil.copyfile(source, path)
        taken.add(path.name.casefold())
        digest, size = digest_of(path, lambda d, inside=inside: inside(0.8 + 0.2 * d))  # type: ignore[misc]
        if path.suffix == source.suffix and digest != one.sha256:
            raise SessionError(f"Nothing was collected: {source.name} changed while it was copied.")
        done[one.path] = msgspec.structs.replace(one, path=f"{AUDIO}/{path.name}", size=size, sha256=digest)
    moved = with_media(session, lambda media: done.get(media.path, media)).replace(
        tags=_with_cover(session, folder, into)
    )
    file = into / f"{fitting(session.name or 'Untitled', SUFFIX)}{SUFFIX}".replace("/", "-")
    write_bytes(file, session_bytes(moved))
    return file


def _with_cover(session: Session, folder: Path, into: Path) -> Tags:
    """The tags, with the picture beside the session."""
    tags = session.tags
    source = folder / tags.cover if tags.cover else None
    if source is None or not source.is_file():
        return tags
    shutil.copyfile(source, into / source.name)
    return msgspec.structs.replace(tags, cover=source.name)


def _names(name: str, taken: set[str]) -> Iterator[str]:
    stem, suffix = Path(name).stem, Path(name).suffix
    for n in range(1, len(taken) + 2):
        found = name if n == 1 else f"{stem} {n}{suffix}"
        if found.casefold() not in taken and f"{Path(found).stem}.flac".casefold() not in taken:
            yield found


def _as_flac(source: Path, path: Path, progress: Callable[[float], None]) -> Path | None:
    """A file as FLAC, checked to the sample; None where FLAC would lose something."""
    info = soundfile.info(source)
    if info.subtype not in PACKED.get(info.format, ()) or info.channels > 8:
        return None
    path = path.with_suffix(".flac")
    depth = DEPTHS.get(info.subtype, info.subtype)
    with (
        soundfile.SoundFile(source) as came,
        soundfile.SoundFile(path, "w", info.samplerate, info.channels, depth, format="FLAC") as goes,
    ):
        while len(block := came.read(BLOCK, dtype="int32", always_2d=True)):
            goes.write(block)
            progress(0.4 + 0.2 * came.tell() / max(1, info.frames))
    with soundfile.SoundFile(source) as came, soundfile.SoundFile(path) as back:
        while len(block := came.read(BLOCK, dtype="int32", always_2d=True)):
            if not (block == back.read(len(block), dtype="int32", always_2d=True)).all():
                raise SessionError(f"Nothing was collected: {source.name} could not be packed to the sample.")
            progress(0.6 + 0.2 * came.tell() / max(1, info.frames))
    return path


def _packed(folder: Path, part: Path, place: Path) -> Path:
    """A folder as a zip file; audio is not pressed any further."""
    with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as packed:
        for path in sorted(folder.rglob("*")):
            if path.is_file():
                packed.write(path, Path(place.stem) / path.relative_to(folder))
    os.link(part, place)  # never over a file that has come meanwhile
    return place


def unpacked(path: Path, into: Path, progress: Progress = no_progress) -> Path:
    """Unpack a collected session into a new folder in `into`; the session's file in it. Raises `SessionError` for what is no
    collected session, or would leave the folder; then nothing is left, and nothing that was there is touched."""
    try:
        with zipfile.ZipFile(path) as packed:
            members = [m for m in packed.infolist() if not m.is_dir()]
            sessions = [m for m in members if m.filename.endswith(SUFFIX)]
            if len(sessions) != 1:
                raise SessionError(
                    f"{path.name} is no collected session: it holds {len(sessions) or 'no'} session files."
                )
            for member in members:
                parts = Path(member.filename).parts
                if Path(member.filename).is_absolute() or ".." in parts or "\\" in member.filename or _is_link(member):
                    raise SessionError(
                        f"{path.name} has a place in it that leaves its folder ({member.filename[:80]!r})."
                    )
            size = sum(m.file_size for m in members)
            if size > shutil.disk_usage(into).free:
                raise SessionError(f"There is no room for what is in {path.name} ({size / 1e9:.1f} GB).")
            with working_folder(into, path.stem) as work:
                done = 0
                for member in members:
                    place = work / "all" / member.filename
                    place.parent.mkdir(parents=True, exist_ok=True)
                    with packed.open(member) as source, place.open("xb") as target:
                        while block := source.read(1 << 20):
                            target.write(block)
                            done += len(block)
                            progress(done / max(1, size))
                top = Path(sessions[0].filename).parent
                name = path.stem
                folder = next(
                    f for n in range(1, 10_000) if not (f := into / (name if n == 1 else f"{name} {n}")).exists()
                )
                (work / "all" / top).rename(folder)
                return folder / Path(sessions[0].filename).name
    except (zipfile.BadZipFile, OSError, NotImplementedError, RuntimeError, EOFError, ValueError) as error:
        raise SessionError(f"{path.name} cannot be unpacked ({reason_of(error)}).") from None


def _is_link(member: zipfile.ZipInfo) -> bool:
    return stat.S_ISLNK(member.external_attr >> 16)


def _mask() -> int:
    now = os.umask(0)
    os.umask(now)
    return now
