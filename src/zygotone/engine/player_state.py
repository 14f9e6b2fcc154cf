"""What the player tells while it plays: numbers in memory that it shares with whoever started it."""

from __future__ import annotations

import mmap
import os

import numpy as np

NAMES = (
    "alive", "position", "load", "left_peak", "right_peak", "drop_outs", "limited", "played_s", "playing", "rolling",
    "live_idle", "bad_samples", "version", "next_position",
)  # fmt: skip
NOTES = 129  # keys 0 to 127, and one for a sound of the library
_SIZE = 8 * (len(NAMES) + NOTES)


class PlayerState:
    """Each number is written by the player alone, in one go, so that no lock is needed."""

    def __init__(self, handle: int | None = None) -> None:
        """Of an open file of ``os.memfd_create``, or a new one: it has no name, and goes with the last process that has it."""
        self.handle = os.memfd_create("zygotone-player") if handle is None else handle
        if handle is None:
            os.ftruncate(self.handle, _SIZE)
        self._memory = mmap.mmap(self.handle, _SIZE)
        numbers = np.frombuffer(self._memory, dtype=np.float64)
        self._numbers, self.heard_frames = numbers[: len(NAMES)], numbers[len(NAMES) :]
        if handle is None:
            self.heard_frames[:] = -1.0

    def __getitem__(self, name: str) -> float:
        return float(self._numbers[NAMES.index(name)])

    def __setitem__(self, name: str, value: float) -> None:
        self._numbers[NAMES.index(name)] = value


def note_place(key: object) -> int:
    """Where a note stands among ``heard_frames``."""
    return key if isinstance(key, int) and 0 <= key < NOTES - 1 else NOTES - 1
