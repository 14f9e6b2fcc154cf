"""What is chosen in the note grid, in numbers. Of one note its values; of several the first one's, and a change moves all alike."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import QWidget

from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import column, row
from zygotone.app.widgets.note_grid import NoteGrid
from zygotone.app.widgets.ruler import NumberField
from zygotone.session import note_edits
from zygotone.session.instruments import Note, Phrase
from zygotone.session.note_edits import Change
from zygotone.session.params import Param, number, share, whole

PITCH = whole("pitch", "Pitch", 0, 127, 60, "A note, such as F#2 or 42.", unit="note")
START = number("start_beat", "Beat", "", 1.0, 100_001.0, 1.0, "Where it begins, counted from 1.")
LENGTH = number("length_beats", "Length", "beats", 1 / 64, 10_000.0, 1.0, "In beats, or a note value such as 1/8d.")
VELOCITY = Param(
    name="velocity", label="Velocity", default=0.8, as_midi=True, help="0 to 1, or 2 to 127 as MIDI counts."
)
NUDGE = number(
    "nudge_ms", "Nudge", "ms", -200.0, 200.0, 0.0, "Earlier (below 0) or later, without leaving its place in the bar."
)
WHEEL = share("wheel", "Wheel", 0.0, "Where the wheel stands as the note begins.")
PHRASE_BEATS = number(
    "beats",
    "Phrase length",
    "beats",
    1 / 64,
    10_000.0,
    16.0,
    "After this it begins anew. Notes beyond are kept, and silent.",
)
PHRASE_NUDGE = number("nudge_ms", "Phrase nudge", "ms", -200.0, 200.0, 0.0, "Moves the whole phrase: below 0 earlier.")


class NoteFields(QWidget):
    """``resize`` and ``nudge`` are told what the phrase is to be."""

    def __init__(
        self, desk: Desk, grid: NoteGrid, names: tuple[str, ...], *, resize: Callable[[float], None], nudge: Callable[[float], None]
    ) -> None:  # fmt: skip
        """``names`` are those of the four macros, empty where they have none."""
        super().__init__()
        self._desk, self._grid = desk, grid
        self._reads: list[tuple[NumberField, Callable[[Note], Any]]] = []
        chosen = [
            self._of_chosen(PITCH, "pitch", 1, lambda n: n.pitch, lambda v, lead: lambda notes: note_edits.moved(notes, 0.0, round(v) - lead.pitch, phrase_beats=grid.beats)),
            self._of_chosen(START, "start", 0.25, lambda n: n.start_beat + 1.0, lambda v, lead: lambda notes: note_edits.moved(notes, v - 1.0 - lead.start_beat, phrase_beats=grid.beats)),
            self._of_chosen(LENGTH, "length", 0.25, lambda n: n.length_beats, lambda v, lead: lambda notes: note_edits.lengthened(notes, v - lead.length_beats)),
            self._of_chosen(VELOCITY, "velocity", 0.02, lambda n: n.velocity, lambda v, lead: lambda notes: note_edits.harder(notes, v - lead.velocity)),
            self._of_chosen(NUDGE, "nudge", 1, lambda n: n.nudge_ms, lambda v, lead: lambda notes: note_edits.nudged(notes, v - lead.nudge_ms)),
            self._of_chosen(WHEEL, "wheel", 0.05, lambda n: n.wheel, lambda v, lead: lambda notes: [n.replace(wheel=v) for n in notes]),
        ]  # fmt: skip
        self._length, self._nudge = self._field(PHRASE_BEATS, "phrase.beats", 1, resize), self._field(PHRASE_NUDGE, "phrase.nudge", 1, nudge)  # fmt: skip
        macros = [
            self._of_chosen(
                share(f"macro{at + 1}", named or f"Macro {at + 1}", 0.0, f"Macro {at + 1} of what is chosen, for routes."), f"macro{at + 1}", 0.05,
                lambda n, at=at: n.macros[at], lambda v, lead, at=at: lambda notes: [n.replace(macros=_with(n.macros, at, v)) for n in notes],
            )
            for at, named in enumerate(names)
        ]  # fmt: skip
        self.setLayout(column(row(*chosen, spacing=8), row(self._length, self._nudge, *macros, spacing=8)))

    def _field(self, p: Param, name: str, step: float, change: Callable[[Any], None]) -> NumberField:
        desk = self._desk
        return NumberField(
            p, f"sounds.{name}", step=step, on_change=change, on_release=desk.end_merge, bpm=lambda: desk.song.tempo_bpm,
            on_error=desk.message.emit,
        )  # fmt: skip

    def _of_chosen(
        self, p: Param, name: str, step: float, read: Callable[[Note], Any], change: Callable[[Any, Note], Change]
    ) -> NumberField:
        """``change`` is given the new value and the note whose value was shown."""

        def changed(value: Any) -> None:
            lead = self._lead()
            if lead is not None:
                self._grid.apply(p.label, change(value, lead), merge=("field", p.name))

        made = self._field(p, f"note.{name}", step, changed)
        self._reads.append((made, read))
        return made

    def _lead(self) -> Note | None:
        return min(self._grid.copied(), key=lambda n: (n.start_beat, n.pitch), default=None)

    def show_values(self, phrase: Phrase | None) -> None:
        lead = self._lead()
        for field, read in self._reads:
            field.show_value(None if lead is None else read(lead), None)
        self._length.show_value(None if phrase is None else phrase.beats, None)
        self._nudge.show_value(None if phrase is None else phrase.nudge_ms, None)


def _with(macros: tuple[float, ...], at: int, value: float) -> tuple[float, ...]:
    return tuple(value if i == at else held for i, held in enumerate(macros))
