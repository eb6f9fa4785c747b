"""What comes everywhere of the step in `new_step.py`, in a process that knows it: run by `test_new_step` with a folder."""

from __future__ import annotations

import json
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests.changed_source import import_as

FILE = Path(__file__).with_name("new_step.py")


def with_new_step() -> None:
    """Import Gluvo as though the file lay in `steps`, and its name stood in `AnyStep`."""
    line = "from gluvo.steps.press import Press\nAnyStep = Press | "
    import_as({"gluvo.steps.kinds": lambda source: source.replace("AnyStep = ", line)}, {"gluvo.steps.press": FILE})


def seen(folder: Path) -> dict[str, object]:
    """What comes of the step everywhere, in the process that knows it."""
    from PySide6.QtTest import QTest

    from gluvo.advise.hold import held_session
    from gluvo.cli.sessions import report_material
    from gluvo.deliver.joints import figures_of_joints
    from gluvo.deliver.report import as_html
    from gluvo.desk.model.workbench import Workbench
    from gluvo.desk.window.app import application
    from gluvo.desk.window.findables import findables
    from gluvo.desk.window.window import Window
    from gluvo.play.process import Host
    from gluvo.render.song import Renderer
    from gluvo.session import presets
    from gluvo.session.clipboard import copied, pasted
    from gluvo.session.create import new_session
    from gluvo.session.media import read_material
    from gluvo.session.store import read_session, schema, write_session
    from gluvo.steps import STEP_KINDS

    press = next(kind for kind in STEP_KINDS if kind.__name__ == "Press")
    session = new_session([folder / "Take.wav"], (), folder, "Take")
    session = session.with_chain("mix", [press(id="p", aim=3.0, hold_aim=True)])  # type: ignore[call-arg]
    renderer = Renderer(read_material(session, folder))
    held = held_session(renderer, session)
    write_session(folder / "Take.gluvo", held)
    joint = renderer.song(held).joint("p")
    assert joint is not None
    preset = presets.preset_of(held.mix.chain, "Pressed")
    presets.write_preset(folder / "p.json", preset)

    application()
    window = Window(Workbench("silent", Host()))
    window.show()
    window.open_path(folder / "Take.gluvo")
    while window.bench.audio.material is None or window.bench.background.busy:
        QTest.qWait(10)
    window.bench.look(step="p")
    QTest.qWait(10)
    editor = window.shape.editor
    names = [f.name for f in findables(window, window.bench, window.shape, window.deliver) if "Press" in f.place]
    controls = sorted(editor.controls)
    menu = [a.text() for a in window.shape.ledger.add_menu().actions()]
    window.bench.document.save()
    window.close()
    return {
        "reduction": joint.mean_reduction(),
        "threshold": held.step("p").threshold,
        "read": read_session(folder / "Take.gluvo").session.mix.chain == held.mix.chain,
        "preset": presets.read_preset(folder / "p.json").items == preset.items,
        "pasted": pasted(copied(held.mix.chain[:1])) == held.mix.chain[:1],
        "schema": "press" in json.dumps(schema()),
        "figures": figures_of_joints(held, renderer.song(held)),
        "report": as_html(report_material(folder / "Take.gluvo", False, False, lambda _: None)),
        "controls": controls,
        "found": names,
        "menu": menu,
    }


with_new_step()  # also in the process that plays, which imports this file, too
if __name__ == "__main__":
    Path(sys.argv[1], "seen.json").write_text(json.dumps(seen(Path(sys.argv[1]))))
