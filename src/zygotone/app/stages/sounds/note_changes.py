"""What the menus of the note grid choose, and what they change: what is chosen, or all notes where nothing is."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtWidgets import QInputDialog, QWidget

from zygotone.app.desk import Desk
from zygotone.app.widgets.asking import Entry, Menu
from zygotone.app.widgets.note_grid import NoteGrid
from zygotone.session import note_edits as edits
from zygotone.session.instruments import Note
from zygotone.session.note_edits import Change


class NoteChanges:
    def __init__(self, desk: Desk, grid: NoteGrid, parent: QWidget) -> None:
        self._desk, self._grid, self._parent = desk, grid, parent

    def choices(self) -> Menu:
        grid = self._grid
        return (
            ("All (Ctrl+A)", "sounds.choose.all", grid.choose_all),
            ("All of this pitch (P)", "sounds.choose.pitch", grid.choose_same_pitch),
            ("On weak beats", "sounds.choose.weak", lambda: grid.choose_weak(self._desk.song.beats_per_bar)),
            ("The others", "sounds.choose.rest", grid.choose_rest),
            ("None", "sounds.choose.none", lambda: grid.choose(())),
            None,
            ("Next (N)", "sounds.choose.next", lambda: grid.step_through(1)),
        )

    def entries(self) -> Menu:
        beats, step, key = self._grid.beats, self._grid.step, self._desk.song.parsed_key

        def entry(words: str, name: str, change: Change) -> Entry:
            return words, f"sounds.change.{name}", lambda: self._apply(words, change)

        def asked(words: str, name: str, ask: Callable[[], Change | None]) -> Entry:
            """Of a change that is asked about first, or cannot always be made."""
            return words, f"sounds.change.{name}", lambda: self._apply(words.rstrip("…"), ask())

        return (
            ("Duplicate (Ctrl+D)", "sounds.change.duplicate", self._grid.duplicate),
            "Time",
            entry("Reverse", "reverse", edits.reversed_in_time),
            entry("Twice as long", "twice", self._stretched(2.0)),
            entry("Half as long", "half", self._stretched(0.5)),
            asked("Stretch…", "stretch", self._ask_stretch),
            entry("Up to the next", "join_up", lambda notes: edits.joined_up(notes, phrase_beats=beats)),
            entry("Quantize wholly", "quantize", lambda notes: edits.on_grid(notes, step)),
            entry("Quantize by half", "quantize_half", lambda notes: edits.on_grid(notes, step, 0.5)),
            entry("Swing by half", "swing", lambda notes: edits.with_swing(notes, step, 0.5)),
            entry("Strum up, 24 ms", "strum", lambda notes: edits.as_strum(notes, 24.0)),
            entry("Strum down, 24 ms", "strum_down", lambda notes: edits.as_strum(notes, 24.0, upward=False)),
            "Pitch",
            asked("A step up in the key", "step_up", lambda: self._in_key(1)),
            asked("A step down in the key", "step_down", lambda: self._in_key(-1)),
            asked("A third up in the key", "third_up", lambda: self._in_key(2)),
            entry("An octave up", "octave_up", lambda notes: edits.moved(notes, 0.0, 12, phrase_beats=beats)),
            entry("An octave down", "octave_down", lambda notes: edits.moved(notes, 0.0, -12, phrase_beats=beats)),
            entry("Mirror", "mirror", lambda notes: edits.mirrored(notes, key)),
            "Velocity",
            entry("Harder, × 1.15", "harder", lambda notes: edits.velocity_scaled(notes, 1.15)),
            entry("Softer, × 0.87", "softer", lambda notes: edits.velocity_scaled(notes, 0.87)),
            entry("Ramp from the first to the last", "ramp", _ramp_between),
            entry("Humanize", "humanize", lambda notes: edits.with_feel(notes, time_ms=6.0, velocity=0.06, seed=1)),
        )

    def _apply(self, words: str, change: Change | None) -> None:
        if change is not None:
            self._grid.apply(words, change, all_of_them=True)

    def _stretched(self, factor: float) -> Change:
        return lambda notes: edits.stretched(notes, factor, phrase_beats=self._grid.beats)

    def _ask_stretch(self) -> Change | None:
        factor, good = QInputDialog.getDouble(self._parent, "Stretch notes", "Times as long:", 1.5, 0.05, 20.0, 3)
        return self._stretched(factor) if good else None

    def _in_key(self, steps: int) -> Change | None:
        key = self._desk.song.parsed_key
        if key is None:
            self._desk.refuse("The song has no key yet; choose one in the Brief.")
            return None
        return lambda notes: edits.transposed_in_key(notes, steps, key)


def _ramp_between(notes: Sequence[Note]) -> list[Note]:
    """From the first one's velocity to the last one's."""
    order = sorted(notes, key=lambda n: n.start_beat)
    return edits.ramped(notes, order[0].velocity, order[-1].velocity)
