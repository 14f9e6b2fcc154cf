"""What the player tells while it plays."""

from __future__ import annotations

from zygotone.engine.child import SharedNumbers
from zygotone.session.models import MOST_STRIPS


class PlayerState(SharedNumbers):
    NAMES = (
        "alive", "position", "load", "left_peak", "right_peak", "drop_outs", "held_db", "played_s", "playing", "rolling",
        "live_idle", "bad_samples", "version", "next_position", "momentary_lufs", "short_term_lufs", "correlation", "balance_db",
        "input_peak", "recording", "asked",
    )  # fmt: skip
    NOTES = 129  # of each note how many frames of it were heard: keys 0 to 127, and a sound of the library
    BANDS = 31  # third octaves of what is played, in dB
    ROW = NOTES + BANDS + MOST_STRIPS  # and of each track and bus its largest sample

    def __init__(self, handle: int | None = None) -> None:
        super().__init__(handle)
        bands = self.NOTES + self.BANDS
        self.heard_frames, self.bands_db, self.strip_peaks = (
            self.row[: self.NOTES], self.row[self.NOTES : bands], self.row[bands:],
        )  # fmt: skip
        if handle is None:
            self.heard_frames[:] = -1.0


def note_place(key: object) -> int:
    """Where a note stands among ``heard_frames``."""
    return key if isinstance(key, int) and 0 <= key < PlayerState.NOTES - 1 else PlayerState.NOTES - 1
