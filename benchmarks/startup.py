"""How long the window takes to appear, and the demo to sound. Usage: python benchmarks/startup.py"""

from __future__ import annotations

import os
import subprocess
import sys
import time

INSIDE = """
import sys, time
start = float(sys.argv[1])
from gluvo.play.process import Host
def main():
    host = Host()
    from gluvo.demo.session import demo_session
    from gluvo.desk.window.app import application
    from gluvo.desk.window.window import Window
    from gluvo.desk.model.workbench import Workbench
    app = application()
    window = Window(Workbench("silent", host))
    window.show()
    app.processEvents()
    print(f"window up after {time.time() - start:.2f} s")
    window.bench.audio_changed.connect(window.play_once)
    window.open_path(demo_session())
    sounding = measured = False
    while not (sounding and measured) and time.time() - start < 60:
        app.processEvents()
        engine = window.bench.engine
        if engine is not None and not sounding and len(engine.read().power):
            sounding = True
            print(f"demo sounding after {time.time() - start:.2f} s")
        if window.bench.picture.song_current and not measured:
            measured = True
            print(f"whole song measured after {time.time() - start:.2f} s")
        time.sleep(0.005)
    window.bench.close()
if __name__ == "__main__":
    main()
"""

if __name__ == "__main__":
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    script = "/tmp/gluvo_startup.py"
    with open(script, "w") as file:  # noqa: PTH123
        file.write(INSIDE)
    subprocess.run([sys.executable, "-m", "gluvo", "demo", "--no-window"], check=True, capture_output=True)
    for _ in range(3):
        print("---")
        subprocess.run([sys.executable, script, str(time.time())], check=True)
