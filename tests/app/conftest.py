"""A window with a small project of known content, settled."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QSettings

from tests.builders import pair_project
from zygotone.app.desk import Desk
from zygotone.app.main import make_application
from zygotone.app.theme import theme
from zygotone.app.window import Window
from zygotone.session.project_file import save_project


@pytest.fixture(scope="session")
def qapp():
    return make_application()


@pytest.fixture
def settings(tmp_path) -> QSettings:
    made = QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat)
    made.setValue("data_folder", str(tmp_path / "data"))
    return made


@pytest.fixture
def settled(qtbot):
    """Waits until the background work of a window is done."""

    def wait(window: Window) -> None:
        def idle() -> bool:
            return not window.desk._edit_timer.isActive() and window.desk.worker.idle and window.desk.play_worker.idle

        for _ in range(3):  # one job's end may be another's beginning
            qtbot.waitUntil(idle, timeout=60000)
            qtbot.wait(30)

    return wait


@pytest.fixture
def window(qapp, qtbot, tmp_path, settings, settled):
    theme().preference = "paper"
    theme().apply()
    project = pair_project(tmp_path, level=0.5)
    path = tmp_path / "song.zygotone"
    save_project(path, project)
    desk = Desk(project, path, settings=settings)
    made = Window(desk)
    made.show()
    desk.start()
    settled(made)
    yield made
    desk.saved_changes = desk.bench.changes
    made.close()
    made.deleteLater()
    qapp.processEvents()
