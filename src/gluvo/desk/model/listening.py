"""What is heard: the engine, what of the song or beside it plays, where it goes round, and how it is monitored."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from gluvo.compare.hearables import IN_THE_SONG, PRINTS, VERSIONS, Hearable, TimeMap, hearables, in_order
from gluvo.compare.match import RESULT
from gluvo.compare.references import same_time_map, time_map
from gluvo.desk.model.open_session import OpenSession
from gluvo.errors import GluvoError
from gluvo.measure.trace import Span
from gluvo.opened.audio import ExtraSound, OpenAudio
from gluvo.play.engine import Monitoring
from gluvo.play.process import Host
from gluvo.play.remote import RemoteEngine
from gluvo.session.media import Material
from gluvo.session.records import Section, Session
from gluvo.session.sounds import Sound

BEFORE, AFTER = 0.5, 1.0
"""Seconds around a place that is looped."""


class Listening:
    """Steers the engine by the view of the open session, and holds what can be heard besides the song."""

    def __init__(self, bench: OpenSession, host: Host | None, device_choice: str, ready: Callable[[str], bool]) -> None:
        """`host`: the process that plays, if it has been started already. `ready` tells whether something can be heard at
        once; what cannot, it has made and then heard."""
        self._bench, self._host, self._ready = bench, host or Host(), ready
        self.device_choice = device_choice
        self.engine: RemoteEngine | None = None
        self.extras: dict[str, ExtraSound] = {}
        """What can be heard besides the song and its references, by the ids of the Hear row."""
        self.passing: Span | None = None
        """A moment that is looped in place of the section, until another section is chosen."""
        self.looped: Span | None = None
        """What goes round: the chosen section, for as long as what is heard of it lasts."""
        self.range: tuple[float, float] | None = None
        """Hz from and to, while only a range is heard."""
        self.blind = ""
        """What is heard in a blind trial."""
        self._blind_gain: float | None = None
        self._hunted: Session | None = None
        self._hunted_gain: float | None = None
        self._times: dict[str, TimeMap] = {}
        """When the engine plays what of each reference."""

    # --- the engine ----------------------------------------------------------------------------------------

    def open(self, audio: OpenAudio, position: float, playing: bool) -> None:
        """Play some audio from now on."""
        assert audio.material is not None
        session = self._bench.session
        try:
            self.engine = RemoteEngine(self._host, audio.material, audio.references, session, self.device_choice)
        except GluvoError as error:
            self._bench.tell(str(error), True)
            return
        for id, made in self.extras.items():
            self.engine.add_sound(id, made.sound, made.hearable.time)
        self._times.clear()
        self.follow_times()
        self.engine.seek(position)
        self.follow_loop()
        self.follow_monitoring()
        if playing:
            self.engine.play()

    def play_instead(self, material: Material, session: Session) -> RemoteEngine | None:
        """Play other audio for the same strips until `open` is called again, such as what comes in at an input; the engine, if
        there can be one."""
        self.close()
        try:
            self.engine = RemoteEngine(self._host, material, {}, session, self.device_choice)
        except GluvoError as error:
            self._bench.tell(str(error), True)
            return None
        self.follow_monitoring()
        return self.engine

    def exchange(self, before: Mapping[str, Sound], now: Mapping[str, Sound]) -> None:
        """Give the engine the references that can be heard now, and take from it those that cannot; it plays on."""
        assert self.engine is not None
        for id in set(before) - set(now):
            self.engine.drop_sound(id)
            self._times.pop(id, None)
        for id, sound in now.items():
            if before.get(id) is not sound:
                self._times.pop(id, None)
        self.follow_times()

    def close(self) -> None:
        """Play nothing any more."""
        if self.engine is not None:
            self.engine.close()
            self.engine = None

    def forget(self) -> None:
        """Another session is opened: what was heard beside the one before goes."""
        self.close()
        self.extras.clear()
        self.passing = None

    def end(self) -> None:
        """End the process that plays."""
        self.close()
        self._host.close()
        self.extras.clear()

    def choose_device(self, name: str) -> None:
        """Play to another device from now on."""
        self.device_choice = name
        if self.engine is not None:
            self.engine.choose_device(name)

    def toggle_play(self) -> None:
        if self.engine is not None:
            if self.engine.playing:
                self.engine.stop()
            else:
                self.engine.play()

    def seek(self, seconds: float) -> None:
        if self.engine is not None:
            self.engine.seek(seconds)
        self._bench.look(position=max(0.0, seconds))

    # --- what is heard -------------------------------------------------------------------------------------

    def hear(self, path: str) -> None:
        """Choose what is heard, by the id of a hearable."""
        now = self._bench.session.view.hear
        if path != now and self._ready(path):
            self._bench.look(hear=path, heard=now)

    def hear_again(self) -> None:
        """Hear what was heard before, if it is there yet; again for what is heard now."""
        before = self._bench.session.view.heard
        self.hear(before if any(h.id == before for h in self.hearables()) else RESULT)

    def hear_next(self, by: int) -> None:
        """Hear the next in the Hear row, or one before; round and round."""
        ids = [h.id for h in self.hearables()]
        now = self._bench.session.view.hear
        self.hear(ids[(ids.index(now) + by) % len(ids)] if now in ids else ids[0])

    def hear_what_is_there(self) -> None:
        """Go back to the result where what was heard is gone, or is nothing that the chosen step has."""
        session = self._bench.session
        hear = session.view.hear
        there = {h.id for h in IN_THE_SONG if h.there(session)} | {r.id for r in session.references}
        there |= {h.id for h in hearables(session, ()) if h.group in (VERSIONS, PRINTS)}
        there |= {id for id, made in self.extras.items() if made.hearable.group not in (VERSIONS, PRINTS)}
        if hear not in there:
            self._bench.look(hear=RESULT)

    def hear_blind(self, id: str, gain: float | None = None) -> None:
        """Hear something, level-matched (or with a gain in dB against the result), without anything on screen telling what;
        empty to hear openly again."""
        self.blind, self._blind_gain = id, gain
        self.follow_monitoring()

    def add_hidden(self, id: str, sound: Sound, time: TimeMap) -> None:
        """Have a sound that can be heard blind alone, and that no row lists."""
        if self.engine is not None:
            self.engine.add_sound(id, sound, time)

    def drop_hidden(self, id: str) -> None:
        """Let such a sound go."""
        if self.engine is not None:
            self.engine.drop_sound(id)

    def hear_range(self, heard: tuple[float, float] | None) -> None:
        """Hear one range of what plays, from and to in Hz, or all of it again; nothing of that is kept."""
        if heard != self.range:
            self.range = heard
            self.follow_monitoring()

    def hunt(self, session: Session | None, gain: float | None = None) -> None:
        """Play a session in place of the open one, no louder than that gets, or with a gain in dB that makes them equal;
        None ends it. Nothing of it is kept."""
        begins = (session is None) is not (self._hunted is None) or gain != self._hunted_gain
        self._hunted, self._hunted_gain = session, gain
        if self.engine is not None:
            self.engine.change(self._bench.session if session is None else session)
        if begins:
            self.follow_monitoring()

    @property
    def hunting(self) -> bool:
        """Whether something else is played in place of the open session."""
        return self._hunted is not None

    # --- what can be heard ---------------------------------------------------------------------------------

    def hearables(self) -> list[Hearable]:
        """What the Hear row offers, in the order of the keys 1–9."""
        bench = self._bench
        found = [*hearables(bench.session, bench.audio.references), *(made.hearable for made in self.extras.values())]
        return in_order((h for h in found if h.listed), bench.session.view.pins)

    def hear_choices(self) -> list[tuple[str, str]]:
        """What the Hear row offers: path and name, in the order of the keys 1–9."""
        return [(h.id, h.name) for h in self.hearables()]

    def pin(self, id: str) -> None:
        """Give something that can be heard a place of its own in the Hear row, or take it back."""
        pins = self._bench.session.view.pins
        self._bench.look(pins=tuple(p for p in pins if p != id) if id in pins else (*pins, id))

    def add_extra(self, made: ExtraSound) -> None:
        """Have a sound in the Hear row; one of the same id is replaced. It plays on."""
        id = made.hearable.id
        self.extras[id] = made
        if self.engine is not None:
            try:
                self.engine.add_sound(id, made.sound, made.hearable.time)
            except GluvoError as error:
                self._bench.tell(str(error), True)
        self._bench.audio_changed.emit()

    def drop_extra(self, id: str) -> None:
        """Take a sound from the Hear row."""
        if self.extras.pop(id, None) is None:
            return
        if self._bench.session.view.hear == id:
            self._bench.look(hear=RESULT)
        if self.engine is not None:
            self.engine.drop_sound(id)
        self._bench.audio_changed.emit()

    def partner(self, id: str) -> Section | None:
        """The section of a reference that is heard against the chosen one; None for all of it."""
        return self._bench.picture.partners.get(id, {}).get(self._bench.session.view.section)

    # --- the loop ------------------------------------------------------------------------------------------

    def loop_span(self, span: Span | None) -> None:
        """Loop a moment in place of the section, and play it; None goes on without."""
        self.passing = span
        self.follow_loop()
        if span is not None and self.engine is not None:
            self.seek(span.start)
            self.engine.play()

    def loop_place(self, seconds: float) -> None:
        """Play a moment around a place again and again; the same place once more goes on from there."""
        span = Span(max(0.0, seconds - BEFORE), seconds + AFTER)
        self.loop_span(None if self.passing == span else span)

    # --- what follows from the session and the picture -----------------------------------------------------

    def follow_chain(self) -> None:
        """The chains are others, or the step and the strips of which something is heard alone."""
        if self.engine is not None:
            self.engine.change(self._bench.session)

    def follow_section(self) -> None:
        """The section is another, or whether it goes round: a moment that was looped is over."""
        self.passing = None
        self.follow_times()
        self.follow_loop()

    def follow_times(self) -> None:
        """Let the engine know what of each reference is heard in which section."""
        if self.engine is None:
            return
        session, partners = self._bench.session, self._bench.picture.partners
        for id, sound in self._bench.audio.references.items():
            same = self._bench.picture.same.get(id)
            if same is not None:
                time = same_time_map(same, len(sound.samples) / sound.rate)
            else:
                time = time_map(session.sections, partners.get(id, {}), session.view.section)
            if self._times.get(id) == time:
                continue
            try:
                self.engine.add_sound(id, sound, time)
            except GluvoError as error:
                self._bench.tell(str(error), True)
            self._times[id] = time

    def follow_loop(self) -> None:
        """Loop what is to go round."""
        bench, engine = self._bench, self.engine
        if engine is None or bench.audio.material is None:
            return
        if self.passing is not None:
            self.looped = None
            engine.loop(self.passing.start, self.passing.end)
        elif bench.session.view.loop:
            span = bench.span or Span(0.0, bench.audio.material.seconds)
            part = self.partner(bench.session.view.hear)  # a reference goes round with its own length
            end = span.end if part is None else span.start + part.end - part.start
            before, self.looped = self.looped, Span(span.start, end)
            engine.loop(self.looped.start, self.looped.end)
            at = engine.position
            if before is not None and before.start == span.start and self.looped.end <= at < before.end:
                engine.seek(span.start + (at - span.start) % self.looped.seconds)  # it was inside, and stays so
        else:
            self.looped = None
            engine.no_loop()

    def follow_monitoring(self) -> None:
        """Tell the engine what is heard, how loud, and by which view."""
        if self.engine is None:
            return
        view, picture = self._bench.session.view, self._bench.picture
        gains = picture.gains if view.level_matched or self.blind else {}
        path, ceiling = self.blind or view.hear, 0.0
        if self.blind and self._blind_gain is not None:
            gains = {**gains, self.blind: gains.get(RESULT, 0.0) + self._blind_gain}
        if self._hunted is not None:
            path = RESULT
            if self._hunted_gain is None:
                ceiling = min(0.0, self._highest() + gains.get(RESULT, 0.0))
            else:
                gains = {**gains, RESULT: gains.get(RESULT, 0.0) + self._hunted_gain}
        self.engine.listen(
            Monitoring(
                path,
                gains,
                view.monitor,
                view.output_level,
                view.dim,
                view.road,
                picture.level,
                self.range,
                ceiling,
            )
        )

    def _highest(self) -> float:
        """The highest sample of the result in the section, dBFS; full scale where it is not known."""
        render = self._bench.picture.best
        return render.result.figures(self._bench.span).sample_peak if render is not None else 0.0
