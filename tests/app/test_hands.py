"""What the hand does: choosing, copying, ordering, going back, listening; by real presses, moves and keys in the window."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QAction
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QListWidget, QWidget

from tests.app.gestures import Hand, pump
from tests.builders import device
from tests.signals import RATE
from zygotone.app.history import HistoryDialog
from zygotone.app.kept import KeepDialog, KeptDialog
from zygotone.app.stages.chains.offer import DeviceOffer
from zygotone.app.widgets.ears import EarsBar
from zygotone.session.audio_files import AudioData
from zygotone.session.audio_store import AudioStore
from zygotone.session.edits import add_bus
from zygotone.session.instruments import InstrumentSource, Layer, Note, Phrase
from zygotone.session.models import ClipSource, Device, Part, Section, Session, Song, Track
from zygotone.session.project_file import Project

CTRL, SHIFT, ALT = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.AltModifier,
)


def a_track(name: str, **more) -> Track:
    layer = Layer.model_validate({"id": "a", "name": "A", "sound": {"kind": "oscillator"}})
    notes = tuple(Note(start_beat=b, length_beats=0.5, pitch=60 + b) for b in range(4))
    source = InstrumentSource(layers=(layer,), phrases=(Phrase(id="p", beats=4, notes=notes),))
    return Track(id=name.lower(), name=name, source=source, parts=(Part(section="a", phrase="p"), Part(section="b", phrase="p")), **more)  # fmt: skip


@pytest.fixture
def window(opened, settled):
    song = Song(
        tempo_bpm=120, key="C major", sections=(Section(id="a", name="A", bars=1), Section(id="b", name="B", bars=1))
    )
    tracks = (
        a_track("One", chain=(device("eq", "eq"), device("compressor", "comp"))),
        a_track("Two"),
        a_track("Three"),
    )
    made = opened(
        Project(session=add_bus(Session(rate_hz=RATE, song=song, tracks=tracks), "Room"), store=AudioStore()),
        stage="sounds",
    )
    made.stages["sounds"].show_tab("Notes")
    made.desk.selection.set_loop(("a",))
    made.desk.selection.track("one")
    settled(made)
    made.stages["sounds"].notes.grid.step = 0.25  # whatever others left
    made.stages["sounds"].notes.grid.see_all()
    made.stages["sounds"].notes.grid.choose(())
    QApplication.clipboard().clear()
    yield made
    made.stages["sounds"].show_tab("Source")
    made.status.ears.toggle("stereo")


@pytest.fixture
def hand(window) -> Hand:
    return Hand(window)


def notes(window, track: str = "one") -> tuple[Note, ...]:
    return window.desk.session.track(track).source.phrases[0].notes


def at(hand: Hand, n: int, part: float = 0.4) -> QPointF:
    """Within a note, by its place in the phrase."""
    box = hand.grid._box(hand.grid.notes[n])
    return QPointF(box.left() + part * box.width(), box.center().y())


# --- choosing notes ------------------------------------------------------------------------------------------------


def test_a_band_around_notes_chooses_them_and_shift_adds(window, hand):
    grid = hand.grid
    hand.drag(grid, hand.place(0.6, 63, into=0.0), hand.place(2.3, 60, into=0.0))
    assert grid.chosen == {1, 2}
    hand.drag(grid, hand.place(2.8, 64, into=0.0), hand.place(3.3, 62, into=0.0), SHIFT)
    assert grid.chosen == {1, 2, 3}
    QTest.mouseClick(grid, Qt.MouseButton.LeftButton, SHIFT, at(hand, 1).toPoint())
    assert grid.chosen == {2, 3}
    hand.shortcut("edit.select_all")
    assert grid.chosen == {0, 1, 2, 3}
    assert len(notes(window)) == 4  # none of this made a note


def test_what_is_chosen_moves_together_and_ctrl_leaves_the_original(window, hand):
    grid = hand.grid
    grid.choose((0, 1))
    start = at(hand, 0)
    hand.drag(grid, start, start + QPointF(grid._x(0.5) - grid._x(0.0), -2 * grid._row_height()))
    assert [(n.start_beat, n.pitch) for n in notes(window)] == [(0.5, 62), (1.5, 63), (2.0, 62), (3.0, 63)]
    window.desk.bench.undo()
    assert [n.start_beat for n in notes(window)] == [0.0, 1.0, 2.0, 3.0]
    grid.choose((0, 1))
    start = at(hand, 0)
    hand.drag(grid, start, start + QPointF(grid._x(0.5) - grid._x(0.0), 0.0), CTRL)
    assert [n.start_beat for n in notes(window)] == [0.0, 1.0, 2.0, 3.0, 0.5, 1.5]
    assert grid.chosen == {4, 5}
    window.desk.bench.undo()
    assert len(notes(window)) == 4


def test_the_right_end_makes_all_that_are_chosen_longer(window, hand):
    grid = hand.grid
    grid.choose((0, 2))
    end = at(hand, 0, 0.97)
    hand.drag(grid, end, end + QPointF(grid._x(0.25) - grid._x(0.0), 0.0))
    assert [n.length_beats for n in notes(window)] == [0.75, 0.5, 0.75, 0.5]
    hand.note(3.5, 66)  # a new note is as long as the one made longer last
    assert notes(window)[-1].length_beats == 0.75


def test_without_snap_a_note_goes_anywhere(window, hand):
    grid = hand.grid
    hand.find(QWidget, "sounds.snap").click()
    grid.choose((0,))
    start = at(hand, 0)
    hand.drag(grid, start, start + QPointF(grid._x(0.4) - grid._x(0.0), 0.0))
    moved = notes(window)[0].start_beat
    assert moved == pytest.approx(0.4, abs=0.02)
    assert moved % 0.25 != 0.0
    hand.find(QWidget, "sounds.snap").click()


@pytest.mark.parametrize(
    ("key", "modifiers", "change"),
    [
        (Qt.Key.Key_Right, Qt.KeyboardModifier.NoModifier, {"start_beat": 1.25}), (Qt.Key.Key_Up, Qt.KeyboardModifier.NoModifier, {"pitch": 62}),
        (Qt.Key.Key_Up, SHIFT, {"pitch": 73}), (Qt.Key.Key_Left, SHIFT, {"start_beat": 0.0}), (Qt.Key.Key_Right, ALT, {"nudge_ms": 1.0}),
        (Qt.Key.Key_Left, ALT | SHIFT, {"nudge_ms": -10.0}), (Qt.Key.Key_BracketRight, Qt.KeyboardModifier.NoModifier, {"length_beats": 0.75}),
        (Qt.Key.Key_Up, ALT, {"velocity": 0.82}),
    ],
)  # fmt: skip
def test_keys_move_nudge_lengthen_and_harden(window, hand, key, modifiers, change):
    hand.grid.choose((1,))
    hand.key(hand.grid, key, modifiers)
    after = notes(window)[1]
    assert {name: getattr(after, name) for name in change} == {k: pytest.approx(v) for k, v in change.items()}
    assert notes(window)[0].start_beat == 0.0


def test_notes_go_through_the_clipboard_to_another_track_and_another_place(window, hand):
    hand.grid.choose((2, 3))
    hand.shortcut("edit.cut")
    assert len(notes(window)) == 2
    hand.click("track.two")
    grid = hand.grid
    grid.setFocus()
    grid._place_caret(0.5, 60)
    hand.shortcut("edit.paste")
    assert [(n.start_beat, n.pitch) for n in notes(window, "two")[4:]] == [(0.5, 62), (1.5, 63)]
    assert grid.chosen == {4, 5}
    hand.key(grid, Qt.Key.Key_D, CTRL)
    assert len(notes(window, "two")) == 8
    assert window.desk.bench.undo_label == "Duplicate notes"


def test_what_is_no_copy_of_ours_is_told_and_nothing_happens(window, hand):
    before = window.desk.session
    QApplication.clipboard().setText("hello")
    hand.shortcut("edit.paste")
    assert "nothing to paste" in hand.told[-1]
    QApplication.clipboard().setText('{"zygotone": 1, "what": {"type": "notes", "notes": [{"start_beat": -4}]}}')
    hand.shortcut("edit.paste")
    assert "cannot be pasted" in hand.told[-1]
    hand.grid.choose((0,))
    hand.shortcut("edit.copy")
    window.show_stage("chains")
    hand.shortcut("edit.paste")
    assert "holds notes; here go devices" in hand.told[-1]
    assert window.desk.session == before


def test_fields_take_note_names_note_values_and_midi_velocities_and_refuse_the_rest(window, hand):
    hand.grid.choose((0, 1))
    hand.typed("sounds.note.pitch", "C3")
    assert [n.pitch for n in notes(window)[:2]] == [48, 49]  # the others move along
    hand.typed("sounds.note.length", "1/8d")
    assert [n.length_beats for n in notes(window)[:2]] == [0.75, 0.75]
    hand.typed("sounds.note.velocity", "127")
    assert notes(window)[0].velocity == 1.0
    hand.typed("sounds.note.start", "1.5")
    assert [n.start_beat for n in notes(window)[:2]] == [0.5, 1.5]
    before = window.desk.session
    for name, text in (
        ("pitch", "H9"),
        ("length", "0"),
        ("length", "1/0"),
        ("velocity", "loud"),
        ("nudge", "900"),
        ("start", "0"),
    ):
        told = len(hand.told)
        hand.typed(f"sounds.note.{name}", text)
        assert len(hand.told) > told, (name, text)
    hand.typed("sounds.phrase.beats", "-1")
    assert "between" in hand.told[-1]
    assert window.desk.session == before


def test_a_caret_writes_chords_and_takes_out_what_is_under_it(window, hand):
    grid = hand.grid
    hand.key(grid, Qt.Key.Key_Escape)
    grid._place_caret(3.5, 70)
    hand.key(grid, Qt.Key.Key_Return, SHIFT)  # stays, for a chord
    hand.key(grid, Qt.Key.Key_Up, times=4)
    hand.key(grid, Qt.Key.Key_Return)
    assert [(n.start_beat, n.pitch) for n in notes(window)[4:]] == [(3.5, 70), (3.5, 74)]
    grid._place_caret(3.5, 70)
    grid.choose((), writing=True)
    hand.key(grid, Qt.Key.Key_Delete)
    assert [n.pitch for n in notes(window)[4:]] == [74]
    hand.key(grid, Qt.Key.Key_N)
    assert grid.chosen == {0}
    hand.key(grid, Qt.Key.Key_N, SHIFT)
    assert grid.chosen == {4}


def test_undo_while_notes_are_chosen_keeps_the_choice_that_is_left(window, hand):
    hand.grid.choose((1, 2))
    hand.key(hand.grid, Qt.Key.Key_Up)
    window.desk.bench.undo()
    assert hand.grid.chosen <= {1, 2}
    hand.key(hand.grid, Qt.Key.Key_Delete)
    assert len(notes(window)) == 4 - len(hand.grid.chosen or ()) or len(notes(window)) < 4


def test_changes_are_of_what_is_chosen_or_of_all(window, hand):
    hand.menu("sounds.change", "A third up in the key")
    assert [n.pitch for n in notes(window)] == [
        64,
        65,
        65,
        66,
    ]  # C and D go up a third; what is beside the key stays beside it
    hand.grid.choose((0,))
    hand.menu("sounds.change", "An octave down")
    assert [n.pitch for n in notes(window)] == [52, 65, 65, 66]
    hand.menu("sounds.change", "Twice as long")
    hand.grid.choose(())
    hand.menu("sounds.change", "Twice as long")
    assert "lengthen it first" in hand.told[-1]


def test_the_grid_is_looked_along_and_zoomed(window, hand):
    grid = hand.grid
    hand.typed("sounds.phrase.beats", "16")
    width = grid._x(1.0) - grid._x(0.0)
    grid.setFocus()
    hand.key(grid, Qt.Key.Key_Plus, CTRL, times=3)
    assert grid._x(1.0) - grid._x(0.0) > 2.5 * width
    hand.key(grid, Qt.Key.Key_End)
    assert grid._first > 8.0
    hand.key(grid, Qt.Key.Key_0, CTRL)
    assert grid._x(1.0) - grid._x(0.0) == pytest.approx(width)


def test_phrases_are_copied_here_split_and_named_from_their_menu(window, hand, monkeypatch):
    hand.menu("sounds.phrase.menu", "Own copy here")
    track = window.desk.session.track("one")
    assert [p.phrase for p in track.parts] == ["p-a", "p"]
    hand.grid.choose(())
    hand.grid.caret = (2.0, 60)
    hand.menu("sounds.phrase.menu", "Split at the caret")
    track = window.desk.session.track("one")
    assert [p.phrase for p in track.parts if p.section == "a"] == ["p-a", "p-a-2"]
    hand.choose("sounds.phrase", "p-a-2 (2 beats)")
    assert [n.start_beat for n in hand.grid.notes] == [0.0, 1.0]
    assert window.desk.session.track("one").parts == track.parts  # it is only looked at
    monkeypatch.setattr(
        "zygotone.app.stages.sounds.phrases.QInputDialog.getText", lambda *a, **k: ("Second half", True)
    )
    hand.menu("sounds.phrase.menu", "Rename…")
    assert "second-half" in {p.id for p in window.desk.session.track("one").source.phrases}
    monkeypatch.setattr("zygotone.app.stages.sounds.phrases.ask_numbers", lambda *a: (1, 1, 2))
    hand.choose("sounds.phrase", "p-a (2 beats)")
    hand.menu("sounds.phrase.menu", "Copy bars…")
    assert window.desk.bench.undo_label == "Copy bars"


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


# --- ears ----------------------------------------------------------------------------------------------------------


def test_ears_are_switched_by_keys_and_stay_through_another_project(window, hand, opened):
    ears = window.findChild(EarsBar)
    hand.shortcut("play.listen.mono")
    assert window.desk.listening.transport.ears._next.listen.way == "mono"
    hand.shortcut("play.listen.dim")
    hand.choose("ears.band", "presence")
    assert ears.wanted.dim
    assert ears.wanted.band == "presence"
    hand.click("ears.dim")
    hand.choose("ears.band", "all bands")
    assert ears.accessibleName() == "How you listen: Both sides summed, as one loudspeaker plays them"
    made = opened(Project(window.desk.session, store=AudioStore()), stage="sounds")
    assert made.desk.listening.transport.ears._next.listen.way == "mono"
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


# --- audio ---------------------------------------------------------------------------------------------------------


@pytest.fixture
def clip_window(opened, settled):
    t = np.arange(RATE // 2) / RATE
    hit = 0.5 * np.sin(2 * np.pi * 330.0 * t) * np.exp(-12.0 * t)
    audio = np.tile(hit, (2, 8))
    store = AudioStore()
    asset = store.add(AudioData(audio, RATE, "FLOAT", "WAV"), "loop", RATE)
    song = Song(tempo_bpm=120, sections=(Section(id="a", name="A", bars=2), Section(id="b", name="B", bars=2)))
    track = Track(id="loop", name="Loop", source=ClipSource(asset=asset.id))
    made = opened(
        Project(Session(rate_hz=RATE, song=song, tracks=(track,), assets=(asset,)), store=store), stage="sounds"
    )
    made.desk.selection.set_loop(("a",))
    settled(made)
    return made


def parts(window) -> tuple[Part, ...]:
    return window.desk.session.track("loop").parts


def test_audio_is_cut_moved_trimmed_and_faded_on_its_waveform(clip_window, settled):
    window, hand = clip_window, Hand(clip_window)
    view = window.stages["sounds"].clips.view
    assert len(view.hits) == 8
    middle = view._area().center().y()
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPointF(view._x(4.03), middle).toPoint())
    assert view.caret == pytest.approx(4.0, abs=0.01)  # a hit, or the grid
    hand.click("clips.split")
    assert [(round(p.start_beat, 2), round(p.length_beats, 2)) for p in parts(window)] == [(0.0, 4.0), (4.0, 4.0)]
    view.chosen = 1
    hand.drag(view, QPointF(view._x(5.5), middle), QPointF(view._x(6.5), middle))
    assert parts(window)[1].start_beat == pytest.approx(5.0, abs=0.02)
    one = parts(window)[0]
    hand.drag(view, QPointF(view._x(0.0) + 1, middle), QPointF(view._x(1.0), middle))
    assert (parts(window)[0].start_beat, parts(window)[0].clip_start_s) == (
        pytest.approx(1.0, abs=0.02),
        pytest.approx(0.5, abs=0.01),
    )
    assert parts(window)[0].start_beat + parts(window)[0].length_beats == pytest.approx(4.0, abs=0.01)
    top = view._area().top() + 8
    hand.drag(view, QPointF(view._x(1.0) + 1, top), QPointF(view._x(2.0), top))
    assert parts(window)[0].fade_in_ms == pytest.approx(500.0, abs=30.0)
    window.desk.bench.undo()
    window.desk.bench.undo()
    assert parts(window)[0] == one  # each drag was one step
    hand.typed("clips.gain_db", "-6")
    hand.typed("clips.length_beats", "1/2")
    assert (parts(window)[0].gain_db, parts(window)[0].length_beats) == (-6.0, 2.0)
    before = window.desk.session
    for name, text in (("gain_db", "90"), ("stretch", "9"), ("length_beats", "x"), ("transpose_semitones", "99")):
        told = len(hand.told)
        hand.typed(f"clips.{name}", text)
        assert len(hand.told) > told, name
    assert window.desk.session == before


def test_audio_is_fitted_to_bars_and_sliced_into_notes(clip_window, settled):
    window, hand = clip_window, Hand(clip_window)
    page = window.stages["sounds"].clips
    page.fit(1.5)
    assert parts(window)[0].stretch == pytest.approx(0.75)
    window.desk.bench.undo()
    settled(window)
    hand.menu("clips.menu", "Slices to the hits, as notes")
    made = window.desk.session.tracks[1]
    assert len(made.source.phrases[0].notes) == 8
    assert window.desk.selection.track_id == made.id
    assert window.desk.session.track("loop").mute
    page.view.caret = None
    hand.click("track.loop")
    page.split()
    assert "Click in the audio" in hand.told[-1]


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
