"""Filters whose cutoff may be anywhere else in the next frame: zero-delay state-variable and ladder.

V. Zavalishin, "The Art of VA Filter Design", 2012 (trapezoidal integrators, instantaneous feedback solved for). Such
integrators stay stable while their gain moves, and the loops bend, so any sweep at any resonance stays bounded.
"""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.decibels import db_to_gains
from zygotone.dsp.types import FloatArray, Stereo

MODES = ("lowpass", "highpass", "bandpass", "notch")
MODELS = ("svf", "ladder")
# How soon the loops bend: a full-scale signal without drive loses less than 0.2 dB.
_SVF_BEND, _SVF_BOUND, _LADDER_BEND = 0.1, 0.3, 0.2
# From this resonance on to 1, losses are made up for, and more: a circle that gains what the bend takes sings by itself.
_SINGS_FROM, _SVF_GAIN, _LADDER_GAIN = 0.96, 0.04, 0.04
# What starts it where there is silence, −180 dBFS: a filter of parts has noise.
SEED = 1e-9


def singing(resonance: float) -> float:
    """0 where a filter rings and dies away, to 1 at full resonance, where it goes on by itself."""
    return max(0.0, (resonance - _SINGS_FROM) / (1.0 - _SINGS_FROM))


def svf_damping(resonance: float) -> float:
    """1/Q of the state-variable filter for what is small; below 0 it sings."""
    return 2.0 * (1.0 - resonance) - _SVF_GAIN * singing(resonance)


def ladder_feedback(resonance: float) -> float:
    """Gain of the ladder's loop; from 4 on it sings."""
    return 4.0 * resonance * (1.0 + _LADDER_GAIN * singing(resonance))


def ladder_taps(mode: int, resonance: float) -> tuple[float, FloatArray]:
    """How much more goes in, and how the taps (input of the first stage, then the four outputs) are mixed, shape (5,).

    With p = 1 + s and feedback f the stages have 1, 1/p … 1/p⁴, each over 1 + f/p⁴. Low-pass: f more goes in, so that what is low
    keeps its level at any resonance. Band-pass: 0 dB at its peak until it is very narrow. Notch: the circle's pair of poles that
    does not ring is cancelled, and the notch put where the other pair rings, so that it narrows and both sides keep 0 dB.
    """
    feedback = ladder_feedback(resonance)
    if mode == 0:
        return feedback, np.array([0.0, 0.0, 0.0, 0.0, 1.0])
    if mode == 1:
        return 0.0, np.array([1.0, -4.0, 6.0, -4.0, 1.0])
    if mode == 2:
        taps = np.array([0.0, 0.0, 1.0, -2.0, 1.0])
        s = 1j * np.geomspace(0.3, 3.0, 400)
        peak = np.abs(s**2 / ((1.0 + s) ** 4 + ladder_feedback(min(resonance, 0.9)))).max()
        return 0.0, taps / peak
    # (s² + r²)·(s² + a·s + b) with the poles s = −1 ± (f/4)^¼·(±1 ± j), in powers of p.
    root = (0.25 * min(feedback, 4.0)) ** 0.25
    ringing_power = (1.0 - root) ** 2 + root**2
    in_s = np.polymul([1.0, 0.0, ringing_power], [1.0, 2.0 * (1.0 + root), (1.0 + root) ** 2 + root**2])
    return 0.0, np.array(np.poly1d(in_s)(np.poly1d([1.0, -1.0])).coeffs)


@kernel
def _bend(v: float, drive: float) -> float:
    """Straight for small v, at most 1/drive: v / √(1 + (drive·v)²)."""
    return v / math.sqrt(1.0 + (drive * v) * (drive * v))


@kernel
def tangent(turns: float) -> float:
    """tan(π·turns) for 0 to 0.49, the prewarped gain of a trapezoidal integrator."""
    return math.tan(math.pi * min(0.49, max(1e-6, turns)))


@kernel
def _svf_step(v: float, g: float, k: float, s1: float, s2: float) -> tuple[float, float, float, float, float]:
    """One frame of the state-variable filter with damping k: high, band and low-pass, and its state after it."""
    high = (v - (k + g) * s1 - s2) / (1.0 + g * (g + k))
    band = g * high + s1
    low = g * band + s2
    return high, band, low, g * high + band, g * band + low


@kernel
def sweep_svf(x: FloatArray, g: FloatArray, damping: float, mode: int, state: FloatArray, y: FloatArray) -> None:
    """x and y (n·k,) at k times the rate; g (n,) from ``tangent``, each for k frames; damping from ``svf_damping``; state (2,).

    What goes in is bent, and the damping grows with what the band-pass holds, which bounds it.
    """
    s1, s2 = state[0], state[1]
    times = x.shape[0] // max(1, g.shape[0])
    bent = np.empty(times)
    for n in range(g.shape[0]):
        gain = g[n]
        share = 1.0 + gain * (gain + damping)
        for i in range(times):
            bent[i] = _bend(x[n * times + i], _SVF_BEND)
        for i in range(times):
            # As ``_svf_step`` with k = damping + ½·q/(1 + q), written with one division, for which the next frame has to wait.
            q = (_SVF_BOUND * s1) * (_SVF_BOUND * s1)
            more = 1.0 + q
            high = (more * (bent[i] - gain * s1 - s2) - (damping * more + 0.5 * q) * s1) / (
                more * share + 0.5 * q * gain
            )
            band = gain * high + s1
            low = gain * band + s2
            s1, s2 = gain * high + band, gain * band + low
            if mode == 0:
                y[n * times + i] = low
            elif mode == 1:
                y[n * times + i] = high
            else:
                k = damping + 0.5 * q / more
                # The band-pass has 0 dB at its centre until it is very narrow.
                y[n * times + i] = band * max(k, 0.2) if mode == 2 else bent[i] - k * band
    state[0] = s1 if abs(s1) > 1e-20 else 0.0
    state[1] = s2 if abs(s2) > 1e-20 else 0.0


@kernel
def sweep_ladder(
    x: FloatArray, g: FloatArray, feedback: float, more: float, taps: FloatArray, state: FloatArray, y: FloatArray
) -> None:
    """Four one-poles in a row with feedback around them. Arrays as in ``sweep_svf``; ``more`` and ``taps`` (5,) from
    ``ladder_taps``; state (4,)."""
    s1, s2, s3, s4 = state[0], state[1], state[2], state[3]
    t0, t1, t2, t3, t4 = taps[0], taps[1], taps[2], taps[3], taps[4]
    times = x.shape[0] // max(1, g.shape[0])
    for n in range(g.shape[0]):
        h = g[n] / (1.0 + g[n])
        rest = 1.0 - h
        whole = 1.0 / (1.0 + feedback * h * h * h * h)
        for i in range(n * times, (n + 1) * times):
            # What the fourth stage would give for no input, so that the loop can be solved.
            tail = rest * (h * h * h * s1 + h * h * s2 + h * s3 + s4)
            u = _bend(((1.0 + more) * x[i] - feedback * tail) * whole, _LADDER_BEND)
            v = h * (u - s1)
            y1 = v + s1
            s1 = y1 + v
            v = h * (y1 - s2)
            y2 = v + s2
            s2 = y2 + v
            v = h * (y2 - s3)
            y3 = v + s3
            s3 = y3 + v
            v = h * (y3 - s4)
            y4 = v + s4
            s4 = y4 + v
            y[i] = t0 * u + t1 * y1 + t2 * y2 + t3 * y3 + t4 * y4
    state[0] = s1 if abs(s1) > 1e-20 else 0.0
    state[1] = s2 if abs(s2) > 1e-20 else 0.0
    state[2] = s3 if abs(s3) > 1e-20 else 0.0
    state[3] = s4 if abs(s4) > 1e-20 else 0.0


@kernel
def svf_highpass(x: Stereo, g: float, state: FloatArray, y: Stereo) -> None:
    """Straight Butterworth high-pass of 12 dB an octave; x and y (2, n), g from ``tangent``, state (2, 2). What it remembers
    is bounded by what was played, so that its corner may be anywhere else in the next block."""
    # ``_svf_step`` without its division, and so that a frame waits for the one before as short as it can.
    share = 1.0 / (1.0 + g * (g + math.sqrt(2.0)))
    damped, double = share * (math.sqrt(2.0) + g), 2.0 * g
    s1, s2, r1, r2 = state[0, 0], state[0, 1], state[1, 0], state[1, 1]
    left, right, out, other = x[0], x[1], y[0], y[1]
    for i in range(x.shape[1]):  # both sides in one loop, as they do not wait for each other
        high, side = (share * left[i] - share * s2) - damped * s1, (share * right[i] - share * r2) - damped * r1
        out[i], other[i] = high, side
        s2, r2 = s2 + double * (g * high + s1), r2 + double * (g * side + r1)
        s1, r1 = s1 + double * high, r1 + double * side
    state[0, 0], state[0, 1] = s1 if abs(s1) > 1e-20 else 0.0, s2 if abs(s2) > 1e-20 else 0.0
    state[1, 0], state[1, 1] = r1 if abs(r1) > 1e-20 else 0.0, r2 if abs(r2) > 1e-20 else 0.0


@kernel
def follow(level: FloatArray, attack: float, release: float, state: FloatArray, y: FloatArray) -> None:
    """One-pole envelope of a level, both (n,); state (1,)."""
    v = state[0]
    for i in range(level.shape[0]):
        c = attack if level[i] > v else release
        v = level[i] + c * (v - level[i])
        y[i] = v
    state[0] = v if v > 1e-20 else 0.0


@kernel
def cutoff_gains(octaves: FloatArray, cutoff: float, times: int, g: FloatArray) -> None:
    """g (n,): integrator gains at ``times`` the rate for a cutoff (cycles a frame) moved by ``octaves`` (n,), held within
    20 kHz at 48 kHz."""
    for i in range(octaves.shape[0]):
        g[i] = tangent(min(0.4167, max(0.0004, cutoff * 2.0 ** octaves[i])) / times)


@kernel
def dynamic_shelf(x: Stereo, gain_db: FloatArray, g: float, state: FloatArray, y: Stereo) -> None:
    """High shelf whose gain moves every frame; x and y (2, n), gain_db (n,), g from ``tangent``, state (2, 2).

    H(s) = (A²s² + A√2·s + 1) / (s² + √2·s + 1): all three outputs of one state-variable filter, mixed; at 0 dB they
    sum to the input itself.
    """
    k = math.sqrt(2.0)
    for c in range(2):
        s1, s2 = state[c, 0], state[c, 1]
        for i in range(x.shape[1]):
            high, band, low, s1, s2 = _svf_step(x[c, i], g, k, s1, s2)
            if gain_db[i] == 0.0:
                y[c, i] = x[c, i]
            else:
                a = 10.0 ** (gain_db[i] / 40.0)
                y[c, i] = a * a * high + a * k * band + low
        state[c, 0] = s1 if abs(s1) > 1e-20 else 0.0
        state[c, 1] = s2 if abs(s2) > 1e-20 else 0.0


@kernel
def centred_shelf(x: Stereo, gain_db: FloatArray, g: float, state: FloatArray, y: Stereo) -> None:
    """As ``dynamic_shelf``, with half of its dB at the frequency of ``g``: cut and boost are mirrored. With A as there, its poles lie
    √A above and its zeros as far below."""
    k = math.sqrt(2.0)
    a, root = np.empty(gain_db.shape[0]), np.empty(gain_db.shape[0])
    db_to_gains(0.5 * gain_db, a)
    db_to_gains(0.25 * gain_db, root)
    for c in range(2):
        s1, s2 = state[c, 0], state[c, 1]
        for i in range(x.shape[1]):
            high, band, low, s1, s2 = _svf_step(x[c, i], g * root[i], k, s1, s2)
            y[c, i] = x[c, i] if gain_db[i] == 0.0 else a[i] * a[i] * high + a[i] * k * band + low
        state[c, 0] = s1 if abs(s1) > 1e-20 else 0.0
        state[c, 1] = s2 if abs(s2) > 1e-20 else 0.0
