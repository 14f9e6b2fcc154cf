"""Where hits begin: one detector for the devices that act on them and for the measures that rest on them.

A hit over the ringing tail of the one before it hardly raises the level, but it raises some band: what is new in it is in
the highs first, where the tail has long gone. So each of several bands is followed by itself, and compared with what it
was just before and with how loud hits are in it. What is new in the highs alone, beside hits that have more than that (a
hat beside a kick, the click where a tail was cut off), is none: the band of a drum's body has to answer at once.

Rise detection in bands is that of A. Klapuri, "Sound onset detection by applying psychoacoustic knowledge", ICASSP 1999, in
principle; thresholds are our own, by trial on synthesized kicks.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.filters import BUTTERWORTH_Q, WIRE, butterworth_qs, highpass_sos, lowpass_sos
from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, IntArray, Single, Stereo

_EDGES_HZ = (130.0, 500.0, 2000.0)
BANDS = len(_EDGES_HZ) + 1
# Of each band: Butterworth of order 4 at the lower edge, and of order 2 at the upper one, which is late by less.
_ANSWER_S, _BODY_TIMES, _BODY_SHARE, _BRIGHT, _BODILESS = 0.0025, 1.2, 0.065, 0.012, 0.03
# How long a band's peak counts as its level: about half a period of its lowest frequency. And how it is remembered: it
# rises and falls again with these times.
_HOLD_S = (0.012, 0.004, 0.002, 0.0015)
_RISE_S, _FALL_S = 0.004, 0.03
_FADE_S = 2.0  # in which the loudest of late fades by half
_APART_S = 0.050
_TIMES = 3.0  # a hit is so many times what was there before
_SHARE = 0.1  # and this share of the loudest of late, which leaves out ghost hits 20 dB down
_FLOOR, _BAND_FLOOR = 0.003, 0.004  # of full scale; of the loudest band


@functools.cache
def _bands(sample_rate_hz: int) -> FloatArray:
    """Sections of the bands, (BANDS, 3, 6)."""
    qs = butterworth_qs(4)
    rows = []
    for low, high in zip((None, *_EDGES_HZ), (*_EDGES_HZ, None), strict=True):
        up = (
            [list(WIRE)] * 2 if low is None else [list(highpass_sos(low, q, sample_rate_hz=sample_rate_hz)) for q in qs]
        )
        down = [list(WIRE)] if high is None else [list(lowpass_sos(high, BUTTERWORTH_Q, sample_rate_hz=sample_rate_hz))]
        rows.append([*up, *down])
    return np.array(rows)


_PIECE = 1 << 16  # frames of a whole signal that are looked at together


@kernel
def _three_sections(x: FloatArray, sos: FloatArray, state: FloatArray, first: bool, level: Single) -> None:
    """level (n,): the magnitude of x (n,) behind three sections, sos (3, 6), or what it was where that is more; state (3, 2). All in
    one loop: a frame in one section does not wait for the next frame in the one before."""
    b0, b1, b2, a1, a2 = sos[0, 0], sos[0, 1], sos[0, 2], sos[0, 4], sos[0, 5]
    d0, d1, d2, c1, c2 = sos[1, 0], sos[1, 1], sos[1, 2], sos[1, 4], sos[1, 5]
    f0, f1, f2, e1, e2 = sos[2, 0], sos[2, 1], sos[2, 2], sos[2, 4], sos[2, 5]
    p1, p2, q1, q2, r1, r2 = state[0, 0], state[0, 1], state[1, 0], state[1, 1], state[2, 0], state[2, 1]
    for i in range(x.shape[0]):
        v = x[i]
        u = b0 * v + p1
        p1 = b1 * v + p2 - a1 * u
        p2 = b2 * v - a2 * u
        w = d0 * u + q1
        q1 = d1 * u + q2 - c1 * w
        q2 = d2 * u - c2 * w
        y = f0 * w + r1
        r1 = f1 * w + r2 - e1 * y
        r2 = f2 * w - e2 * y
        size = abs(y)
        level[i] = size if first or size > level[i] else level[i]
    state[0, 0], state[0, 1], state[1, 0] = p1, p2, q1
    state[1, 1], state[2, 0], state[2, 1] = q2, r1, r2
    for k in range(3):
        for m in range(2):
            state[k, m] = state[k, m] if abs(state[k, m]) > 1e-30 else 0.0


@kernel
def _band_levels(x: Stereo, sos: FloatArray, filters: FloatArray, levels: Single) -> None:
    """levels (bands, n): the larger magnitude of both sides in each band. sos (bands, 3, 6), filters (bands, 2, 3, 2) their
    memory."""
    for b in range(sos.shape[0]):
        for c in range(x.shape[0]):
            _three_sections(x[c], sos[b], filters[b, c], c == 0, levels[b])


@kernel
def _heard(
    now: float,
    hold: float,
    rise: float,
    fall: float,
    fade: float,
    least: float,
    level: float,
    before: float,
    loudest: float,
) -> tuple[bool, float, float, float]:
    """One band at one frame: whether something begins in it, and then its level, what was there before that and its loudest of late,
    each as it is after the frame. ``least`` is what counts at all. Without branches, as which way one goes is not to be foreseen."""
    held = level * hold
    level = now if now > held else held
    loudest = loudest * fade
    begins = (now > _SHARE * loudest) & (now > least) & (now == level) & (now > _TIMES * before)
    # Follows a rise with a delay and a fall slowly: what was there before, not what has just begun.
    risen, fallen = before + rise * (level - before), level + fall * (before - level)
    after = risen if level > before else fallen
    return begins, level, after, now if now > loudest else loudest


@kernel
def _mark(
    levels: Single, holds: FloatArray, rise: float, fall: float, fade: float, apart: float, answer: float, back: bool, follow: FloatArray,
    since: FloatArray, marks: IntArray, begin: int,
) -> None:  # fmt: skip
    """marks, for levels (BANDS, n) from frame begin on: 1 where a hit begins, or with ``back`` off where the body has answered. follow (BANDS, 3): of
    each band its level, what it was before, the loudest of late; since (2,): frames since the last hit, and frames left in which the body may
    answer."""
    gone, waiting = since[0], since[1]
    a, a_before, a_top = follow[0, 0], follow[0, 1], follow[0, 2]
    b, b_before, b_top = follow[1, 0], follow[1, 1], follow[1, 2]
    c, c_before, c_top = follow[2, 0], follow[2, 1], follow[2, 2]
    d, d_before, d_top = follow[3, 0], follow[3, 1], follow[3, 2]
    lows, bodies, brights, tops = levels[0], levels[1], levels[2], levels[3]
    for i in range(levels.shape[1]):
        gone += 1.0
        waiting -= 1.0
        top = max(max(a_top, b_top), max(c_top, d_top))
        least = _BAND_FLOOR * max(top, _FLOOR)
        body_now, bright_now = bodies[i], brights[i]
        one, a, a_before, a_top = _heard(lows[i], holds[0], rise, fall, fade, least, a, a_before, a_top)
        body_top, bright_top = b_top * fade, c_top * fade
        body_was, bright_was = b_before, c_before
        two, b, b_before, b_top = _heard(body_now, holds[1], rise, fall, fade, least, b, b_before, b_top)
        three, c, c_before, c_top = _heard(bright_now, holds[2], rise, fall, fade, least, c, c_before, c_top)
        four, d, d_before, d_top = _heard(tops[i], holds[3], rise, fall, fade, least, d, d_before, d_top)
        if one | two | three | four:
            waiting = answer if waiting <= 0.0 else waiting
        if waiting > 0.0 and gone >= apart and max(max(a, b), max(c, d)) > _FLOOR:
            # Hits that have no body (hats alone) need not show one.
            body = body_top < _BODILESS * top and a_top < _BODILESS * top
            body = body or (body_now > _BODY_SHARE * body_top and body_now > _BODY_TIMES * body_was)
            # A body that is tuned so high that its own tail fills the band below.
            bright = bright_now > 4.0 * _SHARE * bright_top and bright_now > _TIMES * bright_was
            if body or (bright and bright_top > _BRIGHT * top):
                # As it is noticed, or with hindsight where the first band showed it.
                at = begin + i
                marks[at - int(answer - waiting) if back and at >= answer else at] = 1
                gone, waiting = 0.0, 0.0
    since[0], since[1] = gone, waiting
    follow[0, 0], follow[0, 1], follow[0, 2] = a, a_before, a_top
    follow[1, 0], follow[1, 1], follow[1, 2] = b, b_before, b_top
    follow[2, 0], follow[2, 1], follow[2, 2] = c, c_before, c_top
    follow[3, 0], follow[3, 1], follow[3, 2] = d, d_before, d_top


class Onsets(Memory):
    """Finds hits as they come."""

    remembers = ("_filters", "_follow", "_since")

    def __init__(self, sample_rate_hz: int, *, apart_s: float = _APART_S) -> None:
        self._sos = _bands(sample_rate_hz)
        self._holds = np.exp(-1.0 / (np.array(_HOLD_S) * sample_rate_hz))
        self._rise = 1.0 - math.exp(-1.0 / (_RISE_S * sample_rate_hz))
        self._fall = math.exp(-1.0 / (_FALL_S * sample_rate_hz))
        self._fade = 0.5 ** (1.0 / (_FADE_S * sample_rate_hz))
        self._apart = apart_s * sample_rate_hz
        self._answer = _ANSWER_S * sample_rate_hz
        self._filters = np.zeros((BANDS, 2, 3, 2))
        self._follow = np.zeros((BANDS, 3))
        self._since = np.array([self._apart, 0.0])

    def process(self, x: Stereo) -> IntArray:
        """x (2, n) to marks (n,): 1 on the frame where a hit is noticed, at most 1.5 ms after it begins."""
        return self._marks([self._levels(x)])

    def _levels(self, x: Stereo) -> Single:
        """What comes next, (1 or 2, n), in each band, (BANDS, n)."""
        give_up_if_unwanted()
        levels = np.empty((BANDS, x.shape[1]), dtype=np.float32)
        _band_levels(x, self._sos, self._filters, levels)
        return levels

    def _marks(self, pieces: Sequence[Single], *, back: bool = False) -> IntArray:
        """Of levels (BANDS, n) that follow each other."""
        marks = np.zeros(sum(piece.shape[1] for piece in pieces), dtype=np.int64)
        at = 0
        for piece in pieces:
            give_up_if_unwanted()
            _mark(
                piece, self._holds, self._rise, self._fall, self._fade, self._apart, self._answer, back, self._follow, self._since,
                marks, at,
            )  # fmt: skip
            at += piece.shape[1]
        return marks


def onsets(audio: FloatArray, sample_rate_hz: int, *, apart_s: float = _APART_S) -> IntArray:
    """First frame of each hit of a whole signal (1 or 2, n), judged against the loudest hits of all of it."""
    # Both sides in one: what is only to one side is there too, and what is only in their difference is looked at instead.
    sides = (audio[0], audio[-1])
    one = 0.5 * (sides[0] + sides[1] if sides[0] @ sides[1] >= 0.0 else sides[0] - sides[1])
    x = np.ascontiguousarray(one[None], dtype=np.float64)
    found = Onsets(sample_rate_hz, apart_s=apart_s)
    pieces = [found._levels(np.ascontiguousarray(x[:, at : at + _PIECE])) for at in range(0, x.shape[1], _PIECE)]
    for piece in pieces:
        found._follow[:, 2] = np.maximum(found._follow[:, 2], np.max(piece, axis=1, initial=0.0))
    found._fade = 1.0
    return np.flatnonzero(found._marks(pieces, back=True))
