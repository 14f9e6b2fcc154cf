"""Filters of voices: a state-variable filter whose cutoff moves, and the resonances of a mouth.

Conventions
-----------
What moves is given at the boundaries of the control grid's cells, as in ``oscillators``.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.dsp.levels import gain_to_db
from zygotone.dsp.oversampling import bent, latency_frames
from zygotone.dsp.polyphase import Single
from zygotone.dsp.types import GRID_FRAMES, FloatArray

_Lanes = tuple[FloatArray, ...]
MODES = ("lowpass", "highpass", "bandpass", "notch")


LANES = 4
# From this resonance on to 1 a filter gains what it loses and more, until it swings as high as this.
SINGS_FROM, _GAIN, _SWING = 0.96, 0.04, 0.7


@kernel
def sung_damping(resonance: float, power: float, cutoff: float) -> float:
    """1/Q of a filter near full resonance: below 0 until ``power``, the square of how high it swings, is that of ``_SWING``.

    It is set anew in each cell, so that near the top of the range, with many turns in a cell, it acts less.
    """
    sings = (resonance - SINGS_FROM) / (1.0 - SINGS_FROM)
    damping = 2.0 - 1.98 * resonance
    if sings <= 0.0:
        return damping
    most = min(_GAIN, 0.2 / (2.0 * GRID_FRAMES * math.atan(cutoff)))
    return (1.0 - sings) * damping + sings * most * min(9.0, power / (_SWING * _SWING) - 1.0)


@kernel
def _filter_lanes(rows: _Lanes, mode: int, stages: int, cutoffs: _Lanes, resonances: _Lanes) -> None:
    """In place: four rows (n,), of lengths of their own, each through one or two filters in series.

    A frame has to wait for the one before it; those of four rows do not wait for each other, so that four take little
    longer than one.
    """
    longest = 0
    for lane in range(LANES):
        longest = max(longest, rows[lane].shape[0])
    v = np.zeros((LANES, GRID_FRAMES))
    # Each stage as a matrix from one frame's state to the next: a11 and so on for the state, b1 and b2 for what goes in.
    # So a frame waits for the one before for two products only.
    shape = (2 * LANES, GRID_FRAMES)  # the second stage's below the first's
    a11, a12, b1, damping = np.zeros(shape), np.zeros(shape), np.zeros(shape), np.zeros(shape)
    a21, a22, b2 = np.zeros(shape), np.zeros(shape), np.zeros(shape)
    held = np.full(LANES, -1.0)  # damping at the end of the last cell, where a filter sings
    sung = stages - 1
    first, second = np.zeros((LANES, GRID_FRAMES + 1)), np.zeros((LANES, GRID_FRAMES + 1))
    state = np.zeros((2 * LANES, 2))
    made = np.full((LANES, 2), -1.0)  # for which standing cutoff and resonance the coefficients are there
    for at in range(0, longest, GRID_FRAMES):
        cell = at // GRID_FRAMES
        for lane in range(LANES):
            row = rows[lane]
            there = min(GRID_FRAMES, max(0, row.shape[0] - at))
            if there == 0:
                continue
            for i in range(there):
                v[lane, i] = row[at + i]
            for i in range(there, GRID_FRAMES):
                v[lane, i] = 0.0
            cut, res = cutoffs[lane], resonances[lane]
            g0, dg = cut[cell], (cut[cell + 1] - cut[cell]) / GRID_FRAMES
            k0, k1 = 2.0 - 1.98 * res[cell], 2.0 - 1.98 * res[cell + 1]
            sings = max(res[cell], res[cell + 1]) > SINGS_FROM
            if sings:
                power = state[sung * LANES + lane, 0] ** 2 + state[sung * LANES + lane, 1] ** 2
                k1 = sung_damping(res[cell + 1], power, cut[cell + 1])
                k0 = held[lane] if held[lane] > -1.0 else k0
                held[lane] = k1
            dk = (k1 - k0) / GRID_FRAMES
            still = dg == 0.0 and dk == 0.0 and not sings
            if not (still and g0 == made[lane, 0] and k0 == made[lane, 1]):
                for s in range(stages):
                    # Of two in series only the second is resonant, or the peak would be twice as high.
                    k, step = (k0, dk) if s == stages - 1 else (1.41421356, 0.0)
                    to = s * LANES + lane
                    for i in range(GRID_FRAMES):
                        g = g0 + dg * i
                        share = 1.0 / (1.0 + g * (g + k))
                        damping[to, i] = k
                        k += step
                        a11[to, i], a12[to, i], b1[to, i] = 2.0 * share - 1.0, -2.0 * share * g, 2.0 * share * g
                        a21[to, i], a22[to, i] = 2.0 * share * g, 1.0 - 2.0 * share * g * g
                        b2[to, i] = 2.0 * share * g * g
                made[lane, 0], made[lane, 1] = (g0, k0) if still else (-1.0, -1.0)
        for s in range(stages):
            r0, r1, r2, r3 = s * LANES, s * LANES + 1, s * LANES + 2, s * LANES + 3
            p0, q0, p1, q1 = state[r0, 0], state[r0, 1], state[r1, 0], state[r1, 1]
            p2, q2, p3, q3 = state[r2, 0], state[r2, 1], state[r3, 0], state[r3, 1]
            first[0, 0], first[1, 0], first[2, 0], first[3, 0] = p0, p1, p2, p3
            second[0, 0], second[1, 0], second[2, 0], second[3, 0] = q0, q1, q2, q3
            for i in range(GRID_FRAMES):
                x0, x1, x2, x3 = v[0, i], v[1, i], v[2, i], v[3, i]
                p0, q0 = (
                    a11[r0, i] * p0 + (a12[r0, i] * q0 + b1[r0, i] * x0),
                    a22[r0, i] * q0 + (a21[r0, i] * p0 + b2[r0, i] * x0),
                )
                p1, q1 = (
                    a11[r1, i] * p1 + (a12[r1, i] * q1 + b1[r1, i] * x1),
                    a22[r1, i] * q1 + (a21[r1, i] * p1 + b2[r1, i] * x1),
                )
                p2, q2 = (
                    a11[r2, i] * p2 + (a12[r2, i] * q2 + b1[r2, i] * x2),
                    a22[r2, i] * q2 + (a21[r2, i] * p2 + b2[r2, i] * x2),
                )
                p3, q3 = (
                    a11[r3, i] * p3 + (a12[r3, i] * q3 + b1[r3, i] * x3),
                    a22[r3, i] * q3 + (a21[r3, i] * p3 + b2[r3, i] * x3),
                )
                first[0, i + 1], first[1, i + 1], first[2, i + 1], first[3, i + 1] = p0, p1, p2, p3
                second[0, i + 1], second[1, i + 1], second[2, i + 1], second[3, i + 1] = q0, q1, q2, q3
            for lane in range(LANES):
                to = s * LANES + lane
                # Band and low pass lie halfway between the state before and after (the trapezoid).
                if mode == 0:
                    for i in range(GRID_FRAMES):
                        v[lane, i] = 0.5 * (second[lane, i] + second[lane, i + 1])
                elif mode == 2:
                    for i in range(GRID_FRAMES):
                        width = max(damping[to, i], 0.2)  # 0 dB at the centre until it is very narrow
                        v[lane, i] = 0.5 * width * (first[lane, i] + first[lane, i + 1])
                else:
                    for i in range(GRID_FRAMES):
                        band = damping[to, i] * (first[lane, i] + first[lane, i + 1])
                        low = second[lane, i] + second[lane, i + 1] if mode == 1 else 0.0
                        v[lane, i] -= 0.5 * (band + low)
                p, q = first[lane, GRID_FRAMES], second[lane, GRID_FRAMES]
                state[to, 0], state[to, 1] = p if abs(p) > 1e-30 else 0.0, q if abs(q) > 1e-30 else 0.0
        for lane in range(LANES):
            row = rows[lane]
            for i in range(min(GRID_FRAMES, max(0, row.shape[0] - at))):
                row[at + i] = v[lane, i]


@dataclass(frozen=True, slots=True)
class FilterRow:
    """A row (n,) to be filtered in place, with what moves over its cells, (cells + 1,) each: cutoffs as tan(π·f/fs),
    resonances 0 to 1, drives (linear, 1 is none) into a soft curve before the filter."""

    audio: FloatArray
    cutoffs: FloatArray
    resonances: FloatArray
    drives: FloatArray


_NOBODY = FilterRow(np.zeros(0), np.full(2, 0.1), np.zeros(2), np.ones(2))


def _drive(row: FilterRow) -> None:
    """In place: the curve before the filter, at four times the rate, so that what it makes does not fold back."""
    if not len(row.audio) or np.max(row.drives) <= 1.0:
        return
    frames = np.arange(len(row.audio)) / GRID_FRAMES
    drives = np.interp(frames, np.arange(len(row.drives)), row.drives)
    late = latency_frames(4)
    drives = np.concatenate([np.full(late // 2, drives[0]), drives, np.full(late - late // 2, drives[-1])])
    blends = np.clip(gain_to_db(drives) / 6.0, 0.0, 1.0)
    blends = (blends * blends * (3.0 - 2.0 * blends)).astype(
        np.float32
    )  # a straight wire at 0 dB, and no step from there
    gains = drives.astype(np.float32)

    def added(u: Single) -> Single:
        pushed = gains * u
        return np.asarray(blends * (pushed / np.sqrt(1.0 + pushed * pushed) - u), dtype=np.float32)

    row.audio[:] += bent(row.audio, added)


def filter_voices(rows: Sequence[FilterRow], mode: int, stages: int) -> None:
    """In place: one or two zero-delay state-variable filters in series (V. Zavalishin, "The art of VA filter design",
    trapezoidal form). ``mode`` counts as in ``MODES``."""
    for at in range(0, len(rows), LANES):
        four = [*rows[at : at + LANES], *[_NOBODY] * (LANES - 1)][:LANES]
        for row in four:
            give_up_if_unwanted()
            _drive(row)
        give_up_if_unwanted()
        _filter_lanes(
            tuple(row.audio for row in four), mode, stages, tuple(row.cutoffs for row in four),
            tuple(row.resonances for row in four),
        )  # fmt: skip


def analog_response(
    hz: FloatArray, mode: str, cutoff_hz: float, resonance: float, stages: int
) -> npt.NDArray[np.complex128]:
    """What ``filter_voices`` does to each frequency at rest, far below half the sample rate: the resonant section, and before it
    a flat one of the same kind (Butterworth) where there are two."""
    s = 1j * np.asarray(hz) / cutoff_hz
    whole = np.ones(len(s), dtype=np.complex128)
    for damping in (2.0 - 1.98 * min(resonance, SINGS_FROM), math.sqrt(2.0))[:stages]:
        above = {"lowpass": 0.0 * s + 1.0, "highpass": s**2, "bandpass": damping * s, "notch": s**2 + 1.0}[mode]
        whole *= above / (s**2 + damping * s + 1.0)
    return whole


def band_between(audio: FloatArray, low_hz: FloatArray, high_hz: FloatArray, *, sample_rate_hz: float) -> None:
    """In place: (channels, n) between two edges that move, (cells + 1,) each, Butterworth of 12 dB an octave."""
    still = np.full(len(low_hz), (2.0 - math.sqrt(2.0)) / 1.98)  # the damping of Butterworth is √2
    for mode, edges in (("highpass", low_hz), ("lowpass", high_hz)):
        cutoffs = np.tan(np.pi * np.minimum(edges, 0.45 * sample_rate_hz) / sample_rate_hz)
        rows = [FilterRow(row, cutoffs, still, np.ones(len(still))) for row in audio]
        filter_voices(rows, MODES.index(mode), 1)


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
def one_pole(x: FloatArray, poles: FloatArray, gains: FloatArray) -> None:
    """In place: gain·(1 − pole)/(1 − pole·z⁻¹), new ones in each cell. x (n,); poles and gains (cells + 1,)."""
    y = 0.0
    for at in range(0, x.shape[0], GRID_FRAMES):
        cell = at // GRID_FRAMES
        pole, b = poles[cell], gains[cell] * (1.0 - poles[cell])
        for i in range(at, min(x.shape[0], at + GRID_FRAMES)):
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
