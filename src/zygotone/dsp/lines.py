"""Delay lines that are read at moving places: chorus and its kin, echoes.

Conventions
-----------
A ring is (2, size); its write position is in a state array. Delays are in frames, at least 2 where they move. A place
between two frames is read by cubic interpolation (Hermite), which is exact at whole frames.
"""

from __future__ import annotations

import math

from zygotone.dsp.compile import kernel
from zygotone.dsp.lfo import lfo_at
from zygotone.dsp.types import FloatArray, Stereo


@kernel
def read_ring(ring: FloatArray, write: int, delay: float) -> float:
    """Value ``delay`` frames before what is at ``write``, the newest. ring (size,)."""
    size = ring.shape[0]
    whole = int(delay)
    t = delay - whole
    at = write - whole
    if at < 0:
        at += size
    p1 = float(ring[at])
    if t == 0.0:
        return p1
    before, after, later = at + 1, at - 1, at - 2  # in the ring, what is later in time back is at a lower index
    if before >= size:
        before -= size
    if after < 0:
        after += size
    if later < 0:
        later += size
    p0, p2, p3 = ring[before], ring[after], ring[later]
    c1 = 0.5 * (p2 - p0)
    c2 = p0 - 2.5 * p1 + 2.0 * p2 - 0.5 * p3
    c3 = 0.5 * (p3 - p0) + 1.5 * (p1 - p2)
    return float(((c3 * t + c2) * t + c1) * t + p1)


@kernel
def modulated_voices(
    x: Stereo, ring: FloatArray, pos: FloatArray, held: FloatArray, start: int, rate: float, shape: int, base: float,
    apart: float, depth: float, voices: int, spread: float, feedback: float, y: Stereo,
) -> None:  # fmt: skip
    """One to many copies of x (2, n), each delayed by ``base`` + voice·``apart`` ± ``depth`` frames, into y (2, n).

    The LFOs of the voices are evenly apart, those of left and right by a quarter cycle at ``spread`` 1; with it the
    voices also move to the sides in turn. pos (1,) write position, held (2,) what is fed back.
    """
    size = ring.shape[1]
    write = int(pos[0])
    scale = 1.0 / math.sqrt(voices)
    for i in range(x.shape[1]):
        write += 1
        if write == size:
            write = 0
        for c in range(2):
            ring[c, write] = x[c, i] + feedback * held[c]
        phase = (start + i) * rate
        left, right = 0.0, 0.0
        for v in range(voices):
            place = phase + v / voices
            delay = base + v * apart
            a = read_ring(ring[0], write, delay + depth * lfo_at(shape, place, 2 * v))
            b = read_ring(
                ring[1], write, delay + depth * lfo_at(shape, place + 0.25 * spread, 2 * v + (1 if spread > 0.0 else 0))
            )
            side = spread if voices > 1 else 0.0
            away = 1.0 - side
            if v % 2 == 0:
                left += a
                right += away * b
            else:
                left += away * a
                right += b
        y[0, i], y[1, i] = scale * left, scale * right
        held[0], held[1] = y[0, i], y[1, i]
    pos[0] = write


@kernel
def echoes(
    x: Stereo, ring: FloatArray, state: FloatArray, filters: FloatArray, memory: FloatArray, target: float, ping_pong: bool,
    glide: float, fade_frames: int, feedback: float, drive: float, y: Stereo,
) -> None:  # fmt: skip
    """Echoes of x (2, n) into y (2, n), wet only.

    state (4,): write position, delay in force, the delay that fades out, frames of that fade left. A new ``target`` is
    gone to by a fade of ``fade_frames`` between two readers, or (``glide`` above 0) by moving one there, which bends the
    pitch as tape does. filters (k, 6) sections in the feedback path with memory (2, k, 2); ``drive`` above 0 bends
    what is fed back, with unit gain for what is small.
    """
    size = ring.shape[1]
    write, delay, old, left = int(state[0]), state[1], state[2], state[3]
    if delay < 0.0:  # nothing was ever played
        delay = target
    sections = filters.shape[0]
    for i in range(x.shape[1]):
        write += 1
        if write == size:
            write = 0
        if delay != target:
            if glide > 0.0:
                delay += glide * (target - delay)
                if abs(delay - target) < 1e-3:
                    delay = target
            elif left <= 0.0:
                old, delay, left = delay, target, float(fade_frames)
        for c in range(2):
            v = read_ring(ring[c], write - 1 if write > 0 else size - 1, delay - 1.0)
            if left > 0.0:
                w = left / fade_frames
                gone = read_ring(ring[c], write - 1 if write > 0 else size - 1, old - 1.0)
                v = v * math.cos(0.5 * math.pi * w) + gone * math.sin(0.5 * math.pi * w)
            y[c, i] = v
            for k in range(sections):
                out = filters[k, 0] * v + memory[c, k, 0]
                memory[c, k, 0] = filters[k, 1] * v - filters[k, 4] * out + memory[c, k, 1]
                memory[c, k, 1] = filters[k, 2] * v - filters[k, 5] * out
                v = out
            if drive > 0.0:
                v = math.tanh(drive * v) / drive
            if abs(v) < 1e-20:
                v = 0.0
            held = feedback * v
            if ping_pong:
                ring[1 - c, write] = held
            else:
                ring[c, write] = x[c, i] + held
        if ping_pong:  # the middle goes in on the left, and each side feeds the other
            ring[0, write] += 0.5 * (x[0, i] + x[1, i])
        if left > 0.0:
            left -= 1.0
    state[0], state[1], state[2], state[3] = write, delay, old, left


@kernel
def allpass_chain(
    x: FloatArray, delays: FloatArray, gains: FloatArray, rings: FloatArray, pos: FloatArray, y: FloatArray
) -> None:
    """Schroeder all-passes in series. x and y (n,); delays and gains (k,); rings (k, size); pos (k,) write positions."""
    for i in range(x.shape[0]):
        v = x[i]
        for k in range(delays.shape[0]):
            at = int(pos[k])
            held = rings[k, at]
            inner = v + gains[k] * held
            if abs(inner) < 1e-20:
                inner = 0.0
            rings[k, at] = inner
            v = held - gains[k] * inner
            at += 1
            if at >= int(delays[k]):
                at = 0
            pos[k] = at
        y[i] = v


@kernel
def phaser(
    x: Stereo, start: int, rate: float, shape: int, centre: float, octaves: float, spread: float, stages: int,
    feedback: float, memory: FloatArray, y: Stereo,
) -> None:  # fmt: skip
    """First-order all-passes whose corner sweeps, in series, with feedback around them. x and y (2, n).

    ``centre`` is the corner in cycles a frame; memory (2, stages + 1): each all-pass, and what is fed back.
    """
    for c in range(2):
        for i in range(x.shape[1]):
            sweep = lfo_at(shape, (start + i) * rate + 0.25 * spread * c, c)
            w = math.pi * min(0.45, centre * 2.0 ** (octaves * sweep))
            t = math.tan(w)
            a = (t - 1.0) / (t + 1.0)
            v = x[c, i] + feedback * memory[c, stages]
            for k in range(stages):
                out = a * v + memory[c, k]
                memory[c, k] = v - a * out
                v = out
            memory[c, stages] = v if abs(v) > 1e-20 else 0.0
            y[c, i] = v
