"""Everything that can be done, as records: the menus, the page of keys and the finder read them.

A new action is a record in `ACTIONS`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Protocol

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from gluvo.compare.hearables import IN_THE_SONG
from gluvo.compare.match import ALTERNATIVES, DETECTOR, RESULT, UP_TO, WET
from gluvo.compare.monitor import MONITORS
from gluvo.compare.road import ROADS
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.theme import theme
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.eq.band_edits import BandEdits
from gluvo.desk.editors.eq.editor import EqEditor
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.buses import BusesPage
from gluvo.desk.pages.by_section_dialogs import lift
from gluvo.desk.pages.compare.page import ComparePage
from gluvo.desk.pages.deliver.page import DeliverPage
from gluvo.desk.pages.notes_dialog import NotesDialog
from gluvo.desk.pages.registry import PAGES
from gluvo.desk.pages.shape import ShapePage
from gluvo.desk.window.audio_files import AudioFiles
from gluvo.desk.window.hear_list import LOOPS
from gluvo.desk.window.hear_row import HearRow
from gluvo.desk.window.song_sections import SongSections
from gluvo.desk.window.timeline import Timeline
from gluvo.measure.loudness import LOUDEST_SECONDS
from gluvo.measure.trace import Span
from gluvo.session import chains
from gluvo.session.by_section import gain_of, split_off
from gluvo.session.records import MIX
from gluvo.steps import Step


class Desk(Protocol):
    """What actions are done on: a window."""

    bench: Workbench
    settings: QSettings
    buses: BusesPage
    shape: ShapePage
    compare: ComparePage
    deliver: DeliverPage
    timeline: Timeline
    hear_row: HearRow
    audio_files: AudioFiles
    sections: SongSections

    def ask(self, what: str) -> None:
        """Ask the user for a file or a value, and do what is to be done with it; see `asking.QUESTIONS`."""

    def save(self, *, elsewhere: bool = False) -> None: ...
    def open_demo(self) -> None: ...
    def find_action(self, *, keys: bool = False) -> None: ...
    def leave(self) -> None: ...
    def close(self) -> bool: ...
    def show_meters(self) -> None: ...
    def try_loudness(self) -> None: ...
    def draft(self) -> None: ...
    def show_prints(self) -> object: ...
    def show_album(self) -> object: ...
    def take_pass(self) -> object: ...
    def show_notes(self) -> NotesDialog: ...
    def lift_sections(self) -> None: ...
    def where_it_works(self) -> None: ...
    def sum_moves(self) -> None: ...
    def practise(self) -> None: ...
    def loudness_bias(self) -> None: ...
    def what_is_this(self) -> None: ...
    def tour_on(self) -> None: ...
    def toggle_full_screen(self) -> None: ...
    def next_pane(self, by: int) -> None: ...
    def to_editor(self) -> None: ...


@dataclass(frozen=True)
class Action:
    """Something that can be done, with its place in the menus."""

    menu: str
    """The menu's title; “ › ” goes into a menu inside it."""
    text: str
    key: str
    do: Callable[[Desk], object]
    tip: str = ""
    rule: bool = False
    """Whether a line stands before it in its menu."""
    always: bool = False
    """Whether it can be done without a session."""
    is_chosen: Callable[[Desk], bool] | None = None
    """For one of several of which one is chosen."""
    once: bool = False
    """Whether a key that is held down does it only once."""
    hidden: bool = False
    """Whether it has a key alone, and no line in the menu."""


MENUS = ("File", "Edit", "Chain", "Buses", "Listen", "Song", "View", "Help")
BANDS = "Chain › Band of the Mid-side EQ"


def _of_eq(act: Callable[[EqEditor], object]) -> Callable[[Desk], None]:
    """Done if an equaliser is looked at."""

    def run(desk: Desk) -> None:
        editor = desk.shape.editor
        if isinstance(editor, EqEditor) and desk.bench.session.view.page == "shape":
            act(editor)

    return run


def _of_band(act: Callable[[BandEdits, int], object]) -> Callable[[Desk], None]:
    return _of_eq(lambda editor: act(editor.bands, editor.bands.chosen.id) if editor.bands.chosen is not None else None)


def _hear(n: int, desk: Desk) -> None:
    choices = desk.bench.listening.hear_choices()
    if n <= len(choices):
        desk.hear_row.momentary.press(n, choices[n - 1][0])


def _try_values(desk: Desk) -> None:
    """Of the control that has the focus; else of the first ruler of the step that is shown."""
    at = QApplication.focusWidget()
    while at is not None and getattr(at, "try_values", None) is None:
        at = at.parentWidget()
    if at is None and isinstance(desk.shape.editor, StepEditor):
        leading = [desk.shape.editor.controls.get(name) for name in desk.shape.editor.kind.leading]
        at = next((c for c in leading if isinstance(c, Ruler) and c.setting.group != "Aim"), None)
    if at is None:
        desk.bench.refuse("There is no setting here to be tried. Choose a step, and give one of its rulers the focus.")
    else:
        at.try_values()  # type: ignore[attr-defined]


def _lift_by(by: float, desk: Desk) -> None:
    bench = desk.bench
    strip, section = bench.session.strip(bench.session.view.strip), bench.session.view.section
    if not section or strip is None:
        bench.refuse("Choose a section first: its level is what is lifted.")
    else:
        lift(bench, section, gain_of(strip, section) + by)


def _split_off(desk: Desk) -> None:
    bench = desk.bench
    section, step = bench.session.section(bench.session.view.section), bench.session.item(bench.session.view.step)
    if section is None or step is None:
        bench.refuse("Choose a step and a section first: there it gets a setting of its own.")
        return
    made, id = split_off(bench.session, step.id, section.id)
    if not id:
        bench.refuse(f"This {step.title} works in {section.name} alone: set it as it should be there.")
    elif bench.edit(f"{step.title} of its own in {section.name}", lambda _: made):
        bench.look(step=id)
        bench.tell(
            f"This {step.title} works in {section.name} alone, in place of the other one. Set it as you like.", False
        )


def _mark(desk: Desk) -> None:
    if desk.bench.session.view.page == "buses" and not desk.buses.ledger.list.hasFocus():
        desk.buses.tree.mark()
    else:
        desk.shape.ledger.mark()


def rank_alternatives(desk: Desk) -> None:
    """Put all alternatives that are at hand into a blind trial."""
    found = desk.bench.side_by_side.found
    if found is None:
        desk.bench.side_by_side.next()  # tells that there are none
        return
    desk.bench.look(page="compare")
    desk.compare.show_panel("trial")
    desk.compare.trial.rank(ALTERNATIVES[: len(found.settings)])


def _hear_or_result(path: str, desk: Desk) -> None:
    """Hear something that the chosen step has; the result again, if it is heard."""
    bench, hearable = desk.bench, next(h for h in IN_THE_SONG if h.id == path)
    if not hearable.there(bench.session):
        bench.refuse("The chosen step has no Mix and is no lane: there is no wet path alone. Choose one that has.")
        return
    bench.listening.hear(RESULT if bench.session.view.hear == path else path)


def _hear_detector(desk: Desk) -> None:
    bench = desk.bench
    step: Step | None = bench.session.step(bench.session.view.step)
    if step is not None and step.has_ear:
        bench.listening.hear(RESULT if bench.session.view.hear == DETECTOR else DETECTOR)


def _keep(name: str, value: str, desk: Desk) -> None:
    desk.settings.setValue(name, value)


def _is_kept(name: str, value: str, otherwise: str, desk: Desk) -> bool:
    return str(desk.settings.value(name, otherwise)) == value


def _fold_rows(desk: Desk) -> None:
    desk.bench.look(rows="aligned" if desk.bench.session.view.rows == "folded" else "folded")


def _free_rows(desk: Desk) -> None:
    desk.bench.look(rows="aligned" if desk.bench.session.view.rows == "free" else "free")


def _drive(kind: str, desk: Desk) -> None:
    desk.bench.adjust("road", kind=kind)


def _show_panel(key: str, desk: Desk) -> None:
    desk.bench.look(page="compare")
    desk.compare.show_panel(key)


def _choose_step(by: int, desk: Desk) -> None:
    session = desk.bench.session
    ids = ["", *(s.id for s in chains.flat(session.chain))]
    index = ids.index(session.view.step) + by if session.view.step in ids else 0
    desk.bench.look(step=ids[min(max(0, index), len(ids) - 1)])


def _to_start(desk: Desk) -> None:
    span = desk.bench.span
    desk.bench.listening.seek(span.start if span else 0.0)


def _zoom_to_samples(desk: Desk) -> None:
    bench = desk.bench
    song, engine = bench.audio.material, bench.engine
    if song is not None and engine is not None:
        at = engine.position
        flat = [start for start, _ in bench.audio.flat_places(bench.session)]
        if flat:  # the nearest flat top, since that is what one zooms in to see
            at = min(flat, key=lambda s: abs(s - at))
        desk.timeline.zoom_to(Span(at - 60 / song.rate, at + 100 / song.rate))


def _choose_theme(night: bool | None, desk: Desk) -> None:
    desk.settings.setValue("night", {None: "", False: "day", True: "night"}[night])
    theme.force(night)


def _gentle_and_crushed(desk: Desk) -> None:
    desk.bench.advice.gentle_and_crushed(desk.bench.session.view.strip)


FILE: Sequence[Action] = (
    Action(
        "File", "New from a mix…", "Ctrl+N", lambda d: d.ask("mix"), "Start a session with a stereo mix.", always=True
    ),
    Action(
        "File",
        "New from stems…",
        "Ctrl+Shift+N",
        lambda d: d.ask("stems"),
        "Start a session with a folder of stems; folders inside it become buses.",
        always=True,
    ),
    Action("File", "Open…", "Ctrl+O", lambda d: d.ask("session"), "Open a session.", always=True),
    Action(
        "File",
        "Open the demo song",
        "Ctrl+Shift+D",
        lambda d: d.open_demo(),
        "Ferry Hours, made by Gluvo itself, with faults to find.",
        always=True,
    ),
    Action("File", "Save", "Ctrl+S", lambda d: d.save(), "Save the session.", rule=True),
    Action("File", "Save as…", "Ctrl+Shift+S", lambda d: d.save(elsewhere=True), "Save the session somewhere else."),
    Action(
        "File",
        "Add stems…",
        "Ctrl+Shift+A",
        lambda d: d.ask("more stems"),
        "Bring further stems into the session.",
        rule=True,
    ),
    Action(
        "File", "Add references…", "Ctrl+Shift+R", lambda d: d.ask("references"), "Bring in tracks to compare with."
    ),
    Action(
        "File",
        "Locate missing audio…",
        "",
        lambda d: d.audio_files.locate(),
        "Say where files are that were not found.",
    ),
    Action(
        "File",
        "Write all deliverables",
        "Ctrl+E",
        lambda d: d.deliver.write_all(),
        "Render, write and measure.",
        rule=True,
    ),
    Action(
        "File",
        "Usual set of files",
        "",
        lambda d: d.deliver.add_usual(),
        "Rows for the master, the song without voices, only they, and a file for each strip that flows into the mix bus.",
    ),
    Action("File", "Tags of the files…", "", lambda d: d.deliver.edit_tags(), "Title, artist, cover and more."),
    Action(
        "File",
        "Verify deliveries",
        "",
        lambda d: d.deliver.delivery.delivered.verify(),
        "Read all that was delivered again: is it there, and as it was written?",
    ),
    Action(
        "File",
        "Write report…",
        "Ctrl+Alt+E",
        lambda d: d.deliver.write_report(),
        "All figures, steps and files as one page.",
    ),
    Action(
        "File",
        "Album…",
        "Ctrl+Alt+Q",
        lambda d: d.show_album(),
        "Songs in an order as one record: side by side, joins heard, written as tracks and in one piece.",
        always=True,
    ),
    Action(
        "File",
        "Deliver several sessions…",
        "",
        lambda d: d.deliver.deliver_album(),
        "How loud each is, all driven to one target or moved together; each with its own list of files.",
        always=True,
    ),
    Action("File", "Print report to PDF…", "", lambda d: d.deliver.print_report(), "The report as a PDF."),
    Action(
        "File",
        "Stop long work",
        "Esc",
        lambda d: d.leave(),
        "Stop reading, searching or writing.",
        rule=True,
        always=True,
    ),
    Action(
        "File",
        "Collect…",
        "Ctrl+Alt+O",
        lambda d: d.ask("collect"),
        "Copy the session and all its audio into one folder or zip file, to be opened elsewhere.",
        rule=True,
    ),
    Action("File", "Quit", "Ctrl+Q", lambda d: d.close(), "Close Gluvo.", always=True),
)

EDIT: Sequence[Action] = (
    Action("Edit", "Undo", "Ctrl+Z", lambda d: d.bench.document.undo()),
    Action("Edit", "Redo", "Ctrl+Shift+Z", lambda d: d.bench.document.redo()),
    Action(
        "Edit",
        "Cut step",
        "Ctrl+X",
        lambda d: d.shape.ledger.cut(),
        "Take the chosen step, or all that is marked, out, to put it in elsewhere.",
        rule=True,
    ),
    Action(
        "Edit",
        "Copy step",
        "Ctrl+C",
        lambda d: d.shape.ledger.copy(),
        "Remember the chosen step, or all that is marked.",
    ),
    Action(
        "Edit",
        "Copy the whole chain",
        "Ctrl+Shift+C",
        lambda d: d.shape.ledger.copy_chain(),
        "To be pasted into another strip's chain, or into another window.",
    ),
    Action(
        "Edit",
        "Paste step",
        "Ctrl+V",
        lambda d: d.shape.ledger.paste(),
        "Put what is remembered in after the chosen step.",
    ),
    Action(
        "Edit",
        "Duplicate step",
        "Ctrl+Alt+C",
        lambda d: d.shape.ledger.duplicate(),
        "The chosen step, or all that is marked, once more right behind it.",
    ),
    Action(
        "Edit",
        "Mark the row",
        "Ctrl+Space",
        _mark,
        "Of the ledger, or the chosen strip of the tree: Out (3) is without all that is marked.",
        rule=True,
    ),
    Action("Edit", "Mark nothing", "Ctrl+Shift+Space", lambda d: d.bench.marking.clear(), "Takes all marks away."),
)

CHAIN: Sequence[Action] = (
    Action(
        "Chain",
        "Add lane",
        "Ctrl+Shift+L",
        lambda d: d.shape.ledger.add_lane(),
        "A parallel chain around the chosen step.",
    ),
    Action(
        "Chain",
        "Add Split",
        "Ctrl+Alt+S",
        lambda d: d.shape.ledger.add_split(),
        "Two to five bands after the chosen step, each with steps of its own.",
    ),
    Action(
        "Chain",
        "Gentle and crushed",
        "Ctrl+Shift+G",
        _gentle_and_crushed,
        "A gentle Glue, and one that crushes in a lane beside it, both aimed.",
    ),
    Action(
        "Chain",
        "Draft a start…",
        "Ctrl+Alt+N",
        lambda d: d.draft(),
        "What the chosen strip asks for, part by part with its reason, heard before it is taken; or another session's chain.",
    ),
    Action(
        "Chain",
        "Sum of moves…",
        "Ctrl+Alt+M",
        lambda d: d.sum_moves(),
        "The chosen strip's chain from In to Out: what each step moves, heard as far as any of them.",
    ),
    Action(
        "Chain",
        "Presets for the step",
        "Ctrl+Shift+P",
        lambda d: d.shape.choose_preset(),
        "Settings by purpose, each heard before it is taken.",
    ),
    Action(
        "Chain",
        "Presets for chains",
        "Ctrl+Alt+P",
        lambda d: d.shape.ledger.choose_chain(),
        "Several steps by purpose, heard before they are taken.",
    ),
    Action("Chain", "Remove step", "Ctrl+Backspace", lambda d: d.shape.ledger.remove(), "Take the chosen step out."),
    Action(
        "Chain",
        "Step on or off",
        "Ctrl+B",
        lambda d: d.shape.ledger.switch(),
        "Let the sound pass the chosen step untouched, or not.",
    ),
    Action("Chain", "Move step earlier", "Ctrl+Up", lambda d: d.shape.ledger.shift(-1)),
    Action("Chain", "Move step later", "Ctrl+Down", lambda d: d.shape.ledger.shift(1)),
    Action(
        "Chain",
        "Another alternative",
        "Ctrl+Alt+A",
        lambda d: d.bench.side_by_side.another(),
        "Of the chosen step, lane or Split, as it is now; of the whole chain, where “In” is chosen.",
        rule=True,
    ),
    Action(
        "Chain",
        "Next alternative",
        "A",
        lambda d: d.bench.side_by_side.next(),
        "Round and round, at equal loudness, live.",
    ),
    Action(
        "Chain", "Remove this alternative", "", lambda d: d.bench.side_by_side.remove(), "The next one takes its place."
    ),
    Action(
        "Chain",
        "Rank alternatives blind",
        "Ctrl+Alt+T",
        rank_alternatives,
        "All of them, at equal loudness, by keys alone.",
    ),
    Action(
        "Chain",
        "Works in…",
        "Ctrl+Alt+W",
        lambda d: d.where_it_works(),
        "The sections that the chosen step works in; elsewhere the sound passes by it.",
        rule=True,
    ),
    Action(
        "Chain",
        "Another setting in this section",
        "Ctrl+Alt+K",
        _split_off,
        "The chosen step once more, which works in the chosen section in its place.",
    ),
    Action(
        "Chain › Outboard",
        "Send what flows in…",
        "Ctrl+Alt+U",
        lambda d: d.ask("send"),
        "At the chosen Outboard, as a file between two pings.",
    ),
    Action(
        "Chain › Outboard",
        "Bring back…",
        "Ctrl+Alt+Y",
        lambda d: d.ask("return"),
        "A recording of what was sent, laid into its place.",
    ),
    Action(
        "Chain › Outboard",
        "Pass through a device…",
        "Ctrl+Alt+G",
        lambda d: d.take_pass(),
        "Out through further channels and back in, in real time.",
    ),
    Action("Chain", "Previous step", "[", partial(_choose_step, -1)),
    Action("Chain", "Next step", "]", partial(_choose_step, 1)),
    Action(
        "Chain",
        "Find threshold or drive",
        "T",
        lambda d: d.bench.advice.find_threshold(d.bench.session.view.step),
        "So that the chosen step, or an equaliser's chosen band, meets its aim.",
        rule=True,
    ),
    Action(
        "Chain",
        "Try values…",
        "V",
        _try_values,
        "Of the setting that has the focus, or of the step's first one: each rendered, heard at equal loudness, side by side.",
    ),
    Action(
        "Chain",
        "Reach the target's loudness",
        "Ctrl+R",
        lambda d: d.bench.advice.reach_target(),
        "Drive the last limiter.",
    ),
    Action(
        "Chain",
        "What louder costs",
        "Ctrl+Alt+R",
        lambda d: d.try_loudness(),
        "The song at its target and around it, with what each takes, heard at equal loudness.",
    ),
    Action(BANDS, "Add band", "Ctrl+Shift+B", _of_eq(lambda e: e.add_here()), "A bell of 0 dB at 1 kHz."),
    Action(BANDS, "Duplicate to the other target", "Ctrl+D", _of_band(BandEdits.double), "The two are linked."),
    Action(BANDS, "Unlink from its twin", "Ctrl+Alt+D", _of_band(BandEdits.unlink), "Each goes its own way."),
    Action(BANDS, "Remove band", "Ctrl+Shift+Backspace", _of_band(BandEdits.remove)),
    Action(BANDS, "Band before", ",", _of_eq(lambda e: e.bands.step(-1))),
    Action(BANDS, "Next band", ".", _of_eq(lambda e: e.bands.step(1))),
    Action(BANDS, "Hear the band alone", "B", _of_eq(lambda e: e.hear_band()), "Only what it adds or takes away."),
    Action(BANDS, "Resonances", "R", _of_eq(lambda e: e.toggle_resonances()), "What rings in the section."),
    Action(BANDS, "Hunt with the pointer", "Shift+H", _of_eq(lambda e: e.toggle_hunt()), "Or hold H and sweep."),
    Action(BANDS, "Phase and group delay", "Shift+G", _of_eq(lambda e: e.next_phase())),
)

BUSES: Sequence[Action] = (
    Action(
        "Buses",
        "Group into a new bus",
        "Ctrl+J",
        lambda d: d.buses.tree.group(),
        "The chosen strip flows through a bus of its own.",
    ),
    Action("Buses", "Rename", "F2", lambda d: d.buses.tree.rename(), "Give the chosen strip another name."),
    Action(
        "Buses",
        "Duplicate strip",
        "Ctrl+Alt+J",
        lambda d: d.buses.tree.duplicate(),
        "Once more, with its chain and what flows into it; it shares its file.",
    ),
    Action(
        "Buses",
        "Dissolve bus",
        "Ctrl+Shift+J",
        lambda d: d.buses.tree.dissolve(),
        "What flowed into it flows on; its chain goes with it.",
    ),
    Action(
        "Buses",
        "Remove strip",
        "Ctrl+Shift+Del",
        lambda d: d.buses.tree.remove(),
        "Take it and what flows into it out of the song. The files stay.",
    ),
    Action(
        "Buses",
        "Mute",
        "Shift+M",
        lambda d: d.buses.tree.mute(),
        "Take the chosen strip out of the mix, or put it back.",
        rule=True,
    ),
    Action(
        "Buses",
        "Hear alone",
        "Shift+S",
        lambda d: d.buses.tree.solo(),
        "For the ears only: figures and files keep everything.",
    ),
    Action("Buses", "Hear all", "Shift+A", lambda d: d.bench.look(solo=()), "Nothing alone any more."),
    Action("Buses", "Polarity", "Shift+P", lambda d: d.buses.tree.invert(), "Turn the wave of the chosen strip over."),
    Action(
        "Buses",
        "Prints…",
        "Ctrl+I",
        lambda d: d.show_prints(),
        "The states of the chosen stem's audio: rough 1, rough 2 …, each heard against the other.",
        rule=True,
    ),
    Action(
        "Buses",
        "Take new prints…",
        "Ctrl+Alt+I",
        lambda d: d.ask("prints"),
        "Files that take the place of what is there, lined up with it; several go to the stems that are called alike.",
    ),
    Action("Buses", "Next print", "I", lambda d: d.bench.prints.next(), "Of the chosen stem, round and round."),
    Action("Buses", "Strip above", "Ctrl+[", lambda d: d.buses.tree.choose(-1), rule=True),
    Action("Buses", "Strip below", "Ctrl+]", lambda d: d.buses.tree.choose(1)),
    Action("Buses", "Mix bus", "Ctrl+Shift+M", lambda d: d.bench.choose_strip(MIX)),
)

HEAR_WORDS = ("Hear the result", "Hear untouched", "Hear without what is marked", "Hear the change only")

LISTEN: Sequence[Action] = (
    Action("Listen", "Play or stop", "Space", lambda d: d.bench.listening.toggle_play()),
    Action("Listen", "Loop", "L", lambda d: d.bench.look(loop=not d.bench.session.view.loop)),
    Action("Listen", "To the section's start", "Home", _to_start),
    *(
        Action(
            "Listen",
            HEAR_WORDS[n - 1] if n <= len(HEAR_WORDS) else f"Hear {n}",
            str(n),
            partial(_hear, n),
            "Held down, only while the key is held.",
            rule=n == 1,
            hidden=n > len(HEAR_WORDS),
            once=True,
        )
        for n in range(1, 10)
    ),
    Action(
        "Listen", "Hear what was heard before", "X", lambda d: d.bench.listening.hear_again(), "To and fro between two."
    ),
    Action(
        "Listen",
        "Hear the one before",
        "J",
        lambda d: d.bench.listening.hear_next(-1),
        "In the Hear row, round and round.",
    ),
    Action(
        "Listen", "Hear the next", "K", lambda d: d.bench.listening.hear_next(1), "In the Hear row, round and round."
    ),
    Action(
        "Listen",
        "Alternate at each turn",
        "Shift+X",
        lambda d: d.hear_row.alternating.set_every(0.0 if d.hear_row.alternating.every else LOOPS),
        "Changes over between the last two each time the loop begins anew.",
    ),
    Action(
        "Listen",
        "Hear up to here",
        "U",
        partial(_hear_or_result, UP_TO),
        "The chain as far as the chosen step, through the rest of the song's way.",
    ),
    Action(
        "Listen",
        "Hear the wet path alone",
        "Shift+W",
        partial(_hear_or_result, WET),
        "Of a step with Mix, or of a lane: only what it makes goes on.",
    ),
    Action("Listen", "Blind trial", "Ctrl+T", partial(_show_panel, "trial"), "Two or more, by keys alone."),
    Action("Listen", "All that can be heard…", "G", lambda d: d.hear_row.show_all(), "Search, hear, pin."),
    Action(
        "Listen",
        "Level-matched",
        "M",
        lambda d: d.bench.look(level_matched=not d.bench.session.view.level_matched),
    ),
    *(
        Action("Listen › Monitor view", m.name, f"Alt+{n}", lambda d, m=m: d.bench.look(monitor=m.key), m.tip)  # type: ignore[misc]
        for n, m in enumerate(MONITORS, start=1)
    ),
    *(Action("Listen › Road test", road.name, "", partial(_drive, road.key), road.tip) for road in ROADS),
    Action("Listen › Road test", "Levels…", "", lambda d: d.hear_row.show_levels(), "How loud music and noise are."),
    *(
        Action(
            "Listen › Ears",
            text,
            "",
            partial(_keep, "ears/remind", minutes),
            is_chosen=partial(_is_kept, "ears/remind", minutes, "0.0"),
        )
        for text, minutes in (
            ("No reminder", "0.0"),
            *((f"Remind after every {n} minutes", f"{n}.0") for n in (30, 45, 60, 90)),
        )
    ),
    *(
        Action(
            "Listen › Ears › After an hour's break",
            text,
            "",
            partial(_keep, "ears/fresh", word),
            tip,
            is_chosen=chosen,
        )
        for text, word, tip, chosen in (
            (
                "Begin with fresh ears",
                "yes",
                "Hear the result and the first reference blind before any figure is shown.",
                partial(_is_kept, "ears/fresh", "yes", "yes"),
            ),
            ("Begin as ever", "no", "Nothing is asked.", partial(_is_kept, "ears/fresh", "no", "yes")),
        )
    ),
    Action(
        "Listen",
        "Hear a range",
        "Q",
        lambda d: d.hear_row.hear_range.press(),
        "While it is held: drag over any spectrum, or press the arrow keys, to hear just that range of what plays.",
    ),
    Action(
        "Listen",
        "Hear the detector",
        "H",
        _hear_detector,
        "Of the chosen Glue or De-esser; of a Saturation, only what bends. In an equaliser H hunts.",
    ),
    Action("Listen", "Dim", "D", lambda d: d.bench.look(dim=not d.bench.session.view.dim)),
    Action(
        "Listen",
        "Listening practice…",
        "Ctrl+Alt+L",
        lambda d: d.practise(),
        "Hidden changes to be found by ear, on this song at equal loudness; harder as you get better.",
        rule=True,
    ),
    Action(
        "Listen",
        "Loudness bias…",
        "",
        lambda d: d.loudness_bias(),
        "A blind trial that shows what a decibel does to a judgement.",
    ),
)

SONG: Sequence[Action] = (
    Action(
        "Song",
        "Keep a version…",
        "Ctrl+Alt+V",
        lambda d: d.compare.versions.ask(),
        "The session as it is now, under a name; to be heard and gone back to.",
    ),
    Action(
        "Song", "Versions", "Ctrl+Shift+Y", partial(_show_panel, "versions"), "All that were kept, and what differs."
    ),
    Action(
        "Song",
        "Notes…",
        "Ctrl+Alt+B",
        lambda d: d.show_notes(),
        "For oneself and for the client: of the song, a section, a version, a place in time.",
        rule=True,
    ),
    Action("Song", "Note here", "Shift+N", lambda d: d.show_notes().add_here(), "A note of the place where it plays."),
    Action(
        "Song",
        "Read comments…",
        "",
        lambda d: d.ask("comments"),
        "From a text file with lines such as “1:12 voice too soft”: each becomes a note.",
    ),
    Action("Song", "Next section", "N", lambda d: d.sections.choose(1), rule=True),
    Action("Song", "Previous section", "P", lambda d: d.sections.choose(-1)),
    Action("Song", "Whole song", "W", lambda d: d.bench.look(section="")),
    Action("Song", f"Loudest {LOUDEST_SECONDS:.0f} s as a section", "Ctrl+L", lambda d: d.sections.from_loudest()),
    Action("Song", "Loudest span as a section…", "", lambda d: d.ask("loudest"), "As long as you say."),
    Action("Song", "What is in view as a section", "Ctrl+K", lambda d: d.sections.from_view()),
    Action(
        "Song",
        "Propose sections",
        "",
        lambda d: d.sections.propose(),
        "Where the song gets louder, softer or denser; named by what they are like.",
    ),
    Action(
        "Song",
        "Lift sections…",
        "Shift+L",
        lambda d: d.lift_sections(),
        "How loud the chosen strip is in each section.",
        rule=True,
    ),
    Action("Song", "Section louder", "Ctrl+Shift+Up", partial(_lift_by, 0.5), "The chosen strip, there, by 0.5 dB."),
    Action("Song", "Section softer", "Ctrl+Shift+Down", partial(_lift_by, -0.5), "The chosen strip, there, by 0.5 dB."),
    Action("Song", "Rename section", "Ctrl+F2", lambda d: d.timeline.rename(d.bench.session.view.section)),
    Action("Song", "Remove section", "Ctrl+Shift+K", lambda d: d.timeline.remove(d.bench.session.view.section)),
    Action(
        "Song",
        "Import sections…",
        "Ctrl+Shift+I",
        lambda d: d.ask("import sections"),
        "From CSV: name, start, end in seconds.",
    ),
    Action("Song", "Export sections…", "Ctrl+Shift+E", lambda d: d.ask("export sections"), "As CSV."),
    Action("Song", "References below", "Y", _fold_rows, "As rows under the timeline, or folded away.", rule=True),
    Action(
        "Song",
        "References in their own time",
        "Shift+Y",
        _free_rows,
        "Each from its beginning to its end; or under the song's sections.",
    ),
    Action("Song", "Zoom in", "Ctrl++", lambda d: d.timeline.zoom(0.5), rule=True),
    Action("Song", "Zoom out", "Ctrl+-", lambda d: d.timeline.zoom(2.0)),
    Action("Song", "Zoom to the section", "Ctrl+G", lambda d: d.timeline.zoom_to(d.bench.span)),
    Action("Song", "Zoom to samples", "Ctrl+Shift+0", _zoom_to_samples),
    Action("Song", "Higher waves", "Ctrl+Alt++", lambda d: d.timeline.zoom_waves(1.5), "Draw the waveform larger."),
    Action("Song", "Lower waves", "Ctrl+Alt+-", lambda d: d.timeline.zoom_waves(1 / 1.5), "Draw the waveform smaller."),
    Action("Song", "All of the song", "Ctrl+0", lambda d: d.timeline.zoom_to(None)),
)

VIEW: Sequence[Action] = (
    Action(
        "View",
        "Next pane",
        "F6",
        lambda d: d.next_pane(1),
        "From the Hear row to the timeline, the chain, the editor and the target, and round again.",
        always=True,
    ),
    Action("View", "Previous pane", "Shift+F6", lambda d: d.next_pane(-1), always=True),
    Action(
        "View", "Editor or chain", "E", lambda d: d.to_editor(), "Into the chosen step's editor, and back to its row."
    ),
    Action(
        "View", "Meters", "F9", lambda d: d.show_meters(), "In a window of their own, for a second screen.", always=True
    ),
    Action(
        "View",
        "Full screen",
        "F11",
        lambda d: d.toggle_full_screen(),
        "For the window that has the focus.",
        always=True,
    ),
    *(
        Action("View", page.name, f"Ctrl+{n}", lambda d, page=page: d.bench.look(page=page.key), page.tip)  # type: ignore[misc]
        for n, page in enumerate(PAGES, start=1)
    ),
    *(
        Action(
            "View",
            text,
            "",
            partial(_choose_theme, night),
            rule=night is None,
            always=True,
            is_chosen=lambda _, night=night: theme.forced is night,  # type: ignore[misc]
        )
        for text, night in (("As the desktop", None), ("Day", False), ("Night", True))
    ),
)

HELP: Sequence[Action] = (
    Action("Help", "Keys", "F1", lambda d: d.find_action(keys=True), "All keys, by place.", always=True),
    Action(
        "Help",
        "Find",
        "F",
        lambda d: d.find_action(),
        "Actions, sections, steps and their settings, presets and the guide, by a part of the name.",
        always=True,
    ),
    Action(
        "Help",
        "What is this?",
        "Shift+F1",
        lambda d: d.what_is_this(),
        "Point at any control: what it does, when it is of use and when not, drawn with this song where that says more.",
        always=True,
    ),
    Action(
        "Help",
        "Tour",
        "Ctrl+Shift+F1",
        lambda d: d.tour_on(),
        "The first steps as quiet notes that go on when the thing was done; left and taken up at any time.",
        rule=True,
        always=True,
    ),
    Action("Help", "Guide", "Ctrl+F1", lambda d: d.ask("guide"), "The guide, to read and to search.", always=True),
    Action(
        "Help",
        "Report a problem…",
        "",
        lambda d: d.ask("problem"),
        "What a report needs: versions, devices, the last errors, and where the log is.",
        always=True,
    ),
    Action("Help", "About Gluvo", "", lambda d: d.ask("about"), always=True),
)

ACTIONS: tuple[Action, ...] = (*FILE, *EDIT, *CHAIN, *BUSES, *LISTEN, *SONG, *VIEW, *HELP)
