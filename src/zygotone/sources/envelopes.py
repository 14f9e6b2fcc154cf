"""Envelope curves."""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.types import FloatArray
from zygotone.session.models import Envelope

_BEND = 6.0  # curvature 1 covers 1 − e⁻⁶ of an exponential


def _segment(start: float, end: float, frames: int, curve: float) -> FloatArray:
    """From ``start`` towards ``end`` over ``frames``; quick at first where ``curve`` is above 0."""
    if frames <= 0:
        return np.zeros(0)
    t = np.arange(frames) / frames
    k = _BEND * curve
    s = t if k < 1e-6 else (1.0 - np.exp(-k * t)) / (1.0 - math.exp(-k))
    return np.asarray(start + (end - start) * s)


def envelope_curve(envelope: Envelope, gate_frames: int, rate_hz: int) -> FloatArray:
    """The envelope of a note held for ``gate_frames``, with its release; shape (frames,), 0 to 1."""

    def frames(ms: float) -> int:
        return round(ms * 1e-3 * rate_hz)

    held = np.concatenate(
        [
            np.zeros(frames(envelope.delay_ms)),
            _segment(0.0, 1.0, frames(envelope.attack_ms), 0.4 * envelope.curve),
            np.ones(frames(envelope.hold_ms)),
            _segment(1.0, envelope.sustain, frames(envelope.decay_ms), envelope.curve),
        ]
    )
    if len(held) < gate_frames:
        held = np.concatenate([held, np.full(gate_frames - len(held), envelope.sustain)])
    held = held[:gate_frames]
    last = float(held[-1]) if len(held) else 0.0
    return np.concatenate([held, _segment(last, 0.0, frames(envelope.release_ms), envelope.curve)])
