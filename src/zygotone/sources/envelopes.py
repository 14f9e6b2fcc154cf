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
def _way(y: FloatArray, at: int, start: float, end: float, frames: int, curve: float) -> int:
    """From ``start`` towards ``end`` over ``frames``, as far as y goes; returns where it ended. The exponential is stepped
    by a factor, not worked out at each frame."""
    stop = int(min(y.shape[0], at + frames))
    k = _BEND * curve
    if frames <= 0:
        return at
    if abs(k) < 1e-6:
        for i in range(at, stop):
            y[i] = start + (end - start) * (i - at) / frames
        return stop
    factor = math.exp(-k / frames)
    scale = (end - start) / (1.0 - math.exp(-k))
    power = 1.0
    for i in range(at, stop):
        y[i] = start + scale * (1.0 - power)
        power *= factor
    return stop


@kernel
def _held(
    y: FloatArray,
    delay: int,
    attack: int,
    hold: int,
    decay: int,
    sustain: float,
    attack_curve: float,
    decay_curve: float,
) -> None:
    at = min(y.shape[0], delay)
    y[:at] = 0.0
    at = _way(y, at, 0.0, 1.0, attack, attack_curve)
    stop = min(y.shape[0], at + hold)
    y[at:stop] = 1.0
    at = _way(y, stop, 1.0, sustain, decay, decay_curve)
    y[at:] = sustain


def envelope_curve(envelope: Envelope, gate_frames: int, rate_hz: int) -> FloatArray:
    """The envelope of a note held for ``gate_frames``, with its release; shape (frames,), 0 to 1."""

    def frames(ms: float) -> int:
        return round(ms * 1e-3 * rate_hz)

    release = frames(envelope.release_ms)
    line = np.empty(gate_frames + release)
    _held(
        line[:gate_frames], frames(envelope.delay_ms), frames(envelope.attack_ms), frames(envelope.hold_ms),
        frames(envelope.decay_ms), envelope.sustain, envelope.attack_curve, envelope.decay_curve,
    )  # fmt: skip
    last = float(line[gate_frames - 1]) if gate_frames else 0.0
    _way(line, gate_frames, last, 0.0, release, envelope.release_curve)
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
