"""What is known of the sound right now: the renders behind all figures on screen."""

from __future__ import annotations

from dataclasses import dataclass, field

from gluvo.advise.step_analysis import StepAnalysis
from gluvo.compare.tones import Frozen
from gluvo.dsp.kernel import Floats
from gluvo.measure.hits import Hits
from gluvo.measure.same_song import SameSong
from gluvo.measure.spectrum import Spectrum
from gluvo.render.joint import Joint
from gluvo.render.song import Rendered
from gluvo.session.records import Section


@dataclass(frozen=True, eq=False)
class Picture:
    """What is known of the sound right now.

    After an edit each part goes on showing the sound as it was until it has been measured again; `section_current` and
    `song_current` tell whether the figures of the section and of the song are of the sound as it now is.
    """

    sound: tuple[object, ...] = ()
    """What it is of, see `Session.sound`."""
    section_render: Rendered | None = None
    song_render: Rendered | None = None
    untouched: Joint | None = None
    """The song without any step, before there is a render of it."""
    section_current: bool = False
    song_current: bool = False
    hits: Hits | None = None
    hits_step: str = ""
    levels: Floats | None = None
    """What the chosen Glue's detector reads in the section, dBFS, every 10 ms."""
    around: StepAnalysis | None = None
    """What was measured about the chosen step."""
    gains: dict[str, float] = field(default_factory=dict)
    level: float = -23.0
    """How loud all that is heard is when it is level-matched, LUFS."""
    references: tuple[Frozen, ...] = ()
    """Spectra of the references' sections that are heard against the chosen one."""
    partners: dict[str, dict[str, Section]] = field(default_factory=dict)
    """For each reference the section of its own that is heard against each of the song's, by their ids."""
    same: dict[str, SameSong] = field(default_factory=dict)
    """The references that are the same song, by their ids."""
    tone: Spectrum | None = None

    @property
    def best(self) -> Rendered | None:
        """The render that tells most of the section as it now is."""
        if self.song_current or not self.section_current:
            return self.song_render or self.section_render
        return self.section_render
