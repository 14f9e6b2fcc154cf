"""Faults that were once reproduced in the window, each as it was met."""

import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QObject, QPointF, QSettings, Qt, QTimer
from PySide6.QtGui import QAction
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton, QWidget

from tests.builders import pair_project
from tests.signals import RATE
from zygotone.app.desk import Desk
from zygotone.app.main import outlive_mishaps
from zygotone.app.project_files import ProjectFiles
from zygotone.app.recording import RecordDialog
from zygotone.app.stages.library import LibraryDialog
from zygotone.app.widgets.meter import Meter
from zygotone.app.widgets.note_grid import NoteGrid
from zygotone.app.window import Window
from zygotone.app.work import Worker
from zygotone.dsp.types import Stereo
from zygotone.engine.inputs import SimulatedInput
from zygotone.engine.live import LiveNotes
from zygotone.engine.renderer import Renderer
from zygotone.engine.transport import SimulatedOutput, Transport
from zygotone.session.audio_files import AudioWriter
from zygotone.session.edits import change_layer, change_strip
from zygotone.session.instruments import InstrumentSource, Layer, Note, Phrase
from zygotone.session.journal import journal_path, recover
from zygotone.session.kinds import Sound
from zygotone.session.models import Part, Section, Session, Song, Track
from zygotone.session.project_file import Project, load_project


def song_of(sound: dict, *notes: Note) -> Project:
    layer = Layer(id="body", name="Body", sound=Sound.model_validate(sound))
    source = InstrumentSource(layers=(layer,), phrases=(Phrase(id="p", beats=4, notes=notes),))
    track = Track(id="keys", name="Keys", role="keys", source=source, parts=(Part(section="a", phrase="p"),))
    return Project(Session(song=Song(sections=(Section(id="a", name="A", bars=2),)), tracks=(track,)))


LINE = tuple(Note(start_beat=b, length_beats=0.9, pitch=57) for b in range(4))


def test_undo_while_a_sound_renders_is_heard(opened, qtbot, settled, monkeypatch):
    """The ear hears the version that is shown, however late what was asked for before is ready."""
    window = opened(song_of({"kind": "oscillator"}, *LINE), stage="sounds")
    desk = window.desk
    go_on = threading.Event()
    rendering = Renderer._layer

    def slowly(self, track, source, layer, session, motions=()):
        if layer.transpose_semitones == 12:
            go_on.wait(10.0)
        return rendering(self, track, source, layer, session, motions)

    monkeypatch.setattr(Renderer, "_layer", slowly)
    before = desk.bench.graph.mix.key
    desk.edit("Transpose", lambda s: change_layer(s, "keys", "body", transpose_semitones=12))
    qtbot.waitUntil(lambda: desk.listening.worker.running == "play", timeout=5000)
    desk.bench.undo()
    go_on.set()
    settled(window)
    assert desk.listening.player._versions[0].key == before


class SlowToDrain(SimulatedOutput):
    """An output that goes on for a while after the last block, as a sound card with a long buffer does."""

    def __init__(self) -> None:
        super().__init__()
        self.peaks: list[float] = []
        self.at_once = 0
        self.draining = threading.Event()

    def start(self, rate_hz: int) -> None:
        self.at_once += 1
        assert self.at_once == 1, "two runs at a time"
        super().start(rate_hz)

    def write(self, block: Stereo) -> bool:
        self.peaks.append(float(np.max(np.abs(block))))
        return super().write(block)

    def stop(self) -> None:
        self.draining.set()
        time.sleep(0.4)
        self.draining.clear()
        super().stop()
        self.at_once -= 1


class Keys:
    """A player of nothing but notes played by hand."""

    def __init__(self) -> None:
        self.rate_hz, self.rolling, self.live = RATE, False, LiveNotes(RATE)

    def block(self, frames: int) -> Stereo:
        out = np.zeros((2, frames))
        self.live.mix_into(out)
        return out


def test_a_key_pressed_while_the_output_drains_is_heard(qtbot):
    output, player = SlowToDrain(), Keys()
    transport = Transport(player, output)
    note = 0.5 * np.ones((2, RATE // 10))
    player.live.add("first", note)
    transport.play()
    qtbot.waitUntil(output.draining.is_set, timeout=5000)
    output.peaks.clear()
    assert not transport.playing
    player.live.add("second", note)
    transport.play()
    qtbot.waitUntil(lambda: max(output.peaks, default=0.0) > 0.4, timeout=5000)
    transport.stop()


class Hanging(SimulatedOutput):
    def __init__(self) -> None:
        super().__init__()
        self.go_on = threading.Event()
        self.inside = threading.Event()

    def write(self, block: Stereo) -> bool:
        self.inside.set()
        self.go_on.wait(20.0)
        return False


def test_an_output_that_hangs_leaves_no_second_thread(qtbot, monkeypatch):
    monkeypatch.setattr("zygotone.engine.transport._STOP_S", 0.2)
    output, player = Hanging(), Keys()
    player.rolling = True
    transport = Transport(player, output)
    transport.play()
    assert output.inside.wait(5.0)
    transport.stop()
    transport.play()
    assert "does not answer" in transport.error
    assert sum(t.name == "audio" and t.is_alive() for t in threading.enumerate()) == 1
    other = SlowToDrain()
    transport.set_output(other)
    transport.play()
    assert transport.playing
    qtbot.waitUntil(lambda: bool(other.peaks), timeout=5000)
    output.go_on.set()
    transport.stop()


def test_a_sound_of_the_library_is_heard(opened, qtbot):
    window = opened(song_of({"kind": "oscillator"}, *LINE), stage="sounds")
    dialog = LibraryDialog(window.stages["sounds"])
    dialog.show()
    dialog.table.selectRow(0)
    dialog.listen()
    listening = window.desk.listening
    qtbot.waitUntil(lambda: float(np.max(listening.transport.peak)) > 0.01, timeout=20000)
    assert not listening.playing  # the song stands still
    dialog.close()


def test_delete_in_the_automation_picture_takes_no_device(window, qtbot, settled):
    window.desk.selection.track("bass")
    window.show_stage("chains")
    chains = window.stages["chains"]
    chains.add_device("filter")
    chains.lanes.add_lane("filter", "cutoff_hz")
    settled(window)
    chains.lanes._held = None
    QTest.keyClick(chains.lanes.plot, Qt.Key.Key_Delete)
    assert [d.kind for d in window.desk.session.track("bass").chain] == ["filter"]


def test_two_drags_of_one_note_are_two_steps(opened):
    window = opened(song_of({"kind": "oscillator"}, *LINE), stage="sounds")
    window.stages["sounds"].show_tab("Notes")
    grid = window.findChild(NoteGrid, "sounds.grid")
    grid.resize(700, 260)

    def start() -> float:
        return window.desk.session.track("keys").source.phrases[0].notes[0].start_beat

    def drag(beats: float) -> None:
        box = grid._box(grid.notes[0])
        at = QPointF(box.left() + 3, box.center().y())
        to = QPointF(at.x() + grid._x(beats) - grid._x(0.0), at.y())
        QTest.mousePress(grid, Qt.MouseButton.LeftButton, pos=at.toPoint())
        QTest.mouseMove(grid, to.toPoint())
        QTest.mouseRelease(grid, Qt.MouseButton.LeftButton, pos=to.toPoint())

    drag(0.25)
    drag(0.25)
    assert start() == 0.5
    window.desk.bench.undo()
    assert start() == 0.25
    window.desk.bench.undo()
    assert start() == 0.0


def test_rulers_end_their_drags_in_the_project_that_is_open(opened, pair):
    """What was made for the first project listens to the second one's bench."""
    window = opened(song_of({"kind": "oscillator"}, *LINE), stage="sounds")
    desk = window.desk
    desk.open_project(song_of({"kind": "oscillator"}, *LINE), None)
    picture = window.stages["sounds"]._panels["Envelopes"].envelope
    for ms in (20.0, 40.0):
        desk.edit(
            "Attack", lambda s, ms=ms: change_layer(s, "keys", "body", envelope={"attack_ms": ms}), merge_key="drag"
        )
        picture.plot.released.emit()
    desk.bench.undo()
    assert desk.session.track("keys").source.layers[0].envelope.attack_ms == 20.0


def test_who_edits_without_a_pause_is_in_the_journal(window, qtbot):
    desk = window.desk
    path = desk.files.path
    end = time.monotonic() + 1.6
    level = 0.0
    while time.monotonic() < end:
        level -= 0.01
        desk.edit("Level", lambda s, v=level: change_strip(s, "bass", level_db=round(v, 2)), merge_key="drag")
        qtbot.wait(20)
    assert journal_path(path).exists()
    found = recover(path, load_project(path))
    assert found.session.track("bass").level_db < -0.1


class Shown(QObject):
    """Which widgets were windows of their own for a moment."""

    def __init__(self) -> None:
        super().__init__()
        self.names: list[str] = []

    def eventFilter(self, watched, event) -> bool:
        if event.type() == QEvent.Type.Show and isinstance(watched, QWidget) and watched.isWindow():
            self.names.append(f"{type(watched).__name__} {watched.objectName()}")
        return False


def test_no_panel_is_a_window_for_a_moment(opened, qapp, pair):
    shown = Shown()
    qapp.installEventFilter(shown)
    try:
        window = opened(song_of({"kind": "oscillator"}, *LINE))
        for stage in window.stages:
            window.show_stage(stage)
        window.show_stage("sounds")
        for tab in window.stages["sounds"]._panels:
            window.stages["sounds"].show_tab(tab)
        window.show_stage("chains")
        for kind in ("eq", "compressor", "split", "filter", "delay"):
            window.stages["chains"].add_device(kind)
        window.stages["chains"].lanes.add_lane("filter", "cutoff_hz")
    finally:
        qapp.removeEventFilter(shown)
    assert shown.names == []


def test_a_new_instrument_track_has_nothing_of_another_sound(window):
    window.show_stage("sounds")
    window.stages["sounds"].new_track()
    layers = window.desk.session.tracks[-1].source.layers
    assert [(layer.filter, layer.chain, layer.routes) for layer in layers] == [(None, (), ())]


def test_a_hand_that_does_not_pause_is_heard_though_sources_take_longer(window, qtbot, monkeypatch):
    desk, heard = window.desk, []

    def slowly(a, b, *, unwanted=lambda: False) -> bool:
        time.sleep(0.1)
        if not unwanted():
            heard.append(a.graph.session.strip("kick").level_db)
        return not unwanted()

    monkeypatch.setattr(desk.listening.player, "is_ready_for", lambda a, b: False)
    monkeypatch.setattr(desk.listening.player, "set_versions", slowly)
    for n in range(30):
        desk.edit("Level", lambda s, n=n: change_strip(s, "kick", level_db=-float(n)), merge_key="drag")
        time.sleep(0.03)
    assert len(heard) >= 4  # of nine that there is time for
    qtbot.waitUntil(lambda: heard[-1] == -29.0, timeout=5000)
    assert heard == sorted(heard, reverse=True)


def test_what_can_be_heard_at_once_is_not_followed_by_what_was_on_its_way(window, qtbot, monkeypatch):
    desk, heard, begun = window.desk, [], threading.Event()

    def made(a, b, *, unwanted=lambda: False) -> bool:
        level_db = a.graph.session.strip("kick").level_db
        if level_db == -1.0:
            begun.set()
            time.sleep(0.2)
        if not unwanted():
            heard.append(level_db)
        return not unwanted()

    monkeypatch.setattr(
        desk.listening.player, "is_ready_for", lambda a, b: a.graph.session.strip("kick").level_db != -1.0
    )
    monkeypatch.setattr(desk.listening.player, "set_versions", made)
    desk.edit("Level", lambda s: change_strip(s, "kick", level_db=-1.0))
    assert begun.wait(5.0)
    desk.edit("Level", lambda s: change_strip(s, "kick", level_db=-2.0))
    qtbot.waitUntil(lambda: desk.listening.worker.idle, timeout=5000)
    assert set(heard) == {-2.0}  # perhaps again, once the loudness is matched


def test_a_job_goes_on_for_a_while_before_it_gives_way(qtbot):
    worker, ends, told = Worker(), [], []

    def job(unwanted) -> str:
        begun = time.monotonic()
        while not unwanted() and time.monotonic() - begun < 5.0:
            time.sleep(0.002)
        ends.append(time.monotonic() - begun)
        return "old"

    worker.submit("job", job, told.append, goes_on_s=0.3)
    qtbot.waitUntil(lambda: worker.running == "job", timeout=5000)
    while not ends:
        worker.submit("job", lambda unwanted: "new", told.append)
        time.sleep(0.02)
    assert 0.3 <= ends[0] < 4.0
    qtbot.waitUntil(lambda: told == ["new"], timeout=5000)
    worker.close()


def test_a_worker_that_is_closed_holds_nobody(qtbot):
    worker = Worker()
    never = threading.Event()
    worker.submit("endless", lambda unwanted: never.wait(20.0), lambda _: None)
    qtbot.waitUntil(lambda: worker.running == "endless", timeout=5000)
    begin = time.monotonic()
    worker.close()
    held = time.monotonic() - begin
    never.set()
    assert held < 4.0  # it was five seconds


def test_an_answer_that_comes_late_is_dropped(qtbot):
    """The old answer was ready, and on its way, when the question was asked anew."""
    worker, told = Worker(), []
    worker.submit("which", lambda unwanted: "old", told.append)
    worker.wait()  # its answer waits for the event loop
    worker.submit("which", lambda unwanted: "new", told.append)
    qtbot.waitUntil(lambda: "new" in told, timeout=5000)
    assert told == ["new"]
    worker.close()


def test_the_log_leads_to_the_stage_of_the_decision(window, qtbot, settled):
    desk = window.desk
    desk.edit("Too loud", lambda s: change_strip(s, "kick", level_db=12.0))
    settled(window)
    found = next(f for f in desk.measuring.findings if f.rule == "clips")
    window.act_on(found)
    settled(window)
    desk.keep()
    window.show_stage("log")
    window.stages["log"].select(desk.bench.log[-1].number)
    window.findChild(QPushButton, "log.go").click()
    assert window.stage == "chains"


def test_the_window_goes_on_when_its_player_dies(qapp, qtbot, settings, tmp_path, monkeypatch):
    """With a player of its own: it plays, is killed, and the process that was kept ready goes on by itself; the window says so."""
    monkeypatch.setattr("zygotone.engine.standby._AFTER_S", 0.0)
    window = Window(Desk(pair_project(tmp_path, level=0.5), settings=settings))
    window.show()
    desk = window.desk
    desk.start()
    said: list[str] = []
    desk.message.connect(said.append)
    player = desk.listening.player
    try:
        qtbot.waitUntil(lambda: player.up_to_date or player.error is not None, timeout=60000)
        assert player.error is None
        desk.listening.toggle_play()
        qtbot.waitUntil(lambda: float(np.max(player.peak)) > 0.01, timeout=20000)
        assert desk.listening.playing
        qtbot.waitUntil(lambda: desk.standby.ready, timeout=60000)
        ready = desk.standby.pid
        os.kill(player.pid, signal.SIGKILL)
        qtbot.waitUntil(lambda: player.restarts == 1, timeout=10000)
        assert player.pid == ready
        qtbot.waitUntil(lambda: float(np.max(player.peak)) > 0.01, timeout=20000)
        assert desk.listening.playing
        assert "started again" in " ".join(said)
        desk.edit("Level", lambda s: change_strip(s, "kick", level_db=-60.0))
        qtbot.waitUntil(lambda: player.up_to_date, timeout=20000)
        qtbot.waitUntil(lambda: desk.standby.pid is not None, timeout=20000)
        begun = (player.pid, desk.answers.pid, desk.standby.pid)
    finally:
        desk.files.saved_changes = desk.bench.changes
        window.close()
    assert not [pid for pid in begun if Path(f"/proc/{pid}").exists()]


def test_a_take_is_in_the_song_as_far_as_it_came_when_the_player_dies(qapp, qtbot, settings, tmp_path, monkeypatch):
    path = tmp_path / "sung.wav"
    with AudioWriter(path, RATE, 1, subtype="FLOAT") as writer:
        writer.write(0.3 * np.sin(2 * np.pi * 660.0 * np.arange(4 * RATE) / RATE)[None])
    window = Window(Desk(pair_project(tmp_path, level=0.5), settings=settings))
    window.show()
    desk = window.desk
    desk.start()
    said: list[str] = []
    say = window.status.say
    monkeypatch.setattr(window.status, "say", lambda words: (said.append(words), say(words)))
    player, tracks = desk.listening.player, len(desk.session.tracks)
    try:
        qtbot.waitUntil(lambda: player.up_to_date or player.error is not None, timeout=60000)
        window.findChild(QAction, "play.input").trigger()
        (dialog,) = window.findChildren(RecordDialog)
        dialog.use(SimulatedInput(path))
        dialog.bars.setValue(0)
        dialog.go.click()
        qtbot.waitUntil(lambda: "Recording: 1" in dialog.state.text(), timeout=20000)
        os.kill(player.pid, signal.SIGKILL)
        qtbot.waitUntil(lambda: len(desk.session.tracks) == tracks + 1, timeout=30000)
        assert "A take of" in dialog.state.text()
        take = desk.session.track(desk.selection.track_id)
        start = desk.selection.loop_span()[0]
        heard = desk.renderer.stem(desk.session, take.id)[0][start + RATE // 10 : start + RATE // 2]
        assert np.argmax(np.abs(np.fft.rfft(heard * np.hanning(len(heard))))) * RATE / len(heard) == pytest.approx(
            660.0, abs=5.0
        )
        assert any("kept as far as it came" in words for words in said)
        qtbot.waitUntil(lambda: dialog.go.text() == "Record", timeout=5000)
        dialog.reject()
    finally:
        desk.files.saved_changes = desk.bench.changes
        window.close()


EDITS_AND_IS_TOLD_TO_END = """
import os, sys
from PySide6.QtCore import QTimer
from zygotone.app import main
from zygotone.session.edits import change_song
settle_down = main.settle_down
def edited(window):
    settle_down(window)
    def edit():
        window.desk.edit("Tempo", lambda s: change_song(s, tempo_bpm=77.0))
        os.kill(os.getpid(), int(sys.argv[1]))
    QTimer.singleShot(1500, edit)
main.settle_down = edited
main.run(None)
"""


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_signal_from_outside_ends_it_and_loses_nothing(tmp_path, number):
    """Started as a user does, edited, and Ctrl+C pressed right after the edit: it is gone, and what was done is offered again."""
    env = {**os.environ, "HOME": str(tmp_path), "PYTHONPATH": os.pathsep.join(sys.path)}
    ended = subprocess.run(
        [sys.executable, "-c", EDITS_AND_IS_TOLD_TO_END, f"{int(number)}"],
        env=env,
        timeout=60,
        capture_output=True,
        text=True,
    )
    assert ended.returncode == -number, ended.stderr
    files = ProjectFiles(QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat))
    left = files.unsaved()
    assert left is not None
    assert left[1].session.song.tempo_bpm == 77.0


LOOKS_EVERYWHERE = """
from PySide6.QtWidgets import QApplication
from zygotone.app.main import make_application, make_window
from zygotone.app.preloading import load_what_is_called_here
from zygotone.app.shots import scratch_settings
from zygotone.demo import build_demo
from zygotone.dsp.compile import _Kernel
make_application()
window = make_window(build_demo(), settings=scratch_settings())
window.show()
load_what_is_called_here()
ready = _Kernel.ready
def loading(kernel):
    print(kernel.__name__)
    return ready(kernel)
_Kernel.ready = loading
for key in window.stages:
    window.show_stage(key)
    for strip in window.desk.session.strips():
        window.desk.selection.track(strip.id)
        for device in strip.chain:
            window.desk.selection.device(device.id)
            QApplication.processEvents()
import os; print("looked", flush=True); os._exit(0)
"""


def test_no_picture_waits_for_code_to_load(tmp_path):
    found = subprocess.run(
        [sys.executable, "-c", LOOKS_EVERYWHERE], capture_output=True, text=True, timeout=120,
        env={**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)},
    )  # fmt: skip
    assert found.stdout.split() == ["looked"], found.stdout + found.stderr


@pytest.mark.qt_no_exception_capture  # by the test's own means; here the application's are looked at
def test_what_fails_in_a_picture_or_a_handler_is_told_once_and_the_window_lives(window, qtbot, qtlog, monkeypatch):
    monkeypatch.setattr(sys, "excepthook", sys.excepthook)  # as it was, afterwards
    outlive_mishaps(window)
    said: list[str] = []
    window.desk.message.connect(said.append)

    def fails(*_: object, **__: object) -> None:
        raise RuntimeError("of a picture")

    meter = window.findChild(Meter, "status.meter")

    with monkeypatch.context() as patch:
        patch.setattr(Meter, "_paint_needle", fails)
        for _ in range(3):
            meter.update()
            qtbot.wait(50)
    QTimer.singleShot(0, lambda: {}["of a handler"])
    qtbot.waitUntil(lambda: len(said) == 2, timeout=5000)
    written = (window.desk.files.data_folder / "mishaps.txt").read_text()
    assert written.count("RuntimeError:") == written.count("KeyError:") == 1
    assert all("your work is kept" in words and "mishaps.txt" in words for words in said)
    assert not [record.message for record in qtlog.records if "ainter" in record.message]
    assert not window.grab().isNull()
