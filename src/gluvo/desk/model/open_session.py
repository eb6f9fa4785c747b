"""The session that is open, and what is known of it: the state that all screens show, and how it is edited."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Unpack

import msgspec
from PySide6.QtCore import QObject, Signal

from gluvo.advise.hold import holds
from gluvo.desk.model.said import Said
from gluvo.errors import SessionError
from gluvo.measure.trace import Span
from gluvo.opened.audio import OpenAudio
from gluvo.opened.picture import Picture
from gluvo.render.song import Renderer
from gluvo.session.by_section import with_sections
from gluvo.session.document import Document
from gluvo.session.presets import held_in
from gluvo.session.records import Section, Session, ViewChanges, ViewPart
from gluvo.steps import ChainItem, Step


class OpenSession(QObject):
    """One open session at a time. Screens read its state here and edit it here; what happens besides follows from that."""

    session_changed = Signal(object, object)
    """Before and now; both are sessions."""
    audio_changed = Signal()
    picture_changed = Signal()
    saved_changed = Signal()
    """Whether it is saved, or whose it is to change, without any change in it."""
    refused = Signal()
    """An edit could not be made: what a control shows of it already is to be taken back."""
    values_wanted = Signal(object)
    """Values of a setting, a `SettingPlace`, are to be tried."""
    told = Signal(object)
    """A sentence for the user, a `Said`."""

    def __init__(self) -> None:
        super().__init__()
        self.document = Document(Session(), Path.cwd() / "Untitled.gluvo", saved=True)
        self.audio = OpenAudio()
        self.picture = Picture()
        self.renderer: Renderer | None = None
        """Renders the open session; None while there is no audio."""
        self.generation = 0
        """Another number for each session that is opened: what was begun for one before is not taken in."""

    @property
    def session(self) -> Session:
        return self.document.session

    @property
    def span(self) -> Span | None:
        """The chosen section's span; None for the whole song."""
        section = self.session.section(self.session.view.section)
        return Span(section.start, section.end) if section else None

    @property
    def span_name(self) -> str:
        section = self.session.section(self.session.view.section)
        return section.name if section else "whole song"

    def show_picture(self, picture: Picture) -> None:
        """More is known of the sound."""
        self.picture = picture
        self.picture_changed.emit()

    # --- sentences -----------------------------------------------------------------------------------------

    def tell(self, text: str, trouble: bool) -> None:
        """A sentence for the user, and whether it tells of trouble."""
        self.told.emit(Said(text, trouble))

    def refuse(self, text: str, act: str = "", then: Callable[[], object] | None = None) -> None:
        """Tell why something that was asked for cannot be, and what can be done about it; once the session is another one,
        it goes. What is found for held settings does not make it another one."""
        mine, asked = self.generation, self.document.place_in_history

        def solved() -> bool:
            return mine != self.generation or self.document.place_in_history != asked

        self.told.emit(Said(text, True, act, then, solved))

    # --- edits ---------------------------------------------------------------------------------------------

    def edit(self, action: str, edit: Callable[[Session], Session], together: str | None = None) -> bool:
        """A named change of the session; see `Document.edit`. What cannot be is told, and changes nothing."""
        try:
            self.document.edit(action, edit, together)
        except SessionError as error:
            self.refuse(str(error))
            self.refused.emit()
            return False
        return True

    def keep(self, edit: Callable[[Session], Session]) -> bool:
        """A change that undo does not take back; see `Document.keep`. What cannot be is told, and changes nothing."""
        try:
            self.document.keep(edit)
        except SessionError as error:
            self.refuse(str(error))
            return False
        return True

    def settle(self) -> None:
        """A gesture has ended: what follows is an action of its own."""
        self.document.settle()

    def set_sections(self, action: str, sections: Sequence[Section]) -> bool:
        """Give the song other sections; what is lost with those that are gone is told."""
        found, lost = with_sections(self.session, sections)
        if not self.edit(action, lambda _: found):
            return False
        if lost:
            self.tell(f"{' '.join(lost)} Undo brings it back.", False)
        return True

    def put_in(self, step: ChainItem, strip: str, after: str = "", inside: str = "") -> str:
        """Put a step or container into a chain, see `Session.with_new_step`; its id, or nothing where it cannot be. What it
        holds is found in the chosen section."""
        known = {item.id for item in self.session.items}
        made = held_in(step, self.session.view.section)
        self.edit(f"Add {step.title}", lambda s: s.with_new_step(made, strip, after, inside))
        return next((item.id for item in self.session.items if item.id not in known), "")

    def set_setting(self, step_id: str, name: str, value: object, label: str) -> None:
        """Change one setting of a step or lane. What the user sets by hand is no longer held."""
        step = self.session.item(step_id)
        if step is None:
            return
        changes: dict[str, object] = {name: value, **step.by_hand.get(name, {})}
        if solved := step.solved_settings.get(name):
            changes[solved.switch] = False
        said = ""
        if value and (held := step.switches().get(name)):
            if not holds(step):
                changes["held_in"] = self.session.view.section
            step, said = step.readied(held)
        changed = msgspec.structs.replace(step, **changes)
        if self.edit(f"{step.title} {label.lower()}", lambda s: s.with_step(changed), f"{step_id}.{name}") and said:
            self.tell(said, False)

    def hold_here(self, step_id: str) -> None:
        """Find the held settings of a step in the chosen section from now on."""
        step, section = self.session.item(step_id), self.session.view.section
        if step is not None:
            changed = msgspec.structs.replace(step, held_in=section)
            self.edit(f"Hold {step.title} in {self.span_name}", lambda s: s.with_step(changed))

    def held_name(self, step: Step) -> str:
        """The name of what the held settings of a step are found in."""
        section = self.session.section(step.held_in)
        return section.name if section is not None else "whole song"

    def set_strip(self, strip_id: str, name: str, value: object, label: str) -> None:
        """Change a fader, pan, switch or name of a strip."""
        strip = self.session.strip(strip_id)
        if strip is not None:
            changed = msgspec.structs.replace(strip, **{name: value})
            self.edit(f"{strip.name} {label.lower()}", lambda s: s.with_strip(changed), f"{strip_id}.{name}")

    # --- looking -------------------------------------------------------------------------------------------

    def look(self, **changes: Unpack[ViewChanges]) -> None:
        """Look or listen elsewhere; nothing to undo. See `View`."""
        self.document.look(**changes)

    def adjust(self, part: ViewPart, /, **changes: object) -> None:
        """Change settings of a part of the view that has its own, such as the analyser; by their declared names."""
        changed = msgspec.structs.replace(getattr(self.session.view, part), **changes)
        self.document.look(**{part: changed})

    def choose_strip(self, strip_id: str) -> None:
        """Look at a strip's chain, at its first step."""
        strip = self.session.strip(strip_id)
        if strip is not None and strip_id != self.session.view.strip:
            self.document.look(strip=strip_id, step=strip.chain[0].id if strip.chain else "")

    def solo(self, id: str) -> None:
        """Hear a strip or a lane alone, or no longer."""
        now = self.session.view.solo
        self.document.look(solo=tuple(i for i in now if i != id) if id in now else (*now, id))
