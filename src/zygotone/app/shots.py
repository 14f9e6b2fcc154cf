"""Pictures of the main views, from the demo: ``python -m zygotone.app.shots FOLDER [NAME...]``."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from zygotone.app.main import make_application, make_window
from zygotone.app.theme import theme
from zygotone.app.window import Window
from zygotone.demo import build_demo

WAIT_S = 60.0


def settle(window: Window, ready: Callable[[], bool] = lambda: True) -> None:
    """Run the event loop until the background work is done and ``ready`` holds."""
    end = time.monotonic() + WAIT_S
    quiet = 0
    while time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.02)
        waiting = window.desk._edit_timer.isActive() or not (window.desk.worker.idle and window.desk.play_worker.idle)
        quiet = 0 if waiting or not ready() else quiet + 1
        if quiet > 8:
            return
    raise TimeoutError("the window did not settle")


def take(folder: Path, only: list[str]) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    make_application()
    settings = QSettings(str(Path(tempfile.mkdtemp()) / "settings.ini"), QSettings.Format.IniFormat)
    settings.setValue("theme", "paper")
    window = make_window(build_demo(), settings=settings)
    window.resize(1280, 800)
    window.show()
    window.desk.start()
    desk = window.desk

    def shot(name: str) -> None:
        if only and name not in only:
            return
        QApplication.processEvents()
        window.grab().save(str(folder / f"{name}.png"))

    settle(window, lambda: window.fit.finding is not None and bool(window.fit.finding.fixes))
    shot("fit")
    window.show_stage("brief")
    settle(window)
    shot("brief")
    desk.select_track("bass")
    window.show_stage("chains")
    settle(window)
    shot("chains-eq")
    desk.select_device("compressor")
    settle(window)
    shot("chains-compressor")
    desk.select_track("guitar-l")
    desk.select_device("saturation")
    settle(window)
    shot("chains-saturation")
    window.show_stage("fit")
    window.fit.try_rung(4)
    desk.select_track("bass")
    settle(window)
    shot("fit-trial")
    window.show_stage("chains")
    desk.select_device(desk.session.track("bass").chain[-1].id)
    settle(window)
    shot("chains-trial")
    theme().prefer("night")
    shot("chains-trial-night")
    window.show_stage("fit")
    settle(window)
    shot("fit-trial-night")
    theme().prefer("paper")
    window.margin._reason.setText("the kick speaks, the bass line stays whole")
    window.margin.keep()
    settle(window)
    window.show_stage("log")
    settle(window)
    shot("log")
    window.show_keys()
    QApplication.processEvents()
    if not only or "keys" in only:
        window.findChild(object, "help.keys.dialog").grab().save(str(folder / "keys.png"))
    desk.saved_changes = desk.bench.changes  # nothing here is worth a question about saving
    window.close()


if __name__ == "__main__":
    take(Path(sys.argv[1]), sys.argv[2:])
