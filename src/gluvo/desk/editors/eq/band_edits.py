"""What can be done with the bands of an equaliser: each an action that can be undone."""

from __future__ import annotations

from PySide6.QtWidgets import QMenu, QWidget

from gluvo.desk.editors.eq.lane import Gesture
from gluvo.desk.model.workbench import Workbench
from gluvo.steps import Band, MidSideEq, settings_of
from gluvo.steps.bands import SHAPES, TARGETS, plain_q
from gluvo.steps.mid_side_eq import MOST_BANDS, equaliser


class BandEdits:
    """The bands of one equaliser in the session, and which of them is chosen."""

    def __init__(self, bench: Workbench, step_id: str) -> None:
        self._bench, self._step_id = bench, step_id

    @property
    def eq(self) -> MidSideEq | None:
        return equaliser(self._bench.session.step(self._step_id))

    @property
    def chosen(self) -> Band | None:
        eq = self.eq
        return eq.band(self._bench.session.view.band) if eq is not None else None

    def choose(self, id: int) -> None:
        if id != self._bench.session.view.band:
            self._bench.look(band=id)

    def step(self, by: int) -> None:
        """Choose the next band, or the one before."""
        eq = self.eq
        if eq is None or not eq.bands:
            return
        ids = [band.id for band in eq.bands]
        now = self._bench.session.view.band
        self.choose(ids[(ids.index(now) + by) % len(ids)] if now in ids else ids[0])

    def take(self, gesture: Gesture) -> None:
        """Change a band, and its twin with it."""
        eq, settings = self.eq, settings_of(Band)
        if eq is None or eq.band(gesture.band) is None:
            return
        changes = dict(gesture.changes)
        if "shape" in changes:
            changes["q"] = plain_q(str(changes["shape"]))
        changed = eq.with_edit(gesture.band, **changes)
        what = " and ".join(settings[name].label.lower() if name in settings else name for name in gesture.changes)
        names = ",".join(gesture.changes)
        number = next(n for n, band in enumerate(eq.bands, start=1) if band.id == gesture.band)
        self._bench.edit(
            f"Band {number} {what}", lambda s: s.with_step(changed), f"{self._step_id}.{gesture.band}.{names}"
        )

    def add(self, target: str, freq: float, gain: float) -> None:
        """A new bell, chosen."""
        self.put(Band(target=target, freq=freq, gain=gain), "Add band")  # type: ignore[arg-type]

    def put(self, band: Band, action: str) -> None:
        eq = self.eq
        if eq is None:
            return
        if len(eq.bands) >= MOST_BANDS:
            self._bench.refuse(f"All {MOST_BANDS} bands are in use. Take one out first.")
            return
        changed, made = eq.with_new_band(band)
        self._bench.edit(action, lambda s: s.with_step(changed))
        self._bench.look(band=made.id)

    def remove(self, id: int) -> None:
        eq = self.eq
        if eq is None or eq.band(id) is None:
            return
        ids = [band.id for band in eq.bands]
        place = ids.index(id)
        rest = [i for i in ids if i != id]
        self._bench.edit("Remove band", lambda s: s.with_step(eq.without_band(id)))
        self._bench.look(band=rest[min(place, len(rest) - 1)] if rest else 0)

    def double(self, id: int) -> None:
        """Duplicate a band to the other target; the two are linked."""
        eq = self.eq
        if eq is None or len(eq.bands) >= MOST_BANDS:
            self._bench.refuse(f"All {MOST_BANDS} bands are in use. Take one out first.")
            return
        changed, made = eq.with_twin(id)
        self._bench.edit("Duplicate band to the other target", lambda s: s.with_step(changed))
        self._bench.look(band=made.id)

    def unlink(self, id: int) -> None:
        eq = self.eq
        if eq is not None:
            self._bench.edit("Unlink bands", lambda s: s.with_step(eq.without_twin(id)))

    def menu(self, parent: QWidget, id: int, target: str) -> QMenu:
        """All that can be done with a band; or, without one, what can be added to a target."""
        menu, eq = QMenu(parent), self.eq
        band = eq.band(id) if eq is not None else None
        if band is None:
            for key, text in SHAPES:
                action = menu.addAction(f"Add {text}")
                made = Band(shape=key, target=target, freq=_start(key), q=plain_q(key))  # type: ignore[arg-type]
                action.triggered.connect(lambda *_, made=made: self.put(made, "Add band"))
            return menu
        for title, name, options in (("Shape", "shape", SHAPES), ("Target", "target", TARGETS)):
            inner = menu.addMenu(title)
            for key, text in options:
                action = inner.addAction(text)
                action.setCheckable(True)
                action.setChecked(getattr(band, name) == key)
                action.triggered.connect(lambda *_, name=name, key=key: self.take(Gesture(id, {name: key})))
        menu.addSeparator()
        menu.addAction("Switch off" if band.on else "Switch on").triggered.connect(
            lambda *_: self.take(Gesture(id, {"on": not band.on}))
        )
        if band.twin:
            menu.addAction("Unlink from its twin").triggered.connect(lambda *_: self.unlink(id))
        else:
            menu.addAction("Duplicate to the other target, linked\tCtrl+D").triggered.connect(
                lambda *_: self.double(id)
            )
        menu.addAction("Remove\tDel").triggered.connect(lambda *_: self.remove(id))
        return menu


def _start(shape: str) -> float:
    """Where a band of a shape is put first."""
    return {"low_cut": 25.0, "high_cut": 18_000.0, "low_shelf": 120.0, "high_shelf": 8000.0}.get(shape, 1000.0)
