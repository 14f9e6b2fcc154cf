"""Filters of voices: a state-variable filter whose cutoff moves, and the resonances of a mouth.

Conventions
-----------
What moves is given at the boundaries of the control grid's cells, as in ``oscillators``.
"""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import GRID_FRAMES, FloatArray

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
    # Each stage as a matrix from one frame's state to the next: a11 and so on for the state, b1 and b2 for what goes in. So
    # each frame waits for the one before for two products only, and all else vectorises.
    a11, a12, b1 = np.empty((2, GRID_FRAMES)), np.empty((2, GRID_FRAMES)), np.empty((2, GRID_FRAMES))
    a21, a22, b2 = np.empty((2, GRID_FRAMES)), np.empty((2, GRID_FRAMES)), np.empty((2, GRID_FRAMES))
    damping = np.empty((2, GRID_FRAMES))
    first, second = np.empty(GRID_FRAMES + 1), np.empty(GRID_FRAMES + 1)
    made_g, made_k = -1.0, -1.0  # for which standing values the coefficients are there
    for at in range(0, n, GRID_FRAMES):
        cell = at // GRID_FRAMES
        width = min(GRID_FRAMES, n - at)
        g0, dg = cutoffs[cell], (cutoffs[cell + 1] - cutoffs[cell]) / GRID_FRAMES
        k0, dk = 2.0 - 1.98 * resonances[cell], -1.98 * (resonances[cell + 1] - resonances[cell]) / GRID_FRAMES
        still = dg == 0.0 and dk == 0.0
        if not (still and g0 == made_g and k0 == made_k):
            for s in range(stages):
                # Of two in series only the second is resonant, or the peak would be twice as high.
                k1, dk1 = (k0, dk) if s == stages - 1 else (1.41421356, 0.0)
                for i in range(GRID_FRAMES):
                    g, k = g0 + dg * i, k1 + dk1 * i
                    share = 1.0 / (1.0 + g * (g + k))
                    damping[s, i] = k
                    a11[s, i], a12[s, i], b1[s, i] = 2.0 * share - 1.0, -2.0 * share * g, 2.0 * share * g
                    a21[s, i], a22[s, i], b2[s, i] = 2.0 * share * g, 1.0 - 2.0 * share * g * g, 2.0 * share * g * g
            made_g, made_k = (g0, k0) if still else (-1.0, -1.0)
        drive = drives[cell]
        for s in range(stages):
            for c in range(x.shape[0]):
                row = x[c, at : at + width]
                if drive > 1.0 and s == 0:
                    for i in range(width):
                        row[i] = drive * row[i] / math.sqrt(1.0 + (drive * row[i]) * (drive * row[i]))
                one, two = state[c, s, 0], state[c, s, 1]
                first[0], second[0] = one, two
                for i in range(width):
                    v = row[i]
                    one, two = (
                        a11[s, i] * one + (a12[s, i] * two + b1[s, i] * v),
                        a22[s, i] * two + (a21[s, i] * one + b2[s, i] * v),
                    )
                    first[i + 1], second[i + 1] = one, two
                # Band and low pass lie halfway between the state before and after (the trapezoid).
                if mode == 0:
                    for i in range(width):
                        row[i] = 0.5 * (second[i] + second[i + 1])
                elif mode == 1:
                    for i in range(width):
                        row[i] -= 0.5 * (damping[s, i] * (first[i] + first[i + 1]) + (second[i] + second[i + 1]))
                elif mode == 2:
                    for i in range(width):
                        row[i] = 0.5 * damping[s, i] * (first[i] + first[i + 1])
                else:
                    for i in range(width):
                        row[i] -= 0.5 * damping[s, i] * (first[i] + first[i + 1])
                state[c, s, 0] = one if abs(one) > 1e-30 else 0.0
                state[c, s, 1] = two if abs(two) > 1e-30 else 0.0


@kernel
def resonators(x: FloatArray, freqs_hz: FloatArray, widths_hz: FloatArray, sample_rate_hz: float) -> None:
    """In place: two-pole resonators in series, each 1 at 0 Hz (D. H. Klatt, "Software for a cascade/parallel formant
    synthesizer", 1980, eq. 2 and 3). x (n,); freqs_hz and widths_hz (formants, cells + 1)."""
    n, count = x.shape[0], freqs_hz.shape[0]
    t = 1.0 / sample_rate_hz
    state = np.zeros((count, 2))
    for at in range(0, n, GRID_FRAMES):
        cell = at // GRID_FRAMES
        width = min(GRID_FRAMES, n - at)
        row = x[at : at + width]
        f = 0
        while f < count:
            c = -math.exp(-2.0 * math.pi * widths_hz[f, cell] * t)
            b = 2.0 * math.exp(-math.pi * widths_hz[f, cell] * t) * math.cos(2.0 * math.pi * freqs_hz[f, cell] * t)
            a = 1.0 - b - c
            y1, y2 = state[f, 0], state[f, 1]
            for i in range(width):
                out = (a * row[i] + c * y2) + b * y1  # what was there last comes last: nothing else waits for it
                y2, y1 = y1, out
                row[i] = out
            state[f, 0] = y1 if abs(y1) > 1e-30 else 0.0
            state[f, 1] = y2 if abs(y2) > 1e-30 else 0.0
            f += 1


_RESONANCES = 8


@kernel
def add_resonances(x: FloatArray, sos: FloatArray, gains: FloatArray) -> None:
    """In place: adds to x (n,) what band-passes side by side make of it. sos (k, 6), gains (k,), k at most 8."""
    # Eight side by side, some of them of no effect, are one operation to the processor.
    b0, a1, a2 = np.zeros(_RESONANCES), np.zeros(_RESONANCES), np.zeros(_RESONANCES)
    for k in range(sos.shape[0]):
        b0[k], a1[k], a2[k] = gains[k] * sos[k, 0], sos[k, 4], sos[k, 5]
    s1, s2, out = np.zeros(_RESONANCES), np.zeros(_RESONANCES), np.zeros(_RESONANCES)
    for at in range(0, x.shape[0], GRID_FRAMES):
        for i in range(at, min(x.shape[0], at + GRID_FRAMES)):
            v = x[i]
            for k in range(_RESONANCES):
                y = b0[k] * v + s1[k]
                s1[k] = s2[k] - a1[k] * y
                s2[k] = -b0[k] * v - a2[k] * y
                out[k] = y
            x[i] = v + (((out[0] + out[1]) + (out[2] + out[3])) + ((out[4] + out[5]) + (out[6] + out[7])))
        for k in range(_RESONANCES):
            s1[k] = s1[k] if abs(s1[k]) > 1e-30 else 0.0
            s2[k] = s2[k] if abs(s2[k]) > 1e-30 else 0.0


@kernel
def one_pole(x: FloatArray, pole: float, gain: float) -> None:
    """In place: gain·(1 − pole)/(1 − pole·z⁻¹). x (n,)."""
    b, y = gain * (1.0 - pole), 0.0
    for i in range(x.shape[0]):
        y = b * x[i] + pole * y
        x[i] = y


@kernel
def add_voice(audio: FloatArray, curve: FloatArray, left: FloatArray, right: FloatArray, out: FloatArray) -> None:
    """Adds a voice to out (1 or 2, n): audio (1 or 2, n) times curve (n,), by the gains of either side, each (1,) or (n,)."""
    n = out.shape[1]
    for c in range(out.shape[0]):
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
