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
    # The filter as a matrix from one frame's state to the next: a11 and so on for the state, b1 and b2 for what goes in. So
    # each frame waits for the one before for two products only, and all else vectorises.
    a11, a12, a21, a22 = np.empty(GRID_FRAMES), np.empty(GRID_FRAMES), np.empty(GRID_FRAMES), np.empty(GRID_FRAMES)
    b1, b2 = np.empty(GRID_FRAMES), np.empty(GRID_FRAMES)
    damping = np.empty(GRID_FRAMES)
    first, second = np.empty(GRID_FRAMES + 1), np.empty(GRID_FRAMES + 1)
    for at in range(0, n, GRID_FRAMES):
        cell = at // GRID_FRAMES
        width = min(GRID_FRAMES, n - at)
        g0, dg = cutoffs[cell], (cutoffs[cell + 1] - cutoffs[cell]) / GRID_FRAMES
        k0, dk = 2.0 - 1.98 * resonances[cell], -1.98 * (resonances[cell + 1] - resonances[cell]) / GRID_FRAMES
        drive = drives[cell]
        for s in range(stages):
            for i in range(width):
                g = g0 + dg * i
                # Of two in series only the second is resonant, or the peak would be twice as high.
                k = k0 + dk * i if s == stages - 1 else 1.41421356
                share = 1.0 / (1.0 + g * (g + k))
                damping[i] = k
                a11[i], a12[i], b1[i] = 2.0 * share - 1.0, -2.0 * share * g, 2.0 * share * g
                a21[i], a22[i], b2[i] = 2.0 * share * g, 1.0 - 2.0 * share * g * g, 2.0 * share * g * g
            for c in range(x.shape[0]):
                row = x[c, at : at + width]
                if drive > 1.0 and s == 0:
                    for i in range(width):
                        row[i] = drive * row[i] / math.sqrt(1.0 + (drive * row[i]) * (drive * row[i]))
                one, two = state[c, s, 0], state[c, s, 1]
                first[0], second[0] = one, two
                for i in range(width):
                    v = row[i]
                    one, two = a11[i] * one + (a12[i] * two + b1[i] * v), a22[i] * two + (a21[i] * one + b2[i] * v)
                    first[i + 1], second[i + 1] = one, two
                for i in range(width):
                    # Band and low pass lie halfway between the state before and after (the trapezoid).
                    band, low = 0.5 * (first[i] + first[i + 1]), 0.5 * (second[i] + second[i + 1])
                    if mode == 0:
                        row[i] = low
                    elif mode == 1:
                        row[i] = row[i] - damping[i] * band - low
                    elif mode == 2:
                        row[i] = damping[i] * band
                    else:
                        row[i] = row[i] - damping[i] * band
                state[c, s, 0] = one if abs(one) > 1e-30 else 0.0
                state[c, s, 1] = two if abs(two) > 1e-30 else 0.0


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
