"""Filters between signals of different rates, each held as its phases.

Conventions
-----------
A signal at p times the base rate is p rows, row r holding the samples r, r + p, r + 2p, …; so every row runs at the base
rate and is contiguous, and a filter from any number of phases to any other is a sum of short FIR filters from row to
row. Rows are single precision: what is made here is added to a signal of double precision, or only looked at.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.delays import fir_add
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, IntArray

Single = npt.NDArray[np.float32]
_TILE = 512  # frames worked on at a time, so that they stay in the nearest cache


@kernel
def _fir_rows(taps: Single, plan: IntArray, joined: Single, past: int, out: Single) -> None:
    """Adds to rows of out (q, n) what the rows of joined (p, past + n) give.

    plan (k, 5): row of out, row of joined, delay in frames, where its taps begin in taps, how many they are.
    """
    n = out.shape[1]
    for at in range(0, n, _TILE):
        width = min(_TILE, n - at)
        for s in range(plan.shape[0]):
            row, delay, begin, count = joined[plan[s, 1]], plan[s, 2], plan[s, 3], plan[s, 4]
            first = past + at - delay - count + 1
            x = row[first : first + width + count - 1]
            fir_add(taps[begin : begin + count], x, out[plan[s, 0], at : at + width])


@dataclass(frozen=True, slots=True)
class Row:
    """One FIR from a row to a row: out[i] += Σ taps[k]·x[i − delay − k]."""

    out: int
    source: int
    delay: int
    taps: FloatArray


def upsampling_rows(taps: FloatArray, phases: int) -> list[Row]:
    """To twice as many phases: zeros between the samples, then ``taps`` at the upper rate, times 2."""
    rows = []
    for r in range(2 * phases):
        for p in range(phases):
            # Input sample r//2 − k at the lower rate meets tap 2k + r%2; those of phase p are every phases-th.
            first = (r // 2 - p) % phases
            picked = taps[2 * first + r % 2 :: 2 * phases]
            if picked.any():
                rows.append(trimmed(Row(r, p, (first - r // 2 + p) // phases, 2.0 * picked)))
    return rows


def downsampling_rows(taps: FloatArray, phases: int) -> list[Row]:
    """To half as many phases: ``taps`` at the upper rate, then every other sample."""
    rows = []
    for r in range(phases // 2):
        for p in range(phases):
            # Output r at the lower rate is sample 2r of the upper one; it meets x[2r − j], which is of phase p for
            # j = 2r − p modulo phases.
            first = (2 * r - p) % phases
            picked = taps[first::phases]
            if picked.any():
                rows.append(trimmed(Row(r, p, (first - 2 * r + p) // phases, picked)))
    return rows


def trimmed(row: Row) -> Row:
    """Without zeros at the ends, as the phases of a half-band filter have."""
    there = np.flatnonzero(row.taps)
    first, last = int(there[0]), int(there[-1]) + 1
    return Row(row.out, row.source, row.delay + first, row.taps[first:last])


def _by_fours(row: Row) -> Row:
    """With a zero or two more after its taps where that makes them a number that runs quicker."""
    missing = -len(row.taps) % 4
    return row if missing > 2 else Row(row.out, row.source, row.delay, np.pad(row.taps, (0, missing)))


class Polyphase(Memory):
    """A filter from ``inputs`` phases to ``outputs`` phases, with what it remembers."""

    remembers = ("_past_state",)

    def __init__(self, inputs: int, outputs: int, rows: list[Row]) -> None:
        self._outputs = outputs
        rows = [_by_fours(row) for row in rows]
        self._taps = np.concatenate([row.taps for row in rows]).astype(np.float32)
        begins = np.cumsum([0, *(len(row.taps) for row in rows)])
        self._plan = np.array(
            [(row.out, row.source, row.delay, begin, len(row.taps)) for row, begin in zip(rows, begins, strict=False)],
            dtype=np.int64,
        )
        self._past = int(max(row.delay + len(row.taps) for row in rows))
        self._past_state = np.zeros((inputs, self._past), dtype=np.float32)

    def process(self, x: Single) -> Single:
        """x (inputs, n) to (outputs, n)."""
        n = x.shape[1]
        joined = np.concatenate([self._past_state, x], axis=1)
        self._past_state = joined[:, n:].copy()
        out = np.zeros((self._outputs, n), dtype=np.float32)
        _fir_rows(self._taps, self._plan, joined, self._past, out)
        return out
