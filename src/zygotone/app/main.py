"""Starts the application."""

from __future__ import annotations

import sys
from pathlib import Path

from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication

from zygotone.app.desk import Desk
from zygotone.app.theme import load_fonts, theme
from zygotone.app.window import Window, empty_project


def make_application() -> QApplication:
    app = QApplication.instance() or QApplication(sys.argv[:1])
    app.setApplicationName("Zygotone")
    app.setDesktopFileName("zygotone")
    app.setStyle("Fusion")
    load_fonts()
    return app


def make_window(*, demo: bool = False, settings: QSettings | None = None) -> Window:
    """A window with the demo, or with an empty project."""
    if demo:
        from zygotone.demo import build_demo

        project = build_demo()
    else:
        project = empty_project()
    desk = Desk(project, settings=settings)
    theme().preference = str(desk.settings.value("theme") or "desktop")
    theme().apply()
    window = Window(desk)
    window.show_stage("fit" if demo else "brief")
    return window


def run(project: Path | None, *, demo: bool = False) -> int:
    app = make_application()
    window = make_window(demo=demo)
    window.show()

    def begin() -> None:
        if project is None or not window.open_path(project):
            window.desk.start()
        else:
            window.show_stage("fit")

    QTimer.singleShot(0, begin)
    return app.exec()
