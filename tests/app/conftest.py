"""A window with a small project of known content, settled."""

from __future__ import annotations

import shutil
import time
from dataclasses import replace
from pathlib import Path

import pytest
from PySide6.QtCore import QSettings, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDialog, QMessageBox, QWidget

from tests.builders import device, pair_project
from tests.signals import RATE
from zygotone.app import measuring
from zygotone.app.desk import Desk
from zygotone.app.files import empty_project
from zygotone.app.main import make_application
from zygotone.app.theme import theme
from zygotone.app.window import Window
from zygotone.engine.transport import SimulatedOutput
from zygotone.session.audio_store import AudioStore
from zygotone.session.edits import add_bus
from zygotone.session.instruments import InstrumentSource, Layer, Note, Phrase
from zygotone.session.models import Part, Section, Session, Song, Track
from zygotone.session.project_file import Project, load_project, save_project

EMPTY = empty_project().session
MOST_ASKED_S = 15.0
MOST_WAITED_S = 180.0


@pytest.fixture(scope="session")
def qapp():
    measuring._REST_MS = 5  # no hand rests here
    return make_application()


@pytest.fixture(autouse=True)
def _no_question_without_an_answer(qapp):
    """A question that a test does not answer would hold it for ever: it is closed after a while, and fails the test by its words."""
    asked_since: dict[QWidget, float] = {}

    def look() -> None:
        box = QApplication.activeModalWidget()
        if box is None:
            asked_since.clear()
        elif time.monotonic() - asked_since.setdefault(box, time.monotonic()) > MOST_ASKED_S:
            words = box.text() if isinstance(box, QMessageBox) else box.windowTitle()
            asked_since.clear()
            box.close()
            raise AssertionError(f"nobody answered: {words}")

    clock = QTimer(interval=500)
    clock.timeout.connect(look)
    clock.start()
    yield
    clock.stop()


@pytest.fixture
def settings(tmp_path) -> QSettings:
    made = QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat)
    made.setValue("data_folder", str(tmp_path / "data"))
    made.setValue("cache_folder", str(tmp_path / "cache"))
    return made


@pytest.fixture
def settled(qtbot):
    """Waits until the background work of a window is done."""

    def wait(window: Window) -> None:
        def idle() -> bool:
            return window.desk.measuring.settled and window.desk.listening.worker.idle

        until, quiet = time.monotonic() + MOST_WAITED_S, 0
        while quiet < 3:  # one job's end may be another's beginning
            qtbot.wait(2)
            quiet = quiet + 1 if idle() else 0
            assert time.monotonic() < until, "it does not come to rest"

    return wait


@pytest.fixture(scope="session")
def pair(tmp_path_factory):
    """A kick and a bass that clash, worked out once; what is measured of them is remembered for all tests."""
    return pair_project(tmp_path_factory.mktemp("pair"), level=0.5)


@pytest.fixture(scope="session")
def _shared_window(qapp):
    """One window for many tests: a new one would cost each of them seconds. One that a test closed is made anew."""
    held: dict[str, Window] = {}

    def window(settings: QSettings) -> Window:
        made = held.get("window")
        if made is None or not made.isVisible():
            made = held["window"] = Window(Desk(Project(EMPTY), settings=settings, own_processes=False))
            made.resize(1280, 800)
            made.show()
        made.desk.settings = made.desk.files.settings = settings
        return made

    yield window
    for made in held.values():
        made.desk.files.saved_changes = made.desk.bench.changes
        made.close()


@pytest.fixture
def opened(_shared_window, qapp, settings, settled):
    """Opens a project in the window, as if it were the first that it sees."""
    if theme().preference != "paper":  # styling every widget anew takes half a second
        theme().prefer("paper")
    window = _shared_window(settings)

    def open_project(project: Project, path: Path | None = None, *, stage: str = "fit") -> Window:
        window.resize(1280, 800)
        window.show_stage(stage)
        window.desk.listening.transport.set_output(SimulatedOutput())
        grid = window.stages["sounds"].notes.grid  # what one chooses for one's hands stays from project to project
        grid.step, grid.snaps = 0.25, True
        window.desk.open_project(project, path)
        settled(window)
        window.activateWindow()  # the test before may have closed another that was in front
        assert QTest.qWaitForWindowActive(window)
        return window

    yield open_project
    window.desk.files.saved_changes = window.desk.bench.changes
    window.desk.listening.stop()
    for other in qapp.topLevelWidgets():
        if other is not window and other.isVisible():
            other.close()
        if other is not window and isinstance(other, (Window, QDialog)):
            other.deleteLater()  # else each that a test left would be styled and looked through by all that come after
    qapp.processEvents()


@pytest.fixture(scope="session")
def _pair_file(pair, tmp_path_factory):
    path = tmp_path_factory.mktemp("saved") / "song.zygotone"
    save_project(path, replace(pair, log=(), trial=None))
    return path


@pytest.fixture
def fresh_pair(pair, _pair_file, tmp_path):
    """The same project from a file of its own: a window moves clips that no file holds, and takes them away as it closes."""
    path = tmp_path / "song.zygotone"
    shutil.copy(_pair_file, path)
    project = load_project(path)
    project.store.held = pair.store.held
    return project


@pytest.fixture
def window(opened, fresh_pair, tmp_path):
    return opened(fresh_pair, tmp_path / "song.zygotone")


def _of_four_notes(name: str, **more: object) -> Track:
    layer = Layer.model_validate({"id": "a", "name": "A", "sound": {"kind": "oscillator"}})
    notes = tuple(Note(start_beat=b, length_beats=0.5, pitch=60 + b) for b in range(4))
    source = InstrumentSource(layers=(layer,), phrases=(Phrase(id="p", beats=4, notes=notes),))
    parts = (Part(section="a", phrase="p"), Part(section="b", phrase="p"))
    return Track.model_validate({"id": name.lower(), "name": name, "source": source, "parts": parts, **more})


@pytest.fixture
def three_tracks(opened, settled):
    """The window with three instruments that play four notes in each of two bars; the first has an EQ and a compressor."""
    sections = tuple(Section(id=i, name=i.upper(), bars=1) for i in "ab")
    song = Song(tempo_bpm=120, key="C major", sections=sections)
    chain = (device("eq", "eq"), device("compressor", "comp"))
    tracks = (_of_four_notes("One", chain=chain), _of_four_notes("Two"), _of_four_notes("Three"))
    session = add_bus(Session(rate_hz=RATE, song=song, tracks=tracks), "Room")
    made = opened(Project(session=session, store=AudioStore()), stage="sounds")
    made.stages["sounds"].show_tab("Notes")
    made.desk.selection.set_loop(("a",))
    made.desk.selection.track("one")
    settled(made)
    grid = made.stages["sounds"].notes.grid
    grid.see_all()
    grid.choose(())
    grid.setFocus()  # cut and copy are about what has the focus
    QApplication.clipboard().clear()
    yield made
    made.stages["sounds"].show_tab("Source")
    made.status.ears.toggle("stereo")
