"""Array types. Audio is float64, shape (2, frames), C-contiguous, full scale ±1.0."""

from __future__ import annotations

from typing import TypeAlias

import numpy as np
import numpy.typing as npt

FloatArray: TypeAlias = npt.NDArray[np.float64]
IntArray: TypeAlias = npt.NDArray[np.int64]
Single: TypeAlias = npt.NDArray[np.float32]
Stereo: TypeAlias = npt.NDArray[np.float64]  # shape (2, frames)

# Automation, modulation and coefficient changes fall on multiples of this many frames from the song's start.
GRID_FRAMES = 32
# Away from playback: long enough that what a step costs in Python, and two threads that wait for each other's, hardly
# count, and short enough that what is underway stays small.
OFFLINE_BLOCK_FRAMES = 16384
