"""What the player tells while it plays."""

from __future__ import annotations

from zygotone.engine.child import SharedNumbers


class PlayerState(SharedNumbers):
    NAMES = (
        "alive", "position", "load", "left_peak", "right_peak", "drop_outs", "held_db", "played_s", "playing", "rolling",
        "live_idle", "bad_samples", "version", "next_position",
    )  # fmt: skip
    ROW = 129  # of each note how many frames of it were heard: keys 0 to 127, and a sound of the library

    def __init__(self, handle: int | None = None) -> None:
        super().__init__(handle)
        self.heard_frames = self.row
        if handle is None:
            self.heard_frames[:] = -1.0


def note_place(key: object) -> int:
    """Where a note stands among ``heard_frames``."""
    return key if isinstance(key, int) and 0 <= key < PlayerState.ROW - 1 else PlayerState.ROW - 1
