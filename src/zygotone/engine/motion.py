"""Automation at work: parameter values over the frames of the song.

Conventions
-----------
Values are worked out on the control grid, counted from the start of the song. Levels and pans move from frame to frame.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from zygotone.dsp.types import FloatArray
from zygotone.engine.graph import Motion
from zygotone.session.automation import lane_values
from zygotone.session.models import InstrumentSource, Layer
from zygotone.session.params import Values
from zygotone.sources.instrument import LayerGain


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


def layer_gains(source: InstrumentSource, motions: Sequence[Motion], rate_hz: int, bpm: float) -> dict[str, LayerGain]:
    """For each layer that automation moves, its gains of left and right over any frames of the song, shape (2, n)."""
    found: dict[str, LayerGain] = {}
    for layer in source.layers:
        mine = by_path([m for m in motions if m.lane.layer == layer.id])
        if mine:

            def gains(
                start: int, frames: int, layer: Layer = layer, mine: dict[str, list[Motion]] = mine
            ) -> FloatArray:
                beats = beats_of(np.maximum(0, np.arange(start, start + frames)), rate_hz=rate_hz, bpm=bpm)
                level = moved(mine.get("level_db", ()), layer.level_db, beats)
                pan = moved(mine.get("pan_pct", ()), layer.pan_pct, beats)
                return moving_gains(level, pan)

            found[layer.id] = gains
    return found


def moving_gains(level_db: FloatArray, pan_pct: FloatArray) -> FloatArray:
    """Gains of left and right for a level and a pan that differ from frame to frame: both (n,), the result (2, n)."""
    angle = (pan_pct / 100.0 + 1.0) * (np.pi / 4.0)
    sides = np.stack([np.cos(angle), np.sin(angle)]) * np.sqrt(2.0)
    return np.asarray(np.maximum(sides, 0.0) * 10.0 ** (level_db / 20.0))


def by_path(motions: Sequence[Motion]) -> dict[str, list[Motion]]:
    found: dict[str, list[Motion]] = {}
    for motion in motions:
        found.setdefault(motion.path, []).append(motion)
    return found


def read_path(values: Values, path: str) -> Any:
    """``threshold_db`` or ``bands.0.gain_db`` of a device's values."""
    name, _, rest = path.partition(".")
    if not rest:
        return values[name]
    at, _, inner = rest.partition(".")
    return values[name][int(at)][inner]


def write_path(values: Values, path: str, value: Any) -> Values:
    name, _, rest = path.partition(".")
    if not rest:
        return values.replace(**{name: value})
    at, _, inner = rest.partition(".")
    entries = list(values[name])
    entries[int(at)] = entries[int(at)].replace(**{inner: value})
    return values.replace(**{name: tuple(entries)})
