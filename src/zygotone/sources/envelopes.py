"""Envelope curves."""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray
from zygotone.session.models import Envelope

_BEND = 6.0  # curvature 1 covers 1 − e⁻⁶ of an exponential


@kernel
def _bent(t: float, curve: float) -> float:
    """0 to 1 over t from 0 to 1: quick at first where ``curve`` is above 0, slow at first below."""
    k = _BEND * curve
    if abs(k) < 1e-6:
        return t
    return (1.0 - math.exp(-k * t)) / (1.0 - math.exp(-k))


@kernel
def _way(y: FloatArray, every: int, begin: int, until: int, start: float, end: float, frames: int, curve: float) -> int:
    """From ``start`` at frame ``begin`` towards ``end`` over ``frames``, as far as frame ``until``; y (points,) has a value for
    each ``every`` frames. Returns the frame where it ended. The exponential is stepped by a factor, not worked out each
    time."""
    stop = min(begin + frames, until)
    if frames <= 0:
        return begin
    first = -(-begin // every)
    last = min(y.shape[0], -(-stop // every))
    k = _BEND * curve
    if abs(k) < 1e-6:
        slope = (end - start) / frames
        for i in range(first, last):
            y[i] = start + slope * (i * every - begin)
        return stop
    factor = math.exp(-k * every / frames)
    scale = (end - start) / (1.0 - math.exp(-k))
    power = math.exp(-k * (first * every - begin) / frames)
    for i in range(first, last):
        y[i] = start + scale * (1.0 - power)
        power *= factor
    return stop


@kernel
def _stay(y: FloatArray, every: int, begin: int, until: int, value: float) -> None:
    for i in range(-(-begin // every), min(y.shape[0], -(-until // every))):
        y[i] = value


@kernel
def _curve(
    y: FloatArray, every: int, gate: int, delay: int, attack: int, hold: int, decay: int, sustain: float, release: int,
    attack_curve: float, decay_curve: float, release_curve: float,
) -> None:  # fmt: skip
    """y (points,), at frames 0, ``every``, 2·``every`` and so on of a note held for ``gate``; 0 after the release."""
    at = min(delay, gate)
    _stay(y, every, 0, at, 0.0)
    begun = at
    at = _way(y, every, begun, gate, 0.0, 1.0, attack, attack_curve)
    stop = min(at + hold, gate)
    _stay(y, every, at, stop, 1.0)
    fallen = _way(y, every, stop, gate, 1.0, sustain, decay, decay_curve)
    _stay(y, every, fallen, gate, sustain)
    # Where it stands when the key comes up, a frame before which was the last that it was held.
    held = gate - 1
    if held < begun:
        last = 0.0
    elif held < at:
        last = _bent((held - begun) / attack, attack_curve)
    elif held < stop:
        last = 1.0
    elif held < fallen:
        last = 1.0 - (1.0 - sustain) * _bent((held - stop) / decay, decay_curve)
    else:
        last = sustain
    ended = _way(y, every, gate, gate + release, last, 0.0, release, release_curve)
    _stay(y, every, ended, y.shape[0] * every, 0.0)


def envelope_curve(
    envelope: Envelope, gate_frames: int, rate_hz: int, *, every: int = 1, points: int | None = None
) -> FloatArray:
    """The envelope of a note held for ``gate_frames``, 0 to 1: a value for each ``every`` frames, as many as hold and release
    need or ``points``."""

    def frames(ms: float) -> int:
        return round(ms * 1e-3 * rate_hz)

    release = frames(envelope.release_ms)
    line = np.empty(-(-(gate_frames + release) // every) if points is None else points)
    _curve(
        line, every, gate_frames, frames(envelope.delay_ms), frames(envelope.attack_ms), frames(envelope.hold_ms),
        frames(envelope.decay_ms), envelope.sustain, release, envelope.attack_curve, envelope.decay_curve,
        envelope.release_curve,
    )  # fmt: skip
    return line


def envelope_line(
    frames: FloatArray,
    gate_frames: int,
    rate_hz: int,
    *,
    attack_ms: float,
    decay_ms: float,
    sustain: float,
    release_ms: float,
) -> FloatArray:
    """A plain envelope at ``frames`` of a note (any shape): a short straight attack, exponential decay and release."""
    t = frames / rate_hz
    attack, decay, release = max(attack_ms, 0.01) * 1e-3, decay_ms * 1e-3, release_ms * 1e-3

    def held(time: FloatArray) -> FloatArray:
        along = np.clip((time - attack) / decay, 0.0, 1.0)
        fallen = (1.0 - np.exp(-4.0 * along)) / (1.0 - math.exp(-4.0))
        return np.asarray(np.where(time < attack, time / attack, 1.0 - (1.0 - sustain) * fallen))

    gate_s = gate_frames / rate_hz
    at_end = float(held(np.array([gate_s]))[0])
    along = np.clip((t - gate_s) / release, 0.0, 1.0)
    let_go = at_end * (np.exp(-4.0 * along) - math.exp(-4.0)) / (1.0 - math.exp(-4.0))
    return np.asarray(np.where(t < gate_s, held(t), let_go))
