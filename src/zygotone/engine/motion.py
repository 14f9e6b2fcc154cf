"""Automation at work: parameter values over the frames of the song.

Conventions
-----------
Values of devices are worked out at knots, every ``FADE_FRAMES`` from the start of the song, and what they do to the sound
fades from one knot to the next. Levels and pans move from frame to frame. Those of layers are worked out on the control grid.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from typing import TypeVar

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import GRID_FRAMES, FloatArray
from zygotone.engine.nodes import Motion

_M = TypeVar("_M", bound=Motion)

# As short as a change can be without being heard as a click: of a full step of a 1 kHz tone, less than −80 dB of its power
# lies more than 300 Hz away (measured in tests/engine/test_automation.py; the fade's slope is a Hann window).
FADE_FRAMES = 20 * GRID_FRAMES


@functools.cache
def _fade() -> FloatArray:
    t = np.arange(FADE_FRAMES) / FADE_FRAMES
    return np.asarray(t - np.sin(2.0 * np.pi * t) / (2.0 * np.pi))


def fade_weights(position: int, frames: int) -> FloatArray:
    """How much of the next knot is in force at frames ``position`` to ``position + frames`` of the song, 0 to 1."""
    return _fade()[np.arange(position, position + frames) % FADE_FRAMES]


# Faders follow their lane at points so far apart (in a straight line between), each the mean of the lane around it under a
# Hann window: a ramp stays a ramp, and a step takes as long as the fades above.
_POINT_FRAMES = 4
_HALF = FADE_FRAMES // (2 * _POINT_FRAMES)
_HANN = (0.5 + 0.5 * np.cos(np.pi * np.arange(-_HALF, _HALF + 1) / _HALF)) / _HALF


@kernel
def _smooth(values: FloatArray, weights: FloatArray, y: FloatArray) -> None:
    """y (rows, n) are weighted means of values (rows, n + weights − 1)."""
    for r in range(y.shape[0]):
        for i in range(y.shape[1]):
            total = 0.0
            for k in range(weights.shape[0]):
                total += weights[k] * values[r, i + k]
            y[r, i] = total


def smoothed(evaluate: Callable[[FloatArray], FloatArray], position: int, frames: int) -> FloatArray:
    """A curve of the song without its steps, at frames ``position`` to ``position + frames``: shape (rows, frames).
    ``evaluate`` gives it, (rows, n), at frames of the song (n,)."""
    first, last = position // _POINT_FRAMES, (position + frames - 1) // _POINT_FRAMES + 1
    points = np.arange(first - _HALF, last + _HALF + 1)
    rough = np.atleast_2d(evaluate(np.maximum(0, points * _POINT_FRAMES)))
    if np.all(rough == rough[:, :1]):
        return np.repeat(rough[:, :1], frames, axis=1)
    smooth = np.empty((len(rough), last - first + 1))
    _smooth(np.ascontiguousarray(rough), _HANN, smooth)
    at = np.arange(position, position + frames)
    whole = at // _POINT_FRAMES - first
    # Taken row by row: an index would give it column by column, and what is multiplied by that comes in columns too.
    here, there = np.take(smooth, whole, axis=1), np.take(smooth, whole + 1, axis=1)
    return np.asarray(here + (at % _POINT_FRAMES / _POINT_FRAMES) * (there - here))


def beats_of(frames: FloatArray, *, rate_hz: int, bpm: float) -> FloatArray:
    """Positions in beats of frames of the song."""
    return np.asarray(np.asarray(frames, dtype=np.float64) * (bpm / 60.0 / rate_hz))


def moved(motions: Sequence[Motion], base: float, beats: FloatArray) -> FloatArray:
    """Value at ``beats`` (n,) of one parameter: ``base`` where nothing moves it."""
    out = np.full(len(beats), float(base))
    for motion in sorted(motions, key=lambda m: m.rank):
        out = motion.onto(out, beats)
    return out


def by_path(motions: Sequence[_M]) -> dict[str, list[_M]]:
    found: dict[str, list[_M]] = {}
    for motion in motions:
        found.setdefault(motion.path, []).append(motion)
    return found
