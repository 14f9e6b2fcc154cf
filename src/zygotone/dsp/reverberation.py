"""A feedback delay network: many delay lines that feed each other through a matrix that keeps the energy.

J.-M. Jot and A. Chaigne, "Digital delay networks for designing artificial reverberators", AES 1991: each line loses
just what a sound loses in the time it spends there, so that all modes die at one rate; M. R. Schroeder, "Natural
sounding artificial reverberation", 1962, for the all-passes that thicken what goes in.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.lfo import lfo_at
from zygotone.dsp.lines import read_ring
from zygotone.dsp.types import GRID_FRAMES, FloatArray, IntArray, Stereo

LINES = 16


@dataclass(frozen=True, slots=True)
class Network:
    """Delays of the lines in frames, their loss as gain and one-pole coefficient, and the level that keeps the wet
    signal about as loud as the dry one."""

    delays: IntArray  # (LINES,)
    gains: FloatArray  # (LINES,)
    poles: FloatArray  # (LINES,)
    level: float


def _is_prime(n: int) -> bool:
    return n > 1 and all(n % d for d in range(2, math.isqrt(n) + 1))


def line_delays(shortest_s: float, longest_s: float, sample_rate_hz: int) -> IntArray:
    """Delays spread evenly by ratio, each the next prime, so that no two share a period."""
    wanted = np.geomspace(shortest_s, longest_s, LINES) * sample_rate_hz
    found: list[int] = []
    for frames in wanted:
        n = round(float(frames))
        while not _is_prime(n) or n in found:
            n += 1
        found.append(n)
    return np.array(found, dtype=np.int64)


def design_network(
    shortest_s: float, longest_s: float, *, decay_s: float, damping_hz: float, sample_rate_hz: int
) -> Network:
    """Losses so that a sound falls by 60 dB in ``decay_s``, and in half of it at ``damping_hz``.

    A line of m frames loses 60·m/(fs·T) dB (Jot and Chaigne 1991, eq. 9); its one-pole makes that twice as much at
    the damping frequency.
    """
    delays = line_delays(shortest_s, longest_s, sample_rate_hz)
    gains = 10.0 ** (-3.0 * delays / (sample_rate_hz * decay_s))
    cos = math.cos(2.0 * math.pi * min(damping_hz, 0.49 * sample_rate_hz) / sample_rate_hz)
    # (1 − p)² / (1 − 2p·cos + p²) = g², solved for the root below 1.
    g2 = gains**2
    b = (1.0 - g2 * cos) / (1.0 - g2)
    poles = b - np.sqrt(np.maximum(b * b - 1.0, 0.0))
    # What goes in once comes out again on each round, g² of it the first time: Σ g²ᵏ = g² / (1 − g²).
    level = math.sqrt((1.0 - float(g2.mean())) / float(g2.mean()))
    return Network(delays, np.asarray(gains), np.asarray(poles), level)


@kernel
def feedback_network(
    x: Stereo, start: int, delays: IntArray, gains: FloatArray, poles: FloatArray, sway: float, sway_rate: float,
    ring: FloatArray, pos: IntArray, held: FloatArray, y: Stereo,
) -> None:  # fmt: skip
    """x and y (2, n). ring (LINES, size), pos (1,) write position, held (LINES,) memory of the one-poles.

    Every other line's length sways by ``sway`` frames, which keeps modes from standing still and ringing. Left goes
    into and comes out of the even lines, right the odd ones; the matrix is Hadamard's, by its butterflies.
    """
    lines = LINES  # a constant, so that the loops over the lines are unrolled
    size = ring.shape[1]
    v = np.empty(LINES)
    offset, slope = np.zeros(LINES), np.zeros(LINES)
    write = pos[0]
    feeds = gains * (1.0 - poles)
    scale = 1.0 / math.sqrt(lines)
    out_scale = math.sqrt(2.0 / lines)
    for i in range(x.shape[1]):
        cell = (start + i) % GRID_FRAMES
        if sway > 0.0 and (i == 0 or cell == 0):
            begin = start + i - cell
            for k in range(0, lines, 2):
                now = lfo_at(0, begin * sway_rate * (1.0 + 0.07 * k) + k / lines, k)
                later = lfo_at(0, (begin + GRID_FRAMES) * sway_rate * (1.0 + 0.07 * k) + k / lines, k)
                offset[k] = sway * (1.0 + now)
                slope[k] = sway * (later - now) / GRID_FRAMES
        left, right = 0.0, 0.0
        for k in range(lines):
            if sway > 0.0 and k % 2 == 0:
                # The line is read one frame early, since its newest value is a frame old here.
                value = read_ring(ring[k], write, delays[k] - 1.0 - offset[k] - slope[k] * cell)
            else:
                at = write - delays[k] + 1
                if at < 0:
                    at += size
                value = ring[k, at]
            value = feeds[k] * value + poles[k] * held[k]
            if abs(value) < 1e-20:
                value = 0.0
            held[k] = value
            v[k] = value
            sign = 1.0 if (k // 2) % 2 == 0 else -1.0
            if k % 2 == 0:
                left += sign * value
            else:
                right += sign * value
        step = 1
        while step < lines:
            for a in range(0, lines, 2 * step):
                for k in range(a, a + step):
                    p, q = v[k], v[k + step]
                    v[k], v[k + step] = p + q, p - q
            step *= 2
        write += 1
        if write == size:
            write = 0
        for k in range(lines):
            ring[k, write] = scale * v[k] + out_scale * (x[0, i] if k % 2 == 0 else x[1, i])
        y[0, i], y[1, i] = left, right
    pos[0] = write


def velvet_tail(
    length_s: float, *, density_hz: float, fade_s: float, damping_hz: float, seed: int, sample_rate_hz: int
) -> FloatArray:
    """A tail that stops: velvet noise (one pulse of either sign at a random place in each short stretch; Karjalainen
    and Järveläinen, "Reverberation modeling using velvet noise", 2007), level until its end. Shape (2, n), energy 1.
    """
    n = max(8, round(length_s * sample_rate_hz))
    rng = np.random.default_rng(seed)
    stretch = sample_rate_hz / density_hz
    count = max(4, int(n / stretch))
    tail = np.zeros((2, n))
    for channel in tail:
        places = np.minimum(n - 1, ((np.arange(count) + rng.random(count)) * stretch).astype(int))
        channel[places] = rng.choice([-1.0, 1.0], count)
    fade = max(2, min(n // 2, round(fade_s * sample_rate_hz)))
    tail[:, -fade:] *= 0.5 + 0.5 * np.cos(np.pi * np.arange(fade) / fade)
    rise = max(2, min(n // 4, round(0.004 * sample_rate_hz)))
    tail[:, :rise] *= np.arange(rise) / rise
    spectrum = np.fft.rfft(tail, 2 * n, axis=1)
    f = np.fft.rfftfreq(2 * n, 1.0 / sample_rate_hz)
    tail = np.fft.irfft(spectrum / np.sqrt(1.0 + (f / damping_hz) ** 2), axis=1)[:, :n]
    return np.ascontiguousarray(tail / np.sqrt(np.sum(tail**2, axis=1, keepdims=True)))
