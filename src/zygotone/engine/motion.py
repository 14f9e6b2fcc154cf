"""Automation at work: parameter values over the frames of the song.

Conventions
-----------
Values are worked out on the control grid, counted from the start of the song. Levels and pans move from frame to frame.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from zygotone.dsp.types import FloatArray
from zygotone.engine.graph import Motion
from zygotone.session.automation import lane_values
from zygotone.session.instruments import Layer, layer_value
from zygotone.sources.modulation import Automation


def beats_of(frames: FloatArray, *, rate_hz: int, bpm: float) -> FloatArray:
    """Positions in beats of frames of the song."""
    return np.asarray(np.asarray(frames, dtype=np.float64) * (bpm / 60.0 / rate_hz))


def moved(motions: Sequence[Motion], base: float, beats: FloatArray) -> FloatArray:
    """Value at ``beats`` (n,) of one parameter: ``base`` where no lane plays, and the last lane where several do."""
    out = np.full(len(beats), float(base))
    for motion in motions:
        playing = (beats >= motion.start_beat) & (beats < motion.end_beat)
        if playing.any():
            out[playing] = lane_values(motion.lane, motion.param, beats[playing] - motion.start_beat)
    return out


def layer_automation(layer: Layer, motions: Sequence[Motion], *, bpm: float) -> Automation:
    """What lanes move on a layer: by path, its values at beats of the song (n,)."""

    def follow(path: str, mine: Sequence[Motion]) -> Callable[[FloatArray], FloatArray]:
        return lambda beats: moved(mine, layer_value(layer, path, bpm=bpm), beats)

    return {path: follow(path, mine) for path, mine in by_path(motions).items()}


def by_path(motions: Sequence[Motion]) -> dict[str, list[Motion]]:
    found: dict[str, list[Motion]] = {}
    for motion in motions:
        found.setdefault(motion.path, []).append(motion)
    return found
