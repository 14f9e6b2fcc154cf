"""Oscillators whose pitch and colour move: reading cycles, and operators that bend each other's phase.

Conventions
-----------
What moves is given on the control grid, at the boundaries of its cells of ``GRID_FRAMES`` frames: shape (cells + 1,). Within
a cell it moves in a straight line. Steps are in cycles a frame.
"""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import GRID_FRAMES, FloatArray

_ONE, _TWO, _THREE = np.uint64(1), np.uint64(2), np.uint64(3)
_LOW_32 = np.uint64(0xFFFFFFFF)


_S3, _S5, _S7, _S9, _S11, _S13 = (
    sign / math.factorial(n) for sign, n in zip((-1, 1) * 3, range(3, 14, 2), strict=True)
)


@kernel
def _sine(turns: float) -> float:
    """The sine of 2π·turns by its series, to −180 dB; without branches, so that loops over it vectorise."""
    r = turns - np.rint(turns)
    x = 2.0 * math.pi * (0.25 - abs(abs(r) - 0.25))  # the same height within the first quarter
    q = x * x
    odd = 1.0 + q * (_S3 + q * (_S5 + q * (_S7 + q * (_S9 + q * (_S11 + q * _S13)))))
    return float(math.copysign(x * odd, r))


@kernel
def add_sine(steps: FloatArray, ratio: float, phase: float, gain: float, y: FloatArray) -> None:
    """Adds a sine to y (n,); steps, ratio and phase as in ``read_cycles``, which takes twice as long."""
    n = y.shape[0]
    for at in range(0, n, GRID_FRAMES):
        cell = at // GRID_FRAMES
        width = min(GRID_FRAMES, n - at)
        step, bend = ratio * steps[cell], ratio * (steps[cell + 1] - steps[cell]) / GRID_FRAMES
        out = y[at : at + width]
        for i in range(width):
            out[i] += gain * _sine(phase + i * step + bend * (0.5 * i * (i - 1)))
        phase += width * step + bend * (0.5 * width * (width - 1))
        phase -= math.floor(phase)


@kernel
def _turns(cycles_: float) -> int:
    """A part of a cycle, −½ to 1, as a 64-bit fraction: adding such ones wraps round by itself, and the upper bits are the
    place in a table. That is twice as quick as a floating-point phase."""
    return np.uint64(np.int64(cycles_ * 9223372036854775808.0)) << _ONE  # type: ignore[return-value]


@kernel
def _size_bits(size: int) -> int:
    bits = 0
    while (1 << bits) < size:
        bits += 1
    return bits


@kernel
def _at(row: FloatArray, k: np.uint64, t: float) -> float:
    """The cubic whose factors begin at ``k``."""
    return float(((row[k + _THREE] * t + row[k + _TWO]) * t + row[k + _ONE]) * t + row[k])


@kernel
def read_cycles(
    cycles: FloatArray, places: FloatArray, steps: FloatArray, ratio: float, phase: float, gain: float, y: FloatArray
) -> None:
    """Adds ``gain`` times a table to y (n,). cycles (tables, size, 4): cubics, size a power of two; places from 0 to
    tables − 1 say which of them, and between which two; ``ratio`` multiplies the steps, which stay below ½; phase 0 to 1."""
    rows = cycles.reshape(cycles.shape[0], 4 * cycles.shape[1])
    last = rows.shape[0] - 1
    n = y.shape[0]
    bits = _size_bits(cycles.shape[1])
    place_, below, whole = np.uint64(62 - bits), np.uint64(32 - bits), ~_THREE
    turn = _turns(phase)
    for at in range(0, n, GRID_FRAMES):
        cell = at // GRID_FRAMES
        end = min(n, at + GRID_FRAMES)
        step = _turns(ratio * steps[cell])
        bend = _turns(ratio * (steps[cell + 1] - steps[cell]) / GRID_FRAMES)
        place, drift = places[cell], (places[cell + 1] - places[cell]) / GRID_FRAMES
        if last == 0 or (drift == 0.0 and place == math.floor(place)):
            row = rows[min(last, int(place))]
            for i in range(at, end):
                t = np.float64(np.int64((turn >> below) & _LOW_32)) * (1.0 / 4294967296.0)
                y[i] += gain * _at(row, (turn >> place_) & whole, t)
                turn += step
                step += bend
        else:
            for i in range(at, end):
                t = np.float64(np.int64((turn >> below) & _LOW_32)) * (1.0 / 4294967296.0)
                k = (turn >> place_) & whole
                low = min(last - 1, int(place))
                one, other = _at(rows[low], k, t), _at(rows[low + 1], k, t)
                y[i] += gain * (one + (place - low) * (other - one))
                turn += step
                step += bend
                place += drift


@kernel
def read_pulse(
    saw: FloatArray, widths: FloatArray, steps: FloatArray, ratio: float, phase: float, gain: float, y: FloatArray
) -> None:
    """Adds a pulse whose width moves, 0 to 1, as the difference of two saws. saw (size, 4): cubics, y (n,)."""
    size = saw.shape[0]
    row = saw.reshape(4 * size)
    n = y.shape[0]
    for at in range(0, n, GRID_FRAMES):
        cell = at // GRID_FRAMES
        step, bend = ratio * steps[cell], ratio * (steps[cell + 1] - steps[cell]) / GRID_FRAMES
        width, drift = widths[cell], (widths[cell + 1] - widths[cell]) / GRID_FRAMES
        for i in range(min(GRID_FRAMES, n - at)):
            value = 0.0
            for side in range(2):
                where = (phase if side == 0 else phase - width + 1.0) * size
                k = int(where)
                read = _at(row, np.uint64(4 * (k & (size - 1))), where - k)
                value += read if side == 0 else -read
            y[at + i] += gain * value
            phase += step + bend * i
            phase -= math.floor(phase)
            width += drift


OPERATORS = 4
_SINE = np.sin(2.0 * np.pi * np.arange(4097) / 4096)


@kernel
def _read_sine(turns: float) -> float:
    """The sine of 2π·turns from a table, to −130 dB; quicker than ``_sine`` where each frame waits for the one before."""
    where = (turns - math.floor(turns)) * 4096.0
    m = int(where)
    return float(_SINE[m] + (where - m) * (_SINE[m + 1] - _SINE[m]))


@kernel
def _one_operator(
    k: int, turns: FloatArray, more: FloatArray, phase: float, step: float, bend: float, level: float, drift: float,
    past: FloatArray, values: FloatArray, n: int,
) -> None:  # fmt: skip
    """An operator over n frames, when those that bend it have been worked out: row k of values. By how much they bend grows
    by ``more`` a frame."""
    row = values[k]
    for i in range(n):
        row[i] = phase + i * step + bend * (0.5 * i * (i - 1))
    for j in range(k + 1, OPERATORS):
        if turns[j, k] != 0.0 or more[j, k] != 0.0:
            for i in range(n):
                row[i] += (turns[j, k] + more[j, k] * i) * values[j, i]
    own = 0.5 * turns[k, k]
    if own == 0.0:
        for i in range(n):
            row[i] = (level + drift * i) * _sine(row[i])
        return
    last, before = past[0, k], past[1, k]
    for i in range(n):
        s = _read_sine(row[i] + own * (last + before))
        last, before = (level + drift * i) * s, last
        row[i] = last
    past[0, k], past[1, k] = last, before


@kernel
def _all_operators(
    turns: FloatArray, more: FloatArray, phase: FloatArray, step: FloatArray, bend: FloatArray, level: FloatArray,
    drift: FloatArray, past: FloatArray, values: FloatArray, n: int,
) -> None:  # fmt: skip
    """All operators over n frames, one after the other, where an earlier one bends a later one."""
    last, before = past[0], past[1]
    for i in range(n):
        for back in range(OPERATORS):
            k = OPERATORS - 1 - back
            p = phase[k] + i * step[k] + bend[k] * (0.5 * i * (i - 1)) + turns[k, k] * 0.5 * (last[k] + before[k])
            for j in range(OPERATORS):
                if j != k:
                    p += (turns[j, k] + more[j, k] * i) * last[j]
            before[k] = last[k]
            last[k] = (level[k] + drift[k] * i) * _read_sine(p)
            values[k, i] = last[k]


@kernel
def bend_phases(
    steps: FloatArray, levels: FloatArray, matrix: FloatArray, reaches: FloatArray, outputs: FloatArray,
    oversampling: int, y: FloatArray,
) -> None:  # fmt: skip
    """Four sine operators that bend each other's phase (J. M. Chowning, "The synthesis of complex audio spectra by means of
    frequency modulation", 1973), at ``oversampling`` times the rate, into y (n · oversampling,).

    steps and levels (4, cells + 1): cycles a frame, and the operator's envelope; matrix (4, 4) [from, to]: peak deviation in
    radians, its diagonal is feedback (of the mean of the last two values, which keeps it from hunting); reaches
    (4, cells + 1): share of that by which an operator bends the others now; outputs (4, cells + 1): how much of it is heard.
    Operators are worked out from the last to the first: what a later one gives is heard at once, what an earlier one
    gives a step later.
    """
    phase = np.zeros(OPERATORS)
    step, bend = np.zeros(OPERATORS), np.zeros(OPERATORS)
    level, drift = np.zeros(OPERATORS), np.zeros(OPERATORS)
    past = np.zeros((2, OPERATORS))  # the last two values of each
    whole = matrix / (2.0 * math.pi)
    turns, more = whole.copy(), np.zeros((OPERATORS, OPERATORS))
    per_cell = GRID_FRAMES * oversampling
    values = np.empty((OPERATORS, per_cell))
    used = np.zeros(OPERATORS, dtype=np.bool_)
    in_order = True  # whether no operator bends a later one
    for k in range(OPERATORS):
        used[k] = outputs[k].any() or whole[k].any()
        in_order = in_order and not whole[k, k + 1 :].any()
    n = y.shape[0]
    for at in range(0, n, per_cell):
        cell = at // per_cell
        width = min(per_cell, n - at)
        for k in range(OPERATORS):
            step[k] = steps[k, cell] / oversampling
            bend[k] = (steps[k, cell + 1] - steps[k, cell]) / (oversampling * per_cell)
            level[k] = levels[k, cell]
            drift[k] = (levels[k, cell + 1] - levels[k, cell]) / per_cell
            for j in range(OPERATORS):
                if j != k:
                    turns[k, j] = whole[k, j] * reaches[k, cell]
                    more[k, j] = whole[k, j] * (reaches[k, cell + 1] - reaches[k, cell]) / per_cell
        if in_order:
            for back in range(OPERATORS):
                k = OPERATORS - 1 - back
                if used[k]:
                    _one_operator(k, turns, more, phase[k], step[k], bend[k], level[k], drift[k], past, values, width)
        else:
            _all_operators(turns, more, phase, step, bend, level, drift, past, values, width)
        out = y[at : at + width]
        for i in range(width):
            out[i] = 0.0
        for k in range(OPERATORS):
            heard, louder = outputs[k, cell], (outputs[k, cell + 1] - outputs[k, cell]) / per_cell
            if heard != 0.0 or louder != 0.0:
                for i in range(width):
                    out[i] += (heard + louder * i) * values[k, i]
            phase[k] += width * step[k] + bend[k] * 0.5 * width * (width - 1)
            phase[k] -= math.floor(phase[k])


_ZEROS = 16  # zero crossings of the sinc to either side
_PER_CROSSING = 512
_half = np.arange(_ZEROS * _PER_CROSSING + 2) / _PER_CROSSING
_SINC = np.sinc(_half) * np.i0(9.0 * np.sqrt(np.maximum(0.0, 1.0 - (_half / _ZEROS) ** 2))) / np.i0(9.0)
# The same for reading no faster than once a frame: a row of 32 taps for each part of a frame.
_ROWS = np.interp(
    np.abs(np.arange(_PER_CROSSING + 1)[:, None] / _PER_CROSSING + _ZEROS - 1 - np.arange(2 * _ZEROS)), _half, _SINC
)
# Up to this speed nothing is closed: what folds back then lies above 20 kHz, also at 44.1 kHz.
_OPEN = 1.09


@kernel
def read_resampled(x: FloatArray, places: FloatArray, y: FloatArray) -> None:
    """y (n,): x read at ``places`` (n,), in frames, by a windowed sinc that closes where reading is faster than once a frame,
    so that nothing folds back (J. O. Smith, "Digital audio resampling", 1984). Silence outside of x."""
    size = x.shape[0]
    n = y.shape[0]
    for i in range(n):
        speed = abs(places[min(n - 1, i + 1)] - places[max(0, i - 1)]) * (0.5 if 0 < i < n - 1 else 1.0)
        before = math.floor(places[i])
        if speed <= _OPEN and before >= _ZEROS and before + _ZEROS < size:
            part = (places[i] - before) * _PER_CROSSING
            p = int(part)
            share = part - p
            near, one, other = x[before - _ZEROS + 1 : before + _ZEROS + 1], _ROWS[p], _ROWS[p + 1]
            low, high = 0.0, 0.0
            for k in range(0, 2 * _ZEROS, 4):  # sums that do not wait for each other
                low += (one[k] * near[k] + one[k + 1] * near[k + 1]) + (
                    one[k + 2] * near[k + 2] + one[k + 3] * near[k + 3]
                )
                high += (other[k] * near[k] + other[k + 1] * near[k + 1]) + (
                    other[k + 2] * near[k + 2] + other[k + 3] * near[k + 3]
                )
            y[i] = low + share * (high - low)
            continue
        close = 1.0 / speed if speed > 1.0 else 1.0
        reach = _ZEROS / close
        first = max(0, math.ceil(places[i] - reach))
        last = min(size - 1, math.floor(places[i] + reach))
        total = 0.0
        for k in range(first, last + 1):
            where = abs(places[i] - k) * close * _PER_CROSSING
            m = int(where)
            if m < _ZEROS * _PER_CROSSING:
                total += x[k] * (_SINC[m] + (where - m) * (_SINC[m + 1] - _SINC[m]))
        y[i] = close * total
