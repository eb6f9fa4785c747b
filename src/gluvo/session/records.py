"""What a session is made of: frozen records, saved as they are."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Literal

import msgspec
from msgspec import Meta, Struct

from gluvo.steps import AnyStep

VERSION = 1

Seconds = Annotated[float, Meta(ge=0.0)]


class Media(Struct, frozen=True, kw_only=True):
    """An audio file, referred to by its place, size and content."""

    path: str
    """Relative to the session's folder, or absolute where it lies elsewhere; with forward slashes."""
    size: Annotated[int, Meta(ge=0)]
    sha256: Annotated[str, Meta(pattern="^[0-9a-f]{64}$")]


class Reference(Struct, frozen=True, kw_only=True):
    """A finished track to compare with."""

    id: str
    name: str
    media: Media


class Section(Struct, frozen=True, kw_only=True):
    """A named span of the song, in seconds."""

    id: str
    name: str
    start: Seconds
    end: Seconds


class Target(Struct, frozen=True, kw_only=True):
    """Where loudness and peaks should end up."""

    name: str
    loudness: Annotated[float, Meta(ge=-40.0, le=0.0)]
    """LUFS, integrated over the whole song."""
    true_peak: Annotated[float, Meta(ge=-12.0, le=0.0)]
    """dBTP, at most."""
    tolerance: Annotated[float, Meta(ge=0.0, le=5.0)] = 0.5
    """LU to either side that still meet the loudness."""


class Deliverable(Struct, frozen=True, kw_only=True):
    """A file to be written."""

    id: str
    name: str
    format: Literal["wav", "flac"] = "wav"
    bits: Literal["16", "24", "32f"] = "24"
    rate: Literal[0, 44100, 48000, 88200, 96000] = 0
    """Hz; 0 keeps the session's rate."""
    dither: Literal["none", "tpdf"] = "none"


class View(Struct, frozen=True, kw_only=True):
    """What is chosen on screen and in the ear. Not part of undo."""

    page: Literal["shape", "deliver"] = "shape"
    step: str = ""
    section: str = ""
    """A section's id; empty for the whole song."""
    loop: bool = False
    hear: str = "result"
    level_matched: bool = True
    monitor: Literal["stereo", "mid", "side", "left", "right", "mono"] = "stereo"
    output_level: Annotated[float, Meta(ge=-60.0, le=0.0)] = 0.0
    dim: bool = False
    position: Seconds = 0.0


class Session(Struct, frozen=True, kw_only=True):
    """Everything that is kept of the work on one song."""

    format: Literal["gluvo-session"] = "gluvo-session"
    version: Annotated[int, Meta(ge=1)] = VERSION
    name: str = "Untitled"
    sources: tuple[Media, ...] = ()
    """The stereo mix, or stems of it, which are summed."""
    references: tuple[Reference, ...] = ()
    sections: tuple[Section, ...] = ()
    chain: tuple[AnyStep, ...] = ()
    target: Target = Target(name="Streaming", loudness=-14.0, true_peak=-1.0)
    deliverables: tuple[Deliverable, ...] = ()
    view: View = View()

    def step(self, id: str) -> AnyStep | None:
        return next((step for step in self.chain if step.id == id), None)

    def section(self, id: str) -> Section | None:
        return next((section for section in self.sections if section.id == id), None)

    def with_step(self, step: AnyStep) -> Session:
        """The step of that id replaced."""
        return self._with_chain(tuple(step if s.id == step.id else s for s in self.chain))

    def with_new_step(self, step: AnyStep, index: int) -> Session:
        """A step put in before `index`; it gets an id of its own."""
        step = msgspec.structs.replace(step, id=self.fresh_id(type(step).__name__.lower()))
        return self._with_chain((*self.chain[:index], step, *self.chain[index:]))

    def without_step(self, id: str) -> Session:
        return self._with_chain(tuple(s for s in self.chain if s.id != id))

    def with_step_at(self, id: str, index: int) -> Session:
        """The step moved, so that it stands at `index` among the others."""
        rest = [s for s in self.chain if s.id != id]
        rest[index:index] = [s for s in self.chain if s.id == id]
        return self._with_chain(tuple(rest))

    def replace(self, **changes: object) -> Session:
        return msgspec.structs.replace(self, **changes)

    def looking(self, **changes: object) -> Session:
        """With some of the view changed."""
        return self.replace(view=msgspec.structs.replace(self.view, **changes))

    def fresh_id(self, stem: str) -> str:
        """An id that nothing in the session has yet."""
        records: tuple[Struct, ...] = (*self.references, *self.sections, *self.chain, *self.deliverables)
        taken = {getattr(record, "id", "") for record in records}
        return next(f"{stem}-{n}" for n in range(1, len(taken) + 2) if f"{stem}-{n}" not in taken)

    def _with_chain(self, chain: tuple[AnyStep, ...]) -> Session:
        return self.replace(chain=chain)


SessionEdit = Callable[[Session], Session]
