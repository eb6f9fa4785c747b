"""What the finder finds besides actions: sections, strips, steps and their settings, presets, what a file is written with, and
the guide."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import partial

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QScrollArea, QWidget

from gluvo.advise.shelf import BUILT_IN
from gluvo.desk.controls.finder import Findable
from gluvo.desk.controls.flow import Group
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.editors.preset_dialog import PresetDialog, for_chain, for_item
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.deliver.page import DeliverPage
from gluvo.desk.pages.shape import ShapePage
from gluvo.desk.window.help import headings, open_guide
from gluvo.session import chains
from gluvo.session.presets import CHAIN, kind_of
from gluvo.session.records import AnyStrip, Deliverable
from gluvo.steps import ChainItem
from gluvo.steps.settings import Setting, settings_of


def findables(window: QWidget, bench: Workbench, shape: ShapePage, deliver: DeliverPage) -> Iterator[Findable]:
    """All that the open session has, and the guide."""
    session = bench.session
    if bench.renderer is not None or session.strips[1:]:
        for section in session.sections:
            yield Findable(
                "Sections", section.name, partial(bench.look, section=section.id), tip="Choose this section."
            )
        for strip in session.strips:
            yield from _of_strip(bench, shape, strip)
        yield from _presets(window, bench)
        if session.deliverables:
            for setting in settings_of(Deliverable).values():
                yield Findable("What is delivered", setting.label, _go_to_row(bench, deliver, setting), tip=setting.tip)
    for heading in headings():
        yield Findable("Guide", heading, partial(open_guide, window, heading), tip="Read this in the guide.")


def _of_strip(bench: Workbench, shape: ShapePage, strip: AnyStrip) -> Iterator[Findable]:
    yield Findable(
        "Strips", strip.name, lambda: bench.look(strip=strip.id, page="shape", step="", band=0), tip="Show its chain."
    )
    for item in chains.flat(strip.chain):
        name = getattr(item, "name", "") or item.title
        look = _look(bench, strip, item)
        yield Findable(f"Steps of {strip.name}", name, look, tip=item.summary)
        for setting in settings_of(type(item)).values():
            go = _go_to_setting(look, shape, item, setting)
            yield Findable(f"{name} of {strip.name}", setting.label, go, tip=setting.tip)


def _presets(window: QWidget, bench: Workbench) -> Iterator[Findable]:
    """For what is chosen, and whole chains: each opens the list at it, where it is heard before it is taken."""
    chosen = bench.session.item(bench.session.view.step)
    for preset in BUILT_IN:
        if preset.kind == CHAIN or (chosen is not None and kind_of(chosen) == preset.kind):
            purpose = for_chain() if preset.kind == CHAIN else for_item(chosen)  # type: ignore[arg-type]

            def open_it(purpose: object = purpose, name: str = preset.name) -> None:
                dialog = PresetDialog(window, bench, purpose)  # type: ignore[arg-type]
                dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
                QTimer.singleShot(0, lambda: dialog.choose(name))
                dialog.exec()

            yield Findable(purpose.title, preset.name, open_it, tip=preset.does)


def _look(bench: Workbench, strip: AnyStrip, item: ChainItem) -> Callable[[], None]:
    return lambda: bench.look(strip=strip.id, page="shape", step=item.id, band=0)


def _go_to_setting(look: Callable[[], None], shape: ShapePage, item: ChainItem, setting: Setting) -> Callable[[], None]:
    def go() -> None:
        look()
        QTimer.singleShot(0, there)  # its editor is made by then

    def there() -> None:
        editor = shape.editor
        if isinstance(editor, StepEditor) and editor.step_id == item.id:
            focus_setting(editor.controls, editor.groups, setting)

    return go


def _go_to_row(bench: Workbench, deliver: DeliverPage, setting: Setting) -> Callable[[], None]:
    def go() -> None:
        bench.look(page="deliver")
        QTimer.singleShot(0, lambda: focus_setting(deliver.panel.controls, deliver.panel.groups, setting))

    return go


def focus_setting(controls: Mapping[str, QWidget], groups: Mapping[str, Group], setting: Setting) -> None:
    """Bring the control of a setting into view, and give it the focus."""
    control = controls.get(setting.name)
    if control is None:
        return
    if (group := groups.get(setting.group)) is not None:
        group.set_folded(False)
    area = control.parentWidget()
    while area is not None and not isinstance(area, QScrollArea):
        area = area.parentWidget()
    if area is not None:
        area.ensureWidgetVisible(control)
    taker = next(_takers((control, *control.findChildren(QWidget))), control)
    taker.setFocus(Qt.FocusReason.ShortcutFocusReason)


def _takers(widgets: Iterable[QWidget]) -> Iterator[QWidget]:
    return (w for w in widgets if w.focusPolicy() & Qt.FocusPolicy.TabFocus and w.isEnabled())
