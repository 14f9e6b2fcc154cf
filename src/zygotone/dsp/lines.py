"""Delay lines: echoes, rows of all-passes, and a phaser.

Conventions
-----------
A ring is (2, size); its write position is in a state array. Delays are in frames, at least 2 where they move. A place
between two frames is read by cubic interpolation (Hermite), which is exact at whole frames.
"""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.half_band import curved
from zygotone.dsp.lfo import lfo_at
from zygotone.dsp.types import FloatArray, IntArray, Stereo

_TILE = 1024  # frames worked on at a time, so that they stay in the nearest cache
# Any feedback, and two sections that leave everything as it is.
_WIRES = np.array([0.0, 1.0, 0.0, 0.0, 1.0, 0.0, 0.0, 1.0, 0.0, 0.0, 1.0, 0.0, 0.0])


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
def _rounded(w: float) -> float:
    """A straight way from 0 to 1 without its corners."""
    return w - math.sin(2.0 * math.pi * w) / (2.0 * math.pi)


@kernel
def _two_sections(v: float, loop: FloatArray, memory: FloatArray) -> float:
    """A value through the sections of a row of ``loop``; memory (2, 2)."""
    for k in range(2):
        b = 1 + 6 * k
        out = loop[b] * v + memory[k, 0]
        memory[k, 0] = loop[b + 1] * v + memory[k, 1] - loop[b + 4] * out
        memory[k, 1] = loop[b + 2] * v - loop[b + 5] * out
        v = out
    return v


@kernel
def echoes(
    x: Stereo, ring: FloatArray, state: FloatArray, loop: FloatArray, memory: FloatArray, early: FloatArray, curve: FloatArray,
    target: float, wanted: FloatArray, ping_pong: bool, glide: float, fade_frames: int, move_frames: int, drive: float,
    first: FloatArray, second: FloatArray, y: Stereo,
) -> None:  # fmt: skip
    """Echoes of x (2, n) into y (2, n), wet only.

    state (6,): write position, delay in force, the delay that fades out, frames of that fade left, frames of the loop's own
    move left, how much of the curve is in the loop. A new ``target`` is gone to by a fade of ``fade_frames`` between two readers, or (``glide`` above 0) by moving
    one there, which bends the pitch as tape does. ``wanted`` (13,) is the feedback and two sections of six that each echo
    passes, the first too, with memory (2, 2, 2, 2); loop (2, 13) is where they move from and to, within ``move_frames``:
    the feedback along a curve, the sections by a fade from one pair to the other.
    ``drive`` above 0 bends what is fed back, with unit gain for what is small: ``half_band.curved`` with its coefficients and
    curve (2, its state). It is L frames late, and so is what goes in, and the line is read so much sooner; early (2, 2, L)
    holds what waits for it: what goes in, and what the loop holds where it is not bent.
    """
    size, latency = ring.shape[1], early.shape[2]
    write, delay, old, left, moving, bending = int(state[0]), state[1], state[2], state[3], state[4], state[5]
    if delay < 0.0:  # nothing was ever played
        delay = target
        loop[0], loop[1] = wanted, wanted
    for m in range(13):
        if loop[1, m] != wanted[m]:
            w = 1.0 - _rounded(moving / move_frames)
            loop[0, 0] += w * (loop[1, 0] - loop[0, 0])
            if w > 0.5:  # the sections that are heard most now are those that fade
                loop[0, 1:] = loop[1, 1:]
                memory[:, 0] = memory[:, 1]
            for k in range(2):
                if np.any(loop[1, 1 + 6 * k : 7 + 6 * k] != wanted[1 + 6 * k : 7 + 6 * k]):
                    memory[:, 1, k] = 0.0
            loop[1] = wanted
            moving = float(move_frames)
            break
    filtering = False
    for m in range(1, 13):  # sections that leave everything as it is are left out
        filtering = filtering or loop[0, m] != _WIRES[m] or loop[1, m] != _WIRES[m]
    feedback, w = loop[1, 0], 1.0
    for i in range(x.shape[1]):
        write += 1
        if write == size:
            write = 0
        if moving > 0.0:
            moving -= 1.0
            w = 1.0 - _rounded(moving / move_frames)
            feedback = loop[0, 0] + w * (loop[1, 0] - loop[0, 0])
        if delay != target:
            if glide > 0.0:
                delay += glide * (target - delay)
                if abs(delay - target) < 1e-3:
                    delay = target
            elif left <= 0.0:
                old, delay, left = delay, target, float(fade_frames)
        wait = write % latency
        bending = min(1.0, bending + 1.0 / move_frames) if drive > 0.0 else max(0.0, bending - 1.0 / move_frames)
        for c in range(2):
            v = read_ring(ring[c], write - 1 if write > 0 else size - 1, delay - 1.0 - latency)
            if left > 0.0:
                gone = read_ring(ring[c], write - 1 if write > 0 else size - 1, old - 1.0 - latency)
                # Both may be in step (a tone), so that their weights add up to 1 and their powers do not.
                v += (gone - v) * _rounded(left / fade_frames)
            if filtering:
                later = _two_sections(v, loop[1], memory[c, 1])
                v = later if moving <= 0.0 else later + (1.0 - w) * (_two_sections(v, loop[0], memory[c, 0]) - later)
            y[c, i] = v
            held = early[1, c, wait]
            early[1, c, wait] = v if abs(v) > 1e-20 else 0.0
            if bending > 0.0:
                held += bending * (curved(v, max(drive, 1.0), first, second, curve[c]) - held)
            held *= feedback
            if ping_pong:
                ring[1 - c, write] = held
            else:
                ring[c, write] = early[0, c, wait] + held
        if ping_pong:  # the middle goes in on the left, and each side feeds the other
            ring[0, write] += 0.5 * (early[0, 0, wait] + early[0, 1, wait])
        early[0, 0, wait], early[0, 1, wait] = x[0, i], x[1, i]
        if left > 0.0:
            left -= 1.0
    if moving <= 0.0:
        loop[0] = loop[1]
    state[0], state[1], state[2], state[3], state[4], state[5] = write, delay, old, left, moving, bending


@kernel
def _allpass(held: FloatArray, g: float, inner: FloatArray, y: FloatArray) -> None:
    """One all-pass over frames that do not need each other, all (n,): y in place, from what its line held, and into it."""
    for j in range(y.shape[0]):
        v = y[j] + g * held[j]
        v = v if abs(v) > 1e-20 else 0.0
        y[j] = held[j] - g * v
        inner[j] = v


@kernel
def allpass_chain(
    x: FloatArray, delays: IntArray, gains: FloatArray, rings: FloatArray, pos: IntArray, y: FloatArray
) -> None:
    """Schroeder all-passes in series. x and y (n,); delays (k,) at least 1, and gains (k,); rings (k, size), size above every
    delay, written at pos (1,), so that other delays find what was played before."""
    n, size = x.shape[0], rings.shape[1]
    # Frame after frame of one all-pass, then of the next: as many as none of them needs of what is made here.
    most = max(1, min(256, delays.min()))
    for i in range(n):
        y[i] = x[i]
    at = pos[0]
    i = 0
    while i < n:
        width = min(most, n - i, size - at)
        for k in range(delays.shape[0]):
            ring, g = rings[k], gains[k]
            read = at - delays[k]
            read = read + size if read < 0 else read
            whole = min(width, size - read)
            _allpass(ring[read : read + whole], g, ring[at : at + whole], y[i : i + whole])
            _allpass(ring[: width - whole], g, ring[at + whole : at + width], y[i + whole : i + width])
        at = at + width if at + width < size else 0
        i += width
    pos[0] = at


@kernel
def disperse(x: Stereo, coefficient: float, state: FloatArray, y: Stereo) -> None:
    """A row of first-order all-passes: low frequencies come later than high ones, as bending waves do in a plate. x and y
    (2, n); coefficient below 0; state (2, stages)."""
    n = x.shape[1]
    for c in range(2):
        for i in range(n):
            y[c, i] = x[c, i]
    for k in range(state.shape[1]):
        left, right = state[0, k], state[1, k]
        for i in range(n):
            v, w = y[0, i], y[1, i]
            p, q = coefficient * v + left, coefficient * w + right
            left, right = v - coefficient * p, w - coefficient * q
            y[0, i], y[1, i] = p, q
        state[0, k] = left if abs(left) > 1e-20 else 0.0
        state[1, k] = right if abs(right) > 1e-20 else 0.0


@kernel
def phaser(
    x: Stereo, start: int, turns: float, rate: float, shape: int, centre: float, octaves: float, spread: float, stages: int,
    feedback: float, memory: FloatArray, y: Stereo,
) -> None:  # fmt: skip
    """First-order all-passes whose corner sweeps, in series, with feedback around them. x and y (2, n).

    ``centre`` is the corner in cycles a frame; memory (2, stages + 1): each all-pass, and what is fed back.
    """
    for c in range(2):
        for i in range(x.shape[1]):
            sweep = lfo_at(shape, turns + (start + i) * rate + 0.25 * spread * c, c)
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


@kernel
def add_taps(line: FloatArray, places: IntArray, gains: FloatArray, y: Stereo) -> None:
    """Adds to y (2, n) what line (m,) holds from each of ``places`` (k,) on, by the gains (2, k) of either side."""
    n = y.shape[1]
    for at in range(0, n, _TILE):
        width = min(_TILE, n - at)
        left, right = y[0, at : at + width], y[1, at : at + width]
        for k in range(places.shape[0]):
            part, one, other = line[places[k] + at : places[k] + at + width], gains[0, k], gains[1, k]
            for i in range(width):
                left[i] += one * part[i]
                right[i] += other * part[i]
