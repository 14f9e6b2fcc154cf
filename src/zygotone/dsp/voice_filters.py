"""Filters of voices: a state-variable filter whose cutoff moves, and the resonances of a mouth.

Conventions
-----------
What moves is given at the boundaries of the control grid's cells, as in ``oscillators``.
"""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import GRID_FRAMES, FloatArray, Stereo

MODES = ("lowpass", "highpass", "bandpass", "notch")


@kernel
def voice_filter(
    x: FloatArray, mode: int, stages: int, cutoffs: FloatArray, resonances: FloatArray, drives: FloatArray
) -> None:
    """In place: one or two zero-delay state-variable filters in series (V. Zavalishin, "The art of VA filter design",
    trapezoidal form). x (1 or 2, n); ``mode`` counts as in ``MODES``; cutoffs (cells + 1,) as tan(π·f/fs), resonances 0 to 1,
    drives (linear, 1 is none) into a soft curve before the first."""
    n = x.shape[1]
    state = np.zeros((2, 2, 2))
    damping = np.empty(GRID_FRAMES)
    tangent = np.empty(GRID_FRAMES)
    share = np.empty(GRID_FRAMES)
    for at in range(0, n, GRID_FRAMES):
        cell = at // GRID_FRAMES
        width = min(GRID_FRAMES, n - at)
        g0, dg = cutoffs[cell], (cutoffs[cell + 1] - cutoffs[cell]) / GRID_FRAMES
        k0, dk = 2.0 - 1.98 * resonances[cell], -1.98 * (resonances[cell + 1] - resonances[cell]) / GRID_FRAMES
        drive = drives[cell]
        for s in range(stages):
            for i in range(width):
                tangent[i] = g0 + dg * i
                # Of two in series only the second is resonant, or the peak would be twice as high.
                damping[i] = k0 + dk * i if s == stages - 1 else 1.41421356
                share[i] = 1.0 / (1.0 + tangent[i] * (tangent[i] + damping[i]))
            for c in range(x.shape[0]):
                row = x[c, at : at + width]
                if drive > 1.0 and s == 0:
                    for i in range(width):
                        row[i] = drive * row[i] / math.sqrt(1.0 + (drive * row[i]) * (drive * row[i]))
                ic1, ic2 = state[c, s, 0], state[c, s, 1]
                for i in range(width):
                    g, v0 = tangent[i], row[i]
                    v1 = share[i] * (ic1 + g * (v0 - ic2))
                    v2 = ic2 + g * v1
                    ic1 = 2.0 * v1 - ic1
                    ic2 = 2.0 * v2 - ic2
                    if mode == 0:
                        row[i] = v2
                    elif mode == 1:
                        row[i] = v0 - damping[i] * v1 - v2
                    elif mode == 2:
                        row[i] = damping[i] * v1
                    else:
                        row[i] = v0 - damping[i] * v1
                state[c, s, 0] = ic1 if abs(ic1) > 1e-30 else 0.0
                state[c, s, 1] = ic2 if abs(ic2) > 1e-30 else 0.0


@kernel
def resonators(x: FloatArray, freqs_hz: FloatArray, widths_hz: FloatArray, sample_rate_hz: float) -> None:
    """In place: two-pole resonators in series, each 1 at 0 Hz (D. H. Klatt, "Software for a cascade/parallel formant
    synthesizer", 1980, eq. 2 and 3). x (n,); freqs_hz and widths_hz (formants, cells + 1)."""
    n = x.shape[0]
    for f in range(freqs_hz.shape[0]):
        y1, y2 = 0.0, 0.0
        for at in range(0, n, GRID_FRAMES):
            cell = at // GRID_FRAMES
            t = 1.0 / sample_rate_hz
            c = -math.exp(-2.0 * math.pi * widths_hz[f, cell] * t)
            b = 2.0 * math.exp(-math.pi * widths_hz[f, cell] * t) * math.cos(2.0 * math.pi * freqs_hz[f, cell] * t)
            a = 1.0 - b - c
            for i in range(min(GRID_FRAMES, n - at)):
                out = a * x[at + i] + b * y1 + c * y2
                y2, y1 = y1, out
                x[at + i] = out
            y1 = y1 if abs(y1) > 1e-30 else 0.0
            y2 = y2 if abs(y2) > 1e-30 else 0.0


@kernel
def add_voice(audio: FloatArray, curve: FloatArray, left: FloatArray, right: FloatArray, out: Stereo) -> None:
    """Adds a voice to out (2, n): audio (1 or 2, n) times curve (n,), by the gains of either side, each (1,) or (n,)."""
    n = out.shape[1]
    for c in range(2):
        row = audio[min(c, audio.shape[0] - 1)]
        gains = left if c == 0 else right
        side = out[c]
        if gains.shape[0] == 1:
            gain = gains[0]
            for i in range(n):
                side[i] += gain * curve[i] * row[i]
        else:
            for i in range(n):
                side[i] += gains[i] * curve[i] * row[i]
