"""Second-order filters: design by the bilinear transform, and the kernels that run sections."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, Stereo


def _bilinear(b: tuple[float, float, float], a: tuple[float, float, float], k: float) -> FloatArray:
    """s = (1/k)(1 − z⁻¹)/(1 + z⁻¹) with k = tan(w0/2); ``b`` and ``a`` are for s², s, 1."""
    b2, b1, b0 = b[0], b[1] * k, b[2] * k * k
    a2, a1, a0 = a[0], a[1] * k, a[2] * k * k
    n = a2 + a1 + a0
    return np.array(
        [(b2 + b1 + b0) / n, 2 * (b0 - b2) / n, (b2 - b1 + b0) / n, 1.0, 2 * (a0 - a2) / n, (a2 - a1 + a0) / n]
    )


def _k(freq_hz: float, sample_rate_hz: float) -> float:
    return math.tan(math.pi * min(freq_hz / sample_rate_hz, 0.499))


def lowpass_sos(freq_hz: float, q: float, *, sample_rate_hz: float) -> FloatArray:
    """Low-pass section, shape (6,) (R. Bristow-Johnson, Audio EQ Cookbook, "LPF")."""
    return _bilinear((0.0, 0.0, 1.0), (1.0, 1.0 / q, 1.0), _k(freq_hz, sample_rate_hz))


def highpass_sos(freq_hz: float, q: float, *, sample_rate_hz: float) -> FloatArray:
    """High-pass section, shape (6,) (Audio EQ Cookbook, "HPF")."""
    return _bilinear((1.0, 0.0, 0.0), (1.0, 1.0 / q, 1.0), _k(freq_hz, sample_rate_hz))


def bandpass_sos(freq_hz: float, q: float, *, sample_rate_hz: float) -> FloatArray:
    """Band-pass section with 0 dB at its centre, shape (6,) (Audio EQ Cookbook, "BPF")."""
    return _bilinear((0.0, 1.0 / q, 0.0), (1.0, 1.0 / q, 1.0), _k(freq_hz, sample_rate_hz))


def tilt_sos(gain_db: float, pivot_hz: float, *, sample_rate_hz: float) -> FloatArray:
    """First-order tilt: −gain_db/2 at 0 Hz, +gain_db/2 at the top, 0 dB at the pivot. Exactly invertible."""
    g = 10.0 ** (gain_db / 40.0)
    # (g s + 1/... ) form: H(s) = (g·s + 1)/(s + g), |H(j)| = 1.
    return _bilinear((0.0, g, 1.0), (0.0, 1.0, g), _k(pivot_hz, sample_rate_hz))


BUTTERWORTH_Q = math.sqrt(0.5)
WIRE = np.array([1.0, 0.0, 0.0, 1.0, 0.0, 0.0])


def butterworth_qs(order: int) -> tuple[float, ...]:
    """Q of each second-order section of a Butterworth filter, lowest first; a first-order rest is not listed."""
    return tuple(
        1.0 / (2.0 * math.sin(math.pi * (2 * i + 1) / (2 * order))) for i in reversed(range(order // 2))
    )  # fmt: skip


@kernel
def sos_mono(sos: FloatArray, x: FloatArray, state: FloatArray, y: FloatArray) -> None:
    """Transposed direct form II. sos (k, 6), x and y (n,) may be one array, state (k, 2) updated in place."""
    for i in range(x.shape[0]):
        y[i] = x[i]
    for k in range(sos.shape[0]):
        b0, b1, b2, a1, a2 = sos[k, 0], sos[k, 1], sos[k, 2], sos[k, 4], sos[k, 5]
        s1, s2 = state[k, 0], state[k, 1]
        for i in range(y.shape[0]):
            v = y[i]
            out = b0 * v + s1
            s1 = b1 * v + s2 - a1 * out  # what was there last comes last: nothing else waits for it
            s2 = b2 * v - a2 * out
            y[i] = out
        # Below the resolution of any converter; without this a silent tail would crawl through denormals.
        state[k, 0] = s1 if abs(s1) > 1e-30 else 0.0
        state[k, 1] = s2 if abs(s2) > 1e-30 else 0.0


@kernel
def _keep(state: FloatArray, k: int, l1: float, l2: float, r1: float, r2: float) -> None:
    """A section's memory of both channels, without what is below the resolution of any converter."""
    state[0, k, 0] = l1 if abs(l1) > 1e-30 else 0.0
    state[0, k, 1] = l2 if abs(l2) > 1e-30 else 0.0
    state[1, k, 0] = r1 if abs(r1) > 1e-30 else 0.0
    state[1, k, 1] = r2 if abs(r2) > 1e-30 else 0.0


@kernel
def _sos_stereo_chunk(sos: FloatArray, x: Stereo, state: FloatArray, y: Stereo) -> None:
    """``sos_stereo`` for a chunk."""
    n = x.shape[1]
    if n == 0:
        return
    for c in range(2):
        for i in range(n):
            y[c, i] = x[c, i]
    k = 0
    while k + 1 < sos.shape[0]:
        # Two sections at once, the second a frame behind the first: with the two channels there are four recursions
        # that do not wait for each other.
        b0, b1, b2, a1, a2 = sos[k, 0], sos[k, 1], sos[k, 2], sos[k, 4], sos[k, 5]
        d0, d1, d2, c1, c2 = sos[k + 1, 0], sos[k + 1, 1], sos[k + 1, 2], sos[k + 1, 4], sos[k + 1, 5]
        l1, l2, r1, r2 = state[0, k, 0], state[0, k, 1], state[1, k, 0], state[1, k, 1]
        m1, m2, s1, s2 = state[0, k + 1, 0], state[0, k + 1, 1], state[1, k + 1, 0], state[1, k + 1, 1]
        v, w = y[0, 0], y[1, 0]
        p, q = b0 * v + l1, b0 * w + r1
        l1, r1 = b1 * v + l2 - a1 * p, b1 * w + r2 - a1 * q
        l2, r2 = b2 * v - a2 * p, b2 * w - a2 * q
        for i in range(1, n + 1):
            t, u = d0 * p + m1, d0 * q + s1
            m1, s1 = d1 * p + m2 - c1 * t, d1 * q + s2 - c1 * u
            m2, s2 = d2 * p - c2 * t, d2 * q - c2 * u
            y[0, i - 1], y[1, i - 1] = t, u
            if i < n:
                v, w = y[0, i], y[1, i]
                p, q = b0 * v + l1, b0 * w + r1
                l1, r1 = b1 * v + l2 - a1 * p, b1 * w + r2 - a1 * q
                l2, r2 = b2 * v - a2 * p, b2 * w - a2 * q
        _keep(state, k, l1, l2, r1, r2)
        _keep(state, k + 1, m1, m2, s1, s2)
        k += 2
    if k < sos.shape[0]:
        b0, b1, b2, a1, a2 = sos[k, 0], sos[k, 1], sos[k, 2], sos[k, 4], sos[k, 5]
        l1, l2, r1, r2 = state[0, k, 0], state[0, k, 1], state[1, k, 0], state[1, k, 1]
        for i in range(n):  # the two channels are independent, which hides the latency of the recursion
            v, w = y[0, i], y[1, i]
            p, q = b0 * v + l1, b0 * w + r1
            l1, r1 = b1 * v + l2 - a1 * p, b1 * w + r2 - a1 * q
            l2, r2 = b2 * v - a2 * p, b2 * w - a2 * q
            y[0, i], y[1, i] = p, q
        _keep(state, k, l1, l2, r1, r2)


# What rings out is cut off at −600 dB this often: by the next time it is far from where a processor turns slow (1e-308).
_CHUNK = 256


@kernel
def sos_stereo(sos: FloatArray, x: Stereo, state: FloatArray, y: Stereo) -> None:
    """Both channels through the same sections. x and y (2, n) may be one array, state (2, k, 2)."""
    for at in range(0, x.shape[1], _CHUNK):
        _sos_stereo_chunk(sos, x[:, at : at + _CHUNK], state, y[:, at : at + _CHUNK])


_FAR = 0.2


def moved_poles(sos: FloatArray, older: FloatArray) -> FloatArray:
    """Which of two like rows of sections (k, 6) have their poles far from where they were, shape (k,), bool.

    What a section remembers is in terms of its own poles: taken over by one whose poles are elsewhere it would ring, a low
    one louder than anything that was played. Such a one begins from rest, and hears again what came of late.
    """
    s, t = (np.log(_poles(rows) + 1e-12) for rows in (sos, older))
    away = np.abs(s - t) > _FAR * np.minimum(np.abs(s), np.abs(t))
    return np.asarray(away.any(axis=1) & (sos[:, 4:] != 0.0).any(axis=1))


def _poles(sos: FloatArray) -> npt.NDArray[np.complex128]:
    """The poles of each section, (k, 2), the upper or the larger one first."""
    half, root = -0.5 * sos[:, 4], np.sqrt((0.25 * sos[:, 4] ** 2 - sos[:, 5]).astype(complex))
    return np.stack([half + root, half - root], axis=1)


class SosStereo(Memory):
    """Sections with their memory, both channels alike."""

    remembers = ("state",)

    def __init__(self, sos: FloatArray) -> None:
        self.sos = np.atleast_2d(np.ascontiguousarray(sos, dtype=np.float64))
        self.state = np.zeros((2, len(self.sos), 2))

    def adopt(self, older: Any) -> bool:
        whole = super().adopt(older)
        if whole:
            self.state[:, moved_poles(self.sos, older.sos)] = 0.0
        return whole

    def process(self, x: Stereo) -> Stereo:
        y = np.empty_like(x)
        sos_stereo(self.sos, x, self.state, y)
        return y


def corner_of_low_cut(freq_hz: float) -> float:
    """Where a low cut really lies whose lowest setting, 20 Hz, is off: just above it the corner comes up from 0 Hz, so that
    nothing jumps as it is moved there."""
    return freq_hz * math.sqrt(min(1.0, max(0.0, (freq_hz - 20.0) / 4.0)))


def corner_of_high_cut(freq_hz: float) -> float:
    """Likewise of a high cut that is off at 20 kHz."""
    return freq_hz / math.sqrt(min(1.0, max(1e-12, (20000.0 - freq_hz) / 3000.0)))


class Cuts(SosStereo):
    """A low cut that is off at 20 Hz and a high cut that is off at 20 kHz, 12 dB an octave; always two sections, so that
    their memory fits whatever they are set to."""

    def __init__(self, low_hz: float, high_hz: float, sample_rate_hz: float) -> None:
        low, high = corner_of_low_cut(low_hz), corner_of_high_cut(high_hz)
        self.passes = low == 0.0 and high >= sample_rate_hz
        rows = [WIRE, WIRE]
        if low > 0.0:
            rows[0] = highpass_sos(low, BUTTERWORTH_Q, sample_rate_hz=sample_rate_hz)
        if high < sample_rate_hz:
            rows[1] = lowpass_sos(high, BUTTERWORTH_Q, sample_rate_hz=sample_rate_hz)
        super().__init__(np.array(rows))

    def process(self, x: Stereo) -> Stereo:
        return x if self.passes else super().process(x)


def sos_powers(sos: FloatArray, freqs_hz: FloatArray, *, sample_rate_hz: float) -> FloatArray:
    """Power gain of sections in a row, sos (k, 6), at each frequency, (n,)."""
    late = np.exp(-2j * np.pi * freqs_hz / sample_rate_hz)
    h = np.ones(len(freqs_hz), dtype=np.complex128)
    for b0, b1, b2, _, a1, a2 in sos:
        h *= (b0 + (b1 + b2 * late) * late) / (1.0 + (a1 + a2 * late) * late)
    return np.asarray(np.abs(h) ** 2)


def filtered(sos: FloatArray, x: FloatArray) -> FloatArray:
    """A whole signal of one channel or two, (channels, n), through sections (k, 6), from rest."""
    if len(x) == 2:
        return SosStereo(sos).process(x)
    y = np.empty_like(x)
    sos_mono(np.atleast_2d(sos), x[0], np.zeros((len(np.atleast_2d(sos)), 2)), y[0])
    return y
