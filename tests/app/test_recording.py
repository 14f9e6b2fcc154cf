"""Takes from an input, through the real window; the singer is simulated."""

import shutil

import numpy as np
import pytest
from PySide6.QtWidgets import QComboBox, QMessageBox, QPushButton

from tests.app.test_window import trigger
from tests.signals import RATE
from zygotone.app.files import empty_project
from zygotone.app.recording import RecordDialog
from zygotone.engine.coming_take import takes_on_their_way
from zygotone.engine.inputs import SimulatedInput
from zygotone.session.audio_files import AudioWriter
from zygotone.session.models import ClipSource
from zygotone.session.workplaces import Workplace


@pytest.fixture
def dialog(window):
    trigger(window, "play.input")
    (made,) = window.findChildren(RecordDialog)
    yield made
    window.desk.listening.transport.recorder.open(None)
    for left in window.findChildren(RecordDialog):
        left.reject()


@pytest.fixture
def singer(tmp_path):
    t = np.arange(round(1.5 * RATE)) / RATE
    sung = 0.3 * np.sin(2 * np.pi * 660.0 * t) * (t < 0.2) + 0.2 * np.sin(2 * np.pi * 880.0 * t) * (
        (t > 0.7) & (t < 0.9)
    )
    with AudioWriter(tmp_path / "sung.wav", RATE, 1, subtype="FLOAT") as writer:
        writer.write(sung[None])
    return SimulatedInput(tmp_path / "sung.wav"), sung


def press(dialog: RecordDialog) -> None:
    dialog.findChild(QPushButton, "record.go").click()


def test_a_take_comes_onto_a_track_of_its_own_where_it_was_sung(window, dialog, singer, qtbot, settled):
    desk = window.desk
    tracks = len(desk.session.tracks)
    go = dialog.findChild(QPushButton, "record.go")
    assert not go.isEnabled()  # from nothing nothing is recorded
    dialog.use(singer[0])
    assert go.isEnabled()
    dialog.bars.setValue(0)
    levels: list[str] = []
    dialog._clock.timeout.connect(lambda: levels.append(dialog.level.text()))
    press(dialog)
    assert go.text() == "Stop"
    assert not dialog.findChild(QComboBox, "record.input").isEnabled()
    qtbot.waitUntil(lambda: len(desk.session.tracks) == tracks + 1, timeout=60000)
    assert any(words.endswith("dBFS") for words in levels)
    track = desk.session.track(desk.selection.track_id)
    assert (track.name, track.role) == ("Take", "voice")
    settled(window)
    start = desk.selection.loop_span()[0]
    heard = desk.renderer.stem(desk.session, track.id)[0]
    at = start + round(0.05 * RATE)
    spectrum = np.abs(np.fft.rfft(heard[at : at + RATE // 10] * np.hanning(RATE // 10)))
    assert np.argmax(spectrum) * 10 == pytest.approx(660.0, abs=10.0)
    onset = np.flatnonzero(np.abs(heard[start + round(0.5 * RATE) :]) > 0.02)[0] + round(0.5 * RATE)
    assert onset == pytest.approx(round(0.7 * RATE), abs=0.003 * RATE)
    assert "A take of" in dialog.state.text()
    qtbot.waitUntil(
        lambda: not list(desk.files.takes.iterdir()), timeout=20000
    )  # it is in the journal, and needed no more
    assert not desk.listening.playing
    assert desk.bench.undo_label == "Record a take"
    trigger(window, "edit.undo")
    assert len(desk.session.tracks) == tracks


def test_a_take_in_the_place_of_what_was_played_and_stopped_by_the_space_bar(window, dialog, singer, qtbot, settled):
    desk = window.desk
    clips = next(t for t in desk.session.tracks if isinstance(t.source, ClipSource))
    desk.selection.track(clips.id)
    before = len(desk.session.tracks)
    assert dialog.onto.count() == 2
    dialog.onto.setCurrentIndex(1)
    dialog.use(singer[0])
    dialog.bars.setValue(0)
    press(dialog)
    qtbot.waitUntil(lambda: "Recording: 1" in dialog.state.text(), timeout=20000)
    trigger(window, "play.toggle")
    qtbot.waitUntil(lambda: "A take of" in dialog.state.text(), timeout=20000)
    assert len(desk.session.tracks) == before
    parts = desk.session.track(clips.id).parts
    take = next(p for p in parts if p.clip not in (None, clips.source.asset))
    assert 0.3 < take.length_beats * 60.0 / desk.song.tempo_bpm < 3.0
    assert any(p.clip in (None, clips.source.asset) for p in parts)  # what comes after it is still there


def test_another_loop_or_an_edit_does_not_disturb_a_take(window, dialog, singer, qtbot, settled):
    from zygotone.session.edits import change_song

    desk = window.desk
    dialog.use(singer[0])
    dialog.bars.setValue(1)
    tracks = len(desk.session.tracks)
    press(dialog)
    qtbot.waitUntil(lambda: "Counting in" in dialog.state.text(), timeout=20000)
    desk.edit("Title", lambda s: change_song(s, title="Meanwhile"))
    qtbot.waitUntil(lambda: "Recording: 1" in dialog.state.text(), timeout=20000)
    dialog.reject()  # while it records it stays, and what came is kept
    qtbot.waitUntil(lambda: len(desk.session.tracks) == tracks + 1, timeout=20000)
    assert dialog.isVisible()
    assert desk.listening.player._loop == desk.selection.loop_span()


def as_it_lies_now(files) -> Workplace:
    """What a window would leave that was killed now."""
    left = Workplace.make(files._workplaces)
    shutil.copytree(files._workplace.folder, left.folder, dirs_exist_ok=True, ignore=lambda *_: ["lock"])
    left.release()
    return left


@pytest.mark.parametrize("saved", [True, False], ids=["of a file", "never saved nor edited"])
def test_a_take_that_was_on_its_way_when_the_window_ended_comes_back(
    window, singer, qtbot, monkeypatch, settled, saved
):
    desk, path = window.desk, window.desk.files.path
    if not saved:
        desk.open_project(empty_project(), None)
    trigger(window, "play.input")
    (dialog,) = (each for each in window.findChildren(RecordDialog) if each.isVisible())
    dialog.use(singer[0])
    dialog.bars.setValue(0)
    start = desk.selection.loop_span()[0]
    press(dialog)
    qtbot.waitUntil(lambda: "Recording: 1" in dialog.state.text(), timeout=20000)
    desk.files.written()
    left = as_it_lies_now(desk.files)
    press(dialog)
    qtbot.waitUntil(lambda: "A take of" in dialog.state.text(), timeout=20000)
    dialog.reject()
    trigger(window, "edit.undo")
    desk.files.discard_unsaved()
    asked = []
    monkeypatch.setattr(QMessageBox, "question", lambda *a, **k: asked.append(a[2]) or QMessageBox.StandardButton.Yes)
    if saved:
        assert window.files.open_path(path)
    else:
        desk.open_project(empty_project(), None)
        assert window.files.offer_unsaved()
    assert len(asked) == 1
    track = next(t for t in desk.session.tracks if t.name == "Take")
    heard = desk.renderer.stem(desk.session, track.id)[0]
    onset = np.flatnonzero(np.abs(heard[start:]) > 0.02)[0]
    assert onset < 0.05 * RATE
    tone = np.abs(np.fft.rfft(heard[start + 2400 : start + 7200] * np.hanning(4800)))
    assert np.argmax(tone) * 10 == pytest.approx(660.0, abs=10.0)
    # It is in this window's journal now, and is not offered again.
    assert takes_on_their_way(left.takes) == []
    settled(window)


def test_what_cannot_be_opened_is_told_and_nothing_is_recorded(window, dialog, tmp_path, qtbot):
    said = []
    window.desk.message.connect(said.append)
    dialog.use(SimulatedInput(tmp_path / "nobody.wav"))
    qtbot.waitUntil(lambda: any("nobody.wav" in words for words in said), timeout=5000)
    tracks = len(window.desk.session.tracks)
    press(dialog)
    qtbot.waitUntil(lambda: any("choose an input" in words for words in said), timeout=5000)
    qtbot.waitUntil(lambda: dialog.go.text() == "Record", timeout=5000)
    assert len(window.desk.session.tracks) == tracks


def test_what_lies_in_the_settings_is_no_obstacle_and_there_is_one_dialog(window, dialog):
    trigger(window, "play.input")
    assert window.findChildren(RecordDialog) == [dialog]
    window.desk.settings.setValue("record/bars", "many")
    made = RecordDialog(window, window.desk)
    assert made.bars.value() == 1
    made.reject()
