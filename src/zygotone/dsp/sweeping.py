"""Filters whose cutoff may be anywhere else in the next frame: zero-delay state-variable and ladder.

V. Zavalishin, "The Art of VA Filter Design", 2012 (trapezoidal integrators, instantaneous feedback solved for). Such
integrators stay stable while their gain moves, and the loops bend, so any sweep at any resonance stays bounded.
"""

from __future__ import annotations

import math

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray, Stereo

MODES = ("lowpass", "highpass", "bandpass", "notch")
MODELS = ("svf", "ladder")
# How soon the loops bend: a full-scale signal without drive loses less than 0.2 dB.
_SVF_BEND, _SVF_BOUND, _LADDER_BEND = 0.1, 0.3, 0.2


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
def sweep_svf(x: Stereo, g: FloatArray, resonance: float, mode: int, state: FloatArray, y: Stereo) -> None:
    """x and y (2, n); g (n,) from ``tangent``; resonance 0 to 1, at 1 it sings; state (2, 2).

    What goes in is bent, and the damping grows with what the band-pass holds, which bounds it.
    """
    for c in range(2):
        s1, s2 = state[c, 0], state[c, 1]
        for i in range(x.shape[1]):
            u = _bend(x[c, i], _SVF_BEND)
            bound = _SVF_BOUND * s1
            k = 2.0 * (1.0 - resonance) + 0.5 * bound * bound / (1.0 + bound * bound)
            high, band, low, s1, s2 = _svf_step(u, g[i], k, s1, s2)
            if mode == 0:
                y[c, i] = low
            elif mode == 1:
                y[c, i] = high
            elif mode == 2:
                y[c, i] = band * max(k, 0.2)  # 0 dB at the centre until it is very narrow
            else:
                y[c, i] = u - k * band
        state[c, 0] = s1 if abs(s1) > 1e-20 else 0.0
        state[c, 1] = s2 if abs(s2) > 1e-20 else 0.0


@kernel
def sweep_ladder(x: Stereo, g: FloatArray, resonance: float, mode: int, state: FloatArray, y: Stereo) -> None:
    """Four one-poles in a row with feedback around them. Arrays as in ``sweep_svf``; state (2, 4).

    The other modes are mixed from the taps: with p = 1 + s, high-pass is (p − 1)⁴/p⁴, and so on.
    """
    feedback = 4.0 * resonance
    for c in range(2):
        s1, s2, s3, s4 = state[c, 0], state[c, 1], state[c, 2], state[c, 3]
        for i in range(x.shape[1]):
            h = g[i] / (1.0 + g[i])
            rest = 1.0 - h
            # What the fourth stage would give for no input, so that the loop can be solved.
            tail = rest * (h * h * h * s1 + h * h * s2 + h * s3 + s4)
            u = (x[c, i] - feedback * tail) / (1.0 + feedback * h * h * h * h)
            u = _bend(u, _LADDER_BEND)
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
            if mode == 0:
                y[c, i] = y4
            elif mode == 1:
                y[c, i] = u - 4.0 * y1 + 6.0 * y2 - 4.0 * y3 + y4
            elif mode == 2:
                y[c, i] = 4.0 * (y2 - 2.0 * y3 + y4)
            else:
                y[c, i] = u - 4.0 * y1 + 8.0 * y2 - 8.0 * y3 + 4.0 * y4
        state[c, 0] = s1 if abs(s1) > 1e-20 else 0.0
        state[c, 1] = s2 if abs(s2) > 1e-20 else 0.0
        state[c, 2] = s3 if abs(s3) > 1e-20 else 0.0
        state[c, 3] = s4 if abs(s4) > 1e-20 else 0.0


@kernel
def svf_highpass(x: Stereo, g: float, state: FloatArray, y: Stereo) -> None:
    """Straight Butterworth high-pass of 12 dB an octave; x and y (2, n), g from ``tangent``, state (2, 2). What it remembers
    is bounded by what was played, so that its corner may be anywhere else in the next block."""
    k = math.sqrt(2.0)
    for c in range(2):
        s1, s2 = state[c, 0], state[c, 1]
        for i in range(x.shape[1]):
            y[c, i], _band, _low, s1, s2 = _svf_step(x[c, i], g, k, s1, s2)
        state[c, 0] = s1 if abs(s1) > 1e-20 else 0.0
        state[c, 1] = s2 if abs(s2) > 1e-20 else 0.0


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
def cutoff_gains(octaves: FloatArray, cutoff: float, g: FloatArray) -> None:
    """g (n,): integrator gains for a cutoff (cycles a frame) moved by ``octaves`` (n,), held within 20 kHz at 48 kHz."""
    for i in range(octaves.shape[0]):
        g[i] = tangent(min(0.4167, max(0.0004, cutoff * 2.0 ** octaves[i])))


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
