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
from zygotone.dsp.types import GRID_FRAMES, FloatArray, IntArray, Stereo

LINES = 16


@dataclass(frozen=True, slots=True)
class Network:
    """Delays of the lines in frames, their loss as gain and one-pole coefficient, and the level that keeps the wet
    signal about as loud as the dry one. It is that of what goes in: what is in the lines already keeps its own."""

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
def _read_moving(
    line: FloatArray, write: int, delay: float, slope: float, cell: int, near: FloatArray, out: FloatArray
) -> None:
    """out (n,): a ring read ``delay`` − slope·(cell + j) frames behind ``write`` + j, by cubic interpolation as in
    ``lines.read_ring``; the delay changes by less than a frame over a cell. near (n + 8,) is working room."""
    n, size = out.shape[0], line.shape[0]
    longest = int(max(delay - slope * cell, delay - slope * (cell + n))) + 2
    at = write - longest
    at = at + size if at < 0 else at
    wanted = n + 5
    whole = min(wanted, size - at)
    for m in range(whole):
        near[m] = line[at + m]
    for m in range(wanted - whole):
        near[whole + m] = line[m]
    for j in range(n):
        d = delay - slope * (cell + j)  # as one product, whatever cell the block began in
        frames = int(d)
        t = d - frames
        m = j - frames + longest
        p0, p1, p2, p3 = near[m + 1], near[m], near[m - 1], near[m - 2]
        c1 = 0.5 * (p2 - p0)
        c2 = p0 - 2.5 * p1 + 2.0 * p2 - 0.5 * p3
        c3 = 0.5 * (p3 - p0) + 1.5 * (p1 - p2)
        out[j] = ((c3 * t + c2) * t + c1) * t + p1


@kernel
def feedback_network(
    x: Stereo, start: int, delays: IntArray, gains: FloatArray, poles: FloatArray, sway: float, sway_rate: float,
    ring: FloatArray, pos: IntArray, held: FloatArray, y: Stereo,
) -> None:  # fmt: skip
    """x and y (2, n). ring (LINES, size), pos (1,) write position, held (LINES,) memory of the one-poles.

    Every other line's length sways by ``sway`` frames, which keeps modes from standing still and ringing. Left goes
    into and comes out of the even lines, right the odd ones; the matrix is Hadamard's, by its butterflies.
    """
    n, size = x.shape[1], ring.shape[1]
    v = np.empty((LINES, GRID_FRAMES))
    near = np.empty(GRID_FRAMES + 8)
    offset, slope = np.zeros(LINES), np.zeros(LINES)
    write = pos[0]
    feeds = gains * (1.0 - poles)
    scale = 1.0 / math.sqrt(LINES)
    out_scale = math.sqrt(2.0 / LINES)
    # Frame after frame of one line, then of the next, which vectorises: as many as the shortest line gives before it
    # needs what is made here, and no more than a cell of the control grid.
    most = max(1, min(GRID_FRAMES, int(delays.min() - 2.0 * sway) - 4))
    i = 0
    while i < n:
        cell = (start + i) % GRID_FRAMES
        width = min(n - i, min(most, GRID_FRAMES - cell))
        if sway > 0.0 and (i == 0 or cell == 0):
            begin = start + i - cell
            for k in range(0, LINES, 2):
                now = lfo_at(0, begin * sway_rate * (1.0 + 0.07 * k) + k / LINES, k)
                later = lfo_at(0, (begin + GRID_FRAMES) * sway_rate * (1.0 + 0.07 * k) + k / LINES, k)
                offset[k] = sway * (1.0 + now)
                slope[k] = sway * (later - now) / GRID_FRAMES
        for k in range(LINES):
            line = ring[k]
            if sway > 0.0 and k % 2 == 0:
                # The line is read one frame early, since its newest value is a frame old here.
                _read_moving(line, write, delays[k] - 1.0 - offset[k], slope[k], cell, near, v[k, :width])
            else:
                at = write - delays[k] + 1
                at = at + size if at < 0 else at
                whole = min(width, size - at)
                for j in range(whole):
                    v[k, j] = line[at + j]
                for j in range(width - whole):
                    v[k, whole + j] = line[j]
        for c in range(2):
            for j in range(width):
                y[c, i + j] = 0.0
            for k in range(c, LINES, 2):
                sign = 1.0 if (k // 2) % 2 == 0 else -1.0
                for j in range(width):
                    y[c, i + j] += sign * v[k, j]
        step = 1
        while step < LINES:
            for a in range(0, LINES, 2 * step):
                for k in range(a, a + step):
                    one, other = v[k], v[k + step]
                    for j in range(width):
                        p, q = one[j], other[j]
                        one[j], other[j] = p + q, p - q
            step *= 2
        first = write + 1 if write + 1 < size else 0
        whole = min(width, size - first)
        for k in range(LINES):
            row, side = v[k], x[k % 2, i : i + width]
            for j in range(width):
                row[j] = scale * row[j] + out_scale * side[j]
        # What a line loses it loses as it is written: other losses then leave what is in the lines as loud as it is.
        for k in range(0, LINES, 4):  # four recursions that do not wait for each other
            h0, h1, h2, h3 = held[k], held[k + 1], held[k + 2], held[k + 3]
            for j in range(width):
                h0 = feeds[k] * v[k, j] + poles[k] * h0
                h1 = feeds[k + 1] * v[k + 1, j] + poles[k + 1] * h1
                h2 = feeds[k + 2] * v[k + 2, j] + poles[k + 2] * h2
                h3 = feeds[k + 3] * v[k + 3, j] + poles[k + 3] * h3
                v[k, j], v[k + 1, j], v[k + 2, j], v[k + 3, j] = h0, h1, h2, h3
            held[k], held[k + 1], held[k + 2], held[k + 3] = h0, h1, h2, h3
        for k in range(LINES):
            line, row = ring[k], v[k]
            for j in range(whole):
                line[first + j] = row[j] if abs(row[j]) > 1e-20 else 0.0  # no denormals
            for j in range(width - whole):
                line[j] = row[whole + j]
            held[k] = held[k] if abs(held[k]) > 1e-20 else 0.0
        write = (write + width) % size
        i += width
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
