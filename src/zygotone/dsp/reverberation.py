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
from zygotone.dsp.polyphase import Single
from zygotone.dsp.types import GRID_FRAMES, FloatArray, IntArray, Stereo

LINES = 16
_TURN = 8 * GRID_FRAMES  # frames worked on at a time at most: all of them stay in the nearest cache


@dataclass(frozen=True, slots=True)
class Network:
    """Delays of the lines in frames, their loss as gain and one-pole coefficient, and the level that keeps the wet
    signal about as loud as the dry one. It is that of what goes in: what is in the lines already keeps its own."""

    delays: IntArray  # (LINES,)
    gains: Single  # (LINES,)
    poles: Single  # (LINES,)
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
    return Network(delays, gains.astype(np.float32), poles.astype(np.float32), level)


# In these three, rows are named by their number and places are without a sign: a view of a row would have to be counted, and what
# might be negative would be looked at, each time.


@kernel
def _unrolled(ring: Single, k: int, at: int, wanted: int, out: Single, to: int) -> None:
    """out[to] (≥ wanted,) is what row k of a ring (rows, size) holds from ``at`` on, and from its beginning after its end."""
    whole = min(wanted, ring.shape[1] - at)
    first, second = np.uint64(at), np.uint64(whole)
    for m in range(whole):
        out[to, m] = ring[k, first + np.uint64(m)]
    for m in range(wanted - whole):
        out[to, second + np.uint64(m)] = ring[k, m]


@kernel
def _between(
    near: Single, row: int, x: int, first: float, slope: float, ramp: Single, cell: int, v: Single, k: int, begin: int, end: int
) -> None:  # fmt: skip
    """v[k, begin:end]: a row of near read between its frames x + 1 and x + 2, x + 2 and x + 3, and so on, ``first`` −
    slope·ramp[cell …] of a frame before the later one; by cubic interpolation as in ``lines.read_ring``."""
    at, out, step = np.uint64(x), np.uint64(begin), np.uint64(cell)
    start, by = np.float32(first), np.float32(slope)
    half, two_and_a_half, one_and_a_half, two = np.float32(0.5), np.float32(2.5), np.float32(1.5), np.float32(2.0)
    for i in range(end - begin):
        n = np.uint64(i)
        t = start - by * ramp[step + n]
        p3, p2 = near[row, at + n], near[row, at + n + np.uint64(1)]
        p1, p0 = near[row, at + n + np.uint64(2)], near[row, at + n + np.uint64(3)]
        c1 = half * (p2 - p0)
        c2 = p0 - two_and_a_half * p1 + two * p2 - half * p3
        c3 = half * (p3 - p0) + one_and_a_half * (p1 - p2)
        v[k, out + n] = ((c3 * t + c2) * t + c1) * t + p1


@kernel
def _read_moving(
    ring: Single, k: int, write: int, delay: float, slope: float, cell: int, width: int, ramp: Single, near: Single, v: Single, to: int
) -> None:  # fmt: skip
    """v[k, to : to + width]: row k of a ring read ``delay`` − slope·(cell + j) frames behind ``write`` + j, between its frames too;
    the delay changes by less than a frame over a cell. ramp counts from 0, near (1, width + 8) is working room."""
    longest = int(max(delay - slope * cell, delay - slope * (cell + width))) + 2
    at = write - longest
    at = at + ring.shape[1] if at < 0 else at
    whole = at + width + 5 <= ring.shape[1]
    if not whole:
        _unrolled(ring, k, at, width + 5, near, 0)
    j = 0
    while j < width:
        # As long as no whole frame is passed, neighbours are read by neighbours, which vectorises.
        frames = int(delay - slope * (cell + j))
        end = width
        if int(delay - slope * (cell + width - 1)) != frames:
            end = j + 1
            while end < width and int(delay - slope * (cell + end)) == frames:
                end += 1
        x = j + longest - frames - 2
        # The way is counted from where the cell begins, whatever frame the block began at.
        if whole:
            _between(ring, k, at + x, delay - frames, slope, ramp, cell + j, v, k, to + j, to + end)
        else:
            _between(near, 0, x, delay - frames, slope, ramp, cell + j, v, k, to + j, to + end)
        j = end


@kernel
def _enter(ring: Single, k: int, at: int, width: int, v: Single) -> None:
    """Row k of a ring (rows, size) from ``at`` on, and from its beginning after its end, is v[k, :width], without denormals."""
    whole = min(width, ring.shape[1] - at)
    first, second, quiet, nothing = np.uint64(at), np.uint64(whole), np.float32(1e-20), np.float32(0.0)
    for m in range(whole):
        ring[k, first + np.uint64(m)] = v[k, m] if abs(v[k, m]) > quiet else nothing
    for m in range(width - whole):
        ring[k, m] = v[k, second + np.uint64(m)]


@kernel
def _swayed(frame: int, rate: float, heights: FloatArray) -> None:
    """heights (LINES / 2,): how far every other line sways at a frame of the song, −1 to 1: sines of other rates and places, by
    their series, which is true to 4e-6 within a quarter of a turn and takes all of them at a time."""
    for m in range(heights.shape[0]):
        turns = frame * rate * (1.0 + 0.14 * m) + 2.0 * m / LINES
        t = turns - np.floor(turns + 0.5)
        t = 0.5 - t if t > 0.25 else -0.5 - t if t < -0.25 else t
        w = (2.0 * math.pi * t) * (2.0 * math.pi * t)
        series = 1.0 - w * (1 / 20) * (1.0 - w * (1 / 42) * (1.0 - w * (1 / 72)))
        heights[m] = 2.0 * math.pi * t * (1.0 - w * (1 / 6) * series)


@kernel
def _mix_by_fours(v: Single, width: int, step: int) -> None:
    """In place: two of the four steps of Hadamard's matrix, on rows ``step`` and twice ``step`` apart."""
    for group in range(0, LINES, 4 * step):
        for a in range(group, group + step):
            b, c, d = a + step, a + 2 * step, a + 3 * step
            for j in range(width):
                p, q, r, s = v[a, j], v[b, j], v[c, j], v[d, j]
                v[a, j], v[b, j] = (p + q) + (r + s), (p - q) + (r - s)
                v[c, j], v[d, j] = (p + q) - (r + s), (p - q) - (r - s)


@kernel
def _lose(v: Single, width: int, feeds: Single, poles: Single, held: Single) -> None:
    """In place: each row through its one-pole; eight recursions at a time that do not wait for each other."""
    for k in range(0, LINES, 8):
        h0, h1, h2, h3 = held[k], held[k + 1], held[k + 2], held[k + 3]
        h4, h5, h6, h7 = held[k + 4], held[k + 5], held[k + 6], held[k + 7]
        f0, f1, f2, f3 = feeds[k], feeds[k + 1], feeds[k + 2], feeds[k + 3]
        f4, f5, f6, f7 = feeds[k + 4], feeds[k + 5], feeds[k + 6], feeds[k + 7]
        p0, p1, p2, p3 = poles[k], poles[k + 1], poles[k + 2], poles[k + 3]
        p4, p5, p6, p7 = poles[k + 4], poles[k + 5], poles[k + 6], poles[k + 7]
        for j in range(width):
            h0, h1 = f0 * v[k, j] + p0 * h0, f1 * v[k + 1, j] + p1 * h1
            h2, h3 = f2 * v[k + 2, j] + p2 * h2, f3 * v[k + 3, j] + p3 * h3
            h4, h5 = f4 * v[k + 4, j] + p4 * h4, f5 * v[k + 5, j] + p5 * h5
            h6, h7 = f6 * v[k + 6, j] + p6 * h6, f7 * v[k + 7, j] + p7 * h7
            v[k, j], v[k + 1, j], v[k + 2, j], v[k + 3, j] = h0, h1, h2, h3
            v[k + 4, j], v[k + 5, j], v[k + 6, j], v[k + 7, j] = h4, h5, h6, h7
        held[k], held[k + 1], held[k + 2], held[k + 3] = h0, h1, h2, h3
        held[k + 4], held[k + 5], held[k + 6], held[k + 7] = h4, h5, h6, h7
    for k in range(LINES):
        held[k] = held[k] if abs(held[k]) > 1e-20 else np.float32(0.0)


@kernel
def feedback_network(
    x: Stereo, start: int, delays: IntArray, gains: Single, poles: Single, sway: float, sway_rate: float,
    ring: Single, pos: IntArray, held: Single, y: Stereo,
) -> None:  # fmt: skip
    """x and y (2, n). ring (LINES, size), pos (1,) write position, held (LINES,) memory of the one-poles.

    Every other line's length sways by ``sway`` frames, which keeps modes from standing still and ringing. Left goes
    into and comes out of the even lines, right the odd ones; the matrix is Hadamard's, by its butterflies. What is in the
    lines is of single precision: a tail needs no more, and twice as many frames are one operation.
    """
    n, size = x.shape[1], ring.shape[1]
    v, into_lines = np.empty((LINES, _TURN), np.float32), np.empty(_TURN, np.float32)
    near = np.empty((1, GRID_FRAMES + 8), np.float32)
    ramp = np.arange(2 * GRID_FRAMES).astype(np.float32)
    now, later = np.zeros(LINES // 2), np.zeros(LINES // 2)  # how far every other line sways, −1 to 1
    write = pos[0]
    feeds = gains * (np.float32(1.0) - poles) * np.float32(1.0 / math.sqrt(LINES))
    in_scale = np.float32(math.sqrt(2.0))
    # Frame after frame of one line, then of the next, which vectorises: as many as the shortest line gives before it
    # needs what is made here.
    most = max(1, min(_TURN, int(delays.min() - 2.0 * sway) - 4))
    i = 0
    while i < n:
        width = min(n - i, most)
        for k in range(1 if sway > 0.0 else 0, LINES, 2 if sway > 0.0 else 1):
            at = write - delays[k] + 1
            at = at + size if at < 0 else at
            _unrolled(ring, k, at, width, v, k)
        j = 0
        while sway > 0.0 and j < width:  # each cell of the control grid is a straight way
            cell = (start + i + j) % GRID_FRAMES
            part = min(width - j, GRID_FRAMES - cell)
            if cell == 0 or i + j == 0:
                begin = start + i + j - cell
                if i + j == 0:
                    _swayed(begin, sway_rate, later)
                now[:] = later
                _swayed(begin + GRID_FRAMES, sway_rate, later)
            at = write + j if write + j < size else write + j - size
            for k in range(0, LINES, 2):
                # The line is read one frame early, since its newest value is a frame old here.
                delay = delays[k] - 1.0 - sway * (1.0 + now[k // 2])
                slope = sway * (later[k // 2] - now[k // 2]) / GRID_FRAMES
                _read_moving(ring, k, at, delay, slope, cell, part, ramp, near, v, j)
            j += part
        for c in range(2):
            out = y[c, i : i + width]
            for j in range(width):
                half = (v[c, j] - v[c + 2, j]) + (v[c + 4, j] - v[c + 6, j])
                out[j] = half + ((v[c + 8, j] - v[c + 10, j]) + (v[c + 12, j] - v[c + 14, j]))
        _mix_by_fours(v, width, 1)
        _mix_by_fours(v, width, 4)
        for c in range(2):
            into = x[c, i : i + width]
            for j in range(width):
                into_lines[j] = in_scale * np.float32(into[j])
            for k in range(c, LINES, 2):
                for j in range(width):
                    v[k, j] += into_lines[j]
        # What a line loses it loses as it is written: other losses then leave what is in the lines as loud as it is.
        _lose(v, width, feeds, poles, held)
        first = write + 1 if write + 1 < size else 0
        whole = min(width, size - first)
        quiet = np.float32(1e-20)
        for k in range(LINES):
            late, early, rest = ring[k, first : first + whole], ring[k, : width - whole], v[k, whole:width]
            for j in range(whole):
                late[j] = v[k, j] if abs(v[k, j]) > quiet else np.float32(0.0)  # no denormals
            for j in range(width - whole):
                early[j] = rest[j]
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
    size = 1 << (2 * n - 1).bit_length()  # a length with a large prime in it would take seconds
    spectrum = np.fft.rfft(tail, size, axis=1)
    f = np.fft.rfftfreq(size, 1.0 / sample_rate_hz)
    tail = np.fft.irfft(spectrum / np.sqrt(1.0 + (f / damping_hz) ** 2), axis=1)[:, :n]
    return np.ascontiguousarray(tail / np.sqrt(np.sum(tail**2, axis=1, keepdims=True)))
