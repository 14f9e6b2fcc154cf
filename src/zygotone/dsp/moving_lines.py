"""Delay lines that are read at places that never stand still: chorus and its kin.

Conventions
-----------
Delays are in frames, at least ``NEAREST``. A place between two frames is read by a windowed sinc (Laakso, Välimäki,
Karjalainen and Laine, "Splitting the unit delay", 1996): a copy keeps its highs wherever it stands, and moving it adds nothing.
"""

from __future__ import annotations

import functools
import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.delays import fir_add
from zygotone.dsp.lfo import SHAPES, noise_at
from zygotone.dsp.lines import read_ring
from zygotone.dsp.polyphase import Single
from zygotone.dsp.types import FloatArray, Stereo

TAPS = 24
NEAREST = TAPS // 2 + 1
NEAREST_IN_BLOCKS = NEAREST + 16  # what is fed back is worked out 16 frames at a time
_PLACES = 256  # between two frames; from one to the next is a straight line, 100 dB off at most up to 15 kHz at 48 kHz
_STOP_DB = 95.0  # by Kaiser's formula flat to 0.38 of the rate
_DRIFT = SHAPES.index("drift")
_ITSELF = 7
_TURN = 256  # frames after which a turning phase is worked out afresh
# From here on down a feedback that short is read by a cubic; in between the one fades into the other.
_CUBIC, _SINC = float(NEAREST), NEAREST + 8.0


@functools.lru_cache(maxsize=1)
def sinc_table() -> FloatArray:
    """Taps for a place t between two frames in row t·places, shape (places + 1, taps), the oldest frame first."""
    t = np.linspace(0.0, 1.0, _PLACES + 1)[:, None]
    at = np.arange(TAPS)[None] - (TAPS // 2 - 1) - (1.0 - t)
    window = np.i0(0.1102 * (_STOP_DB - 8.7) * np.sqrt(np.maximum(0.0, 1.0 - (at / (TAPS / 2)) ** 2)))
    taps = np.sinc(at) * window
    return np.ascontiguousarray(taps / taps.sum(axis=1, keepdims=True))


@functools.lru_cache(maxsize=1)
def sinc_branches() -> Single:
    """The table as polynomials in t − ½, shape (7, taps), the newest frame first: what each power makes of a signal can be had for
    a whole block at once, and any number of voices read it at any place (C. W. Farrow, "A continuously variable digital delay
    element", 1988)."""
    t = np.linspace(0.0, 1.0, _PLACES + 1) - 0.5
    fitted = np.polynomial.chebyshev.chebfit(2.0 * t, sinc_table(), 6)
    powers = [np.polynomial.chebyshev.cheb2poly(column) for column in fitted.T]
    return np.ascontiguousarray((np.array(powers) * 2.0 ** np.arange(7)).T[:, ::-1], dtype=np.float32)


@kernel
def read_sinc(ring: FloatArray, write: int, delay: float, table: FloatArray) -> float:
    """Value ``delay`` frames before what is at ``write``, the newest. ring (size + taps,): its first frames are there again
    after its end, so that what is read at one time lies in one piece."""
    size = ring.shape[0] - TAPS
    whole = int(delay)
    place = (delay - whole) * _PLACES
    row = int(place)
    rest = place - row
    first = write - whole - TAPS // 2
    if first < 0:
        first += size
    x = ring[first : first + TAPS]
    here, there = table[row], table[min(row + 1, _PLACES)]
    s0, s1, s2, s3, s4, s5, s6, s7 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for k in range(0, TAPS, 8):  # eight sums that do not wait for each other
        s0 += x[k] * (here[k] + rest * (there[k] - here[k]))
        s1 += x[k + 1] * (here[k + 1] + rest * (there[k + 1] - here[k + 1]))
        s2 += x[k + 2] * (here[k + 2] + rest * (there[k + 2] - here[k + 2]))
        s3 += x[k + 3] * (here[k + 3] + rest * (there[k + 3] - here[k + 3]))
        s4 += x[k + 4] * (here[k + 4] + rest * (there[k + 4] - here[k + 4]))
        s5 += x[k + 5] * (here[k + 5] + rest * (there[k + 5] - here[k + 5]))
        s6 += x[k + 6] * (here[k + 6] + rest * (there[k + 6] - here[k + 6]))
        s7 += x[k + 7] * (here[k + 7] + rest * (there[k + 7] - here[k + 7]))
    return ((s0 + s1) + (s2 + s3)) + ((s4 + s5) + (s6 + s7))


@kernel
def _write(ring: FloatArray, at: int, value: float) -> None:
    ring[at] = value if abs(value) > 1e-20 else 0.0
    if at < TAPS:
        ring[at + ring.shape[0] - TAPS] = ring[at]


@kernel
def _swing(shape: int, start: int, rate: float, turns: float, seed: int, y: FloatArray) -> None:
    """y (n,): sine or drift over frames ``start`` to ``start + n`` of the song, ``rate`` cycles a frame and ``turns`` on.

    A sine is worked out every ``_TURN`` frames of the song (wherever the block begins), and turned on in between.
    """
    at = 0
    while at < y.shape[0]:
        frame = start + at
        first = frame // _TURN * _TURN
        last = first + _TURN
        middle, half, per_turn, turn = 0.0, 1.0, 2.0 * math.pi, 0.0
        if shape == _DRIFT:  # half a cosine from one place to the next
            turn = float(math.floor(frame * rate + turns))
            first = min(frame, max(first, math.ceil((turn - turns) / rate)))
            last = max(frame + 1, min(last, math.ceil((turn + 1.0 - turns) / rate)))
            a, b = noise_at(int(turn), seed), noise_at(int(turn) + 1, seed)
            middle, half, per_turn = 0.5 * (a + b), 0.5 * (a - b), math.pi
        phase = first * rate + turns
        turn = turn if shape == _DRIFT else math.floor(phase)
        angle = per_turn * (phase - turn) + (0.5 * math.pi if shape == _DRIFT else 0.0)
        s, c = math.sin(angle), math.cos(angle)
        turn_s, turn_c = math.sin(per_turn * rate), math.cos(per_turn * rate)
        for _ in range(first, frame):
            s, c = s * turn_c + c * turn_s, c * turn_c - s * turn_s
        n = min(y.shape[0] - at, last - frame)
        for i in range(at, at + n):
            y[i] = middle + half * s
            s, c = s * turn_c + c * turn_s, c * turn_c - s * turn_s
        at += n


@kernel
def modulated_voices(
    x: Stereo, past: FloatArray, ring: FloatArray, pos: FloatArray, held: FloatArray, start: int, turns: float, rate: float,
    shape: int, base: float, apart: float, depth: float, places: FloatArray, spread: float, feedback: float, branches: Single, y: Stereo,
) -> None:  # fmt: skip
    """One to many copies of x (2, n), each delayed by ``base`` + voice·``apart`` ± ``depth`` frames, into y (2, n).

    The LFOs of the voices are evenly apart, those of left and right by a quarter cycle at ``spread`` 1; with it the
    voices also move to their ``places`` (voices,), −1 to 1. past (2, taps − 1) is the last of what went in, ring (2, size, 8) what
    the ``branches`` (``sinc_branches``) made of it, and itself; pos (1,) the write position, held (2,) what is fed back.
    """
    voices, size = places.shape[0], ring.shape[1]
    write = int(pos[0])
    scale = 1.0 / math.sqrt(voices)
    # What is fed back is worked out before what it goes into; so no more frames at a time than lie between them.
    most = _TURN if feedback == 0.0 else max(1, min(_TURN, int(base - depth) - TAPS // 2))
    delays, sums = np.empty(_TURN), np.empty((2, _TURN))
    made, single = np.empty((branches.shape[0], _TURN), np.float32), np.empty(TAPS - 1 + _TURN, np.float32)
    joined = np.empty(TAPS - 1 + _TURN)
    for at in range(0, x.shape[1], most):
        n = min(most, x.shape[1] - at)
        for step in range(2):
            if (step == 0) == (feedback == 0.0):  # what goes into the line
                for c in range(2):
                    joined[: TAPS - 1] = past[c]
                    fresh = joined[TAPS - 1 : TAPS - 1 + n]
                    fresh[:] = x[c, at : at + n]
                    if feedback != 0.0:
                        fresh[0] += feedback * held[c]
                        fresh[1:] += feedback * sums[c, : n - 1]
                    past[c] = joined[n : n + TAPS - 1]
                    single[: TAPS - 1 + n] = joined[: TAPS - 1 + n]
                    for p in range(branches.shape[0]):
                        made[p, :n] = 0.0
                        fir_add(branches[p], single[: TAPS - 1 + n], made[p, :n])
                    to = write
                    for i in range(n):
                        to = to + 1 if to + 1 < size else 0
                        for p in range(branches.shape[0]):
                            ring[c, to, p] = made[p, i]
                        ring[c, to, _ITSELF] = joined[i + TAPS // 2]
            else:  # and what comes out of it
                sums[:, :n] = 0.0
                for v in range(voices):
                    side = spread * places[v]
                    for c in range(2):
                        gain = scale * (1.0 - max(0.0, side) if c == 0 else 1.0 + min(0.0, side))
                        if c == 0 or spread > 0.0:
                            _swing(
                                shape, start + at, rate, turns + v / voices + 0.25 * spread * c, 2 * v + c, delays[:n]
                            )
                        _read_branches(ring, c, write, base + v * apart, depth, delays[:n], gain, sums)
        for i in range(n):
            y[0, at + i], y[1, at + i] = sums[0, i], sums[1, i]
        held[0], held[1] = sums[0, n - 1], sums[1, n - 1]
        write = (write + n) % size
    pos[0] = write


@kernel
def _read_branches(
    ring: FloatArray, c: int, write: int, base: float, depth: float, swing: FloatArray, gain: float, sums: FloatArray
) -> None:
    """Adds to row c of sums (2, n) a voice that reads side c of ring (2, size, 8) ``base`` + ``depth``·swing (n,) behind the n
    frames after ``write``."""
    size = ring.shape[1]
    for i in range(swing.shape[0]):
        delay = base + depth * swing[i]
        whole = int(delay)
        t = delay - whole - 0.5
        at = write + 1 + i - whole + TAPS // 2 - 1
        if at < 0:
            at += size
        elif at >= size:
            at -= size
        if t == -0.5:  # a whole frame needs no filter
            sums[c, i] += gain * ring[c, at, _ITSELF]
            continue
        low = (ring[c, at, 6] * t + ring[c, at, 5]) * t + ring[c, at, 4]
        low = ((low * t + ring[c, at, 3]) * t + ring[c, at, 2]) * t + ring[c, at, 1]
        sums[c, i] += gain * (low * t + ring[c, at, 0])


@kernel
def sweeping_comb(
    x: Stereo, ring: FloatArray, pos: FloatArray, start: int, turns: float, rate: float, base: float, depth: float, ahead: int,
    spread: float, feedback: float, table: FloatArray, y: Stereo,
) -> None:  # fmt: skip
    """A copy of x (2, n), ``ahead`` + ``base`` ± ``depth`` frames late, into y (2, n), to be added to x ``ahead`` frames late: so
    the copy may come before it. What is fed back is ``base`` ± ``depth`` late, either way, and at least 2 frames.

    Sides are a quarter cycle apart at ``spread`` 1. ring (2, size + taps) as in ``read_sinc``; pos (1,) write position.
    """
    size = ring.shape[1] - TAPS
    first = int(pos[0])
    delays = np.empty(_TURN)
    for c in range(2):
        write = first
        row = ring[c]
        for at in range(0, x.shape[1], _TURN):
            n = min(_TURN, x.shape[1] - at)
            _swing(0, start + at, rate, turns + 0.25 * spread * c, 0, delays[:n])
            for i in range(n):
                delay = base + depth * delays[i]
                back = 0.0
                if feedback != 0.0:
                    round_trip = max(2.0, abs(delay)) - 1.0  # the newest in the line is a frame old
                    cubic = 1.0 - min(1.0, max(0.0, (round_trip - _CUBIC) / (_SINC - _CUBIC)))
                    if cubic < 1.0:
                        back = (1.0 - cubic) * read_sinc(row, write, round_trip, table)
                    if cubic > 0.0:
                        back += cubic * read_ring(row[:size], write, round_trip)
                write += 1
                if write == size:
                    write = 0
                _write(row, write, x[c, at + i] + feedback * back)
                y[c, at + i] = read_sinc(row, write, ahead + delay, table)
        pos[0] = write
