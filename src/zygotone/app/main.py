"""Starts the application."""

from __future__ import annotations

import os
import signal
import sys
from pathlib import Path

from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication

from zygotone.app.desk import Desk
from zygotone.app.files import empty_project
from zygotone.app.mishaps import Mishaps
from zygotone.app.preloading import Preloading
from zygotone.app.stages import STAGES
from zygotone.app.theme import application, load_fonts, theme
from zygotone.app.tidying import Tidier
from zygotone.app.window import Window
from zygotone.engine import cores
from zygotone.session.project_file import Project

# Journal and questions are packed by threads of this process; the window must not wait long for the interpreter.
_SWITCH_S = 5e-4


def make_application() -> QApplication:
    if QApplication.instance() is None:
        QApplication(sys.argv[:1])
    app = application()
    sys.setswitchinterval(_SWITCH_S)
    app.setApplicationName("Zygotone")
    app.setDesktopFileName("zygotone")
    app.setStyle("Fusion")
    load_fonts()
    return app


def make_window(project: Project | None = None, *, settings: QSettings | None = None) -> Window:
    """A window with ``project``, or with an empty one."""
    desk = Desk(project or empty_project(), settings=settings)
    theme().preference = str(desk.settings.value("theme") or "desktop")
    theme().apply()
    window = Window(desk)
    window.show_stage((STAGES.leading if project else STAGES.first).key)
    return window


def settle_down(window: Window) -> None:
    """Nothing that this process does for itself shall be felt."""
    cores.keep_off_the_player()
    Tidier(window.desk, window)
    Preloading(window)


def end_by_signal(window: Window) -> None:
    """Ctrl+C in the terminal, its closing, or the system's end asks no question: what is not saved is in the journal, and is offered
    at the next start."""

    def end(number: int, frame: object) -> None:
        window.desk.files.written()
        signal.signal(number, signal.SIG_DFL)
        os.kill(os.getpid(), number)

    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        if signal.getsignal(number) is not signal.SIG_IGN:  # whoever started this one may not want it to be heard
            signal.signal(number, end)


def outlive_mishaps(window: Window) -> None:
    """What fails unexpectedly in the window is told there."""
    sys.excepthook = Mishaps(lambda: window.desk.files.data_folder / "mishaps.txt", window.desk.message.emit)


def run(project: Path | None, *, demo: bool = False) -> int:
    """Show the window first; what is to be opened comes as soon as it is there."""
    app = make_application()
    window = make_window()
    window.show()
    settle_down(window)
    end_by_signal(window)
    outlive_mishaps(window)

    def begin() -> None:
        window.desk.files.tidy()
        if window.desk.renderer.mapped is not None:
            window.desk.renderer.mapped.tidy()
        if demo:
            window.desk.start()
            window.files.open_demo()
        elif project is not None and window.files.open_path(project):
            window.show_stage(STAGES.leading.key)
        else:
            window.desk.start()
            window.files.offer_unsaved()

    QTimer.singleShot(0, begin)
    return app.exec()
