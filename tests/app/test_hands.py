"""Tracks, chains, layers, automation, history, library and ears: by real presses, moves and keys in the window."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QAction
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QListWidget, QWidget

from tests.app.gestures import Hand, pump
from tests.builders import device
from zygotone.app.history import HistoryDialog
from zygotone.app.kept import KeepDialog, KeptDialog
from zygotone.app.stages.chains.offer import DeviceOffer
from zygotone.app.widgets.ears import EarsBar
from zygotone.session.audio_store import AudioStore
from zygotone.session.instruments import Note
from zygotone.session.models import Device
from zygotone.session.project_file import Project

CTRL, SHIFT, ALT = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.AltModifier,
)


@pytest.fixture
def window(three_tracks):
    return three_tracks


@pytest.fixture
def hand(window) -> Hand:
    return Hand(window)


def notes(window, track: str = "one") -> tuple[Note, ...]:
    return window.desk.session.track(track).source.phrases[0].notes


def at(hand: Hand, n: int, part: float = 0.4) -> QPointF:
    """Within a note, by its place in the phrase."""
    box = hand.grid._box(hand.grid.notes[n])
    return QPointF(box.left() + part * box.width(), box.center().y())


# --- steps back ----------------------------------------------------------------------------------------------------


def test_the_history_names_steps_and_goes_to_any_of_them(window, hand):
    for key in (Qt.Key.Key_Up, Qt.Key.Key_Right):
        hand.grid.choose((0,))
        hand.key(hand.grid, key)
    hand.grid.choose((0,))
    hand.shortcut("edit.cut")
    undo = window.findChild(QAction, "edit.undo")
    assert undo.text() == "Undo Cut notes"
    after = window.desk.session
    dialog = HistoryDialog(window, window.desk.bench)
    names = dialog.findChild(QListWidget, "history.list")
    assert [names.item(i).text() for i in range(names.count())][-3:] == ["Move notes", "Move notes", "Cut notes"]
    names.setCurrentRow(names.count() - 4)
    assert notes(window)[0] == Note(start_beat=0, length_beats=0.5, pitch=60)
    assert names.item(names.count() - 1).text() == "Cut notes (undone)"
    names.setCurrentRow(names.count() - 1)
    assert window.desk.session == after
    dialog.close()


# --- tracks --------------------------------------------------------------------------------------------------------


def order(window) -> list[str]:
    return [t.id for t in window.desk.session.tracks]


def test_a_track_is_dragged_to_its_place_and_several_go_together(window, hand):
    one, three = window.left.row_of("one"), window.left.row_of("three")
    start = QPointF(60, 12)
    hand.drag(one, start, QPointF(60, three.y() - one.y() + three.height() - 2))
    assert order(window) == ["two", "three", "one"]
    pump()
    hand.click("track.two")
    QTest.mouseClick(window.left.row_of("three"), Qt.MouseButton.LeftButton, CTRL)
    assert window.desk.selection.tracks == {"two", "three"}
    hand.key(window.left.row_of("two"), Qt.Key.Key_Down, ALT)
    assert order(window) == ["one", "two", "three"]
    QTest.mouseClick(window.left.row_of("one"), Qt.MouseButton.LeftButton, SHIFT)
    hand.shortcut("edit.mute")
    assert [t.mute for t in window.desk.session.tracks] == [True, True, False]


def test_several_tracks_take_one_move_of_a_ruler(window, hand):
    hand.stage(3)
    hand.click("track.one")
    QTest.mouseClick(window.left.row_of("two"), Qt.MouseButton.LeftButton, CTRL)
    window.desk.edit(
        "Two", lambda s: s.replace(tracks=tuple(t.replace(level_db=-10.0) if t.id == "two" else t for t in s.tracks))
    )
    hand.typed("chains.ruler.level_db", "-4")
    assert [t.level_db for t in window.desk.session.tracks] == [-4.0, -14.0, 0.0]
    window.desk.bench.undo()
    assert [t.level_db for t in window.desk.session.tracks] == [0.0, -10.0, 0.0]


def test_a_track_goes_through_the_clipboard_with_its_chain(window, hand):
    row = window.left.row_of("one")
    row.setFocus()
    QApplication.processEvents()
    hand.context(row, "Copy")
    hand.click("track.three")
    hand.context(window.left.row_of("three"), "Paste after")
    assert order(window) == ["one", "two", "three", "one-2"]
    assert [d.kind for d in window.desk.session.track("one-2").chain] == ["eq", "compressor"]
    assert window.desk.selection.track_id == "one-2"
    hand.context(window.left.row_of("one-2"), "Duplicate without notes")
    assert window.desk.session.tracks[-1].parts == ()
    hand.context(window.left.row_of(window.desk.selection.track_id), "Remove")
    assert len(order(window)) == 4


def test_a_bus_is_not_duplicated_and_says_so(window, hand):
    hand.context(window.left.row_of("room"), "Duplicate")
    assert "choose a track" in hand.told[-1]
    assert len(window.desk.session.buses) == 1


# --- chains and layers ---------------------------------------------------------------------------------------------


def test_a_card_is_dragged_along_the_chain(window, hand):
    hand.stage(3)
    chains = window.stages["chains"]
    first, second = chains._cards["eq"], chains._cards["comp"]
    hand.drag(first, QPointF(40, 60), QPointF(second.x() - first.x() + second.width() - 4, 60))
    assert [d.id for d in window.desk.session.track("one").chain] == ["comp", "eq"]
    window.desk.bench.undo()
    assert [d.id for d in window.desk.session.track("one").chain] == ["eq", "comp"]


def test_one_device_and_all_that_follow_are_switched_by_one_key(window, hand):
    hand.stage(3)
    window.desk.selection.device("eq")
    hand.shortcut("edit.rest_on")
    assert [d.on for d in window.desk.session.track("one").chain] == [False, False]
    hand.shortcut("edit.rest_on")
    assert [d.on for d in window.desk.session.track("one").chain] == [True, True]
    window.desk.selection.device("comp")
    hand.shortcut("edit.rest_on")
    assert [d.on for d in window.desk.session.track("one").chain] == [True, False]


def test_a_device_is_found_by_typing(window, hand):
    hand.stage(3)
    offer = window.findChildren(DeviceOffer)[-1]
    offer.words.setText("sat")
    shown = [each.objectName() for _, _, made in offer._groups for _, each in made if not each.isHidden()]
    assert "chains.add.saturation" in shown
    assert "chains.add.delay" not in shown
    QTest.keyClick(offer.words, Qt.Key.Key_Return)
    assert [d.kind for d in window.desk.session.track("one").chain] == ["eq", "saturation", "compressor"]
    assert offer.words.text() == ""
    offer.words.setText("xyzzy")
    QTest.keyClick(offer.words, Qt.Key.Key_Return)
    assert len(window.desk.session.track("one").chain) == 3
    offer.words.clear()


def test_layers_are_taken_in_from_another_sound(window, hand):
    window.stages["sounds"].show_tab("Source")
    hand.menu("sounds.sound", "Take in the layers of", "Two")
    assert [layer.name for layer in window.desk.session.track("one").source.layers] == ["A", "A copy"]
    window.stages["sounds"].setFocus()
    hand.shortcut("edit.copy")
    hand.click("track.three")
    hand.shortcut("edit.paste")
    assert [layer.name for layer in window.desk.session.track("three").source.layers] == ["A", "A copy"]
    hand.menu("sounds.sound", "Copy the sound")
    hand.click("track.two")
    hand.menu("sounds.sound", "Paste in its place")
    assert len(window.desk.session.track("two").source.layers) == 2
    assert window.desk.session.track("two").source.phrases  # its notes stay


# --- automation ----------------------------------------------------------------------------------------------------


def test_points_are_set_by_number_and_a_movement_is_pasted_elsewhere(window, hand):
    hand.stage(3)
    hand.choose("lane.add", "Level")
    hand.click("lane.point.add")
    hand.typed("lane.point.value", "-12")
    hand.typed("lane.point.beat", "1/2")
    lane = window.desk.session.lanes[0]
    assert [(p.beat, p.value) for p in lane.points] == [(0.0, 0.0), (2.0, -12.0)]
    hand.typed("lane.point.value", "40")
    assert "between -60 and 12 dB" in hand.told[-1]
    hand.typed("lane.point.beat", "99")
    assert "do not pass each other" in hand.told[-1]
    hand.menu("lane.menu", "Copy")
    hand.click("track.two")
    hand.choose("lane.add", "Pan")
    hand.menu("lane.menu", "Paste its movement here")
    pan = window.desk.session.lanes[1]
    level_way = [(v + 60.0) / 72.0 for v in (0.0, -12.0)]
    assert [(p.value + 100.0) / 200.0 for p in pan.points] == pytest.approx(level_way)


def test_a_lane_that_is_to_add_keeps_what_is_heard(window, hand):
    window.desk.edit("Level", lambda s: s.replace(tracks=tuple(t.replace(level_db=-6.0) for t in s.tracks)))
    hand.stage(3)
    hand.choose("lane.add", "Level")
    hand.typed("lane.point.value", "-9")
    hand.choose("lane.relative", "added to the ruler")
    lane = window.desk.session.lanes[0]
    assert [p.value for p in lane.points] == pytest.approx([-3.0])
    hand.choose("lane.relative", "in place of the ruler")
    assert [p.value for p in window.desk.session.lanes[0].points] == pytest.approx([-9.0])


def test_several_selected_tracks_take_one_move(window, hand):
    hand.stage(3)
    hand.choose("lane.add", "Level")
    hand.typed("lane.point.value", "-9")
    hand.menu("lane.menu", "To the other selected tracks")
    assert "No other track is selected" in hand.told[-1]
    QTest.mouseClick(window.left.row_of("two"), Qt.MouseButton.LeftButton, CTRL)
    QTest.mouseClick(window.left.row_of("three"), Qt.MouseButton.LeftButton, CTRL)
    hand.menu("lane.menu", "To the other selected tracks")
    moved = {lane.strip: [p.value for p in lane.points] for lane in window.desk.session.lanes}
    assert moved == {"one": [-9.0], "two": [-9.0], "three": [-9.0]}
    hand.menu("lane.menu", "To the other selected tracks")
    assert "automated on 'Three' already" in hand.told[-1]
    assert len(window.desk.session.lanes) == 3


def test_a_point_keeps_its_bend_when_it_is_moved(window, hand):
    hand.stage(3)
    hand.choose("lane.add", "Level")
    hand.click("lane.point.add")
    hand.click("lane.point.previous")
    hand.typed("lane.bend", "0.6")
    hand.click("lane.point.next")
    hand.typed("lane.bend", "-0.4")
    hand.typed("lane.point.beat", "1")
    plot = window.stages["chains"].lanes.plot
    plot.pressed.emit(1.0, 0.0)
    plot.dragged.emit(3.0, -20.0)
    plot.released.emit()
    lane = window.desk.session.lanes[0]
    assert [(p.beat, p.value, p.curve) for p in lane.points] == [(0.0, 0.0, 0.6), (3.0, pytest.approx(-20.0), -0.4)]


# --- ears ----------------------------------------------------------------------------------------------------------


def test_ears_are_switched_by_keys_and_stay_through_another_project(window, hand, opened):
    ears = window.findChild(EarsBar)
    hand.shortcut("play.listen.mono")
    assert window.desk.listening.transport.ears.wanted.way == "mono"
    hand.shortcut("play.listen.dim")
    hand.choose("ears.band", "presence")
    assert ears.wanted.dim
    assert ears.wanted.band == "presence"
    hand.click("ears.dim")
    hand.choose("ears.band", "all bands")
    assert ears.accessibleName() == "How you listen: Both sides summed, as one loudspeaker plays them"
    made = opened(Project(window.desk.session, store=AudioStore()), stage="sounds")
    assert made.desk.listening.transport.ears.wanted.way == "mono"
    hand.shortcut("play.listen.mono")
    assert ears.wanted.is_plain


def test_meters_of_tracks_move_while_it_plays(window, hand, qtbot):
    assert all(each._peak is None for each in window.left.rows)
    window.desk.listening.toggle_play()
    qtbot.waitUntil(lambda: (window.left.row_of("one")._peak or 0.0) > 0.01, timeout=8000)
    assert (window.left.row_of("mix")._peak or 0.0) > 0.01
    assert np.max(window.desk.listening.transport.strip_peaks[5:]) == 0.0
    window.desk.listening.stop()
    qtbot.waitUntil(lambda: window.left.row_of("one")._peak is None, timeout=3000)


# --- the library holds chains and phrases too ----------------------------------------------------------------------


def test_a_chain_and_a_phrase_are_kept_with_a_note_and_found_again(window, hand, monkeypatch):
    def kept(dialog: KeepDialog) -> int:
        dialog.name.setText("Warm glue" if "chain" in dialog.windowTitle() else "Walk")
        dialog.notes.setPlainText("for soft verses")
        return KeepDialog.DialogCode.Accepted

    monkeypatch.setattr(KeepDialog, "exec", kept)
    hand.stage(3)
    hand.menu("chains.chain", "Keep in the library…")
    hand.stage(2)
    hand.menu("sounds.phrase.menu", "Keep in the library…")
    hand.click("track.three")
    hand.stage(3)
    chains = window.stages["chains"]
    dialog = KeptDialog(window, window.desk, "devices", chains.paste)
    dialog.words.setText("verses glue")
    assert dialog.list.count() == 1
    assert dialog.note.text() == "for soft verses"
    dialog.use()
    assert [d.kind for d in window.desk.session.track("three").chain] == ["eq", "compressor"]
    again = KeptDialog(window, window.desk, "phrase", window.stages["sounds"].notes.paste)
    assert [again.list.item(i).text() for i in range(again.list.count())] == ["Walk"]
    again.words.setText("nothing like it")
    assert "No name or note" in again.note.text()
    again.words.clear()
    again.remove()
    assert "is kept yet" in again.note.text()
    again.use()  # nothing is chosen: nothing happens


def test_a_device_is_heard_away_at_equal_loudness_and_an_edit_brings_it_back(window, hand, settled):
    loud = device("gain", "g", gain_db=12.0)
    window.desk.edit("Gain", lambda s: s.replace(tracks=(s.tracks[0].replace(chain=(loud,)), *s.tracks[1:])))
    hand.stage(3)
    window.desk.selection.device("g")
    before = window.desk.session
    settled(window)
    hand.shortcut("edit.without")
    settled(window)
    listening = window.desk.listening
    assert window.desk.session == before
    assert hand.find(QWidget, "chains.without").text() == "heard without Gain"
    (with_it, without), match = listening._compared
    assert with_it.session == before
    assert not without.session.track("one").chain[0].on
    # The one that is louder comes down, by as much as the two mixes differ.
    assert match.a_gain_db < -1.0
    assert match.a.lufs + match.a_gain_db == pytest.approx(match.b.lufs, abs=0.05)
    assert listening.heard == 1
    hand.shortcut("edit.without")
    assert listening._compared is None
    assert listening.heard == 0
    hand.shortcut("edit.without")
    settled(window)
    window.desk.edit("Level", lambda s: s.replace(mix=s.mix.replace(level_db=-1.0)))
    assert listening._compared is None
    assert hand.find(QWidget, "chains.without").text() == ""
    listening.stop()


def test_a_branch_is_heard_alone(window, hand, settled):
    split = {"id": "s", "kind": "split", "branches": [{"gain_db": 0.0, "devices": [{"id": "h", "kind": "filter", "mode": "highpass", "cutoff_hz": 4000.0}]}, {"gain_db": 0.0}]}  # fmt: skip
    window.desk.edit(
        "Split", lambda s: s.replace(tracks=(s.tracks[0].replace(chain=(Device.model_validate(split),)), *s.tracks[1:]))
    )
    hand.stage(3)
    window.desk.selection.device("s")
    hand.click("chains.branch.alone")
    settled(window)
    (_, alone), _ = window.desk.listening._compared
    levels = [b["gain_db"] for b in alone.session.track("one").chain[0].params["branches"]]
    assert levels == [0.0, -60.0]
    hand.click("chains.branch.alone")
    assert window.desk.listening._compared is None
    window.desk.listening.stop()
