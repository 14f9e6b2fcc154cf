"""Notes chosen, moved, copied and written by real presses, moves and keys in the window."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPointF, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QPushButton, QWidget

from tests.app.gestures import Hand
from zygotone.app.widgets.ruler import NumberField
from zygotone.session.instruments import Note

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
    hand.grid.setFocus()
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


def test_the_velocity_field_stops_at_its_ends_and_a_length_that_is_stepped_keeps_its_field(window, hand):
    hand.grid.choose((0,))
    hand.typed("sounds.note.velocity", "0.99")
    field = hand.find(NumberField, "sounds.note.velocity").field
    for _ in range(3):
        QTest.keyClick(field, Qt.Key.Key_Up)
    assert notes(window)[0].velocity == 1.0
    length = hand.find(NumberField, "sounds.phrase.beats").field
    for _ in range(3):
        QTest.keyClick(length, Qt.Key.Key_Up)
    assert hand.grid.beats == 7.0
    assert hand.find(NumberField, "sounds.phrase.beats").field is length  # the page is not made anew under the hand
    assert hand.find(QComboBox, "sounds.phrase").currentText() == "p (7 beats)"


def test_a_menu_is_filled_as_it_is_opened_with_the_mouse(window, hand, qtbot):
    opener = hand.find(QPushButton, "sounds.change")
    menu = opener.menu()
    seen = []

    def look() -> None:
        seen.extend(a.text() for a in menu.actions())
        menu.close()

    QTimer.singleShot(300, look)
    QTest.mousePress(opener, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: bool(seen), timeout=3000)
    assert "Reverse" in seen


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
